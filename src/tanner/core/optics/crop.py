"""Crop, straighten and quarter turns: which part of the upright frame is kept, and how it is turned."""

import math
from typing import ClassVar, Literal

from pydantic import model_validator

from tanner.core.adjust.spec import Affects, Group, param

FRAME = {"widget": "frame", "per_frame": True, "step": 0.01}
BEYOND = 0.6
"""How far, in shares of the frame, a crop may go beyond the picture where that is allowed."""


class Crop(Group):
    key: ClassVar[str] = "crop"
    rank: ClassVar[int] = 100
    affects: ClassVar[Affects] = "geometry"
    section: ClassVar[str] = "Shape"
    title: ClassVar[str] = "Crop"
    about: ClassVar[str] = "The part of the frame that is kept, and its angle."

    straighten: float = param(
        0.0,
        -45.0,
        45.0,
        label="Straighten",
        unit="°",
        step=0.1,
        per_frame=True,
        help="Turns the picture; empty corners are never shown unless they are allowed.",
    )
    turn: Literal["0", "90", "180", "270"] = param(
        "0", label="Quarter turn", widget="frame", per_frame=True, help="Degrees clockwise, after the camera's own."
    )
    mirror: bool = param(False, label="Mirror", widget="frame", per_frame=True, help="Left and right change places.")
    ratio: str = param(
        "free",
        label="Ratio",
        widget="frame",
        per_frame=True,
        help="Width to height that the crop keeps: free, original, or for example 4:5.",
    )
    outside: Literal["never", "backdrop", "empty"] = param(
        "never",
        label="Beyond the picture",
        widget="frame",
        per_frame=True,
        help="Whether the crop may go beyond the picture, and what is shown there: a plain backdrop carried on, or black.",
    )
    left: float = param(0.0, -BEYOND, 0.99, label="Left edge", help="Share of the width.", **FRAME)
    top: float = param(0.0, -BEYOND, 0.99, label="Top edge", help="Share of the height.", **FRAME)
    right: float = param(1.0, 0.01, 1 + BEYOND, label="Right edge", help="Share of the width.", **FRAME)
    bottom: float = param(1.0, 0.01, 1 + BEYOND, label="Bottom edge", help="Share of the height.", **FRAME)

    @model_validator(mode="after")
    def _has_an_inside(self) -> "Crop":
        if self.right - self.left < 0.005 or self.bottom - self.top < 0.005:
            raise ValueError("the crop has no inside: left must be less than right, top than bottom")
        return self


def kept(crop: Crop, width: float, height: float) -> tuple[float, float, float, float]:
    """The kept rectangle, shrunk (and moved inwards where that is not enough) until no corner is empty.

    Where the crop may go beyond the picture it is taken as it is.

    Args:
        crop: the crop, in shares of the upright frame.
        width, height: size of the upright frame in px.

    Returns:
        (centre x, centre y, width, height) in px, in axes that are turned by `straighten` about the
        centre of the frame, with the origin in that centre.
    """
    left, top, right, bottom = crop.left, crop.top, crop.right, crop.bottom
    if crop.outside == "never":
        left, top, right, bottom = max(left, 0.0), max(top, 0.0), min(right, 1.0), min(bottom, 1.0)
    cx, cy = (left + right - 1) / 2 * width, (top + bottom - 1) / 2 * height
    w, h = (right - left) * width, (bottom - top) * height
    if crop.outside != "never":
        return cx, cy, w, h
    a = math.radians(crop.straighten)
    ca, sa = math.cos(a), math.sin(a)
    reach_x = (abs(ca) * w + abs(sa) * h) / 2
    reach_y = (abs(sa) * w + abs(ca) * h) / 2

    def fits(pull: float) -> float:
        """By how much the rectangle shrinks when its centre is pulled towards the frame's by a share."""
        x, y = (1 - pull) * (ca * cx + sa * cy), (1 - pull) * (ca * cy - sa * cx)
        return min(1.0, (width / 2 - abs(x)) / reach_x, (height / 2 - abs(y)) / reach_y)

    # A centre at the edge would leave next to nothing: it is pulled in until a fair part of the size is kept.
    pull, fair = 0.0, 0.7 * fits(1.0)
    if fits(0.0) < fair:
        low, high = 0.0, 1.0
        for _ in range(30):
            pull = (low + high) / 2
            low, high = (low, pull) if fits(pull) >= fair else (pull, high)
        pull = high
    shrink = fits(pull)
    return cx * (1 - pull), cy * (1 - pull), w * shrink, h * shrink
