"""Hue, saturation and value tables of camera profiles on rows of pixels (source: dng17, chapter 6).

Linear ROMM values become hue (0 to 6), saturation and value; the table gives a hue shift and two factors,
interpolated in three directions (hue goes round, the others are held at their ends); then back.
"""

import numpy as np
from numpy.typing import NDArray

from tanner.core.jit import kernel
from tanner.core.tone.logs import exp2_row, log2_row

F32 = NDArray[np.float32]
NO_TABLE = np.zeros((1, 1, 1, 4), dtype=np.float32)


def packed(cells: NDArray[np.float32]) -> F32:
    """(hues, sats, vals, 3) with degrees, as the kernel reads it: (hues + 1, sats, vals, 4), hue shift in sixths of a turn.

    The first hue stands again at the end; the fourth number only keeps cells in step with vectors.
    """
    hues, sats, vals, _ = cells.shape
    result = np.zeros((hues + 1, sats, vals, 4), dtype=np.float32)
    result[:-1, ..., :3] = cells
    result[-1, ..., :3] = cells[0]
    result[..., 0] /= np.float32(60.0)
    return result


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
def _look_up(h, s, v, cells, dh, fs, fv, n):
    """Interpolated cells; h from 0 to 6, s and v are held to 0..1."""
    hues, sats, vals = cells.shape[0] - 1, cells.shape[1], cells.shape[2]
    zero, one = np.float32(0.0), np.float32(1.0)
    hs = np.float32(hues) / np.float32(6.0)
    ss, vs = np.float32(sats - 1), np.float32(vals - 1)
    last_h, last_s, last_v = hues - 1, sats - 2, vals - 2
    flat = cells.reshape(-1)
    down = np.int64(4 * vals)
    across = np.int64(4 * vals * sats)
    for j in range(n):
        a = h[j] * hs
        i = min(int(a), last_h)
        fa = a - np.float32(i)
        c = min(max(s[j], zero), one) * ss
        k = min(int(c), last_s)
        fc = c - np.float32(k)
        at = np.int64(i) * across + np.int64(k) * down
        w00, w01 = (one - fa) * (one - fc), (one - fa) * fc
        w10, w11 = fa * (one - fc), fa * fc
        if vals > 1:
            e = min(max(v[j], zero), one) * vs
            m = min(int(e), last_v)
            fe = e - np.float32(m)
            at += np.int64(4 * m)
            one_e = one - fe
            p, q = at, at + down
            t, u = at + across, at + across + down
            dh[j] = one_e * (w00 * flat[p] + w01 * flat[q] + w10 * flat[t] + w11 * flat[u]) + fe * (
                w00 * flat[p + 4] + w01 * flat[q + 4] + w10 * flat[t + 4] + w11 * flat[u + 4]
            )
            fs[j] = one_e * (w00 * flat[p + 1] + w01 * flat[q + 1] + w10 * flat[t + 1] + w11 * flat[u + 1]) + fe * (
                w00 * flat[p + 5] + w01 * flat[q + 5] + w10 * flat[t + 5] + w11 * flat[u + 5]
            )
            fv[j] = one_e * (w00 * flat[p + 2] + w01 * flat[q + 2] + w10 * flat[t + 2] + w11 * flat[u + 2]) + fe * (
                w00 * flat[p + 6] + w01 * flat[q + 6] + w10 * flat[t + 6] + w11 * flat[u + 6]
            )
        else:
            p, q = at, at + down
            t, u = at + across, at + across + down
            dh[j] = w00 * flat[p] + w01 * flat[q] + w10 * flat[t] + w11 * flat[u]
            fs[j] = w00 * flat[p + 1] + w01 * flat[q + 1] + w10 * flat[t + 1] + w11 * flat[u + 1]
            fv[j] = w00 * flat[p + 2] + w01 * flat[q + 2] + w10 * flat[t + 2] + w11 * flat[u + 2]


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
def apply_table(r, g, b, cells, srgb, gain, n, rows):
    """A table on one row, in place.

    Args:
        cells: see `packed`.
        srgb: above 0.5 when the value axis is sRGB-encoded.
        gain: a factor on the result, for exposure.
        rows: float32 (12, n) work space.
    """
    h, s, v, dh, fs, fv = rows[0], rows[1], rows[2], rows[3], rows[4], rows[5]
    zero, one, six = np.float32(0.0), np.float32(1.0), np.float32(6.0)
    _to_hsv(r, g, b, h, s, v, n)
    if srgb > np.float32(0.5):
        e, work = rows[6], rows[7]
        _encode_row(v, e, work, n)
        _look_up(h, s, e, cells, dh, fs, fv, n)
        # Beyond 1 a value keeps the ratio that the end of the axis has.
        for j in range(n):
            fv[j] = min(max(e[j], zero), one) * fv[j] if v[j] <= one else fv[j]
        _decode_row(fv, e, work, n)
        for j in range(n):
            v[j] = min(e[j], one) if v[j] <= one else v[j] * e[j]
    else:
        _look_up(h, s, v, cells, dh, fs, fv, n)
        for j in range(n):
            v[j] = v[j] * fv[j]
    for j in range(n):
        x = h[j] + dh[j]
        x = x + six if x < zero else x
        h[j] = x - six if x >= six else x
    for j in range(n):
        s[j] = min(s[j] * fs[j], one)
    for j in range(n):
        v[j] = max(v[j], zero) * gain
    _to_rgb(h, s, v, r, g, b, n)
