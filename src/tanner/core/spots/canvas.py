"""A frame's numbers with places on them: tiles of a mosaic as px of four channels, or planes of three."""

from collections.abc import Sequence
from dataclasses import dataclass
from functools import cached_property
from pathlib import Path
from typing import Any, NamedTuple

import cv2
import numpy as np
from numpy.typing import NDArray

from tanner.core.areas.place import SURE, homography, to_places
from tanner.core.errors import TannerError
from tanner.core.jit import kernel
from tanner.core.raw.source import Source
from tanner.core.spots.calm import calmed
from tanner.core.spots.declare import LEFT, SpotParts, judgement
from tanner.core.spots.fill import filled
from tanner.core.spots.follow import placed
from tanner.core.spots.heal import GROW, REACH, Mask, healed_box, healed_from
from tanner.core.spots.search import RIM, best_source, box_of

F32 = NDArray[np.float32]
F64 = NDArray[np.float64]
Window = tuple[int, int, int, int]


@dataclass(frozen=True)
class Done:
    """What became of a spot: how far off it was taken from (x, y in shares of the long edge), and the step left at its rim.

    Attributes:
        path, size: where it lies on this frame, where that was found.
        left: whether it was left alone, for what `said` says.
    """

    source: tuple[float, float] | None
    seam: float
    said: str = ""
    path: tuple[tuple[float, float], ...] = ()
    size: float = 0.0
    left: bool = False


@dataclass(frozen=True)
class SpotPatch:
    """What a spot put into a frame's own numbers, (h, w) or (3, h, w), from a px of the sensor on."""

    top: int
    left: int
    values: NDArray[Any]


SEAM = 2.5
"""From this step at the rim on a seam may show."""
NEAR, PLAIN = 1.5, 0.9
"""So far off, in sizes of the spot, a source is looked for first; up to this step at its rim none is looked for further off.

Two places that hold the same but for their grain differ by 0.64 (source: the square root of two, over 2.2).
"""


class _Place(NamedTuple):
    """A spot's surroundings: from which px on, numbers (h, w, c), how much of each px it covers, whether any, and what others do."""

    top: int
    left: int
    picture: F32
    cover: F32
    hole: Mask
    others: Mask


class _Put(NamedTuple):
    """What comes to a box of a place (top, left, bottom, right), the step at its rim, and how far off it was taken from."""

    box: tuple[int, int, int, int]
    new: F32
    seam: float
    by: tuple[int, int] | None


@kernel
def _cover(points, radius, wide, out):
    """1 well inside of a path, 0 from its radius on; points: float32 (N, 2) in px of the window."""
    h, w = out.shape
    zero, one = np.float32(0.0), np.float32(1.0)
    for k in range(max(1, points.shape[0] - 1)):
        last = min(k + 1, points.shape[0] - 1)
        ax, ay = points[k, 0], points[k, 1]
        dx, dy = points[last, 0] - ax, points[last, 1] - ay
        length = max(dx * dx + dy * dy, np.float32(1e-9))
        top, bottom = min(ay, ay + dy) - radius, max(ay, ay + dy) + radius
        left, right = min(ax, ax + dx) - radius, max(ax, ax + dx) + radius
        for i in range(max(0, int(top)), min(h - 1, int(bottom) + 1) + 1):
            for j in range(max(0, int(left)), min(w - 1, int(right) + 1) + 1):
                x, y = np.float32(j) - ax, np.float32(i) - ay
                t = min(max((x * dx + y * dy) / length, zero), one)
                ex, ey = x - t * dx, y - t * dy
                s = min(max((radius - np.sqrt(ex * ex + ey * ey)) / wide, zero), one)
                out[i, j] = max(out[i, j], s * s * (np.float32(3.0) - np.float32(2.0) * s))


@kernel
def _tiles(data, y0, x0, out):
    """Tiles of two by two px of a mosaic as px of four channels, from a tile on."""
    for y in range(out.shape[0]):
        for x in range(out.shape[1]):
            v, u = 2 * (y0 + y), 2 * (x0 + x)
            out[y, x, 0], out[y, x, 1] = data[v, u], data[v, u + 1]
            out[y, x, 2], out[y, x, 3] = data[v + 1, u], data[v + 1, u + 1]


