"""`tanner lens`: which corrections a frame gets, and which lenses the database knows."""

import json
from pathlib import Path
from typing import Annotated, Any

import typer

from tanner.core.errors import TannerError

app = typer.Typer(no_args_is_help=True, help="Lens corrections: what is found for a file, and what there is.")
Json = Annotated[bool, typer.Option("--json", help="Print JSON.")]


@app.command()
def find(file: Annotated[Path, typer.Argument(help="A raw file.")], as_json: Json = False) -> None:
    """Say which lens corrections a file gets, and where they come from."""
    from tanner.core.raw.reader import lens_of, read

    try:
        facts = read(file, pixels=False).facts
    except TannerError as error:
        typer.echo(f"tanner: {error}", err=True)
        raise typer.Exit(1) from None
    lens = lens_of(facts)
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
