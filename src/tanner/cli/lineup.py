"""`tanner lineup`: the consistency of a set in numbers, as CSV or JSON."""

import csv
import json
import sys
from typing import Annotated

import typer

from tanner.cli.common import DATA, DataFolder, Json, fail
from tanner.core.errors import TannerError
from tanner.core.series.kinds import AREA, KINDS


def lineup(
    shoot: Annotated[str, typer.Option(help="Name of the shoot.")],
    set_: Annotated[str, typer.Option("--set", metavar="NAME", help="Name of the set.")],
    data: DataFolder = DATA,
    tolerance: Annotated[float, typer.Option(min=0.1, max=20, help="CIEDE2000 within which frames agree.")] = 1.0,
    area: Annotated[
        str,
        typer.Option(
            help="What is measured: backdrop, face, skin, chart (grey patch), card, or an area of the lead by its name."
        ),
    ] = "backdrop",
    as_csv: Annotated[bool, typer.Option("--csv", help="Print CSV.")] = False,
    as_json: Json = False,
) -> None:
    """Measure an area of a set's frames, as they are developed, against the lead's; 1 when some are outside."""
    from tanner.jobs.match.lineups import measured_set

    kind = next((k for k in KINDS if k == area), AREA + area)
    try:
        found = measured_set(data.expanduser(), shoot, set_, tolerance, kind)
    except TannerError as error:
        raise fail(error) from None
    if as_json:
        typer.echo(json.dumps(found, indent=1))
    elif as_csv:
        out = csv.writer(sys.stdout)
        out.writerow(["name", "L", "a", "b", "difference", "outside", "confidence", "area", "words"])
        for row in found["frames"]:
            lab = row["lab"] or ["", "", ""]
            cells = [row["difference"], row["outside"], row["confidence"], row["area"], row["words"]]
            out.writerow([row["name"], *lab, *("" if c is None else c for c in cells)])
    else:
        for row in found["frames"]:
            mark = "outside" if row["outside"] else "within" if row["lab"] else "?"
            difference = "" if row["difference"] is None else f"{row['difference']:.2f}"
            typer.echo(f"{row['name']:20} {difference:>6}  {mark:8} {row['words']}")
    if found["outside"]:
        raise typer.Exit(1)
