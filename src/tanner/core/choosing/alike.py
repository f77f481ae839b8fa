"""Groups of frames that are nearly alike: taken shortly after one another, and hardly different to look at."""

from collections.abc import Mapping, Sequence
from dataclasses import dataclass
from functools import cache

import numpy as np
from numpy.typing import NDArray

from tanner.core.series.sets import Sighting, in_order, unlikeness

F64 = NDArray[np.float64]
GAP_S, UNLIKE = 60.0, 0.09
"""Seconds between neighbours of a group, and how unlike they may be (see `series.sets.UNLIKE`)."""
MOVED = 0.75
"""Of that, how unlike they may be once one was moved over the other (see `unlike_moved`): frames of the demo's burst of one
pose, held by hand, then give 0.063 at most, those of two poses 0.075 at least."""
COPY = 0.004
"""Unlikeness up to which two frames are called copies of one another: the same moment, or a file that was saved again."""


@dataclass(frozen=True)
class Near:
    """How far neighbours of one group may be apart."""

    gap_s: float = GAP_S
    unlike: float = UNLIKE


def groups(frames: Sequence[Sighting], near: Near = Near()) -> list[list[int]]:
    """Keys of frames that are nearly alike, in order of time; a frame that stands alone is a group of one.

    A frame joins the group of the one before it where both time and likeness say so; it must also be within twice the
    difference of the group's first frame, so that slow change does not make one group of a whole sitting.
    """
    result: list[list[int]] = []
    first: Sighting | None = None
    last: Sighting | None = None
    for frame in in_order(frames):
        if (
            last is not None
            and first is not None
            and _near(last, frame, near)
            and _alike(first, frame, 2 * near.unlike)
        ):
            result[-1].append(frame.key)
        else:
            result.append([frame.key])
            first = frame
        last = frame
    return result


def _near(a: Sighting, b: Sighting, near: Near) -> bool:
    if a.camera != b.camera or a.upright != b.upright:
        return False
    if a.taken is None or b.taken is None or abs((b.taken - a.taken).total_seconds()) > near.gap_s:
        return False
    return bool(a.descriptor) and bool(b.descriptor) and _alike(a, b, near.unlike)


GRID, MOST, MOVES = 8, 0.4, 5
"""Thumbnails are 8 x 8; a camera held by hand moves by up to 0.4 of a cell (5 % of the frame), looked at in five steps."""


def _alike(a: Sighting, b: Sighting, most: float) -> bool:
    plain = unlikeness(a, b)
    whole = len(a.descriptor) == len(b.descriptor) == 3 * GRID * GRID
    return plain <= most or (whole and plain <= 3 * most and unlike_moved(a, b) <= MOVED * most)


@cache
def _moves() -> tuple[F64, F64]:
    """For each move both thumbnails' way to where they meet: (moves * inner cells, cells) each.

    Each goes half of the way, so that both are smoothed alike; the outer cells are left out, as they show what is new.
    """

    def along(by: float) -> F64:
        at = np.clip(np.arange(GRID) + by, 0, GRID - 1)
        low = np.minimum(at.astype(int), GRID - 2)
        weights = np.zeros((GRID, GRID))
        weights[np.arange(GRID), low] = 1 - (at - low)
        weights[np.arange(GRID), low + 1] = at - low
        return weights[1:-1]

    steps = np.linspace(-MOST, MOST, MOVES)
    ways = [(np.kron(along(y / 2), along(x / 2)), np.kron(along(-y / 2), along(-x / 2))) for y in steps for x in steps]
    return np.concatenate([w for w, _ in ways]), np.concatenate([w for _, w in ways])


def unlike_moved(a: Sighting, b: Sighting) -> float:
    """As `unlikeness`, for thumbnails that were moved over one another first: the least of all small moves."""
    x, y = (np.array(s.descriptor).reshape(GRID * GRID, -1) for s in (a, b))
    to, back = _moves()
    off = ((to @ x - back @ y) ** 2).reshape(MOVES * MOVES, -1).mean(axis=1)
    spread = x.std() + y.std() + 6.0
    return float(np.sqrt(off.min()) / spread)


def copies(frames: Sequence[Sighting]) -> Mapping[int, int]:
    """Frames that look like one before them in the same group: key of the copy to key of the other."""
    found: dict[int, int] = {}
    for at, frame in enumerate(frames):
        for other in frames[:at]:
            if (
                frame.descriptor
                and other.descriptor
                and unlikeness(frame, other) <= COPY
                and frame.taken == other.taken
            ):
                found[frame.key] = other.key
                break
    return found
