"""Specks, lint and scratches on even ground: found by how much they differ from what is around them, at several sizes.

Looked for in the roots of the sensor's values, in which noise is the same everywhere; on textured things they are told apart
from nothing, so only even places are searched unless one asks for all.
"""

import math
from dataclasses import dataclass
from itertools import pairwise

import cv2
import numpy as np
from numpy.typing import NDArray

from tanner.core.areas.place import to_places
from tanner.core.jit import kernel
from tanner.core.raw.source import Source
from tanner.core.render.linear import binned_planes, pre_gains

F32 = NDArray[np.float32]
SIZES = (1.0, 1.7, 2.8, 4.6)
"""Deviations in px of half the sensor's size at which a speck is looked for."""
USUAL = 0.5
"""Confidence from which on what is found is healed without asking."""
LEAST = 0.008
"""Least contrast of a root that is shown at all: about 1.6 % of light."""


@dataclass(frozen=True)
class FoundSpot:
    """One thing that was found.

    Attributes:
        path: places, one for a speck, more along a thread or a scratch; size: radius, a share of the long edge.
        kind: speck, lint or scratch; confidence: 0 to 1.
    """

    path: tuple[tuple[float, float], ...]
    size: float
    kind: str
    confidence: float


def plane_of(source: Source) -> tuple[F32, int]:
    """The roots of light in blocks of 2 x 2 px (h, w), and the side of a block."""
    if source.facts.kind == "bayer":
        planes = binned_planes(source, np.asarray(pre_gains(source), np.float32), 2)
        return np.sqrt(np.maximum(planes.mean(axis=0), 0)), 2
    return np.sqrt(np.maximum(np.asarray(source.data, np.float32).mean(axis=0), 0)), 1


@kernel
def _stronger(near, far, n, best, which):
    for y in range(best.shape[0]):
        first, second, most, of = near[y], far[y], best[y], which[y]
        for x in range(len(most)):
            found = first[x] - second[x]
            more = abs(found) > abs(most[x])
            most[x] = found if more else most[x]
            of[x] = n if more else of[x]


def response(plane: F32) -> tuple[F32, NDArray[np.uint8]]:
    """The strongest difference from what is around over all sizes, with its sign, (h, w), and which size it has."""
    best, which = np.zeros_like(plane), np.zeros(plane.shape, np.uint8)
    wanted = sorted([(s, n) for n, s in enumerate(SIZES)] + [(1.8 * s, n) for n, s in enumerate(SIZES)])
    # Each is made of the one before, which takes a smaller kernel: variances of Gaussians add up.
    soft, so_far = plane, 0.0
    near: dict[int, F32] = {}
    for sigma, n in wanted:
        soft = cv2.GaussianBlur(soft, (0, 0), math.sqrt(sigma**2 - so_far**2))
        so_far = sigma
        if n in near:
            _stronger(near.pop(n), soft, n, best, which)
        else:
            near[n] = soft
    return best, which


def even_ground(plane: F32) -> NDArray[np.bool_]:
    """Where a frame is even but for small things: neither edges nor texture near by."""
    small = cv2.resize(plane, None, fx=0.25, fy=0.25, interpolation=cv2.INTER_AREA)
    # Small things are taken out first, or each would make its own surroundings uneven.
    disc = cv2.getStructuringElement(cv2.MORPH_ELLIPSE, (9, 9))
    calm = cv2.morphologyEx(cv2.morphologyEx(cv2.medianBlur(small, 3), cv2.MORPH_OPEN, disc), cv2.MORPH_CLOSE, disc)
    calm = cv2.GaussianBlur(calm, (0, 0), 1.2)
    slope = np.hypot(cv2.Sobel(calm, cv2.CV_32F, 1, 0, scale=0.125), cv2.Sobel(calm, cv2.CV_32F, 0, 1, scale=0.125))
    edges = (slope > max(0.007, 3 * float(np.median(slope)))).astype(np.uint8)
    edges = cv2.morphologyEx(edges, cv2.MORPH_OPEN, np.ones((2, 2), np.uint8))
    near = cv2.dilate(edges, cv2.getStructuringElement(cv2.MORPH_ELLIPSE, (11, 11)))
    # What is uneven nearly everywhere around is texture.
    away = (np.abs(small - calm) > 0.012).astype(np.float32)
    rough = cv2.blur(away, (41, 41)) > 0.35
    bad = ((near > 0) | rough).astype(np.uint8)
    return np.asarray(cv2.resize(bad, plane.shape[::-1], interpolation=cv2.INTER_NEAREST) == 0)


