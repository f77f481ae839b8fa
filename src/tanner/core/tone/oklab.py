"""Oklab and cells of tables in it, in vectors (see `tanner.core.vector16`): the inner parts of the mixer.

As in `hues`, a run of px goes through three steps, between which it stands in the same work rows: `enter` finds the cells of
sixteen px, `hues.look_up_deep` what they say, and `leave` adds that and goes back.
"""

import math
from typing import Any

from llvmlite import ir

from tanner.core.jit import intrinsic, types
from tanner.core.tone.hues import CELL, F_HUE, F_SAT, F_VAL, FOUND, PLACE, H, S, V
from tanner.core.vector16 import (
    FLOATS,
    LANES,
    Lanes,
    Shelf,
    array,
    below,
    bits,
    choose,
    every,
    floats,
    from_bits,
    load,
    load_some,
    magnitude,
    mixed,
    store,
    store_some,
    store_whole,
    whole,
    wholes,
)

LIGHTS, CHROMAS, HUES = 25, 25, 72
"""Points of a table along lightness, chroma and hue."""
MOST = 0.4
"""Chroma at the table's end; beyond it what is added stays the same."""
# Source: ottosson2020.
TO_LAB = (
    (0.2104542553, 0.7936177850, -0.0040720468),
    (1.9779984951, -2.4285922050, 0.4505937099),
    (0.0259040371, 0.7827717662, -0.8086757660),
)
FROM_LAB = ((0.3963377774, 0.2158037573), (-0.1055613458, -0.0638541728), (-0.0894841775, -1.2914855480))


def cube_root(v: Lanes) -> Lanes:
    """Without a division: the inverse root by a guess from the exponent's bits and three of Newton's steps, then v times its square.

    Relative error below 0.0000005 (the guess's constant from memory; what it leads to is tested).
    """
    builder, x = v.builder, magnitude(v)
    held = x.most(1e-30)
    third = whole(floats(builder, bits(held)) * (1 / 3))
    y = from_bits(builder, builder.sub(wholes(0x54A2FA8C), third))
    part = held * (1 / 3)
    for _ in range(3):
        y = y * (y * y * y * part * -1.0 + 4 / 3)
    return v * (y * y)


def _angle(a: Lanes, b: Lanes) -> Lanes:
    """Angles of (a, b) in steps of the table's hues, from 0 on; error below 0.0002 of a step's radians.

    The arc tangent by a polynomial in the smaller over the larger (least-maximum fit, a common one; from memory).
    """
    x, y = magnitude(a), magnitude(b)
    q = x.least(y) / (x.most(y) + 1e-12)
    s = q * q
    angle = (((s * -0.0464964749 + 0.15931422) * s - 0.327622764) * s * q + q) * (HUES / (2 * math.pi))
    angle = choose(y > x, angle * -1.0 + HUES / 4, angle)
    angle = choose(a < 0.0, angle * -1.0 + HUES / 2, angle)
    return choose(b < 0.0, angle * -1.0 + float(HUES), angle)


@intrinsic
def enter(typingctx, r, g, b, cones, rows, at, on, keep):  # type: ignore[no-untyped-def]
    """Oklab of working values; the first cell of each px in a table, and its shares of the next ones.

    Args:
        cones: float32 (2, 3, 3), working space to the cone responses of Oklab, and back; rows: float32 (hues.WORK, n).
    """
    sig = types.void(r, g, b, cones, rows, at, on, keep)

    def codegen(context: Any, builder: Any, signature: Any, args: Any) -> Any:
        arrays = [array(context, builder, signature.args[n], args[n]) for n in range(5)]
        to, (work, (_, row)) = arrays[3][0], arrays[4]
        at, on, keep = args[5:]
        mask = below(builder, keep)

        def place_of(number: int) -> Any:
            return builder.add(builder.mul(row, at.type(number)), on)

        def cell(place: Lanes, last: int) -> tuple[Any, Lanes]:
            first = whole(place.least(float(last)))
            return first, floats(builder, first)

        roots = [cube_root(v) for v in mixed(to, 0, [load_some(builder, a[0], at, mask) for a in arrays[:3]])]
        light, a, b = (roots[0] * m[0] + roots[1] * m[1] + roots[2] * m[2] for m in TO_LAB)
        for number, lanes in ((H, light), (S, a), (V, b)):
            store(lanes, work, place_of(number))
        along = light.most(0.0).least(1.0) * float(LIGHTS - 1)
        i, from_i = cell(along, LIGHTS - 2)
        store(along - from_i, work, place_of(F_VAL))
        # Chroma's points lie closer to one another near grey, where colours begin: they are squares.
        root = ((a * a + b * b).root().root() * ((CHROMAS - 1) / math.sqrt(MOST))).least(float(CHROMAS - 1))
        c, from_c = cell(root, CHROMAS - 2)
        steps = [
            Lanes(builder, ir.Constant(FLOATS, [1 / (2 * n + 1) for n in range(k, k + LANES)])) for k in (0, LANES)
        ]
        store((root * root - from_c * from_c) * Shelf(steps).at(c), work, place_of(F_HUE))
        turned = _angle(a, b)
        h, from_h = cell(turned, HUES - 1)
        store(turned - from_h, work, place_of(F_SAT))
        found = builder.add(builder.mul(i, wholes(CHROMAS)), c)
        found = builder.add(builder.mul(found, wholes(HUES + 1)), h)
        store_whole(builder, builder.mul(found, wholes(CELL)), work, place_of(PLACE))
        return context.get_dummy_value()

    return sig, codegen


@intrinsic
def leave(typingctx, rows, cones, r, g, b, at, on, keep):  # type: ignore[no-untyped-def]
    """What was found is added, and Oklab becomes working values again."""
    sig = types.void(rows, cones, r, g, b, at, on, keep)

    def codegen(context: Any, builder: Any, signature: Any, args: Any) -> Any:
        work, (_, row) = array(context, builder, signature.args[0], args[0])
        back, _ = array(context, builder, signature.args[1], args[1])
        at, on, keep = args[5:]
        mask = below(builder, keep)
        place = builder.add(builder.mul(row, at.type(FOUND)), builder.mul(on, at.type(CELL)))
        numbers = [load(builder, work, builder.add(place, at.type(LANES * n))) for n in range(CELL)]
        light, a, b = (
            load(builder, work, builder.add(builder.mul(row, at.type(number)), on)) + every(CELL, numbers, n)
            for n, number in enumerate((H, S, V))
        )
        roots = [light + a * m[0] + b * m[1] for m in FROM_LAB]
        for n, value in enumerate(mixed(back, 9, [x * x * x for x in roots])):
            colour, _ = array(context, builder, signature.args[2 + n], args[2 + n])
            store_some(value, colour, at, mask)
        return context.get_dummy_value()

    return sig, codegen
