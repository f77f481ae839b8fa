"""Where a spot is healed from: the place near by whose rim is most alike, looked for coarse to fine."""

from typing import Any

import numpy as np
from numpy.typing import NDArray

from tanner.core.jit import kernel
from tanner.core.spots.unlike import Surroundings, costs
from tanner.core.vector16 import LANES

F32 = NDArray[np.float32]
Mask = NDArray[np.bool_]
RIM = 4
"""px of the rim that is compared."""
COARSE, MOST = 14, 8
"""Px that the longer side of a coarse box has at most; by how much at most px are put together for it."""
LOOKED_INTO = 6
"""Of the best coarse places, so many are looked into px by px."""


@kernel
def box_of(mask: Mask, rim: int) -> Any:
    """Top, left, bottom, right of a mask with its rim, within the array."""
    h, w = mask.shape
    y0, x0, y1, x1 = h, w, 0, 0
    for y in range(h):
        for x in range(w):
            if mask[y, x]:
                y0, x0, y1, x1 = min(y0, y), min(x0, x), max(y1, y), max(x1, x)
    return max(0, y0 - rim), max(0, x0 - rim), min(h, y1 + rim + 1), min(w, x1 + rim + 1)


@kernel
def _planes(picture, light, colour):
    """Light, and one difference of colour: they tell places apart as well as all channels do. Flat, and more; means 0."""
    h, w, channels = picture.shape
    sums = np.zeros(2, np.float64)
    for y in range(h):
        row, above, beside = picture[y], light[y * w : y * w + w], colour[y * w : y * w + w]
        if channels == 4:
            for x in range(w):
                above[x] = (row[x, 0] + row[x, 1] + row[x, 2] + row[x, 3]) * np.float32(0.25)
                beside[x] = row[x, 0] - row[x, 3]
        else:
            for x in range(w):
                total = np.float32(0.0)
                for k in range(channels):
                    total += row[x, k]
                above[x] = total / channels
                beside[x] = row[x, 0] - row[x, channels - 1]
        # Sums of a row in single precision: what is taken off need not be the mean to the last digit.
        sums[0] += _sum(above)
        sums[1] += _sum(beside)
    a, b = np.float32(sums[0] / (h * w)), np.float32(sums[1] / (h * w))
    for k in range(h * w):
        light[k] -= a
    for k in range(h * w):
        colour[k] -= b
    light[h * w :] = 0
    colour[h * w :] = 0


@kernel
def _sum(row):
    total = np.float32(0.0)
    for x in range(len(row)):
        total += row[x]
    return total


@kernel
def _add(line, row):
    for x in range(len(line)):
        line[x] += row[x]


@kernel
def _together(plane, width, corner, by, down, across, out, line):
    """Means over squares of px of a flat plane from a corner on, one row after the other; line: float32, as long as a row."""
    share = np.float32(1.0) / (by * by)
    line = line[: across * by]
    for y in range(down):
        at = (corner[0] + y * by) * width + corner[1]
        line[:] = plane[at : at + len(line)]
        for _ in range(1, by):
            at += width
            _add(line, plane[at : at + len(line)])
        row = out[y * across : (y + 1) * across]
        row[:] = line[::by]
        for j in range(1, by):
            _add(row, line[j::by])
        for x in range(across):
            row[x] *= share


@kernel
def _taken(forbidden, hole):
    """Sums from the corner on of what must be no source, int32 (H + 1, W + 1)."""
    h, w = hole.shape
    out = np.empty((h + 1, w + 1), np.int32)
    out[0] = 0
    for y in range(h):
        first, second, last, row = forbidden[y], hole[y], out[y], out[y + 1]
        before = np.int32(0)
        row[0] = 0
        for x in range(w):
            before += np.int32(first[x] | second[x])
            row[x + 1] = last[x + 1] + before
    return out


@kernel
def _taken_together(taken, corner, by, down, across):
    """The same of squares of px in which any is taken, int32 (down + 1, across + 1)."""
    out = np.zeros((down + 1, across + 1), np.int32)
    for y in range(down):
        top, bottom = taken[corner[0] + y * by], taken[corner[0] + (y + 1) * by]
        before = np.int32(0)
        for x in range(across):
            left = corner[1] + x * by
            before += np.int32(bottom[left + by] - bottom[left] - top[left + by] + top[left] > 0)
            out[y + 1, x + 1] = out[y, x + 1] + before
    return out


