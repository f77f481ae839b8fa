"""Limits that a user may raise: from the file settings.toml in the data folder, or from the environment.

Worker processes take them over from the environment, where `take` puts what the file says.
"""

import os
import resource
import tomllib
from functools import cache
from pathlib import Path
from typing import Any

from pydantic import BaseModel, ConfigDict, Field, ValidationError

from tanner.core.errors import SettingsError, TannerError, problem
from tanner.core.output.files import write_whole


class Limits(BaseModel):
    """Each as TANNER_ and its name in capitals in the environment.

    Attributes:
        most_megapixels: of a file that is opened, by what its header says, before anything is decoded. A finished picture of
            150 MP takes 3.6 GB in a worker (measured); at 120, two of them and the server fit into 8 GB.
        worker_gigabytes: memory of a process that decodes and develops, in GB. Two at 3.5 and the server fit into 8.
        previews_gigabytes, blocks_gigabytes, quiet_gigabytes: on disk for pictures of frames, for their mosaics in blocks, and
            for frames without noise, in GB; what was not used for the longest time goes first, and is made again when it is needed.
        backup_hours: between backups of the catalogue; 0: none by itself.
        backups_kept: the newest of them.
    """

    model_config = ConfigDict(extra="forbid")
    most_megapixels: float = Field(default=120.0, ge=1, le=2000)
    worker_gigabytes: float = Field(default=3.5, ge=1, le=1000)
    previews_gigabytes: float = Field(default=8, ge=0.05, le=100_000)
    blocks_gigabytes: float = Field(default=4, ge=0.05, le=100_000)
    quiet_gigabytes: float = Field(default=6, ge=0.05, le=100_000)
    backup_hours: float = Field(default=6, ge=0, le=8760)
    backups_kept: int = Field(default=5, ge=1, le=1000)


def _environment() -> dict[str, Any]:
    """What the environment says, by the limits' names."""
    return {
        name: os.environ[f"TANNER_{name.upper()}"]
        for name in Limits.model_fields
        if f"TANNER_{name.upper()}" in os.environ
    }


@cache
def limits() -> Limits:
    try:
        return Limits(**_environment())
    except ValidationError as error:
        first = error.errors()[0]
        raise SettingsError(f"TANNER_{str(first['loc'][0]).upper()}: {first['msg']}.") from None


def _said(path: Path, values: dict[str, float]) -> tuple[dict[str, Any], Limits]:
    """What a file says, with some values in place of its own, and the limits that come of it; a file that is not there says nothing."""
    try:
        found = {**(tomllib.loads(path.read_text()) if path.exists() else {}), **values}
        return found, Limits(**{**_environment(), **found})
    except ValidationError as error:
        raise SettingsError(f"{path}: {problem(error.errors()[0])}.") from None
    except (OSError, ValueError) as error:
        raise SettingsError(f"{path}: cannot be used ({error}).") from None


ADDRESS_LIMIT = 12 << 30
"""Address space of a process that reads foreign files, of which libraries reserve much and use little."""


class TooMuchMemory(TannerError):
    """An item needs more memory than a process that works on it may take."""

    def __init__(self) -> None:
        super().__init__(
            f"This needs more memory than a process may take ({limits().worker_gigabytes:g} GB). "
            "Raise worker_gigabytes in settings.toml if your computer has more, then start Tanner again."
        )


def bound_memory() -> None:
    """Hold this process to what an item may take: one that needs more is one item's error, before the machine runs short."""
    resource.setrlimit(resource.RLIMIT_AS, (ADDRESS_LIMIT, ADDRESS_LIMIT))
    # Memory that is its own.
    most = int(limits().worker_gigabytes * 1e9)
    resource.setrlimit(resource.RLIMIT_DATA, (most, most))


NAME = "settings.toml"
_from_file: set[str] = set()
"""Variables of the environment that hold what a file said: a change of the file changes them."""


def take(folder: Path) -> None:
    """Read settings.toml of a data folder; what the environment says counts before it.

    Raises:
        SettingsError: the file makes no sense.
    """
    # What another folder said, or this one before.
    for variable in _from_file:
        os.environ.pop(variable, None)
    _from_file.clear()
    limits.cache_clear()
    found, wanted = _said(folder / NAME, {})
    for name in found:
        variable = f"TANNER_{name.upper()}"
        if variable not in os.environ:
            os.environ[variable] = str(getattr(wanted, name))
            _from_file.add(variable)
    limits.cache_clear()


def change(folder: Path, values: dict[str, float]) -> None:
    """Write some limits into settings.toml and go by them; the others stay.

    Raises:
        SettingsError: a value makes no sense; or the environment says otherwise, which counts before the file.
    """
    path = folder / NAME
    for name, value in values.items():
        variable = f"TANNER_{name.upper()}"
        if variable in os.environ and variable not in _from_file and value != getattr(limits(), name):
            raise SettingsError(f"{name}: the environment sets it with {variable}, which counts before settings.toml.")
    found, wanted = _said(path, values)
    lines = [f"{name} = {getattr(wanted, name)}" for name in Limits.model_fields if name in found]
    write_whole(path, ("\n".join(lines) + "\n").encode(), replace=True)
    take(folder)
