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
from tanner.core.stages.output import cube_roots
from tanner.core.stages.stage import F32, At, Stage, StageFrame, f32

if TYPE_CHECKING:
    from tanner.core.adjust.registry import Development

LIGHTS, CHROMAS, HUES = 25, 25, 72
MOST = 0.4
"""Chroma at the table's end; beyond it what is added stays the same."""
TABLES: Slot[F32] = Slot("colour mixes", keep=12, shared=True)
CHROMA_STEP = np.uint64((HUES + 1) * 4)
LIGHT_STEP = np.uint64(CHROMAS * (HUES + 1) * 4)
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
def _hues(a, b, out, n):
    """Angles of (a, b) in steps of the table's hues, from 0 on; error below 0.0002 of a step's radians.

    The arc tangent by a polynomial in the smaller over the larger (least-maximum fit, a common one; from memory).
    """
    turn = np.float32(HUES / (2 * np.pi))
    half, quarter, tiny = np.float32(HUES / 2), np.float32(HUES / 4), np.float32(1e-12)
    for j in range(n):
        x, y = abs(a[j]), abs(b[j])
        q = min(x, y) / (max(x, y) + tiny)
        s = q * q
        angle = ((np.float32(-0.0464964749) * s + np.float32(0.15931422)) * s - np.float32(0.327622764)) * s * q + q
        angle *= turn
        angle = quarter - angle if y > x else angle
        angle = half - angle if a[j] < np.float32(0.0) else angle
        out[j] = np.float32(HUES) - angle if b[j] < np.float32(0.0) else angle


@kernel
def _where(rows, n):
    """From lightness, axes and hue in rows 3 to 6 to the cell of the table, in row 6, and the shares of its ends, in rows 0 to 2.

    Chroma's points lie closer to one another near grey, where colours begin: they are squares.
    """
    zero, one = np.float32(0.0), np.float32(1.0)
    lights, chromas, hues = np.float32(LIGHTS - 2), np.float32(CHROMAS - 2), np.float32(HUES - 1)
    to_root = np.float32((CHROMAS - 1) / np.sqrt(MOST))
    index, cell = rows[6].view(np.int32), rows[7].view(np.int32)
    for j in range(n):
        rows[0, j] = min(max(rows[3, j], zero), one) * np.float32(LIGHTS - 1)
    for j in range(n):
        chroma = np.sqrt(rows[4, j] * rows[4, j] + rows[5, j] * rows[5, j])
        rows[1, j] = min(np.sqrt(chroma) * to_root, np.float32(CHROMAS - 1))
    for j in range(n):
        rows[2, j] = rows[6, j]
    for j in range(n):
        i, c, h = np.int32(min(rows[0, j], lights)), np.int32(min(rows[1, j], chromas)), np.int32(min(rows[2, j], hues))
        cell[j] = ((i * np.int32(CHROMAS) + c) * np.int32(HUES + 1) + h) * np.int32(4)
    for j in range(n):
        rows[0, j] -= np.float32(np.int32(min(rows[0, j], lights)))
    for j in range(n):
        c = np.float32(np.int32(min(rows[1, j], chromas)))
        rows[1, j] = (rows[1, j] * rows[1, j] - c * c) / (c + c + one)
    for j in range(n):
        rows[2, j] -= np.float32(np.int32(min(rows[2, j], hues)))
    for j in range(n):
        index[j] = cell[j]


@kernel
def mixer_row(r: F32, g: F32, b: F32, at: At, p: Mixer) -> None:
    rows, n, table = at.work, at.n, p.table
    zero, one = np.float32(0.0), np.float32(1.0)
    to, back = p.cones[0], p.cones[1]
    for k in range(3):
        m0, m1, m2 = to[k, 0], to[k, 1], to[k, 2]
        for j in range(n):
            rows[3 + k, j] = m0 * r[j] + m1 * g[j] + m2 * b[j]
        cube_roots(rows[3 + k], rows[k], n)
    for j in range(n):
        x, y, z = rows[0, j], rows[1, j], rows[2, j]
        rows[3, j] = np.float32(0.2104542553) * x + np.float32(0.7936177850) * y - np.float32(0.0040720468) * z
    for j in range(n):
        x, y, z = rows[0, j], rows[1, j], rows[2, j]
        rows[4, j] = np.float32(1.9779984951) * x - np.float32(2.4285922050) * y + np.float32(0.4505937099) * z
    for j in range(n):
        x, y, z = rows[0, j], rows[1, j], rows[2, j]
        rows[5, j] = np.float32(0.0259040371) * x + np.float32(0.7827717662) * y - np.float32(0.8086757660) * z
    _hues(rows[4], rows[5], rows[6], n)
    _where(rows, n)
    index, flat = rows[6].view(np.int32), table.reshape(-1)
    for j in range(n):
        at0 = np.uint64(index[j])
        fi, fc, fh = rows[0, j], rows[1, j], rows[2, j]
        w1, w3 = (one - fi) * fc, fi * fc
        w0, w2 = (one - fi) - w1, fi - w3
        d0, d1, d2 = zero, zero, zero
        for step, w in ((np.uint64(0), w0), (CHROMA_STEP, w1), (LIGHT_STEP, w2), (LIGHT_STEP + CHROMA_STEP, w3)):
            place = at0 + step
            low, high = w - w * fh, w * fh
            d0 += low * flat[place] + high * flat[place + np.uint64(4)]
            d1 += low * flat[place + np.uint64(1)] + high * flat[place + np.uint64(5)]
            d2 += low * flat[place + np.uint64(2)] + high * flat[place + np.uint64(6)]
        rows[3, j] += d0
        rows[4, j] += d1
        rows[5, j] += d2
    for j in range(n):
        x = rows[3, j] + np.float32(0.3963377774) * rows[4, j] + np.float32(0.2158037573) * rows[5, j]
        rows[0, j] = x * x * x
    for j in range(n):
        x = rows[3, j] - np.float32(0.1055613458) * rows[4, j] - np.float32(0.0638541728) * rows[5, j]
        rows[1, j] = x * x * x
    for j in range(n):
        x = rows[3, j] - np.float32(0.0894841775) * rows[4, j] - np.float32(1.2914855480) * rows[5, j]
        rows[2, j] = x * x * x
    for j in range(n):
        r[j] = back[0, 0] * rows[0, j] + back[0, 1] * rows[1, j] + back[0, 2] * rows[2, j]
    for j in range(n):
        g[j] = back[1, 0] * rows[0, j] + back[1, 1] * rows[1, j] + back[1, 2] * rows[2, j]
    for j in range(n):
        b[j] = back[2, 0] * rows[0, j] + back[2, 1] * rows[1, j] + back[2, 2] * rows[2, j]


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
