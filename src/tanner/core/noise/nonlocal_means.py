"""Kernels of the non-local mean over tiles: each is averaged with those whose surroundings look alike."""

import numpy as np
from numpy.typing import NDArray

from tanner.core.jit import kernel

F32 = NDArray[np.float32]
NEAR, FAR = 4, 7
"""Tiles up to which every offset is looked at, and every second one."""
COLUMNS = 512
"""Columns that are worked on together: their differences stay in the cache while the offsets go by."""
PLANES = 4


def averaged(noisy: F32, reach: int, base: float, width: float) -> F32:
    """Weighted means of planes (n, h, w), PLANES of them at most.

    The weight of a tile falls with the distance of its surroundings, d = mean squared difference over 3 x 3 tiles and all
    planes: (1 - max(d - base, 0) / width)^2, 0 beyond.

    Args:
        reach: tiles that are looked at to each side.
        base: distance that noise alone makes; width: beyond it, where weights end.
    """
    # Offsets from beside a block reach over its sides twice as far.
    pad = 2 * reach + 1
    count = len(noisy)
    padded = np.pad(noisy, ((0, 0), (0, 0), (pad, pad)), mode="edge")
    if count < PLANES:
        # Sensors without a mosaic have fewer planes; those that are nothing differ nowhere.
        padded = np.concatenate([padded, np.zeros((PLANES - count, *padded.shape[1:]), np.float32)])
    total = np.empty((PLANES + 1, *padded.shape[1:]), np.float32)
    _sums(padded, pad, reach, 9 * count, np.float32(base), np.float32(width), total)
    inner = total[:, :, pad:-pad]
    means: F32 = inner[:count] / inner[PLANES]
    return means


@kernel
def _sums(noisy, pad, reach, values, base, width, total):
    """Fill the total (PLANES + 1, h, w) with weighted sums of the planes (PLANES, h, w), and with the weights' own.

    Each pair of tiles is weighed once, by the mean over so many values, and each of the two is added to the other. Columns of
    `pad` on both sides are there to be read only.
    """
    h, w = noisy.shape[1], noisy.shape[2] - 2 * pad
    count = np.float32(values)
    inv = np.float32(1.0) / (np.float32(width) * count)
    low = np.float32(base) * count
    one, zero = np.float32(1.0), np.float32(0.0)
    most = 2 * reach + 1
    diff = np.empty(COLUMNS + 2, dtype=np.float32)
    ring = np.empty((most, 3, COLUMNS), dtype=np.float32)  # of each dx, sums over three columns of three rows
    weights = np.zeros((4, COLUMNS + 2 * pad), dtype=np.float32)  # of four offsets, with nothing beside them
    offsets = np.zeros(most + 3, dtype=np.int64)
    total[:PLANES] = noisy
    total[PLANES] = one
    for left in range(pad, pad + w, COLUMNS):
        n = min(COLUMNS, pad + w - left)
        for dy in range(reach + 1):
            many = 0
            for dx in range(-reach, reach + 1):
                if dy == 0 and dx <= 0:
                    continue
                # Far tiles are many and much alike: every second one will do, and every fourth.
                if (max(abs(dx), dy) > NEAR and (dx + dy) % 2) or (max(abs(dx), dy) > FAR and dx % 2):
                    continue
                offsets[many] = dx
                many += 1
            for y in range(-2, h - dy):
                # Squared differences of the row below, between each tile and those that lie by the offsets beside it.
                new = y + 1
                row = min(max(new, 0), h - 1)
                far = min(row + dy, h - 1)
                for k in range(many):
                    dx = offsets[k]
                    a0, b0 = noisy[0, row, left - 1 : left + n + 1], noisy[0, far, left - 1 + dx : left + n + 1 + dx]
                    a1, b1 = noisy[1, row, left - 1 : left + n + 1], noisy[1, far, left - 1 + dx : left + n + 1 + dx]
                    a2, b2 = noisy[2, row, left - 1 : left + n + 1], noisy[2, far, left - 1 + dx : left + n + 1 + dx]
                    a3, b3 = noisy[3, row, left - 1 : left + n + 1], noisy[3, far, left - 1 + dx : left + n + 1 + dx]
                    for x in range(n + 2):
                        d0 = a0[x] - b0[x]
                        d1 = a1[x] - b1[x]
                        d2 = a2[x] - b2[x]
                        d3 = a3[x] - b3[x]
                        diff[x] = d0 * d0 + d1 * d1 + d2 * d2 + d3 * d3
                    goal = ring[k, new % 3]
                    for x in range(n):
                        goal[x] = diff[x] + diff[x + 1] + diff[x + 2]
                if y < 0:
                    continue
                for first in range(0, many, 4):
                    for j in range(4):
                        line = weights[j]
                        k = first + j
                        if k >= many:
                            line[:] = zero
                            offsets[k] = 0
                            continue
                        dx = offsets[k]
                        r0, r1, r2 = ring[k, 0], ring[k, 1], ring[k, 2]
                        mine = line[pad : pad + n]
                        for x in range(n):
                            t = max(one - max(r0[x] + r1[x] + r2[x] - low, zero) * inv, zero)
                            mine[x] = t * t
                        # Nothing lies beyond the sides.
                        for x in range(max(0, min(n, pad + w - dx - left)), n):
                            mine[x] = zero
                        for x in range(min(n, pad - dx - left)):
                            mine[x] = zero
                        for x in range(pad + n, COLUMNS + 2 * pad):
                            line[x] = zero
                    e0, e1, e2, e3 = offsets[first], offsets[first + 1], offsets[first + 2], offsets[first + 3]
                    w0, w1 = weights[0, pad : pad + n], weights[1, pad : pad + n]
                    w2, w3 = weights[2, pad : pad + n], weights[3, pad : pad + n]
                    goal = total[PLANES, y, left : left + n]
                    for x in range(n):
                        goal[x] += w0[x] + w1[x] + w2[x] + w3[x]
                    for c in range(PLANES):
                        goal = total[c, y, left : left + n]
                        v0 = noisy[c, y + dy, left + e0 : left + e0 + n]
                        v1 = noisy[c, y + dy, left + e1 : left + e1 + n]
                        v2 = noisy[c, y + dy, left + e2 : left + e2 + n]
                        v3 = noisy[c, y + dy, left + e3 : left + e3 + n]
                        for x in range(n):
                            goal[x] += w0[x] * v0[x] + w1[x] * v1[x] + w2[x] * v2[x] + w3[x] * v3[x]
                    # The same pairs seen from the other tile, which may lie beside the block.
                    m = n + 2 * reach
                    o = pad - reach
                    w0, w1 = weights[0, o - e0 : o - e0 + m], weights[1, o - e1 : o - e1 + m]
                    w2, w3 = weights[2, o - e2 : o - e2 + m], weights[3, o - e3 : o - e3 + m]
                    s = left - reach
                    goal = total[PLANES, y + dy, s : s + m]
                    for x in range(m):
                        goal[x] += w0[x] + w1[x] + w2[x] + w3[x]
                    for c in range(PLANES):
                        goal = total[c, y + dy, s : s + m]
                        v0 = noisy[c, y, s - e0 : s - e0 + m]
                        v1 = noisy[c, y, s - e1 : s - e1 + m]
                        v2 = noisy[c, y, s - e2 : s - e2 + m]
                        v3 = noisy[c, y, s - e3 : s - e3 + m]
                        for x in range(m):
                            goal[x] += w0[x] * v0[x] + w1[x] * v1[x] + w2[x] * v2[x] + w3[x] * v3[x]


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
