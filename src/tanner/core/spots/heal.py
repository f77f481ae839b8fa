"""Healing in the gradient domain, on small float32 pictures (h, w, channels) of any range.

Healing takes the place near by whose rim is most alike, and spreads what the two rims differ by smoothly over it: the solution
of Laplace's equation (source: perez2003).
"""

import numpy as np
from numpy.typing import NDArray

from tanner.core.jit import kernel
from tanner.core.spots.search import RIM, box_of

F32 = NDArray[np.float32]
Mask = NDArray[np.bool_]
Box = tuple[int, int, int, int]
REACH, GROW = 3.0, 1
"""How far off a source may lie, in sizes of the spot; px that a hole is grown by."""
_FOUR = 4
"""Channels that kernels go through: as many as a vector of the smallest kind holds; a picture of fewer gets empty ones."""


@kernel
def _relax(f, inside, rounds, omega):
    """Rounds of over-relaxation on (h, w, 4), in which every px inside nears the mean of its four neighbours."""
    h, w = inside.shape
    places, count = np.empty((2, h * w), np.int64), np.zeros(2, np.int64)
    for y in range(1, h - 1):
        for x in range(1, w - 1):
            if inside[y, x]:
                parity = (y + x) % 2
                places[parity, count[parity]] = y * w + x
                count[parity] += 1
    flat = f.reshape(h * w, _FOUR)
    for _ in range(rounds):
        for parity in range(2):
            for n in range(count[parity]):
                at = places[parity, n]
                for k in range(_FOUR):
                    mean = np.float32(0.25) * (flat[at - w, k] + flat[at + w, k] + flat[at - 1, k] + flat[at + 1, k])
                    flat[at, k] += omega * (mean - flat[at, k])


@kernel
def _halved(f, inside):
    """Means of two by two px without those inside, and where none is without; the border is never inside."""
    h, w = inside.shape
    high, wide = (h + 1) // 2, (w + 1) // 2
    small, hole = np.zeros((high, wide, _FOUR), np.float32), np.zeros((high, wide), np.bool_)
    for y in range(high):
        for x in range(wide):
            count = 0
            for i in range(2 * y, min(h, 2 * y + 2)):
                for j in range(2 * x, min(w, 2 * x + 2)):
                    if not inside[i, j]:
                        count += 1
                        for k in range(_FOUR):
                            small[y, x, k] += f[i, j, k]
            for k in range(_FOUR):
                small[y, x, k] /= np.float32(max(count, 1))
            hole[y, x] = count == 0 and 0 < y < high - 1 and 0 < x < wide - 1
    return small, hole


@kernel
def _doubled(small, inside, f):
    """Fill px inside from a picture of half the size, linearly between its px."""
    high, wide = small.shape[0], small.shape[1]
    quarter = np.float32(0.25)
    for y in range(inside.shape[0]):
        # The middle of a px lies a quarter of a larger one off that one's own middle.
        near_y = y // 2
        far_y = min(max(near_y + (1 if y % 2 else -1), 0), high - 1)
        for x in range(inside.shape[1]):
            if inside[y, x]:
                near_x = x // 2
                far_x = min(max(near_x + (1 if x % 2 else -1), 0), wide - 1)
                for k in range(_FOUR):
                    near = small[near_y, near_x, k] + quarter * (small[near_y, far_x, k] - small[near_y, near_x, k])
                    far = small[far_y, near_x, k] + quarter * (small[far_y, far_x, k] - small[far_y, near_x, k])
                    f[y, x, k] = near + quarter * (far - near)


@kernel
def _spread(f, inside):
    """`membrane` in place, on (h, w, 4)."""
    fs, holes = [f], [inside]
    while min(holes[-1].shape) > 12 and holes[-1].sum() > 48:
        small, hole = _halved(fs[-1], holes[-1])
        fs.append(small)
        holes.append(hole)
    last, hole = fs[-1], holes[-1]
    for k in range(_FOUR):
        total, count = np.float64(0.0), 0
        for y in range(hole.shape[0]):
            for x in range(hole.shape[1]):
                if not hole[y, x]:
                    total += last[y, x, k]
                    count += 1
        mean = np.float32(total / max(count, 1))
        for y in range(hole.shape[0]):
            for x in range(hole.shape[1]):
                if hole[y, x]:
                    last[y, x, k] = mean
    _relax(last, hole, 160, np.float32(1.7))
    for n in range(len(fs) - 2, -1, -1):
        _doubled(fs[n + 1], holes[n], fs[n])
        _relax(fs[n], holes[n], 24, np.float32(1.3))


