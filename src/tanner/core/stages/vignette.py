"""A vignette that belongs to the crop: darker or brighter towards the corners of what is kept, in scene-linear light."""

import math
from typing import TYPE_CHECKING, ClassVar, NamedTuple

import numpy as np

from tanner.core.adjust.spec import Group, param
from tanner.core.jit import kernel
from tanner.core.stages.local import LUMA
from tanner.core.stages.stage import F32, At, Stage, StageFrame, gain_row
from tanner.core.tone.logs import exp2_row

if TYPE_CHECKING:
    from tanner.core.adjust.registry import Development

STRONGEST = 2.0
"""EV in the corners at 100 %."""
BRIGHT = 0.35
"""Luminance from which light counts as a highlight to be kept; from white on it is one wholly."""


class Finish(Group):
    key: ClassVar[str] = "finish"
    rank: ClassVar[int] = 110
    section: ClassVar[str] = "Finish"
    title: ClassVar[str] = "Finish"
    about: ClassVar[str] = "What is laid over the finished picture."

    vignette: float = param(
        0.0,
        -100.0,
        100.0,
        label="Vignette",
        unit="%",
        help="Darkens (minus) or brightens the corners of the crop; 100 is 2 EV.",
    )
    vignette_middle: float = param(
        50.0, 0.0, 100.0, label="Middle", unit="%", help="How far from the middle it works: 100 is the corners only."
    )
    vignette_roundness: float = param(
        0.0,
        -100.0,
        100.0,
        label="Roundness",
        unit="%",
        help="Plus is a circle, 0 goes by the crop, minus is a rectangle.",
    )
    vignette_softness: float = param(100.0, 0.0, 100.0, label="Softness", unit="%", help="0 is an edge.")
    vignette_highlights: float = param(
        0.0, 0.0, 100.0, label="Highlights kept", unit="%", help="How much of it bright parts are spared."
    )
    grain: float = param(
        0.0,
        0.0,
        100.0,
        label="Grain",
        unit="%",
        help="Laid over everything; its own on each frame, alike at every size.",
    )
    grain_size: float = param(
        30.0,
        0.0,
        100.0,
        label="Grain size",
        unit="%",
        help="Of the picture: 0 is 1/3600 of its long edge, 100 is 1/700.",
    )
    grain_roughness: float = param(
        35.0, 0.0, 100.0, label="Roughness", unit="%", help="0 is one size of grain, 100 adds coarser clumps."
    )
    grain_colour: float = param(
        0.0, 0.0, 100.0, label="Grain colour", unit="%", help="0 is grey, 100 each channel's own."
    )


class Vignette(NamedTuple):
    """
    Attributes:
        ev: in the corners; inner, outer: distances between which it grows, 1 in the corners.
        square: 0 goes by the distance from the middle, 1 by the distance to the sides.
        stretch: (2,) of x and y, so that they are 1 at the crop's sides or lie on a circle; corner: distance of the corners.
        kept: 0 to 1, how much highlights are spared.
    """

    on: bool
    ev: np.float32
    inner: np.float32
    outer: np.float32
    square: np.float32
    stretch: F32
    corner: np.float32
    luma: F32
    kept: np.float32


@kernel
def vignette_row(r: F32, g: F32, b: F32, at: At, p: Vignette) -> None:
    zero, one, two, three, n = np.float32(0.0), np.float32(1.0), np.float32(2.0), np.float32(3.0), at.n
    fx, fy = two / np.float32(at.width), two / np.float32(at.height)
    y = abs(((np.float32(at.y) + np.float32(0.5)) * fy - one) * p.stretch[1])
    ev, gain = at.work[0], at.work[1]
    inverse, span = one / p.corner, one / (p.outer - p.inner)
    for j in range(n):
        x = abs((np.float32(at.x0 + j) * fx + np.float32(0.5) * fx - one) * p.stretch[0])
        round_, sides = np.sqrt(x * x + y * y), max(x, y)
        d = (round_ + p.square * (sides - round_)) * inverse
        t = min(max((d - p.inner) * span, zero), one)
        ev[j] = p.ev * t * t * (three - two * t)
    if p.kept > zero:
        low, wide = np.float32(BRIGHT), np.float32(1 / (1 - BRIGHT))
        for j in range(n):
            lum = p.luma[0] * r[j] + p.luma[1] * g[j] + p.luma[2] * b[j]
            t = min(max((lum - low) * wide, zero), one)
            ev[j] *= one - p.kept * t * t * (three - two * t)
    exp2_row(ev, gain, n)
    gain_row(r, g, b, gain, n)


def _prepare(frame: StageFrame, development: "Development", moved: bool) -> Vignette:
    finish = development.group(Finish)
    middle, soft = finish.vignette_middle / 100, finish.vignette_softness / 100
    inner = middle * (1 - soft / 2)
    outer = max(middle + (1 - middle) * soft, inner + 0.02)
    w, h = frame.geometry.size
    longest, circle = max(w, h), max(finish.vignette_roundness, 0.0) / 100
    stretch = [1 + circle * (side / longest - 1) for side in (w, h)]
    square = max(-finish.vignette_roundness, 0.0) / 100
    round_, sides = math.hypot(*stretch), max(stretch)
    return Vignette(
        finish.vignette != 0,
        np.float32(finish.vignette / 100 * STRONGEST),
        np.float32(inner),
        np.float32(outer),
        np.float32(square),
        np.array(stretch, np.float32),
        np.float32(round_ + square * (sides - round_)),
        LUMA,
        np.float32(finish.vignette_highlights / 100),
    )


STAGE = Stage("vignette", (Finish,), _prepare, row=vignette_row)
