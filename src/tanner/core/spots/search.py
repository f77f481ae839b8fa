"""Where a spot is healed from: the place near by whose rim is most alike, looked for coarse to fine."""

from typing import Any

import cv2
import numpy as np
from llvmlite import ir
from numpy.typing import NDArray

from tanner.core.jit import cgutils, intrinsic, kernel, types
from tanner.core.vector16 import LANES, Lanes, alike, array, load, store

F32 = NDArray[np.float32]
Mask = NDArray[np.bool_]
RIM = 4
"""px of the rim that is compared."""
COARSE, MOST = 14, 8
"""Px that the longer side of a coarse box has at most; by how much at most px are put together for it."""
LOOKED_INTO = 6
"""Of the best coarse places, so many are looked into px by px."""


@intrinsic
def _along(typingctx, plane, squares, start, box, offsets, sums):  # type: ignore[no-untyped-def]
    """Sums over a box for sixteen places side by side, the first of which is at `start` of flat planes.

    Args:
        box: float32 (N, 3) of its px: share of the rim, share of the hole, what is there; offsets: int64 (N,) from its corner.
        sums: float32 (64,): squares of differences over the rim, differences, numbers and squares over the hole.
    """
    sig = types.void(plane, squares, start, box, offsets, sums)

    def codegen(context: Any, builder: Any, signature: Any, args: Any) -> Any:
        plane, squares, start, box, offsets, sums = args
        data, other, shares, places, goal = (
            array(context, builder, signature.args[n], v)[0]
            for n, v in ((0, plane), (1, squares), (3, box), (4, offsets), (5, sums))
        )
        many = array(context, builder, signature.args[4], offsets)[1][0]
        kept = [cgutils.alloca_once_value(builder, alike(builder, 0.0).value) for _ in range(4)]
        with cgutils.for_range(builder, many) as loop:
            at = builder.add(start, builder.load(builder.gep(places, [loop.index])))
            first = builder.mul(loop.index, ir.Constant(loop.index.type, 3))
            rim, hole, own = (
                builder.load(builder.gep(shares, [builder.add(first, ir.Constant(first.type, n))])) for n in range(3)
            )
            line = load(builder, data, at)
            differs = line - own
            part = differs * rim
            more = part * differs, part, line * hole, load(builder, other, at) * hole
            for place, value in zip(kept, more, strict=True):
                builder.store((Lanes(builder, builder.load(place)) + value).value, place)
        for n, place in enumerate(kept):
            store(Lanes(builder, builder.load(place)), goal, ir.Constant(start.type, LANES * n))
        return context.get_dummy_value()

    return sig, codegen


@kernel
def _costs(planes, squares, size, boxes, offsets, around, clash, here, y0, x0, out):
    """How unlike the boxes from (y0, x0) on are to a hole's own, for all places of `out`.

    Args:
        planes, squares: float32 (P, H * W and 16 more), planes of the picture and their squares; size: H, W and those of a box.
        boxes: float32 (P, N, 3) and offsets: see `_along`; around: (P,) how lively the hole's rim is.
        clash: int32 (H + 1, W + 1), sums from the corner on of what must be no source; here: the hole's own y, x.
    """
    width, h, w = size[1], size[2], size[3]
    far = np.float32(0.1) / max(h, w)
    sums = np.empty(4 * LANES, np.float32)
    for row in range(out.shape[0]):
        y = y0 + row
        for start in range(0, out.shape[1], LANES):
            some = min(LANES, out.shape[1] - start)
            for n in range(some):
                left = x0 + start + n
                right = left + w
                taken = clash[y + h, right] - clash[y, right] - clash[y + h, left] + clash[y, left]
                out[row, start + n] = np.float32(np.inf) if taken else np.float32(0.0)
            for p in range(planes.shape[0]):
                total, count, own = np.float32(0.0), np.float32(0.0), np.float32(0.0)
                for k in range(boxes.shape[1]):
                    total += boxes[p, k, 0]
                    count += boxes[p, k, 1]
                    own += boxes[p, k, 0] * boxes[p, k, 2]
                _along(planes[p], squares[p], y * width + x0 + start, boxes[p], offsets, sums)
                for n in range(some):
                    off, first = sums[n], sums[LANES + n]
                    mid = sums[2 * LANES + n] / count
                    # What lies inside of a source must be as lively as what is around the hole: no other speck is
                    # brought in, and no calm.
                    lively = sums[3 * LANES + n] / count - mid * mid - around[p]
                    step = mid - (first + own) / total
                    out[row, start + n] += (off - first * first / total) / total + abs(lively) + step * step
            # A place near by is better than one far off that is hardly more alike.
            for n in range(some):
                out[row, start + n] *= np.float32(1.0) + far * np.hypot(
                    np.float32(y - here[0]), np.float32(x0 + start + n - here[1])
                )


