"""What all commands share: their options, how files and settings are read, and how they fail."""

import json
from pathlib import Path
from typing import Annotated, Any

import typer

from tanner.core.errors import FormatError, SettingsError

Files = Annotated[list[Path], typer.Argument(help="Raw or finished files.", metavar="FILE...")]
Json = Annotated[bool, typer.Option("--json", help="Print one JSON object a line.")]
DataFolder = Annotated[Path, typer.Option("--data", help="Where the catalogue lies.", envvar="TANNER_DATA")]
DATA = Path("~/.local/share/tanner")
WRONG, FAILED = 2, 1
"""Exit codes: what was asked for makes no sense; some of it could not be done."""


def fail(message: object, code: int = WRONG) -> typer.Exit:
    """Say what is wrong on stderr; the exit that is to be raised."""
    say(message)
    return typer.Exit(code)


def say(message: object) -> None:
    """A line on stderr; what goes on stays on stdout."""
    typer.echo(f"tanner: {message}", err=True)


def named(path: Path, error: Exception) -> str:
    """An error with its file's name in front, once."""
    text = str(error)
    return text if text.startswith(path.name) else f"{path.name}: {text}"


def _nested(values: dict[str, Any]) -> dict[str, Any]:
    """Settings may be flat ({"light.exposure": 1}) or by group ({"light": {"exposure": 1}})."""
    flat: dict[str, Any] = {}
    for key, value in values.items():
        if isinstance(value, dict):
            flat |= {f"{key}.{k}": v for k, v in value.items()}
        else:
            flat[key] = value
    return flat


def read_settings(path: Path) -> dict[str, Any]:
    """The settings of a JSON file, by full name.

    Raises:
        FormatError: with the file's name and what is wrong.
    """
    try:
        data = json.loads(path.read_bytes())
    except (OSError, ValueError) as error:
        raise FormatError(f"{path.name}: cannot be read ({error}).") from None
    if not isinstance(data, dict):
        raise FormatError(f"{path.name}: settings are a JSON object.")
    return _nested(data)


def settings_of(path: Path | None, given: list[str]) -> dict[str, Any]:
    """The settings of a file and of --set, checked against the declarations."""
    from tanner.core.adjust.registry import check_names, declared, develop

    result = read_settings(path) if path else {}
    for pair in given:
        key, separator, text = pair.partition("=")
        if not separator:
            raise SettingsError(f"--set {pair}: write GROUP.NAME=VALUE.")
        check_names({key: None})
        try:
            value = json.loads(text)
        except ValueError:
            value = text
        entry = declared(key)
        if entry and entry.spec.widget == "switch" and isinstance(value, str):
            value = {"on": True, "off": False, "yes": True, "no": False}.get(value.lower(), value)
        result[key] = value
    develop(result)
    return result
