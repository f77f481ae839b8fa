"""The point curve: a monotone cubic through points that the user sets."""

from itertools import pairwise
from typing import Annotated, ClassVar

import numpy as np
from numpy.typing import NDArray
from pydantic import Field, field_validator
from scipy.interpolate import PchipInterpolator

from tanner.core.adjust.spec import Group, param

Unit = Annotated[float, Field(ge=0.0, le=1.0, allow_inf_nan=False)]


class Curve(Group):
    key: ClassVar[str] = "curve"
    rank: ClassVar[int] = 60
    title: ClassVar[str] = "Curve"
    about: ClassVar[str] = "A tone curve through points that you set."

    points: list[tuple[Unit, Unit]] = param(
        [(0.0, 0.0), (1.0, 1.0)],
        label="Tone curve",
        widget="curve",
        help="Points of the curve, from black to white, in display values from 0 to 1.",
    )

    @field_validator("points")
    @classmethod
    def _in_order(cls, points: list[tuple[float, float]]) -> list[tuple[float, float]]:
        if not 2 <= len(points) <= 16:
            raise ValueError("a curve has 2 to 16 points")
        if any(b[0] - a[0] < 0.004 for a, b in pairwise(points)):
            raise ValueError("points go from left to right, at least 0.004 apart")
        return points


def evaluate(curve: Curve, x: NDArray[np.float64]) -> NDArray[np.float64]:
    """The curve at x, both in display values 0 to 1; flat outside the outermost points.

    Between the points a piecewise cubic that never overshoots (PCHIP; source: fritsch1980).
    """
    px, py = np.array(curve.points, dtype=np.float64).T
    inside = np.clip(x, px[0], px[-1])
    result: NDArray[np.float64] = PchipInterpolator(px, py)(inside)
    return result
