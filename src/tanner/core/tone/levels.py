"""Levels: where black, the middle and white of the scale lie, in and out. A part of the tone table (see `light.tone_table`)."""

from typing import ClassVar

import numpy as np
from numpy.typing import NDArray
from pydantic import model_validator

from tanner.core.adjust.spec import Group, param

LEAST = 2.0
"""% between black and white."""


class Levels(Group):
    key: ClassVar[str] = "levels"
    rank: ClassVar[int] = 55
    title: ClassVar[str] = "Levels"
    about: ClassVar[str] = "Which brightness becomes black, middle and white."

    black: float = param(0.0, 0.0, 98.0, label="Black", unit="%", step=0.5, help="This brightness becomes black.")
    middle: float = param(
        50.0, 5.0, 95.0, label="Middle", unit="%", step=0.5,
        help="This brightness, between black and white, becomes the middle of the scale: lower brightens.",
    )  # fmt: skip
    white: float = param(100.0, 2.0, 100.0, label="White", unit="%", step=0.5, help="This brightness becomes white.")
    black_out: float = param(
        0.0,
        0.0,
        98.0,
        label="Darkest",
        unit="%",
        step=0.5,
        help="How bright black comes out: above 0 for paper that fades.",
    )
    white_out: float = param(
        100.0, 2.0, 100.0, label="Brightest", unit="%", step=0.5, help="How bright white comes out."
    )

    @model_validator(mode="after")
    def _apart(self) -> "Levels":
        for low, high in ((self.black, self.white), (self.black_out, self.white_out)):
            if high - low < LEAST:
                raise ValueError(f"black and white must be at least {LEAST:g} % apart")
        return self


def levelled(levels: Levels, e: NDArray[np.float64]) -> NDArray[np.float64]:
    """Levels at e, both in display values 0 to 1.

    Between black and white the share u becomes u ** g, with g so that `middle` comes out as one half (common practice, no source).
    """
    u = np.clip((e - levels.black / 100) / ((levels.white - levels.black) / 100), 0, 1)
    if levels.middle != 50.0:
        u = u ** (np.log(0.5) / np.log(levels.middle / 100))
    result: NDArray[np.float64] = levels.black_out / 100 + u * ((levels.white_out - levels.black_out) / 100)
    return result
