"""The innermost part of resampling, sixteen px at a time (see `tanner.core.vector16` for why it is written out).

`cells` finds where sixteen runs of a row lie; a run then goes first down the columns of the plane, along the line on which its
positions lie, and then along that line. The columns' values stay in registers between the two.
"""

from itertools import pairwise
from typing import Any

from tanner.core.jit import cgutils, intrinsic, types
from tanner.core.vector16 import (
    LANES,
    Lanes,
    Shelf,
    alike,
    array,
    choose,
    count,
    floats,
    load,
    moved,
    shifted,
    spread,
    store,
    store_some,
    whole,
)

SPAN = 24
"""Columns of the plane that a run reads: three on either side of its pixels, and one for those that passed the next column."""
REACH, FAR = 32, 48
"""The same for a run whose positions advance by anything from a half to one and a half px, and by up to two and a quarter."""


def _weighed(g: Lanes, taps: list[Lanes], p: list[Any]) -> Lanes:
    """Six taps weighed by Lanczos' kernel, g from the middle between the third and the fourth.

    The outer taps, the next and the inner ones have each an even and an odd polynomial of g (see `resample.lanczos`).
    """
    x = g * g
    even = odd = None
    for k in range(3):
        e, o = p[6 * k : 6 * k + 3], p[6 * k + 3 : 6 * k + 6]
        both, change = taps[k] + taps[5 - k], taps[k] - taps[5 - k]
        a = ((x * e[2] + e[1]) * x + e[0]) * both
        b = ((x * o[2] + o[1]) * x + o[0]) * change
        even, odd = a if even is None else even + a, b if odd is None else odd + b
    assert even is not None and odd is not None
    return odd * g + even


def _passing(f: Lanes, taps: list[Lanes], p: list[Any]) -> Lanes:
    """Of seven taps six: those from the second on where a position lies beyond the next one."""
    passed = f >= 1.0
    return _weighed(choose(passed, f - 1.5, f - 0.5), [choose(passed, b, a) for a, b in pairwise(taps)], p)


def _run_of(reach: int) -> Any:
    """A run whose positions lie within some columns of the plane."""

    @intrinsic
    def run(typingctx, plane, place, v, slope, polynomials, u, du, gain, gain_step, out, at, keep):  # type: ignore[no-untyped-def]
        """Sixteen px of one plane.

        Args:
            plane: float32 (rows, columns), contiguous; place: where its first column and row begin in it.
            v: of the first column how far it lies below the third row; slope: by how much each further one lies lower.
            polynomials: 18 float32, see `resample.lanczos`.
            u: of the first px how far it lies right of the third column; du: how far on the next one lies.
            gain, gain_step: factor of the first px, and by how much each is larger than the one before.
            out: float32 array; at: where in it; keep: so many are written.
        """
        sig = types.void(plane, place, v, slope, polynomials, u, du, gain, gain_step, out, at, keep)

        def codegen(context: Any, builder: Any, signature: Any, args: Any) -> Any:
            plane, place, v, slope, polynomials, u, du, gain, gain_step, out, at, keep = args
            data, (_, wide) = array(context, builder, signature.args[0], plane)
            p = cgutils.unpack_tuple(builder, polynomials, 18)
            columns = []
            # The last vector begins before the end of the one before, so that nothing beyond the reach is read.
            for begun in range(0, reach, LANES):
                start = min(begun, reach - LANES)
                q, taps = builder.add(place, place.type(start)), []
                for _ in range(7):
                    taps.append(load(builder, data, q))
                    q = builder.add(q, wide)
                columns.append(_passing(count(builder, start) * slope + v, taps, p))
            n = count(builder)
            if reach == SPAN:
                taps = [shifted(columns[0], columns[1], 2 * LANES - SPAN, k) for k in range(7)]
                value = _passing(n * (alike(builder, du) - 1.0) + u, taps, p)
            else:
                f = n * du + u
                at_column = whole(f)
                shelf = Shelf(columns)
                taps = [shelf.at(moved(builder, at_column, k)) for k in range(6)]
                value = _weighed(f - floats(builder, at_column) - 0.5, taps, p)
            goal, _ = array(context, builder, signature.args[9], out)
            store_some(value * (n * gain_step + gain), goal, at, n < keep)
            return context.get_dummy_value()

        return sig, codegen

    return run


near_run, wide_run, far_run = _run_of(SPAN), _run_of(REACH), _run_of(FAR)
"""Runs whose positions advance by nearly one px, by up to 1.5 and by up to 2.25; see `_run_of`."""


U, V, DU, DV, GAIN, GAIN_STEP, SLOPE, LEFT, TOP, WIDE, AT, KEEP, U_IN, V_IN = range(14)
"""What describes a run, see `cells`."""
FRAME = 9
"""What describes the block, see `cells`."""


