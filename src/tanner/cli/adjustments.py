"""`tanner adjustments` and `tanner info`: what can be adjusted, and what is known about files."""

import json
from collections.abc import Callable
from pathlib import Path
from typing import Any

import typer

from tanner.cli.apart import Apart
from tanner.cli.common import Files, Json, named, say
from tanner.core.errors import TannerError


def adjustments(as_json: Json = False) -> None:
    """List every adjustment with its unit, range and neutral value."""
    from tanner.core.adjust.registry import adjustments as registry

    entries = [a.as_dict() for a in registry().values()]
    if as_json:
        typer.echo(json.dumps(entries, indent=1))
        return
    for entry in entries:
        span = "" if entry["min"] is None else f"{entry['min']:g} to {entry['max']:g} {entry['unit']}".rstrip()
        typer.echo(f"{entry['group'] + '.' + entry['name']:24} {span:20} {entry['help']}")


def info(files: Files, as_json: Json = False) -> None:
    """Say what is known about files."""
    from tanner.core.raw.reader import read_known

    read: Callable[[str], dict[str, Any]] = read_known
    if as_json:
        # What development begins with is told as well; what knows that takes a second to load.
        from tanner.jobs.tasks import read_facts

        read = read_facts
    failed = False
    with Apart() as apart:
        for path in files:
            try:
                facts = apart.run(read, str(path), within_s=60)
            except TannerError as error:
                failed = True
                say(named(path, error))
                if as_json:
                    typer.echo(json.dumps({"path": str(path), "error": named(path, error)}))
                continue
            if as_json:
                typer.echo(json.dumps(facts))
            else:
                typer.echo(_about(facts))
    if failed:
        raise typer.Exit(1)


def _about(facts: dict[str, Any]) -> str:
    exposure = facts["exposure_s"]
    shutter = f"1/{1 / exposure:.0f} s" if exposure and exposure < 0.5 else f"{exposure} s"
    lines = [
        f"{Path(facts['path']).name}: {facts['width']} × {facts['height']} px, {facts['mosaic'] or 'finished picture'}"
        + (f", {facts['decoded']}" if facts["decoded"] else ""),
        f"  camera {facts['make']} {facts['model']}, lens {facts['lens'] or 'unknown'}",
        f"  {_short(facts['focal_length_mm'])} mm, f/{_short(facts['aperture'])}, {shutter}, ISO {facts['iso'] or '?'}",
        f"  colour: {len(facts['colour_matrices'])} matrices, {len(facts['forward_matrices'])} forward",
        f"  lens corrections: {facts['lens_source'] or 'none found'}",
    ]
    return "\n".join([*lines, *(f"  note: {w}" for w in facts["warnings"])])


def _short(number: float | None) -> str:
    return "?" if not number else f"{number:.4g}"
