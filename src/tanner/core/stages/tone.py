"""Tone: base curve, ends, contrast, levels and point curve, all in one table from linear to linear."""

from collections.abc import Hashable
from typing import TYPE_CHECKING, NamedTuple

import numpy as np

from tanner.core.colour.camera import Profile
from tanner.core.jit import kernel
from tanner.core.memory import Slot
from tanner.core.stages.stage import F32, At, Stage, StageFrame
from tanner.core.tone.curve import Curve
from tanner.core.tone.levels import Levels
from tanner.core.tone.light import TABLE_SIZE, TABLE_TOP, Light, tone_table

if TYPE_CHECKING:
    from tanner.core.adjust.registry import Development

_TO_INDEX = np.float32((TABLE_SIZE - 1) / np.sqrt(TABLE_TOP))
_LAST = TABLE_SIZE - 1
TABLES: Slot[F32] = Slot("tone tables", keep=12, shared=True)
"""See `light.tone_table`, by all that goes into one."""


class Tone(NamedTuple):
    """
    Attributes:
        table: (TABLE_SIZE,), see `light.tone_table`.
    """

    on: bool
    table: F32


@kernel
def tone_row(r: F32, g: F32, b: F32, at: At, p: Tone) -> None:
    """The tone table on the largest and smallest channel, the middle one in proportion between them.

    This keeps the hue, as the DNG specification's reference code does (source: dng17).
    """
    table, n, rows = p.table, at.n, at.work
    hi, lo, fh, fl = rows[0], rows[1], rows[2], rows[3]
    ih, il = rows[4].view(np.int32), rows[5].view(np.int32)
    zero = np.float32(0.0)
    for j in range(n):
        x, y, z = r[j], g[j], b[j]
        hi[j] = max(max(x, max(y, z)), zero)
    for j in range(n):
        x, y, z = r[j], g[j], b[j]
        lo[j] = max(min(x, min(y, z)), zero)
    for j in range(n):
        ih[j] = min(np.int32(np.sqrt(hi[j]) * _TO_INDEX + np.float32(0.5)), _LAST)
    for j in range(n):
        il[j] = min(np.int32(np.sqrt(lo[j]) * _TO_INDEX + np.float32(0.5)), _LAST)
    for j in range(n):
        fh[j] = table[np.uint64(ih[j])]
    for j in range(n):
        fl[j] = table[np.uint64(il[j])]
    # New ends, then scale and offset that take the old pair to the new one; both stay in place.
    for j in range(n):
        span = hi[j] - lo[j]
        new_hi, new_lo = hi[j] * fh[j], lo[j] * fl[j]
        fh[j] = (new_hi - new_lo) / max(span, np.float32(1e-9)) if span > np.float32(1e-7) else fh[j]
    for j in range(n):
        fl[j] = lo[j] * fl[j]
    for j in range(n):
        x = max(r[j], zero)
        r[j] = fl[j] + (x - lo[j]) * fh[j]
    for j in range(n):
        x = max(g[j], zero)
        g[j] = fl[j] + (x - lo[j]) * fh[j]
    for j in range(n):
        x = max(b[j], zero)
        b[j] = fl[j] + (x - lo[j]) * fh[j]


def _key(frame: StageFrame, development: "Development") -> Hashable:
    """What bends the tone: exposure does not, so that dragging it makes no table anew."""
    light, profile, curve = development.group(Light), development.group(Profile), development.group(Curve)
    return (
        light.contrast, light.white_point, light.black_point, development.group(Levels).of(), tuple(map(tuple, curve.points)), curve.rising,
        profile.curve_strength, profile.camera,
    )  # fmt: skip


def _prepare(frame: StageFrame, development: "Development", moved: bool) -> Tone:
    strength = development.group(Profile).curve_strength / 100
    steps = development.group(Light), development.group(Levels), development.group(Curve)

    def make() -> F32:
        return tone_table(*steps, strength, frame.camera.curve)

    return Tone(True, frame.source.memory.get(TABLES, _key(frame, development), make))


STAGE = Stage(
    "tone", (Levels, Curve), _prepare, row=tone_row,
    again=(
        "light.contrast", "light.white_point", "light.black_point", "curve.points",
        *(f"levels.{n}" for n in ("black", "middle", "white", "black_out", "white_out")),
    ),
    kind=Tone,
)  # fmt: skip
