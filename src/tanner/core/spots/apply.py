"""Spots put right on the numbers of a frame: a mosaic by its tiles of two by two, so that its pattern stays, else on its planes.

Places are those of the sensor, as masks have them: crop, lens and perspective move the picture and its spots together. What a
spot needs is worked out when it is first looked at, and remembered with the frame; one spot more costs one spot.
"""

import hashlib
import sys
import weakref
from collections.abc import Callable, Hashable, Mapping, Sequence
from dataclasses import dataclass
from pathlib import Path
from typing import Any, NamedTuple, TypeVar

import numpy as np
from numpy.typing import NDArray

from tanner.core.adjust.registry import Development
from tanner.core.memory import Slot
from tanner.core.raw.reader import read
from tanner.core.raw.source import Source
from tanner.core.sharing import each
from tanner.core.spots.canvas import NEAR, Done, SpotCanvas, SpotPatch, Window
from tanner.core.spots.declare import MOST, SPOTS, SpotParts

T = TypeVar("T")


@dataclass(frozen=True)
class Healed:
    """A frame with spots put right: the source, the key of each spot in order, and what became of them by id."""

    source: Source
    keys: tuple[str, ...]
    done: Mapping[str, Done]


@dataclass(frozen=True)
class HealedFrom:
    """What a healed frame was made from, as long as that is open, what was put into it, and what became of each spot."""

    source: "weakref.ref[Source]"
    patches: tuple[SpotPatch, ...]
    done: Mapping[str, Done]


HEALED_FROM: Slot[HealedFrom] = Slot("healed from")
HEALED: Slot[Healed] = Slot("healed", keep=2, heavy=True)
PATCHES: Slot[tuple[Done, SpotPatch | None]] = Slot("patches of spots", keep=2 * MOST)
"""What each spot put where, by all that it depends on: one that is changed costs itself and what lies near it."""
OTHERS: Slot[Source] = Slot("other frames", keep=1, heavy=True)
"""Frames that spots are taken from, by their path."""


def spots_of(development: Development) -> tuple[tuple[str, SpotParts], ...]:
    """The spots of a development that are switched on, with their ids, in order."""
    return tuple((t.id, t.parts) for t in development.listed(SPOTS.key))  # type: ignore[misc]


def key_of(development: Development) -> tuple[str, ...]:
    """All that the spots of a development do: for what is kept of a frame."""
    return tuple(_key(i, p) for i, p in spots_of(development))


def _key(ident: str, spot: SpotParts) -> str:
    without = {"name", "order", "enabled", "present", "kind"}
    return ident + spot.model_dump_json(exclude=without, exclude_defaults=True)


def healed_source(source: Source, development: Development) -> Source:
    """The source with the spots of a development put right; itself without any."""
    if source.healed or not development.listed(SPOTS.key):
        return source
    return healed_frame(source, development).source


def done_in(source: Source) -> Mapping[str, Done]:
    """What became of each spot of a healed source; nothing for another."""
    found = source.memory.find(HEALED_FROM, None)
    return found.done if found else {}


def like_before(
    source: Source, slot: Slot[T], key: Callable[[tuple[str, ...]], Hashable]
) -> tuple[T, tuple[SpotPatch, ...]] | None:
    """What is kept of the same frame with other spots, and the patches that make the difference; of several the most alike.

    Args:
        key: what it is kept by, from the keys of the frame's spots.
    """
    made = source.memory.find(HEALED_FROM, None)
    before = made.source() if made else None
    if made is None or before is None:
        return None
    mine, best = {id(p): p for p in made.patches}, None
    others = [(h.source, h.keys) for h in before.memory.all(HEALED) if h.source is not source]
    for other, keys in ((before, ()), *others):
        kept = other.memory.find(slot, key(keys))
        if kept is None:
            continue
        found = other.memory.find(HEALED_FROM, None)
        theirs = {id(p): p for p in found.patches} if found else {}
        apart = tuple((theirs | mine)[k] for k in theirs.keys() ^ mine.keys())
        if best is None or len(apart) < len(best[1]):
            best = kept, apart
    return best


