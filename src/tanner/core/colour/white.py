"""White balance: temperature and tint, as shot or set; a pick on a neutral area."""

from typing import ClassVar

import numpy as np
from numpy.typing import NDArray

from tanner.core.adjust.spec import Group, param
from tanner.core.colour.camera import CameraColour
from tanner.core.colour.temperature import temperature_to_xy, xy_to_temperature


class White(Group):
    key: ClassVar[str] = "white"
    rank: ClassVar[int] = 40
    title: ClassVar[str] = "White balance"
    about: ClassVar[str] = "The colour of the light. Empty means as the camera recorded it."

    temperature: float | None = param(
        None,
        2000.0,
        50000.0,
        label="Temperature",
        unit="K",
        step=10,
        offset="mired",
        help="Colour of the light; empty is as shot.",
    )
    tint: float | None = param(
        None,
        -150.0,
        150.0,
        label="Tint",
        unit="",
        step=1,
        offset="tint",
        help="Green (minus) to magenta (plus); empty is as shot.",
    )


def white_point(white: White, as_shot: tuple[float, float]) -> tuple[float, float]:
    """Chromaticity of the light that is taken as white."""
    if white.temperature is None and white.tint is None:
        return as_shot
    kelvin, tint = xy_to_temperature(as_shot)
    return temperature_to_xy(
        kelvin if white.temperature is None else white.temperature, tint if white.tint is None else white.tint
    )


def picked(camera: CameraColour, numbers: NDArray[np.float64]) -> dict[str, float]:
    """The settings that make these camera numbers (mean of an area) neutral."""
    kelvin, tint = xy_to_temperature(camera.neutral_to_white(np.maximum(numbers, 1e-6)))
    return {
        "white.temperature": round(min(max(kelvin, 2000.0), 50000.0), 1),
        "white.tint": round(min(max(tint, -150.0), 150.0), 2),
    }
