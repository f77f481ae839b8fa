"""Oklab and tables in it, in vectors (see `tanner.core.vector16`): the inner parts of the mixer.

As in `hues`, a run of px goes through steps, between which it stands in the same work rows. What goes by lightness, chroma and
hue at once: `enter_deep` finds the cells of sixteen px, `hues.look_up_deep` what they say, and `settle` adds that. What goes by hue
alone: `enter_hue`, `look_up_line`, and `turn`, which does what chroma and lightness have to do with it by formula. Then what goes by
lightness alone (`look_up_line` again), and `leave` adds that and goes back. `enter_light` begins right there.
"""

import math
from collections.abc import Callable
from typing import Any

import numpy as np
from llvmlite import ir

from tanner.core.colour.ranges import GREY
from tanner.core.jit import intrinsic, types
from tanner.core.tone.hues import F_HUE, F_SAT, F_VAL, H, S, V
from tanner.core.tone.lines import WorkRows
from tanner.core.tone.logs import cube_root
from tanner.core.vector16 import (
    FLOATS,
    LANES,
    Lanes,
    Shelf,
    alike,
    array,
    below,
    choose,
    floats,
    load_some,
    magnitude,
    mixed,
    store_some,
    whole,
    wholes,
)

LIGHTS, CHROMAS, HUES = 25, 25, 72
"""Points of a table along lightness, chroma and hue."""
MOST = 0.4
"""Chroma at the table's end; beyond it what is added stays the same."""
TURNS, STEPS = 1024, 1024
"""Steps of the tables by hue and by lightness."""
# Source: ottosson2020.
TO_LAB = (
    (0.2104542553, 0.7936177850, -0.0040720468),
    (1.9779984951, -2.4285922050, 0.4505937099),
    (0.0259040371, 0.7827717662, -0.8086757660),
)
FROM_LAB = ((0.3963377774, 0.2158037573), (-0.1055613458, -0.0638541728), (-0.0894841775, -1.2914855480))


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


def along_circle(position: Any) -> Any:
    """Angles, in radians, of places on the circle of hues as the table by hue counts them: 0 to TURNS, quarters at even steps.

    Within a quarter a place goes by b / (|a| + |b|), which takes no arc tangent; so the steps are not quite even.
    """
    at = np.asarray(position, np.float64) * (4 / TURNS)
    b = np.select([at <= 1, at <= 3], [at, 2 - at], at - 4)
    a = np.where((at > 1) & (at < 3), -1.0, 1.0) * (1 - np.abs(b))
    return np.arctan2(b, a) % (2 * np.pi)


def _enter(find: Callable[[WorkRows, Lanes, Lanes, Lanes], None]) -> Any:
    @intrinsic
    def enter(typingctx, r, g, b, cones, rows, at, on, keep):  # type: ignore[no-untyped-def]
        """Oklab of working values, and the first cell of each px in a table, with its shares of the next ones.

        Args:
            cones: float32 (2, 3, 3), working space to the cone responses of Oklab, and back; rows: float32 (hues.WORK, n).
        """
        sig = types.void(r, g, b, cones, rows, at, on, keep)

        def codegen(context: Any, builder: Any, signature: Any, args: Any) -> Any:
            arrays = [array(context, builder, signature.args[n], args[n]) for n in range(4)]
            at, on, keep = args[5:]
            work, mask = WorkRows(context, builder, signature.args[4], args[4], on), below(builder, keep)
            colours = [load_some(builder, a[0], at, mask) for a in arrays[:3]]
            roots = [cube_root(v) for v in mixed(arrays[3][0], 0, colours)]
            light, a, b = (roots[0] * m[0] + roots[1] * m[1] + roots[2] * m[2] for m in TO_LAB)
            for number, lanes in ((H, light), (S, a), (V, b)):
                work.put(number, lanes)
            find(work, light, a, b)
            return context.get_dummy_value()

        return sig, codegen

    return enter


def _put_light(work: WorkRows, light: Lanes) -> None:
    """The place in the table by lightness."""
    work.put_line(light.most(0.0).least(1.0) * float(STEPS), STEPS - 1)


def _find_deep(work: WorkRows, light: Lanes, a: Lanes, b: Lanes) -> None:
    builder = work.builder

    def cell(place: Lanes, last: int) -> tuple[Any, Lanes]:
        first = whole(place.least(float(last)))
        return first, floats(builder, first)

    along = light.most(0.0).least(1.0) * float(LIGHTS - 1)
    i, from_i = cell(along, LIGHTS - 2)
    work.put(F_VAL, along - from_i)
    # Chroma's points lie closer to one another near grey, where colours begin: they are squares.
    root = ((a * a + b * b).root().root() * ((CHROMAS - 1) / math.sqrt(MOST))).least(float(CHROMAS - 1))
    c, from_c = cell(root, CHROMAS - 2)
    steps = [Lanes(builder, ir.Constant(FLOATS, [1 / (2 * n + 1) for n in range(k, k + LANES)])) for k in (0, LANES)]
    work.put(F_HUE, (root * root - from_c * from_c) * Shelf(steps).at(c))
    turned = _angle(a, b)
    h, from_h = cell(turned, HUES - 1)
    work.put(F_SAT, turned - from_h)
    found = builder.add(builder.mul(i, wholes(CHROMAS)), c)
    work.put_place(builder.add(builder.mul(found, wholes(HUES + 1)), h))


