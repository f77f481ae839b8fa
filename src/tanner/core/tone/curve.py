"""Point curves: monotone cubics through points that the user sets, of tone, lightness and single channels."""

from itertools import pairwise
from typing import Annotated, Any, ClassVar

import numpy as np
from numpy.typing import NDArray
from pydantic import Field, field_validator

from tanner.core.adjust.spec import Group, param

Unit = Annotated[float, Field(ge=0.0, le=1.0, allow_inf_nan=False)]
Points = list[tuple[Unit, Unit]]
STRAIGHT: Points = [(0.0, 0.0), (1.0, 1.0)]


def _curve(label: str, help: str, tab: str) -> Any:
    return param(list(STRAIGHT), label=label, widget="curve", help=help, tab=tab)


class Curve(Group):
    key: ClassVar[str] = "curve"
    rank: ClassVar[int] = 60
    title: ClassVar[str] = "Curve"
    about: ClassVar[str] = "Curves through points that you set: tone with its hues kept, lightness alone, or channels."

    points: Points = _curve(
        "Tone curve", "Points of the curve, from black to white, in display values from 0 to 1; hues are kept.", "Tone"
    )
    lightness: Points = _curve(
        "Lightness curve", "Lightness alone, L* from 0 to 100 as 0 to 1: a* and b* of every colour stay.", "Lightness"
    )
    channels: Points = _curve(
        "Curve of all channels", "Each channel alike: contrast makes colours stronger, too.", "RGB"
    )
    red: Points = _curve("Red curve", "The red channel, in display values from 0 to 1.", "Red")
    green: Points = _curve("Green curve", "The green channel, in display values from 0 to 1.", "Green")
    blue: Points = _curve("Blue curve", "The blue channel, in display values from 0 to 1.", "Blue")
    rising: bool = param(
        False,
        label="Never go down",
        widget="switch",
        help="A point below the one before it counts as high as that one.",
    )

    @field_validator("points", "lightness", "channels", "red", "green", "blue")
    @classmethod
    def _in_order(cls, points: Points) -> Points:
        if not 2 <= len(points) <= 16:
            raise ValueError("a curve has 2 to 16 points")
        if any(b[0] - a[0] < 0.004 for a, b in pairwise(points)):
            raise ValueError("points go from left to right, at least 0.004 apart")
        return points


def is_straight(points: Points) -> bool:
    return [tuple(p) for p in points] == STRAIGHT


def evaluate(points: Points, x: NDArray[np.float64], rising: bool = False) -> NDArray[np.float64]:
    """The curve at x, both in display values 0 to 1; flat outside the outermost points.

    Between the points a piecewise cubic that never overshoots (PCHIP; source: fritsch1980): it rises wherever its points do.

    Args:
        rising: a point below the one before it counts as high as that one.
    """
    px, py = np.array(points, dtype=np.float64).T
    if rising:
        py = np.maximum.accumulate(py)
    inside = np.clip(x, px[0], px[-1])
    from scipy.interpolate import PchipInterpolator  # heavy, and seldom needed

    result: NDArray[np.float64] = PchipInterpolator(px, py)(inside)
    return result


def one_after_other(curve: Any, first: Points, then: Points) -> list[tuple[float, float]]:
    """The points of a curve that does one after the other, by the group that the first belongs to."""
    if is_straight(then):
        return [(float(x), float(y)) for x, y in first]
    if is_straight(first):
        return [(float(x), float(y)) for x, y in then]
    rising = bool(curve.rising)
    x = np.unique(np.concatenate([np.linspace(0, 1, 33), [p[0] for p in first]]))
    y = evaluate(then, np.clip(evaluate(first, x, rising), 0, 1), rising)
    return [(float(a), float(b)) for a, b in zip(x, np.clip(y, 0, 1), strict=True)]
