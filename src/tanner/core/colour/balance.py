"""Three-way balance: a tint and a lightness for shadows, middle and highlights, and for all of the picture."""

from typing import Any, ClassVar

import numpy as np
from numpy.typing import NDArray

from tanner.core.adjust.spec import Group, param

F64 = NDArray[np.float64]
ZONES = ("shadows", "middle", "highlights", "all")
STRONGEST = 0.12
"""Chroma of Oklab that a strength of 100 % adds."""
LIGHTEST = 0.2
"""Lightness of Oklab that 100 % adds where a zone is whole."""


def _hue(zone: str) -> Any:
    return param(0.0, 0.0, 360.0, label="Hue", full=f"{zone.capitalize()}: hue", unit="°", help="Towards which colour: an angle on the circle of Oklab.", tab=zone.capitalize())  # fmt: skip


def _strength(zone: str) -> Any:
    return param(
        0.0,
        0.0,
        100.0,
        label="Strength",
        full=f"{zone.capitalize()}: strength",
        unit="%",
        help="How far towards it.",
        tab=zone.capitalize(),
    )


def _light(zone: str) -> Any:
    return param(0.0, -100.0, 100.0, label="Lightness", full=f"{zone.capitalize()}: lightness", unit="%", help="Darker or lighter; black and white stay.", tab=zone.capitalize())  # fmt: skip


class Balance(Group):
    key: ClassVar[str] = "balance"
    rank: ClassVar[int] = 74
    title: ClassVar[str] = "Balance"
    about: ClassVar[str] = "A colour for shadows, middle and highlights, each on its wheel."

    shadows_hue: float = _hue("shadows")
    shadows_strength: float = _strength("shadows")
    shadows_lightness: float = _light("shadows")
    middle_hue: float = _hue("middle")
    middle_strength: float = _strength("middle")
    middle_lightness: float = _light("middle")
    highlights_hue: float = _hue("highlights")
    highlights_strength: float = _strength("highlights")
    highlights_lightness: float = _light("highlights")
    all_hue: float = _hue("all")
    all_strength: float = _strength("all")
    all_lightness: float = _light("all")
    low: float = param(
        35.0,
        5.0,
        60.0,
        label="Shadows end",
        unit="%",
        help="Lightness at which shadows and middle are even.",
        tab="All",
    )
    high: float = param(68.0, 40.0, 95.0, label="Highlights begin", unit="%", help="Lightness at which middle and highlights are even.", tab="All")  # fmt: skip
    softness: float = param(70.0, 5.0, 100.0, label="Softness", unit="%", help="How gently the zones part.", tab="All")


def zones(balance: Balance, light: F64) -> dict[str, F64]:
    """How much of each zone a lightness is: shadows, middle and highlights add up to 1."""
    half = max(balance.softness, 1) / 100 * 0.35

    def step(at: float) -> F64:
        u = np.clip((light - at + half) / (2 * half), 0, 1)
        return np.asarray(u * u * (3 - 2 * u))

    above, top = step(balance.low / 100), step(max(balance.high, balance.low + 1) / 100)
    # Where the two borders overlap the middle is what is left, never less than nothing.
    top = np.minimum(top, above)
    return {"shadows": 1 - above, "middle": above - top, "highlights": top, "all": np.ones_like(light)}


def shift(balance: Balance, light: F64) -> tuple[F64, F64, F64]:
    """What the balance adds to Oklab's lightness and colour axes at a lightness; black and white stay where they are."""
    kept = np.clip(light, 0, 1)
    ends = np.clip(np.minimum(kept / 0.12, (1 - kept) / 0.08), 0, 1)
    ends = ends * ends * (3 - 2 * ends)
    more, da, db = np.zeros_like(light), np.zeros_like(light), np.zeros_like(light)
    for zone, share in zones(balance, kept).items():
        hue, strength, lighter = (getattr(balance, f"{zone}_{n}") for n in ("hue", "strength", "lightness"))
        da += strength / 100 * STRONGEST * np.cos(np.deg2rad(hue)) * share
        db += strength / 100 * STRONGEST * np.sin(np.deg2rad(hue)) * share
        more += lighter / 100 * LIGHTEST * share
    # Lightness keeps its order: at most the slope of 4 u (1 - u) times LIGHTEST goes against the scale's own.
    return more * 4 * kept * (1 - kept), da * ends, db * ends


def balanced(balance: Balance, light: F64, a: F64, b: F64) -> tuple[F64, F64, F64]:
    """Oklab's lightness and colour axes after the balance."""
    if balance == Balance():
        return light, a, b
    more, da, db = shift(balance, light)
    return light + more, a + da, b + db