def _find_hue(work: WorkRows, light: Lanes, a: Lanes, b: Lanes) -> None:
    """See `along_circle`."""
    across = b / (magnitude(a) + magnitude(b) + 1e-12)
    turned = choose(a < 0.0, across * -1.0 + 2.0, across)
    work.put_line(choose(turned < 0.0, turned + 4.0, turned) * (TURNS / 4), TURNS - 1)


enter_deep, enter_hue = _enter(_find_deep), _enter(_find_hue)
enter_light = _enter(lambda work, light, a, b: _put_light(work, light))


def _coloured(chroma: Lanes) -> Lanes:
    """See `ranges.coloured`."""
    u = (chroma * (1 / GREY)).least(1.0)
    return u * u * (u * -2.0 + 3.0)


def _turn(weighs: bool) -> Any:
    @intrinsic
    def turn(typingctx, rows, rest, on):  # type: ignore[no-untyped-def]
        """Hues turned, stronger or weaker, and lighter or darker, by what was found; then the place in the table by lightness.

        What was found are factors of (a, b) across and along, how much lighter, and, with weights, how light as a grey
        (see `ranges.ranged` and `mono.weighed`).

        Args:
            rest: float32, how much of its colour each px keeps after that.
        """
        sig = types.void(rows, rest, on)

        def codegen(context: Any, builder: Any, signature: Any, args: Any) -> Any:
            work = WorkRows(context, builder, signature.args[0], args[0], args[2])
            light, a, b = (work.held(n) for n in (H, S, V))
            numbers = work.found(4 if weighs else 3)
            lighter = numbers[2] * _coloured((a * a + b * b).root())
            light = light + lighter * light * (light * -1.0 + 1.0)
            a, b = numbers[0] * a - numbers[1] * b, numbers[1] * a + numbers[0] * b
            if weighs:
                chroma = (a * a + b * b).root()
                strong = _coloured(chroma) * (chroma * (1 / 0.15)).most(0.3).least(1.2) * 1.4
                light = light + numbers[3] * strong * light * (light * -1.0 + 1.0)
                rest = alike(builder, args[1])
                a, b = a * rest, b * rest
            for number, lanes in ((H, light), (S, a), (V, b)):
                work.put(number, lanes)
            _put_light(work, light)
            return context.get_dummy_value()

        return sig, codegen

    return turn


turn, turn_and_weigh = _turn(False), _turn(True)


@intrinsic
def settle(typingctx, rows, on):  # type: ignore[no-untyped-def]
    """What a table of three directions said is added; then the place in the table by lightness."""
    sig = types.void(rows, on)

    def codegen(context: Any, builder: Any, signature: Any, args: Any) -> Any:
        work = WorkRows(context, builder, signature.args[0], args[0], args[1])
        light, a, b = (work.held(n) + more for n, more in zip((H, S, V), work.found(3), strict=True))
        for number, lanes in ((H, light), (S, a), (V, b)):
            work.put(number, lanes)
        _put_light(work, light)
        return context.get_dummy_value()

    return sig, codegen


def _leave(adds: bool) -> Any:
    @intrinsic
    def leave(typingctx, rows, cones, r, g, b, at, on, keep):  # type: ignore[no-untyped-def]
        """What was found is added, and Oklab becomes working values again."""
        sig = types.void(rows, cones, r, g, b, at, on, keep)

        def codegen(context: Any, builder: Any, signature: Any, args: Any) -> Any:
            back, _ = array(context, builder, signature.args[1], args[1])
            at, on, keep = args[5:]
            work, mask = WorkRows(context, builder, signature.args[0], args[0], on), below(builder, keep)
            lab = [work.held(n) for n in (H, S, V)]
            if adds:
                lab = [value + more for value, more in zip(lab, work.found(3), strict=True)]
            roots = [lab[0] + lab[1] * m[0] + lab[2] * m[1] for m in FROM_LAB]
            for n, value in enumerate(mixed(back, 9, [x * x * x for x in roots])):
                colour, _ = array(context, builder, signature.args[2 + n], args[2 + n])
                store_some(value, colour, at, mask)
            return context.get_dummy_value()

        return sig, codegen

    return leave


leave, leave_as_found = _leave(True), _leave(False)
"""The second adds nothing: for what does not go by lightness alone."""
