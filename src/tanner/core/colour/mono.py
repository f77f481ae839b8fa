"""Black and white: how light each hue becomes, and a tint of its shadows and highlights."""

from typing import Any, ClassVar

import numpy as np
from numpy.typing import NDArray

from tanner.core.adjust.spec import Group, param
from tanner.core.colour.ranges import HUES, coloured, mixed, shares

F64 = NDArray[np.float64]
STRONGEST = 0.10
"""Chroma of Oklab at a tint of 100 %."""


def _weight(name: str) -> Any:
    return param(
        0.0,
        -100.0,
        100.0,
        label=name.capitalize(),
        full=f"{name.capitalize()} as grey",
        unit="%",
        help=f"How light {name} becomes.",
        tab="Weights",
    )


class Mono(Group):
    key: ClassVar[str] = "mono"
    rank: ClassVar[int] = 76
    title: ClassVar[str] = "Black and white"
    about: ClassVar[str] = "Greys by hue, with a tint."

    amount: float = param(
        0.0,
        0.0,
        100.0,
        label="Black and white",
        unit="%",
        help="100 is without colour; less leaves a rest of it.",
        tab="Weights",
    )
    red: float = _weight("red")
    orange: float = _weight("orange")
    yellow: float = _weight("yellow")
    green: float = _weight("green")
    cyan: float = _weight("cyan")
    blue: float = _weight("blue")
    violet: float = _weight("violet")
    pink: float = _weight("pink")
    shadow_hue: float = param(
        60.0,
        0.0,
        360.0,
        label="Hue of shadows",
        unit="°",
        help="Where on the colour circle: 60 is a warm brown.",
        tab="Tint",
    )
    shadow_tint: float = param(0.0, 0.0, 100.0, label="Tint of shadows", unit="%", help="How strong.", tab="Tint")
    highlight_hue: float = param(
        85.0,
        0.0,
        360.0,
        label="Hue of highlights",
        unit="°",
        help="Where on the colour circle: 85 is cream.",
        tab="Tint",
    )
    highlight_tint: float = param(0.0, 0.0, 100.0, label="Tint of highlights", unit="%", help="How strong.", tab="Tint")


def greyed(mono: Mono, light: F64, chroma: F64, hue: F64) -> tuple[F64, F64, F64]:
    """Oklab's lightness and the two colour axes after black and white; arrays of one shape, hue in degrees."""
    rad = np.deg2rad(hue)
    a, b = chroma * np.cos(rad), chroma * np.sin(rad)
    share = mono.amount / 100
    if not share:
        return light, a, b
    weight = mixed(shares(hue), [getattr(mono, name) / 100 for name in HUES])
    # A strong colour is moved more than a weak one, greys not at all; black and white stay.
    strong = coloured(chroma) * np.clip(chroma / 0.15, 0.3, 1.2)
    light = light + share * weight * strong * 1.4 * light * (1 - light)
    ends = 4 * light * (1 - light)
    tints = ((mono.shadow_hue, mono.shadow_tint, 1 - light), (mono.highlight_hue, mono.highlight_tint, light))
    # Full between black and white, none at them.
    ta = sum(t / 100 * STRONGEST * np.cos(np.deg2rad(h)) * part for h, t, part in tints) * np.sqrt(np.clip(ends, 0, 1))
    tb = sum(t / 100 * STRONGEST * np.sin(np.deg2rad(h)) * part for h, t, part in tints) * np.sqrt(np.clip(ends, 0, 1))
    return light, a + share * (ta - a), b + share * (tb - b)