@intrinsic
def cells(typingctx, nodes, c, k, frame, out):  # type: ignore[no-untyped-def]
    """Sixteen cells of one plane of one row, along each of which the map is linear, and how a run can do them.

    Args:
        nodes: float32 (9, n), the map at the nodes of the row; c: the plane; k: the first of the cells.
        frame: float32 (FRAME,): px from the block's left side to the first cell, px of the block; px of the plane per sensor px
            and the sensor position of its corner; its rows and columns, and the columns that hold something, from and to. A run
            may read others, but not for px that are kept.
        out: float32 (14, n), of each cell: first position U and V, their steps per px, first gain and its step; slope of V over
            U; the px of the plane LEFT and TOP of all positions of a run, LEFT 0 where no run can do it; columns that are read;
            first px AT of the block and how many to KEEP; position U_IN of the first px right of LEFT, and V_IN below TOP of
            what is two columns left of LEFT.
    """
    sig = types.void(nodes, c, k, frame, out)

    def codegen(context: Any, builder: Any, signature: Any, args: Any) -> Any:
        _, c, k, _, _ = args
        (source, (_, row)), (goal, (_, high)), (about, _) = (
            array(context, builder, signature.args[n], args[n]) for n in (0, 4, 3)
        )
        start, w, inv, ox, oy, rows, cols, begin, end = (
            alike(builder, builder.load(builder.gep(about, [k.type(n)]))) for n in range(FRAME)
        )

        def node(number: Any) -> tuple[Lanes, Lanes]:
            """Values at the left of each cell, and by how much they are larger at the right."""
            at = builder.add(builder.mul(number, row), k)
            left = load(builder, source, at)
            return left, load(builder, source, builder.add(at, k.type(1))) - left

        twice = builder.mul(c, c.type(2))
        (ax, sx), (ay, sy), (ag, sg) = node(twice), node(builder.add(twice, c.type(1))), node(builder.add(c, c.type(6)))
        step = 1 / LANES
        place = (count(builder) + floats(builder, spread(builder, k))) * LANES + start
        at = place.most(0.0)
        keep = (place + float(LANES)).least(w) - at
        within = (
            at - place + 0.5
        )  # the first px lies half a px behind the node, and further where the block begins in the cell
        du, dv, dg = sx * step * inv, sy * step * inv, sg * step
        u, v, g = (ax - ox) * inv - 0.5 + within * du, (ay - oy) * inv - 0.5 + within * dv, ag + within * dg
        slope = dv / du.most(0.5)

        def all_of(first: Any, *others: Any) -> Any:
            for other in others:
                first = builder.and_(first, other)
            return first

        # Rounding must not put a position below the first tap's pixel.
        tiny, most = 0.002, 1.99
        held = all_of(u >= begin + 2.0, u + (keep - 1.0) * du <= end - 3.01, du > 0.5)
        last = u + (du - 1.0) * float(LANES - 1)
        mu = (u.least(last) - tiny).floor()
        va = v + slope * (mu - 2.0 - u)
        vb = va + slope * float(SPAN - 1)
        mv = (va.least(vb) - tiny).floor()
        near = all_of(held, u.most(last) < mu + most, va.most(vb) < mv + most)
        # What is read right of the plane is the next row's, and no px that is kept goes by it: there must be such rows.
        room = builder.or_(mu <= cols - float(SPAN - 1), mv <= rows - 8.0)
        near = all_of(near, mu >= 2.0, mv >= 2.0, mv <= rows - 6.0, room)
        # The longer run begins at its first position, whichever way the others drift.
        mw = (u - tiny).floor()
        reach = choose(du < 1.5, float(REACH), alike(builder, FAR))
        wa = v + slope * (mw - 2.0 - u)
        wb = wa + slope * (reach - 1.0)
        mx = (wa.least(wb) - tiny).floor()
        easy = all_of(
            held, du < 2.25, wa.most(wb) < mx + most, mw >= 2.0, mx >= 2.0, mx <= rows - 6.0,
            builder.or_(mw <= cols - reach + 1.0, mx <= rows - 10.0),
        )  # fmt: skip
        left, top = choose(near, mu, choose(easy, mw, 0.0)), choose(near, mv, mx)
        found = (u, v, du, dv, g, dg, slope, left, top, choose(near, float(SPAN), reach), at, keep, u - left)
        for n, lanes in enumerate((*found, choose(near, va, wa) - top)):
            store(lanes, goal, builder.add(builder.mul(k.type(n), high), k))
        return context.get_dummy_value()

    return sig, codegen
