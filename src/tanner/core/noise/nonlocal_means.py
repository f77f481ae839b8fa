"""Kernels of the non-local mean over tiles: each is averaged with those whose surroundings look alike."""

import numpy as np

from tanner.core.jit import kernel

STRIP = 16
"""Rows that are worked on together: their sums stay in the cache while the offsets go by."""


NEAR = 4
"""Tiles up to which every offset is looked at."""


@kernel
def average(noisy, guide, reach, base, width, out):
    """Fill the output with weighted means.

    The weight of a tile falls with the distance of its surroundings in the guide, d = mean squared difference over
    3 x 3 tiles and all guide planes: (1 - max(d - base, 0) / width)^2, 0 beyond.

    Args:
        noisy, out: float32 (planes, h, w).
        guide: float32 (planes, h, w), as weighed in distances.
        reach: tiles that are looked at to each side.
        base: distance that noise alone makes; width: beyond it, where weights end.
    """
    planes, h, w = noisy.shape
    count = guide.shape[0]
    inv = np.float32(1.0) / (np.float32(width) * np.float32(9 * count))
    low = np.float32(base) * np.float32(9 * count)
    one, zero = np.float32(1.0), np.float32(0.0)
    diff = np.empty((STRIP + 2, w + 2), dtype=np.float32)
    column = np.empty(w + 2, dtype=np.float32)
    weight = np.empty(w, dtype=np.float32)
    total = np.empty((planes, STRIP, w), dtype=np.float32)
    norm = np.empty((STRIP, w), dtype=np.float32)
    for top in range(0, h, STRIP):
        high = min(STRIP, h - top)
        total[:] = zero
        norm[:] = zero
        for dy in range(-reach, reach + 1):
            for dx in range(-reach, reach + 1):
                # Far tiles are many and much alike: every second one will do.
                if max(abs(dx), abs(dy)) > NEAR and (dx + dy) % 2:
                    continue
                # Squared differences between each tile and the one that lies by the offset beside it, two planes at a time.
                x_from, x_to = max(0, -dx), min(w, w - dx)
                n = x_to - x_from
                for r in range(high + 2):
                    y = min(max(top + r - 1, 0), h - 1)
                    yy = min(max(y + dy, 0), h - 1)
                    line = diff[r]
                    part = line[1 + x_from : 1 + x_to]
                    for c in range(0, count, 2):
                        a, b = guide[c, y, x_from:x_to], guide[c, yy, x_from + dx : x_to + dx]
                        two = c + 1 < count
                        second = c + 1 if two else c
                        share = one if two else zero
                        e, f = guide[second, y, x_from:x_to], guide[second, yy, x_from + dx : x_to + dx]
                        if c == 0:
                            for x in range(n):
                                d, g = a[x] - b[x], e[x] - f[x]
                                part[x] = d * d + share * g * g
                        else:
                            for x in range(n):
                                d, g = a[x] - b[x], e[x] - f[x]
                                part[x] += d * d + share * g * g
                    # Beyond the sides: as at the side.
                    for k in range(1 + x_from):
                        line[k] = line[1 + x_from]
                    for k in range(1 + x_to, w + 2):
                        line[k] = line[x_to]
                for r in range(high):
                    above, here, below = diff[r], diff[r + 1], diff[r + 2]
                    for x in range(w + 2):
                        column[x] = above[x] + here[x] + below[x]
                    left, right = column[0:w], column[2 : 2 + w]
                    middle = column[1 : 1 + w]
                    for x in range(w):
                        t = max(one - max(left[x] + middle[x] + right[x] - low, zero) * inv, zero)
                        weight[x] = t * t
                    yy = top + r + dy
                    if yy < 0 or yy >= h:
                        continue
                    mine, sums = weight[x_from:x_to], norm[r, x_from:x_to]
                    for x in range(n):
                        sums[x] += mine[x]
                    for c in range(planes):
                        values, goal = noisy[c, yy, x_from + dx : x_to + dx], total[c, r, x_from:x_to]
                        for x in range(n):
                            goal[x] += mine[x] * values[x]
        for r in range(high):
            for c in range(planes):
                for x in range(w):
                    out[c, top + r, x] = total[c, r, x] / norm[r, x]


SIZE = 12
"""Side of a block in tiles."""
WIDE = 16
"""Coefficients of a block are kept in rows of this length, so that loops over them are whole vectors."""


