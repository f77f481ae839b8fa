"""Drawn parts as kernels read them, and as masks on a grid: gradients by formula, outlines and brush strokes worked out once."""

import math
from collections.abc import Sequence
from dataclasses import dataclass
from itertools import pairwise
from typing import Any

import cv2
import numpy as np
from numpy.typing import NDArray

from tanner.core.areas import strokes
from tanner.core.areas.masks import NUMBERS, ROUND, STRAIGHT, WHOLE, Masks, mask_row
from tanner.core.areas.place import matrix
from tanner.core.areas.shapes import AnyShape, Brush, Outline, Round, Straight, Stroke, Whole
from tanner.core.jit import kernel

F32 = NDArray[np.float32]
F64 = NDArray[np.float64]
NO_RASTER: NDArray[np.uint16] = np.zeros((1, 2, 2), np.uint16)
CURVE = 12
"""Points of a curve between two of its corners."""


@dataclass(frozen=True)
class Grid:
    """The grid of a mask over the whole upright frame.

    Attributes:
        size: width and height in px; share: what they are of the long edge (one of them 1).
    """

    size: tuple[int, int]
    share: tuple[float, float]

    @classmethod
    def of(cls, upright: tuple[int, int], edge: int) -> "Grid":
        """For a frame of a size in px, no longer than `edge` and than the frame."""
        long = max(upright)
        scale = min(1.0, edge / long)
        size = max(2, round(upright[0] * scale)), max(2, round(upright[1] * scale))
        return cls(size, (upright[0] / long, upright[1] / long))

    @property
    def scale(self) -> tuple[float, float]:
        """px of the grid for one long edge, in both directions."""
        return self.size[0] / self.share[0], self.size[1] / self.share[1]

    def px(self, places: F64) -> F64:
        """Places (..., 2) as px of the grid, whose middles are at whole numbers."""
        return np.asarray(places * self.scale + (np.array(self.size) - 1) / 2)


def numbers_of(shape: Straight | Round | Whole, place: Sequence[float]) -> list[float]:
    """What the kernel reads of a part, where it lies on this frame."""
    if isinstance(shape, Whole):
        return [1.0, 0, 0, 0, 0, 0, 0, 0]
    m = matrix(place)
    if isinstance(shape, Straight):
        start = m @ [*shape.start, 1]
        way = m @ [*shape.end, 1] - start
        length = max(float(way @ way), 1e-9)
        return [*start, *(way / length), 0, 0, 0, 0]
    centre = m @ [*shape.at, 1]
    angle, scale = math.radians(shape.angle + place[3]), place[2]
    c, s = math.cos(angle), math.sin(angle)
    a, b = (max(r * scale, 1e-6) for r in shape.radii)
    return [*centre, c / a, s / a, -s / b, c / b, 1 / max(shape.softness, 1e-3), 0]


def kind_of(shape: Straight | Round | Whole) -> int:
    return STRAIGHT if isinstance(shape, Straight) else ROUND if isinstance(shape, Round) else WHOLE


def one_part(shape: Straight | Round | Whole) -> Masks:
    """A mask of a single part, by formula."""
    numbers = np.array([numbers_of(shape, (0, 0, 1, 0))], np.float32).reshape(1, NUMBERS)
    whole = np.zeros(1, np.int32)
    return Masks(
        np.array([0, 1], np.int32),
        np.array([kind_of(shape)], np.int32),
        whole,
        np.zeros(1, np.bool_),
        numbers,
        NO_RASTER,
    )


@kernel
def _rows(masks, back, sx, sy, out):
    """A mask by formula over a grid; back: float64 (3, 3), from places of the frame to the mask's own."""
    h, w = out.shape
    u, v, part = np.empty(w, np.float32), np.empty(w, np.float32), np.empty(w, np.float32)
    for i in range(h):
        y = (i - (h - 1) / 2) / sy
        for j in range(w):
            x = (j - (w - 1) / 2) / sx
            d = back[2, 0] * x + back[2, 1] * y + back[2, 2]
            d = max(d, 1e-6)
            u[j] = (back[0, 0] * x + back[0, 1] * y + back[0, 2]) / d
            v[j] = (back[1, 0] * x + back[1, 1] * y + back[1, 2]) / d
        mask_row(masks, 0, u, v, out[i], part, w)


