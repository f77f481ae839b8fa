"""Every error that Tanner raises on purpose, with its subject attached.

TannerError
├── FileError            something about one file (path attached)
│   ├── UnreadableFile   cannot be decoded: truncated, empty, mislabelled, hostile
│   ├── WriteFailed      could not be written whole, so was not written at all
│   └── NameTaken        the target exists and nobody said to replace it
├── SettingsError        an adjustment that does not exist or a value out of range
├── FormatError          a preset, output spec or other small file that makes no sense
└── NotAllowed           a path outside the folders that were opened
"""

from collections.abc import Mapping
from pathlib import Path
from typing import Any


class TannerError(Exception):
    """Base of all errors that carry a message meant for a person."""


class FileError(TannerError):
    """Something about one file.

    Attributes:
        path: the file.
        reason: what happened and what to do, without the file's name.
    """

    def __init__(self, path: Path | str, reason: str) -> None:
        self.path = Path(path)
        self.reason = reason
        super().__init__(f"{self.path.name}: {reason}")

    def __reduce__(self) -> tuple[type, tuple[Path, str]]:
        # Errors cross process borders: the default would pass the joined message only.
        return type(self), (self.path, self.reason)


class UnreadableFile(FileError):
    pass


class WriteFailed(FileError):
    pass


class NameTaken(FileError):
    pass


class SettingsError(TannerError):
    pass


class FormatError(TannerError):
    pass


class NotAllowed(TannerError):
    pass


def problem(first: Mapping[str, Any], skip: int = 0) -> str:
    """One problem of a validation in one line: where it is, and what; a sentence of our own stands for itself.

    Args:
        first: one of a ValidationError's `errors()`; skip: names of its place that mean nothing to who reads it.
    """
    text = str(first["msg"])
    if first["type"] == "value_error":
        text = text.removeprefix("Value error, ")
        return f"{text[:1].upper()}{text[1:]}" + ("" if text.endswith((".", "?")) else ".")
    place = ".".join(str(p) for p in first["loc"][skip:])
    return f"{place}: {text}" if place else text
