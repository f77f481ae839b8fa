"""`tanner lens`: which corrections a frame gets, and which lenses the database knows."""

import json
from pathlib import Path
from typing import Annotated, Any

import typer

from tanner.cli.common import FAILED, Json, fail
from tanner.core.errors import TannerError

app = typer.Typer(no_args_is_help=True, help="Lens corrections: what is found for a file, and what there is.")


@app.command()
def find(file: Annotated[Path, typer.Argument(help="A raw file.")], as_json: Json = False) -> None:
    """Say which lens corrections a file gets, and where they come from."""
    from tanner.core.raw.reader import read

    try:
        source = read(file, pixels=False)
    except TannerError as error:
        raise fail(error, FAILED) from None
    facts, lens = source.facts, source.lens
    found: dict[str, Any] = {
        "path": str(file),
        "lens": facts.lens,
        "focal_length_mm": facts.focal_length_mm,
        "aperture": facts.aperture,
        "found": lens.name if lens else None,
        "source": lens.source if lens else None,
    }
    if as_json:
        typer.echo(json.dumps(found))
    elif lens:
        typer.echo(f"{file.name}: {lens.name} ({lens.source})")
    else:
        typer.echo(f"{file.name}: nothing was found for {facts.lens or 'a lens that the file does not name'}.")


@app.command()
def make(
    files: Annotated[list[Path], typer.Argument(help="Raw files with straight edges, of one lens and focal length.")],
    out: Annotated[Path, typer.Option("-o", "--out", help="Where the XML is written.")],
    even: Annotated[Path | None, typer.Option(help="A raw file of an even surface, for the fall-off.")] = None,
    as_json: Json = False,
) -> None:
    """Measure a lens from frames of straight edges, and write it in the open database's form."""
    from tanner.core.lensmake.make import make_lens
    from tanner.core.output.files import write_whole
    from tanner.core.raw.reader import read

    try:
        xml, report = make_lens([read(f) for f in files if f != even], read(even) if even else None)
        write_whole(out, xml.encode(), replace=True)
    except TannerError as error:
        raise fail(error, FAILED) from None
    if as_json:
        typer.echo(json.dumps({**report, "path": str(out)}))
        return
    typer.echo(f"{out.name}: {report['name']}")
    units = {
        "distortion": "px off straight lines",
        "lateral_colour": "px between colours",
        "fall_off": "EV over the frame",
    }
    for part, unit in units.items():
        found = report.get(part)
        if found and "left_out" in found:
            typer.echo(f"  {part.replace('_', ' ')}: left out. {found['left_out']}")
        elif found:
            typer.echo(f"  {part.replace('_', ' ')}: {found['before']:.2f} before, {found['after']:.2f} after ({unit})")


@app.command("list")
def list_lenses(
    text: Annotated[str, typer.Argument(metavar="[SEARCH]", help="Words of the maker, model or focal length.")] = "",
    limit: Annotated[int, typer.Option(min=1, max=5000)] = 60,
    as_json: Json = False,
) -> None:
    """List lenses of the open database."""
    from tanner.core.optics.database import search

    found = search(text, limit=limit)
    if as_json:
        typer.echo(json.dumps(found, indent=1))
        return
    for lens in found:
        typer.echo(f"{lens['key']:60} {lens['focal']:>9} mm  {', '.join(lens['has'])}")
