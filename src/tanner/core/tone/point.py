"""The point operations, fused row by row: colour, local gain, tone, saturation, output space.

Planes are float32; the result is the square root of linear output values (0 to 1), a cheap even scale
in which sharpening works and from which the encoding table reads.
"""

import numpy as np

from tanner.core.jit import kernel
from tanner.core.tone.clipped import rebuild_row
from tanner.core.tone.cube import apply_cube, apply_input
from tanner.core.tone.light import TABLE_SIZE, TABLE_TOP
from tanner.core.tone.logs import exp2_row, log2_row
from tanner.core.tone.table import apply_table

_TO_INDEX = np.float32((TABLE_SIZE - 1) / np.sqrt(TABLE_TOP))
_LAST = TABLE_SIZE - 1


@kernel
def _colour(r, g, b, gains, m, n):
    """White balance, then the matrix, in place.

    What is no number becomes nothing here: the tables that follow are looked up by these values.
    """
    zero, most = np.float32(0.0), np.float32(1e6)
    for j in range(n):
        x, y, z = r[j], g[j], b[j]
        x, y, z = x if abs(x) < most else zero, y if abs(y) < most else zero, z if abs(z) < most else zero
        x, y, z = x * gains[0], y * gains[1], z * gains[2]
        r[j] = m[0, 0] * x + m[0, 1] * y + m[0, 2] * z
        g[j] = m[1, 0] * x + m[1, 1] * y + m[1, 2] * z
        b[j] = m[2, 0] * x + m[2, 1] * y + m[2, 2] * z


@kernel
def _guide_row(guide, row, x0, n, width, index, share, a, b):
    """The base layer's two coefficients along a run of output pixels, on one row of the guide.

    Args:
        index: int32 (n,), share: float32 (n,), work space.
    """
    gw = guide.shape[2]
    sx = np.float32(gw) / np.float32(width)
    zero, most, before = np.float32(0.0), np.float32(gw - 1), np.int32(gw - 2)
    start = (np.float32(x0) + np.float32(0.5)) * sx - np.float32(0.5)
    for j in range(n):
        index[j] = min(np.int32(min(max(start + np.float32(j) * sx, zero), most)), before)
    for j in range(n):
        share[j] = min(max(start + np.float32(j) * sx, zero), most) - np.float32(index[j])
    # A loop for each look-up, so that it is done in vectors.
    line = guide[0, row]
    for j in range(n):
        a[j] = line[np.uint64(index[j])]
    line = guide[0, row, 1:]
    for j in range(n):
        a[j] += share[j] * (line[np.uint64(index[j])] - a[j])
    line = guide[1, row]
    for j in range(n):
        b[j] = line[np.uint64(index[j])]
    line = guide[1, row, 1:]
    for j in range(n):
        b[j] += share[j] * (line[np.uint64(index[j])] - b[j])


@kernel
def _guide_line(guide, y, x0, n, height, width, a, b, wide, held, index, share):
    """The base layer's two coefficients along a run of output pixels, bilinear.

    A row of the guide serves many rows of pixels: it is spread out once, and what is left is straight lines between two.

    Args:
        wide: float32 (4, n): both coefficients of the guide's row above and of the one below.
        held: the row above that stands in `wide`, or -2 for none.

    Returns:
        The row above that stands there now.
    """
    gh = guide.shape[1]
    v = (np.float32(y) + np.float32(0.5)) * np.float32(gh) / np.float32(height) - np.float32(0.5)
    v = min(max(v, np.float32(0.0)), np.float32(gh - 1))
    above = min(int(v), gh - 2)
    fy = v - np.float32(above)
    if above == held + 1:
        for j in range(n):
            wide[0, j] = wide[2, j]
        for j in range(n):
            wide[1, j] = wide[3, j]
    elif above != held:
        _guide_row(guide, above, x0, n, width, index, share, wide[0], wide[1])
    if above != held:
        _guide_row(guide, above + 1, x0, n, width, index, share, wide[2], wide[3])
    top, bottom = wide[0], wide[2]
    for j in range(n):
        a[j] = top[j] + fy * (bottom[j] - top[j])
    top, bottom = wide[1], wide[3]
    for j in range(n):
        b[j] = top[j] + fy * (bottom[j] - top[j])
    return above


