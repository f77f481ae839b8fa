"""Levels and curves of single channels, and of the three alike: a table each, after tone, in the working space's channels."""

from collections.abc import Hashable
from typing import TYPE_CHECKING, Any, NamedTuple

import numpy as np
from numpy.typing import NDArray

from tanner.core.jit import intrinsic, kernel, types
from tanner.core.memory import Slot
from tanner.core.stages.stage import F32, At, Stage, StageFrame
from tanner.core.tone.curve import Curve, evaluate, is_straight
from tanner.core.tone.levels import CHANNELS, NEUTRAL, Levels, levelled
from tanner.core.tone.light import from_display, to_display
from tanner.core.vector16 import (
    LANES,
    alike,
    array,
    below,
    choose,
    floats,
    load_some,
    looked_up,
    moved,
    store_some,
    whole,
)

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


@intrinsic
def _through(typingctx, channel, tables, which, at, keep):  # type: ignore[no-untyped-def]
    """A table on sixteen numbers of a channel, read between its entries; above 1 in proportion to what 1 becomes."""
    sig = types.void(channel, tables, which, at, keep)

    def codegen(context: Any, builder: Any, signature: Any, args: Any) -> Any:
        data, _ = array(context, builder, signature.args[0], args[0])
        table, (_, long) = array(context, builder, signature.args[1], args[1])
        which, at, keep = args[2:]
        table, mask = builder.gep(table, [builder.mul(which, long)]), below(builder, keep)
        v = load_some(builder, data, at, mask)
        along = v.most(0.0).least(1.0).root() * float(SIZE - 1)
        index = whole(along)
        low, high = looked_up(builder, table, index), looked_up(builder, table, moved(builder, index, 1))
        white = alike(builder, builder.load(builder.gep(table, [at.type(SIZE - 1)])))
        found = low + (along - floats(builder, index)) * (high - low)
        store_some(choose(v <= 1.0, found, v * white), data, at, mask)
        return context.get_dummy_value()

    return sig, codegen


@kernel
def channels_row(r: F32, g: F32, b: F32, at: At, p: Channels) -> None:
    for start in range(0, at.n, LANES):
        _through(r, p.tables, 0, start, at.n - start)
        _through(g, p.tables, 1, start, at.n - start)
        _through(b, p.tables, 2, start, at.n - start)


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
