"""Spots put right on the numbers of a frame: a mosaic by its tiles of two by two, so that its pattern stays, else on its planes.

Places are those of the sensor, as masks have them: crop, lens and perspective move the picture and its spots together. What a
spot needs is worked out when it is first looked at, and remembered with the frame; one spot more costs one spot.
"""

import json
import math
from collections.abc import Mapping, Sequence
from dataclasses import dataclass
from typing import Any

import numpy as np
from numpy.typing import NDArray

from tanner.core.adjust.registry import Development
from tanner.core.areas.place import to_places
from tanner.core.jit import kernel
from tanner.core.memory import Slot
from tanner.core.raw.source import Source
from tanner.core.spots.declare import SPOTS, SpotParts
from tanner.core.spots.heal import GROW, REACH, RIM, best_source, filled, healed

F32 = NDArray[np.float32]
F64 = NDArray[np.float64]


@dataclass(frozen=True)
class Done:
    """What became of a spot: how far off it was taken from (x, y in shares of the long edge), and the step left at its rim."""

    source: tuple[float, float] | None
    seam: float
    said: str = ""


@dataclass(frozen=True)
class Healed:
    """A frame with spots put right: the source, the key of each spot in order, and what became of them by id."""

    source: Source
    keys: tuple[str, ...]
    done: Mapping[str, Done]


HEALED: Slot[Healed] = Slot("healed", keep=2, heavy=True)
SEAM = 2.5
"""From this step at the rim on a seam may show."""


def spots_of(development: Development) -> tuple[tuple[str, SpotParts], ...]:
    """The spots of a development that are switched on, with their ids, in order."""
    return tuple((t.id, t.parts) for t in development.listed(SPOTS.key))  # type: ignore[misc]


def key_of(development: Development) -> tuple[str, ...]:
    """All that the spots of a development do: for what is kept of a frame."""
    return tuple(_key(i, p) for i, p in spots_of(development))


def _key(ident: str, spot: SpotParts) -> str:
    told = spot.model_dump(mode="json", exclude={"name", "order", "enabled", "present", "kind"}, exclude_defaults=True)
    return ident + json.dumps(told, sort_keys=True)


def healed_source(source: Source, development: Development) -> Source:
    """The source with the spots of a development put right; itself without any."""
    return healed_frame(source, development).source if development.listed(SPOTS.key) else source


def healed_frame(source: Source, development: Development) -> Healed:
    """The same, with what became of each spot."""
    spots = spots_of(development)
    keys = tuple(_key(i, p) for i, p in spots)

    def make() -> Healed:
        # What was done before to the first of them is taken over.
        known = [h for h in source.memory.all(HEALED) if keys[: len(h.keys)] == h.keys]
        start = max(known, key=lambda h: len(h.keys), default=Healed(source, (), {}))
        data = np.array(start.source.data)
        done = dict(start.done)
        canvas = _Canvas(source, data, [p for _, p in spots])
        for ident, spot in spots[len(start.keys) :]:
            done[ident] = canvas.put_right(spot)
        result = Source(
            source.facts, data, profiles=source.profiles, gain_maps=source.gain_maps, denoised=source.denoised
        )
        result.wanted = source.wanted
        result.memory.take_shared(source.memory)
        return Healed(result, keys, done)

    return source.memory.get(HEALED, keys, make)


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


