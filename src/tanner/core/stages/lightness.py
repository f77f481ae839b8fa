"""The curve of lightness alone: L* changes, a* and b* of every colour stay (CIELAB under D50; source: cie15)."""

from typing import TYPE_CHECKING, Any, NamedTuple

import numpy as np
from numpy.typing import NDArray

from tanner.core.colour.spaces import D50_XYZ, pcs_to_working
from tanner.core.jit import intrinsic, kernel, types
from tanner.core.memory import Slot
from tanner.core.stages.stage import F32, At, Stage, StageFrame, f32
from tanner.core.tone.curve import Curve, Points, evaluate, is_straight
from tanner.core.tone.hues import WORK, H, S, V
from tanner.core.tone.lines import PAIR, WorkRows, look_up_pairs, pairs
from tanner.core.tone.logs import cube_root
from tanner.core.tone.table import RUN
from tanner.core.vector16 import LANES, array, below, choose, load_some, mixed, store_some

if TYPE_CHECKING:
    from tanner.core.adjust.registry import Development

SIZE = 4096
NO_TABLE: F32 = np.zeros((SIZE, PAIR), np.float32)
TABLES: Slot[F32] = Slot("lightness tables", keep=12, shared=True)
BACK = f32(pcs_to_working() @ np.diag(D50_XYZ))
"""(3, 3) shares of white's X, Y and Z to working values."""
TO = f32(np.linalg.inv(pcs_to_working() @ np.diag(D50_XYZ)))
_CUBE, _SLOPE, _OFFSET = 216 / 24389, 24389 / 27 / 116, 16 / 116
"""CIELAB's function is a cube root above the first, below it a line of this slope and offset."""


class Lightness(NamedTuple):
    """
    Attributes:
        to, back: (3, 3) working values to X, Y, Z as shares of white's, and back.
        table: (SIZE, PAIR), see `lines.pairs`: what is added to CIELAB's function of X, Y and Z where Y is (i / (SIZE - 1))².
    """

    on: bool
    to: F32
    back: F32
    table: F32


@intrinsic
def _enter(typingctx, r, g, b, to, rows, at, on, keep):  # type: ignore[no-untyped-def]
    """CIELAB's function of X, Y and Z of sixteen px, and where Y lies in the table; see `Lightness`."""
    sig = types.void(r, g, b, to, rows, at, on, keep)

    def codegen(context: Any, builder: Any, signature: Any, args: Any) -> Any:
        colours, to = (
            [array(context, builder, signature.args[n], args[n])[0] for n in some] for some in (range(3), (3,))
        )
        at, on, keep = args[5:]
        mask, work = below(builder, keep), WorkRows(context, builder, signature.args[4], args[4], on)
        shares = mixed(to[0], 0, [load_some(builder, colour, at, mask) for colour in colours])
        for number, x in zip((H, S, V), shares, strict=True):
            work.put(number, choose(x > _CUBE, cube_root(x), x * _SLOPE + _OFFSET))
        work.put_line(shares[1].most(0.0).least(1.0).root() * float(SIZE - 1), SIZE - 2, PAIR)
        return context.get_dummy_value()

    return sig, codegen


@intrinsic
def _leave(typingctx, rows, back, r, g, b, at, on, keep):  # type: ignore[no-untyped-def]
    """a* and b* are differences of the function of X, Y and Z: what is added to all three leaves them as they are."""
    sig = types.void(rows, back, r, g, b, at, on, keep)

    def codegen(context: Any, builder: Any, signature: Any, args: Any) -> Any:
        back, _ = array(context, builder, signature.args[1], args[1])
        at, on, keep = args[5:]
        mask, work = below(builder, keep), WorkRows(context, builder, signature.args[0], args[0], on)
        add, shares = work.found_between(), []
        for f in (work.held(number) + add for number in (H, S, V)):
            shares.append(choose(f > 6 / 29, f * f * f, (f - _OFFSET) * (1 / _SLOPE)))
        for n, value in enumerate(mixed(back, 0, shares)):
            store_some(value, array(context, builder, signature.args[2 + n], args[2 + n])[0], at, mask)
        return context.get_dummy_value()

    return sig, codegen


@kernel
def lightness_row(r: F32, g: F32, b: F32, at: At, p: Lightness) -> None:
    rows, flat = np.empty((WORK, RUN), np.float32), p.table.reshape(-1)
    for start in range(0, at.n, RUN):
        m = min(RUN, at.n - start)
        parts = (m + LANES - 1) // LANES
        for k in range(parts):
            _enter(r, g, b, p.to, rows, start + k * LANES, k * LANES, m - k * LANES)
        for k in range(parts):
            look_up_pairs(flat, rows, k * LANES)
        for k in range(parts):
            _leave(rows, p.back, r, g, b, start + k * LANES, k * LANES, m - k * LANES)


def lightness_table(points: Points, rising: bool = False) -> NDArray[np.float32]:
    """See `Lightness`."""
    y = (np.arange(SIZE) / (SIZE - 1)) ** 2
    f = np.where(y > _CUBE, np.cbrt(y), _SLOPE * y + _OFFSET)
    light = (116 * f - 16) / 100
    return pairs((evaluate(points, light, rising) - light) * 100 / 116)


def _prepare(frame: StageFrame, development: "Development", moved: bool) -> Lightness:
    curve = development.group(Curve)
    if not moved and is_straight(curve.lightness):
        return Lightness(False, TO, BACK, NO_TABLE)
    key = tuple(map(tuple, curve.lightness)), curve.rising
    table = frame.source.memory.get(TABLES, key, lambda: lightness_table(curve.lightness, curve.rising))
    return Lightness(True, TO, BACK, table)


STAGE = Stage("lightness", prepare=_prepare, row=lightness_row, again=("curve.lightness",), kind=Lightness)
