"""A frame's numbers with places on them: tiles of a mosaic as px of four channels, or planes of three."""

import math
from collections.abc import Sequence
from dataclasses import dataclass
from functools import cached_property
from pathlib import Path
from typing import Any

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
from tanner.core.spots.heal import GROW, REACH, healed, healed_from
from tanner.core.spots.search import RIM, best_source

F32 = NDArray[np.float32]
F64 = NDArray[np.float64]


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
        self.last: SpotPatch | None = None
        self.step = 2 if data.ndim == 2 else 1
        w, h = source.size
        self.size = (w // self.step, h // self.step)
        to = to_places((w, h), source.facts.orientation).astype(np.float64)
        self.forth = to[:, :2]
        self.back = np.linalg.inv(to[:, :2])
        self.offset = to[:, 2]
        self.long = max(w, h) / self.step
        self.spots = [lying(s) for s in spots if not s.found or s.found[8] >= SURE]

    def px(self, places: Any) -> F64:
        """Places (N, 2) in px of the canvas, whose middles are at whole numbers."""
        sensor = (np.asarray(places, np.float64) - self.offset) @ self.back.T
        return np.asarray(sensor / self.step - 0.5)

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
        part = self.data[2 * y0 : 2 * y1, 2 * x0 : 2 * x1].astype(np.float32)
        return np.ascontiguousarray(
            part.reshape(y1 - y0, 2, x1 - x0, 2).transpose(0, 2, 1, 3).reshape(y1 - y0, x1 - x0, 4)
        )

    def black(self) -> F32:
        """What black is in each channel."""
        return np.asarray(self.source.facts.black if self.step == 2 else (0, 0, 0), np.float32)

    def put(self, y0: int, x0: int, values: F32) -> None:
        h, w = values.shape[:2]
        if self.step == 1:
            self.lay(SpotPatch(y0, x0, np.ascontiguousarray(np.moveaxis(values, -1, 0))))
            return
        most = np.iinfo(self.data.dtype).max if self.data.dtype.kind == "u" else None
        flat = values.reshape(h, w, 2, 2).transpose(0, 2, 1, 3).reshape(2 * h, 2 * w)
        if most is not None:
            flat = np.clip(np.rint(flat), 0, most)
        self.lay(SpotPatch(2 * y0, 2 * x0, flat.astype(self.data.dtype)))

    def lay(self, patch: SpotPatch) -> None:
        """Put numbers into the frame's own, and remember which they were."""
        h, w = patch.values.shape[-2:]
        self.data[..., patch.top : patch.top + h, patch.left : patch.left + w] = patch.values
        self.last = patch

    def cover(self, spot: SpotParts, y0: int, x0: int, h: int, w: int) -> F32:
        """How much of each px of a window a spot covers, (h, w) from 0 to 1."""
        points = (self.px(spot.path) - (x0, y0)).astype(np.float32)
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

    def window_of(self, spot: SpotParts) -> tuple[int, int, int, int] | None:
        """All that a spot, as it lies here, reads and writes: top, left, bottom and right in px; None outside of the frame."""
        points = self.px(spot.path)
        radius = max(spot.size * self.long, 0.75) + 1
        low, high = points.min(axis=0) - radius, points.max(axis=0) + radius
        w, h = self.size
        if high[0] < 0 or high[1] < 0 or low[0] >= w or low[1] >= h:
            return None
        side = float(max(high - low))
        reach = min((REACH if spot.way != "fill" else 1.0) * side, side + 120) + RIM + GROW + 4
        reach += 24 if spot.way == "fill" else 0
        more = np.abs(self.way(spot.source)) + RIM + 4 if len(spot.source) == 2 else np.zeros(2)
        x0, y0 = (max(0, math.floor(low[k] - max(reach, more[k]))) for k in (0, 1))
        x1, y1 = (min((w, h)[k], math.ceil(high[k] + max(reach, more[k])) + 1) for k in (0, 1))
        return y0, x0, y1, x1

    def put_right(self, spot: SpotParts) -> Done:
        """One spot, in the canvas's own numbers."""
        followed = bool(spot.found)
        if followed:
            if spot.found[8] < SURE:
                why = "later" if spot.found[8] < 0 else judgement(spot.judged)[1] or "lost"
                return Done(None, 0.0, LEFT[why], left=True)
            found, spot = spot.found, lying(spot)
        window = self.window_of(spot)
        if window is None:
            return Done(None, 0.0, "It lies outside of the frame.", left=True)
        y0, x0, y1, x1 = window
        given = self.way(spot.source) if len(spot.source) == 2 else None
        picture = self.window(y0, x0, y1, x1)
        cover = self.cover(spot, y0, x0, y1 - y0, x1 - x0)
        hole = cover > 0.002
        if not hole.any():
            return Done(None, 0.0, "It is smaller than a px.", left=True)
        others = np.zeros_like(hole)
        for other in self._near(y0, x0, y1, x1):
            if other.path != spot.path:
                others |= self.cover(other, y0, x0, y1 - y0, x1 - x0) > 0.002
        seam, by = 0.0, given
        if spot.other:
            m = homography(spot.other_at) @ np.linalg.inv(homography(found if followed else ()))
            there = self._from_other(spot.other, m, y0, x0, y1, x1)
            if isinstance(there, str):
                return Done(None, 0.0, there, left=True)
            # Of light alone: what is black is no light, and stays out of how much more of it there is.
            new, seam = healed_from(picture - self.black(), hole, there)
            new += self.black()
        elif spot.way == "even":
            new = calmed(picture, hole, spot.calm_size / 100 * spot.size * self.long, spot.calm)
        elif spot.way == "fill":
            new = filled(
                picture,
                hole,
                others & ~hole,
                spot.another,
                self.px(spot.along) - (x0, y0) if len(spot.along) > 1 else None,
            )
        else:
            by = given or best_source(picture, hole, others, spot.another)
            if spot.way == "copy" and by is not None:
                new = np.roll(picture, (-by[1], -by[0]), (0, 1))
            else:
                new, seam = healed(picture, hole, by)
        told = None
        if by is not None:
            forth = self.forth @ (np.array(by) * self.step)
            told = float(forth[0]), float(forth[1])
        there_now = (tuple(spot.path), spot.size) if followed else ((), 0.0)
        if followed and given is None and seam > SEAM:
            return Done(told, round(seam, 2), LEFT["seam"], *there_now, left=True)
        self._lay(spot, picture, cover, new, y0, x0)
        return Done(told, round(seam, 2), "A seam may show here." if seam > SEAM else "", *there_now)

    def _lay(self, spot: SpotParts, picture: F32, cover: F32, new: F32, y0: int, x0: int) -> None:
        share = cover[..., None] * np.float32(spot.opacity / 100)
        ys, xs = np.nonzero(cover > 0.002)
        inner = slice(ys.min(), ys.max() + 1), slice(xs.min(), xs.max() + 1)
        laid = picture[inner] + share[inner] * (new[inner] - picture[inner])
        self.put(y0 + int(ys.min()), x0 + int(xs.min()), np.ascontiguousarray(laid))

    def _from_other(self, name: str, m: F64, y0: int, x0: int, y1: int, x1: int) -> F32 | str:
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
        points = [self.px(s.path) for s in self.spots]
        radius = np.array([s.size * self.long + 2 for s in self.spots])[:, None]
        low, high = (np.array([f(p, axis=0) for p in points]).reshape(-1, 2) for f in (np.min, np.max))
        return low - radius, high + radius
