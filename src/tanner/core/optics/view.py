"""The ideal picture of a frame: from its places to the sensor's, through perspective, projection, turn and lens.

Places are px from the centre of the upright frame at the sensor's own scale. The frame that a crop is measured in is
the largest rectangle of the frame's shape that lies wholly within what the sensor saw (`View.frame`), so that nothing
empty is ever shown unless it is asked for.
"""

from dataclasses import dataclass
from functools import cached_property

import numpy as np
from numpy.typing import NDArray

from tanner.core.optics.crop import Crop
from tanner.core.optics.lens import Lens, Optics, corrected
from tanner.core.optics.perspective import Perspective, rotation
from tanner.core.optics.projection import direction, place

Array = NDArray[np.float64]
EDGE_POINTS = 81
FAR = 4.0
"""Places are held within so many frame sizes: what a projection sends to infinity must stay a number."""
_OWN = {"as taken": None, "straight": "rectilinear", "stereographic": "stereographic", "Pannini": "pannini",
        "cylinder": "cylinder"}  # fmt: skip


def upright(size: tuple[int, int], orientation: int) -> tuple[int, int]:
    """Size of a frame after its EXIF orientation is honoured."""
    return (size[1], size[0]) if orientation >= 5 else size


def to_sensor(x: Array, y: Array, size: tuple[int, int], orientation: int) -> tuple[Array, Array]:
    """Upright positions to sensor positions, for the eight EXIF orientations."""
    w, h = size
    return {
        1: (x, y),
        2: (w - x, y),
        3: (w - x, h - y),
        4: (x, h - y),
        5: (y, x),
        6: (y, h - x),
        7: (w - y, h - x),
        8: (w - y, x),
    }.get(orientation, (x, y))


def orientation_of(exif: int, crop: Crop) -> int:
    """The EXIF orientation that a camera's and the crop's quarter turns and mirror make together."""
    if crop.turn == "0" and not crop.mirror:
        return exif
    # Where three corners of a 3 x 2 frame come from tells which of the eight it is.
    size = (3, 2)
    seen = upright(size, exif)
    own = {"0": 1, "90": 6, "180": 3, "270": 8}[crop.turn]
    final = upright(seen, own)
    x, y = np.array([0.0, final[0], 0.0]), np.array([0.0, 0.0, final[1]])
    ax, ay = (final[0] - x, y) if crop.mirror else (x, y)
    ax, ay = to_sensor(ax, ay, seen, own)
    wanted = np.round(to_sensor(ax, ay, size, exif), 6)
    for code in range(1, 9):
        if upright(size, code) == final and np.array_equal(np.round(to_sensor(x, y, size, code), 6), wanted):
            return code
    raise AssertionError("eight orientations are all there are")


