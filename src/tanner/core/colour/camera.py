"""From a camera's numbers to colour, as the DNG specification says in its chapter 6 (source: dng17).

Camera numbers are linear, black subtracted, white at 1. Colour comes out in the linear working space.
"""

from dataclasses import dataclass, field
from typing import ClassVar

import numpy as np
from numpy.typing import NDArray

from tanner.core.adjust.spec import Group, param
from tanner.core.colour.spaces import D50_XY, D50_XYZ, Matrix, adaptation, pcs_to_working, xy_to_xyz
from tanner.core.colour.temperature import xy_to_temperature

# Kelvin of EXIF LightSource codes used as CalibrationIlluminant (source: dng17).
ILLUMINANTS: dict[int, float] = {
    1: 5500, 2: 4150, 3: 2850, 4: 5500, 9: 5500, 10: 6500, 11: 7500, 12: 6400, 13: 5050, 14: 4150, 15: 3525,
    17: 2850, 18: 4874, 19: 6774, 20: 5503, 21: 6504, 22: 7504, 23: 5003, 24: 3200,
}  # fmt: skip


class Profile(Group):
    title: ClassVar[str] = "Profile"
    about: ClassVar[str] = "How the camera's numbers become colour and tone."

    curve_strength: float = param(
        0.0,
        0.0,
        100.0,
        label="Base curve",
        unit="%",
        default_rule="raw",
        default_value=100.0,
        help="How much of the base curve is used; 0 is the scene as the sensor saw it.",
    )


@dataclass(frozen=True)
class CameraColour:
    """The colour data of one camera: matrices for one or two lights.

    Attributes:
        colour: XYZ to camera, (3, 3) each.
        forward: white-balanced camera to XYZ D50, or empty.
        kelvin: temperature of each calibration light.
        calibration: CameraCalibration of each light.
        analog_balance: (3,).
        origin: where the data came from, for people.
    """

    colour: tuple[Matrix, ...]
    kelvin: tuple[float, ...]
    forward: tuple[Matrix, ...] = ()
    calibration: tuple[Matrix, ...] = ()
    analog_balance: NDArray[np.float64] = field(default_factory=lambda: np.ones(3))
    origin: str = "file"

    def _between(self, matrices: tuple[Matrix, ...], kelvin: float) -> Matrix:
        """Interpolated in inverse temperature, held beyond either light."""
        if len(matrices) == 1 or self.kelvin[0] == self.kelvin[1]:
            return matrices[0]
        low, high = (0, 1) if self.kelvin[0] < self.kelvin[1] else (1, 0)
        a, b = 1 / self.kelvin[low], 1 / self.kelvin[high]
        share = min(max((1 / kelvin - b) / (a - b), 0.0), 1.0)
        return matrices[low] * share + matrices[high] * (1 - share)

    def _unit_balance(self, kelvin: float) -> Matrix:
        """AB x CC: what this one camera does differently from its model."""
        cc = self._between(self.calibration, kelvin) if self.calibration else np.eye(3)
        matrix: Matrix = np.diag(self.analog_balance) @ cc
        return matrix

    def xyz_to_camera(self, white: tuple[float, float]) -> Matrix:
        kelvin = xy_to_temperature(white)[0]
        matrix: Matrix = self._unit_balance(kelvin) @ self._between(self.colour, kelvin)
        return matrix

    def neutral_to_white(self, neutral: NDArray[np.float64]) -> tuple[float, float]:
        """The chromaticity of the light under which these camera numbers are neutral."""
        xy = D50_XY
        for turn in range(30):
            xyz = np.linalg.solve(self.xyz_to_camera(xy), neutral)
            total = float(xyz.sum())
            if total <= 0 or not np.isfinite(total):
                return D50_XY
            following = (float(np.clip(xyz[0] / total, 0.05, 0.8)), float(np.clip(xyz[1] / total, 0.05, 0.8)))
            if abs(following[0] - xy[0]) + abs(following[1] - xy[1]) < 1e-8:
                return following
            # The search can swing between two whites: meet in the middle when it does.
            xy = following if turn < 20 else ((xy[0] + following[0]) / 2, (xy[1] + following[1]) / 2)
        return xy

    def white_numbers(self, white: tuple[float, float]) -> NDArray[np.float64]:
        """Camera numbers of a white under this light, the largest at 1."""
        numbers = self.xyz_to_camera(white) @ xy_to_xyz(white)
        numbers = np.maximum(numbers / numbers.max(), 1e-3)
        result: NDArray[np.float64] = numbers
        return result

    def to_working(self, white: tuple[float, float]) -> Matrix:
        """Camera numbers to the linear working space: the white of this light becomes (1, 1, 1)."""
        kelvin = xy_to_temperature(white)[0]
        numbers = self.white_numbers(white)
        if self.forward:
            unit = np.linalg.inv(self._unit_balance(kelvin))
            reference = unit @ numbers
            to_pcs = self._between(self.forward, kelvin) @ np.diag(1 / reference) @ unit
        else:
            from_pcs = self.xyz_to_camera(white) @ adaptation(D50_XYZ, xy_to_xyz(white))
            from_pcs = from_pcs / (from_pcs @ D50_XYZ).max()
            to_pcs = np.linalg.inv(from_pcs)
        matrix: Matrix = pcs_to_working() @ to_pcs
        return matrix


def plain_colour(matrix: Matrix | None, origin: str) -> CameraColour:
    """One matrix for daylight; without one, a camera that sees like sRGB (a stated fallback)."""
    if matrix is None or not np.any(matrix):
        from tanner.core.colour.spaces import SPACES

        d65 = xy_to_xyz((0.3127, 0.3290))
        inverse = np.linalg.inv(adaptation(D50_XYZ, d65) @ SPACES["srgb"].to_pcs())
        matrix = np.asarray(inverse, dtype=np.float64)
        origin = "fallback"
    return CameraColour(colour=(np.asarray(matrix, dtype=np.float64),), kelvin=(6504.0,), origin=origin)


def finished_colour() -> CameraColour:
    """For finished pictures, whose numbers are the linear working space already."""
    return CameraColour(colour=(pcs_to_working(),), kelvin=(5003.0,), origin="finished picture")
