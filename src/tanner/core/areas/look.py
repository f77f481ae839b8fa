"""What masks are read from: the frame's linear values over the whole sensor, upright, without lens, crop or tone.

It is made from the file alone, so that no mask moves when the development is changed. Ranges see it with the frame's white
balance and exposure, so that they mean the same in frames that were matched.
"""

from dataclasses import dataclass
from functools import cache

import cv2
import numpy as np
from numpy.typing import NDArray

from tanner.core.areas.drawing import Grid
from tanner.core.colour.spaces import OKLAB_AXES, SPACES, luminance_weights, oklab_cones, working_to
from tanner.core.optics.resample import averaged

F32 = NDArray[np.float32]
F64 = NDArray[np.float64]
EDGE = 2048
"""Long edge in px of masks that are worked out beforehand."""


@dataclass(frozen=True)
class AreaLook:
    """
    Attributes:
        planes: float32 (3, h, w), balanced camera values, 1 at the sensor's white before its balance.
        plain: (3, 3) from them to the working space as shot, without exposure.
        grid: of masks over the frame.
    """

    planes: F32
    plain: F64
    grid: Grid

    def working(self, to_working: F64, edge: int | None = None) -> F32:
        """Linear working values (h, w, 3) by a matrix from the planes; edge: no longer than so many px."""
        planes = self.planes
        if edge and edge < max(self.grid.size):
            w, h = self.grid.size
            share = edge / max(w, h)
            planes = averaged(planes, (round(w * share), round(h * share)))
        merged = np.ascontiguousarray(np.moveaxis(planes, 0, -1))
        return np.asarray(cv2.transform(merged, to_working.astype(np.float32)), np.float32)

    def picture(self, edge: int) -> NDArray[np.uint8]:
        """A plain finished picture as shot, (h, w, 3) in sRGB: what networks and features are given.

        Its lightest hundredth comes to white, for raw files are exposed in many ways.
        """
        linear = self.working(working_to(SPACES["srgb"]) @ self.plain, edge)
        top = float(np.quantile(linear[::4, ::4].max(axis=-1), 0.99))
        index = np.clip(linear * np.float32(TABLE / max(top * 1.05, 1e-6)), 0, TABLE).astype(np.uint16)
        return np.asarray(_encoded()[index])

    def floating(self, edge: int) -> F32:
        """The same from 0 to 1."""
        return np.asarray(self.picture(edge), np.float32) / np.float32(255)


TABLE = 4095


@cache
def _encoded() -> NDArray[np.uint8]:
    """sRGB of even steps from 0 to 1."""
    return np.asarray(SPACES["srgb"].encode(np.linspace(0, 1, TABLE + 1)) * 255 + 0.5).astype(np.uint8)


def oklab(linear: F32) -> F32:
    """Oklab of linear working values (..., 3) (source: ottosson2020)."""
    to = oklab_cones(SPACES["prophoto"])[0]
    cones = np.cbrt(np.maximum(linear, 0) @ to.T.astype(np.float32))
    return np.asarray(cones @ OKLAB_AXES.T.astype(np.float32), dtype=np.float32)


def lightness(linear: F32) -> F32:
    """CIE L* of linear working values (..., 3), 100 at white and no more (source: cie15)."""
    y = np.clip(linear @ luminance_weights().astype(np.float32), 0, 1)
    return np.asarray(np.where(y > 216 / 24389, 116 * np.cbrt(y) - 16, y * np.float32(24389 / 27)), dtype=np.float32)