@dataclass(frozen=True)
class View:
    """All that lies between a place of the ideal picture and the sensor.

    Attributes:
        size: width and height of the sensor's active area; orientation: EXIF 1 to 8, with the crop's turn.
        lens_projection: how the lens draws; focal: focal length in px, needed only where the view `bends`.
    """

    size: tuple[int, int]
    orientation: int
    optics: Optics
    perspective: Perspective
    lens: Lens | None
    lens_projection: str = "rectilinear"
    focal: float = 1.0

    @property
    def upright(self) -> tuple[int, int]:
        return upright(self.size, self.orientation)

    @property
    def projection(self) -> str:
        return _OWN[self.optics.projection] or self.lens_projection

    @property
    def bends(self) -> bool:
        """Are places changed before the lens?"""
        return self.perspective.turns or bool(self.perspective.stretch) or self.projection != self.lens_projection

    @property
    def untouched(self) -> bool:
        """Does every place lie where the sensor has it, as light as it was?"""
        o = self.optics
        lens = self.lens is not None and (o.distortion or o.lateral_colour or o.fall_off)
        return self.orientation == 1 and not (self.bends or o.manual or lens)

    def _turn(self) -> Array:
        share = self.perspective.amount / 100
        return rotation(self.perspective.vertical * share, self.perspective.horizontal * share)

    def ideal(self, x: Array, y: Array) -> tuple[Array, Array]:
        """Places of the upright picture before the lens is undone, for places of the ideal one."""
        if not self.bends:
            return x, y
        y = y / (1 + self.perspective.stretch / 100)
        if self.perspective.turns or self.projection != self.lens_projection:
            at = direction(x / self.focal, y / self.focal, self.projection)
            at = np.tensordot(self._turn(), at, axes=1) if self.perspective.turns else at
            x, y = place(at, self.lens_projection)
            x, y = x * self.focal, y * self.focal
        most = FAR * max(self.size)
        return np.clip(x, -most, most), np.clip(y, -most, most)

    def unideal(self, x: Array, y: Array) -> tuple[Array, Array]:
        """The other way; NaN where nothing of the ideal picture lies."""
        if not self.bends:
            return x, y
        if self.perspective.turns or self.projection != self.lens_projection:
            at = direction(x / self.focal, y / self.focal, self.lens_projection)
            at = np.tensordot(self._turn().T, at, axes=1) if self.perspective.turns else at
            x, y = place(at, self.projection)
            if self.projection == "rectilinear":
                x, y = np.where(at[2] > 0.02, x, np.nan), np.where(at[2] > 0.02, y, np.nan)
            x, y = x * self.focal, y * self.focal
        return x, y * (1 + self.perspective.stretch / 100)

    def positions(self, x: Array, y: Array) -> tuple[Array, Array]:
        """Sensor positions (3, 2, ...) and gain (3, ...) for places of the ideal picture."""
        up = self.upright
        ux, uy = self.ideal(x, y)
        sx, sy = to_sensor(ux + up[0] / 2, uy + up[1] / 2, self.size, self.orientation)
        return corrected(self.lens, self.optics, self.size, sx, sy)

    def outline(self) -> Array:
        """The sensor's edge (N, 2) as places of the ideal picture; points that are not in it are left out."""
        w, h = self.size
        t = np.linspace(0, 1, EDGE_POINTS)[:-1]
        one = np.ones_like(t)
        ex = np.concatenate([t, one, 1 - t, 0 * t]) * w
        ey = np.concatenate([0 * t, t, one, 1 - t]) * h
        # The lens is undone by fixed-point steps; where it does not settle the edge is unknown there.
        qx, qy = ex.copy(), ey.copy()
        if self.lens is not None or self.optics.manual:
            for _ in range(25):
                at, _ = corrected(self.lens, self.optics, self.size, qx, qy)
                if max(np.abs(ex - at[1, 0]).max(), np.abs(ey - at[1, 1]).max()) < 0.01:
                    break
                qx = np.clip(qx + ex - at[1, 0], -FAR * w, FAR * w)
                qy = np.clip(qy + ey - at[1, 1], -FAR * h, FAR * h)
            at, _ = corrected(self.lens, self.optics, self.size, qx, qy)
            worst = np.hypot(at[1, 0] - ex, at[1, 1] - ey)
            qx = np.where(worst < 1.0, qx, np.nan)
            # Red and blue must not leave the sensor either: the edge is drawn in by what they reach beyond.
            reach = np.abs(at - at[1]).max(axis=(0, 1))
            pull = 1 - np.where(reach > 0.02, reach, 0.0) / (min(w, h) / 2)
            qx, qy = w / 2 + (qx - w / 2) * pull, h / 2 + (qy - h / 2) * pull
        ux, uy = from_sensor(qx, qy, self.size, self.orientation)
        up = self.upright
        x, y = self.unideal(ux - up[0] / 2, uy - up[1] / 2)
        points = np.stack([x, y], axis=1)
        return points[np.isfinite(points).all(axis=1)]

    @cached_property
    def frame(self) -> tuple[float, float, float]:
        """Centre x and y, and scale, of the frame: the upright size times the scale fits what was seen."""
        if not self.bends and not (self.lens or self.optics.manual):
            return 0.0, 0.0, 1.0
        edge = self.outline()
        if len(edge) < 20:
            return 0.0, 0.0, 1.0
        half = np.array(self.upright) / 2
        # A picture that is only bent a little keeps its scale; another projection may show less or more of a frame.
        most = 1.0 if self.projection == self.lens_projection else 3.0
        centre = np.zeros(2)
        if self.perspective.turns:
            centre = _best_centre(edge, half)
        slack = 0.75 / half.min()
        scale = float(_room(edge, centre, half)) + slack
        return float(centre[0]), float(centre[1]), max(0.05, min(most, scale))

    def folds(self) -> bool:
        """Does the map turn back on itself inside the picture? Such a correction makes no picture."""
        up = self.upright
        gx, gy = np.meshgrid(np.linspace(-0.5, 0.5, 41) * up[0], np.linspace(-0.5, 0.5, 41) * up[1])
        at, gain = self.positions(gx, gy)
        if not np.isfinite(at).all() or not np.isfinite(gain).all():
            return True
        x, y = at[1]
        area = (
            np.diff(x, axis=1)[:-1] * np.diff(y, axis=0)[:, :-1] - np.diff(x, axis=0)[:, :-1] * np.diff(y, axis=1)[:-1]
        )
        inside = (np.abs(x[:-1, :-1] - self.size[0] / 2) < self.size[0] / 2) & (
            np.abs(y[:-1, :-1] - self.size[1] / 2) < self.size[1] / 2
        )
        seen = area[inside]
        return bool(len(seen) and (np.sign(seen) != np.sign(np.median(seen))).any())


