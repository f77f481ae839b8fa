"""Hue, saturation and value tables of camera profiles on rows of pixels (source: dng17, chapter 6).

Linear ROMM values become hue (0 to 6), saturation and value; the table gives a hue shift and two factors,
interpolated in three directions (hue goes round, the others are held at their ends); then back.
"""

import numpy as np
from numpy.typing import NDArray

from tanner.core.jit import kernel
from tanner.core.tone.logs import exp2_row, log2_row

F32 = NDArray[np.float32]
NO_TABLE = np.zeros((3, 1, 1), dtype=np.float32)
LEVELS = 512
"""Steps of value that a table with a value axis is laid out in beforehand; a pixel takes the nearest."""


def packed(cells: NDArray[np.float32], srgb: bool) -> tuple[F32, NDArray[np.int32]]:
    """A table (hues, sats, vals, 3) with degrees, as the kernel reads it.

    The value axis is interpolated here, for LEVELS values, so that a pixel needs hue and saturation interpolated only.

    Returns:
        float32 (3, levels, (hues + 1) * sats + sats + 1): hue shift in sixths of a turn, saturation factor, value
        factor; the first hue stands again at the end. And int32 (3,): hues, sats, and 1 for an sRGB-encoded value.
    """
    hues, sats, vals, _ = cells.shape
    levels = 1 if vals == 1 else LEVELS
    # The axis runs evenly in sRGB-encoded value, or in the square root of a linear one.
    even = np.linspace(0, 1, levels) if levels > 1 else np.ones(1)
    at = (even if srgb else even**2) * (vals - 1)
    low = np.minimum(at.astype(int), max(vals - 2, 0))
    share = (at - low)[:, None, None, None]
    wide = cells.astype(np.float64).transpose(2, 0, 1, 3)
    laid = wide[low] * (1 - share) + wide[np.minimum(low + 1, vals - 1)] * share
    laid[..., 0] /= 60.0
    laid = np.concatenate([laid, laid[:, :1]], axis=1).reshape(levels, (hues + 1) * sats, 3)
    laid = np.concatenate([laid, np.repeat(laid[:, -1:], sats + 1, axis=1)], axis=1)
    return np.ascontiguousarray(laid.transpose(2, 0, 1), dtype=np.float32), np.array([hues, sats, srgb], dtype=np.int32)


@kernel
def _to_hsv(r, g, b, h, s, v, n):
    zero, one, six = np.float32(0.0), np.float32(1.0), np.float32(6.0)
    tiny = np.float32(1e-12)
    for j in range(n):
        x, y, z = max(r[j], zero), max(g[j], zero), max(b[j], zero)
        top, low = max(x, max(y, z)), min(x, min(y, z))
        d = top - low
        inv = one / max(d, tiny)
        hr = (y - z) * inv
        hg = np.float32(2.0) + (z - x) * inv
        hb = np.float32(4.0) + (x - y) * inv
        hue = hr if top == x else (hg if top == y else hb)
        hue = hue + six if hue < zero else hue
        h[j] = hue if d > tiny else zero
        s[j] = d / max(top, tiny)
        v[j] = top


@kernel
def _to_rgb(h, s, v, r, g, b, n):
    zero, one, four, six = np.float32(0.0), np.float32(1.0), np.float32(4.0), np.float32(6.0)
    for j in range(n):
        hue, value = h[j], v[j]
        c = value * s[j]
        k = hue + np.float32(5.0)
        k = k - six if k >= six else k
        r[j] = value - c * max(zero, min(min(k, four - k), one))
        k = hue + np.float32(3.0)
        k = k - six if k >= six else k
        g[j] = value - c * max(zero, min(min(k, four - k), one))
        k = hue + one
        k = k - six if k >= six else k
        b[j] = value - c * max(zero, min(min(k, four - k), one))


