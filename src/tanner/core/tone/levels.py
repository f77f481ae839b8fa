"""Levels: where black, the middle and white of the scale lie, in and out.

Those of all channels together are a part of the tone table (see `light.tone_table`), those of single channels of the
stage `channels`.
"""

from typing import Any, ClassVar

import numpy as np
from numpy.typing import NDArray
from pydantic import model_validator

from tanner.core.adjust.spec import Group, param

LEAST = 2.0
"""% between black and white."""
CHANNELS = ("red", "green", "blue")


def _level(neutral: float, low: float, high: float, label: str, help: str, tab: str) -> Any:
    full = "" if tab == "All" else f"{tab}: {label.lower()}"
    return param(neutral, low, high, label=label, unit="%", step=0.5, help=help, tab=tab, full=full)


def _black(tab: str) -> Any:
    return _level(0.0, 0.0, 98.0, "Black", "This brightness becomes black.", tab)


def _middle(tab: str) -> Any:
    text = "This brightness, between black and white, becomes the middle of the scale: lower brightens."
    return _level(50.0, 5.0, 95.0, "Middle", text, tab)


def _white(tab: str) -> Any:
    return _level(100.0, 2.0, 100.0, "White", "This brightness becomes white.", tab)


def _darkest(tab: str) -> Any:
    return _level(0.0, 0.0, 98.0, "Darkest", "How bright black comes out: above 0 for paper that fades.", tab)


def _brightest(tab: str) -> Any:
    return _level(100.0, 2.0, 100.0, "Brightest", "How bright white comes out.", tab)


class Levels(Group):
    key: ClassVar[str] = "levels"
    rank: ClassVar[int] = 55
    title: ClassVar[str] = "Levels"
    about: ClassVar[str] = "Which brightness becomes black, middle and white."

    black: float = _black("All")
    middle: float = _middle("All")
    white: float = _white("All")
    black_out: float = _darkest("All")
    white_out: float = _brightest("All")
    red_black: float = _black("Red")
    red_middle: float = _middle("Red")
    red_white: float = _white("Red")
    red_black_out: float = _darkest("Red")
    red_white_out: float = _brightest("Red")
    green_black: float = _black("Green")
    green_middle: float = _middle("Green")
    green_white: float = _white("Green")
    green_black_out: float = _darkest("Green")
    green_white_out: float = _brightest("Green")
    blue_black: float = _black("Blue")
    blue_middle: float = _middle("Blue")
    blue_white: float = _white("Blue")
    blue_black_out: float = _darkest("Blue")
    blue_white_out: float = _brightest("Blue")

    @model_validator(mode="after")
    def _apart(self) -> "Levels":
        for channel in ("", *CHANNELS):
            black, _, white, black_out, white_out = self.of(channel)
            for low, high in ((black, white), (black_out, white_out)):
                if high - low < LEAST:
                    raise ValueError(f"black and white must be at least {LEAST:g} % apart")
        return self

    def of(self, channel: str = "") -> tuple[float, float, float, float, float]:
        """Black, middle and white in, black and white out, in %; of all channels, or of one."""
        first = f"{channel}_" if channel else ""
        black, middle, white, black_out, white_out = (
            float(getattr(self, first + n)) for n in ("black", "middle", "white", "black_out", "white_out")
        )
        return black, middle, white, black_out, white_out


NEUTRAL = Levels().of()


def levelled(levels: tuple[float, float, float, float, float], e: NDArray[np.float64]) -> NDArray[np.float64]:
    """Levels (see `Levels.of`) at e, in display values 0 to 1.

    Between black and white the share u becomes u ** g, with g so that `middle` comes out as one half (common practice, no source).
    """
    black, middle, white, black_out, white_out = levels
    u = np.clip((e - black / 100) / ((white - black) / 100), 0, 1)
    if middle != 50.0:
        u = u ** (np.log(0.5) / np.log(middle / 100))
    result: NDArray[np.float64] = black_out / 100 + u * ((white_out - black_out) / 100)
    return result
