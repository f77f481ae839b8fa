"""How files come in: where to, under which names, a second copy, what goes with them. A shoot keeps its own for next time."""

import os
import re
import shutil
from collections.abc import Iterable, Mapping, Sequence
from pathlib import Path
from typing import Literal

from pydantic import BaseModel, ConfigDict, Field, field_validator

from tanner.core.errors import TannerError
from tanner.core.output.naming import check_template, fill, fill_folder, name_values, remarks
from tanner.core.raw.facts import FrameFacts

SPARE = 64 << 20
"""Bytes that are left free on a drive."""


class Recipe(BaseModel):
    """
    Attributes:
        copy_to: checked copies are taken there; empty: files stay where they lie.
        folder, name: templates below `copy_to`, see `core.output.naming`; endings stay.
        second: another folder, on another drive best, that gets a checked copy of everything, too.
        companions: finished pictures beside raw files go "with" them, are left ("raw"), or are frames of their own ("apart").
        others: sound, video and notes are copied along.
        words: what is said of every frame, by fields of `core.output.captions`.
    """

    model_config = ConfigDict(extra="forbid")
    copy_to: str = Field(default="", max_length=2000)
    folder: str = Field(default="", max_length=300)
    name: str = Field(default="{name}", min_length=1, max_length=300)
    second: str = Field(default="", max_length=2000)
    companions: Literal["with", "raw", "apart"] = "with"
    others: bool = False
    keywords: list[str] = Field(default=[], max_length=50)
    words: dict[str, str] = Field(default={}, max_length=40)
    rules: bool = False

    @field_validator("folder", "name")
    @classmethod
    def _tokens(cls, template: str) -> str:
        check_template(template)
        return template

    @property
    def needs_facts(self) -> bool:
        """Whether names and folders say more than a file's own name, its number and the shoot's name."""
        return bool(set(re.findall(r"\{(\w+)", self.folder + self.name)) - {"name", "number", "shoot"})

    def values(self, path: Path, facts: FrameFacts | None, number: int, shoot: str) -> dict[str, object]:
        """Values of the tokens for one file; without facts only its name and number are known."""
        known = facts or FrameFacts(path=str(path), kind="finished", width=1, height=1)
        return name_values(
            name=path.stem, number=number, shoot=shoot, taken=known.taken, camera=known.camera_name, lens=known.lens,
            iso=known.iso, keyword=self.keywords[0] if self.keywords else "",
        )  # fmt: skip

    def target(self, path: Path, values: Mapping[str, object]) -> Path:
        """Where a file goes below `copy_to`; a name that is taken there gets a number when it is written."""
        return Path(self.copy_to) / fill_folder(self.folder, values) / f"{fill(self.name, values)}{path.suffix}"

    def remarks(self, values: Mapping[str, object]) -> tuple[str, ...]:
        return remarks(self.name, values)


def check_room(recipe: Recipe, files: Iterable[Path]) -> None:
    """See that copies have room before the first is made.

    Raises:
        TannerError: a drive has too little, with how much is missing.
    """
    if not recipe.copy_to:
        return
    need = sum(_size(f) for f in files)
    wanted: dict[int, tuple[Path, int]] = {}
    for folder in filter(None, (recipe.copy_to, recipe.second)):
        there = _existing(Path(folder))
        device = there.stat().st_dev
        wanted[device] = there, wanted.get(device, (there, 0))[1] + need
    for drive, bytes_ in wanted.values():
        free = shutil.disk_usage(drive).free
        if free < bytes_ + SPARE:
            raise TannerError(
                f"{drive}: has {free / 1e9:.1f} GB free, and {(bytes_ + SPARE) / 1e9:.1f} GB are needed. "
                "Nothing was copied. Make room, choose another folder, or fewer files."
            )


def _size(path: Path) -> int:
    try:
        return path.stat().st_size
    except OSError:
        return 0


def _existing(folder: Path) -> Path:
    while not folder.exists():
        folder = folder.parent
    return folder


def check_folders(recipe: Recipe, files: Sequence[Path]) -> None:
    """See that copies go somewhere else than where the files lie, and the second ones than the first.

    Raises:
        TannerError: they do not.
    """
    if recipe.second and not recipe.copy_to:
        raise TannerError("A second copy needs a first one: choose the folder that files are copied into.")
    parents = {p.parent for p in files}
    for folder in filter(None, (recipe.copy_to, recipe.second)):
        if Path(folder) in parents:
            raise TannerError("Files cannot be copied to where they lie. Choose another folder.")
    if recipe.second and os.path.realpath(recipe.second) == os.path.realpath(recipe.copy_to):
        raise TannerError("The second copy would lie beside the first. Choose another folder, on another drive best.")
