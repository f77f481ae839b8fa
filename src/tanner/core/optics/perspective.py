"""Perspective: a picture as if the camera had been held level, by turning it about its own point of view.

Seen from where it stood, a camera that was tilted shows the same picture as a level one, only projected onto another
plane: the correction is a rotation between two directions, exact when the focal length is known (source:
hartley2004, chapter 8). Angles are those of the camera; straighten is its third.
"""

import math
from collections.abc import Sequence
from dataclasses import dataclass
from typing import ClassVar

import numpy as np
from numpy.typing import NDArray

from tanner.core.adjust.spec import Affects, Group, param

Array = NDArray[np.float64]
MOST = 30.0
"""Degrees of tilt that can be corrected."""


class Perspective(Group):
    key: ClassVar[str] = "perspective"
    rank: ClassVar[int] = 90
    affects: ClassVar[Affects] = "geometry"
    section: ClassVar[str] = "Shape"
    title: ClassVar[str] = "Perspective"
    about: ClassVar[str] = "Leaning lines: the tilt of the camera, undone."

    vertical: float = param(
        0.0,
        -MOST,
        MOST,
        label="Vertical",
        unit="°",
        step=0.1,
        per_frame=True,
        help="How far the camera looked up; lines that lean inwards at the top become upright.",
    )
    horizontal: float = param(
        0.0,
        -MOST,
        MOST,
        label="Horizontal",
        unit="°",
        step=0.1,
        per_frame=True,
        help="How far the camera looked to the right of what it stood in front of.",
    )
    amount: float = param(
        100.0, 0.0, 100.0, label="How upright", unit="%", per_frame=True, help="Less than 100 leaves some of the lean."
    )
    stretch: float = param(
        0.0,
        -30.0,
        30.0,
        label="Stretch",
        unit="%",
        step=0.5,
        per_frame=True,
        help="Height against width, for when the focal length is not known.",
    )

    @property
    def turns(self) -> bool:
        return bool(self.amount and (self.vertical or self.horizontal))


def rotation(vertical: float, horizontal: float, straighten: float = 0.0) -> Array:
    """The turn (3, 3) from directions of the upright picture to those of the taken one; degrees."""
    p, q, r = (math.radians(v) for v in (vertical, horizontal, straighten))
    about_x = np.array([[1, 0, 0], [0, math.cos(p), math.sin(p)], [0, -math.sin(p), math.cos(p)]])
    about_y = np.array([[math.cos(q), 0, -math.sin(q)], [0, 1, 0], [math.sin(q), 0, math.cos(q)]])
    about_z = np.array([[math.cos(r), math.sin(r), 0], [-math.sin(r), math.cos(r), 0], [0, 0, 1]])
    result: Array = about_x @ about_y @ about_z
    return result


@dataclass(frozen=True)
class Upright:
    """Angles that make lines parallel, in degrees, and how sure they are.

    Attributes:
        used: how many lines speak for them; of: how many were seen.
    """

    vertical: float
    horizontal: float
    straighten: float
    used: int
    of: int


Line = Sequence[float]
"""x0, y0, x1, y1 in units of the focal length, from the axis, of the picture without perspective correction."""


def _meeting(lines: Array, weights: Array) -> Array:
    """The direction (3,) in which lines meet: least squares over the planes that they span with the eye."""
    normals = _normals(lines) * np.sqrt(weights)[:, None]
    meeting: Array = np.linalg.svd(normals)[2][-1]
    return meeting


def _normals(lines: Array) -> Array:
    one = np.ones(len(lines))
    a = np.stack([lines[:, 0], lines[:, 1], one], axis=1)
    b = np.stack([lines[:, 2], lines[:, 3], one], axis=1)
    normals = np.cross(a, b)
    return normals / np.maximum(np.linalg.norm(normals, axis=1, keepdims=True), 1e-12)


def _axes(down: Array | None, right: Array | None) -> Array:
    """The turn whose second column is where upright lines meet, and whose first where level ones do."""
    if down is not None:
        down = down / np.linalg.norm(down)
        down = down if down[1] > 0 else -down
    if right is not None:
        right = right / np.linalg.norm(right)
        right = right if right[0] > 0 else -right
    if down is None and right is not None:
        # Nothing says what is upright: no roll but what the level lines ask for.
        q = math.asin(float(np.clip(right[2], -1, 1)))
        r = math.atan2(float(-right[1]), float(right[0]))
        return rotation(0.0, math.degrees(q), math.degrees(r))
    assert down is not None
    if right is None:
        r = math.asin(float(np.clip(down[0], -1, 1)))
        p = -math.atan2(float(down[2]), float(down[1]))
        return rotation(math.degrees(p), 0.0, math.degrees(r))
    right = right - down * float(down @ right)
    right = right / np.linalg.norm(right)
    return np.stack([right, down, np.cross(right, down)], axis=1)


def angles(turn: Array) -> tuple[float, float, float]:
    """Vertical, horizontal and straighten, in degrees, of a turn (the inverse of `rotation`)."""
    q = math.asin(float(np.clip(-turn[0, 2], -1, 1)))
    r = math.atan2(float(turn[0, 1]), float(turn[0, 0]))
    p = math.atan2(float(turn[1, 2]), float(turn[2, 2]))
    return math.degrees(p), math.degrees(q), math.degrees(r)