@kernel
def _gain_line(log, ca, cb, ev, up, down, local, out, n):
    """Gain in EV from the base layer and what a pixel differs from it; see `light.local_terms`."""
    mid = np.float32(2.4739312)  # minus log2 of mid-grey, 0.18
    zero, one = np.float32(0.0), np.float32(1.0)
    two, three = np.float32(2.0), np.float32(3.0)
    for j in range(n):
        # The guide was made before exposure: its slope works on the log without it.
        base = ca[j] * (log[j] - ev) + cb[j] + ev
        u = min(max((base + mid) * np.float32(0.25), zero), one)
        v = min(max((-base - mid) * np.float32(0.2), zero), one)
        out[j] = up * u * u * (three - two * u) + down * v * v * (three - two * v) + local * (log[j] - base)


@kernel
def _local(r, g, b, luma, guide, ev, terms, y, x0, n, height, width, rows, wide, held):
    """Highlights, shadows and local contrast as a gain read from the edge-aware base layer; see `_guide_line`."""
    lum, log, ca, cb, gain = rows[0], rows[1], rows[2], rows[3], rows[4]
    lr, lg, lb = luma[0], luma[1], luma[2]
    for j in range(n):
        lum[j] = lr * r[j] + lg * g[j] + lb * b[j]
    log2_row(lum, log, n)
    held = _guide_line(guide, y, x0, n, height, width, ca, cb, wide, held, rows[5].view(np.int32), rows[6])
    _gain_line(log, ca, cb, ev, terms[0], terms[1], terms[2], lum, n)
    exp2_row(lum, gain, n)
    for j in range(n):
        r[j] *= gain[j]
    for j in range(n):
        g[j] *= gain[j]
    for j in range(n):
        b[j] *= gain[j]
    return held


@kernel
def _tone(r, g, b, table, n, rows):
    """The tone table on the largest and smallest channel, the middle one in proportion between them.

    This keeps the hue, as the DNG specification's reference code does (source: dng17).
    """
    hi, lo, fh, fl = rows[0], rows[1], rows[2], rows[3]
    ih, il = rows[4].view(np.int32), rows[5].view(np.int32)
    zero = np.float32(0.0)
    for j in range(n):
        x, y, z = r[j], g[j], b[j]
        hi[j] = max(max(x, max(y, z)), zero)
    for j in range(n):
        x, y, z = r[j], g[j], b[j]
        lo[j] = max(min(x, min(y, z)), zero)
    for j in range(n):
        ih[j] = min(np.int32(np.sqrt(hi[j]) * _TO_INDEX + np.float32(0.5)), _LAST)
    for j in range(n):
        il[j] = min(np.int32(np.sqrt(lo[j]) * _TO_INDEX + np.float32(0.5)), _LAST)
    for j in range(n):
        fh[j] = table[np.uint64(ih[j])]
    for j in range(n):
        fl[j] = table[np.uint64(il[j])]
    # New ends, then scale and offset that take the old pair to the new one; both stay in place.
    for j in range(n):
        span = hi[j] - lo[j]
        new_hi, new_lo = hi[j] * fh[j], lo[j] * fl[j]
        fh[j] = (new_hi - new_lo) / max(span, np.float32(1e-9)) if span > np.float32(1e-7) else fh[j]
    for j in range(n):
        fl[j] = lo[j] * fl[j]
    for j in range(n):
        x = max(r[j], zero)
        r[j] = fl[j] + (x - lo[j]) * fh[j]
    for j in range(n):
        x = max(g[j], zero)
        g[j] = fl[j] + (x - lo[j]) * fh[j]
    for j in range(n):
        x = max(b[j], zero)
        b[j] = fl[j] + (x - lo[j]) * fh[j]


