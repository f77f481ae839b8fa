"""From balanced planes to the working space: what was clipped is rebuilt, then white balance, matrix and exposure."""

from collections.abc import Mapping
from typing import TYPE_CHECKING, Any, NamedTuple

import numpy as np

from tanner.core.colour.camera import Profile
from tanner.core.colour.temperature import mired_shift, temperature_to_xy, xy_to_temperature
from tanner.core.colour.white import White
from tanner.core.jit import kernel
from tanner.core.memory import Slot
from tanner.core.stages.stage import F32, At, Stage, StageFrame, f32
from tanner.core.tone.clipped import NOWHERE, Clipped, cells, held, ratios, rebuild_row
from tanner.core.tone.cube import NO_CUBE, apply_input
from tanner.core.tone.light import Light
from tanner.core.tone.logs import exp2_row

if TYPE_CHECKING:
    from tanner.core.adjust.registry import Development
    from tanner.core.raw.source import Source

AROUND: Slot[F32] = Slot("around")
"""How the channels stand to one another around clipped places, by nothing."""


class Camera(NamedTuple):
    """
    Attributes:
        gains: (3,) from plane values to the white balance in force.
        matrix: (3, 3) balanced camera to working space; exposure is in it unless a table comes first.
        input_table: of a camera's ICC profile, see `cube.apply_input`; NO_CUBE is none.
        gain: exposure as a factor after the input table.
    """

    on: bool
    gains: F32
    clipped: Clipped
    matrix: F32
    input_table: F32
    gain: np.float32


@kernel
def _colour(r, g, b, gains, m, n):
    """White balance, then the matrix, in place.

    What is no number becomes nothing here: the tables that follow are looked up by these values.
    """
    zero, most = np.float32(0.0), np.float32(1e6)
    for j in range(n):
        x, y, z = r[j], g[j], b[j]
        x, y, z = x if abs(x) < most else zero, y if abs(y) < most else zero, z if abs(z) < most else zero
        x, y, z = x * gains[0], y * gains[1], z * gains[2]
        r[j] = m[0, 0] * x + m[0, 1] * y + m[0, 2] * z
        g[j] = m[1, 0] * x + m[1, 1] * y + m[1, 2] * z
        b[j] = m[2, 0] * x + m[2, 1] * y + m[2, 2] * z


@kernel
def camera_row(r: F32, g: F32, b: F32, at: At, p: Camera) -> None:
    rebuild_row(r, g, b, p.clipped, p.gains, at.y, at.x0, at.n, at.work[0])
    _colour(r, g, b, p.gains, p.matrix, at.n)
    if p.input_table.shape[0] > 1:
        apply_input(r, g, b, p.input_table, p.gain, at.n)


@kernel
def camera_row_fields(r: F32, g: F32, b: F32, at: At, p: Camera, field: F32) -> None:
    """Field: log2 gains of red and of blue against green, by which an area changes the white balance."""
    n, work = at.n, at.work[0]
    rebuild_row(r, g, b, p.clipped, p.gains, at.y, at.x0, n, work)
    exp2_row(field[0], work, n)
    for j in range(n):
        r[j] *= work[j]
    exp2_row(field[1], work, n)
    for j in range(n):
        b[j] *= work[j]
    _colour(r, g, b, p.gains, p.matrix, n)
    if p.input_table.shape[0] > 1:
        apply_input(r, g, b, p.input_table, p.gain, n)


def around(source: "Source") -> F32:
    """How the channels stand to one another around clipped places; made once for a frame, as it was read: neither noise nor spots matter."""

    def make() -> F32:
        facts = source.facts
        return ratios(source.data, facts.pattern or (0, 0), facts.black, facts.white)

    return source.memory.get(AROUND, None, make)


def _clipped(frame: StageFrame, light: Light, profile: Profile) -> Clipped:
    """What is done where the sensor was full; nothing in a finished picture, which ends at its white."""
    source, raw = frame.source, frame.source.facts.is_raw
    balance = np.log(frame.pre * (1 / (frame.pre * frame.numbers)))
    hold = held(profile.curve_strength / 100, frame.camera.curve is not None)
    return Clipped(
        full=f32(1 / frame.pre if raw else np.zeros(3)),
        around=around(frame.original) if raw else NOWHERE,
        cell=np.float32(cells(source.size)[1]),
        offset=f32([balance[0] - balance[1], balance[0] - balance[2], balance[1] - balance[2]]),
        grid=frame.geometry.grid,
        amount=np.float32(light.clipped_colour / 100),
        hold=np.float32(hold / 2.0**frame.ev),
    )


def camera_matrix(frame: StageFrame) -> "np.typing.NDArray[np.float64]":
    """(3, 3) balanced camera to working space, before exposure."""
    return np.asarray(frame.camera.to_working(frame.white) @ np.diag(frame.numbers))


def _prepare(frame: StageFrame, development: "Development", moved: bool) -> Camera:
    factor = 2.0**frame.ev
    first, gain = (1.0, factor) if frame.table_first else (factor, 1.0)
    table = frame.camera.input_table
    return Camera(
        True,
        f32(1 / (frame.pre * frame.numbers)),
        _clipped(frame, development.group(Light), development.group(Profile)),
        f32(camera_matrix(frame) * first),
        NO_CUBE if table is None else table,
        np.float32(gain),
    )


def _moves(frame: StageFrame, settings: Mapping[str, Any]) -> tuple[float, float]:
    """An area's white balance, in mired and tint from the picture's, as log2 gains of red and blue against green."""
    mired, tint = settings.get("white.temperature", 0.0), settings.get("white.tint", 0.0)
    if not mired and not tint:
        return 0.0, 0.0
    kelvin, before = xy_to_temperature(frame.white)
    there = frame.camera.white_numbers(temperature_to_xy(mired_shift(kelvin, mired), before + tint))
    ratio = frame.numbers / there
    return float(np.log2(ratio[0] / ratio[1])), float(np.log2(ratio[2] / ratio[1]))


STAGE = Stage(
    "camera", (Profile, White), _prepare, row=camera_row,
    fields=2, start=lambda p: (0.0, 0.0), moves=_moves, row_fields=camera_row_fields,
)  # fmt: skip