@kernel
def _surroundings(weight, inner, own, width):
    """Of a box's shares of the rim and of the hole (h, w), and what is there (2, h, w), in a picture so wide."""
    n, m, size = 0, 0, weight.size
    rims, rim_at = np.empty((2, size, 2), np.float32), np.empty(size, np.int64)
    holes, hole_at = np.empty(size, np.float32), np.empty(size, np.int64)
    for y in range(weight.shape[0]):
        for x in range(weight.shape[1]):
            if weight[y, x] > 0:
                rim_at[n] = y * width + x
                for p in range(2):
                    rims[p, n, 0], rims[p, n, 1] = weight[y, x], own[p, y, x]
                n += 1
            if inner[y, x] > 0:
                hole_at[m], holes[m] = y * width + x, inner[y, x]
                m += 1
    return Surroundings(rims[:, :n].copy(), rim_at[:n], holes[:m], hole_at[:m])


@kernel
def _coarser(weight, inner, own, by):
    """A box of px put together: shares of the rim and of the hole, and what is there of the rim."""
    h, w = weight.shape
    high, wide = -(-h // by), -(-w // by)
    rim, hole, there = (
        np.zeros((high, wide), np.float32),
        np.zeros((high, wide), np.float32),
        np.zeros((2, high, wide), np.float32),
    )
    share = np.float32(1.0) / (by * by)
    for y in range(h):
        for x in range(w):
            v, u = y // by, x // by
            rim[v, u] += weight[y, x] * share
            hole[v, u] += inner[y, x] * share
            for p in range(2):
                there[p, v, u] += weight[y, x] * own[p, y, x] * share
    for p in range(2):
        for v in range(high):
            for u in range(wide):
                there[p, v, u] /= max(rim[v, u], np.float32(1e-6))
    return rim, hole, there


@kernel
def _worth_a_look(flat, squares, shape, corner, weight, inner, own, around, taken, by):
    """The best places for px put together, none beside another: int64 (N, 2) of their corners in px."""
    # Px are put together from the box's corner on, so that it falls on whole ones; what is left over at the far sides is
    # no source.
    first = corner[0] % by, corner[1] % by
    down, across = (shape[0] - first[0]) // by, (shape[1] - first[1]) // by
    planes, powers = (
        np.zeros((2, down * across + 2 * LANES), np.float32),
        np.zeros((2, down * across + 2 * LANES), np.float32),
    )
    line = np.empty(shape[1], np.float32)
    for p in range(2):
        _together(flat[p], shape[1], first, by, down, across, planes[p], line)
        _together(squares[p], shape[1], first, by, down, across, powers[p], line)
    rim, inside, there = _coarser(weight, inner, own, by)
    h, w = rim.shape
    places = np.empty((LOOKED_INTO, 2), np.int64)
    if down < h or across < w:
        return places[:0]
    box = _surroundings(rim, inside, there, across)
    clash = _taken_together(taken, first, by, down, across)
    cost = np.empty((down - h + 1, across - w + 1), np.float32)
    size = down, across, h, w
    costs(planes, powers, size, box, around, clash, (corner[0] // by, corner[1] // by), 0, 0, cost)
    n = 0
    for _ in range(LOOKED_INTO):
        sy, sx = _least(cost)
        if not np.isfinite(cost[sy, sx]):
            break
        for y in range(max(0, sy - 1), min(cost.shape[0], sy + 2)):
            for x in range(max(0, sx - 1), min(cost.shape[1], sx + 2)):
                cost[y, x] = np.inf
        places[n, 0], places[n, 1] = first[0] + sy * by, first[1] + sx * by
        n += 1
    return places[:n]


@kernel
def _least(cost):
    """Where the smallest number of (H, W) is, the first of equal ones."""
    best, by, bx = cost[0, 0], 0, 0
    for y in range(cost.shape[0]):
        for x in range(cost.shape[1]):
            if cost[y, x] < best:
                best, by, bx = cost[y, x], y, x
    return by, bx


@kernel
def _rim_of(flat, width, hole, forbidden, box):
    """Of a box of a picture: shares of the rim and of the hole, what is there, and how lively the rim is."""
    y0, x0, y1, x1 = box
    h, w = y1 - y0, x1 - x0
    weight, inner, own = np.zeros((h, w), np.float32), np.zeros((h, w), np.float32), np.empty((2, h, w), np.float32)
    total, sums = np.float32(0.0), np.zeros((2, 2), np.float32)
    for y in range(h):
        for x in range(w):
            if hole[y0 + y, x0 + x]:
                inner[y, x] = 1
            elif not forbidden[y0 + y, x0 + x]:
                weight[y, x] = 1
            total += weight[y, x]
            for p in range(2):
                own[p, y, x] = flat[p, (y0 + y) * width + x0 + x]
                sums[p, 0] += weight[y, x] * own[p, y, x]
                sums[p, 1] += weight[y, x] * own[p, y, x] * own[p, y, x]
    total = max(total, np.float32(1.0))
    return weight, inner, own, sums[:, 1] / total - (sums[:, 0] / total) ** 2


@kernel
def _pass_over(cost, starts, h, w, y, x):
    """Take a place and those that overlap half of it out of the choice; see `_chosen`."""
    for k in range(len(starts)):
        top, left = y - starts[k, 0], x - starts[k, 1]
        for v in range(max(0, top - h // 2), min(cost.shape[1], top + h // 2 + 1)):
            for u in range(max(0, left - w // 2), min(cost.shape[2], left + w // 2 + 1)):
                cost[k, v, u] = np.inf


@kernel
def _chosen(cost, starts, another, h, w, y, x):
    """The place of the least costs after some better ones, each away from those before: 1 and its y and x, 0 without one.

    Args:
        cost: float32 (N, H, W), of places from `starts` (N, 2) on; h, w: how large a place is.
        y, x: a place that is passed over besides; below 0 for none.
    """
    if y >= 0:
        _pass_over(cost, starts, h, w, y, x)
    for n in range(another + 1):
        best, y, x = np.float32(np.inf), 0, 0
        for k in range(len(starts)):
            dy, dx = _least(cost[k])
            if cost[k, dy, dx] < best:
                best, y, x = cost[k, dy, dx], starts[k, 0] + dy, starts[k, 1] + dx
        if not np.isfinite(best):
            return 0, 0, 0
        if n == another:
            return 1, y, x
        _pass_over(cost, starts, h, w, y, x)
    return 0, 0, 0


@kernel
def _found(picture, hole, forbidden, another, passed, dy, dx):
    """See `best_source`; three whole numbers, the first of which is 0 where there is none."""
    y0, x0, y1, x1 = box_of(hole, RIM)
    h, w = y1 - y0, x1 - x0
    shape = picture.shape[0], picture.shape[1]
    if h < 1 or w < 1 or h > shape[0] or w > shape[1]:
        return 0, 0, 0
    flat = np.empty((2, shape[0] * shape[1] + 2 * LANES), np.float32)
    _planes(picture, flat[0], flat[1])
    squares = flat * flat
    weight, inner, own, around = _rim_of(flat, shape[1], hole, forbidden, (y0, x0, y1, x1))
    if weight.sum() < 4:
        return 0, 0, 0
    taken = _taken(forbidden, hole)
    by = 1
    while by < MOST and max(h, w) > COARSE * by:
        by *= 2
    places = np.zeros((0, 2), np.int64)
    reach = 0
    # Where there is little room, coarse places meet what is taken though some fine ones do not.
    while by > 1 and len(places) == 0:
        places = _worth_a_look(flat, squares, shape, (y0, x0), weight, inner, own, around, taken, by)
        reach = by
        by //= 2
    down, across = shape[0] - h + 1, shape[1] - w + 1
    box = _surroundings(weight, inner, own, shape[1])
    size = shape[0], shape[1], h, w
    # Costs of each place that is worth a look and of those around it, else of all.
    few = len(places) > 0
    starts, ends = np.zeros((max(1, len(places)), 2), np.int64), np.zeros((max(1, len(places)), 2), np.int64)
    ends[0] = down, across
    for k in range(len(places)):
        for d in range(2):
            starts[k, d] = max(0, places[k, d] - reach)
            ends[k, d] = min((down, across)[d], places[k, d] + reach + 1)
    cost = np.full((len(starts), 2 * reach + 1 if few else down, 2 * reach + 1 if few else across), np.inf, np.float32)
    for k in range(len(starts)):
        part = cost[k, : max(0, ends[k, 0] - starts[k, 0]), : max(0, ends[k, 1] - starts[k, 1])]
        costs(flat, squares, size, box, around, taken, (y0, x0), starts[k, 0], starts[k, 1], part)
    y, x = (y0 + dy, x0 + dx) if passed else (-1, -1)
    found, y, x = _chosen(cost, starts, another, h, w, y, x)
    return found, x - x0, y - y0


def best_source(
    picture: F32, hole: Mask, forbidden: Mask, another: int = 0, passed: tuple[int, int] | None = None
) -> tuple[int, int] | None:
    """How far off (dx, dy) the place lies whose rim is most like a hole's; None where there is none.

    Args:
        picture: (h, w, channels); hole, forbidden: (h, w), px to be healed, and those that no source may touch.
        another: how many better ones are passed over, each away from those before; passed: one (dx, dy) that is besides.
    """
    x, y = passed or (0, 0)
    found, dx, dy = _found(picture, hole, forbidden, another, passed is not None, y, x)
    return (dx, dy) if found else None
