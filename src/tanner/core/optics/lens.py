"""Lens corrections: where a pixel of the ideal picture lies in the sensor's, and how dark it is there.

A lens is a function from ideal to recorded positions, for each colour plane, with a gain against
fall-off. It comes from the file (DNG opcodes) or from the open lens database.
"""

from dataclasses import dataclass
from typing import Any, ClassVar, Protocol

import numpy as np
from numpy.typing import NDArray

from tanner.core.adjust.spec import Group, param

Array = NDArray[np.float64]
STRENGTH: dict[str, Any] = {"unit": "%", "default_rule": "lens", "default_value": 100.0}


class Optics(Group):
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


class Lens(Protocol):
    """What a source of lens data offers. Positions are px of the active area, pixel centres at +0.5."""

    @property
    def name(self) -> str: ...

    @property
    def source(self) -> str: ...

    def positions(self, x: Array, y: Array) -> Array:
        """Recorded positions, shape (3 planes, 2 axes, ...), for ideal positions x, y."""

    def gain(self, x: Array, y: Array) -> Array:
        """Factor that evens the light out, for recorded positions."""


@dataclass(frozen=True)
class OpcodeLens:
    """WarpRectilinear and FixVignetteRadial of a DNG's OpcodeList3 (source: dng17, chapter 7).

    Attributes:
        warp: (planes, 6) coefficients kr0..kr3, kt0, kt1, or None.
        vignette: k0..k4, or None.
        centre: of the warp, relative to the picture; `vignette_centre` likewise.
        size: width and height of the active area.
    """

    warp: Array | None
    vignette: Array | None
    size: tuple[int, int]
    centre: tuple[float, float] = (0.5, 0.5)
    vignette_centre: tuple[float, float] = (0.5, 0.5)
    name: str = "from the file"
    source: str = "DNG opcodes in the file"

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
        planes = []
        for plane in range(3):
            k0, k1, k2, k3, t0, t1 = self.warp[min(plane, len(self.warp) - 1)]
            f = k0 + r2 * (k1 + r2 * (k2 + r2 * k3))
            tx = t0 * 2 * dx * dy + t1 * (r2 + 2 * dx * dx)
            ty = t1 * 2 * dx * dy + t0 * (r2 + 2 * dy * dy)
            planes.append(np.stack([x + far * ((f - 1) * dx + tx), y + far * ((f - 1) * dy + ty)]))
        return np.stack(planes)

    def gain(self, x: Array, y: Array) -> Array:
        if self.vignette is None:
            return np.ones_like(x)
        dx, dy, _ = self._relative(x, y, self.vignette_centre)
        r2 = dx * dx + dy * dy
        total = np.ones_like(x)
        power = r2
        for k in self.vignette:
            total = total + k * power
            power = power * r2
        return total


def corrected(lens: Lens | None, optics: Optics, x: Array, y: Array) -> tuple[Array, Array]:
    """Sensor positions and gain for ideal positions, at the strengths asked for.

    The green plane carries distortion; what red and blue differ from it is lateral colour.

    Returns:
        positions (3, 2, ...), gain (...).
    """
    plain = np.broadcast_to(np.stack([x, y]), (3, 2, *x.shape))
    if lens is None or not (optics.distortion or optics.lateral_colour or optics.fall_off):
        return plain.copy(), np.ones_like(x)
    full = lens.positions(x, y)
    bent = full[1][None] - plain
    result = plain + bent * (optics.distortion / 100) + (full - full[1][None]) * (optics.lateral_colour / 100)
    gain = lens.gain(result[1, 0], result[1, 1]) if optics.fall_off else np.ones_like(x)
    return result, np.maximum(gain, 0.05) ** (optics.fall_off / 100)