@kernel
def wiener(noisy, pilot, forward, window, step, total, norm):
    """Add the filtered blocks of one plane to a total, with their weights.

    The transform down the columns is made once for all blocks of a row, and undone once: blocks that overlap are added
    before it is undone. Sums over a block are written out, so that they stay in registers: through memory they take ten times
    as long, and in a function of their own a fifth longer.

    Args:
        noisy, pilot: float32 (h, w); forward: float32 (SIZE, SIZE), the cosine transform.
        window: float32 (SIZE,), what a block counts along each side; step: px from block to block.
        total, norm: float32 (h, w), to be added to.
    """
    h, w = noisy.shape
    one, half = np.float32(1.0), np.float32(0.5)
    across = np.zeros((SIZE, WIDE), dtype=np.float32)  # [j, l] = forward[l, j]
    back = np.zeros((SIZE, WIDE), dtype=np.float32)  # [l, j] = forward[l, j]
    edge = np.zeros(WIDE, dtype=np.float32)
    for i in range(SIZE):
        edge[i] = window[i]
        for j in range(SIZE):
            across[j, i] = forward[i, j]
            back[i, j] = forward[i, j]
    a, b = np.empty((SIZE, w), dtype=np.float32), np.empty((SIZE, w), dtype=np.float32)
    sums = np.empty((SIZE, w + WIDE), dtype=np.float32)
    weights = np.empty(w + WIDE, dtype=np.float32)
    n, p = np.empty((SIZE, WIDE), dtype=np.float32), np.empty(WIDE, dtype=np.float32)
    line, other = np.empty(WIDE, dtype=np.float32), np.empty(WIDE, dtype=np.float32)
    for y in range(0, h - SIZE + 1, step):
        for k in range(SIZE):
            row, row2 = a[k], b[k]
            f = forward[k, 0]
            for x in range(w):
                row[x] = f * noisy[y, x]
            for x in range(w):
                row2[x] = f * pilot[y, x]
            for i in range(1, SIZE):
                f = forward[k, i]
                for x in range(w):
                    row[x] += f * noisy[y + i, x]
                for x in range(w):
                    row2[x] += f * pilot[y + i, x]
        sums[:] = np.float32(0.0)
        weights[:] = np.float32(0.0)
        for x in range(0, w - SIZE + 1, step):
            power = half
            for k in range(SIZE):
                row, row2 = a[k, x : x + SIZE], b[k, x : x + SIZE]
                v0, v1, v2, v3, v4, v5 = row[0], row[1], row[2], row[3], row[4], row[5]
                v6, v7, v8, v9, v10, v11 = row[6], row[7], row[8], row[9], row[10], row[11]
                u0, u1, u2, u3, u4, u5 = row2[0], row2[1], row2[2], row2[3], row2[4], row2[5]
                u6, u7, u8, u9, u10, u11 = row2[6], row2[7], row2[8], row2[9], row2[10], row2[11]
                for m in range(WIDE):
                    line[m] = (
                        v0 * across[0, m]
                        + v1 * across[1, m]
                        + v2 * across[2, m]
                        + v3 * across[3, m]
                        + v4 * across[4, m]
                        + v5 * across[5, m]
                        + v6 * across[6, m]
                        + v7 * across[7, m]
                        + v8 * across[8, m]
                        + v9 * across[9, m]
                        + v10 * across[10, m]
                        + v11 * across[11, m]
                    )
                for m in range(WIDE):
                    other[m] = (
                        u0 * across[0, m]
                        + u1 * across[1, m]
                        + u2 * across[2, m]
                        + u3 * across[3, m]
                        + u4 * across[4, m]
                        + u5 * across[5, m]
                        + u6 * across[6, m]
                        + u7 * across[7, m]
                        + u8 * across[8, m]
                        + u9 * across[9, m]
                        + u10 * across[10, m]
                        + u11 * across[11, m]
                    )
                for m in range(WIDE):
                    g = other[m] * other[m]
                    p[m] = g / (g + one)
                goal = n[k]
                for m in range(WIDE):
                    goal[m] = line[m] * p[m]
                for m in range(WIDE):
                    power += p[m] * p[m]
            share = one / power
            for k in range(SIZE):
                row = n[k]
                v0, v1, v2, v3, v4, v5 = row[0], row[1], row[2], row[3], row[4], row[5]
                v6, v7, v8, v9, v10, v11 = row[6], row[7], row[8], row[9], row[10], row[11]
                for m in range(WIDE):
                    line[m] = (
                        v0 * back[0, m]
                        + v1 * back[1, m]
                        + v2 * back[2, m]
                        + v3 * back[3, m]
                        + v4 * back[4, m]
                        + v5 * back[5, m]
                        + v6 * back[6, m]
                        + v7 * back[7, m]
                        + v8 * back[8, m]
                        + v9 * back[9, m]
                        + v10 * back[10, m]
                        + v11 * back[11, m]
                    )
                goal = sums[k, x : x + WIDE]
                for j in range(WIDE):
                    goal[j] += line[j] * edge[j] * share
            goal = weights[x : x + WIDE]
            for j in range(WIDE):
                goal[j] += edge[j] * share
        for i in range(SIZE):
            row, count = total[y + i], norm[y + i]
            e = window[i]
            for x in range(w):
                count[x] += e * weights[x]
            for k in range(SIZE):
                f = forward[k, i] * e
                for x in range(w):
                    row[x] += f * sums[k, x]