@kernel
def _untiled(values, most, whole, out):
    """The same back, from 0 to `most` where numbers are whole."""
    for y in range(values.shape[0]):
        for x in range(values.shape[1]):
            for k in range(4):
                value = values[y, x, k]
                out[2 * y + k // 2, 2 * x + k % 2] = min(max(np.rint(value), np.float32(0)), most) if whole else value


@kernel
def _laid(picture, new, cover, opacity):
    """From which row and column of a box (h, w, c) on a spot changes anything, and what it leaves of all that it changes."""
    touched = cover > np.float32(0.002)
    top, left, bottom, right = box_of(touched, 0)
    out = np.empty((bottom - top, right - left, picture.shape[2]), np.float32)
    for y in range(bottom - top):
        for x in range(right - left):
            share = cover[top + y, left + x] * opacity
            for k in range(picture.shape[2]):
                was = picture[top + y, left + x, k]
                out[y, x, k] = was + share * (new[top + y, left + x, k] - was)
    return top, left, out


def lying(spot: SpotParts) -> SpotParts:
    """A spot as it lies on its frame, wherever it was found again."""
    return placed(spot, homography(spot.found)) if spot.found else spot


class SpotCanvas:
    """See the module.

    Args:
        data: the numbers that are put right; spots: all of the frame's, as they are declared.
        reader: reads another frame, for spots that are taken from one.
    """

    def __init__(self, source: Source, data: NDArray[Any], spots: Sequence[SpotParts], reader: Any = None) -> None:
        self.source, self.data, self.reader = source, data, reader
        self.step = 2 if data.ndim == 2 else 1
        w, h = source.size
        self.size = (w // self.step, h // self.step)
        to = to_places((w, h), source.facts.orientation).astype(np.float64)
        self.forth = to[:, :2]
        self.back = np.linalg.inv(to[:, :2])
        self.offset = to[:, 2]
        self.long = max(w, h) / self.step
        self._paths: dict[int, tuple[SpotParts, F64]] = {}
        self._lain: dict[int, tuple[SpotParts, SpotParts]] = {}
        self.spots = [self.lain(s) for s in spots if not s.found or s.found[8] >= SURE]

    def lain(self, spot: SpotParts) -> SpotParts:
        """A spot as it lies here, worked out once."""
        known = self._lain.get(id(spot))
        if known is None:
            known = self._lain[id(spot)] = spot, lying(spot)
        return known[1]

    def px(self, places: Any) -> F64:
        """Places (N, 2) in px of the canvas, whose middles are at whole numbers."""
        sensor = (np.asarray(places, np.float64) - self.offset) @ self.back.T
        return np.asarray(sensor / self.step - 0.5)

    def _path(self, spot: SpotParts) -> F64:
        """The path of a spot in px, worked out once."""
        known = self._paths.get(id(spot))
        if known is None:
            known = self._paths[id(spot)] = spot, self.px(spot.path)
        return known[1]

    def places(self, px: Any) -> F64:
        """Px of the canvas (N, 2) as places."""
        return np.asarray((np.asarray(px, np.float64) + 0.5) * self.step @ self.forth.T + self.offset)

    def way(self, by: Sequence[float]) -> tuple[int, int]:
        """A move in places as whole px of the canvas."""
        moved = np.asarray(by, np.float64) @ self.back.T / self.step
        return round(float(moved[0])), round(float(moved[1]))

    def window(self, y0: int, x0: int, y1: int, x1: int) -> F32:
        if self.step == 1:
            return np.ascontiguousarray(np.moveaxis(self.data[:, y0:y1, x0:x1], 0, -1), np.float32)
        out = np.empty((y1 - y0, x1 - x0, 4), np.float32)
        _tiles(self.data, y0, x0, out)
        return out

    def black(self) -> F32:
        """What black is in each channel."""
        return np.asarray(self.source.facts.black if self.step == 2 else (0, 0, 0), np.float32)

    def put(self, y0: int, x0: int, values: F32) -> SpotPatch:
        h, w = values.shape[:2]
        if self.step == 1:
            return self.lay(SpotPatch(y0, x0, np.ascontiguousarray(np.moveaxis(values, -1, 0))))
        whole = self.data.dtype.kind == "u"
        flat = np.empty((2 * h, 2 * w), np.float32)
        _untiled(values, np.float32(np.iinfo(self.data.dtype).max if whole else np.inf), whole, flat)
        return self.lay(SpotPatch(2 * y0, 2 * x0, flat.astype(self.data.dtype)))

    def lay(self, patch: SpotPatch) -> SpotPatch:
        """Put numbers into the frame's own."""
        h, w = patch.values.shape[-2:]
        self.data[..., patch.top : patch.top + h, patch.left : patch.left + w] = patch.values
        return patch

    def cover(self, spot: SpotParts, y0: int, x0: int, h: int, w: int) -> F32:
        """How much of each px of a window a spot covers, (h, w) from 0 to 1."""
        points = (self._path(spot) - (x0, y0)).astype(np.float32)
        radius = max(spot.size * self.long, 0.75)
        wide = max(spot.softness / 100 * radius, 1.0)
        out = np.zeros((h, w), np.float32)
        if spot.closed and len(points) > 2:
            inside = np.zeros((h, w), np.uint8)
            cv2.fillPoly(inside, [np.rint(points * 8).astype(np.int32)], 1, shift=3)
            out[inside > 0] = 1.0
            points = np.concatenate([points, points[:1]])
        _cover(points, np.float32(radius + 0.5 * min(wide, 1.0)), np.float32(wide), out)
        return out

    def windows(self, spots: Sequence[SpotParts], reach: float = REACH) -> NDArray[np.int64]:
        """All that spots, as they lie here, read and write, (N, 4): top, left, bottom and right in px; zeros outside of the frame.

        Args:
            reach: how far off a source may lie, in sizes of the spot.
        """
        low, high = self._corners(spots)
        radius = np.array([max(s.size * self.long, 0.75) + 1 for s in spots]).reshape(-1, 1)
        low, high = low - radius, high + radius
        side = (high - low).max(axis=1)
        fill = np.array([s.way == "fill" for s in spots], bool)
        far = np.minimum(np.where(fill, 1.0, reach) * side, side + 120) + RIM + GROW + 4 + 24 * fill
        more = np.zeros((len(spots), 2))
        for n, spot in enumerate(spots):
            if len(spot.source) == 2:
                more[n] = np.abs(self.way(spot.source)) + RIM + 4
        around = np.maximum(far[:, None], more)
        size = np.array(self.size)
        first = np.maximum(0, np.floor(low - around))
        end = np.minimum(size, np.ceil(high + around) + 1)
        found = np.concatenate([first[:, ::-1], end[:, ::-1]], 1).astype(np.int64)
        found[((high < 0) | (low >= size)).any(axis=1)] = 0
        return found

    def _corners(self, spots: Sequence[SpotParts]) -> tuple[F64, F64]:
        """The least and the largest of each spot's path, (N, 2) in px."""
        if not spots:
            return np.zeros((0, 2)), np.zeros((0, 2))
        # All paths at once: a frame may have hundreds of spots, most of one point.
        points = self.px([place for s in spots for place in s.path])
        first = np.cumsum([0, *(len(s.path) for s in spots[:-1])])
        return np.minimum.reduceat(points, first), np.maximum.reduceat(points, first)

    def put_right(self, spot: SpotParts, near: Window, wide: Window) -> tuple[Done, SpotPatch | None]:
        """One spot, in the canvas's own numbers: what became of it, and what it put there.

        Args:
            near, wide: its `windows` that reach as far as NEAR and REACH.
        """
        found = spot.found
        if found:
            if found[8] < SURE:
                why = "later" if found[8] < 0 else judgement(spot.judged)[1] or "lost"
                return Done(None, 0.0, LEFT[why], left=True), None
            spot = self.lain(spot)
        given = self.way(spot.source) if len(spot.source) == 2 else None
        searched = spot.way == "heal" and given is None and not spot.other
        passed = None
        # Most places have one as good close by; the wider look costs three times as much.
        if not any(wide):
            return Done(None, 0.0, "It lies outside of the frame.", left=True), None
        for window in (near, wide) if searched else (wide,):
            here = self._place(spot, window)
            if not here.hole.any():
                return Done(None, 0.0, "It is smaller than a px.", left=True), None
            if spot.other:
                there = self._from_other(spot, found, here)
                if isinstance(there, str):
                    return Done(None, 0.0, there, left=True), None
                got = there
            else:
                # The first is the one close by where that is plain: whoever asks for another gets another one than that.
                first = searched and window is near
                got = self._put(spot, given, here, 0 if first else spot.another - (passed is not None), passed)
            if got.by is not None and got.seam <= PLAIN:
                if not searched or not spot.another or passed is not None:
                    break
                passed = got.by
        told = None
        if got.by is not None:
            forth = self.forth @ (np.array(got.by) * self.step)
            told = float(forth[0]), float(forth[1])
        there_now = (tuple(spot.path), spot.size) if found else ((), 0.0)
        seam = round(got.seam, 2)
        if found and given is None and got.seam > SEAM:
            return Done(told, seam, LEFT["seam"], *there_now, left=True), None
        y0, x0, y1, x1 = got.box
        opacity = np.float32(spot.opacity / 100)
        top, left, laid = _laid(here.picture[y0:y1, x0:x1], got.new, here.cover[y0:y1, x0:x1], opacity)
        patch = self.put(here.top + y0 + top, here.left + x0 + left, laid)
        return Done(told, seam, "A seam may show here." if got.seam > SEAM else "", *there_now), patch

    def _place(self, spot: SpotParts, window: Window) -> "_Place":
        y0, x0, y1, x1 = window
        cover = self.cover(spot, y0, x0, y1 - y0, x1 - x0)
        hole = cover > 0.002
        others = np.zeros_like(hole)
        for other in self._near(y0, x0, y1, x1):
            if other.path != spot.path:
                others |= self.cover(other, y0, x0, y1 - y0, x1 - x0) > 0.002
        return _Place(y0, x0, self.window(y0, x0, y1, x1), cover, hole, others)

    def _put(
        self,
        spot: SpotParts,
        given: tuple[int, int] | None,
        here: "_Place",
        another: int,
        passed: tuple[int, int] | None,
    ) -> "_Put":
        """What comes to a spot's place from its own frame, by its way; another, passed: see `best_source`."""
        picture, hole = here.picture, here.hole
        box = 0, 0, *hole.shape
        if spot.way == "even":
            return _Put(box, calmed(picture, hole, spot.calm_size / 100 * spot.size * self.long, spot.calm), 0.0, given)
        if spot.way == "fill":
            along = self.px(spot.along) - (here.left, here.top) if len(spot.along) > 1 else None
            return _Put(box, filled(picture, hole, here.others & ~hole, spot.another, along), 0.0, given)
        by = given or best_source(picture, hole, here.others, another, passed)
        if spot.way == "copy" and by is not None:
            return _Put(box, np.roll(picture, (-by[1], -by[0]), (0, 1)), 0.0, by)
        return _Put(*healed_box(picture, hole, by), by)

    def _from_other(self, spot: SpotParts, found: Sequence[float], here: "_Place") -> "_Put | str":
        m = homography(spot.other_at) @ np.linalg.inv(homography(found))
        h, w = here.hole.shape
        there = self._seen_from(spot.other, m, here.top, here.left, here.top + h, here.left + w)
        if isinstance(there, str):
            return there
        # Of light alone: what is black is no light, and stays out of how much more of it there is.
        box, new, seam = healed_from(here.picture - self.black(), here.hole, there)
        return _Put(box, new + self.black(), seam, self.way(spot.source) if len(spot.source) == 2 else None)

    def _seen_from(self, name: str, m: F64, y0: int, x0: int, y1: int, x1: int) -> F32 | str:
        """A window as another frame of the folder shows it, on this frame's px; or why that cannot be.

        Args:
            m: (3, 3) from places of this frame to places of the other one.
        """
        path = Path(self.source.facts.path).parent / name
        if path.name == Path(self.source.facts.path).name:
            return "This is the frame that it is taken from."
        try:
            other = self.reader(path)
        except (OSError, TannerError) as error:
            return f"{name}, from which it is taken, cannot be read: {error}"
        if other.data.ndim != self.data.ndim or other.facts.pattern != self.source.facts.pattern:
            return f"{name}, from which it is taken, is a file of another kind."
        canvas = SpotCanvas(other, other.data, ())
        xs, ys = np.meshgrid(np.arange(x0, x1, dtype=np.float64), np.arange(y0, y1, dtype=np.float64))
        here = self.places(np.stack([xs.ravel(), ys.ravel()], 1))
        there = np.column_stack([here, np.ones(len(here))]) @ m.T
        px = canvas.px(there[:, :2] / there[:, 2:]).astype(np.float32).reshape(y1 - y0, x1 - x0, 2)
        low, high = np.floor(px.min(axis=(0, 1))).astype(int) - 4, np.ceil(px.max(axis=(0, 1))).astype(int) + 5
        left, top = max(0, low[0]), max(0, low[1])
        right, bottom = min(canvas.size[0], high[0]), min(canvas.size[1], high[1])
        if px[..., 0].min() < 0 or px[..., 1].min() < 0 or (px.max(axis=(0, 1)) > np.subtract(canvas.size, 1)).any():
            return f"The place is not in {name}, from which it is taken."
        part = canvas.window(top, left, bottom, right) - canvas.black()
        px -= np.array([left, top], np.float32)
        return np.asarray(
            cv2.remap(part, np.ascontiguousarray(px[..., 0]), np.ascontiguousarray(px[..., 1]), cv2.INTER_LANCZOS4, borderMode=cv2.BORDER_REPLICATE), np.float32
        )  # fmt: skip

    def _near(self, y0: int, x0: int, y1: int, x1: int) -> list[SpotParts]:
        """Spots that reach into a window."""
        low, high = self._bounds
        there = (high[:, 0] >= x0) & (high[:, 1] >= y0) & (low[:, 0] < x1) & (low[:, 1] < y1)
        return [self.spots[k] for k in np.flatnonzero(there).tolist()]

    @cached_property
    def _bounds(self) -> tuple[F64, F64]:
        """The corners of what each spot covers, (N, 2) in px."""
        low, high = self._corners(self.spots)
        radius = np.array([s.size * self.long + 2 for s in self.spots]).reshape(-1, 1)
        return low - radius, high + radius
