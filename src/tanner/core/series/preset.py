"""Presets: a named choice of adjustments, one readable JSON file each."""

import json
from collections.abc import Container
from pathlib import Path
from typing import Any

from pydantic import BaseModel, ConfigDict, Field, ValidationError, model_validator

from tanner.core.adjust.items import renamed
from tanner.core.adjust.registry import blend, declared, develop
from tanner.core.errors import FormatError, SettingsError
from tanner.core.output.spec import explain
from tanner.core.series.conditional import About, conditional, resolve_conditional
from tanner.core.series.kinds import Kind, What


class StoredMatch(BaseModel):
    """A reference's figures: frames that get the preset are matched to them.

    Attributes:
        kind: the area; lab: its L*a*b* (D50) as rendered; scale: see `series.tone_match.scale_of`, of the whole frame.
        what: exposure, white balance or both; tone: contrast, black and white point, too; of: the reference's name.
    """

    model_config = ConfigDict(extra="forbid")
    kind: Kind
    lab: tuple[float, float, float]
    scale: tuple[float, float, float] | None = None
    what: What = "both"
    tone: bool = False
    of: str = Field(default="", max_length=200)

    @model_validator(mode="after")
    def _by_what_it_is(self) -> "StoredMatch":
        if self.kind == "drawn":
            raise ValueError("a drawn area cannot be found again without its reference")
        if self.tone and self.scale is None:
            raise ValueError("contrast cannot be matched without the reference's scale")
        return self


class Preset(BaseModel):
    """A preset as its file holds it.

    Attributes:
        values: sparse settings by full name; what is not named is left as it is. A value may depend on the frame, see
            `series.conditional`.
        unknown: names that this version does not know (from a newer one): kept and written back.
        match: frames are then matched to a stored reference.
    """

    model_config = ConfigDict(extra="forbid")

    tanner_preset: int = Field(default=1, ge=1)
    name: str = Field(min_length=1, max_length=80)
    folder: str = Field(default="Own", min_length=1, max_length=80)
    about: str = Field(default="", max_length=300)
    values: dict[str, Any]
    match: StoredMatch | None = None

    def at(self, amount: float, about: About, leave: Container[str] = ()) -> dict[str, Any]:
        """Settings for a frame at an amount from 0 to 1.5, without the groups that are left as they are."""
        known = {k: v for k, v in self.values.items() if (entry := declared(k)) and entry.group not in leave}
        return blend(resolve_conditional(renamed(known, self.name), about), amount)

    @property
    def unknown(self) -> list[str]:
        return [k for k in self.values if declared(k) is None]

    def to_json(self) -> str:
        own = self.model_dump(mode="json", exclude={"match"} if self.match is None else None)
        return json.dumps(own, indent=2, ensure_ascii=False) + "\n"


def parse_preset(text: str | bytes, where: str) -> Preset:
    """Read a preset and check its values against the declarations.

    Raises:
        FormatError: with the file's name and what is wrong.
    """
    try:
        preset = Preset.model_validate_json(text)
        for key, value in preset.values.items():
            chosen = conditional(value)
            for each in [value] if chosen is None else chosen.values():
                develop({key: each} if declared(key) else {})
    except (ValidationError, SettingsError) as error:
        raise FormatError(f"{where}: is no preset that can be used: {explain(error)}") from None
    if preset.values and len(preset.unknown) == len(preset.values):
        raise FormatError(f"{where}: none of its adjustments is known here ({preset.unknown[0]} ...).")
    return preset


def read_preset(path: Path) -> Preset:
    """Read one preset file."""
    try:
        return parse_preset(path.read_bytes(), path.name)
    except OSError as error:
        raise FormatError(f"{path.name}: cannot be opened ({error.strerror}).") from None