def membrane(values: F32, inside: Mask) -> F32:
    """A smooth continuation of values (h, w, c) into a hole, coarse to fine; the border of the array is never inside."""
    f = np.zeros((*inside.shape, _FOUR), np.float32)
    f[..., : values.shape[2]] = values
    _spread(f, inside)
    return np.ascontiguousarray(f[..., : values.shape[2]])


@kernel
def _noise(target, inside):
    """The deviation of what is finer than three px, over all px that are not inside; (h, w, 4)."""
    h, w = inside.shape
    total, count = np.float64(0.0), 0
    for y in range(h):
        for x in range(w):
            if inside[y, x]:
                continue
            count += 1
            for k in range(_FOUR):
                around = np.float32(0.0)
                for i in range(y - 1, y + 2):
                    v = min(abs(i), h - 1) if i < h else max(2 * h - 2 - i, 0)
                    for j in range(x - 1, x + 2):
                        u = min(abs(j), w - 1) if j < w else max(2 * w - 2 - j, 0)
                        around += target[v, u, k]
                fine = target[y, x, k] - around / np.float32(9.0)
                total += fine * fine
    return np.sqrt(total / max(_FOUR * count, 1))


@kernel
def _joined(target, inside, there, anything):
    """A box (h, w, 4) healed from another one, or from around alone; and the step left at its rim, see `healed`."""
    h, w = inside.shape
    differs = target - there if anything else target.copy()
    rim, left = np.zeros(_FOUR, np.float64), np.float64(0.0)
    count = 0
    for y in range(h):
        for x in range(w):
            if not inside[y, x]:
                count += 1
                for k in range(_FOUR):
                    rim[k] += differs[y, x, k]
    rim /= max(count, 1)
    for y in range(h):
        for x in range(w):
            if not inside[y, x]:
                for k in range(_FOUR):
                    left += (differs[y, x, k] - rim[k]) ** 2
    _spread(differs, inside)
    for y in range(h):
        for x in range(w):
            for k in range(_FOUR):
                if not inside[y, x]:
                    differs[y, x, k] = target[y, x, k]
                elif anything:
                    differs[y, x, k] += there[y, x, k]
    step = np.sqrt(left / max(_FOUR * count, 1)) if anything else 0.0
    return differs, step / max(2.2 * _noise(target, inside), 1e-6)


@kernel
def _box(picture, box, by):
    """A box of a picture (h, w, c) from (dx, dy) off as (h, w, 4); beyond the picture its border goes on."""
    y0, x0, y1, x1 = box
    out = np.zeros((y1 - y0, x1 - x0, _FOUR), np.float32)
    for y in range(y1 - y0):
        v = min(max(y0 + y + by[1], 0), picture.shape[0] - 1)
        for x in range(x1 - x0):
            u = min(max(x0 + x + by[0], 0), picture.shape[1] - 1)
            for k in range(picture.shape[2]):
                out[y, x, k] = picture[v, u, k]
    return out


@kernel
def _healed(picture, other, hole, anything, by):
    box = box_of(hole, RIM)
    y0, x0, y1, x1 = box
    inside = hole[y0:y1, x0:x1].copy()
    inside[0], inside[-1], inside[:, 0], inside[:, -1] = False, False, False, False
    target = _box(picture, box, (0, 0))
    new, step = _joined(target, inside, _box(other, box, by) if anything else target, anything)
    return box, new, step


def healed_box(picture: F32, hole: Mask, by: tuple[int, int] | None) -> tuple[Box, F32, float]:
    """A hole healed from a place (dx, dy) off, or by its surroundings alone; and the step that is left at its rim.

    The step is the deviation of what the two rims differ by, over that of the rim's own finest differences: about 1 is no seam.

    Returns:
        Top, left, bottom and right of the box around the hole, the box healed (h, w, c), and the step.
    """
    box, new, step = _healed(picture, picture, hole, by is not None, by or (0, 0))
    return box, new[..., : picture.shape[2]], step


def healed_from(picture: F32, hole: Mask, there: F32) -> tuple[Box, F32, float]:
    """As `healed_box`, from another picture of the same px, whose light is first made that of the rim."""
    y0, x0, y1, x1 = box_of(hole, RIM)
    rim = ~hole[y0:y1, x0:x1]
    other = there[y0:y1, x0:x1]
    gain = picture[y0:y1, x0:x1][rim].mean(axis=0) / np.maximum(other[rim].mean(axis=0), 1e-6) if rim.any() else 1.0
    lit = np.array(there)
    lit[y0:y1, x0:x1] = (other * np.clip(gain, 0.1, 10.0)).astype(np.float32)
    box, new, step = _healed(picture, lit, hole, True, (0, 0))
    return box, new[..., : picture.shape[2]], step