@kernel
def _places(h, s, v, hues, sats, levels, stride, rows, index, n):
    """Where in the laid-out table each pixel lies; its shares of the next hue and saturation go to rows 3 and 4.

    v: value as the axis runs: encoded, or its square root.

    One result a loop: LLVM then makes whole vectors of them.
    """
    fa, fc = rows[3], rows[4]
    other = rows[5].view(np.int32)
    zero, one, half = np.float32(0.0), np.float32(1.0), np.float32(0.5)
    hs, ss = np.float32(hues) / np.float32(6.0), np.float32(sats - 1)
    last_h, last_s, last_v = np.int32(hues - 1), np.int32(sats - 2), np.int32(levels - 1)
    wide, step = np.int32(sats), np.int32(stride)
    for j in range(n):
        fa[j] = h[j] * hs
    for j in range(n):
        index[j] = min(np.int32(fa[j]), last_h)
    for j in range(n):
        fa[j] -= np.float32(index[j])
    for j in range(n):
        fc[j] = min(max(s[j], zero), one) * ss
    for j in range(n):
        other[j] = min(np.int32(fc[j]), last_s)
    for j in range(n):
        fc[j] -= np.float32(other[j])
    for j in range(n):
        index[j] = index[j] * wide + other[j]
    if levels > 1:
        top = np.float32(levels - 1)
        for j in range(n):
            other[j] = min(np.int32(min(max(v[j], zero), one) * top + half), last_v)
        for j in range(n):
            index[j] += other[j] * step


@kernel
def _between(index, fa, fc, part, sats, out, n):
    """One of the three numbers, bilinear in hue and saturation."""
    below = np.uint64(sats)
    one = np.uint64(1)
    for j in range(n):
        p = np.uint64(index[j])
        x, y, u, w = part[p], part[p + one], part[p + below], part[p + below + one]
        top = x + fc[j] * (y - x)
        out[j] = top + fa[j] * (u + fc[j] * (w - u) - top)


@kernel
def _encode_row(v, out, work, n):
    """The sRGB curve on values from 0 on; a power beyond 1."""
    log2_row(v, work, n)
    for j in range(n):
        work[j] = work[j] * np.float32(1.0 / 2.4)
    exp2_row(work, out, n)
    for j in range(n):
        x = v[j]
        low = np.float32(12.92) * x
        out[j] = low if x <= np.float32(0.0031308) else np.float32(1.055) * out[j] - np.float32(0.055)


@kernel
def _decode_row(e, out, work, n):
    for j in range(n):
        work[j] = (e[j] + np.float32(0.055)) * np.float32(1.0 / 1.055)
    log2_row(work, out, n)
    for j in range(n):
        out[j] = out[j] * np.float32(2.4)
    exp2_row(out, work, n)
    for j in range(n):
        x = e[j]
        out[j] = x * np.float32(1.0 / 12.92) if x <= np.float32(0.04045) else work[j]


@kernel
def apply_table(r, g, b, parts, size, gain, n, rows):
    """A table on one row of linear ROMM values, in place.

    Args:
        parts, size: see `packed`.
        gain: a factor on the result, for exposure.
        rows: float32 (12, n) work space.
    """
    h, s, v = rows[0], rows[1], rows[2]
    found = rows[6]
    index = rows[7].view(np.int32)
    zero, one, six = np.float32(0.0), np.float32(1.0), np.float32(6.0)
    levels, stride = parts.shape[1], parts.shape[2]
    sats = size[1]
    srgb = size[2] == 1
    along = rows[8]
    _to_hsv(r, g, b, h, s, v, n)
    if srgb:
        _encode_row(v, along, rows[9], n)
    elif levels > 1:
        for j in range(n):
            along[j] = np.sqrt(v[j])
    _places(h, s, along, size[0], sats, levels, stride, rows, index, n)
    fa, fc = rows[3], rows[4]
    flat = parts.reshape(3, -1)
    _between(index, fa, fc, flat[0], sats, found, n)
    for j in range(n):
        x = h[j] + found[j]
        x = x + six if x < zero else x
        h[j] = x - six if x >= six else x
    _between(index, fa, fc, flat[1], sats, found, n)
    for j in range(n):
        s[j] = min(s[j] * found[j], one)
    _between(index, fa, fc, flat[2], sats, found, n)
    if srgb:
        # Beyond 1 a value keeps the ratio that the end of the axis has.
        for j in range(n):
            found[j] = min(along[j], one) * found[j]
        _decode_row(found, along, rows[9], n)
        for j in range(n):
            v[j] = max(along[j], zero) * max(v[j], one) * gain if v[j] > one else min(max(along[j], zero), one) * gain
    else:
        for j in range(n):
            v[j] = max(v[j] * found[j], zero) * gain
    _to_rgb(h, s, v, r, g, b, n)