@kernel
def _saturate(r, g, b, luma, factor, vibrance, n):
    one = np.float32(1.0)
    for j in range(n):
        x, y, z = r[j], g[j], b[j]
        lum = luma[0] * x + luma[1] * y + luma[2] * z
        top, low = max(x, max(y, z)), min(x, min(y, z))
        chroma = min(max((top - low) / max(top, np.float32(1e-6)), np.float32(0.0)), one)
        weak = (one - chroma) * (one - chroma)
        f = factor * (one + vibrance * (weak if vibrance > np.float32(0.0) else one - chroma * np.float32(0.5)))
        r[j] = lum + f * (x - lum)
        g[j] = lum + f * (y - lum)
        b[j] = lum + f * (z - lum)


@kernel
def _bring_in(x, y, z, lms):
    """A colour outside the output space, with less chroma: the same Oklab hue and lightness (source: ottosson2020).

    Args:
        lms: (2, 3, 3): output space to the cone responses of Oklab, and back.
    """
    zero, one = np.float32(0.0), np.float32(1.0)
    to, back = lms[0], lms[1]
    p = np.cbrt(to[0, 0] * x + to[0, 1] * y + to[0, 2] * z)
    q = np.cbrt(to[1, 0] * x + to[1, 1] * y + to[1, 2] * z)
    s = np.cbrt(to[2, 0] * x + to[2, 1] * y + to[2, 2] * z)
    light = np.float32(0.2104542553) * p + np.float32(0.7936177850) * q - np.float32(0.0040720468) * s
    a = np.float32(1.9779984951) * p - np.float32(2.4285922050) * q + np.float32(0.4505937099) * s
    b = np.float32(0.0259040371) * p + np.float32(0.7827717662) * q - np.float32(0.8086757660) * s
    if light >= one:
        return one, one, one
    if light <= zero:
        return zero, zero, zero
    inside, outside = zero, one
    rx = ry = rz = light * light * light
    for _ in range(11):
        t = (inside + outside) * np.float32(0.5)
        p = light + t * (np.float32(0.3963377774) * a + np.float32(0.2158037573) * b)
        q = light - t * (np.float32(0.1055613458) * a + np.float32(0.0638541728) * b)
        s = light - t * (np.float32(0.0894841775) * a + np.float32(1.2914855480) * b)
        p, q, s = p * p * p, q * q * q, s * s * s
        x = back[0, 0] * p + back[0, 1] * q + back[0, 2] * s
        y = back[1, 0] * p + back[1, 1] * q + back[1, 2] * s
        z = back[2, 0] * p + back[2, 1] * q + back[2, 2] * s
        if min(x, min(y, z)) >= zero and max(x, max(y, z)) <= one:
            inside = t
            rx, ry, rz = x, y, z
        else:
            outside = t
    return rx, ry, rz


@kernel
def _output(r, g, b, m, lms, n):
    """To the output space; what lies outside loses chroma until it fits; then the root."""
    zero, one = np.float32(0.0), np.float32(1.0)
    # What is outside by less than a 16-bit step or two of 8 bits in the dark is only rounded.
    low_edge, high_edge = np.float32(-0.0002), np.float32(1.0005)
    for j in range(n):
        x = m[0, 0] * r[j] + m[0, 1] * g[j] + m[0, 2] * b[j]
        y = m[1, 0] * r[j] + m[1, 1] * g[j] + m[1, 2] * b[j]
        z = m[2, 0] * r[j] + m[2, 1] * g[j] + m[2, 2] * b[j]
        r[j], g[j], b[j] = x, y, z
    # Asked in a loop of its own, which is done in vectors; the least and the greatest in the one above were not.
    outside = 0
    for j in range(n):
        x, y, z = r[j], g[j], b[j]
        outside |= (min(x, min(y, z)) < low_edge) | (max(x, max(y, z)) > high_edge)
    if outside:
        for j in range(n):
            x, y, z = r[j], g[j], b[j]
            if min(x, min(y, z)) < low_edge or max(x, max(y, z)) > high_edge:
                r[j], g[j], b[j] = _bring_in(x, y, z, lms)
    for j in range(n):
        r[j] = np.sqrt(min(max(r[j], zero), one))
    for j in range(n):
        g[j] = np.sqrt(min(max(g[j], zero), one))
    for j in range(n):
        b[j] = np.sqrt(min(max(b[j], zero), one))


