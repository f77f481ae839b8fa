"""How unlike places of a picture are to a hole's own surroundings, sixteen places at a time."""

from collections.abc import Callable
from typing import Any, NamedTuple

import numpy as np
from llvmlite import ir

from tanner.core.jit import cgutils, intrinsic, kernel, types
from tanner.core.vector16 import LANES, Lanes, alike, array, load, store


class Surroundings(NamedTuple):
    """The px of a hole's box.

    Attributes:
        rims: float32 (2, N, 2), for each of two planes the share of the rim of each px that has any, and what is there.
        holes: float32 (M,), the share of the hole of each px that has any.
        rim_at, hole_at: int64, where they lie from the box's corner on in a flat plane.
    """

    rims: Any
    rim_at: Any
    holes: Any
    hole_at: Any


def _along_of(count: int) -> Any:
    """Sums over a box for some times sixteen places side by side: with two the processor need not wait for its last sum."""

    @intrinsic
    def along(typingctx, plane, squares, start, rim, rim_at, holes, hole_at, sums):  # type: ignore[no-untyped-def]
        """Of places the first of which is at `start` of flat planes; see `Surroundings`.

        Args:
            sums: float32 (4, 32): squares of differences over the rim, differences, numbers and squares over the hole.
        """
        sig = types.void(plane, squares, start, rim, rim_at, holes, hole_at, sums)

        def codegen(context: Any, builder: Any, signature: Any, args: Any) -> Any:
            start = args[2]

            def of(n: int) -> Any:
                return array(context, builder, signature.args[n], args[n])

            def put(n: int, k: int) -> Any:
                return ir.Constant(start.type, LANES * (2 * n + k))

            def summed(places: Any, many: Any, more: Callable[[Any, Any], tuple[Lanes, Lanes]], first: int) -> None:
                kept = [
                    [cgutils.alloca_once_value(builder, alike(builder, 0.0).value) for _ in range(2)]
                    for _ in range(count)
                ]
                with cgutils.for_range(builder, many) as loop:
                    at = builder.add(start, builder.load(builder.gep(places, [loop.index])))
                    for k in range(count):
                        here = builder.add(at, ir.Constant(at.type, LANES * k))
                        for place, value in zip(kept[k], more(loop.index, here), strict=True):
                            builder.store((Lanes(builder, builder.load(place)) + value).value, place)
                for k in range(count):
                    for n, place in enumerate(kept[k]):
                        store(Lanes(builder, builder.load(place)), of(7)[0], put(first + n, k))

            data, other, shares, weights = of(0)[0], of(1)[0], of(3)[0], of(5)[0]

            def of_rim(index: Any, at: Any) -> tuple[Lanes, Lanes]:
                first = builder.mul(index, ir.Constant(index.type, 2))
                share, own = (
                    builder.load(builder.gep(shares, [builder.add(first, ir.Constant(first.type, n))])) for n in (0, 1)
                )
                differs = load(builder, data, at) - own
                part = differs * share
                return part * differs, part

            def of_hole(index: Any, at: Any) -> tuple[Lanes, Lanes]:
                share = builder.load(builder.gep(weights, [index]))
                return load(builder, data, at) * share, load(builder, other, at) * share

            summed(of(4)[0], of(4)[1][0], of_rim, 0)
            summed(of(6)[0], of(6)[1][0], of_hole, 2)
            return context.get_dummy_value()

        return sig, codegen

    return along


_along, _along_twice = _along_of(1), _along_of(2)


@kernel
def costs(planes, squares, size, box, around, clash, here, y0, x0, out):
    """How unlike the boxes from (y0, x0) on are to a hole's own, for all places of `out`.

    Args:
        planes, squares: float32 (2, H * W and 32 more), planes of the picture and their squares; size: H, W and those of a box.
        box: `Surroundings`; around: (2,) how lively the hole's rim is.
        clash: int32 (H + 1, W + 1), sums from the corner on of what must be no source; here: the hole's own y, x.
    """
    width, h, w = size[1], size[2], size[3]
    far = np.float32(0.1) / max(h, w)
    sums = np.empty((4, 2 * LANES), np.float32)
    count, own = box.holes.sum(), np.zeros((2, 2), np.float32)
    for p in range(2):
        for k in range(len(box.rim_at)):
            own[p, 0] += box.rims[p, k, 0]
            own[p, 1] += box.rims[p, k, 0] * box.rims[p, k, 1]
    for row in range(out.shape[0]):
        y = y0 + row
        for start in range(0, out.shape[1], 2 * LANES):
            some = min(2 * LANES, out.shape[1] - start)
            for n in range(some):
                left = x0 + start + n
                right = left + w
                taken = clash[y + h, right] - clash[y, right] - clash[y + h, left] + clash[y, left]
                out[row, start + n] = np.float32(np.inf) if taken else np.float32(0.0)
            for p in range(2):
                total, mean = own[p]
                at = y * width + x0 + start
                if some > LANES:
                    _along_twice(planes[p], squares[p], at, box.rims[p], box.rim_at, box.holes, box.hole_at, sums)
                else:
                    _along(planes[p], squares[p], at, box.rims[p], box.rim_at, box.holes, box.hole_at, sums)
                for n in range(some):
                    off, first = sums[0, n], sums[1, n]
                    mid = sums[2, n] / count
                    # What lies inside of a source must be as lively as what is around the hole: no other speck is
                    # brought in, and no calm.
                    lively = sums[3, n] / count - mid * mid - around[p]
                    step = mid - (first + mean) / total
                    out[row, start + n] += (off - first * first / total) / total + abs(lively) + step * step
            # A place near by is better than one far off that is hardly more alike.
            for n in range(some):
                out[row, start + n] *= np.float32(1.0) + far * np.hypot(
                    np.float32(y - here[0]), np.float32(x0 + start + n - here[1])
                )
