"""From a camera's numbers to colour, as the DNG specification says in its chapter 6 (source: dng17).

Camera numbers are linear, black subtracted, white at 1. Colour comes out in the linear working space.
"""

from dataclasses import dataclass, field, replace
from typing import ClassVar, Literal

import numpy as np
from numpy.typing import NDArray

from tanner.core.adjust.spec import Group, param
from tanner.core.colour.dcp import ILLUMINANTS, CameraProfile, HueSatTable
from tanner.core.colour.spaces import D50_XY, D50_XYZ, Matrix, adaptation, pcs_to_working, xy_to_xyz
from tanner.core.colour.temperature import temperature_to_xy, xy_to_temperature


class Profile(Group):
    key: ClassVar[str] = "profile"
    rank: ClassVar[int] = 10
    section: ClassVar[str] = "Groundwork"
    title: ClassVar[str] = "Profile"
    about: ClassVar[str] = "How the camera's numbers become colour and tone."

    camera: str = param(
        "",
        label="Camera profile",
        widget="profile",
        help="Empty: what lies in the file, else the plain matrix; matrix: the plain matrix alone; else a profile's name.",
    )
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

    look: str = param("", label="Look", widget="look", help="A .cube table from Kit, applied after tone; empty: none.")
    look_space: Literal["display", "linear"] = param(
        "display",
        label="Look works on",
        widget="choice",
        help="What the table was made for: sRGB display values, or linear sRGB.",
    )
    look_amount: float = param(100.0, 0.0, 100.0, label="Look amount", unit="%", help="How much of the look is used.")


