"""Hue ranges: eight named parts of the colour circle, each turned, made stronger or weaker, lighter or darker.

The circle is that of Oklab (source: ottosson2020), whose hues stay what they look like when chroma and lightness change.
"""

from typing import Any, ClassVar

import numpy as np
from numpy.typing import NDArray

from tanner.core.adjust.spec import Group, param

F64 = NDArray[np.float64]

HUES = {
    "red": 26.0, "orange": 58.0, "yellow": 102.0, "green": 142.0, "cyan": 195.0, "blue": 258.0, "violet": 300.0, "pink": 345.0,
}  # fmt: skip
"""Middles of the named ranges in degrees of Oklab's hue, chosen by looking at the circle; no source."""
TURN = 40.0
"""Degrees at 100 %."""
GREY = 0.035
"""Chroma of Oklab up to which a colour counts as grey for lightness, so that noise in greys is not made visible."""


def _hue(name: str) -> Any:
    return param(0.0, -100.0, 100.0, label=name.capitalize(), unit="%", help=f"Turns {name} towards its neighbours on the circle.", tab="Hue",
        full=f"{name.capitalize()}: hue")  # fmt: skip


def _strength(name: str) -> Any:
    return param(0.0, -100.0, 100.0, label=name.capitalize(), unit="%", help=f"How strong {name} is; -100 is grey.", tab="Saturation",
        full=f"{name.capitalize()}: saturation")  # fmt: skip


def _light(name: str) -> Any:
    return param(0.0, -100.0, 100.0, label=name.capitalize(), unit="%", help=f"How light {name} is; greys stay.", tab="Lightness",
        full=f"{name.capitalize()}: lightness")  # fmt: skip


class Ranges(Group):
    key: ClassVar[str] = "ranges"
    rank: ClassVar[int] = 72
    title: ClassVar[str] = "Hue ranges"
    about: ClassVar[str] = "One part of the colour circle at a time; neighbours blend."

    red_hue: float = _hue("red")
    orange_hue: float = _hue("orange")
    yellow_hue: float = _hue("yellow")
    green_hue: float = _hue("green")
    cyan_hue: float = _hue("cyan")
    blue_hue: float = _hue("blue")
    violet_hue: float = _hue("violet")
    pink_hue: float = _hue("pink")
    red_saturation: float = _strength("red")
    orange_saturation: float = _strength("orange")
    yellow_saturation: float = _strength("yellow")
    green_saturation: float = _strength("green")
    cyan_saturation: float = _strength("cyan")
    blue_saturation: float = _strength("blue")
    violet_saturation: float = _strength("violet")
    pink_saturation: float = _strength("pink")
    red_lightness: float = _light("red")
    orange_lightness: float = _light("orange")
    yellow_lightness: float = _light("yellow")
    green_lightness: float = _light("green")
    cyan_lightness: float = _light("cyan")
    blue_lightness: float = _light("blue")
    violet_lightness: float = _light("violet")
    pink_lightness: float = _light("pink")


def shares(hue: F64) -> F64:
    """How much each named range has of a hue.

    Args:
        hue: degrees, any shape.

    Returns:
        (8, ...), which add up to 1: one at a range's middle, none at its neighbours' middles, u²(3-2u) between.
    """
    middles = np.array(list(HUES.values()))
    result = np.empty((len(middles), *np.shape(hue)))
    for k, middle in enumerate(middles):
        after, before = (middles[(k + s) % len(middles)] - middle for s in (1, -1))
        d = (np.asarray(hue) - middle + 180) % 360 - 180
        span = np.where(d >= 0, after % 360, -(-before % 360))
        u = np.clip(1 - d / span, 0, 1)
        result[k] = u * u * (3 - 2 * u)
    return result


def mixed(weights: F64, values: list[float]) -> F64:
    """A value for every hue from one for each range."""
    result: F64 = np.tensordot(np.array(values), weights, 1)
    return result


def coloured(chroma: F64) -> F64:
    """From 0 for greys to 1 for what has a colour."""
    u = np.clip(chroma / GREY, 0, 1)
    return np.asarray(u * u * (3 - 2 * u))


def ranged(ranges: Ranges, light: F64, chroma: F64, hue: F64) -> tuple[F64, F64, F64]:
    """Oklab's lightness, chroma and hue in degrees after the ranges; arrays of one shape."""
    if ranges == Ranges():
        return light, chroma, hue
    weights = shares(hue)

    def of(what: str) -> F64:
        return mixed(weights, [getattr(ranges, f"{name}_{what}") / 100 for name in HUES])

    turn, strength, lighter = of("hue"), of("saturation"), of("lightness")
    # Black and white stay, greys too; between them a light colour becomes lighter by up to a quarter of the scale.
    light = light + lighter * coloured(chroma) * light * (1 - light)
    return light, chroma * np.maximum(0, 1 + strength), hue + TURN * turn
