"""Where a mask lies on a frame: moved, scaled and turned by hand; found again on a frame by a perspective map."""

import math
from collections.abc import Sequence
from typing import Annotated, Any

import numpy as np
from numpy.typing import NDArray
from pydantic import Field, TypeAdapter, ValidationError

from tanner.core.areas.shapes import Degrees, Share
from tanner.core.errors import SettingsError
from tanner.core.optics.view import from_sensor, upright

Place = tuple[Share, Share, Annotated[float, Field(ge=0.001, le=1000, allow_inf_nan=False)], Degrees]
"""Moved (x, y), scaled, turned in degrees."""
NOWHERE_ELSE = (0.0, 0.0, 1.0, 0.0)
Again = Annotated[list[Annotated[float, Field(allow_inf_nan=False, ge=-1e4, le=1e4)]], Field(max_length=9)]
"""How a place of the lead comes to lie on a follower: eight numbers of a perspective map, then a confidence from 0 to 1.

Empty: it lies as it is. A confidence below `SURE`: it was not found; below 0: nobody has looked yet. The area is off then.
"""
SURE = 0.25
NOT_YET = [1.0, 0.0, 0.0, 0.0, 1.0, 0.0, 0.0, 0.0, -1.0]
F64 = NDArray[np.float64]
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


def matrix(place: Sequence[float]) -> F64:
    """(2, 3) from a mask's own coordinates to the frame's."""
    dx, dy, s, a = place
    c, n = math.cos(math.radians(a)) * s, math.sin(math.radians(a)) * s
    return np.array([[c, -n, dx], [n, c, dy]])


def homography(again: Sequence[float]) -> F64:
    """(3, 3) of what was found, the identity for nothing."""
    return np.eye(3) if len(again) < 8 else np.append(np.asarray(again[:8], np.float64), 1.0).reshape(3, 3)


def backwards(place: Sequence[float], again: Sequence[float]) -> F64:
    """(3, 3) from a place of the frame to the mask's own coordinates, as drawn on the lead.

    Where the map cannot be turned round, everything lies far away: the mask is nothing there.
    """
    forth = np.vstack([matrix(place), [0, 0, 1]]) @ homography(again)
    if abs(np.linalg.det(forth)) < 1e-12:
        return np.array([[0, 0, 1e3], [0, 0, 1e3], [0, 0, 1.0]])
    return np.asarray(np.linalg.inv(forth), np.float64)


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
