"""Saturation and vibrance, in the linear working space around each pixel's luminance."""

from collections.abc import Mapping
from typing import TYPE_CHECKING, Any, NamedTuple

import numpy as np

from tanner.core.colour.saturation import Colour, factors
from tanner.core.jit import kernel
from tanner.core.stages.local import LUMA
from tanner.core.stages.stage import F32, At, Stage, StageFrame

if TYPE_CHECKING:
    from tanner.core.adjust.registry import Development


class Saturation(NamedTuple):
    """
    Attributes:
        luma: (3,) luminance of the working space; factor of chroma; vibrance: from -1 to 1.
    """

    on: bool
    luma: F32
    factor: np.float32
    vibrance: np.float32


@kernel
def saturation_row(r: F32, g: F32, b: F32, at: At, p: Saturation) -> None:
    luma, factor, vibrance, n = p.luma, p.factor, p.vibrance, at.n
    one = np.float32(1.0)
    for j in range(n):
        x, y, z = r[j], g[j], b[j]
        lum = luma[0] * x + luma[1] * y + luma[2] * z
        top, low = max(x, max(y, z)), min(x, min(y, z))
        chroma = min(max((top - low) / max(top, np.float32(1e-6)), np.float32(0.0)), one)
        weak = (one - chroma) * (one - chroma)
        f = factor * (one + vibrance * (weak if vibrance > np.float32(0.0) else one - chroma * np.float32(0.5)))
        r[j] = lum + f * (x - lum)
        g[j] = lum + f * (y - lum)
        b[j] = lum + f * (z - lum)


@kernel
def saturation_row_fields(r: F32, g: F32, b: F32, at: At, p: Saturation, field: F32) -> None:
    """Field: what is added to the factor and to vibrance, of the picture and its areas together."""
    one, zero, half, n = np.float32(1.0), np.float32(0.0), np.float32(0.5), at.n
    lum, f = at.work[0], at.work[1]
    lr, lg, lb = p.luma[0], p.luma[1], p.luma[2]
    # One result a loop, or none of it is done in vectors.
    for j in range(n):
        lum[j] = lr * r[j] + lg * g[j] + lb * b[j]
    for j in range(n):
        x, y, z = r[j], g[j], b[j]
        top, low = max(x, max(y, z)), min(x, min(y, z))
        f[j] = min(max((top - low) / max(top, np.float32(1e-6)), zero), one)
    factor, vibrance = field[0], field[1]
    for j in range(n):
        weak, v = (one - f[j]) * (one - f[j]), vibrance[j]
        f[j] = max(factor[j], zero) * (one + v * (weak if v > zero else one - f[j] * half))
    for j in range(n):
        r[j] = lum[j] + f[j] * (r[j] - lum[j])
    for j in range(n):
        g[j] = lum[j] + f[j] * (g[j] - lum[j])
    for j in range(n):
        b[j] = lum[j] + f[j] * (b[j] - lum[j])


def _prepare(frame: StageFrame, development: "Development", moved: bool) -> Saturation:
    factor, vibrance = factors(development.group(Colour))
    return Saturation(moved or factor != 1 or vibrance != 0, LUMA, np.float32(factor), np.float32(vibrance))


def _moves(frame: StageFrame, settings: Mapping[str, Any]) -> tuple[float, float]:
    own = Colour.model_construct(**{k: settings.get(f"colour.{k}", 0.0) for k in ("saturation", "vibrance")})
    factor, vibrance = factors(own)
    return factor - 1, vibrance


STAGE = Stage(
    "saturation", (Colour,), _prepare, row=saturation_row,
    fields=2, start=lambda p: (p.factor, p.vibrance), moves=_moves, row_fields=saturation_row_fields,
)  # fmt: skip
