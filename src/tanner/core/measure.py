"""What is read off a rendered picture: histogram, clipping and its marks, values at a place."""

from typing import Any

import numpy as np
from numpy.typing import NDArray

from tanner.core.colour.spaces import D50_XYZ, SPACES
from tanner.core.jit import kernel

_LINEAR = SPACES["srgb"].decode(np.arange(256) / 255)
_WEIGHTS = (SPACES["srgb"].to_pcs()[1] / SPACES["srgb"].to_pcs()[1].sum())[:, None]
_SHARES = (_WEIGHTS * _LINEAR * 4095).astype(np.float32)
_DISPLAY = np.rint(SPACES["srgb"].encode(np.arange(4096) / 4095) * 255).astype(np.uint8)


@kernel
def _count(pixels, step, shares, display, bins):
    for y in range(0, pixels.shape[0], step):
        row = pixels[y]
        for x in range(pixels.shape[1]):
            r, g, b = row[x, 0], row[x, 1], row[x, 2]
            bins[0, r] += 1
            bins[1, g] += 1
            bins[2, b] += 1
            i = np.int32(shares[0, r] + shares[1, g] + shares[2, b] + np.float32(0.5))
            bins[3, display[min(max(i, 0), 4095)]] += 1


def histogram(pixels: NDArray[np.uint8], step: int = 2) -> dict[str, Any]:
    """Counts of an sRGB picture.

    Args:
        pixels: (h, w, 3).
        step: every step-th row is read.

    Returns:
        bins: 4 lists of 256 counts (red, green, blue, luminance in display values);
        low, high: share of clipped pixels per channel, in %.
    """
    bins = np.zeros((4, 256), dtype=np.int64)
    _count(pixels, step, _SHARES, _DISPLAY, bins)
    total = max(int(bins[0].sum()), 1)
    return {
        "bins": bins.tolist(),
        "low": [round(100 * int(bins[c, 0]) / total, 2) for c in range(3)],
        "high": [round(100 * int(bins[c, 255]) / total, 2) for c in range(3)],
    }


@kernel
def _mark(pixels):
    for y in range(pixels.shape[0]):
        row = pixels[y]
        for x in range(pixels.shape[1]):
            r, g, b = row[x, 0], row[x, 1], row[x, 2]
            stripe = ((x + y) & 4) != 0
            if max(r, max(g, b)) == 255:
                if stripe:
                    row[x, 0], row[x, 1], row[x, 2] = 214, 92, 20
            elif min(r, min(g, b)) == 0 and not stripe:
                row[x, 0], row[x, 1], row[x, 2] = 40, 120, 214


def mark_clipping(pixels: NDArray[np.uint8]) -> NDArray[np.uint8]:
    """A copy with stripes where any channel is at either end: amber rising at the top, blue at the bottom."""
    marked = pixels.copy()
    _mark(marked)
    return marked


def mark_outside(pixels: NDArray[np.uint8], where: NDArray[np.bool_]) -> NDArray[np.uint8]:
    """A copy with falling green stripes where colours lie outside an output space."""
    marked = pixels.copy()
    h, w = where.shape
    stripe = ((np.arange(w)[None] - np.arange(h)[:, None]) & 4) != 0
    marked[where & stripe] = (24, 150, 110)
    return marked


def mark_rebuilt(pixels: NDArray[np.uint8], where: NDArray[np.bool_]) -> NDArray[np.uint8]:
    """A copy with upright violet stripes where the colour of clipped places was rebuilt."""
    marked = pixels.copy()
    stripe = (np.arange(where.shape[1]) & 4) != 0
    marked[where & stripe[None]] = (120, 60, 190)
    return marked


def values_at(pixels: NDArray[np.uint8], x: int, y: int, radius: int = 1) -> dict[str, Any] | None:
    """Mean RGB (0 to 255) and Lab (D50) of a small square of an sRGB picture; None outside."""
    h, w = pixels.shape[:2]
    if not (0 <= x < w and 0 <= y < h):
        return None
    part = pixels[max(0, y - radius) : y + radius + 1, max(0, x - radius) : x + radius + 1].reshape(-1, 3)
    linear = _LINEAR[part].mean(axis=0)
    lab = xyz_to_lab(SPACES["srgb"].to_pcs() @ linear)
    return {"rgb": [round(float(v), 1) for v in part.mean(axis=0)], "lab": [round(float(v), 1) for v in lab]}


def xyz_to_lab(xyz: NDArray[np.float64]) -> NDArray[np.float64]:
    """CIE 1976 L*a*b* relative to D50 (source: cie15). Shape (..., 3)."""
    t = xyz / D50_XYZ
    f = np.where(t > (6 / 29) ** 3, np.cbrt(t), t / (3 * (6 / 29) ** 2) + 4 / 29)
    return np.stack([116 * f[..., 1] - 16, 500 * (f[..., 0] - f[..., 1]), 200 * (f[..., 1] - f[..., 2])], axis=-1)


def lab_to_xyz(lab: NDArray[np.float64]) -> NDArray[np.float64]:
    """The inverse of `xyz_to_lab`."""
    fy = (lab[..., 0] + 16) / 116
    f = np.stack([fy + lab[..., 1] / 500, fy, fy - lab[..., 2] / 200], axis=-1)
    return np.asarray(np.where(f > 6 / 29, f**3, 3 * (6 / 29) ** 2 * (f - 4 / 29)) * D50_XYZ)
