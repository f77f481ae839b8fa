"""Proposes sets: frames taken under one setup, with the reason for every border between two sets."""

from collections.abc import Sequence
from dataclasses import dataclass
from datetime import datetime

import numpy as np

LONGEST_GAP_MIN = 20.0
MIRED_STEP = 40.0
UNLIKE = 0.2
"""Mean distance of Lab thumbnails (see `tasks.descriptor`), relative to its usual spread, above which two
pictures show another setup. Chosen on made-up series: within a set up to 0.10, between sets 0.28 and up."""


@dataclass(frozen=True)
class Sighting:
    """What the proposal looks at for one frame.

    Attributes:
        light_mired: reciprocal temperature of the as-shot white.
        descriptor: likeness, 192 numbers, or empty when there is no picture yet.
    """

    key: int
    camera: str
    lens: str
    focal_length_mm: float
    light_mired: float
    taken: datetime | None
    name: str
    descriptor: Sequence[float] = ()


@dataclass(frozen=True)
class Proposal:
    """A set: its frames in order of time, and why it does not belong to the one before."""

    keys: tuple[int, ...]
    reason: str


def difference(a: Sighting, b: Sighting) -> str | None:
    """Why two neighbouring frames are of different setups, in words; None when they are not."""
    if a.camera != b.camera:
        return f"another camera: {b.camera or 'unknown'}"
    if a.lens != b.lens:
        return f"another lens: {b.lens or 'unknown'}"
    if abs(a.focal_length_mm - b.focal_length_mm) > 0.02 * max(a.focal_length_mm, b.focal_length_mm):
        return f"another focal length: {b.focal_length_mm:g} mm"
    if abs(a.light_mired - b.light_mired) > MIRED_STEP:
        return f"other light: {1e6 / b.light_mired:.0f} K"
    if a.taken and b.taken:
        gap = (b.taken - a.taken).total_seconds() / 60
        if gap > LONGEST_GAP_MIN:
            return f"{gap:.0f} minutes later"
    distance = unlikeness(a, b)
    if distance > UNLIKE:
        return f"another picture: {distance:.2f} unlike"
    return None


def unlikeness(a: Sighting, b: Sighting) -> float:
    """Distance of two pictures' thumbnails, 0 for the same; 0 when either is not known."""
    if not a.descriptor or len(a.descriptor) != len(b.descriptor):
        return 0.0
    x, y = np.array(a.descriptor), np.array(b.descriptor)
    spread = np.sqrt(((x - x.mean()) ** 2).mean()) + np.sqrt(((y - y.mean()) ** 2).mean()) + 6.0
    return float(np.sqrt(((x - y) ** 2).mean()) / spread)


def propose(frames: Sequence[Sighting]) -> list[Proposal]:
    """Sets in order of time; frames without a time come last, by name."""
    late = datetime.max
    ordered = sorted(frames, key=lambda f: ((f.taken or late).replace(tzinfo=None), f.name))
    result: list[Proposal] = []
    current: list[Sighting] = []
    reason = "the first frames"
    for frame in ordered:
        why = difference(current[-1], frame) if current else None
        if why:
            result.append(Proposal(tuple(f.key for f in current), reason))
            current, reason = [], why
        current.append(frame)
    if current:
        result.append(Proposal(tuple(f.key for f in current), reason))
    return result
