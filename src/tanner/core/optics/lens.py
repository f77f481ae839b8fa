"""Lens corrections: where a pixel of the ideal picture lies in the sensor's, and how dark it is there.

A lens is a function from ideal to recorded positions, for each colour plane, with a gain against
fall-off. It comes from the file (DNG opcodes) or from the open lens database; terms set by hand are added.
"""

from dataclasses import dataclass
from typing import Any, ClassVar, Literal, Protocol

import numpy as np
from numpy.typing import NDArray

from tanner.core.adjust.spec import Affects, Group, param

Array = NDArray[np.float64]
STRENGTH: dict[str, Any] = {"unit": "%", "default_rule": "lens", "default_value": 100.0}
Projection = Literal["as taken", "straight", "stereographic", "Pannini", "cylinder"]


class Optics(Group):
    key: ClassVar[str] = "optics"
    rank: ClassVar[int] = 20
    affects: ClassVar[Affects] = "geometry"
    section: ClassVar[str] = "Groundwork"
    title: ClassVar[str] = "Optics"
    about: ClassVar[str] = "What is known about the lens: 100 % corrects as measured."

    chosen_lens: str = param(
        "",
        label="Lens",
        widget="lens",
        help="Empty: found by itself; none: no corrections; else a lens of the open database by its name.",
    )
    distortion: float = param(0.0, 0.0, 200.0, label="Distortion", help="Bent lines become straight.", **STRENGTH)
    lateral_colour: float = param(
        0.0, 0.0, 200.0, label="Lateral colour", help="Colour seams towards the corners.", **STRENGTH
    )
    fall_off: float = param(0.0, 0.0, 200.0, label="Light fall-off", help="Dark corners.", **STRENGTH)
    projection: Projection = param(
        "as taken",
        label="Projection",
        widget="choice",
        help="Straight keeps edges straight; stereographic and Pannini keep people at the sides in shape.",
    )
    own_distortion: float = param(
        0.0,
        -100.0,
        100.0,
        label="Own: distortion",
        step=0.5,
        help="Above 0: lines that bulge outwards become straight.",
    )
    own_red: float = param(0.0, -3.0, 3.0, label="Own: red seam", unit="‰", step=0.02, help="Red is drawn outwards.")
    own_blue: float = param(0.0, -3.0, 3.0, label="Own: blue seam", unit="‰", step=0.02, help="Blue is drawn outwards.")
    own_fall_off: float = param(
        0.0, -100.0, 100.0, label="Own: fall-off", unit="%", help="How much lighter the corners become."
    )

    @property
    def manual(self) -> bool:
        """Are any terms set by hand?"""
        return bool(self.own_distortion or self.own_red or self.own_blue or self.own_fall_off)


class Lens(Protocol):
    """What a source of lens data offers. Positions are px of the active area, pixel centres at +0.5."""

    @property
    def name(self) -> str: ...

    @property
    def source(self) -> str: ...

    @property
    def projection(self) -> str:
        """How it draws once its distortion is undone: one of `projection.LENSES`."""

    def positions(self, x: Array, y: Array) -> Array:
        """Recorded positions, shape (3 planes, 2 axes, ...), for ideal positions x, y."""

    def gain(self, x: Array, y: Array) -> Array:
        """Factor that evens the light out, for recorded positions."""


