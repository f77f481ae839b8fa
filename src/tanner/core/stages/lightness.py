"""The curve of lightness alone: L* changes, a* and b* of every colour stay (CIELAB under D50; source: cie15)."""

from typing import TYPE_CHECKING, NamedTuple

import numpy as np
from numpy.typing import NDArray

from tanner.core.colour.spaces import D50_XYZ, pcs_to_working
from tanner.core.jit import kernel
from tanner.core.memory import Slot
from tanner.core.stages.output import cube_roots
from tanner.core.stages.stage import F32, At, Stage, StageFrame, f32
from tanner.core.tone.curve import Curve, Points, evaluate, is_straight

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


@kernel
def lightness_row(r: F32, g: F32, b: F32, at: At, p: Lightness) -> None:
    # a* and b* are differences of the function of X, Y and Z: what is added to all three leaves them as they are.
    zero, one, last, n = np.float32(0.0), np.float32(1.0), np.float32(SIZE - 1), at.n
    cube, slope, offset = np.float32(_CUBE), np.float32(_SLOPE), np.float32(_OFFSET)
    knee = np.float32(6 / 29)
    rows, t, after = at.work, p.table, p.table[1:]
    add, index = rows[6], rows[7].view(np.int32)
    for k in range(3):
        m0, m1, m2 = p.to[k, 0], p.to[k, 1], p.to[k, 2]
        for j in range(n):
            rows[k, j] = m0 * r[j] + m1 * g[j] + m2 * b[j]
        cube_roots(rows[k], rows[3 + k], n)
        for j in range(n):
            x = rows[k, j]
            rows[3 + k, j] = rows[3 + k, j] if x > cube else slope * x + offset
    for j in range(n):
        add[j] = np.sqrt(min(max(rows[1, j], zero), one)) * last
    for j in range(n):
        index[j] = np.int32(add[j])
    for j in range(n):
        low = t[np.uint64(index[j])]
        add[j] = low + (add[j] - np.float32(index[j])) * (after[np.uint64(index[j])] - low)
    for k in range(3):
        for j in range(n):
            f = rows[3 + k, j] + add[j]
            rows[k, j] = f * f * f if f > knee else (f - offset) / slope
    back = p.back
    for j in range(n):
        r[j] = back[0, 0] * rows[0, j] + back[0, 1] * rows[1, j] + back[0, 2] * rows[2, j]
    for j in range(n):
        g[j] = back[1, 0] * rows[0, j] + back[1, 1] * rows[1, j] + back[1, 2] * rows[2, j]
    for j in range(n):
        b[j] = back[2, 0] * rows[0, j] + back[2, 1] * rows[1, j] + back[2, 2] * rows[2, j]


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
