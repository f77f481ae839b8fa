"""Kernels between a mosaic and the planes that are cleaned: in, out, and how much of a change is made."""

import numpy as np

from tanner.core.jit import kernel


@kernel
def enter(data, first, last, rows, columns, black, scale, offset, mix, out):
    """Stabilised values of a mosaic's tiles, mixed into a sum and colours.

    Args:
        data: uint16 (H, W); first, last: rows of tiles.
        rows, columns: int (4,), where the places of a tile lie in it, red first.
        black, scale, offset: float32 (4,) by place: 2 sqrt((value - black) * scale + offset).
        mix: float32 (4, 4), rows of the mix; out: float32 (4, last - first, w).
    """
    w = out.shape[2]
    line = np.empty((4, w), dtype=np.float32)
    zero, two = np.float32(0.0), np.float32(2.0)
    for y in range(first, last):
        for p in range(4):
            source = data[2 * y + rows[p], columns[p] : columns[p] + 2 * w : 2]
            goal = line[p]
            b, s, o = black[p], scale[p], offset[p]
            for x in range(w):
                goal[x] = two * np.sqrt(max((np.float32(source[x]) - b) * s + o, zero))
        for m in range(4):
            goal = out[m, y - first]
            c0, c1, c2, c3 = mix[m, 0], mix[m, 1], mix[m, 2], mix[m, 3]
            for x in range(w):
                goal[x] = c0 * line[0, x] + c1 * line[1, x] + c2 * line[2, x] + c3 * line[3, x]


@kernel
def leave(mixed, skip, count, top, rows, columns, a, ground, low, mix, black, white, again, data):
    """Cleaned values back into a mosaic: the mix undone, and the exact unbiased inverse (see `stabilise.unbiased`).

    Args:
        mixed: float32 (4, n, w); skip, count: which of its rows are written, from row `top` of tiles on.
        a: float32 (4,) scale of the variance; ground: b / a^2; low: the transform of nothing, at most 1.5.
        black, white: numbers of 0 and 1; data: uint16 (H, W), filled; again: the mean with what is there is.
    """
    w = mixed.shape[2]
    line = np.empty(w, dtype=np.float32)
    half, one, zero = np.float32(0.5), np.float32(1.0), np.float32(0.0)
    quarter, eighth = np.float32(0.25), np.float32(0.125)
    c1, c2, c3 = np.float32(np.sqrt(1.5) / 4), np.float32(11 / 8), np.float32(5 / 8 * np.sqrt(1.5))
    step = np.float32(white - black)
    for y in range(count):
        for p in range(4):
            m0, m1, m2, m3 = mix[0, p], mix[1, p], mix[2, p], mix[3, p]
            g, least, s, start = ground[p], low[p], a[p] * step, np.float32(black) + half
            v0, v1, v2, v3 = mixed[0, skip + y], mixed[1, skip + y], mixed[2, skip + y], mixed[3, skip + y]
            for x in range(w):
                v = m0 * v0[x] + m1 * v1[x] + m2 * v2[x] + m3 * v3[x]
                d = one / max(v, one)
                square = v * v * quarter
                best = square + d * (c1 + d * (c3 * d - c2)) - eighth - g
                plain = square - np.float32(0.375) - g
                found = (plain if v < least else best) * s + start
                line[x] = min(max(found, zero), np.float32(65535.0))
            goal = data[2 * (top + y) + rows[p], columns[p] : columns[p] + 2 * w : 2]
            if again:
                for x in range(w):
                    line[x] = (line[x] + half + np.float32(goal[x])) * half
            for x in range(w):
                goal[x] = np.uint16(line[x])


