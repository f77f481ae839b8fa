"""Groups of frames that are nearly alike: taken shortly after one another, and hardly different to look at."""

from collections.abc import Mapping, Sequence
from dataclasses import dataclass

from tanner.core.series.sets import Sighting, in_order, unlikeness

GAP_S, UNLIKE = 60.0, 0.09
"""Seconds between neighbours of a group, and how unlike they may be (see `series.sets.UNLIKE`)."""
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
            and unlikeness(first, frame) <= 2 * near.unlike
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
    return bool(a.descriptor) and bool(b.descriptor) and unlikeness(a, b) <= near.unlike


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
