"""Proposes sets: frames taken under one setup, with the reason for every border between two sets.

Frames of a bracket stay together however they are exposed, and a frame of a colour chart goes with what was taken in its
light after it, however little it looks like it.
"""

import math
from collections.abc import Sequence
from dataclasses import dataclass
from datetime import datetime

import numpy as np

UNLIKE = 0.2
"""Mean distance of Lab thumbnails (see `tasks.descriptor`), relative to its usual spread, above which two
pictures show another setup. Chosen on made-up series: within a set up to 0.10, between sets 0.28 and up."""


@dataclass(frozen=True)
class SetLimits:
    """How far two neighbouring frames of one set may be apart.

    Attributes:
        minutes: between them; mired: of the light; ev: of the exposure; unlike: of the pictures, see UNLIKE.
        turned: frames held upright and frames held wide are kept apart.
    """

    minutes: float = 20.0
    mired: float = 40.0
    ev: float = 3.0
    unlike: float = UNLIKE
    turned: bool = True


@dataclass(frozen=True)
class Sighting:
    """What the proposal looks at for one frame.

    Attributes:
        light_mired: reciprocal temperature of the as-shot white.
        descriptor: likeness, 192 numbers, or empty when there is no picture yet.
        exposure_ev: exposure value at ISO 100, None where the file does not say; upright: higher than wide.
        chart: it shows a colour chart.
    """

    key: int
    camera: str
    lens: str
    focal_length_mm: float
    light_mired: float
    taken: datetime | None
    name: str
    descriptor: Sequence[float] = ()
    exposure_ev: float | None = None
    upright: bool | None = None
    chart: bool = False


@dataclass(frozen=True)
class Proposal:
    """A set: its frames in order of time, and why it does not belong to the one before."""

    keys: tuple[int, ...]
    reason: str


def exposure_ev(aperture: float | None, seconds: float | None, iso: float | None) -> float | None:
    """Exposure value at ISO 100: log2(N^2 / t) - log2(ISO / 100) (source: iso2720)."""
    if not aperture or not seconds or not iso or min(aperture, seconds, iso) <= 0:
        return None
    return math.log2(aperture**2 / seconds) - math.log2(iso / 100)


def difference(a: Sighting, b: Sighting, limits: SetLimits = SetLimits(), *, one_bracket: bool = False) -> str | None:
    """Why two neighbouring frames are of different setups, in words; None when they are not."""
    if a.camera != b.camera:
        return f"another camera: {b.camera or 'unknown'}"
    if a.lens != b.lens:
        return f"another lens: {b.lens or 'unknown'}"
    if abs(a.focal_length_mm - b.focal_length_mm) > 0.02 * max(a.focal_length_mm, b.focal_length_mm):
        return f"another focal length: {b.focal_length_mm:g} mm"
    if abs(a.light_mired - b.light_mired) > limits.mired:
        return f"other light: {1e6 / b.light_mired:.0f} K"
    if a.taken and b.taken:
        gap = (b.taken - a.taken).total_seconds() / 60
        if gap > limits.minutes:
            return f"{gap:.0f} minutes later"
    if limits.turned and None not in (a.upright, b.upright) and a.upright != b.upright:
        return "held upright" if b.upright else "held wide"
    if one_bracket:
        return None
    if a.exposure_ev is not None and b.exposure_ev is not None:
        # A larger exposure value is less light.
        change = a.exposure_ev - b.exposure_ev
        if abs(change) > limits.ev:
            return f"exposed {abs(change):.1f} EV {'longer' if change > 0 else 'shorter'}"
    distance = 0.0 if a.chart or b.chart else unlikeness(a, b)
    if distance > limits.unlike:
        return f"another picture: {distance:.2f} unlike"
    return None


def unlikeness(a: Sighting, b: Sighting) -> float:
    """Distance of two pictures' thumbnails, 0 for the same; 0 when either is not known."""
    if not a.descriptor or len(a.descriptor) != len(b.descriptor):
        return 0.0
    x, y = np.array(a.descriptor), np.array(b.descriptor)
    spread = np.sqrt(((x - x.mean()) ** 2).mean()) + np.sqrt(((y - y.mean()) ** 2).mean()) + 6.0
    return float(np.sqrt(((x - y) ** 2).mean()) / spread)


BRACKET_GAP_S, BRACKET_STEP, BRACKET_MOST = 5.0, 0.3, 9


def in_order(frames: Sequence[Sighting]) -> list[Sighting]:
    """In order of time; frames without a time come last, by name."""
    late = datetime.max
    return sorted(frames, key=lambda f: ((f.taken or late).replace(tzinfo=None), f.name))


def brackets(frames: Sequence[Sighting]) -> dict[int, tuple[int, int]]:
    """Frames of bracketed exposures: their key to (place from 1, count).

    A bracket is three to nine frames of one camera and lens, seconds after each other, no two of them exposed alike.
    """
    result: dict[int, tuple[int, int]] = {}
    run: list[Sighting] = []

    def end() -> None:
        if len(run) >= 3:
            for place, frame in enumerate(run, 1):
                result[frame.key] = place, len(run)
        run.clear()

    for frame in in_order(frames):
        if run and not _goes_on(run, frame):
            end()
        if frame.exposure_ev is not None and frame.taken:
            run.append(frame)
    end()
    return result


def _goes_on(run: list[Sighting], frame: Sighting) -> bool:
    last = run[-1]
    if frame.exposure_ev is None or not frame.taken or not last.taken or len(run) == BRACKET_MOST:
        return False
    near = (frame.taken - last.taken).total_seconds() <= BRACKET_GAP_S
    same = (frame.camera, frame.lens, frame.upright) == (last.camera, last.lens, last.upright)
    return near and same and all(abs(frame.exposure_ev - (f.exposure_ev or 0)) >= BRACKET_STEP for f in run)


def propose(frames: Sequence[Sighting], limits: SetLimits = SetLimits()) -> list[Proposal]:
    """Sets in order of time; frames without a time come last, by name."""
    ordered = in_order(frames)
    place = brackets(ordered)
    result: list[Proposal] = []
    current: list[Sighting] = []
    reason = "the first frames"
    for frame in ordered:
        why = None
        if current:
            # Held against the frame before; after a bracket against its first one, after a chart against what is not one.
            last = current[-1]
            in_one = frame.key in place and place[frame.key][0] > 1
            if not in_one and last.key in place:
                last = current[-place[last.key][0]]
            why = difference(last, frame, limits, one_bracket=in_one)
            if not why and last.chart and not frame.chart:
                before = next((f for f in reversed(current) if not f.chart), None)
                why = difference(before, frame, limits) if before else None
        if why:
            result.append(Proposal(tuple(f.key for f in current), reason))
            current, reason = [], why
        current.append(frame)
    if current:
        result.append(Proposal(tuple(f.key for f in current), reason))
    return result