def by_formula(shape: Straight | Round | Whole, back: F64, grid: Grid) -> F32:
    """A gradient on a grid, (h, w); back: (3, 3), see `place.backwards`."""
    out = np.empty(grid.size[::-1], np.float32)
    _rows(one_part(shape), back, *grid.scale, out)
    return out


def forth(places: F64, back: F64) -> F64:
    """Places (N, 2) of the mask's own coordinates on the frame."""
    there = np.column_stack([places, np.ones(len(places))]) @ np.linalg.inv(back).T
    return np.asarray(there[:, :2] / np.maximum(there[:, 2:], 1e-6))


def smooth(t: NDArray[Any]) -> F32:
    """From 0 to 1 without a corner at either end (Hermite's cubic); t: of any shape, taken as 0 to 1."""
    t = np.clip(t, 0, 1)
    return np.asarray(t * t * (3 - 2 * t), np.float32)


# --- outline ---------------------------------------------------------------------------------------


def line_of(shape: Outline) -> tuple[F64, F64]:
    """The closed line of an outline as points (N, 2), and the softness at each, (N,)."""
    corners = shape.points
    at = np.array([c.at for c in corners])
    soft = np.array([shape.softness if c.softness is None else c.softness for c in corners])
    points, softness, count = [], [], len(corners)
    for i, corner in enumerate(corners):
        after = corners[(i + 1) % count]
        steps = CURVE if corner.curved or after.curved else 1
        t = np.arange(steps) / steps
        if steps == 1:
            points.append(at[i : i + 1])
        else:
            four = at[(np.array([i - 1, i, i + 1, i + 2])) % count]
            # At a corner that is not curved, the curve runs on straight.
            if not corner.curved:
                four[0] = 2 * four[1] - four[2]
            if not after.curved:
                four[3] = 2 * four[2] - four[1]
            points.append(_catmull(four, t))
        softness.append(soft[i] + (soft[(i + 1) % count] - soft[i]) * t)
    return np.concatenate(points), np.concatenate(softness)


def _catmull(p: F64, t: F64) -> F64:
    """Centripetal Catmull-Rom from p[1] to p[2] (Barry and Goldman's pyramid; source: catmull1974)."""
    knots = np.concatenate([[0], np.cumsum(np.maximum(np.sqrt(np.linalg.norm(np.diff(p, axis=0), axis=1)), 1e-9))])
    x = (knots[1] + t * (knots[2] - knots[1]))[:, None]

    def mix(a: F64, b: F64, i: int, j: int) -> F64:
        return np.asarray((knots[j] - x) / (knots[j] - knots[i]) * a + (x - knots[i]) / (knots[j] - knots[i]) * b)

    a1, a2, a3 = mix(p[0], p[1], 0, 1), mix(p[1], p[2], 1, 2), mix(p[2], p[3], 2, 3)
    b1, b2 = mix(a1, a2, 0, 2), mix(a2, a3, 1, 3)
    return mix(b1, b2, 1, 2)


SUB = 5
"""Lines of a row that an outline is filled by; along a line its share of a px is exact."""


@kernel
def _fill(points, out):
    """The inside of a closed line, even-odd; points: float64 (N, 2) in px, whose middles are at whole numbers."""
    h, w = out.shape
    count = points.shape[0]
    cross = np.empty(count, np.float64)
    for i in range(h):
        for s in range(SUB):
            y = i - 0.5 + (s + 0.5) / SUB
            found = 0
            for k in range(count):
                x0, y0 = points[k, 0], points[k, 1]
                x1, y1 = points[(k + 1) % count, 0], points[(k + 1) % count, 1]
                if (y0 <= y) != (y1 <= y):
                    cross[found] = x0 + (y - y0) / (y1 - y0) * (x1 - x0)
                    found += 1
            row = np.sort(cross[:found])
            for k in range(0, found - 1, 2):
                left, right = max(row[k] + 0.5, 0.0), min(row[k + 1] + 0.5, float(w))
                if right <= left:
                    continue
                first, last = int(left), min(int(right), w - 1)
                if first == last:
                    out[i, first] += np.float32((right - left) / SUB)
                    continue
                out[i, first] += np.float32((first + 1 - left) / SUB)
                for j in range(first + 1, last):
                    out[i, j] += np.float32(1.0 / SUB)
                out[i, last] += np.float32((right - last) / SUB)


