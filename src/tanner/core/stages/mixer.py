"""Hue ranges, named and picked, black and white, and three-way balance: what depends on a px's own colour alone, in Oklab.

What goes by hue stands in a table by hue: how far each hue is turned and made stronger, how much lighter it gets, and how light it
is as a grey; chroma and lightness have their part in it by formula. What goes by lightness, balance and tints, stands in a
table by lightness. Both are as good as the formulas. Picked ranges are limited by all three at once: with them a
table of lightness, chroma and hue takes the first one's place (source: ottosson2020).
"""

from collections.abc import Sequence
from typing import TYPE_CHECKING, Any, NamedTuple

import numpy as np

from tanner.core.colour.balance import Balance, balanced, shift
from tanner.core.colour.mono import Mono, greyed, tint, weighed
from tanner.core.colour.picked import PICKED, PickedParts, moved
from tanner.core.colour.ranges import HUES as NAMED
from tanner.core.colour.ranges import Ranges, ranged, shares
from tanner.core.colour.ranges import mixed as mixed_weights
from tanner.core.colour.spaces import neutral_cones
from tanner.core.jit import kernel
from tanner.core.memory import Slot
from tanner.core.stages.stage import F32, At, Stage, StageFrame, f32
from tanner.core.tone.hues import CELL, WORK, look_up_deep
from tanner.core.tone.lines import look_up_line
from tanner.core.tone.oklab import (
    CHROMAS,
    HUES,
    LIGHTS,
    MOST,
    STEPS,
    TURNS,
    along_circle,
    enter_deep,
    enter_hue,
    enter_light,
    leave,
    leave_as_found,
    settle,
    turn,
    turn_and_weigh,
)
from tanner.core.tone.table import RUN
from tanner.core.vector16 import LANES

if TYPE_CHECKING:
    from tanner.core.adjust.registry import Development

NO_TABLE: F32 = np.zeros((1, 1, 1, CELL), np.float32)
NO_HUES: F32 = np.zeros((TURNS + 1, CELL), np.float32)
NO_LIGHTS: F32 = np.zeros((STEPS + 1, CELL), np.float32)
CONES = f32(neutral_cones())


class Mixer(NamedTuple):
    """
    Attributes:
        cones: (2, 3, 3) working space to the cone responses of Oklab, and back.
        by: int32 (3,): whether something goes by hue, by lightness, by all three at once (instead of by hue).
        hues: (TURNS + 1, CELL), see `table_by_hue`; lights: (STEPS + 1, CELL), see `table_by_lightness`.
        table: (LIGHTS, CHROMAS, HUES + 1, CELL): what is added to lightness and the two axes, and nothing, see `deep_table`.
        rest: how much of its colour each px keeps in black and white; 2 without it, so that no weights are read.
    """

    on: bool
    cones: F32
    by: np.ndarray
    hues: F32
    lights: F32
    table: F32
    rest: np.float32


MIXES: Slot[Mixer] = Slot("colour mixes", keep=12, shared=True)


@kernel
def mixer_row(r: F32, g: F32, b: F32, at: At, p: Mixer) -> None:
    rows = np.empty((WORK, RUN), np.float32)
    hues, lights, deep = p.hues.reshape(-1), p.lights.reshape(-1), p.table.reshape(-1)
    chroma_step, light_step = np.int64(HUES + 1), np.int64(CHROMAS * (HUES + 1))
    by_hue, by_light, by_all = p.by[0] == 1, p.by[1] == 1, p.by[2] == 1
    if not (by_hue or by_light or by_all):
        return
    for start in range(0, at.n, RUN):
        m = min(RUN, at.n - start)
        parts = (m + LANES - 1) // LANES
        if by_all:
            for k in range(parts):
                enter_deep(r, g, b, p.cones, rows, start + k * LANES, k * LANES, m - k * LANES)
            for k in range(parts):
                look_up_deep(deep, chroma_step, light_step, rows, k * LANES)
            for k in range(parts):
                settle(rows, k * LANES)
        elif by_hue:
            for k in range(parts):
                enter_hue(r, g, b, p.cones, rows, start + k * LANES, k * LANES, m - k * LANES)
            for k in range(parts):
                look_up_line(hues, rows, k * LANES)
            if p.rest <= np.float32(1.0):
                for k in range(parts):
                    turn_and_weigh(rows, p.rest, k * LANES)
            else:
                for k in range(parts):
                    turn(rows, p.rest, k * LANES)
        else:
            for k in range(parts):
                enter_light(r, g, b, p.cones, rows, start + k * LANES, k * LANES, m - k * LANES)
        if by_light:
            for k in range(parts):
                look_up_line(lights, rows, k * LANES)
            for k in range(parts):
                leave(rows, p.cones, r, g, b, start + k * LANES, k * LANES, m - k * LANES)
        else:
            for k in range(parts):
                leave_as_found(rows, p.cones, r, g, b, start + k * LANES, k * LANES, m - k * LANES)


