"""Structure of two sizes: what a px differs from two finer edge-aware layers, made stronger or weaker; noise is left alone.

Local contrast, the coarsest of the three, is in `local`. What counts as an edge is followed by the layers, so that a step
hardly overshoots.
"""

from collections.abc import Mapping
from typing import TYPE_CHECKING, Any, ClassVar, NamedTuple

import numpy as np

from tanner.core.adjust.spec import Group, param
from tanner.core.jit import kernel
from tanner.core.noise.controls import Noise
from tanner.core.stages.local import LUMA, NO_GUIDE, guide_line
from tanner.core.stages.stage import F32, At, Stage, StageFrame, f32, gain_row
from tanner.core.tone.logs import exp2_row, log2_row

if TYPE_CHECKING:
    from tanner.core.adjust.registry import Development

STRONGEST = 1.1
"""Factor on what a px differs by, at 100 %."""


class Structure(Group):
    key: ClassVar[str] = "structure"
    rank: ClassVar[int] = 78
    title: ClassVar[str] = "Structure"
    about: ClassVar[str] = "Fine and middle-sized differences, and haze; edges stay without halos."

    texture: float = param(
        0.0,
        -100.0,
        100.0,
        label="Texture",
        unit="%",
        help="Fine: threads, grain of wood, skin. Minus makes it smoother.",
    )
    middle: float = param(
        0.0,
        -100.0,
        100.0,
        label="Structure",
        unit="%",
        help="Middle-sized: folds, relief. Local contrast in Light is the coarsest.",
    )
    haze: float = param(
        0.0, -100.0, 100.0, label="Haze", unit="%", help="Plus takes haze and stray light away, minus adds them."
    )


class StructureLayers(NamedTuple):
    """
    Attributes:
        texture, middle: (2, gh, gw) coefficients of the layers, or `NO_GUIDE`; amounts: (2,) factors on the differences.
        ev: exposure that the layers do not know of; noise: deviation of the roots of balanced values, before exposure.
    """

    on: bool
    luma: F32
    texture: F32
    middle: F32
    amounts: F32
    ev: np.float32
    noise: np.float32


@kernel
def _begun(r, g, b, p, lum, log, grain, add, n):
    """Light of a row, its logarithm, the noise in that, and nothing that is added yet."""
    lr, lg, lb = p.luma[0], p.luma[1], p.luma[2]
    for j in range(n):
        lum[j] = lr * r[j] + lg * g[j] + lb * b[j]
    log2_row(lum, log, n)
    # Noise of a root v by s is noise of its logarithm by 2 s / (v ln 2); squared, with the square of the root for light.
    exposed = np.float32(2.0) ** p.ev
    level = np.float32(8.3255 * 14) * p.noise * p.noise
    for j in range(n):
        grain[j] = level * exposed / max(lum[j], np.float32(1e-5))
    for j in range(n):
        add[j] = np.float32(0.0)


@kernel
def _differ(log, ca, cb, ev, grain, amount, out, n):
    """What is added to a px, in stops: its difference from a layer, but for what may be noise: half of it at 3.7 deviations."""
    for j in range(n):
        d = (log[j] - ev) * (np.float32(1.0) - ca[j]) - cb[j]
        square = d * d * d * d
        out[j] += amount * d * square / (square + grain[j] * grain[j] + np.float32(1e-12))


@kernel
def structure_row(r: F32, g: F32, b: F32, at: At, p: StructureLayers) -> None:
    rows, n = at.work, at.n
    lum, log, ca, cb, add, grain = rows[0], rows[1], rows[2], rows[3], rows[4], rows[7]
    _begun(r, g, b, p, lum, log, grain, add, n)
    index, share = rows[5].view(np.int32), rows[6]
    if p.amounts[0] != np.float32(0.0):
        at.state[2] = guide_line(
            p.texture, at.y, at.x0, n, at.height, at.width, ca, cb, at.held[8:12], at.state[2], index, share
        )
        _differ(log, ca, cb, p.ev, grain, p.amounts[0], add, n)
    if p.amounts[1] != np.float32(0.0):
        at.state[3] = guide_line(
            p.middle, at.y, at.x0, n, at.height, at.width, ca, cb, at.held[12:16], at.state[3], index, share
        )
        _differ(log, ca, cb, p.ev, grain, p.amounts[1], add, n)
    exp2_row(add, lum, n)
    gain_row(r, g, b, lum, n)


@kernel
def _differ_fields(log, ca, cb, ev, grain, amount, out, n):
    """`_differ` with an amount of each px, as smooth as the layer itself at most."""
    one = np.float32(1.0)
    for j in range(n):
        d = (log[j] - ev) * (one - ca[j]) - cb[j]
        square = d * d * d * d
        out[j] += max(amount[j], -one) * d * square / (square + grain[j] * grain[j] + np.float32(1e-12))


@kernel
def structure_row_fields(r: F32, g: F32, b: F32, at: At, p: StructureLayers, field: F32) -> None:
    """Field: factors on the differences from the two layers."""
    rows, n = at.work, at.n
    lum, log, ca, cb, add, grain = rows[0], rows[1], rows[2], rows[3], rows[4], rows[7]
    _begun(r, g, b, p, lum, log, grain, add, n)
    index, share = rows[5].view(np.int32), rows[6]
    if p.texture.shape[1] > 1:
        at.state[2] = guide_line(
            p.texture, at.y, at.x0, n, at.height, at.width, ca, cb, at.held[8:12], at.state[2], index, share
        )
        _differ_fields(log, ca, cb, p.ev, grain, field[0], add, n)
    if p.middle.shape[1] > 1:
        at.state[3] = guide_line(
            p.middle, at.y, at.x0, n, at.height, at.width, ca, cb, at.held[12:16], at.state[3], index, share
        )
        _differ_fields(log, ca, cb, p.ev, grain, field[1], add, n)
    exp2_row(add, lum, n)
    gain_row(r, g, b, lum, n)


def _prepare(frame: StageFrame, development: "Development", moved: bool) -> StructureLayers:
    wanted = development.group(Structure)
    amounts = f32([wanted.texture / 100 * STRONGEST, wanted.middle / 100 * STRONGEST])
    # Minus 100 % is as smooth as the layer itself, never beyond.
    amounts = f32(np.maximum(amounts, -1))
    left = 1 - 0.85 * development.group(Noise).luminance / 100
    on = bool(amounts.any()) or moved
    things = development.listed("areas") if moved else ()

    def anybody(wants: str) -> bool:
        """A layer that nobody wants is not made."""
        return bool(getattr(wanted, wants) or any(t.values.get(f"structure.{wants}") for t in things))

    return StructureLayers(
        on, LUMA,
        frame.layer("texture") if anybody("texture") else NO_GUIDE,
        frame.layer("structure") if anybody("middle") else NO_GUIDE,
        amounts, np.float32(frame.ev), np.float32(frame.noise() * left / max(frame.geometry.scale, 1.0) if on else 0),
    )  # fmt: skip


def _moves(frame: StageFrame, settings: Mapping[str, Any]) -> tuple[float, float]:
    return (
        settings.get("structure.texture", 0.0) / 100 * STRONGEST,
        settings.get("structure.middle", 0.0) / 100 * STRONGEST,
    )


STAGE = Stage(
    "structure", (Structure,), _prepare, row=structure_row,
    fields=2, start=lambda p: (p.amounts[0], p.amounts[1]), moves=_moves, row_fields=structure_row_fields,
)  # fmt: skip
