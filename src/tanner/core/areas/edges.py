"""Masks that follow the picture: the guided filter, and the share of a px that is foreground, by the closed form."""

from typing import Any

import cv2
import numpy as np
from numpy.typing import NDArray

F32 = NDArray[np.float32]
BAND = 220
"""Long edge in px of pieces that the closed form is solved in."""


def guided(guide: F32, mask: F32, radius: int, variance: float) -> F32:
    """The guided filter by a colour picture (source: he2013).

    Args:
        guide: (h, w, 3) from 0 to 1; mask: (h, w); variance: of differences that are no edge.
    """
    size = (2 * radius + 1, 2 * radius + 1)

    def box(a: F32) -> F32:
        return np.asarray(cv2.boxFilter(a, -1, size, borderType=cv2.BORDER_REFLECT), np.float32)

    g, p = guide.astype(np.float32), mask.astype(np.float32)
    mean_g, mean_p = box(g), box(p)
    with_p = box(np.asarray(g * p[..., None], np.float32)) - mean_g * mean_p[..., None]
    s = {}
    for i in range(3):
        for j in range(i, 3):
            s[i, j] = (
                box(np.asarray(g[..., i] * g[..., j], np.float32))
                - mean_g[..., i] * mean_g[..., j]
                + (variance if i == j else 0)
            )
    # The inverse of a symmetric 3 x 3 matrix by its cofactors.
    a, b, c, d, e, f = s[0, 0], s[0, 1], s[0, 2], s[1, 1], s[1, 2], s[2, 2]
    ca, cb, cc, cd, ce, cf = d * f - e * e, c * e - b * f, b * e - c * d, a * f - c * c, b * c - a * e, a * d - b * b
    det = a * ca + b * cb + c * cc
    x, y, z = with_p[..., 0], with_p[..., 1], with_p[..., 2]
    slope = (
        np.stack([ca * x + cb * y + cc * z, cb * x + cd * y + ce * z, cc * x + ce * y + cf * z], -1) / det[..., None]
    )
    offset = mean_p - (slope * mean_g).sum(axis=-1)
    return np.asarray(np.clip((box(np.asarray(slope, np.float32)) * g).sum(axis=-1) + box(offset), 0, 1), np.float32)


def _disc(radius: int) -> NDArray[np.uint8]:
    return np.asarray(cv2.getStructuringElement(cv2.MORPH_ELLIPSE, (2 * radius + 1, 2 * radius + 1)), np.uint8)


def unsure(mask: F32, inner: int, outer: int) -> NDArray[np.float64]:
    """1 well inside of a mask, 0 well outside, 0.5 in a band around its edge (px on either side)."""
    hard = (mask > 0.5).astype(np.uint8)
    found = np.full(mask.shape, 0.5)
    found[cv2.erode(hard, _disc(inner)) > 0] = 1
    found[cv2.dilate(hard, _disc(outer)) == 0] = 0
    return found


def matted(picture: F32, mask: F32, inner: int, outer: int, edge: int | None = None) -> F32:
    """The share of each px near a mask's edge that belongs to it, by closed-form matting (source: levin2008).

    Solved piece by piece along the edge, which overlap, so that the work grows with the edge's length only.

    Args:
        picture: (h, w, 3) from 0 to 1, finished; inner, outer: px of the band on either side of the edge.
    """
    from tanner.core.areas.matting import cf_laplacian

    band = unsure(mask, inner, outer)
    open_ = band == 0.5
    out = np.asarray(band, np.float32).copy()
    out[open_] = 0
    weight = np.zeros(mask.shape, np.float32)
    h, w = mask.shape
    step, pad = BAND, 24
    total = np.zeros(mask.shape, np.float32)
    for top in range(0, h, step):
        for left in range(0, w, step):
            if not open_[top : top + step, left : left + step].any():
                continue
            y0, x0 = max(0, top - pad), max(0, left - pad)
            y1, x1 = min(h, top + step + pad), min(w, left + step + pad)
            piece = band[y0:y1, x0:x1]
            ys, xs = np.nonzero(piece == 0.5)
            # Only what the band needs.
            b0, b1 = max(0, ys.min() - 3), min(piece.shape[0], ys.max() + 4)
            a0, a1 = max(0, xs.min() - 3), min(piece.shape[1], xs.max() + 4)
            part = piece[b0:b1, a0:a1]
            known = part != 0.5
            if min(part.shape) < 4 or not known.any():
                continue
            image = picture[y0 + b0 : y0 + b1, x0 + a0 : x0 + a1].astype(np.float64)
            laplacian = cf_laplacian(image, epsilon=1e-5, is_known=known)
            held = 100.0 * known.ravel()
            system = (laplacian + _diagonal(held)).tocsr()
            # As far as it comes in so many rounds: what is left is far below what is seen.
            x = _solved(
                system, held * part.ravel(), np.where(known, part, mask[y0 + b0 : y0 + b1, x0 + a0 : x0 + a1]).ravel()
            )
            solved = np.clip(x.reshape(part.shape), 0, 1).astype(np.float32)
            # Weighted to the piece's middle, so that no seam is seen between two.
            gy = np.minimum(np.arange(part.shape[0]) + 1, np.arange(part.shape[0], 0, -1))
            gx = np.minimum(np.arange(part.shape[1]) + 1, np.arange(part.shape[1], 0, -1))
            share = np.minimum(np.minimum.outer(gy, gx), pad).astype(np.float32)
            window = (slice(y0 + b0, y0 + b1), slice(x0 + a0, x0 + a1))
            total[window] += solved * share
            weight[window] += share
    out[open_] = total[open_] / np.maximum(weight[open_], 1e-6)
    missed = open_ & (weight == 0)
    out[missed] = mask[missed]
    return out


def _solved(system: Any, right: NDArray[np.float64], start: NDArray[np.float64]) -> NDArray[np.float64]:
    """Conjugate gradients from a start, as far as they come in so many rounds: what is left is below what is seen."""
    import scipy.sparse
    from scipy.sparse.linalg import cg

    scale = scipy.sparse.diags(1 / system.diagonal())
    return np.asarray(cg(system, right, x0=start, rtol=1e-4, maxiter=200, M=scale)[0])


def _diagonal(values: NDArray[np.float64]) -> Any:
    import scipy.sparse

    return scipy.sparse.diags(values)
