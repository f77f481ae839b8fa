"""Rules: when a frame is so, a preset is put on it. Plain data, kept as one readable JSON file."""

from collections.abc import Sequence
from typing import Literal

from pydantic import BaseModel, ConfigDict, Field, model_validator

from tanner.core.series.conditional import About

OPEN = 1e6
"""From here on the end of a range is open."""


class When(BaseModel):
    """What a frame must be; what is not named does not matter.

    Attributes:
        camera, lens: words that the name contains, whatever their case; iso, kelvin: from and to, both included.
        name: words that the file's name contains.
    """

    model_config = ConfigDict(extra="forbid")
    camera: str = Field(default="", max_length=200)
    lens: str = Field(default="", max_length=200)
    iso: tuple[float, float] | None = None
    kelvin: tuple[float, float] | None = None
    held: Literal["upright", "wide"] | None = None
    name: str = Field(default="", max_length=200)

    @model_validator(mode="after")
    def _ordered(self) -> "When":
        for words, span in (("ISO", self.iso), ("light", self.kelvin)):
            if span and not 0 <= span[0] <= span[1]:
                raise ValueError(f"the range of {words} goes from low to high")
        return self

    def meets(self, about: About, name: str) -> bool:
        return (
            _within(self.camera, about.camera)
            and _within(self.lens, about.lens)
            and _within(self.name, name)
            and _between(self.iso, about.iso)
            and _between(self.kelvin, about.kelvin)
            and (self.held is None or (self.held == "upright") == about.upright)
        )

    def words(self) -> str:
        """The condition, for people."""
        parts = [f'{k} has "{v}"' for k, v in (("camera", self.camera), ("lens", self.lens), ("name", self.name)) if v]
        parts += [f"ISO {_said(self.iso)}"] if self.iso else []
        parts += [f"light {_said(self.kelvin)} K"] if self.kelvin else []
        parts += [f"held {self.held}"] if self.held else []
        return ", ".join(parts) or "always"


class FrameRule(BaseModel):
    """When frames are so, this preset is put on them at an amount in %."""

    model_config = ConfigDict(extra="forbid")
    when: When
    preset: str = Field(min_length=1, max_length=200)
    amount: float = Field(default=100, ge=0, le=150)
    on: bool = True


def meeting(rules: Sequence[FrameRule], about: About, name: str) -> list[FrameRule]:
    """The rules that a frame meets, in their order: later presets lie on top of earlier ones."""
    return [r for r in rules if r.on and r.when.meets(about, name)]


def _said(span: tuple[float, float]) -> str:
    low, high = span
    if high >= OPEN:
        return f"{low:.0f} and up"
    return f"up to {high:.0f}" if low <= 0 else f"{low:.0f} to {high:.0f}"


def _within(words: str, text: str) -> bool:
    return all(w in text.lower() for w in words.lower().split())


def _between(span: tuple[float, float] | None, value: float | None) -> bool:
    return span is None or (value is not None and span[0] <= value <= span[1])