@kernel
def shrink(rest, step, limit, smooth, total):
    """One level of wavelet shrinkage: what is finer than the smooth plane, as far as its surroundings stand out of noise.

    A coefficient counts by 1 - limit / (mean square of the 5 x 5 around it), or not at all.

    Args:
        rest, smooth, total: float32 (h, w); smooth is filled, total is added to.
        step: px between the taps of the cubic B-spline (source: starck1998).
    """
    h, w = rest.shape
    radius = 2 * step
    one, zero, tiny = np.float32(1.0), np.float32(0.0), np.float32(1e-9)
    k0, k1, k2 = np.float32(0.375), np.float32(0.25), np.float32(0.0625)
    share = np.float32(limit * 25.0)
    column = np.empty(w + 2 * radius, dtype=np.float32)
    waves = np.empty((8, w), dtype=np.float32)
    squares = np.empty((8, w), dtype=np.float32)
    sums = np.empty(w + 4, dtype=np.float32)
    for y in range(h + 2):
        if y < h:
            up2, up1 = abs(y - radius), abs(y - step)
            down1, down2 = y + step, y + radius
            down1 = down1 if down1 < h else 2 * h - 2 - down1
            down2 = down2 if down2 < h else 2 * h - 2 - down2
            r0, r1, r2 = rest[y], rest[max(0, min(up1, h - 1))], rest[max(0, min(up2, h - 1))]
            r3, r4 = rest[max(0, down1)], rest[max(0, down2)]
            inner = column[radius : radius + w]
            for x in range(w):
                inner[x] = k0 * r0[x] + k1 * (r1[x] + r3[x]) + k2 * (r2[x] + r4[x])
            for k in range(1, radius + 1):
                column[radius - k] = column[radius + min(k, w - 1)]
                column[radius + w - 1 + k] = column[radius + max(0, w - 1 - k)]
            goal, wave, square = smooth[y], waves[y % 8], squares[y % 8]
            l2, l1, m = column[0:w], column[step : step + w], column[radius : radius + w]
            n1, n2 = column[radius + step : radius + step + w], column[2 * radius : 2 * radius + w]
            # One result a loop, or none of them is done in vectors.
            for x in range(w):
                goal[x] = k0 * m[x] + k1 * (l1[x] + n1[x]) + k2 * (l2[x] + n2[x])
            for x in range(w):
                wave[x] = r0[x] - goal[x]
            for x in range(w):
                square[x] = wave[x] * wave[x]
        at = y - 2
        if at >= 0:
            a, b = squares[max(at - 2, 0) % 8], squares[max(at - 1, 0) % 8]
            c, d, e = squares[at % 8], squares[min(at + 1, h - 1) % 8], squares[min(at + 2, h - 1) % 8]
            inner = sums[2 : 2 + w]
            for x in range(w):
                inner[x] = a[x] + b[x] + c[x] + d[x] + e[x]
            sums[1] = sums[0] = sums[2]
            sums[w + 2] = sums[w + 3] = sums[w + 1]
            wave, goal = waves[at % 8], total[at]
            for x in range(w):
                power = sums[x] + sums[x + 1] + sums[x + 2] + sums[x + 3] + sums[x + 4]
                goal[x] += wave[x] * max(one - share / max(power, tiny), zero)


@kernel
def blend(noisy, quiet, first, last, rows, columns, black, scale, low, gain, mix, shares, keep, out):
    """How much of a change is made, by luminance and colour, in linear values: means stay whatever the strength.

    Args:
        noisy, quiet: uint16 (H, W); black, scale: float32 (4,) of the noisy ones; low: black of the quiet ones, white 65535.
        gain: float32 (4,), balances the places of a tile; mix: float32 (4, 4), see `enter`; shares: float32 (4,).
        keep: float32 (h, w), how much of the luminance's change is left out at each tile; 0 x 0 for nowhere.
        out: uint16 (H, W), filled as the quiet ones.
    """
    w = (noisy.shape[1]) // 2
    change = np.empty((4, w), dtype=np.float32)
    mixed = np.empty((4, w), dtype=np.float32)
    one, half = np.float32(1.0), np.float32(0.5)
    full = np.float32(65535.0) - low
    for y in range(first, last):
        for p in range(4):
            n = noisy[2 * y + rows[p], columns[p] : columns[p] + 2 * w : 2]
            q = quiet[2 * y + rows[p], columns[p] : columns[p] + 2 * w : 2]
            b, s, g = black[p], scale[p], gain[p]
            goal = change[p]
            for x in range(w):
                goal[x] = ((np.float32(q[x]) - low) / full - (np.float32(n[x]) - b) * s) * g
        for m in range(4):
            c0, c1, c2, c3 = mix[m, 0], mix[m, 1], mix[m, 2], mix[m, 3]
            share = shares[m]
            goal = mixed[m]
            for x in range(w):
                goal[x] = share * (c0 * change[0, x] + c1 * change[1, x] + c2 * change[2, x] + c3 * change[3, x])
        if keep.shape[0]:
            mask, goal = keep[y], mixed[0]
            for x in range(w):
                goal[x] *= one - mask[x]
        for p in range(4):
            n = noisy[2 * y + rows[p], columns[p] : columns[p] + 2 * w : 2]
            goal = out[2 * y + rows[p], columns[p] : columns[p] + 2 * w : 2]
            b, s, g = black[p], scale[p], gain[p]
            m0, m1, m2, m3 = mix[0, p] / g, mix[1, p] / g, mix[2, p] / g, mix[3, p] / g
            line = change[p]
            for x in range(w):
                v = m0 * mixed[0, x] + m1 * mixed[1, x] + m2 * mixed[2, x] + m3 * mixed[3, x]
                line[x] = min(
                    max(((np.float32(n[x]) - b) * s + v) * full + low + half, np.float32(0.0)), np.float32(65535.0)
                )
            for x in range(w):
                goal[x] = np.uint16(line[x])


