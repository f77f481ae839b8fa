"""Kernels of the non-local mean over tiles: each is averaged with those whose surroundings look alike."""

import numpy as np

from tanner.core.jit import kernel

STRIP = 16
"""Rows that are worked on together: their sums stay in the cache while the offsets go by."""


NEAR = 4
"""Tiles up to which every offset is looked at."""


@kernel
def average(noisy, guide, reach, patch, base, width, out):
    """Fill the output with weighted means.

    The weight of a tile falls with the distance of its surroundings in the guide, d = mean squared difference over
    (2 patch + 1)^2 tiles and all guide planes: (1 - max(d - base, 0) / width)^2, 0 beyond.

    Args:
        noisy, out: float32 (planes, h, w).
        guide: float32 (planes, h, w), as weighed in distances.
        reach: tiles that are looked at to each side; patch: tiles to each side that are compared.
        base: distance that noise alone makes; width: beyond it, where weights end.
    """
    planes, h, w = noisy.shape
    count = guide.shape[0]
    size = 2 * patch + 1
    inv = np.float32(1.0) / (np.float32(width) * np.float32(size * size * count))
    low = np.float32(base) * np.float32(size * size * count)
    one, zero = np.float32(1.0), np.float32(0.0)
    rows = STRIP + 2 * patch
    diff = np.empty((rows, w + 2 * patch), dtype=np.float32)
    column = np.empty(w + 2 * patch, dtype=np.float32)
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
                # Squared differences between each tile and the one that lies by the offset beside it.
                x_from, x_to = max(0, -dx), min(w, w - dx)
                for r in range(high + 2 * patch):
                    y = min(max(top + r - patch, 0), h - 1)
                    yy = min(max(y + dy, 0), h - 1)
                    line = diff[r]
                    for x in range(w + 2 * patch):
                        line[x] = zero
                    n = x_to - x_from
                    for c in range(count):
                        a, b = guide[c, y, x_from:x_to], guide[c, yy, x_from + dx : x_to + dx]
                        part = line[patch + x_from : patch + x_to]
                        for x in range(n):
                            d = a[x] - b[x]
                            part[x] += d * d
                    # Beyond the sides: as at the side.
                    for k in range(patch + x_from):
                        line[k] = line[patch + x_from]
                    for k in range(patch + x_to, w + 2 * patch):
                        line[k] = line[patch + x_to - 1]
                for r in range(high):
                    for x in range(w + 2 * patch):
                        column[x] = diff[r, x]
                    for k in range(1, size):
                        other = diff[r + k]
                        for x in range(w + 2 * patch):
                            column[x] += other[x]
                    for x in range(w):
                        weight[x] = column[x]
                    for k in range(1, size):
                        for x in range(w):
                            weight[x] += column[x + k]
                    for x in range(w):
                        t = max(one - max(weight[x] - low, zero) * inv, zero)
                        weight[x] = t * t
                    yy = top + r + dy
                    if yy < 0 or yy >= h:
                        continue
                    n = x_to - x_from
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


WIDE = 16
"""Coefficients of a block are kept in rows of this length, so that loops over them are whole vectors."""


@kernel
def wiener(noisy, pilot, forward, window, step, total, norm):
    """Add the filtered blocks of one plane to a total, with their weights.

    The transform down the columns is made once for all blocks of a row, and undone once: blocks that overlap are added
    before it is undone.

    Args:
        noisy, pilot: float32 (h, w); forward: float32 (size, size), the cosine transform.
        window: float32 (size,), what a block counts along each side; step: px from block to block.
        total, norm: float32 (h, w), to be added to.
    """
    h, w = noisy.shape
    size = forward.shape[0]
    one, half = np.float32(1.0), np.float32(0.5)
    across = np.zeros((size, WIDE), dtype=np.float32)  # [j, l] = forward[l, j]
    back = np.zeros((size, WIDE), dtype=np.float32)  # [l, j] = forward[l, j]
    edge = np.zeros(WIDE, dtype=np.float32)
    for i in range(size):
        edge[i] = window[i]
        for j in range(size):
            across[j, i] = forward[i, j]
            back[i, j] = forward[i, j]
    a, b = np.empty((size, w), dtype=np.float32), np.empty((size, w), dtype=np.float32)
    sums = np.empty((size, w + WIDE), dtype=np.float32)
    weights = np.empty(w + WIDE, dtype=np.float32)
    n, p = np.empty((size, WIDE), dtype=np.float32), np.empty((size, WIDE), dtype=np.float32)
    line, other = np.empty(WIDE, dtype=np.float32), np.empty(WIDE, dtype=np.float32)
    for y in range(0, h - size + 1, step):
        for k in range(size):
            row, row2 = a[k], b[k]
            f = forward[k, 0]
            for x in range(w):
                row[x] = f * noisy[y, x]
            for x in range(w):
                row2[x] = f * pilot[y, x]
            for i in range(1, size):
                f = forward[k, i]
                for x in range(w):
                    row[x] += f * noisy[y + i, x]
                for x in range(w):
                    row2[x] += f * pilot[y + i, x]
        sums[:] = np.float32(0.0)
        weights[:] = np.float32(0.0)
        for x in range(0, w - size + 1, step):
            power = half
            for k in range(size):
                for m in range(WIDE):
                    line[m] = np.float32(0.0)
                    other[m] = np.float32(0.0)
                for j in range(size):
                    v, u = a[k, x + j], b[k, x + j]
                    for m in range(WIDE):
                        line[m] += v * across[j, m]
                    for m in range(WIDE):
                        other[m] += u * across[j, m]
                for m in range(WIDE):
                    g = other[m] * other[m]
                    g = g / (g + one)
                    p[k, m] = g
                    n[k, m] = line[m] * g
                for m in range(size):
                    power += p[k, m] * p[k, m]
            share = one / power
            for k in range(size):
                for m in range(WIDE):
                    line[m] = np.float32(0.0)
                for m in range(size):
                    v = n[k, m]
                    for j in range(WIDE):
                        line[j] += v * back[m, j]
                goal = sums[k, x : x + WIDE]
                for j in range(WIDE):
                    goal[j] += line[j] * edge[j] * share
            goal = weights[x : x + WIDE]
            for j in range(WIDE):
                goal[j] += edge[j] * share
        for i in range(size):
            row, count = total[y + i], norm[y + i]
            e = window[i]
            for x in range(w):
                count[x] += e * weights[x]
            for k in range(size):
                f = forward[k, i] * e
                for x in range(w):
                    row[x] += f * sums[k, x]
