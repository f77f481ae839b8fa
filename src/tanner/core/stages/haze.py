"""Haze removed or added, in scene-linear light (see `tone.haze`)."""

from collections.abc import Mapping
from typing import TYPE_CHECKING, Any, NamedTuple

import numpy as np

from tanner.core.jit import kernel
from tanner.core.stages.camera import camera_matrix
from tanner.core.stages.local import LUMA, NO_GUIDE, guide_line
from tanner.core.stages.stage import F32, At, Stage, StageFrame, f32
from tanner.core.stages.structure import Structure
from tanner.core.tone.logs import log2_row

if TYPE_CHECKING:
    from tanner.core.adjust.registry import Development

LEAST = 0.4
"""Less light than this never comes through: what would be behind it is noise, and a plain backdrop is no haze."""


class Haze(NamedTuple):
    """
    Attributes:
        through: (2, gh, gw) coefficients, see `tone.haze.estimate`; ev: exposure that they do not know of.
        air: (3,) light of the haze in the working space, with exposure; amount: from -1 (added) to 1 (removed).
    """

    on: bool
    luma: F32
    through: F32
    ev: np.float32
    air: F32
    amount: np.float32


@kernel
def _through(r: F32, g: F32, b: F32, at: At, p: Haze, t: F32) -> None:
    """How much light comes through the haze at each px of a row, into t; works in rows 1 to 6."""
    rows, n = at.work, at.n
    one, least = np.float32(1.0), np.float32(LEAST)
    lr, lg, lb = p.luma[0], p.luma[1], p.luma[2]
    log, ca, cb = rows[1], rows[2], rows[3]
    for j in range(n):
        t[j] = lr * r[j] + lg * g[j] + lb * b[j]
    log2_row(t, log, n)
    at.state[1] = guide_line(
        p.through,
        at.y,
        at.x0,
        n,
        at.height,
        at.width,
        ca,
        cb,
        at.held[4:8],
        at.state[1],
        rows[5].view(np.int32),
        rows[6],
    )
    for j in range(n):
        t[j] = min(max(ca[j] * (log[j] - p.ev) + cb[j], least), one)


@kernel
def haze_row(r: F32, g: F32, b: F32, at: At, p: Haze) -> None:
    n, t = at.n, at.work[0]
    one, zero = np.float32(1.0), np.float32(0.0)
    _through(r, g, b, at, p, t)
    if p.amount > zero:
        for j in range(n):
            t[j] = one / (one - p.amount * (one - t[j]))
        ar, ag, ab = p.air[0], p.air[1], p.air[2]
        for j in range(n):
            r[j] = max((r[j] - ar) * t[j] + ar, zero)
        for j in range(n):
            g[j] = max((g[j] - ag) * t[j] + ag, zero)
        for j in range(n):
            b[j] = max((b[j] - ab) * t[j] + ab, zero)
    else:
        # Added where there is some already, and a little everywhere.
        for j in range(n):
            t[j] = one + p.amount * (np.float32(0.15) + np.float32(0.6) * (one - t[j]))
        ar, ag, ab = p.air[0], p.air[1], p.air[2]
        for j in range(n):
            r[j] = ar + (r[j] - ar) * t[j]
        for j in range(n):
            g[j] = ag + (g[j] - ag) * t[j]
        for j in range(n):
            b[j] = ab + (b[j] - ab) * t[j]


@kernel
def haze_row_fields(r: F32, g: F32, b: F32, at: At, p: Haze, field: F32) -> None:
    """Field: the amount of each px."""
    n, t, amount = at.n, at.work[0], field[0]
    one, zero = np.float32(1.0), np.float32(0.0)
    _through(r, g, b, at, p, t)
    for j in range(n):
        a = min(max(amount[j], -one), one)
        more = one / (one - max(a, zero) * (one - t[j]))
        less = one + a * (np.float32(0.15) + np.float32(0.6) * (one - t[j]))
        t[j] = more if a > zero else less
    ar, ag, ab = p.air[0], p.air[1], p.air[2]
    for j in range(n):
        r[j] = max((r[j] - ar) * t[j] + ar, min(r[j], zero))
    for j in range(n):
        g[j] = max((g[j] - ag) * t[j] + ag, min(g[j], zero))
    for j in range(n):
        b[j] = max((b[j] - ab) * t[j] + ab, min(b[j], zero))


def _moves(frame: StageFrame, settings: Mapping[str, Any]) -> tuple[float]:
    return (settings.get("structure.haze", 0.0) / 100,)


def _prepare(frame: StageFrame, development: "Development", moved: bool) -> Haze:
    amount = development.group(Structure).haze / 100
    if not amount and not moved:
        return Haze(False, LUMA, NO_GUIDE, np.float32(0), np.zeros(3, np.float32), np.float32(0))
    through, air = frame.haze()
    # From plane values, by the white balance and profile in force, so that it stays the haze of this picture.
    light = camera_matrix(frame) @ (air / (frame.pre * frame.numbers)) * 2.0**frame.ev
    # Half of its colour: a cast of the brightest place is as likely the thing's own.
    light = 0.5 * (light + light.mean())
    return Haze(True, LUMA, through, np.float32(frame.ev), f32(np.maximum(light, 1e-4)), np.float32(amount))


STAGE = Stage(
    "haze", prepare=_prepare, row=haze_row,
    fields=1, start=lambda p: (p.amount,), moves=_moves, row_fields=haze_row_fields,
)  # fmt: skip