AGREE, FROM_OWN, FROM_FINE = 3.0, 0.5, 0.3
"""Mean squared difference, in deviations of noise, at which two pictures no longer agree; and how much is taken over."""


@kernel
def join(joint, own, fine, skip, scale, offset, even, ungain, out):
    """Three pictures of the same rows, the first of which counts most (see `methods._join`).

    Args:
        joint, own, fine: float32 (3, n, w), balanced; skip: rows of them before the first of the output. Around the output's rows
            two more on either side are looked at, if they are there.
        scale, offset: float32 (3,) of the stabilised values 2 sqrt(v * scale + offset); ungain: float32 (3,), back to camera numbers.
        even: 0 to 1, how much of the second is taken wherever it is, agreeing or not.
        out: float32 (3, h, w).
    """
    n, w = joint.shape[1], joint.shape[2]
    one, zero, two = np.float32(1.0), np.float32(0.0), np.float32(2.0)
    norm = np.float32(1.0 / (3 * 25 * AGREE))
    half, part = np.float32(FROM_OWN), np.float32(FROM_FINE)
    squares = np.zeros((5, w), dtype=np.float32)
    line, sums, share = np.empty(w, dtype=np.float32), np.empty(w + 4, dtype=np.float32), np.empty(w, dtype=np.float32)
    for y in range(n + 2):
        goal = squares[y % 5]
        # Beyond the last row, as the last.
        row = min(y, n - 1)
        goal[:] = zero
        for c in range(3):
            a, b, s, o = joint[c, row], own[c, row], scale[c], offset[c]
            for x in range(w):
                line[x] = two * (np.sqrt(max(a[x], zero) * s + o) - np.sqrt(max(b[x], zero) * s + o))
            for x in range(w):
                goal[x] += line[x] * line[x]
        at = y - 2
        if y == 0:
            squares[3, :], squares[4, :] = goal, goal  # before the first row, as the first
        if at < skip or at >= skip + out.shape[1]:
            continue
        inner = sums[2 : 2 + w]
        for x in range(w):
            inner[x] = squares[0, x] + squares[1, x] + squares[2, x] + squares[3, x] + squares[4, x]
        sums[1] = sums[0] = sums[2]
        sums[w + 2] = sums[w + 3] = sums[w + 1]
        for x in range(w):
            t = max(one - (sums[x] + sums[x + 1] + sums[x + 2] + sums[x + 3] + sums[x + 4]) * norm, zero)
            share[x] = half * (t * t * t * (one - even) + even)
        for c in range(3):
            a, b, f, goal, back = joint[c, at], own[c, at], fine[c, at], out[c, at - skip], ungain[c]
            for x in range(w):
                goal[x] = max(a[x] + share[x] * (b[x] - a[x]) + part * (f[x] - b[x]), zero) * back