@dataclass(frozen=True)
class CameraColour:
    """The colour data of one camera: matrices for one, two or three lights, and what a profile adds.

    Attributes:
        colour: XYZ to camera, (n, 3) each; n is 3, or 4 where a reduction says how four colours become three.
        forward: white-balanced camera to XYZ D50, (3, n), or empty.
        kelvin: temperature of each calibration light.
        calibration: CameraCalibration of each light, (n, n).
        analog_balance: (n,).
        origin: where the data came from, for people.
        reduction: (3, n) of each light, for n = 4.
        places: chromaticity of each light, needed where they are three.
        hue_sat, look, curve, baseline: see `dcp.CameraProfile`.
        working, input_table: of a camera's ICC profile, see `icc.camera_input`: they stand in for matrix and tables.
    """

    colour: tuple[Matrix, ...]
    kelvin: tuple[float, ...]
    forward: tuple[Matrix, ...] = ()
    calibration: tuple[Matrix, ...] = ()
    analog_balance: NDArray[np.float64] = field(default_factory=lambda: np.ones(3))
    origin: str = "file"
    reduction: tuple[Matrix, ...] = ()
    places: tuple[tuple[float, float], ...] = ()
    hue_sat: tuple[HueSatTable, ...] = ()
    look: HueSatTable | None = None
    curve: NDArray[np.float64] | None = None
    baseline: float = 0.0
    working: Matrix | None = None
    input_table: NDArray[np.float32] | None = None

    def _shares(self, white: tuple[float, float], count: int) -> NDArray[np.float64]:
        """How much each light counts under a white.

        Two lights: linear in inverse temperature, held beyond either (source: dng17). Three: by the distances d in xy,
        ((R - d) / (R d))^2 with R the farthest, which counts nothing (source: franke1982). The specification leaves three
        lights to its reference code; this agrees with weights that were read off a strict reader (docs/colour.md).
        """
        if count == 1:
            return np.ones(1)
        if count == 3:
            far = np.array([np.hypot(white[0] - x, white[1] - y) for x, y in self.places])
            if far.min() < 1e-6:
                return np.asarray(far == far.min(), dtype=np.float64)
            near = ((far.max() - far) / (far.max() * far)) ** 2
            return near / near.sum()
        if self.kelvin[0] == self.kelvin[1]:
            return np.array([1.0, 0.0])
        kelvin = xy_to_temperature(white)[0]
        a, b = 1 / self.kelvin[0], 1 / self.kelvin[1]
        share = min(max((1 / kelvin - b) / (a - b), 0.0), 1.0)
        return np.array([share, 1 - share])

    def _between(self, matrices: tuple[Matrix, ...], white: tuple[float, float]) -> Matrix:
        shares = self._shares(white, len(matrices))
        return np.asarray(sum(w * m for w, m in zip(shares, matrices, strict=True)))

    def _unit_balance(self, white: tuple[float, float]) -> Matrix:
        """AB x CC: what this one camera does differently from its model."""
        cc = self._between(self.calibration, white) if self.calibration else np.eye(len(self.colour[0]))
        matrix: Matrix = np.diag(self.analog_balance[: len(cc)]) @ cc
        return matrix

    def xyz_to_camera(self, white: tuple[float, float]) -> Matrix:
        matrix: Matrix = self._unit_balance(white) @ self._between(self.colour, white)
        return matrix

    def _to_xyz(self, white: tuple[float, float]) -> Matrix:
        """Camera to XYZ under a white, (3, n): through the reduction where there are four colours."""
        to_camera = self.xyz_to_camera(white)
        if len(to_camera) == 3:
            try:
                return np.asarray(np.linalg.inv(to_camera))
            except np.linalg.LinAlgError:  # two sound matrices of a damaged file whose mean is none
                return np.asarray(np.linalg.pinv(to_camera))
        if self.reduction:
            reduce = self._between(self.reduction, white)
            return np.asarray(np.linalg.inv(reduce @ to_camera) @ reduce)
        return np.asarray(np.linalg.pinv(to_camera))

    def neutral_to_white(self, neutral: NDArray[np.float64]) -> tuple[float, float]:
        """The chromaticity of the light under which these camera numbers are neutral."""
        xy = D50_XY
        for turn in range(30):
            xyz = self._to_xyz(xy) @ neutral
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
        numbers = self.white_numbers(white)
        if self.working is not None:
            return np.asarray(self.working @ np.diag(1 / numbers))
        if self.input_table is not None:
            return np.asarray(np.diag(1 / numbers))  # the table takes over from balanced numbers
        if self.forward:
            unit = np.linalg.inv(self._unit_balance(white))
            reference = unit @ numbers
            to_pcs = self._between(self.forward, white) @ np.diag(1 / reference) @ unit
        else:
            # The white of the light has numbers whose largest is 1: that, and no more, becomes D50 of Y = 1.
            to_pcs = adaptation(xy_to_xyz(white), D50_XYZ) @ self._to_xyz(white)
            to_pcs = to_pcs / (to_pcs @ numbers)[1]
        matrix: Matrix = pcs_to_working() @ to_pcs
        return matrix

    def hue_sat_at(self, white: tuple[float, float]) -> HueSatTable:
        """The hue and saturation table for a white, interpolated as the matrices are; there must be one."""
        if len(self.hue_sat) == 1:
            return self.hue_sat[0]
        shares = self._shares(white, len(self.hue_sat)).astype(np.float32)
        stacked = np.stack([t.cells for t in self.hue_sat])
        cells = np.tensordot(shares, stacked, axes=1).astype(np.float32)
        return HueSatTable(cells, self.hue_sat[0].srgb)


def with_icc(file: CameraColour, icc: bytes, name: str) -> CameraColour:
    """The colour of a camera by an ICC profile; light and white balance stay with the file's matrices."""
    from tanner.core.colour.icc import camera_input

    working, table = camera_input(icc)
    return replace(file, working=working, input_table=table, origin=name)


def with_profile(file: CameraColour, profile: CameraProfile, signature: str | None = None) -> CameraColour:
    """The colour of a camera by a profile; what is the single camera's own stays the file's.

    Args:
        signature: the file's CameraCalibrationSignature; its CameraCalibration counts only when the profile's is
            the same (source: dng17). None: not asked.
    """
    matching = signature is None or signature == profile.calibration_signature
    calibration = file.calibration if matching and len(file.calibration) == len(profile.colour) else ()
    places = tuple(
        xy or temperature_to_xy(k)
        for xy, k in zip(profile.lights or (None,) * len(profile.colour), profile.kelvin(), strict=True)
    )
    return replace(
        file,
        colour=profile.colour,
        kelvin=profile.kelvin(),
        forward=profile.forward,
        calibration=calibration,
        origin=profile.name,
        reduction=profile.reduction,
        places=places,
        hue_sat=profile.hue_sat,
        look=profile.look,
        curve=profile.curve,
        baseline=profile.baseline,
    )


def matrix_colour(matrix: Matrix | None, origin: str) -> CameraColour:
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


__all__ = ["ILLUMINANTS", "CameraColour", "Profile", "finished_colour", "matrix_colour", "with_profile"]
