"""Hue ranges, named and picked, black and white, and three-way balance: what depends on a px's own colour alone, as one table in Oklab.

The table's axes are lightness, chroma and hue of Oklab (source: ottosson2020); it holds what is added to lightness and to
the two colour axes, and is read in three directions. Hue goes round; greys have no hue, so that all hues agree there.
"""

from collections.abc import Sequence
from typing import TYPE_CHECKING, NamedTuple

import numpy as np

from tanner.core.colour.balance import Balance, balanced
from tanner.core.colour.mono import Mono, greyed
from tanner.core.colour.picked import PICKED, PickedParts, moved
from tanner.core.colour.ranges import Ranges, ranged
from tanner.core.colour.spaces import neutral_cones
from tanner.core.jit import kernel
from tanner.core.memory import Slot
from tanner.core.stages.stage import F32, At, Stage, StageFrame, f32
from tanner.core.tone.hues import WORK, look_up_deep
from tanner.core.tone.oklab import CHROMAS, HUES, LIGHTS, MOST, enter, leave
from tanner.core.tone.table import RUN
from tanner.core.vector16 import LANES

if TYPE_CHECKING:
    from tanner.core.adjust.registry import Development

TABLES: Slot[F32] = Slot("colour mixes", keep=12, shared=True)
NO_TABLE: F32 = np.zeros((1, 1, 1, 4), np.float32)


CONES = f32(neutral_cones())


class Mixer(NamedTuple):
    """
    Attributes:
        cones: (2, 3, 3) working space to the cone responses of Oklab, and back.
        table: (LIGHTS, CHROMAS, HUES + 1, 4): what is added to lightness and the two axes, and nothing.
    """

    on: bool
    cones: F32
    table: F32


@kernel
def mixer_row(r: F32, g: F32, b: F32, at: At, p: Mixer) -> None:
    rows = np.empty((WORK, RUN), np.float32)
    flat, chroma_step, light_step = p.table.reshape(-1), np.int64(HUES + 1), np.int64(CHROMAS * (HUES + 1))
    for start in range(0, at.n, RUN):
        m = min(RUN, at.n - start)
        parts = (m + LANES - 1) // LANES
        for k in range(parts):
            enter(r, g, b, p.cones, rows, start + k * LANES, k * LANES, m - k * LANES)
        for k in range(parts):
            look_up_deep(flat, chroma_step, light_step, rows, k * LANES)
        for k in range(parts):
            leave(rows, p.cones, r, g, b, start + k * LANES, k * LANES, m - k * LANES)


def mix(
    ranges: Ranges, mono: Mono, balance: Balance, lab: np.ndarray, picked: Sequence[PickedParts] = ()
) -> np.ndarray:
    """Oklab values (..., 3) after all of them, exactly: what the table holds at its points."""
    light, a, b = (lab[..., k] for k in range(3))
    changed = ranged(ranges, light, np.hypot(a, b), np.rad2deg(np.arctan2(b, a)) % 360)
    changed = moved(picked, *changed)
    return np.stack(balanced(balance, *greyed(mono, *changed)), axis=-1)


def mixer_table(ranges: Ranges, mono: Mono, balance: Balance, picked: Sequence[PickedParts] = ()) -> F32:
    """See `Mixer`."""
    light, chroma, hue = np.meshgrid(
        np.linspace(0, 1, LIGHTS),
        MOST * np.linspace(0, 1, CHROMAS) ** 2,
        np.arange(HUES + 1) * (2 * np.pi / HUES),
        indexing="ij",
    )
    lab = np.stack([light, chroma * np.cos(hue), chroma * np.sin(hue)], axis=-1)
    added = np.zeros((LIGHTS, CHROMAS, HUES + 1, 4), np.float32)
    added[..., :3] = mix(ranges, mono, balance, lab, picked) - lab
    # Greys have no hue: what all hues say there, together.
    added[:, 0] = added[:, 0, :-1].mean(axis=1, keepdims=True)
    return added


def _prepare(frame: StageFrame, development: "Development", wanted: bool) -> Mixer:
    parts = development.group(Ranges), development.group(Mono), development.group(Balance)
    picked = [t.parts for t in development.listed(PICKED.key) if isinstance(t.parts, PickedParts) and t.parts.changes]
    on = parts[0] != Ranges() or parts[1].amount > 0 or parts[2] != Balance() or bool(picked)
    if not on and not wanted:
        return Mixer(False, CONES, NO_TABLE)
    key = parts, tuple(p.model_dump_json(exclude={"name"}) for p in picked)
    return Mixer(True, CONES, frame.source.memory.get(TABLES, key, lambda: mixer_table(*parts, picked)))


STAGE = Stage(
    "mixer",
    (Ranges, Balance, Mono),
    _prepare,
    row=mixer_row,
    kind=Mixer,
    again=tuple(f"{g.key}.{n}" for g in (Ranges, Balance, Mono) for n in g.model_fields if n != "enabled"),
)
