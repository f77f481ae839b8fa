"""Hue, saturation and value, and cells of tables between them: the inner parts of `table`, in vectors (see `tanner.core.vector16`).

A run of pixels goes through three steps, between which it stands in work rows: `enter` finds its cells, `look_up` what they
say, and `leave` changes it by that. The first and the last do sixteen px at a time, no more than `keep`, from px `at` of the
rows of colours and from px `on` of the work rows.
"""

from typing import Any

from tanner.core.jit import intrinsic, types
from tanner.core.tone.logs import power_of
from tanner.core.vector16 import (
    LANES,
    WHOLE,
    Lanes,
    alike,
    array,
    below,
    choose,
    every,
    floats,
    load,
    load_some,
    part,
    spread,
    store,
    store_some,
    store_whole,
    whole,
    wholes,
)

CELL = 4
"""Numbers of a cell: hue shift, saturation factor, value factor, and one that fills it up to what is read at once."""
H, S, V, ALONG, F_HUE, F_SAT, F_VAL, PLACE, FOUND = range(9)
"""Work rows: hue, saturation, value, value in sRGB encoding, shares of the next hue, saturation and value, the first cell (as
int32); from FOUND on CELL numbers for each px."""
WORK = FOUND + CELL


def _hues(x: Lanes, y: Lanes, z: Lanes) -> tuple[Lanes, Lanes, Lanes]:
    """Hue (0 to 6), saturation and value of linear values from 0 on."""
    top, low = x.most(y.most(z)), x.least(y.least(z))
    d = top - low
    # One division for both ratios.
    some, most = d.most(1e-12), top.most(1e-12)
    both = alike(x.builder, 1.0) / (some * most)
    inv = both * most
    hue = choose(y >= top, (z - x) * inv + 2.0, (x - y) * inv + 4.0)
    hue = choose(x >= top, (y - z) * inv, hue)
    hue = choose(hue < 0.0, hue + 6.0, hue)
    return choose(d > 1e-12, hue, 0.0), d * (both * some), top


def _encoded(v: Lanes) -> Lanes:
    """The sRGB curve on values from 0 on; those above 1 count as 1."""
    held = v.least(1.0)
    return choose(held <= 0.0031308, held * 12.92, power_of(held, 1 / 2.4) * 1.055 - 0.055)


def _decoded(e: Lanes) -> Lanes:
    """The other way, beyond 1 too."""
    return choose(e <= 0.04045, e * (1 / 12.92), power_of((e + 0.055) * (1 / 1.055), 2.4))


def _enter(deep: bool, srgb: bool) -> Any:
    @intrinsic
    def enter(typingctx, r, g, b, size, rows, at, on, keep):  # type: ignore[no-untyped-def]
        """Hue, saturation and value of linear values; the first cell of each px, and its shares of the next ones.

        Args:
            size: int32, see `table.packed`; rows: float32 (WORK, n), see H to FOUND.
        """
        sig = types.void(r, g, b, size, rows, at, on, keep)

        def codegen(context: Any, builder: Any, signature: Any, args: Any) -> Any:
            arrays = [array(context, builder, signature.args[n], args[n]) for n in range(5)]
            sizes, (work, (_, row)) = arrays[3][0], arrays[4]
            at, on, keep = args[5:]
            mask = below(builder, keep)

            def put(number: int, lanes: Lanes) -> None:
                store(lanes, work, builder.add(builder.mul(row, at.type(number)), on))

            many = [
                spread(builder, builder.sext(builder.load(builder.gep(sizes, [at.type(n)])), at.type)) for n in range(3)
            ]
            hues, sats, vals = (floats(builder, m) for m in many)
            h, s, v = _hues(*(load_some(builder, a[0], at, mask).most(0.0) for a in arrays[:3]))
            put(H, h)
            put(S, s)
            put(V, v)

            def cell(place: Lanes, most: Lanes, number: int) -> Any:
                """The whole place, not beyond the last cell that has a next one; the share goes to its row."""
                first = whole(place.least(most).most(0.0))
                put(number, place - floats(builder, first))
                return first

            found = cell(h * (hues * (1 / 6)), hues - 1.0, F_HUE)
            found = builder.mul(found, many[1])
            found = builder.add(found, cell(s.least(1.0) * (sats - 1.0), sats - 2.0, F_SAT))
            along = _encoded(v) if srgb else v
            if srgb:
                put(ALONG, along)
            if deep:
                level = builder.mul(builder.add(many[0], spread(builder, at.type(1))), many[1])
                which = cell(along.most(0.0).least(1.0) * (vals - 1.0), vals - 2.0, F_VAL)
                found = builder.add(found, builder.mul(which, level))
            # Where the cell's numbers begin. Px beyond the last are looked up as well, as black.
            store_whole(
                builder, builder.mul(found, wholes(CELL)), work, builder.add(builder.mul(row, at.type(PLACE)), on)
            )
            return context.get_dummy_value()

        return sig, codegen

    return enter


