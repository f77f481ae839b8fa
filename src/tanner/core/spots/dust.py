"""Dust on a sensor: what several frames of a camera, or one plain frame, show at the same place of the sensor.

Places here are of the sensor as it is read out: shares of its long edge from its middle, whichever way the camera was held.
"""

import math
from collections.abc import Sequence
from dataclasses import dataclass

import cv2
import numpy as np
from numpy.typing import NDArray

from tanner.core.areas.place import to_places
from tanner.core.raw.source import Source
from tanner.core.spots.find import SIZES, even_ground, plane_of, specks

F64 = NDArray[np.float64]
F32 = NDArray[np.float32]
Path = tuple[tuple[float, float], ...]
WIDEST = 4.0
"""Dust throws no shadow that one sees at wider openings than this f-number."""
SMALL = 512
"""Long edge in px of the picture by which one knows that the camera moved."""
MOVED = 0.5
"""px of it by which what lies in the scene comes to lie elsewhere on the sensor."""
FLOOR = 2.0
"""Deviations of the noise that a frame has to show at least on its own, on average, for a place to count."""


@dataclass(frozen=True)
class Speck:
    """One piece of dust: its place on the sensor (shares of the long edge from the middle), radius (shares), and how sure it is.

    Attributes:
        frames: in how many frames it was seen.
    """

    x: float
    y: float
    size: float
    confidence: float
    frames: int = 1


@dataclass(frozen=True)
class DustLook:
    """What one frame shows of dust, on its planes at half the sensor's size.

    Attributes:
        dark: float16 (h, w), by how many deviations of the noise a place is darker than what is around it; nan: not even ground.
        wide: int8 (h, w), which of `find.SIZES` it has there.
        small: uint8, a small picture, for whether the camera moved; specks: what is found in it alone.
        group: number of its set.
    """

    dark: NDArray[np.float16]
    wide: NDArray[np.int8]
    small: NDArray[np.uint8]
    specks: tuple[Speck, ...]
    group: int = 0


def turned(size: tuple[int, int], orientation: int) -> F64:
    """(2, 2) from places of the upright frame to those of the sensor; both have the same middle.

    Args:
        size: of the sensor in px, width first; orientation: EXIF 1 to 8.
    """
    upright, sensor = to_places(size, orientation)[:, :2], to_places(size, 1)[:, :2]
    return np.asarray(sensor.astype(np.float64) @ np.linalg.inv(upright.astype(np.float64)))


def on_sensor(path: Sequence[Sequence[float]], size: tuple[int, int], orientation: int) -> Path:
    """Places of the upright frame as places of the sensor."""
    return _through(path, turned(size, orientation))


def on_frame(path: Sequence[Sequence[float]], size: tuple[int, int], orientation: int) -> Path:
    """Places of the sensor as places of the upright frame."""
    return _through(path, np.asarray(np.linalg.inv(turned(size, orientation)), np.float64))


def _through(path: Sequence[Sequence[float]], m: F64) -> Path:
    return tuple((round(float(x), 6), round(float(y), 6)) for x, y in np.asarray(path, np.float64) @ m.T)


def can_show(aperture: float | None) -> bool:
    """Whether dust would be seen at an f-number, where the file says one."""
    return aperture is None or aperture >= WIDEST


def dust_look(source: Source, group: int = 0) -> DustLook:
    """What a frame shows of dust. group: number of its set, for `dust_of`."""
    facts = source.facts
    plane, _ = plane_of(source)
    even = even_ground(plane)
    dark, wide = np.zeros_like(plane), np.zeros(plane.shape, np.int8)
    for n, s in enumerate(SIZES):
        found = cv2.GaussianBlur(plane, (0, 0), 1.8 * s) - cv2.GaussianBlur(plane, (0, 0), s)
        # In deviations of its own noise at this size: the finest would win everywhere else.
        noise = max(1.4826 * float(np.median(np.abs(found[even]))) if even.any() else 1.0, 1e-9)
        # What is lively around is no ground on which a speck tells itself.
        found /= np.maximum(1.25 * cv2.blur(np.minimum(np.abs(found), 8 * noise), (81, 81)), noise)
        stronger = found > dark
        dark[stronger], wide[stronger] = found[stronger], n
    dark = np.minimum(dark, MOST)
    dark[~even] = np.nan
    h, w = plane.shape
    share = SMALL / max(h, w)
    small = cv2.resize(plane, (round(w * share), round(h * share)), interpolation=cv2.INTER_AREA)
    small = small * (255 / max(float(np.quantile(small, 0.99)), 1e-6))
    rows = []
    for f in specks(source):
        if f.kind == "speck":
            ((x, y),) = on_sensor(f.path, source.size, facts.orientation)
            rows.append(Speck(x, y, f.size, f.confidence))
    return DustLook(dark.astype(np.float16), wide, np.clip(small, 0, 255).astype(np.uint8), tuple(rows), group)