@kernel
def develop_block(
    planes,
    y0,
    x0,
    size,
    gains,
    clipped,
    matrix,
    input_table,
    hue_sat,
    hue_sat_size,
    look,
    look_size,
    gain,
    luma,
    guide,
    ev,
    terms,
    table,
    saturation,
    cube,
    line,
    to_look,
    from_look,
    domain,
    display,
    amount,
    out_matrix,
    lms,
):
    """Take a block from balanced camera values to roots of linear output values, in place.

    Args:
        planes: float32 (3, h, w).
        y0, x0, size: where the block lies in the output of (width, height).
        gains: (3,) from plane values to the white balance in force.
        clipped: what is done where the sensor was full, see `clipped.Clipped`.
        matrix: (3, 3) balanced camera to working space; exposure is in it unless there is a hue_sat table.
        input_table: of a camera's ICC profile, see `cube.apply_input`; NO_CUBE is none.
        hue_sat, look, their sizes: the profile's tables as `tone.table.packed` gives them; NO_TABLE is none.
        gain: exposure as a factor after hue_sat or input_table.
        luma: (3,) luminance of the working space.
        guide: (2, gh, gw) coefficients of the base layer; an empty array leaves local gain out.
        ev: exposure in the matrix, in stops, which the guide does not know of.
        terms: see `light.local_terms`.
        table: see `light.tone_table`.
        saturation: (2,) factor and vibrance.
        cube, line, to_look, from_look, domain, display, amount: see `cube.apply_cube`; amount 0 leaves it out.
        out_matrix: working space to output space; lms: see `_bring_in`.
    """
    h, w = planes.shape[1], planes.shape[2]
    rows = np.empty((7, w), dtype=np.float32)
    wide, held = np.empty((4, w), dtype=np.float32), -2
    local = guide.shape[1] > 1
    colourful = saturation[0] != 1 or saturation[1] != 0
    for i in range(h):
        r, g, b = planes[0, i], planes[1, i], planes[2, i]
        rebuild_row(r, g, b, clipped, gains, y0 + i, x0, w, rows[0])
        _colour(r, g, b, gains, matrix, w)
        if input_table.shape[0] > 1:
            apply_input(r, g, b, input_table, gain, w)
        if hue_sat.shape[0] > 1:
            apply_table(r, g, b, hue_sat, hue_sat_size, gain, w)
        if local:
            held = _local(r, g, b, luma, guide, ev, terms, y0 + i, x0, w, size[1], size[0], rows, wide, held)
        if look.shape[0] > 1:
            apply_table(r, g, b, look, look_size, np.float32(1.0), w)
        _tone(r, g, b, table, w, rows)
        if colourful:
            _saturate(r, g, b, luma, saturation[0], saturation[1], w)
        if amount > 0:
            apply_cube(r, g, b, cube, line, to_look, from_look, domain, display, amount, w)
        _output(r, g, b, out_matrix, lms, w)


OVERSHOOT = np.float32(0.15)
"""How far sharpening may go beyond what is around a pixel, as a share of the contrast there."""