def _look_up(deep: bool) -> Any:
    @intrinsic
    def look_up(typingctx, cells, sats, level, rows, on):  # type: ignore[no-untyped-def]
        """What the cells of sixteen px say: between four of them, or eight in a table with values.

        A cell and the next one in saturation are read at once, and all their numbers are weighed together.

        Args:
            cells: float32, contiguous, cells of CELL; sats, level: cells to the next hue, and to the next value.
            rows: float32 (WORK, n), see H to FOUND.
        """
        sig = types.void(cells, sats, level, rows, on)

        def codegen(context: Any, builder: Any, signature: Any, args: Any) -> Any:
            cells, sats, level, rows, on = args
            data, _ = array(context, builder, signature.args[0], cells)
            work, (_, row) = array(context, builder, signature.args[3], rows)
            number = on.type
            # The four first cells, or two, from where each is counted: nothing is added for a px but where its own begins.
            steps = [number(0), builder.mul(sats, number(CELL))]
            if deep:
                steps += [builder.add(builder.mul(level, number(CELL)), step) for step in steps]
            bases = [builder.gep(data, [step]) for step in steps]
            at = {
                n: builder.gep(work, [builder.add(builder.mul(row, number(n)), on)])
                for n in (F_HUE, F_SAT, F_VAL, PLACE)
            }
            goal = builder.gep(work, [builder.add(builder.mul(row, number(FOUND)), builder.mul(on, number(CELL)))])

            def one_of(n: int, px: int) -> Any:
                return builder.load(builder.gep(at[n], [number(px)]))

            for px in range(LANES):
                where = builder.zext(builder.bitcast(one_of(PLACE, px), WHOLE), number)
                pairs = [load(builder, base, where, 2 * CELL) for base in bases]
                share = alike(builder, one_of(F_HUE, px), 2 * CELL)
                both = pairs[0] + share * (pairs[1] - pairs[0])
                if deep:
                    above = pairs[2] + share * (pairs[3] - pairs[2])
                    both = both + alike(builder, one_of(F_VAL, px), 2 * CELL) * (above - both)
                one, other = part(both, 0, CELL), part(both, CELL, CELL)
                store(one + alike(builder, one_of(F_SAT, px), CELL) * (other - one), goal, number(CELL * px))
            return context.get_dummy_value()

        return sig, codegen

    return look_up


def _leave(srgb: bool) -> Any:
    @intrinsic
    def leave(typingctx, rows, gain, r, g, b, at, on, keep):  # type: ignore[no-untyped-def]
        """Hue, saturation and value changed by what was found, and a gain, as linear values again."""
        sig = types.void(rows, gain, r, g, b, at, on, keep)

        def codegen(context: Any, builder: Any, signature: Any, args: Any) -> Any:
            work, (_, row) = array(context, builder, signature.args[0], args[0])
            gain, (at, on, keep) = alike(builder, args[1]), args[5:]
            mask = below(builder, keep)

            def held(number: int) -> Lanes:
                return load(builder, work, builder.add(builder.mul(row, at.type(number)), on))

            place = builder.add(builder.mul(row, at.type(FOUND)), builder.mul(on, at.type(CELL)))
            numbers = [load(builder, work, builder.add(place, at.type(LANES * n))) for n in range(CELL)]
            shift, more, factor = (every(CELL, numbers, n) for n in range(3))
            hue = held(H) + shift
            hue = choose(hue < 0.0, hue + 6.0, hue)
            hue = choose(hue >= 6.0, hue - 6.0, hue)
            saturation, value = (held(S) * more).least(1.0), held(V)
            if srgb:
                # Beyond 1 a value keeps the ratio that the end of the axis has.
                found = _decoded(held(ALONG) * factor).most(0.0)
                value = choose(value > 1.0, found * value, found.least(1.0)) * gain
            else:
                value = (value * factor).most(0.0) * gain
            c = value * saturation
            for turn, n in zip((5.0, 3.0, 1.0), (2, 3, 4), strict=True):
                k = hue + turn
                k = choose(k >= 6.0, k - 6.0, k)
                share = k.least(alike(builder, 4.0) - k).least(1.0).most(0.0)
                row_of, _ = array(context, builder, signature.args[n], args[n])
                store_some(value - c * share, row_of, at, mask)
            return context.get_dummy_value()

        return sig, codegen

    return leave


enter, enter_deep, enter_srgb, enter_srgb_deep = (
    _enter(deep, srgb) for srgb in (False, True) for deep in (False, True)
)
look_up, look_up_deep = _look_up(False), _look_up(True)
leave, leave_srgb = _leave(False), _leave(True)
"""For tables whose value axis has more than one step (deep), or runs in sRGB-encoded values; see `_enter`, `_look_up`, `_leave`."""
