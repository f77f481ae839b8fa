"""Light: exposure, contrast, highlights and shadows, black and white point, local contrast.

Everything global here ends in one table from linear to linear (`tone_table`); what depends on the
surroundings of a pixel is a gain read from an edge-aware base layer (`local_parameters`).
"""

from typing import ClassVar

import numpy as np
from numpy.typing import NDArray

from tanner.core.adjust.spec import Group, param
from tanner.core.tone.curve import Curve, evaluate, is_straight
from tanner.core.tone.levels import NEUTRAL, Levels, levelled

TABLE_TOP = 8.0
"""Highest scene-linear value that the tone table covers; 1 is the sensor's white."""
TABLE_SIZE = 16384
CURVE_WHITE = 2.0
"""Where the base curve reaches white: one stop above the sensor's white, for rebuilt highlights."""


class Light(Group):
    key: ClassVar[str] = "light"
    rank: ClassVar[int] = 50
    title: ClassVar[str] = "Light"
    about: ClassVar[str] = "Brightness, from the whole picture down to its bright and dark parts."

    exposure: float = param(
        0.0,
        -5.0,
        5.0,
        label="Exposure",
        unit="EV",
        step=0.05,
        offset="ev",
        help="Brightens or darkens, one stop per EV.",
    )
    contrast: float = param(0.0, -100.0, 100.0, label="Contrast", unit="%", help="Steeper or flatter around mid-grey.")
    highlights: float = param(
        0.0, -100.0, 100.0, label="Highlights", unit="%", help="Bright parts, with their edges kept."
    )
    shadows: float = param(0.0, -100.0, 100.0, label="Shadows", unit="%", help="Dark parts, with their edges kept.")
    white_point: float = param(
        0.0, -100.0, 100.0, label="White point", unit="%", help="Moves the brightest end of the scale."
    )
    black_point: float = param(
        0.0, -100.0, 100.0, label="Black point", unit="%", help="Moves the darkest end of the scale."
    )
    clipped_colour: float = param(
        100.0,
        0.0,
        100.0,
        label="Clipped colour",
        unit="%",
        help="Where the sensor was full: 0 is white, 100 the colour that the other channels and the surroundings tell.",
    )
    local_contrast: float = param(
        0.0,
        -100.0,
        100.0,
        label="Local contrast",
        unit="%",
        help="Structure against its surroundings; +20 to +30 is a modest amount.",
    )


def base_curve(x: NDArray[np.float64]) -> NDArray[np.float64]:
    """Our own base curve: scene-linear to display-linear, 0 to 0 and CURVE_WHITE to 1.

    A rational sigmoid x^n / (x^n + c^n), scaled to reach 1 at CURVE_WHITE: middle tones lifted by about
    half a stop, a soft shoulder. Invented here; no source.
    """
    n, c = 1.22, 0.52
    top = CURVE_WHITE**n / (CURVE_WHITE**n + c**n)
    xn = np.clip(x, 0, CURVE_WHITE) ** n
    curve: NDArray[np.float64] = xn / (xn + c**n) / top
    return curve


def to_display(x: NDArray[np.float64]) -> NDArray[np.float64]:
    """Linear to display values by the sRGB curve (source: iec61966-2-1), for x in 0 to 1."""
    return np.where(x <= 0.0031308, 12.92 * x, 1.055 * np.maximum(x, 0.0031308) ** (1 / 2.4) - 0.055)


def from_display(e: NDArray[np.float64]) -> NDArray[np.float64]:
    """The inverse of `to_display`."""
    return np.where(e <= 0.04045, e / 12.92, ((np.maximum(e, 0.04045) + 0.055) / 1.055) ** 2.4)


def profile_curve(points: NDArray[np.float64], x: NDArray[np.float64]) -> NDArray[np.float64]:
    """A camera profile's tone curve at x: a cubic spline through its points, held beyond them (source: dng17)."""
    from scipy.interpolate import CubicSpline

    inside = np.clip(x, points[0, 0], points[-1, 0])
    if len(points) == 2:
        return np.interp(inside, points[:, 0], points[:, 1])
    return np.clip(CubicSpline(points[:, 0], points[:, 1], bc_type="natural")(inside), 0, None)


def tone_of(
    x: NDArray[np.float64],
    light: Light,
    levels: Levels,
    curve: Curve,
    curve_strength: float,
    points: NDArray[np.float64] | None = None,
) -> NDArray[np.float64]:
    """Scene-linear to display-linear by base curve, ends, contrast, levels and point curve.

    Args:
        x: scene-linear values from 0 on, 1 is the sensor's white after exposure.
        curve_strength: 0 to 1, share of the base curve.
        points: the camera profile's curve, which then is the base curve; None for Tanner's own.
    """
    bent = base_curve(x) if points is None else profile_curve(points, x)
    y = x + (bent - x) * curve_strength
    bends = levels.of() != NEUTRAL or not is_straight(curve.points)
    if not (light.white_point or light.black_point or light.contrast or bends):
        return y
    # Above white the display curve goes on as a straight line, so that nothing is clipped here.
    slope = 1.055 / 2.4
    e = np.where(y <= 1, to_display(np.clip(y, 0, 1)), 1 + (y - 1) * slope)
    black, white = -0.0012 * light.black_point, 1 - 0.0025 * light.white_point
    e = (e - black) / (white - black)
    inside = np.clip(e, 0, 1)
    if light.contrast:
        # A power on either side of mid-grey (0.46 is L* 50 in display values): 0, mid and 1 stay.
        g, p = 2.0 ** (light.contrast / 100 * 0.9), 0.46
        low = p * (np.minimum(inside, p) / p) ** g
        high = 1 - (1 - p) * ((1 - np.maximum(inside, p)) / (1 - p)) ** g
        inside = np.where(inside < p, low, high)
    if levels.of() != NEUTRAL:
        inside = levelled(levels.of(), inside)
    inside = evaluate(curve.points, inside, curve.rising)
    result = from_display(inside)
    if not light.contrast and not bends:
        result = np.where(e > 1, 1 + (e - 1) / slope, result)
    return result


def tone_table(
    light: Light, levels: Levels, curve: Curve, curve_strength: float, points: NDArray[np.float64] | None = None
) -> NDArray[np.float32]:
    """The tone of one frame as a table of ratios, out / in.

    Returns:
        float32, shape (TABLE_SIZE,): entry i is the factor for the value TABLE_TOP * (i/(N-1))². A ratio
        changes so slowly that the nearest entry is exact enough for 16 bits.
    """
    i = np.arange(TABLE_SIZE, dtype=np.float64)
    x = TABLE_TOP * (i / (TABLE_SIZE - 1)) ** 2
    x[0] = x[1] / 4
    return (tone_of(x, light, levels, curve, curve_strength, points) / x).astype(np.float32)


def local_parameters(light: Light) -> NDArray[np.float32]:
    """Constants of the local gain, for the point kernel.

    Gain in EV for a pixel whose base layer is b stops over mid-grey and whose detail is d stops over its
    base: highlights * ramp(b, 0..4) + shadows * ramp(-b, 0..5) + local_contrast * d. The ramps are
    u²(3-2u) on the clipped share u; their slopes stay under one stop per stop, so that order is kept.

    Returns:
        float32 (3,): highlights in EV at full ramp, shadows in EV, detail factor.
    """
    return np.array(
        [light.highlights / 100 * 1.8, light.shadows / 100 * 2.4, light.local_contrast / 100 * 0.9],
        dtype=np.float32,
    )
