"""`tanner spots`: specks, lint and scratches that are found in files."""

import json
from typing import Annotated

import typer

from tanner.cli.common import Files, Json, named, say
from tanner.core.errors import TannerError

app = typer.Typer(no_args_is_help=True, help="Specks, lint and scratches.")


@app.callback()
def spots() -> None:
    """Specks, lint and scratches."""


@app.command()
def find(
    files: Files,
    everywhere: Annotated[bool, typer.Option("--everywhere", help="On textured things too.")] = False,
    limit: Annotated[float, typer.Option(min=0, max=1, help="Least confidence that is told.")] = 0.2,
    as_json: Json = False,
) -> None:
    """Find specks on even ground; one object a file with --json, places in shares of the upright frame's width and height."""
    from tanner.core.optics.view import upright
    from tanner.core.raw.reader import read
    from tanner.core.spots.find import specks

    failed = False
    for file in files:
        try:
            source = read(file)
        except TannerError as error:
            failed = True
            say(named(file, error))
            continue
        w, h = upright(source.size, source.facts.orientation)
        long = max(w, h)
        rows = []
        for f in specks(source, everywhere=everywhere, limit=limit):
            x, y = (sum(p[k] for p in f.path) / len(f.path) for k in (0, 1))
            rows.append(
                {
                    "x": round(x * long / w + 0.5, 6), "y": round(y * long / h + 0.5, 6), "radius": f.size, "kind": f.kind,
                    "confidence": f.confidence,
                }
            )  # fmt: skip
        if as_json:
            typer.echo(json.dumps({"path": str(file), "spots": rows}))
            continue
        typer.echo(f"{file.name}: {len(rows)} found")
        for row in rows:
            typer.echo(f"  {row['kind']:8} {row['x']:.4f} {row['y']:.4f}  {row['confidence']:.0%} sure")
    if failed:
        raise typer.Exit(1)