class _Canvas:
    """A frame's numbers with places: tiles of a mosaic as px of four channels, or planes of three."""

    def __init__(self, source: Source, data: NDArray[Any], spots: Sequence[SpotParts]) -> None:
        self.data = data
        self.step = 2 if data.ndim == 2 else 1
        w, h = source.size
        self.size = (w // self.step, h // self.step)
        to = to_places((w, h), source.facts.orientation).astype(np.float64)
        self.back = np.linalg.inv(to[:, :2])
        self.offset = to[:, 2]
        self.long = max(w, h) / self.step
        self.spots = spots

    def px(self, places: Any) -> F64:
        """Places (N, 2) in px of the canvas, whose middles are at whole numbers."""
        sensor = (np.asarray(places, np.float64) - self.offset) @ self.back.T
        return np.asarray(sensor / self.step - 0.5)

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

    def put(self, y0: int, x0: int, values: F32) -> None:
        h, w = values.shape[:2]
        if self.step == 1:
            self.data[:, y0 : y0 + h, x0 : x0 + w] = np.moveaxis(values, -1, 0)
            return
        most = np.iinfo(self.data.dtype).max if self.data.dtype.kind == "u" else None
        flat = values.reshape(h, w, 2, 2).transpose(0, 2, 1, 3).reshape(2 * h, 2 * w)
        if most is not None:
            flat = np.clip(np.rint(flat), 0, most)
        self.data[2 * y0 : 2 * (y0 + h), 2 * x0 : 2 * (x0 + w)] = flat.astype(self.data.dtype)

    def cover(self, spot: SpotParts, y0: int, x0: int, h: int, w: int) -> F32:
        """How much of each px of a window a spot covers, (h, w) from 0 to 1."""
        points = self.px(spot.path)
        radius = max(spot.size * self.long, 0.75)
        wide = max(spot.softness / 100 * radius, 1.0)
        out = np.zeros((h, w), np.float32)
        _cover((points - (x0, y0)).astype(np.float32), np.float32(radius + 0.5 * min(wide, 1.0)), np.float32(wide), out)
        return out

    def put_right(self, spot: SpotParts) -> Done:
        """One spot, in the canvas's own numbers."""
        points = self.px(spot.path)
        radius = max(spot.size * self.long, 0.75) + 1
        low, high = points.min(axis=0) - radius, points.max(axis=0) + radius
        w, h = self.size
        if high[0] < 0 or high[1] < 0 or low[0] >= w or low[1] >= h:
            return Done(None, 0.0, "It lies outside of the frame.")
        given = self.way(spot.source) if len(spot.source) == 2 else None
        side = float(max(high - low))
        reach = min((REACH if spot.way != "fill" else 1.0) * side, side + 120) + RIM + GROW + 4
        reach += 24 if spot.way == "fill" else 0
        more = np.abs(given) if given else (0, 0)
        x0, y0 = (max(0, math.floor(low[k] - max(reach, more[k] + RIM + 4))) for k in (0, 1))
        x1, y1 = (min((w, h)[k], math.ceil(high[k] + max(reach, more[k] + RIM + 4)) + 1) for k in (0, 1))
        picture = self.window(y0, x0, y1, x1)
        cover = self.cover(spot, y0, x0, y1 - y0, x1 - x0)
        hole = cover > 0.002
        if not hole.any():
            return Done(None, 0.0, "It is smaller than a px.")
        others = np.zeros_like(hole)
        for other in self.spots:
            if other is not spot and self._near(other, x0, y0, x1, y1):
                others |= self.cover(other, y0, x0, y1 - y0, x1 - x0) > 0.002
        seam, by = 0.0, given
        if spot.way == "fill":
            new = filled(picture, hole, others & ~hole, spot.another)
        else:
            by = given or best_source(picture, hole, others, spot.another)
            if spot.way == "copy" and by is not None:
                new = np.roll(picture, (-by[1], -by[0]), (0, 1))
            else:
                new, seam = healed(picture, hole, by)
        share = cover[..., None] * np.float32(spot.opacity / 100)
        ys, xs = np.nonzero(hole)
        inner = slice(ys.min(), ys.max() + 1), slice(xs.min(), xs.max() + 1)
        laid = picture[inner] + share[inner] * (new[inner] - picture[inner])
        self.put(y0 + int(ys.min()), x0 + int(xs.min()), np.ascontiguousarray(laid))
        found = None
        if by is not None:
            forth = np.linalg.inv(self.back) @ (np.array(by) * self.step)
            found = float(forth[0]), float(forth[1])
        return Done(found, round(seam, 2), "A seam may show here." if seam > SEAM else "")

    def _near(self, spot: SpotParts, x0: int, y0: int, x1: int, y1: int) -> bool:
        points, radius = self.px(spot.path), spot.size * self.long + 2
        low, high = points.min(axis=0) - radius, points.max(axis=0) + radius
        return bool(high[0] >= x0 and high[1] >= y0 and low[0] < x1 and low[1] < y1)