def from_lines(upright: Sequence[Line], level: Sequence[Line] = ()) -> Upright:
    """Angles from drawn lines: two or more that should be upright, two or more that should be level, or both.

    A single line gives the straightening alone.

    Raises:
        ValueError: no line at all, or lines that ask for more than can be corrected.
    """
    if not (upright or level):
        raise ValueError("Draw at least one line along an edge that should be upright or level.")
    if len(upright) < 2 and len(level) < 2:
        x0, y0, x1, y1 = (*upright, *level)[0]
        lean = math.degrees(math.atan2(x1 - x0, y1 - y0) if upright else math.atan2(-(y1 - y0), x1 - x0))
        lean = (lean + 90) % 180 - 90
        return Upright(0.0, 0.0, round(lean, 3), 1, 1)
    both = [
        _meeting(np.asarray(lines, float), np.ones(len(lines))) if len(lines) > 1 else None
        for lines in (upright, level)
    ]
    p, q, r = angles(_axes(both[0], both[1]))
    if max(abs(p), abs(q), abs(r)) > 45 or max(abs(p), abs(q)) > MOST:
        raise ValueError(f"These lines ask for a tilt of more than {MOST:.0f}°. Draw them along parallel edges.")
    count = len(upright) + len(level)
    return Upright(round(p, 3), round(q, 3), round(r, 3), count, count)


def from_picture(lines: Array, limit: float = 15.0) -> Upright:
    """Angles from the picture's own lines (source: hartley2004, chapter 8; robust choice by fischler1981).

    Lines within 25 degrees of upright vote for one meeting point; pairs of long ones propose it, and what agrees
    within a degree refines it. Level lines turn the camera sideways only where they agree as well.

    Args:
        lines: (N, 4), see Line.
        limit: degrees of tilt that are believed; more is taken for something that leans by itself.

    Raises:
        ValueError: too few lines agree.
    """
    lean = np.degrees(np.arctan2(np.abs(lines[:, 2] - lines[:, 0]), np.abs(lines[:, 3] - lines[:, 1])))
    lengths = np.hypot(lines[:, 2] - lines[:, 0], lines[:, 3] - lines[:, 1])
    found = {}
    for name, mask in (("down", lean < 25), ("right", lean > 65)):
        mine, weight = lines[mask], lengths[mask]
        if len(mine) >= 3:
            found[name] = (*_agreed(mine, weight), len(mine))
    down, right = found.get("down"), found.get("right")
    if down is None or down[1] < max(3, 0.25 * down[2]):
        raise ValueError("Too few upright lines agree. Draw two along edges that should be upright.")
    believed = right is not None and right[1] >= max(4, 0.4 * right[2])
    believed = believed and right is not None and _turned(down[0], right[0], lines[lean > 65], lengths[lean > 65])
    p, q, r = angles(_axes(down[0], right[0] if believed and right else None))
    if abs(p) > limit or abs(r) > 15:
        raise ValueError(f"The lines ask for a tilt of more than {limit:.0f}°, which may be the subject's own.")
    if abs(q) > limit:
        # Lines that run away sideways are a wall seen at an angle, which is meant to be seen so.
        p, q, r = angles(_axes(down[0], None))
        believed = False
    used = down[1] + (right[1] if believed and right else 0)
    return Upright(round(p, 3), round(q, 3), round(r, 3), used, len(lines))


def _turned(down: Array, right: Array, lines: Array, lengths: Array) -> bool:
    """Do level lines say that the camera was turned sideways, and not only allow it?

    They must agree clearly better with the turn than without it, and the turn must be far larger than its own error: level
    lines that lie near to the horizon, or that each lean a little by themselves, fit any turn.
    """
    normals = _normals(lines)
    straight, turned = _axes(down, None)[:, 0], _axes(down, right)[:, 0]
    with_, without = normals @ turned, normals @ straight
    close = math.sin(math.radians(CLOSE))
    agree = np.abs(with_) < close
    if agree.sum() < 4 or lengths[agree].sum() < CLEARLY * lengths[np.abs(without) < close].sum():
        return False
    # How much each line's error changes with the turn says how well all of them tell it.
    turn = math.acos(float(np.clip(straight @ turned, -1, 1)))
    change = (with_ - without)[agree] / max(turn, 1e-6)
    weight = lengths[agree] / lengths[agree].mean()
    spread = float((weight * with_[agree] ** 2).sum() / max(1, agree.sum() - 2))
    error = math.sqrt(spread / max(float((weight * change**2).sum()), 1e-12))
    return turn > 4 * error and turn > math.radians(0.5)


CLOSE, CLEARLY = 0.5, 1.25
"""Degrees within which a level line agrees with a turn, and by how much more of them must than without one."""


def _agreed(lines: Array, lengths: Array) -> tuple[Array, int]:
    """The meeting direction that most length of line agrees with, and by how many lines."""
    normals = _normals(lines)
    order = np.argsort(-lengths)[:40]
    best, score = np.zeros(3), -1.0
    close = math.sin(math.radians(1.0))
    for i in range(len(order)):
        for j in range(i):
            meeting = np.cross(normals[order[i]], normals[order[j]])
            size = np.linalg.norm(meeting)
            if size < 1e-6:
                continue
            agree = np.abs(normals @ (meeting / size)) < close
            if (total := float(lengths[agree].sum())) > score:
                best, score = meeting / size, total
    for _ in range(5):
        agree = np.abs(normals @ best) < close
        if agree.sum() >= 2:
            best = _meeting(lines[agree], lengths[agree])
    return best, int((np.abs(normals @ best) < close).sum())