def healed_frame(source: Source, development: Development) -> Healed:
    """The same, with what became of each spot."""
    spots = spots_of(development)
    keys = tuple(_key(i, p) for i, p in spots)

    def make() -> Healed:
        data = _numbers(source)
        canvas = SpotCanvas(source, data, [p for _, p in spots], lambda path: _other(source, path))
        near = _with_near(canvas, spots, keys)

        def anew(n: int) -> tuple[Done, SpotPatch | None]:
            return source.memory.put(PATCHES, near[n].key, canvas.put_right(spots[n][1], near[n].near, near[n].wide))

        became: dict[int, tuple[Done, SpotPatch | None]] = {}
        for turn in range(max((n.turn for n in near), default=-1) + 1):
            wanting = []
            for n, found in enumerate(near):
                if found.turn != turn:
                    continue
                known = source.memory.find(PATCHES, found.key)
                if known is None:
                    wanting.append(n)
                    continue
                became[n] = known
                if known[1] is not None:
                    canvas.lay(known[1])
            became |= zip(wanting, each(anew, wanting), strict=True)
        done = {ident: became[n][0] for n, (ident, _) in enumerate(spots)}
        laid = [patch for n in range(len(spots)) if (patch := became[n][1]) is not None]
        result = Source(
            source.facts,
            data,
            profiles=source.profiles,
            gain_maps=source.gain_maps,
            denoised=source.denoised,
            healed=True,
        )
        result.memory.put(HEALED_FROM, None, HealedFrom(weakref.ref(source), tuple(laid), done))
        result.wanted = source.wanted
        result.memory.take_shared(source.memory)
        return Healed(result, keys, done)

    return source.memory.get(HEALED, keys, make)


def _numbers(source: Source) -> NDArray[Any]:
    """The frame's numbers, to be changed: those of the oldest healed one that is kept, put back to how they were, else a copy.

    A mosaic of 24 megapixels is 48 MB; to touch so much memory for the first time costs more than to heal a spot.
    """
    kept = source.memory.keys(HEALED)
    if len(kept) < HEALED.keep:
        return np.array(source.data)
    oldest = source.memory.drop(HEALED, kept[0])
    # Two: what is kept holds it, and the question itself. Any more, and somebody is still at work with it.
    if oldest is None or sys.getrefcount(oldest.source) > 2:
        return np.array(source.data)
    data = oldest.source.data
    if sys.getrefcount(data) > 3:
        return np.array(source.data)
    before = oldest.source.memory.find(HEALED_FROM, None)
    for patch in before.patches if before else ():
        h, w = patch.values.shape[-2:]
        part = (..., slice(patch.top, patch.top + h), slice(patch.left, patch.left + w))
        data[part] = source.data[part]
    return data


class _Near(NamedTuple):
    """What the patch of a spot depends on, as a key; its turn: those of one turn do not reach each other; and its windows."""

    key: str
    turn: int
    near: Window
    wide: Window


def _with_near(canvas: SpotCanvas, spots: Sequence[tuple[str, SpotParts]], keys: Sequence[str]) -> list[_Near]:
    """A patch depends on its spot, on all that was done before within its reach, and on what must be no source."""
    lain = [canvas.lain(s) for _, s in spots]
    at = canvas.windows(lain)
    windows, close = (list(map(tuple, w.tolist())) for w in (at, canvas.windows(lain, NEAR)))
    top, left, bottom, right = at.T
    found: list[_Near] = []
    for n, key in enumerate(keys):
        y0, x0, y1, x1 = windows[n]
        near = np.flatnonzero((top < y1) & (bottom > y0) & (left < x1) & (right > x0)).tolist()
        before = [found[k] for k in near if k < n]
        parts = [key, *(k.key for k in before), "", *(keys[k] for k in near if k > n)]
        turn = max((k.turn for k in before), default=-1) + 1
        found.append(_Near(hashlib.sha256("\n".join(parts).encode()).hexdigest(), turn, close[n], windows[n]))
    return found


def _other(source: Source, path: Path) -> Source:
    return source.memory.get(OTHERS, str(path), lambda: read(path))