def outline_mask(shape: Outline, back: F64, grid: Grid) -> F32:
    """An outline on a grid, (h, w): half way at its line, soft to both sides."""
    line, softness = line_of(shape)
    px = grid.px(forth(line, back))
    w, h = grid.size
    px = np.clip(px, -4 * max(w, h), 5 * max(w, h))
    fixed = [np.rint(px * 256).astype(np.int32)]
    inside = np.zeros((h, w), np.float32)
    _fill(px, inside)
    np.clip(inside, 0, 1, out=inside)
    reach = softness * (grid.scale[0] + grid.scale[1]) / 2
    if reach.max() < 1:
        return inside
    # Distance from the line to both sides, and which of its points is nearest.
    rim = np.full((h, w), 255, np.uint8)
    cv2.polylines(rim, fixed, True, 0, 1, cv2.LINE_8, 8)
    if rim.all():
        return inside
    far, label = cv2.distanceTransformWithLabels(rim, cv2.DIST_L2, 5, labelType=cv2.DIST_LABEL_PIXEL)
    ys, xs = np.nonzero(rim == 0)
    of_label = np.zeros(int(label.max()) + 1, np.float32)
    marks = label[ys, xs]
    # The nearest of the line's own points, for each px of the rim.
    nearest = np.empty(len(ys), np.int64)
    for first in range(0, len(ys), 4096):
        part = slice(first, first + 4096)
        d = (px[None, :, 0] - xs[part, None]) ** 2 + (px[None, :, 1] - ys[part, None]) ** 2
        nearest[part] = d.argmin(axis=1)
    of_label[marks] = reach[nearest]
    signed = np.where(inside >= 0.5, far, -far)
    soft = of_label[label]
    return np.asarray(np.where(soft < 1, inside, smooth(0.5 + signed / (2 * np.maximum(soft, 1)))), np.float32)


# --- brush -----------------------------------------------------------------------------------------


@kernel
def _distances(points, reach, square):
    """Squared distance of px from a path, where it is within reach; float32 (h, w), filled with what is far before."""
    h, w = square.shape
    for k in range(max(1, points.shape[0] - 1)):
        ax, ay = points[k, 0], points[k, 1]
        last = min(k + 1, points.shape[0] - 1)
        dx, dy = points[last, 0] - ax, points[last, 1] - ay
        length = dx * dx + dy * dy
        left, right = min(ax, ax + dx) - reach, max(ax, ax + dx) + reach
        top, bottom = min(ay, ay + dy) - reach, max(ay, ay + dy) + reach
        for i in range(max(0, int(np.ceil(top))), min(h - 1, int(bottom)) + 1):
            for j in range(max(0, int(np.ceil(left))), min(w - 1, int(right)) + 1):
                px, py = np.float32(j) - ax, np.float32(i) - ay
                t = min(max((px * dx + py * dy) / max(length, np.float32(1e-9)), np.float32(0.0)), np.float32(1.0))
                ex, ey = px - t * dx, py - t * dy
                square[i, j] = min(square[i, j], ex * ex + ey * ey)


FAR = np.float32(1e12)


def stroke_cover(path: F64, size: float, softness: float) -> tuple[F32, tuple[slice, slice]] | None:
    """How much of a stroke lies on each px: 1 along its middle, 0 from `size` on; path (N, 2) and size in px of the grid.

    Returns:
        The cover of a window, and the window before it is cut to the grid: None for one without px.
    """
    reach = max(size, 0.5) + 1
    x0, y0 = (int(math.floor(v)) for v in path.min(axis=0) - reach)
    x1, y1 = (int(math.ceil(v)) + 1 for v in path.max(axis=0) + reach)
    if x1 - x0 > 20_000 or y1 - y0 > 20_000:
        return None
    square = np.full((y1 - y0, x1 - x0), FAR, np.float32)
    _distances((path - (x0, y0)).astype(np.float32), np.float32(reach), square)
    far = np.sqrt(square)
    # An edge is one px wide at least, or it would have steps.
    wide = max(softness * size, 1.0)
    inner = max(size - wide, 0.0) if softness > 0 and wide > 1 else size - 0.5
    if wide <= 1:
        return np.clip(inner + 1 - far, 0, 1).astype(np.float32), (slice(y0, y1), slice(x0, x1))
    return smooth(np.asarray((size - far) / wide, np.float32)), (slice(y0, y1), slice(x0, x1))


