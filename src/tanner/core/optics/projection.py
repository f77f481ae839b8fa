"""How directions in space become places in a picture, for lenses and for finished pictures.

Places are in units of the focal length, from the axis, x to the right and y downwards; directions are (x, y, z) with z
along the axis. The radial projections are the usual ones of fisheye lenses (source: kannala2006, equations 1 to 5);
Pannini's is that of sharpless2010 with its distance parameter at 1.
"""

from collections.abc import Callable

import numpy as np
from numpy.typing import NDArray

Array = NDArray[np.float64]

# Radius from the angle off the axis, the angle from the radius, and the largest angle that is shown.
_RADIAL: dict[str, tuple[Callable[[Array], Array], Callable[[Array], Array], float]] = {
    "rectilinear": (np.tan, np.arctan, 1.50),
    "stereographic": (lambda t: 2 * np.tan(t / 2), lambda r: 2 * np.arctan(r / 2), 2.9),
    "equidistant": (lambda t: t, lambda r: r, 3.1),
    "equisolid": (lambda t: 2 * np.sin(t / 2), lambda r: 2 * np.arcsin(np.clip(r / 2, 0, 1)), 3.1),
    "orthographic": (np.sin, lambda r: np.arcsin(np.clip(r, 0, 1)), 1.56),
    # Fitted to a fisheye of that name; its two constants are from memory.
    "thoby": (lambda t: 1.47 * np.sin(0.713 * t), lambda r: np.arcsin(np.clip(r / 1.47, 0, 1)) / 0.713, 2.1),
}
FISHEYES = tuple(name for name in _RADIAL if name != "rectilinear")
FLAT = ("cylinder", "pannini", "plate")
LENSES = (*_RADIAL, "cylinder", "plate")


def circle(projection: str) -> float:
    """Radius of the circle in which a fisheye lens draws all that lies before it, in units of the focal length."""
    return float(_RADIAL[projection][0](np.array(np.pi / 2)))


def direction(x: Array, y: Array, projection: str) -> Array:
    """Directions (3, ...) of places in a picture; not of unit length."""
    if projection == "rectilinear":
        return np.stack([x, y, np.ones_like(x)])
    if projection == "cylinder":
        return np.stack([np.sin(x), y, np.cos(x)])
    if projection == "plate":
        return np.stack([np.sin(x) * np.cos(y), np.sin(y), np.cos(x) * np.cos(y)])
    if projection == "pannini":
        # The inverse of `place` with d = 1: x = 2 sin(a) / (1 + cos a) = 2 tan(a / 2), y = 2 tan(b) / (1 + cos a).
        a = 2 * np.arctan(x / 2)
        return np.stack([np.sin(a), y * (1 + np.cos(a)) / 2, np.cos(a)])
    radius = np.hypot(x, y)
    angle = _RADIAL[projection][1](radius)
    share = np.sin(angle) / np.maximum(radius, 1e-12)
    share = np.where(radius < 1e-9, 1.0, share)
    return np.stack([x * share, y * share, np.cos(angle)])


def place(at: Array, projection: str) -> tuple[Array, Array]:
    """Places of directions (3, ...); what a projection cannot show lies far outside."""
    x, y, z = at
    if projection in FLAT:
        a = np.arctan2(x, z)
        level = np.hypot(x, z)
        if projection == "cylinder":
            return a, y / np.maximum(level, 1e-9)
        if projection == "plate":
            return a, np.arctan2(y, level)
        c = np.maximum(1 + np.cos(a), 1e-6)
        return 2 * np.sin(a) / c, 2 * (y / np.maximum(level, 1e-9)) / c
    towards, _, most = _RADIAL[projection]
    radius = np.hypot(x, y)
    angle = np.arctan2(radius, z)
    share = towards(np.minimum(angle, most)) / np.maximum(radius, 1e-12)
    # Beyond the largest angle places go on straight, so that they lie outside and the map stays smooth.
    share = share * (1 + 4 * np.maximum(angle - most, 0))
    near = radius < 1e-9
    share = np.where(near, 1.0 / np.maximum(np.abs(z), 1e-9), share)
    return x * share, y * share