@dataclass(frozen=True)
class OpcodeLens:
    """A warp and FixVignetteRadial of a DNG's OpcodeList3 (source: dng17, chapter 7).

    Attributes:
        warp: (planes, coefficients) or None: kr0..kr3, kt0, kt1 of WarpRectilinear; kr0..kr3 of WarpFisheye;
            kr0..kr14, kt0, kt1 and the valid radii of WarpRectilinear2 (its layout is from memory).
        kind: "rectilinear", "fisheye" or "polynomial".
        vignette: k0..k4, or None.
        centre: of the warp, relative to the picture; `vignette_centre` likewise.
        size: width and height of the active area.
        maps: gain maps of list 3.
        order: "warp", "vignette" and "map" as they stand in the file; each gain works on the picture as it is by then.
            Empty: gains first.
    """

    warp: Array | None
    vignette: Array | None
    size: tuple[int, int]
    centre: tuple[float, float] = (0.5, 0.5)
    vignette_centre: tuple[float, float] = (0.5, 0.5)
    name: str = "from the file"
    source: str = "DNG opcodes in the file"
    kind: str = "rectilinear"
    reciprocal: bool = False
    maps: tuple[Any, ...] = ()
    order: tuple[str, ...] = ()
    projection: str = "rectilinear"

    def _relative(self, x: Array, y: Array, centre: tuple[float, float]) -> tuple[Array, Array, float]:
        w, h = self.size
        cx, cy = centre[0] * w, centre[1] * h
        far = float(np.hypot(max(cx, w - cx), max(cy, h - cy)))
        return (x - cx) / far, (y - cy) / far, far

    def positions(self, x: Array, y: Array) -> Array:
        if self.warp is None:
            return np.broadcast_to(np.stack([x, y]), (3, 2, *x.shape)).copy()
        dx, dy, far = self._relative(x, y, self.centre)
        r2 = dx * dx + dy * dy
        out = np.empty((3, 2, *x.shape))
        for plane in range(3):
            f, (t0, t1) = self._factor(self.warp[min(plane, len(self.warp) - 1)], r2)
            moved_x, moved_y = (f - 1) * dx, (f - 1) * dy
            if t0 or t1:
                moved_x += t0 * 2 * dx * dy + t1 * (r2 + 2 * dx * dx)
                moved_y += t1 * 2 * dx * dy + t0 * (r2 + 2 * dy * dy)
            out[plane, 0], out[plane, 1] = x + far * moved_x, y + far * moved_y
        return out

    def _factor(self, row: Array, r2: Array) -> tuple[Any, tuple[float, float]]:
        """How far out a place is drawn, as a factor, and the tangential terms."""
        if self.kind == "fisheye":
            r = np.sqrt(r2)
            t = np.arctan(r)
            t2 = t * t
            bent = t * (row[0] + t2 * (row[1] + t2 * (row[2] + t2 * row[3])))
            return np.where(r > 1e-9, bent / np.maximum(r, 1e-9), row[0]), (0.0, 0.0)
        if self.kind == "polynomial":
            low, high = row[17:19]
            r = np.clip(np.sqrt(r2), low, high if high > low else np.inf)
            f = np.polynomial.polynomial.polyval(r, row[:15])
            return (1 / np.maximum(f, 1e-3) if self.reciprocal else f), (float(row[15]), float(row[16]))
        return _series(row[:4], r2), (row[4], row[5])

    def gain(self, x: Array, y: Array) -> Array:
        return self.gains(np.broadcast_to(np.stack([x, y]), (3, 2, *x.shape)), x, y)[1]

    def gains(self, recorded: Array, x: Array, y: Array) -> Array:
        """Factors of the three planes (3, ...): of gains before the warp at recorded places (3, 2, ...), of others at x, y."""
        total = np.ones((3, *x.shape))
        maps = iter(self.maps)
        warped = False
        for step in self.order or ("vignette", *("map" for _ in self.maps)):
            if step == "warp":
                warped = True
            found = next(maps, None) if step == "map" else None
            for plane in range(3):
                at = (x, y) if warped else recorded[plane]
                if step == "vignette" and self.vignette is not None:
                    total[plane] *= self._vignette(*at)
                elif found is not None:
                    total[plane] *= found.smooth(at[1] / self.size[1], at[0] / self.size[0], plane, self.size)
        return total

    def _vignette(self, x: Array, y: Array) -> Array:
        assert self.vignette is not None
        dx, dy, _ = self._relative(x, y, self.vignette_centre)
        r2 = dx * dx + dy * dy
        total, power = np.ones_like(x), r2
        for k in np.trim_zeros(self.vignette, "b"):
            total += k * power
            power = power * r2
        return total


def _series(terms: Array, x: Array) -> Any:
    """A polynomial, its constant first; terms of nothing at its end cost nothing."""
    trimmed = np.trim_zeros(terms, "b")
    total: Any = trimmed[-1] if len(trimmed) else 0.0
    for term in trimmed[-2::-1]:
        total = term + x * total
    return total


OWN_DISTORTION, OWN_COLOUR = 0.0015, 0.001
"""What one unit of the terms set by hand does at the corner: share of the radius."""


def _gains(lens: Lens, recorded: Array, ideal: Array) -> Array:
    if isinstance(lens, OpcodeLens):
        return lens.gains(recorded, ideal[0], ideal[1])
    return np.broadcast_to(lens.gain(recorded[1, 0], recorded[1, 1]), (3, *ideal.shape[1:]))


def corrected(lens: Lens | None, optics: Optics, size: tuple[int, int], x: Array, y: Array) -> tuple[Array, Array]:
    """Sensor positions and gain for ideal positions, at the strengths asked for.

    The green plane carries distortion; what red and blue differ from it is lateral colour. Terms set by hand are
    polynomials of the squared distance from the centre, 1 in the corners.

    Args:
        size: width and height of the active area.

    Returns:
        positions (3, 2, ...), gain (3, ...).
    """
    plain = np.stack([x, y])[None]
    if optics.manual:
        dx, dy = x - size[0] / 2, y - size[1] / 2
        r2 = (dx * dx + dy * dy) / ((size[0] ** 2 + size[1] ** 2) / 4)
        own = -optics.own_distortion * OWN_DISTORTION * r2
        if optics.own_distortion < 0:
            # The corners stay where they are, so that no more than needed is lost.
            own = own - own / np.maximum(r2, 1e-12)
        seams = (optics.own_red * OWN_COLOUR, 0.0, optics.own_blue * OWN_COLOUR)
        plain = np.stack([plain[0] + np.stack([dx, dy]) * (own - seam * r2) for seam in seams])
    green = plain[len(plain) // 2]
    if lens is None or not (optics.distortion or optics.lateral_colour or optics.fall_off):
        result, gain = np.broadcast_to(plain, (3, 2, *x.shape)).copy(), np.ones((3, *x.shape))
    else:
        full = lens.positions(green[0], green[1])
        result = (full - full[1]) * (optics.lateral_colour / 100)
        result += plain + (full[1] - green) * (optics.distortion / 100)
        gain = _gains(lens, result, green) if optics.fall_off else np.ones((3, *x.shape))
    gain = np.maximum(gain, 0.05) ** (optics.fall_off / 100)
    if optics.own_fall_off:
        gain = gain * np.maximum(1 + optics.own_fall_off / 100 * r2, 0.05)
    return result, gain
