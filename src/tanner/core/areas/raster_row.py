"""A mask on a grid along a row of px, sixteen at a time (see `tanner.core.vector16` for why it is written out).

A grid is coarser than the picture, so sixteen px lie between few of its columns, and mostly between two of its rows: these are
read once and looked up in. Where they do not, each px is looked up by itself; the numbers are the same to the bit.
"""

from collections.abc import Callable
from typing import Any

import numpy as np
from llvmlite import ir

from tanner.core.jit import cgutils, intrinsic, kernel, types
from tanner.core.vector16 import (
    FLOATS,
    LANES,
    WHOLE,
    WHOLES,
    Lanes,
    Shelf,
    alike,
    array,
    below,
    floats,
    load_some,
    moved,
    spread,
    store_some,
    whole,
    wholes,
)

Corners = list[Lanes]


def _looked_up(builder: Any, data: Any, start: Any, wide: Any, beside: Any) -> Corners:
    """The four around each px, of 32 columns of two rows from a place on."""
    kind = ir.VectorType(ir.IntType(16), LANES)

    def sixteen(place: Any) -> Lanes:
        address = builder.bitcast(builder.gep(data, [place]), kind.as_pointer())
        return floats(builder, builder.zext(builder.load(address, align=2), WHOLES))

    found = []
    for row in (start, builder.add(start, wide)):
        shelf = Shelf([sixteen(row), sixteen(builder.add(row, ir.Constant(row.type, LANES)))])
        found += [shelf.at(beside), shelf.at(moved(builder, beside, 1))]
    return found


def _one_by_one(builder: Any, data: Any, index: Any, wide: Any) -> Corners:
    one = ir.Constant(wide.type, 1)
    found = []
    for away in (ir.Constant(wide.type, 0), one, wide, builder.add(wide, one)):
        values = ir.Constant(WHOLES, ir.Undefined)
        for i in range(LANES):
            at = builder.add(builder.sext(builder.extract_element(index, WHOLE(i)), wide.type), away)
            value = builder.zext(builder.load(builder.gep(data, [at])), WHOLE)
            values = builder.insert_element(values, value, WHOLE(i))
        found.append(floats(builder, values))
    return found


@intrinsic
def _sixteen(typingctx, plane, wide, grid, u, v, out, at, keep):  # type: ignore[no-untyped-def]
    """Sixteen px of a row.

    Args:
        plane: uint16 (h * w,); wide: w; grid: eight float32, see `raster_row`.
        u, v, out: float32 arrays; at: where in them; keep: so many are read and written.
    """
    sig = types.void(plane, wide, grid, u, v, out, at, keep)

    def codegen(context: Any, builder: Any, signature: Any, args: Any) -> Any:
        plane, wide, grid, u, v, out, at, keep = args
        data, us, vs, goal = (
            array(context, builder, signature.args[n], value)[0] for n, value in ((0, plane), (3, u), (4, v), (5, out))
        )
        numbers = [alike(builder, n) for n in cgutils.unpack_tuple(builder, grid, 8)]
        mask = below(builder, keep)

        def along(places: Any, scale: Lanes, middle: Lanes, last: Lanes, most: Lanes) -> tuple[Lanes, Any]:
            """How far a px lies beyond the column or row before it, and which that is."""
            found = (load_some(builder, places, at, mask) * scale + middle).most(alike(builder, 0.0)).least(last)
            before = whole(found.least(most))
            return found - floats(builder, before), before

        (fx, x), (fy, y) = along(us, *numbers[:4]), along(vs, *numbers[4:])
        first_x, first_y = (builder.sext(builder.extract_element(k, WHOLE(0)), wide.type) for k in (x, y))
        beside = builder.sub(x, spread(builder, first_x))
        together = builder.and_(
            builder.icmp_signed("==", y, spread(builder, first_y)),
            builder.icmp_unsigned("<", beside, wholes(2 * LANES - 1)),
        )
        fits = builder.icmp_signed("<=", builder.add(first_x, ir.Constant(wide.type, 2 * LANES)), wide)
        close = builder.and_(
            fits, builder.icmp_unsigned("==", builder.bitcast(together, ir.IntType(16)), ir.IntType(16)(-1))
        )
        slots = [cgutils.alloca_once(builder, FLOATS) for _ in range(4)]

        def put(made: Callable[[], Corners]) -> None:
            for slot, value in zip(slots, made(), strict=True):
                builder.store(value.value, slot)

        with builder.if_else(close) as (then, otherwise):
            with then:
                start = builder.add(builder.mul(first_y, wide), first_x)
                put(lambda: _looked_up(builder, data, start, wide, beside))
            with otherwise:
                index = builder.add(builder.mul(y, spread(builder, wide)), x)
                put(lambda: _one_by_one(builder, data, index, wide))
        a, b, c, d = (Lanes(builder, builder.load(slot)) for slot in slots)
        above, under = a + fx * (b - a), c + fx * (d - c)
        store_some((above + fy * (under - above)) * (1 / 65535), goal, at, mask)
        return context.get_dummy_value()

    return sig, codegen


@kernel
def raster_row(p, raster, u, v, out, n):
    """A mask on a grid: p0 which, p1 and p2 from places to its px. Between its px straight lines, beyond it as at its rim."""
    plane = raster[np.int64(p[0])]
    h, w = plane.shape
    half = np.float32(0.5)
    across = p[1], np.float32(w) * half - half, np.float32(w - 1), np.float32(w - 2)
    down = p[2], np.float32(h) * half - half, np.float32(h - 1), np.float32(h - 2)
    flat = plane.reshape(-1)
    for run in range(0, n, LANES):
        _sixteen(flat, w, (*across, *down), u, v, out, run, n - run)