def mix(
    ranges: Ranges, mono: Mono, balance: Balance, lab: np.ndarray, picked: Sequence[PickedParts] = ()
) -> np.ndarray:
    """Oklab values (..., 3) after all of them, exactly: what the tables are held against."""
    light, a, b = (lab[..., k] for k in range(3))
    changed = ranged(ranges, light, np.hypot(a, b), np.rad2deg(np.arctan2(b, a)) % 360)
    changed = moved(picked, *changed)
    return np.stack(balanced(balance, *greyed(mono, *changed)), axis=-1)


def table_by_hue(ranges: Ranges, mono: Mono) -> F32:
    """By hue, see `oklab.along_circle`: two factors that turn and stretch the colour axes, how much lighter, how light as a grey."""
    hue = np.rad2deg(along_circle(np.arange(TURNS + 1)))
    here = shares(hue)

    def of(group: Ranges | Mono, what: str, weights: Any) -> Any:
        return mixed_weights(weights, [getattr(group, name + what) / 100 for name in NAMED])

    _, strength, turned = ranged(ranges, np.zeros_like(hue), np.ones_like(hue), hue)
    by = np.deg2rad(turned - hue)
    grey = mono.amount / 100 * of(mono, "", shares(turned))
    return f32(np.stack([strength * np.cos(by), strength * np.sin(by), of(ranges, "_lightness", here), grey], axis=1))


def table_by_lightness(mono: Mono, balance: Balance) -> F32:
    """By lightness from 0 to 1: what tints and balance add to lightness and the two colour axes, and nothing."""
    light = np.linspace(0, 1, STEPS + 1)
    more, a, b = shift(balance, light)
    ta, tb = tint(mono, light)
    return f32(np.stack([more, a + ta, b + tb, np.zeros_like(light)], axis=1))


def deep_table(ranges: Ranges, mono: Mono, picked: Sequence[PickedParts]) -> F32:
    """What ranges, picked ones too, and black and white add; see `Mixer`. Tints and balance come after it."""
    light, chroma, hue = np.meshgrid(
        np.linspace(0, 1, LIGHTS),
        MOST * np.linspace(0, 1, CHROMAS) ** 2,
        np.arange(HUES + 1) * (2 * np.pi / HUES),
        indexing="ij",
    )
    lab = np.stack([light, chroma * np.cos(hue), chroma * np.sin(hue)], axis=-1)
    added = np.zeros((LIGHTS, CHROMAS, HUES + 1, CELL), np.float32)
    changed = moved(picked, *ranged(ranges, light, chroma, np.rad2deg(hue)))
    added[..., :3] = np.stack(weighed(mono, *changed), axis=-1) - lab
    # Greys have no hue: what all hues say there, together.
    added[:, 0] = added[:, 0, :-1].mean(axis=1, keepdims=True)
    return added


def mixer(ranges: Ranges, mono: Mono, balance: Balance, picked: Sequence[PickedParts] = ()) -> Mixer:
    """The stage's parameters."""
    tinted = mono.amount > 0 and (mono.shadow_tint > 0 or mono.highlight_tint > 0)
    by_light, by_hue = balance != Balance() or tinted, ranges != Ranges() or mono.amount > 0
    by = np.array([by_hue, by_light, bool(picked)], np.int32)
    return Mixer(
        bool(by.any()),
        CONES,
        by,
        table_by_hue(ranges, mono) if by_hue and not picked else NO_HUES,
        table_by_lightness(mono, balance) if by_light else NO_LIGHTS,
        deep_table(ranges, mono, picked) if picked else NO_TABLE,
        np.float32(1 - mono.amount / 100 if mono.amount > 0 else 2.0),
    )


def _prepare(frame: StageFrame, development: "Development", wanted: bool) -> Mixer:
    parts = development.group(Ranges), development.group(Mono), development.group(Balance)
    picked = [t.parts for t in development.listed(PICKED.key) if isinstance(t.parts, PickedParts) and t.parts.changes]
    key = parts, tuple(p.model_dump_json(exclude={"name"}) for p in picked)
    return frame.source.memory.get(MIXES, key, lambda: mixer(*parts, picked))


STAGE = Stage(
    "mixer",
    (Ranges, Balance, Mono),
    _prepare,
    row=mixer_row,
    kind=Mixer,
    again=tuple(f"{g.key}.{n}" for g in (Ranges, Balance, Mono) for n in g.model_fields if n != "enabled"),
)
