"""Presets: a named choice of adjustments, one readable JSON file each."""

import json
from pathlib import Path
from typing import Any

from pydantic import BaseModel, ConfigDict, Field, ValidationError

from tanner.core.adjust.registry import adjustments, blend, develop
from tanner.core.errors import FormatError, SettingsError
from tanner.core.output.spec import explain
from tanner.core.series.depends import About, depends, settled


class Preset(BaseModel):
    """A preset as its file holds it.

    Attributes:
        values: sparse settings by full name; what is not named is left as it is. A value may depend on the frame, see
            `series.depends`.
        unknown: names that this version does not know (from a newer one): kept and written back.
    """

    model_config = ConfigDict(extra="forbid")

    tanner_preset: int = Field(default=1, ge=1)
    name: str = Field(min_length=1, max_length=80)
    folder: str = Field(default="Own", min_length=1, max_length=80)
    about: str = Field(default="", max_length=300)
    values: dict[str, Any]

    def at(self, amount: float, about: About) -> dict[str, Any]:
        """Settings for a frame at an amount from 0 to 1.5."""
        known = {k: v for k, v in self.values.items() if k in adjustments()}
        return blend(settled(known, about), amount)

    @property
    def unknown(self) -> list[str]:
        return [k for k in self.values if k not in adjustments()]

    def to_json(self) -> str:
        return json.dumps(self.model_dump(), indent=2, ensure_ascii=False) + "\n"


def parse_preset(text: str | bytes, where: str) -> Preset:
    """Read a preset and check its values against the declarations.

    Raises:
        FormatError: with the file's name and what is wrong.
    """
    try:
        preset = Preset.model_validate_json(text)
        for key, value in preset.values.items():
            chosen = depends(value)
            for each in [value] if chosen is None else chosen.values():
                develop({key: each} if key in adjustments() else {})
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
