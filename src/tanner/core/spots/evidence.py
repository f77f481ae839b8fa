"""What a spot holds to, by what other frames show: at the same place of the sensor, of the setup, on the subject, or nowhere.

What is wrong in a picture is compared by its difference from what is around it, at its own size, in the roots of light.
"""

from collections.abc import Mapping, Sequence
from dataclasses import dataclass
from typing import Literal

import cv2
import numpy as np
from numpy.typing import NDArray

from tanner.core.areas.follow import through
from tanner.core.areas.place import to_places
from tanner.core.raw.source import Source
from tanner.core.spots.declare import Holds, SpotParts
from tanner.core.spots.dust import on_frame, on_sensor
from tanner.core.spots.find import plane_of

F32 = NDArray[np.float32]
F64 = NDArray[np.float64]
Hypothesis = Literal["sensor", "setup", "subject"]
LEAST = 4.0
"""Deviations of the noise that it has to stand out by, in the frame where it was set."""
LIKE, UNLIKE = 0.45, 0.25
"""Shares of its own strength from which on it is seen, and below which it is not; between them nobody knows."""


@dataclass(frozen=True)
class SpotSeen:
    """Whether a spot is seen in one frame, by where it would lie; None: the frame cannot say, or says the same for another.

    Attributes:
        elsewhere: the frame is of another setup.
    """

    by: Mapping[Hypothesis, bool | None]
    elsewhere: bool = False


@dataclass(frozen=True)
class Evidence:
    """What is proposed for a spot, and in how many of the frames that could show it it is seen, by hypothesis."""

    holds: Holds | None
    counts: Mapping[Hypothesis, tuple[int, int]]
    said: str


def strength(source: Source, plane: F32, at: tuple[float, float], size: float) -> tuple[float, float] | None:
    """How much a place differs from what is around it, with its sign, and the noise of that; None beyond the frame.

    Args:
        plane: see `find.plane_of`; at, size: as a spot's, upright.
    """
    h, w = plane.shape
    to = to_places(source.size, source.facts.orientation).astype(np.float64)
    sensor = np.linalg.inv(to[:, :2]) @ (np.asarray(at) - to[:, 2]) * (w / source.size[0])
    radius = max(size * max(h, w), 1.0)
    s = max(radius / 1.8, 0.9)
    half = int(np.ceil(7 * s + radius + 4))
    x, y = (round(float(v - 0.5)) for v in sensor)
    if not (0 <= x < w and 0 <= y < h):
        return None
    top, left = max(0, y - half), max(0, x - half)
    part = plane[top : y + half + 1, left : x + half + 1]
    found = cv2.GaussianBlur(part, (0, 0), s) - cv2.GaussianBlur(part, (0, 0), 1.8 * s)
    yy, xx = np.mgrid[0 : part.shape[0], 0 : part.shape[1]]
    far = np.hypot(yy - (y - top), xx - (x - left))
    inside, around = far <= max(0.7 * radius, 1.5), far > radius + 2 * s
    if not inside.any() or around.sum() < 20:
        return None
    values = found[inside]
    noise = 1.4826 * float(np.median(np.abs(found[around] - np.median(found[around]))))
    return float(values[np.abs(values).argmax()]), max(noise, 1e-6)


def own_strengths(source: Source, spots: Mapping[str, SpotParts]) -> dict[str, tuple[float, float]]:
    """Of each spot in the frame where it was set, by id; those that do not stand out are not there."""
    plane = plane_of(source)[0]
    found = {i: strength(source, plane, _middle(s), s.size) for i, s in spots.items()}
    return {i: f for i, f in found.items() if f and abs(f[0]) > LEAST * f[1]}


def _middle(spot: SpotParts) -> tuple[float, float]:
    x, y = spot.path[len(spot.path) // 2]
    return float(x), float(y)


def seen_in(
    source: Source,
    spots: Mapping[str, SpotParts],
    own: Mapping[str, tuple[float, float]],
    lead: tuple[tuple[int, int], int],
    setup: F64 | None,
    subject: Mapping[str, F64],
) -> dict[str, SpotSeen]:
    """Whether spots are seen in another frame.

    Args:
        own: see `own_strengths`; lead: size of the sensor and orientation of the frame where they were set.
        setup: how the setup moved (3, 3), None in a frame of another one; subject: how the subject moved at each spot.
    """
    plane = plane_of(source)[0]
    found: dict[str, SpotSeen] = {}
    for ident, (mine, _) in own.items():
        spot = spots[ident]
        at = _middle(spot)
        (on,) = on_frame(on_sensor([at], *lead), source.size, source.facts.orientation)
        places: dict[Hypothesis, tuple[float, float] | None] = {"sensor": on, "setup": None, "subject": None}
        ways: dict[Hypothesis, F64 | None] = {"setup": setup, "subject": subject.get(ident)}
        for key, m in ways.items():
            if m is not None:
                x, y = through(m, np.array([at]))[0]
                places[key] = float(x), float(y)
        by: dict[Hypothesis, bool | None] = {}
        for key, place in places.items():
            by[key] = None if place is None else _shown(source, plane, place, spot.size, mine)
        # Where two would lie at the same place a frame cannot tell them apart: the humbler one of them is not asked.
        if _close(places["subject"], places["setup"], spot.size):
            by["subject"] = None
        if _close(places["sensor"], places["setup"], spot.size):
            by["sensor"] = None
        found[ident] = SpotSeen(by, setup is None)
    return found


def _shown(source: Source, plane: F32, at: tuple[float, float], size: float, mine: float) -> bool | None:
    there = strength(source, plane, at, size)
    if there is None:
        return None
    value, noise = there
    share = value / mine
    if share > LIKE and abs(value) > 3 * noise:
        return True
    # Ground that varies as much as the spot itself hides it.
    return False if share < UNLIKE and noise < 0.3 * abs(mine) else None


def _close(a: tuple[float, float] | None, b: tuple[float, float] | None, size: float) -> bool:
    return a is not None and b is not None and float(np.hypot(a[0] - b[0], a[1] - b[1])) < max(1.2 * size, 5e-4)


ORDER: tuple[Hypothesis, ...] = ("sensor", "setup", "subject")
"""Of two that explain as much the first is taken: what is seen across setups explains more."""
SAID = {
    "sensor": "at the same place of the sensor",
    "setup": "at the same place of the setup",
    "subject": "with the subject",
}
WHAT = {"sensor": "the sensor", "setup": "the setup", "subject": "the subject"}


def weighed(seen: Sequence[SpotSeen]) -> Evidence:
    """What is proposed from what the frames say."""
    counts: dict[Hypothesis, tuple[int, int]] = {}
    for key in ORDER:
        known = [s.by[key] for s in seen if s.by.get(key) is not None]
        counts[key] = sum(map(bool, known)), len(known)

    def share(key: Hypothesis) -> float:
        n, of = counts[key]
        return n / of if of >= 2 else 0.0

    best = max(ORDER, key=share)
    if share(best) >= 0.6:
        n, of = counts[best]
        return Evidence(best, counts, f"Seen {SAID[best]} in {n} of {of} frames that tell: it holds to {WHAT[best]}.")
    if any(of >= 2 for _, of in counts.values()) and all(share(k) < 0.2 for k in counts):
        return Evidence("frame", counts, "Seen in no other frame: it is this frame’s alone.")
    return Evidence(None, counts, "The other frames do not tell what it holds to.")
