"""Limits that a user may raise: from the file settings.toml in the data folder, or from the environment.

Worker processes take them over from the environment, where `take` puts what the file says.
"""

import os
import tomllib
from functools import cache
from pathlib import Path

from pydantic import Field, ValidationError
from pydantic_settings import BaseSettings, SettingsConfigDict

from tanner.core.errors import SettingsError


class Limits(BaseSettings):
    """Each as TANNER_ and its name in capitals in the environment.

    Attributes:
        most_megapixels: of a file that is opened, by what its header says, before anything is decoded. A finished picture of
            150 MP takes 3.6 GB in a worker (measured); at 120, two of them and the server fit into 8 GB.
        worker_gigabytes: memory of a process that decodes and develops, in GB. Two at 3.5 and the server fit into 8.
    """

    model_config = SettingsConfigDict(env_prefix="TANNER_", extra="forbid")
    most_megapixels: float = Field(default=120.0, ge=1, le=2000)
    worker_gigabytes: float = Field(default=3.5, ge=1, le=1000)


@cache
def limits() -> Limits:
    try:
        return Limits()
    except ValidationError as error:
        first = error.errors()[0]
        raise SettingsError(f"TANNER_{str(first['loc'][0]).upper()}: {first['msg']}.") from None


def take(folder: Path) -> None:
    """Read settings.toml of a data folder; what the environment says counts before it.

    Raises:
        SettingsError: the file makes no sense.
    """
    path = folder / "settings.toml"
    try:
        found = tomllib.loads(path.read_text())
        wanted = Limits(**found)
    except FileNotFoundError:
        return
    except (OSError, ValueError) as error:
        raise SettingsError(f"{path}: cannot be used ({str(error).splitlines()[0]}).") from None
    for name in found:
        os.environ.setdefault(f"TANNER_{name.upper()}", str(getattr(wanted, name)))
    limits.cache_clear()
