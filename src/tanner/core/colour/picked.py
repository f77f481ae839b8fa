"""Picked ranges: parts of the colour circle that were picked in the picture, each moved, and drawn together.

Evenness draws the hue, chroma or lightness of what is in the range towards the picked colour: blotchy skin, or cloth from two
dye lots. In Oklab, as the named ranges are (source: ottosson2020).
"""

from collections.abc import Sequence
from typing import Annotated, ClassVar

import numpy as np
from numpy.typing import NDArray
from pydantic import Field

from tanner.core.adjust.items import Listed, Parts
from tanner.core.adjust.spec import param
from tanner.core.colour.ranges import TURN, coloured
from tanner.core.colour.spaces import oklab

F64 = NDArray[np.float64]
MOST = 12
"""Ranges on one frame."""
STRONGEST = 0.32
"""Chroma of Oklab at 100 %: that of the strongest colours of a wide space."""
EDGE = 0.06
"""How gently the limits of chroma and lightness begin and end, as a share of the whole."""
Colour = Annotated[list[float], Field(min_length=3, max_length=3)]


class PickedParts(Parts):
    key: ClassVar[str] = "picked"
    about: ClassVar[str] = "A range of colours that was picked in the picture."

    middle: Colour = param(
        [0.6, 0.1, 0.0], label="Middle", widget="item", structure=True,
        help="Oklab's lightness, chroma and hue in degrees of what was picked.",
    )  # fmt: skip
    hue: float = param(0.0, -100.0, 100.0, label="Hue", unit="%", help="Turns the range on the circle.")
    saturation: float = param(0.0, -100.0, 100.0, label="Saturation", unit="%", help="How strong it is; -100 is grey.")
    lightness: float = param(0.0, -100.0, 100.0, label="Lightness", unit="%", help="How light it is.")
    even_hue: float = param(
        0.0, 0.0, 100.0, label="Even hue", unit="%", help="Draws its hues together, towards the one that was picked."
    )
    even_chroma: float = param(
        0.0, 0.0, 100.0, label="Even strength", unit="%", help="Draws how strong its colours are together."
    )
    even_lightness: float = param(
        0.0,
        0.0,
        100.0,
        label="Even lightness",
        unit="%",
        help="Draws its lightness together; shading gets weaker, too.",
    )
    width: float = param(
        25.0, 10.0, 90.0, label="Width", unit="°", structure=True, help="To either side of the picked hue."
    )
    softness: float = param(60.0, 0.0, 100.0, label="Softness", unit="%", structure=True, help="How gently it ends.")
    weakest: float = param(
        0.0, 0.0, 100.0, label="Strength from", unit="%", structure=True, help="Weaker colours stay."
    )
    strongest: float = param(
        100.0, 0.0, 100.0, label="Strength to", unit="%", structure=True, help="Stronger colours stay."
    )
    darkest: float = param(
        0.0, 0.0, 100.0, label="Lightness from", unit="%", structure=True, help="Darker colours stay."
    )
    lightest: float = param(
        100.0, 0.0, 100.0, label="Lightness to", unit="%", structure=True, help="Lighter colours stay."
    )

    @property
    def changes(self) -> bool:
        """Whether it does anything to what is in it."""
        controls = self.hue, self.saturation, self.lightness, self.even_hue, self.even_chroma, self.even_lightness
        return self.amount > 0 and any(controls)


PICKED = Listed("picked", "Picked range", PickedParts, most=MOST)


def middle_of(working: F64) -> list[float]:
    """Lightness, chroma and hue in degrees of a linear working colour, as a range keeps them."""
    light, a, b = (float(v) for v in oklab(working))
    return [round(light, 4), round(float(np.hypot(a, b)), 4), round(float(np.rad2deg(np.arctan2(b, a)) % 360), 2)]


def share(part: PickedParts, light: F64, chroma: F64, hue: F64) -> F64:
    """How much of each colour is in the range, 0 to 1: all within the inner part of its width, none beyond it."""
    away = np.abs((hue - part.middle[2] + 180) % 360 - 180)
    inner = part.width * (1 - part.softness / 100)
    within = _soft((part.width - away) / max(part.width - inner, 1e-6)) if part.softness else (away <= part.width) * 1.0
    return np.asarray(
        within
        * coloured(chroma)
        * _between(chroma / STRONGEST, part.weakest / 100, part.strongest / 100)
        * _between(light, part.darkest / 100, part.lightest / 100)
    )


def _soft(u: F64) -> F64:
    u = np.clip(u, 0, 1)
    return np.asarray(u * u * (3 - 2 * u))


def _between(x: F64, low: float, high: float) -> F64:
    """1 between two limits, which end gently outside of them; a limit at the scale's end is none."""
    above = _soft((x - low + EDGE) / EDGE) if low > 0 else np.ones_like(x)
    below = _soft((high + EDGE - x) / EDGE) if high < 1 else np.ones_like(x)
    return above * below


def moved(parts: Sequence[PickedParts], light: F64, chroma: F64, hue: F64) -> tuple[F64, F64, F64]:
    """Oklab's lightness, chroma and hue in degrees after all ranges, one after the other."""
    for part in parts:
        much = part.amount / 100
        w = share(part, light, chroma, hue)
        to_light, to_chroma, to_hue = part.middle
        turn = (to_hue - hue + 180) % 360 - 180
        even = [min(1.0, v / 100 * much) for v in (part.even_hue, part.even_chroma, part.even_lightness)]
        hue = hue + w * (even[0] * turn + TURN * part.hue / 100 * much)
        chroma = np.maximum(0, (chroma + w * even[1] * (to_chroma - chroma)) * (1 + w * part.saturation / 100 * much))
        light = light + w * even[2] * (to_light - light)
        light = light + w * part.lightness / 100 * much * light * (1 - light)
    return light, chroma, hue
