"""`tanner denoise`: noise taken out of raw files before anything else."""

import json
import os
import sys
import time
from pathlib import Path
from typing import Annotated

import typer

from tanner.cli.common import Json, fail, say
from tanner.core.errors import TannerError


def denoise(
    files: Annotated[list[Path], typer.Argument(help="Raw files.")],
    to: Annotated[Path | None, typer.Option(help="Folder for the copies; beside the originals when left out.")] = None,
    method: Annotated[str, typer.Option(help="quick, fine or learned.")] = "fine",
    luminance: Annotated[float, typer.Option(min=0, max=100, help="Luminance noise, % of what the model says.")] = 100,
    colour: Annotated[float, typer.Option(min=0, max=100, help="Colour noise, %.")] = 100,
    detail: Annotated[float, typer.Option(min=0, max=100, help="Detail kept beside structures, %.")] = 0,
    suffix: Annotated[
        str, typer.Option(help="Name of the copies; {name} and {method} are filled in.")
    ] = "{name}-quiet",
    as_json: Json = False,
) -> None:
    """Write quiet copies of raw files: open DNG files, marked so that nothing is done twice."""
    from tanner.core.noise.methods import METHODS, Strength
    from tanner.core.noise.prepass import denoise_file

    if method not in METHODS:
        raise fail(f"There is no method called {method}. There are: {', '.join(METHODS)}.")
    trouble = False
    threads = min(4, os.cpu_count() or 1)
    for file in files:
        began = time.monotonic()

        def progress(share: float, name: str = file.name, began: float = began) -> None:
            if sys.stderr.isatty():
                left = (time.monotonic() - began) * (1 - share) / max(share, 0.01)
                end = "\n" if share == 1 else ""
                typer.echo(f"\r{name}: {share:.0%}, {left:.0f} s left   {end}", err=True, nl=False)

        try:
            done = denoise_file(file, method, Strength(luminance, colour, detail), to, suffix, progress, threads)
        except TannerError as error:
            say(error)
            trouble = True
            continue
        typer.echo(
            json.dumps(done) if as_json else f"{file.name}: {Path(done['target']).name} (noise by the {done['model']})"
        )
    if trouble:
        raise typer.Exit(1)