def from_sensor(x: Array, y: Array, size: tuple[int, int], orientation: int) -> tuple[Array, Array]:
    """The inverse of `to_sensor`: all orientations but the two quarter turns undo themselves."""
    return to_sensor(x, y, upright(size, orientation), {6: 8, 8: 6}.get(orientation, orientation))


def _room(edge: Array, centre: Array, half: Array) -> float:
    """The largest scale at which a rectangle about a centre meets no part of a closed line."""
    a = (edge - centre) / half
    b = np.roll(a, -1, axis=0)
    d = b - a
    with np.errstate(divide="ignore", invalid="ignore"):
        # The max norm along a segment is smallest at an end, where its parts are equal, or where one is zero.
        t = np.stack([
            np.zeros(len(a)), np.ones(len(a)), (a[:, 0] - a[:, 1]) / (d[:, 1] - d[:, 0]),
            -(a[:, 0] + a[:, 1]) / (d[:, 0] + d[:, 1]), -a[:, 0] / d[:, 0], -a[:, 1] / d[:, 1],
        ])  # fmt: skip
    t = np.clip(np.nan_to_num(t), 0, 1)
    at = np.abs(a[None] + t[..., None] * d[None]).max(axis=-1)
    # Points that were left out break the line: a jump over a wide gap is no edge of the picture.
    whole = np.hypot(d[:, 0], d[:, 1]) < 1.0
    return float(np.where(whole[None], at, np.inf).min()) if whole.any() else 1.0


def _best_centre(edge: Array, half: Array) -> Array:
    """The centre about which the largest rectangle fits: a search in steps that become smaller."""
    centre, step = np.zeros(2), 0.3
    for _ in range(6):
        u = np.linspace(-1, 1, 7) * step
        tried = centre + np.stack(np.meshgrid(u * half[0], u * half[1]), axis=-1).reshape(-1, 2)
        tried = np.concatenate([centre[None], tried])
        reach = np.abs((edge[None] - tried[:, None]) / half).max(axis=-1).min(axis=-1)
        # Among equals the nearest to the middle.
        reach = reach - 1e-6 * np.hypot(*(tried / half).T)
        centre = tried[int(reach.argmax())]
        step /= 2.5
    result: Array = centre
    return result