@kernel
def sharpen_block(planes, margin, strength, place, threshold, even, half, lum, blur, show):
    """Unsharp mask on lightness, in place, within the range of what is around; `margin` px on each side only serve.

    Args:
        planes: float32 (3, h, w), roots of linear values.
        strength: float32 (2,): amount, and what is added to it in the corners of the frame.
        place: float32 (4,): x and y of the first pixel from the middle of the frame, and steps, in half diagonals of it.
        threshold: differences that count by half; even: contrast around a pixel below which it is spared, or 0.
        half: see `sharpen.gaussian`.
        lum, blur: float32 (h, w) work space.
        show: fill the planes with how much is sharpened where, instead.
    """
    h, w = planes.shape[1], planes.shape[2]
    reach = half.shape[0] - 1
    quarter, zero = np.float32(0.25), np.float32(0.0)
    for i in range(h):
        r, g, b, o = planes[0, i], planes[1, i], planes[2, i], lum[i]
        for j in range(w):
            o[j] = quarter * (r[j] + b[j]) + np.float32(0.5) * g[j]
    line = np.empty(w, dtype=np.float32)
    n = w - 2 * margin
    for i in range(margin, h - margin):
        centre = lum[i]
        for j in range(w):
            line[j] = half[0] * centre[j]
        for t in range(1, reach + 1):
            up, down, k = lum[i - t], lum[i + t], half[t]
            for j in range(w):
                line[j] += k * (up[j] + down[j])
        o, at = blur[i, margin:], line[margin:]
        for j in range(n):
            o[j] = half[0] * at[j]
        for t in range(1, reach + 1):
            left, right, k = line[margin - t :], line[margin + t :], half[t]
            for j in range(n):
                o[j] += k * (left[j] + right[j])
    high, low = np.empty(w, dtype=np.float32), np.empty(w, dtype=np.float32)
    top, bottom = np.empty(n, dtype=np.float32), np.empty(n, dtype=np.float32)
    weight = np.empty(n, dtype=np.float32)
    amount, corners, square = strength[0], strength[1], even * even
    for i in range(margin, h - margin):
        up, centre, down = lum[i - 1], lum[i], lum[i + 1]
        # One result a loop: with two of them none of this is done in vectors, and takes eighteen times as long.
        for j in range(w):
            high[j] = max(max(up[j], centre[j]), down[j])
        for j in range(w):
            low[j] = min(min(up[j], centre[j]), down[j])
        left, at, right = high[margin - 1 :], high[margin:], high[margin + 1 :]
        for j in range(n):
            top[j] = max(max(left[j], at[j]), right[j])
        left, at, right = low[margin - 1 :], low[margin:], low[margin + 1 :]
        for j in range(n):
            bottom[j] = min(min(left[j], at[j]), right[j])
        y = place[1] + np.float32(i) * place[3]
        for j in range(n):
            x = place[0] + np.float32(j + margin) * place[2]
            weight[j] = amount + corners * (x * x + y * y)
        if even > zero:
            for j in range(n):
                c = top[j] - bottom[j]
                c *= c
                weight[j] *= c / (c + square)
        if show:
            whole = max(amount + corners, np.float32(1e-6))
            for c in range(3):
                p = planes[c, i, margin:]
                for j in range(n):
                    p[j] = np.sqrt(weight[j] / whole)
            continue
        a, o = lum[i, margin:], blur[i, margin:]
        for j in range(n):
            d = a[j] - o[j]
            change = weight[j] * d * abs(d) / (abs(d) + threshold)
            room = OVERSHOOT * (top[j] - bottom[j])
            o[j] = min(max(change, bottom[j] - a[j] - room), top[j] - a[j] + room)
        for c in range(3):
            p = planes[c, i, margin:]
            for j in range(n):
                p[j] += o[j]


@kernel
def encode8(planes, margin, table, out):
    """Roots to 8-bit values by a table of 4,096, into (h, w, 3)."""
    h, w = out.shape[0], out.shape[1]
    index = np.empty(w, dtype=np.int32)
    for i in range(h):
        for c in range(3):
            p = planes[c, i + margin, margin:]
            for j in range(w):
                v = min(max(p[j], np.float32(0.0)), np.float32(1.0))
                index[j] = np.int32(v * np.float32(4095.0) + np.float32(0.5))
            for j in range(w):
                out[i, j, c] = table[np.uint64(index[j])]


@kernel
def encode16(planes, margin, table, out):
    """Roots to 16-bit values by a table of 65,536, into (h, w, 3)."""
    h, w = out.shape[0], out.shape[1]
    for i in range(h):
        for c in range(3):
            p = planes[c, i + margin, margin:]
            for j in range(w):
                v = min(max(p[j], np.float32(0.0)), np.float32(1.0))
                out[i, j, c] = table[np.uint64(v * np.float32(65535.0) + np.float32(0.5))]
