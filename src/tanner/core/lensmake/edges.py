"""Edges of a picture as chains of points, exact to a fraction of a pixel.

Points are maxima of the gradient along its own direction, refined by a parabola through three values (source:
devernay1995); they are followed along the edge as long as its direction hardly changes.
"""

from dataclasses import dataclass

import cv2
import numpy as np
from numpy.typing import NDArray

from tanner.core.lensmake.follow import follow, thin

F32 = NDArray[np.float32]
Array = NDArray[np.float64]
LEAST = 0.1
"""Shortest chain, in shares of the picture's shorter side."""


@dataclass(frozen=True)
class Chain:
    """Points (N, 2) in px, pixel centres at +0.5, in order along an edge, and the direction of the gradient (N, 2)."""

    points: Array
    normals: Array

    @property
    def length(self) -> float:
        return float(np.hypot(*(self.points[-1] - self.points[0])))


def chains(picture: F32, least: float = LEAST) -> list[Chain]:
    """The long smooth edges of a picture (H, W), the strongest first; values as the eye sees them (roots)."""
    h, w = picture.shape
    smooth = cv2.GaussianBlur(picture, (0, 0), 1.3)
    gx, gy = cv2.Scharr(smooth, cv2.CV_32F, 1, 0) / 32, cv2.Scharr(smooth, cv2.CV_32F, 0, 1) / 32
    size = cv2.magnitude(gx, gy)
    noise = float(np.median(size[size > 0])) if (size > 0).any() else 0.0
    high = max(6 * noise, float(np.percentile(size, 96)) * 0.6, 1e-4)
    high = min(high, float(size.max()) * 0.5)
    ox, oy = np.zeros_like(size), np.zeros_like(size)
    keep = np.zeros(size.shape, np.uint8)
    thin(gx, gy, size, np.float32(high * 0.4), ox, oy, keep)
    ys, xs = np.nonzero((keep == 1) & (size >= high))
    order = np.argsort(-size[ys, xs])
    total = int((keep == 1).sum()) + 1
    at_y, at_x, ends = np.empty(total, np.int64), np.empty(total, np.int64), np.empty(total, np.int64)
    _, count = follow(keep, gx, gy, size, np.float32(high), ys[order], xs[order], at_y, at_x, ends)
    pieces = []
    begin = 0
    shortest = least * min(h, w)
    for end in ends[:count]:
        cy, cx = at_y[begin:end], at_x[begin:end]
        begin = int(end)
        points = np.stack([ox[cy, cx], oy[cy, cx]], axis=1).astype(np.float64)
        normals = np.stack([gx[cy, cx], gy[cy, cx]], axis=1).astype(np.float64)
        normals /= np.maximum(np.hypot(*normals.T), 1e-12)[:, None]
        # Cut where they turn first: a corner joins an upright edge to a level one.
        pieces += [_trimmed(c) for c in _arcs(Chain(points, normals), 24.0)]
    joined = _joined(pieces, 0.04 * min(h, w))
    found = [c for long in joined for c in _arcs(long, shortest) if c.length >= shortest]
    found.sort(key=lambda c: -c.length)
    return found


def _joined(pieces: list[Chain], gap: float) -> list[Chain]:
    """Pieces that go on in each other's line, over the gaps where other edges cross, as one chain."""
    from scipy.spatial import cKDTree

    if not pieces:
        return []
    starts = np.array([c.points[0] for c in pieces])
    tree = cKDTree(starts)
    after = np.full(len(pieces), -1)
    taken = np.zeros(len(pieces), bool)
    order = np.argsort([-c.length for c in pieces])
    ways = np.array([_way(c) for c in pieces])
    sides = np.array([c.normals.mean(axis=0) for c in pieces])
    for i in order:
        end = pieces[i].points[-1]
        best, choice = gap, -1
        for j in tree.query_ball_point(end, gap):
            if j == i or taken[j] or ways[i] @ ways[j] < 0.995 or sides[i] @ sides[j] < 0.9:
                continue
            d = starts[j] - end
            along, off = float(d @ ways[i]), abs(float(d[0] * ways[i][1] - d[1] * ways[i][0]))
            if 0 < along < best and off < 0.8 + 0.03 * along:
                best, choice = along, j
        if choice >= 0:
            after[i], taken[choice] = choice, True
    result = []
    for i in np.flatnonzero(~taken):
        row: list[Chain] = []
        k = int(i)
        while k >= 0 and len(row) <= len(pieces):
            row.append(pieces[k])
            k = int(after[k])
        result.append(Chain(np.concatenate([c.points for c in row]), np.concatenate([c.normals for c in row])))
    return result


def _trimmed(chain: Chain) -> Chain:
    """Without its ends, which turn into the edges that cross there."""
    n = min(8, len(chain.points) // 5)
    return Chain(chain.points[n : len(chain.points) - n], chain.normals[n : len(chain.points) - n])


def _way(chain: Chain) -> Array:
    d = chain.points[-1] - chain.points[0]
    return np.asarray(d / max(float(np.hypot(*d)), 1e-9))


def _arcs(chain: Chain, shortest: float) -> list[Chain]:
    """Parts of a chain that a shallow parabola fits: what a straight edge looks like through a lens."""
    todo, done = [chain], []
    while todo:
        c = todo.pop()
        # By the way along it: a loop around a tile ends where it began.
        if len(c.points) < max(12, 0.7 * shortest):
            continue
        off, bow = _off_parabola(c.points)
        if c.length >= shortest and np.abs(off).max() < 1.5 and off.std() < 0.45 and abs(bow) < 0.06 * c.length:
            done.append(c)
            continue
        # Cut where it is worst, but never so near an end that nothing is won.
        n = len(c.points)
        cut = int(np.clip(np.abs(off).argmax(), n // 5, n - n // 5))
        todo += [Chain(c.points[:cut], c.normals[:cut]), Chain(c.points[cut:], c.normals[cut:])]
    return done


def _off_parabola(points: Array) -> tuple[Array, float]:
    """Distances from a parabola over the chord, and how far it bows."""
    a, b = points[0], points[-1]
    d = (b - a) / max(np.hypot(*(b - a)), 1e-9)
    t = (points - a) @ d
    v = (points - a) @ np.array([-d[1], d[0]])
    span = max(float(np.ptp(t)), 1e-9)
    s = (t - t.min()) / span * 2 - 1
    fit = np.polynomial.polynomial.polyfit(s, v, 2)
    return v - np.polynomial.polynomial.polyval(s, fit), float(fit[2])
