"""The curve of lightness alone: L* changes, a* and b* of every colour stay (CIELAB under D50; source: cie15)."""

from typing import TYPE_CHECKING, Any, NamedTuple

import numpy as np
from numpy.typing import NDArray

from tanner.core.colour.spaces import D50_XYZ, pcs_to_working
from tanner.core.jit import intrinsic, kernel, types
from tanner.core.memory import Slot
from tanner.core.stages.stage import F32, At, Stage, StageFrame, f32
from tanner.core.tone.curve import Curve, Points, evaluate, is_straight
from tanner.core.tone.oklab import cube_root
from tanner.core.vector16 import (
    LANES,
    array,
    below,
    choose,
    floats,
    load_some,
    looked_up,
    mixed,
    moved,
    store_some,
    whole,
)

if TYPE_CHECKING:
    from tanner.core.adjust.registry import Development

SIZE = 4096
NO_TABLE: F32 = np.zeros(SIZE + 1, np.float32)
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
        table: (SIZE + 1,): what is added to CIELAB's function of X, Y and Z where Y is (i / (SIZE - 1))².
    """

    on: bool
    to: F32
    back: F32
    table: F32


@intrinsic
def _lighten(typingctx, r, g, b, to, back, table, at, keep):  # type: ignore[no-untyped-def]
    """Sixteen px, no more than `keep`, from px `at` of the rows on; see `Lightness`."""
    sig = types.void(r, g, b, to, back, table, at, keep)

    def codegen(context: Any, builder: Any, signature: Any, args: Any) -> Any:
        colours = [array(context, builder, signature.args[n], args[n])[0] for n in range(3)]
        to, back, table = (array(context, builder, signature.args[n], args[n])[0] for n in (3, 4, 5))
        at, mask = args[6], below(builder, args[7])
        shares = mixed(to, 0, [load_some(builder, colour, at, mask) for colour in colours])
        # a* and b* are differences of the function of X, Y and Z: what is added to all three leaves them as they are.
        functions = [choose(x > _CUBE, cube_root(x), x * _SLOPE + _OFFSET) for x in shares]
        along = shares[1].most(0.0).least(1.0).root() * float(SIZE - 1)
        index = whole(along)
        low, high = looked_up(builder, table, index), looked_up(builder, table, moved(builder, index, 1))
        add = low + (along - floats(builder, index)) * (high - low)
        back_to = []
        for f in (f + add for f in functions):
            back_to.append(choose(f > 6 / 29, f * f * f, (f - _OFFSET) * (1 / _SLOPE)))
        for colour, value in zip(colours, mixed(back, 0, back_to), strict=True):
            store_some(value, colour, at, mask)
        return context.get_dummy_value()

    return sig, codegen


@kernel
def lightness_row(r: F32, g: F32, b: F32, at: At, p: Lightness) -> None:
    for start in range(0, at.n, LANES):
        _lighten(r, g, b, p.to, p.back, p.table, start, at.n - start)


def lightness_table(points: Points, rising: bool = False) -> NDArray[np.float32]:
    """See `Lightness`."""
    y = (np.arange(SIZE) / (SIZE - 1)) ** 2
    f = np.where(y > _CUBE, np.cbrt(y), _SLOPE * y + _OFFSET)
    light = (116 * f - 16) / 100
    added = (evaluate(points, light, rising) - light) * 100 / 116
    return np.append(added, added[-1]).astype(np.float32)


def _prepare(frame: StageFrame, development: "Development", moved: bool) -> Lightness:
    curve = development.group(Curve)
    if not moved and is_straight(curve.lightness):
        return Lightness(False, TO, BACK, NO_TABLE)
    key = tuple(map(tuple, curve.lightness)), curve.rising
    table = frame.source.memory.get(TABLES, key, lambda: lightness_table(curve.lightness, curve.rising))
    return Lightness(True, TO, BACK, table)


STAGE = Stage("lightness", prepare=_prepare, row=lightness_row, again=("curve.lightness",), kind=Lightness)
