"""Tone: base curve, ends, contrast, levels and point curve, all in one table from linear to linear."""

from collections.abc import Hashable
from typing import TYPE_CHECKING, Any, NamedTuple

from tanner.core.colour.camera import Profile
from tanner.core.jit import intrinsic, kernel, types
from tanner.core.memory import Slot
from tanner.core.stages.stage import F32, At, Stage, StageFrame
from tanner.core.tone.curve import Curve
from tanner.core.tone.levels import Levels
from tanner.core.tone.light import TABLE_SIZE, TABLE_TOP, Light, tone_table
from tanner.core.vector16 import LANES, Lanes, array, below, choose, load_some, read_at, store_some, whole

if TYPE_CHECKING:
    from tanner.core.adjust.registry import Development

_TO_INDEX = (TABLE_SIZE - 1) / TABLE_TOP**0.5
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


@intrinsic
def _toned(typingctx, r, g, b, table, at, keep):  # type: ignore[no-untyped-def]
    """Sixteen px of rows, no more than `keep`, from px `at` on; see `tone_row`."""
    sig = types.void(r, g, b, table, at, keep)

    def codegen(context: Any, builder: Any, signature: Any, args: Any) -> Any:
        *rows, table = (array(context, builder, signature.args[n], args[n])[0] for n in range(4))
        at, mask = args[4], below(builder, args[5])
        x, y, z = (load_some(builder, row, at, mask).most(0.0) for row in rows)

        def factor(value: Lanes) -> Lanes:
            return read_at(builder, table, whole((value.root() * _TO_INDEX + 0.5).least(float(_LAST))))

        high, low = x.most(y.most(z)), x.least(y.least(z))
        up, new_low = factor(high), low * factor(low)
        # New ends, then scale and offset that take the old pair to the new one; both stay in place.
        span = high - low
        scale = choose(span > 1e-7, (high * up - new_low) / span.most(1e-9), up)
        for value, row in zip((x, y, z), rows, strict=True):
            store_some((value - low) * scale + new_low, row, at, mask)
        return context.get_dummy_value()

    return sig, codegen


@kernel
def tone_row(r: F32, g: F32, b: F32, at: At, p: Tone) -> None:
    """The tone table on the largest and smallest channel, the middle one in proportion between them.

    This keeps the hue, as the DNG specification's reference code does (source: dng17).
    """
    for run in range((at.n + LANES - 1) // LANES):
        _toned(r, g, b, p.table, run * LANES, at.n - run * LANES)


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
