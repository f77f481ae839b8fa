"""`tanner match`: the offsets that bring frames to a reference, measured on files, without a catalogue."""

import json
from pathlib import Path
from typing import Annotated

import typer

from tanner.cli.common import Json, fail, named, say, settings_of
from tanner.core.errors import TannerError
from tanner.core.series.kinds import AREA, Box, Kind


def _box(text: str) -> Box | None:
    """An area from four shares, as --area gives it; None for the name of one."""
    try:
        x0, y0, x1, y1 = (float(v) for v in text.split(","))
    except ValueError:
        if not any(c.isalpha() for c in text):
            x0 = x1 = y0 = y1 = -1.0
        else:
            return None
    if not all(0 <= v <= 1 for v in (x0, y0, x1, y1)):
        raise fail("write --area as four shares, for example 0.1,0.1,0.4,0.3.")
    return x0, y0, x1, y1


def match(
    files: Annotated[list[Path], typer.Argument(help="Raw or finished files.", metavar="FILE...")],
    reference: Annotated[Path, typer.Option(help="The file whose area the others are brought to.")],
    area: Annotated[
        str | None,
        typer.Option(
            help="An area of the settings by its name; or x0,y0,x1,y1 in shares of the upright reference, found again in the others."
        ),
    ] = None,
    backdrop: Annotated[bool, typer.Option("--backdrop", help="The even area along the border (the default).")] = False,
    face: Annotated[bool, typer.Option("--face", help="The skin of the largest face.")] = False,
    chart: Annotated[bool, typer.Option("--chart", help="The grey patch of a colour chart.")] = False,
    card: Annotated[bool, typer.Option("--card", help="A grey card.")] = False,
    tone: Annotated[bool, typer.Option("--tone", help="Contrast, black and white point, too.")] = False,
    most: Annotated[float, typer.Option(min=0.1, max=5, help="The largest change of exposure, in EV.")] = 2.0,
    what: Annotated[str, typer.Option(help="both, exposure or white.")] = "both",
    settings: Annotated[Path | None, typer.Option(help="JSON file of settings that all frames have.")] = None,
    as_json: Json = False,
) -> None:
    """Say by how much exposure and white balance of frames must move to agree with a reference."""
    from tanner.jobs.match.matching import MatchWish, Reference, matched
    from tanner.jobs.workers import Workers

    values = settings_of(settings, [])
    box = _box(area) if area else None
    if what not in ("both", "exposure", "white"):
        raise fail(f"{what} cannot be matched. There are: both, exposure, white.")
    kinds: dict[Kind, bool] = {"backdrop": backdrop, "skin": face, "chart": chart, "card": card}
    asked = [k for k, on in kinds.items() if on]
    if len(asked) + bool(area) > 1:
        raise fail("choose one area: --area, --backdrop, --face, --chart or --card.")
    kind = asked[0] if asked else AREA + area if area and box is None else "backdrop"
    start = Reference(str(reference), values, True, box, kind, tone=tone, most=most)
    failed = False
    with Workers(min(2, len(files))) as workers:
        jobs = [workers.submit(matched, start, MatchWish(str(f), values, rules=True), what) for f in files]
        for file, job in zip(files, jobs, strict=True):
            try:
                done = job.result()
            except TannerError as error:
                failed = True
                say(named(file, error))
                if as_json:
                    typer.echo(json.dumps({"path": str(file), "error": str(error)}))
                continue
            if as_json:
                typer.echo(json.dumps({"path": str(file), **done}))
                continue
            typer.echo(
                f"{file.name}  {done['ev']:+.2f} EV  {done['mired']:+.0f} mired  {done['tint']:+.1f} tint  "
                f"({done['area']}, {done['confidence']:.0%} sure; {done['before']:.2f} to {done['after']:.2f})"
            )
    if failed:
        raise typer.Exit(1)