@kernel
def _planes(picture, out):
    """Light, and one difference of colour: they tell places apart as well as all channels do. (2, h * w and more), means 0."""
    h, w, channels = picture.shape
    light, colour = np.float64(0.0), np.float64(0.0)
    n = 0
    for y in range(h):
        for x in range(w):
            total = np.float32(0.0)
            for k in range(channels):
                total += picture[y, x, k]
            out[0, n] = total / channels
            out[1, n] = picture[y, x, 0] - picture[y, x, channels - 1]
            light += out[0, n]
            colour += out[1, n]
            n += 1
    light /= n
    colour /= n
    for k in range(n):
        out[0, k] -= light
        out[1, k] -= colour


@kernel
def _together(values, by, out):
    """Means over squares of px: (P, H, W) to (P, H / by, W / by); what is left over is left out."""
    share = np.float32(1.0) / (by * by)
    for p in range(out.shape[0]):
        for y in range(out.shape[1]):
            for x in range(out.shape[2]):
                total = np.float32(0.0)
                for i in range(by):
                    for j in range(by):
                        total += values[p, y * by + i, x * by + j]
                out[p, y, x] = total * share


def _parts(values: F32, by: int) -> F32:
    out = np.empty((len(values), values.shape[1] // by, values.shape[2] // by), np.float32)
    _together(values, by, out)
    return out


def _flat(planes: F32) -> F32:
    """Planes in one row each, with room behind them for what is read sixteen at a time."""
    out = np.zeros((len(planes), planes[0].size + LANES), np.float32)
    out[:, :-LANES] = planes.reshape(len(planes), -1)
    return out


def box_of(mask: Mask, rim: int) -> tuple[int, int, int, int]:
    """Top, left, bottom, right of a mask with its rim, within the array."""
    ys, xs = np.flatnonzero(mask.any(axis=1)), np.flatnonzero(mask.any(axis=0))
    h, w = mask.shape
    return (
        max(0, int(ys[0]) - rim),
        max(0, int(xs[0]) - rim),
        min(h, int(ys[-1]) + rim + 1),
        min(w, int(xs[-1]) + rim + 1),
    )


class _SourceSearch:
    """A hole's box against all boxes of its picture, at one size of px.

    Args:
        flat, squares: planes of the picture as `_flat` has them; shape: (H, W); corner: the box's own y, x.
        weight, inner, own, around: see `_costs`; taken: (H, W), above 0 where no source may lie.
    """

    def __init__(
        self, flat: F32, squares: F32, shape: tuple[int, int], corner: tuple[int, int],
        weight: F32, inner: F32, own: F32, around: F32, taken: F32,
    ) -> None:  # fmt: skip
        self.flat, self.squares, self.shape, self.corner = flat, squares, shape, corner
        self.weight, self.inner, self.own, self.around, self.taken = weight, inner, own, around, taken
        self.clash = cv2.integral((taken > 0).astype(np.uint8))
        ys, xs = np.nonzero((weight > 0) | (inner > 0))
        self.offsets = ys * shape[1] + xs
        self.boxes = np.empty((len(own), ys.size, 3), np.float32)
        self.boxes[..., 0], self.boxes[..., 1], self.boxes[..., 2] = weight[ys, xs], inner[ys, xs], own[:, ys, xs]

    def costs(self, y0: int, x0: int, y1: int, x1: int) -> F32:
        """Of the places (y0, x0) up to, not including, (y1, x1)."""
        out = np.empty((y1 - y0, x1 - x0), np.float32)
        size = *self.shape, *self.weight.shape
        _costs(
            self.flat, self.squares, size, self.boxes, self.offsets, self.around, self.clash, self.corner, y0, x0, out
        )
        return out

    @property
    def places(self) -> tuple[int, int]:
        """How many there are, down and across."""
        return self.shape[0] - self.weight.shape[0] + 1, self.shape[1] - self.weight.shape[1] + 1


def best_source(picture: F32, hole: Mask, forbidden: Mask, another: int = 0) -> tuple[int, int] | None:
    """How far off (dx, dy) the place lies whose rim is most like a hole's; None where there is none.

    Args:
        forbidden: px that no source may touch; another: how many better ones are passed over, each away from those before.
    """
    y0, x0, y1, x1 = box_of(hole, RIM)
    here = hole[y0:y1, x0:x1]
    weight = (~here & ~forbidden[y0:y1, x0:x1]).astype(np.float32)
    h, w = here.shape
    if weight.sum() < 4 or h > picture.shape[0] or w > picture.shape[1]:
        return None
    shape = picture.shape[0], picture.shape[1]
    flat = np.zeros((2, picture.shape[0] * picture.shape[1] + LANES), np.float32)
    _planes(picture, flat)
    own = np.ascontiguousarray(flat[:, :-LANES].reshape(2, *shape)[:, y0:y1, x0:x1])
    total = weight.sum()
    around = (weight * own * own).sum(axis=(1, 2)) / total - ((weight * own).sum(axis=(1, 2)) / total) ** 2
    taken = (forbidden | hole).astype(np.float32)
    fine = _SourceSearch(flat, flat * flat, shape, (y0, x0), weight, here.astype(np.float32), own, around, taken)
    by = 1
    while by < MOST and max(h, w) > COARSE * by:
        by *= 2
    found: dict[tuple[int, int], F32] = {}
    # Where there is little room, coarse places meet what is taken though some fine ones do not.
    while by > 1 and not found:
        found = _coarse_to_fine(fine, by)
        by //= 2
    found = found or {(0, 0): fine.costs(0, 0, *fine.places)}
    for n in range(another + 1):
        least = {at: int(np.argmin(cost)) for at, cost in found.items()}
        best = min(found, key=lambda at: found[at].flat[least[at]], default=None)
        if best is None or not np.isfinite(found[best].flat[least[best]]):
            return None
        dy, dx = divmod(least[best], found[best].shape[1])
        sy, sx = best[0] + dy, best[1] + dx
        if n < another:
            for (top, left), cost in found.items():
                cost[
                    max(0, sy - h // 2 - top) : max(0, sy + h // 2 + 1 - top),
                    max(0, sx - w // 2 - left) : max(0, sx + w // 2 + 1 - left),
                ] = np.inf
    return sx - x0, sy - y0


def _coarse_to_fine(fine: _SourceSearch, by: int) -> dict[tuple[int, int], F32]:
    """Places that are worth a look px by px: from where on, and their costs."""
    h, w = fine.weight.shape
    # Px are put together from the box's corner on, so that it falls on whole ones; what is left over at the far sides is
    # no source.
    from_y, from_x = fine.corner[0] % by, fine.corner[1] % by
    high, wide = -(-h // by), -(-w // by)
    padded = np.zeros((4, high * by, wide * by), np.float32)
    padded[0, :h, :w], padded[1, :h, :w], padded[2:, :h, :w] = fine.weight, fine.inner, fine.weight * fine.own
    weight, inner, *given = _parts(padded, by)
    own = np.stack(given) / np.maximum(weight, np.float32(1e-6))
    whole = [v[:, :-LANES].reshape(2, *fine.shape) for v in (fine.flat, fine.squares)]
    planes, squares, taken = (_parts(v[:, from_y:, from_x:], by) for v in (*whole, fine.taken[None]))
    shape = planes.shape[1], planes.shape[2]
    corner = fine.corner[0] // by, fine.corner[1] // by
    coarse = _SourceSearch(_flat(planes), _flat(squares), shape, corner, weight, inner, own, fine.around, taken[0])
    down, across = coarse.places
    if down < 1 or across < 1:
        return {}
    cost = coarse.costs(0, 0, down, across)
    found = {}
    for _ in range(LOOKED_INTO):
        sy, sx = divmod(int(np.argmin(cost)), across)
        if not np.isfinite(cost[sy, sx]):
            break
        # None beside one that is looked into already.
        cost[max(0, sy - 1) : sy + 2, max(0, sx - 1) : sx + 2] = np.inf
        y, x = from_y + sy * by, from_x + sx * by
        first = max(0, y - by), max(0, x - by)
        last = min(fine.places[0], y + by + 1), min(fine.places[1], x + by + 1)
        if last[0] > first[0] and last[1] > first[1]:
            found[first] = fine.costs(*first, *last)
    return found
