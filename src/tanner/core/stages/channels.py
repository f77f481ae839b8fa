"""Levels and curves of single channels, and of the three alike: a table each, after tone, in the working space's channels."""

from collections.abc import Hashable
from typing import TYPE_CHECKING, Any, NamedTuple

import numpy as np
from numpy.typing import NDArray

from tanner.core.jit import intrinsic, kernel, types
from tanner.core.memory import Slot
from tanner.core.stages.stage import F32, At, Stage, StageFrame
from tanner.core.tone.curve import Curve, evaluate, is_straight
from tanner.core.tone.hues import WORK
from tanner.core.tone.levels import CHANNELS, NEUTRAL, Levels, levelled
from tanner.core.tone.light import from_display, to_display
from tanner.core.tone.lines import PAIR, WorkRows, look_up_pairs, pairs
from tanner.core.tone.table import RUN
from tanner.core.vector16 import LANES, alike, array, below, choose, load_some, store_some

if TYPE_CHECKING:
    from tanner.core.adjust.registry import Development

SIZE = 4096
TABLES: Slot[F32] = Slot("channel tables", keep=12, shared=True)
NO_TABLES: F32 = np.zeros((3, SIZE, PAIR), np.float32)
NONE = np.zeros(3, np.int32)


class Channels(NamedTuple):
    """
    Attributes:
        which: int32 (3,), 1 for channels that change.
        tables: (3, SIZE, PAIR), see `lines.pairs`, linear in and out: entry i of a channel is the result for (i / (SIZE - 1))².
    """

    on: bool
    which: NDArray[np.int32]
    tables: F32


@intrinsic
def _enter(typingctx, channel, rows, at, on, keep):  # type: ignore[no-untyped-def]
    """Where sixteen numbers of a channel lie in its table."""
    sig = types.void(channel, rows, at, on, keep)

    def codegen(context: Any, builder: Any, signature: Any, args: Any) -> Any:
        data, _ = array(context, builder, signature.args[0], args[0])
        at, on, keep = args[2:]
        v = load_some(builder, data, at, below(builder, keep))
        work = WorkRows(context, builder, signature.args[1], args[1], on)
        work.put_line(v.most(0.0).least(1.0).root() * float(SIZE - 1), SIZE - 2, PAIR)
        return context.get_dummy_value()

    return sig, codegen


@intrinsic
def _leave(typingctx, channel, rows, white, at, on, keep):  # type: ignore[no-untyped-def]
    """What was found; above 1 in proportion to what 1 becomes."""
    sig = types.void(channel, rows, white, at, on, keep)

    def codegen(context: Any, builder: Any, signature: Any, args: Any) -> Any:
        data, _ = array(context, builder, signature.args[0], args[0])
        white, (at, on, keep) = alike(builder, args[2]), args[3:]
        mask = below(builder, keep)
        v = load_some(builder, data, at, mask)
        found = WorkRows(context, builder, signature.args[1], args[1], on).found_between()
        store_some(choose(v <= 1.0, found, v * white), data, at, mask)
        return context.get_dummy_value()

    return sig, codegen


@kernel
def _through(channel: F32, table: F32, rows: F32, n: int) -> None:
    flat, white = table.reshape(-1), table[SIZE - 1, 0]
    for start in range(0, n, RUN):
        m = min(RUN, n - start)
        parts = (m + LANES - 1) // LANES
        for k in range(parts):
            _enter(channel, rows, start + k * LANES, k * LANES, m - k * LANES)
        for k in range(parts):
            look_up_pairs(flat, rows, k * LANES)
        for k in range(parts):
            _leave(channel, rows, white, start + k * LANES, k * LANES, m - k * LANES)


@kernel
def channels_row(r: F32, g: F32, b: F32, at: At, p: Channels) -> None:
    rows = np.empty((WORK, RUN), np.float32)
    if p.which[0]:
        _through(r, p.tables[0], rows, at.n)
    if p.which[1]:
        _through(g, p.tables[1], rows, at.n)
    if p.which[2]:
        _through(b, p.tables[2], rows, at.n)


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
    return pairs(np.array(rows))


def _key(levels: Levels, curve: Curve) -> Hashable:
    curves = (curve.channels, *(getattr(curve, c) for c in CHANNELS))
    return tuple(levels.of(c) for c in CHANNELS), tuple(tuple(map(tuple, p)) for p in curves), curve.rising


def _prepare(frame: StageFrame, development: "Development", moved: bool) -> Channels:
    levels, curve = development.group(Levels), development.group(Curve)
    changed = [levels.of(c) != NEUTRAL or not is_straight(getattr(curve, c)) for c in CHANNELS]
    which = np.array(changed, np.int32) | (not is_straight(curve.channels))
    if not moved and not which.any():
        return Channels(False, NONE, NO_TABLES)
    key = _key(levels, curve)
    return Channels(True, which, frame.source.memory.get(TABLES, key, lambda: channel_tables(levels, curve)))


STAGE = Stage(
    "channels", prepare=_prepare, row=channels_row, kind=Channels,
    again=(
        *(f"levels.{c}_{n}" for c in CHANNELS for n in ("black", "middle", "white", "black_out", "white_out")),
        *(f"curve.{c}" for c in ("channels", *CHANNELS)),
    ),
)  # fmt: skip