def specks(source: Source, *, everywhere: bool = False, limit: float = 0.2) -> list[FoundSpot]:
    """What is found in a frame, the surest first.

    Args:
        everywhere: on textured things too; limit: least confidence.
    """
    plane, step = plane_of(source)
    best, which = response(plane)
    ground = np.ones(plane.shape, bool) if everywhere else even_ground(plane)
    noise = 1.4826 * float(np.median(np.abs(best[ground]))) if ground.any() else 1.0
    # Noise varies with light even in roots where the sensor's own noise is strong: by blocks.
    level = max(5.0 * noise, LEAST)
    found: list[tuple[FoundSpot, float, float]] = []
    w, h = source.size
    to = to_places((w, h), source.facts.orientation).astype(np.float64)
    # Around what is lighter the difference is darker, and the other way round: that is no thing of its own.
    rim = cv2.dilate((~ground).astype(np.uint8), np.ones((9, 9), np.uint8)) > 0
    for sign in (1, -1):
        own = sign * best
        other = cv2.dilate(np.maximum(-own, 0), np.ones((27, 27), np.uint8))
        marks = ((own > np.maximum(level, 0.4 * other)) & ground).astype(np.uint8)
        count, labels, stats, _ = cv2.connectedComponentsWithStats(marks, connectivity=8)
        for n in range(1, min(count, 20_000)):
            got = _one(own, labels, n, stats[n], which, level, max(plane.shape))
            if got is None or got[2] < limit:
                continue
            path, wide, sure, kind = got
            x, y, bw, bh = (int(v) for v in stats[n][:4])
            if rim[y : y + bh, x : x + bw][labels[y : y + bh, x : x + bw] == n].any():
                # A piece of something that goes on where nothing is looked for.
                continue
            places = (path + 0.5) * step @ to[:, :2].T + to[:, 2]
            rows = tuple((round(float(u), 6), round(float(v), 6)) for u, v in places)
            thing = FoundSpot(rows, round(wide * step / max(w, h), 6), kind, round(float(sure), 3))
            found.append((thing, *path.mean(axis=0)))
    if not everywhere:
        found = _alone(found)
    return sorted((f for f, _, _ in found), key=lambda f: -f.confidence)


MANY, NEAR = 14, 60.0
"""So many things within so many px of half the sensor's size are what the thing itself looks like."""


def _alone(found: list[tuple[FoundSpot, float, float]]) -> list[tuple[FoundSpot, float, float]]:
    if len(found) <= MANY:
        return found
    from scipy.spatial import cKDTree

    at = np.array([(x, y) for _, x, y in found])
    tree = cKDTree(at)
    return [
        f for f, near in zip(found, tree.query_ball_point(at, NEAR, return_length=True), strict=True) if near <= MANY
    ]


def _one(
    own: F32,
    labels: NDArray[np.int32],
    n: int,
    stats: NDArray[np.int32],
    which: NDArray[np.uint8],
    level: float,
    long: int,
) -> tuple[NDArray[np.float64], float, float, str] | None:
    """One connected thing: its points in px (N, 2), half its width, how sure it is, what it is."""
    x, y, bw, bh, area = (int(v) for v in stats)
    if area < 2 or max(bw, bh) > 0.12 * long:
        return None
    part = labels[y : y + bh, x : x + bw] == n
    strength = own[y : y + bh, x : x + bw][part]
    peak = float(strength.max())
    sure = 1 - math.exp(-max(peak / level - 1, 0) / 0.9)
    side = max(bw, bh)
    ys, xs = np.nonzero(part)
    if side > 12 and side * side > 3 * area:
        line = _line(xs, ys)
        kind = "scratch" if _straight(line) else "lint"
        return np.array(line, np.float64) + (x, y), 0.5 * area / max(_length(line), 1.0) + 1.8, sure, kind
    size = SIZES[int(which[y : y + bh, x : x + bw][part][strength.argmax()])]
    weights = strength / strength.sum()
    path = np.array([[float(xs @ weights) + x, float(ys @ weights) + y]])
    return path, max(1.8 * size, 0.75 * side) + 0.8, sure * (1.0 if side < 40 else 0.5), "speck"


def _line(xs: NDArray[np.int64], ys: NDArray[np.int64]) -> list[tuple[float, float]]:
    """The middle of a long thing as a few points, along its own longest direction."""
    points = np.column_stack([xs, ys]).astype(np.float64)
    middle = points.mean(axis=0)
    _, _, axes = np.linalg.svd(points - middle, full_matrices=False)
    along = (points - middle) @ axes[0]
    steps = max(2, min(24, int(np.ptp(along) / 6) + 1))
    edges = np.linspace(along.min(), along.max(), steps + 1)
    line = []
    for a, b in pairwise(edges):
        inside = (along >= a) & (along <= b)
        if inside.any():
            px, py = points[inside].mean(axis=0)
            line.append((float(px), float(py)))
    first, last = points[along.argmin()], points[along.argmax()]
    return [(float(first[0]), float(first[1])), *line[1:-1], (float(last[0]), float(last[1]))]


def _length(line: list[tuple[float, float]]) -> float:
    return float(np.linalg.norm(np.diff(np.array(line), axis=0), axis=1).sum())


def _straight(line: list[tuple[float, float]]) -> bool:
    ends = np.array(line)
    return float(np.linalg.norm(ends[-1] - ends[0])) > 0.97 * _length(line)


def as_settings(found: list[FoundSpot]) -> dict[str, object]:
    """Settings that heal what was found."""
    import hashlib

    values: dict[str, object] = {}
    for n, f in enumerate(found):
        ident = hashlib.sha256(repr(f.path).encode()).hexdigest()[:8]
        start = f"spots/{ident}/"
        values |= {
            start + "kind": "spot", start + "name": f.kind.capitalize(), start + "order": float(n),
            start + "path": [list(p) for p in f.path], start + "size": f.size,
        }  # fmt: skip
    return values
