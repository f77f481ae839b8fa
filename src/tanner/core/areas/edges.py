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


def matted(picture: F32, mask: F32, inner: int, outer: int) -> F32:
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
            solved = _solved(laplacian, part, mask[y0 + b0 : y0 + b1, x0 + a0 : x0 + a1])
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


ROUNDS = 25
"""Of 6, 10, 16, 25, 40 and 200 the one with the smallest error on the demo's six scenes that were tried."""
CLOSE = 3
"""px on either side of an edge in which a px may belong to both sides, where nothing fine is seen further off."""
FINE, SPAN = 0.035, 0.03
"""Deviation of what is fine in a share from which on it is strands, and up to where it is for certain: grain makes some, too."""


def settled(picture: F32, mask: F32, reach: int) -> F32:
    """The same twice: in a wide band, then close to the edge that was found there, but for hairs and threads.

    In a wide band what is smooth (a shadow at the foot of a thing, light that falls off) is told from the thing itself only by
    degrees, and a haze is left along the edge. Strands are fine, haze is not: where the share changes from px to px away from
    the edge, what was found first stays.

    Args:
        reach: px of the wide band on either side of the mask's edge.
    """
    first = matted(picture, mask, reach, reach)
    near = matted(picture, first, CLOSE, CLOSE)
    body = cv2.morphologyEx((first > 0.5).astype(np.uint8), cv2.MORPH_OPEN, _disc(CLOSE))
    rim = _disc(CLOSE + 2)
    far = (cv2.dilate(body, rim) == cv2.erode(body, rim)).astype(np.float32)
    high = (first - cv2.GaussianBlur(first, (0, 0), 2)) ** 2 * far
    share = np.maximum(cv2.GaussianBlur(far, (0, 0), 4), np.float32(0.05))
    fine = np.sqrt(cv2.GaussianBlur(high, (0, 0), 4) / share)
    return np.asarray(near + np.clip((fine - FINE) / SPAN, 0, 1) * (first - near), np.float32)


def _solved(laplacian: Any, band: NDArray[np.float64], start: F32) -> F32:
    """The shares (h, w) in a band, 0.5 where they are not known, from a start.

    Only what is not known is solved for. Conjugate gradients go so many rounds: what comes later is what is smooth, which
    wanders off from the start where a shadow lies along an edge.
    """
    import scipy.sparse
    from scipy.sparse.linalg import cg

    flat = band.ravel()
    is_open = flat == 0.5
    rows = laplacian.tocsr()[np.flatnonzero(is_open)]
    system = rows[:, np.flatnonzero(is_open)]
    right = -(rows @ np.where(is_open, 0.0, flat))
    # A px whose neighbours are all of its own kind has hardly any pull of its own.
    scale = scipy.sparse.diags(1 / np.maximum(system.diagonal(), 1e-9))
    out = flat.copy()
    out[is_open] = cg(system, right, x0=start.ravel()[is_open], rtol=1e-4, maxiter=ROUNDS, M=scale)[0]
    return np.clip(out.reshape(band.shape), 0, 1).astype(np.float32)
