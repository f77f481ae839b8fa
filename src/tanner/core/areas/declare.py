"""What an area is: a mask of parts, where it lies on this frame, and what it changes there."""

import math
from collections.abc import Sequence
from typing import Annotated, Any, ClassVar, Literal

import numpy as np
from numpy.typing import NDArray
from pydantic import BaseModel, ConfigDict, Field, TypeAdapter, ValidationError, field_validator

from tanner.core.adjust.items import Listed, Parts
from tanner.core.adjust.spec import param
from tanner.core.areas.masks import ADD, INTERSECT, INVERT, NUMBERS, ROUND, STRAIGHT, SUBTRACT, Masks
from tanner.core.errors import SettingsError
from tanner.core.optics.view import from_sensor, upright

Share = Annotated[float, Field(ge=-4, le=4, allow_inf_nan=False)]
Positive = Annotated[float, Field(gt=0, le=8, allow_inf_nan=False)]
Degrees = Annotated[float, Field(ge=-3600, le=3600, allow_inf_nan=False)]
Place = tuple[Share, Share, Annotated[float, Field(ge=0.001, le=1000, allow_inf_nan=False)], Degrees]
"""Moved (x, y), scaled, turned in degrees."""
NOWHERE_ELSE = (0.0, 0.0, 1.0, 0.0)
COMBINED = {"add": ADD, "subtract": SUBTRACT, "intersect": INTERSECT}
MOST_PARTS = 500


class Part(BaseModel):
    """One part of a mask. Places are shares of the long edge of the upright picture, from its middle: x right, y down."""

    model_config = ConfigDict(frozen=True, extra="forbid")
    combine: Literal["add", "subtract", "intersect"] = "add"
    inverted: bool = False


class Straight(Part):
    """From all of it at `start` to nothing at `end`."""

    kind: Literal["straight"] = "straight"
    start: tuple[Share, Share]
    end: tuple[Share, Share]


class Round(Part):
    """An ellipse: half axes, turned clockwise by `angle` degrees; softness 0 is an edge, 1 begins in the middle."""

    kind: Literal["round"] = "round"
    at: tuple[Share, Share]
    radii: tuple[Positive, Positive]
    angle: Annotated[float, Field(ge=-360, le=360, allow_inf_nan=False)] = 0.0
    softness: Annotated[float, Field(ge=0, le=1, allow_inf_nan=False)] = 0.5


Shape = Annotated[Straight | Round, Field(discriminator="kind")]


class AreaParts(Parts):
    key: ClassVar[str] = "areas"
    about: ClassVar[str] = "A part of the picture with adjustments of its own."

    shapes: list[Shape] = param(
        [],
        label="Mask",
        widget="item",
        structure=True,
        per_frame=False,
        help="Gradients, in shares of the frame's long edge.",
    )
    place: Place = param(
        list(NOWHERE_ELSE),
        label="Place",
        widget="item",
        structure=True,
        offset="place",
        help="Where it lies on this frame: moved (x, y), scaled, turned in degrees.",
    )
    inverted: bool = param(False, label="Inverted", widget="switch", structure=True, help="Everything but the mask.")

    @field_validator("shapes")
    @classmethod
    def _not_too_many(cls, shapes: list[Shape]) -> list[Shape]:
        if len(shapes) > MOST_PARTS:
            raise ValueError(f"a mask has {MOST_PARTS} parts at most")
        return shapes


AREAS = Listed(
    "areas",
    "Area",
    AreaParts,
    (
        "light.exposure",
        "light.highlights",
        "light.shadows",
        "light.local_contrast",
        "white.temperature",
        "white.tint",
        "colour.saturation",
        "colour.vibrance",
    ),
)


# --- places ----------------------------------------------------------------------------------------


_PLACE: TypeAdapter[Place] = TypeAdapter(Place)


def checked(place: Any) -> list[float]:
    """A place as plain numbers.

    Raises:
        SettingsError: it is none.
    """
    try:
        return list(_PLACE.validate_python(place))
    except ValidationError as error:
        first = error.errors()[0]
        raise SettingsError(
            f"A place is four numbers (moved by x and y, scaled, turned in degrees): {first['msg']} (got {place!r})."
        ) from None