def dust_of(looks: Sequence[DustLook]) -> list[Speck]:
    """Dust that frames of one camera agree on, the surest first.

    One frame is taken at its word: it is a plain one that was shot for this. Of several, what stays at its place of the sensor
    counts while the camera moved, or in more than one set: what lies in a setup lies still, too.
    """
    if not looks:
        return []
    groups = _groups(looks)
    means, known = [], []
    for group in sorted(set(groups)):
        own = np.stack([np.asarray(v.dark, np.float32) for v, g in zip(looks, groups, strict=True) if g == group])
        there = np.isfinite(own)
        count = there.sum(axis=0)
        means.append(np.where(count > 0, np.where(there, own, 0).sum(axis=0) / np.maximum(count, 1), np.nan))
        known.append(count > 0)
    stack, able = np.stack(means), np.stack(known).sum(axis=0)
    # Every group but a quarter of them has to show it; what is strong in some and weak in others is no dust.
    lowest = np.sort(np.where(np.isfinite(stack), stack, np.inf), axis=0)
    rank = np.clip((able - 1) // 4, 0, len(means) - 1)
    quarter = np.take_along_axis(lowest, rank[None], axis=0)[0]
    agree = (able >= min(len(means), 3)) & (quarter > FLOOR)
    strength = (np.where(agree, quarter, 0) * np.sqrt(able)).astype(np.float32)
    marks = (strength > LEAST_STRENGTH).astype(np.uint8)
    count, labels, stats, middles = cv2.connectedComponentsWithStats(marks, connectivity=8)
    h, w = marks.shape
    long = max(h, w)
    found: list[Speck] = []
    for n in range(1, count):
        x, y, bw, bh, area = (int(v) for v in stats[n])
        if area < 2 or max(bw, bh) > 0.018 * long or max(bw, bh) > 2.5 * min(bw, bh) + 2:
            continue
        part = np.where(labels[y : y + bh, x : x + bw] == n, strength[y : y + bh, x : x + bw], 0)
        i, j = np.unravel_index(int(part.argmax()), part.shape)
        wide = max(SIZES[int(v.wide[y + i, x + j])] for v in looks if np.isfinite(v.dark[y + i, x + j]))
        sure = 1 - math.exp(-(float(part.max()) / LEAST_STRENGTH - 1))
        at = (np.array(middles[n]) + 0.5 - (w / 2, h / 2)) / long
        radius = max(1.8 * wide, 0.5 * max(bw, bh)) + 0.8
        # What lies in the only setup that there is may be dust as well as dirt on the table.
        sure *= 1.0 if len(looks) == 1 else 0.6 if len(means) == 1 else min(1.0, (float(able[y + i, x + j]) - 1) / 4)
        frames = sum(bool(v.dark[y + i, x + j] > FLOOR) for v in looks)
        found.append(
            Speck(round(float(at[0]), 6), round(float(at[1]), 6), round(radius / long, 6), round(sure, 3), frames)
        )
    # Pieces of the rim of a wide one are no dust of their own.
    found.sort(key=lambda s: -s.confidence)
    whole: list[Speck] = []
    for s in found:
        if all(math.hypot(s.x - o.x, s.y - o.y) > 1.3 * max(s.size, o.size) for o in whole):
            whole.append(s)
    return whole


MOST = 24.0
"""Deviations of one frame that count at most: none decides alone."""
LEAST_STRENGTH = 7.0
"""Deviations of the noise, over all frames, at which a place is shown at all: six million places and their noise."""


def _groups(looks: Sequence[DustLook]) -> list[int]:
    """Which frames were taken with the scene at the same place of the sensor: numbers, one a frame."""
    first: list[DustLook] = []
    result = []
    for look in looks:
        for n, other in enumerate(first):
            if (
                other.group == look.group
                and other.small.shape == look.small.shape
                and not _moved(other.small, look.small)
            ):
                result.append(n)
                break
        else:
            result.append(len(first))
            first.append(look)
    return result


def _moved(a: NDArray[np.uint8], b: NDArray[np.uint8]) -> bool:
    fine = [v.astype(np.float32) - cv2.GaussianBlur(v.astype(np.float32), (0, 0), 8) for v in (a, b)]
    window = cv2.createHanningWindow(a.shape[::-1], cv2.CV_32F)
    (dx, dy), sure = cv2.phaseCorrelate(fine[0], fine[1], window)
    return bool(math.hypot(dx, dy) > MOVED and sure > 0.05) or sure < 0.02
