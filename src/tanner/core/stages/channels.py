"""Levels and curves of single channels, and of the three alike: a table each, after tone, in the working space's channels."""

from collections.abc import Hashable
from typing import TYPE_CHECKING, NamedTuple

import numpy as np
from numpy.typing import NDArray

from tanner.core.jit import kernel
from tanner.core.memory import Slot
from tanner.core.stages.stage import F32, At, Stage, StageFrame
from tanner.core.tone.curve import Curve, evaluate, is_straight
from tanner.core.tone.levels import CHANNELS, NEUTRAL, Levels, levelled
from tanner.core.tone.light import from_display, to_display

if TYPE_CHECKING:
    from tanner.core.adjust.registry import Development

SIZE = 4096
TABLES: Slot[F32] = Slot("channel tables", keep=12, shared=True)
NO_TABLES: F32 = np.zeros((3, SIZE + 1), np.float32)


class Channels(NamedTuple):
    """
    Attributes:
        tables: (3, SIZE + 1), linear in and out: entry i of a channel is the result for (i / (SIZE - 1))²; the last stands twice.
    """

    on: bool
    tables: F32


@kernel
def _through(channel: F32, table: F32, work: F32, n: int) -> None:
    """A table on a row of one channel, read between its entries; above 1 in proportion to what 1 becomes."""
    zero, one, last = np.float32(0.0), np.float32(1.0), np.float32(SIZE - 1)
    after, white = table[1:], table[SIZE - 1]
    index = work[1].view(np.int32)
    for j in range(n):
        work[0, j] = np.sqrt(min(max(channel[j], zero), one)) * last
    for j in range(n):
        index[j] = np.int32(work[0, j])
    for j in range(n):
        work[2, j] = table[np.uint64(index[j])]
    for j in range(n):
        work[2, j] += (work[0, j] - np.float32(index[j])) * (after[np.uint64(index[j])] - work[2, j])
    for j in range(n):
        channel[j] = work[2, j] if channel[j] <= one else channel[j] * white


@kernel
def channels_row(r: F32, g: F32, b: F32, at: At, p: Channels) -> None:
    _through(r, p.tables[0], at.work, at.n)
    _through(g, p.tables[1], at.work, at.n)
    _through(b, p.tables[2], at.work, at.n)


def channel_of(levels: Levels, curve: Curve, channel: str, e: NDArray[np.float64]) -> NDArray[np.float64]:
    """What a channel's display values e, 0 to 1, become: its levels, the curve of all channels, its own curve."""
    own = levels.of(channel)
    if own != NEUTRAL:
        e = levelled(own, e)
    for points in (curve.channels, getattr(curve, channel)):
        if not is_straight(points):
            e = evaluate(points, e, curve.rising)
    return e


def channel_tables(levels: Levels, curve: Curve) -> F32:
    """See `Channels`."""
    x = (np.arange(SIZE) / (SIZE - 1)) ** 2
    rows = [from_display(channel_of(levels, curve, c, to_display(x))) for c in CHANNELS]
    return np.ascontiguousarray(np.pad(rows, ((0, 0), (0, 1)), mode="edge"), np.float32)


def _key(levels: Levels, curve: Curve) -> Hashable:
    curves = (curve.channels, *(getattr(curve, c) for c in CHANNELS))
    return tuple(levels.of(c) for c in CHANNELS), tuple(tuple(map(tuple, p)) for p in curves), curve.rising


def _prepare(frame: StageFrame, development: "Development", moved: bool) -> Channels:
    levels, curve = development.group(Levels), development.group(Curve)
    curves = (curve.channels, *(getattr(curve, c) for c in CHANNELS))
    if not moved and all(levels.of(c) == NEUTRAL for c in CHANNELS) and all(map(is_straight, curves)):
        return Channels(False, NO_TABLES)
    key = _key(levels, curve)
    return Channels(True, frame.source.memory.get(TABLES, key, lambda: channel_tables(levels, curve)))


STAGE = Stage(
    "channels", prepare=_prepare, row=channels_row, kind=Channels,
    again=(
        *(f"levels.{c}_{n}" for c in CHANNELS for n in ("black", "middle", "white", "black_out", "white_out")),
        *(f"curve.{c}" for c in ("channels", *CHANNELS)),
    ),
)  # fmt: skip