def within(place: Sequence[float]) -> list[float]:
    """A place kept inside of what one may be: two moves, each of which is fine, may lead out of it."""
    x, y, scale, turn = place
    return [min(max(x, -4.0), 4.0), min(max(y, -4.0), 4.0), min(max(scale, 0.001), 1000.0), math.remainder(turn, 360.0)]


def moved(place: Sequence[float], by: Sequence[float]) -> list[float]:
    """A place (dx, dy, scale, degrees) moved along with a subject that itself moved, grew and turned by `by`."""
    dx, dy, s, a = by
    r = math.radians(a)
    x, y = place[0] * s, place[1] * s
    return [
        round(x * math.cos(r) - y * math.sin(r) + dx, 6),
        round(x * math.sin(r) + y * math.cos(r) + dy, 6),
        round(place[2] * s, 6),
        round(place[3] + a, 6),
    ]


def between(place: Sequence[float], wanted: Sequence[float]) -> list[float]:
    """By what a place has to be moved to be the wanted one; the inverse of `moved`."""
    s, a = wanted[2] / place[2], wanted[3] - place[3]
    still = moved(place, (0.0, 0.0, s, a))
    return [round(wanted[0] - still[0], 6), round(wanted[1] - still[1], 6), round(s, 6), round(a, 6)]


def _matrix(place: Sequence[float]) -> NDArray[np.float64]:
    """(2, 3) from a mask's own coordinates to the frame's."""
    dx, dy, s, a = place
    c, n = math.cos(math.radians(a)) * s, math.sin(math.radians(a)) * s
    return np.array([[c, -n, dx], [n, c, dy]])


def _numbers(shape: Straight | Round, place: Sequence[float]) -> list[float]:
    """What the kernel reads of a part, where it lies on this frame."""
    m = _matrix(place)
    if isinstance(shape, Straight):
        start = m @ [*shape.start, 1]
        way = m @ [*shape.end, 1] - start
        length = max(float(way @ way), 1e-9)
        return [*start, *(way / length), 0, 0, 0, 0]
    centre = m @ [*shape.at, 1]
    angle, scale = math.radians(shape.angle + place[3]), place[2]
    c, s = math.cos(angle), math.sin(angle)
    a, b = (max(r * scale, 1e-6) for r in shape.radii)
    return [*centre, c / a, s / a, -s / b, c / b, 1 / max(shape.softness, 1e-3), 0]


def to_places(size: tuple[int, int], orientation: int) -> NDArray[np.float32]:
    """(2, 3) from px of the sensor to places, upright.

    Args:
        size: width and height of the sensor's active area in px; orientation: EXIF 1 to 8.
    """
    w, h = size
    corners = np.array([[0.0, 0.0], [w, 0.0], [0.0, h]])
    up_w, up_h = upright(size, orientation)
    # Where the corners of the sensor come to lie in the upright picture: the inverse of `to_sensor`.
    found = np.array([from_sensor(x, y, size, orientation) for x, y in corners])
    long = max(up_w, up_h)
    places = (found - (up_w / 2, up_h / 2)) / long
    column_x, column_y = (places[1] - places[0]) / w, (places[2] - places[0]) / h
    return np.stack([column_x, column_y, places[0]], axis=1).astype(np.float32)


def masks_of(areas: Sequence[AreaParts]) -> Masks:
    """The masks of areas."""
    first, kinds, combines, inverted, numbers = [0], [], [], [], []
    for area in areas:
        for shape in area.shapes:
            kinds.append(STRAIGHT if isinstance(shape, Straight) else ROUND)
            combines.append(COMBINED[shape.combine])
            inverted.append(shape.inverted)
            numbers.append(_numbers(shape, area.place))
        if area.inverted:
            # All of what is there, turned round.
            kinds.append(ROUND)
            combines.append(INVERT)
            inverted.append(False)
            numbers.append([0.0] * NUMBERS)
        first.append(len(kinds))
    return Masks(
        np.array(first, np.int32),
        np.array(kinds, np.int32),
        np.array(combines, np.int32),
        np.array(inverted, np.bool_),
        np.array(numbers, np.float32).reshape(-1, NUMBERS),
    )