def laid(mask: F32, cover: F32, stroke: Stroke) -> F32:
    """A mask after a stroke: it comes nearer to the stroke's strength, or to nothing, by its flow."""
    laid_on = cover * np.float32(stroke.flow)
    if stroke.erase:
        return np.asarray(mask * (1 - laid_on))
    return np.asarray(mask + np.maximum(np.float32(stroke.strength) - mask, 0) * laid_on)


def brush_mask(shape: Brush, back: F64, grid: Grid, alike: "Alike | None" = None) -> F32:
    """Strokes on a grid, (h, w), each laid on what is there.

    Args:
        alike: what a stroke that stays on what is alike keeps, see `Alike`; None: those are laid on whole.
    """
    w, h = grid.size
    out = np.zeros((h, w), np.float32)
    # The size of a stroke grows with the mask around its middle.
    for stroke in shape.strokes:
        own = strokes.read(stroke.path)
        path = grid.px(forth(own, back))
        middle = own.mean(axis=0)
        about = forth(np.array([middle, middle + (1e-3, 0), middle + (0, 1e-3)]), back)
        area = abs(np.linalg.det(about[1:] - about[0]))
        size = stroke.size * math.sqrt(area) / 1e-3 * (grid.scale[0] + grid.scale[1]) / 2
        if not np.isfinite(path).all() or not math.isfinite(size) or np.abs(path).max() > 20 * max(w, h):
            continue
        got = stroke_cover(path, size, stroke.softness)
        if got is None:
            continue
        cover, (rows, columns) = got
        top, left = max(rows.start, 0), max(columns.start, 0)
        bottom, right = min(rows.stop, h), min(columns.stop, w)
        if top >= bottom or left >= right:
            continue
        cover = cover[top - rows.start : bottom - rows.start, left - columns.start : right - columns.start]
        if stroke.alike > 0 and alike is not None:
            cover = cover * alike.kept((slice(top, bottom), slice(left, right)), path, cover, stroke.alike)
        out[top:bottom, left:right] = laid(out[top:bottom, left:right], cover, stroke)
    return out


@dataclass(frozen=True)
class Alike:
    """Keeps strokes on what is alike along their middle.

    Attributes:
        lab: float32 (h, w, 3), Oklab of the frame on the grid.
    """

    lab: F32

    def kept(self, window: tuple[slice, slice], path: F64, cover: F32, tolerance: float) -> F32:
        """How alike px of a window are to what lies along the path, 0 to 1, and joined to it."""
        part = self.lab[window]
        h, w = part.shape[:2]
        dense = np.concatenate(
            [a + (b - a) * np.linspace(0, 1, max(2, int(np.hypot(*(b - a)))))[:, None]
             for a, b in pairwise(path)] or [path]
        )  # fmt: skip
        xs = np.clip(np.rint(dense[:, 0]).astype(int) - window[1].start, 0, w - 1)
        ys = np.clip(np.rint(dense[:, 1]).astype(int) - window[0].start, 0, h - 1)
        colours = part[ys, xs]
        samples = colours[np.linspace(0, len(colours) - 1, min(12, len(colours))).astype(int)]
        limit = np.float32(0.02 + 0.28 * tolerance * tolerance)
        best = np.full((h, w), np.inf, np.float32)
        for sample in samples:
            d = part - sample
            best = np.minimum(best, d[..., 0] ** 2 * 0.5 + d[..., 1] ** 2 + d[..., 2] ** 2)
        near = smooth((limit * np.float32(1.25) - np.sqrt(best)) / (limit * np.float32(0.5)))
        inside = ((near > 0.3) & (cover > 0)).astype(np.uint8)
        inside[ys, xs] = 1
        _, labels = cv2.connectedComponents(inside, connectivity=8)
        joined = np.isin(labels, np.unique(labels[ys, xs])) & (inside > 0)
        # One px softer, or the edge would have steps.
        return np.asarray(cv2.blur(near * joined, (3, 3)), np.float32)


def mask_of_part(shape: AnyShape, back: F64, grid: Grid, alike: Alike | None = None) -> F32:
    """A drawn part on a grid, (h, w) from 0 to 1, before it is inverted."""
    if isinstance(shape, Outline):
        return outline_mask(shape, back, grid)
    if isinstance(shape, Brush):
        return brush_mask(shape, back, grid, alike)
    assert isinstance(shape, Straight | Round | Whole)
    return by_formula(shape, back, grid)
