"""`tanner profile`: makes and shows camera profiles from the command line."""

import json
from pathlib import Path
from typing import Annotated, Any

import typer

from tanner.cli.common import Json, fail
from tanner.core.errors import TannerError

app = typer.Typer(no_args_is_help=True, help="Camera profiles: make one from chart shots, or look into one.")


def parse_corners(text: str) -> Any:
    """Corners "x,y x,y x,y x,y" in shares of the upright picture, clockwise from the chart's top left."""
    import numpy as np

    try:
        values = np.array([[float(v) for v in pair.split(",")] for pair in text.replace(";", " ").split()])
    except ValueError:
        values = np.zeros(0)
    if values.shape != (4, 2) or (values < 0).any() or (values > 1).any():
        raise fail("--corners wants four points such as 0.2,0.2 0.8,0.2 0.8,0.8 0.2,0.8 (shares of the picture)")
    return values


@app.command()
def make(
    charts: Annotated[
        list[Path], typer.Argument(help="One chart shot, or two under two lights.", metavar="CHART [CHART2]")
    ],
    output: Annotated[Path, typer.Option("-o", "--output", help="The profile to write.")],
    light: Annotated[str, typer.Option(help="Light of the first shot: A, D50, D55, D65, D75, 4100K, LED-B3 …")] = "D55",
    light2: Annotated[str, typer.Option(help="Light of the second shot.")] = "A",
    table: Annotated[bool, typer.Option("--table", help="Add a smooth hue and saturation table.")] = False,
    corners: Annotated[str | None, typer.Option(help="Corners of the first chart by hand.")] = None,
    corners2: Annotated[str | None, typer.Option(help="Corners of the second chart by hand.")] = None,
    chart: Annotated[Path | None, typer.Option(help="A chart of your own as a CGATS.17 text file.")] = None,
    chart_set: Annotated[
        str,
        typer.Option(
            help="A published set of the 24 patches: ohta, average, iso, 1976, 2005, before-2014, after-2014. Empty: what fits best."
        ),
    ] = "",
    aim: Annotated[
        str,
        typer.Option(
            help="published: the chart's published colours, the same under every light. seen: as an eye sees them under the light."
        ),
    ] = "published",
    name: Annotated[str | None, typer.Option(help="The profile's name.")] = None,
    replace: Annotated[bool, typer.Option("--replace", help="Write over a profile of that name.")] = False,
    as_json: Json = False,
) -> None:
    """Make a camera profile from a shot of a colour chart, or from two."""
    from tanner.core.colour.dcp import write_dcp
    from tanner.core.output.files import write_whole
    from tanner.core.profile.chart import published24, read_cgats
    from tanner.core.profile.make import Shot, make_profile
    from tanner.core.raw.reader import read

    if output.suffix.lower() != ".dcp":
        raise fail("the profile's name ends in .dcp")
    if output.exists() and not replace:
        raise fail(f"{output} is there already; choose another name or give --replace", 1)
    if len(charts) > 2:
        raise fail("a profile is made from one chart shot, or from two")
    if aim not in ("published", "seen"):
        raise fail("--aim is published or seen")
    by_hand = [parse_corners(c) if c else None for c in (corners, corners2)]
    try:
        shots = [Shot(read(p), n, c) for p, n, c in zip(charts, (light, light2), by_hand, strict=False)]
        target = read_cgats(chart) if chart else published24(chart_set) if chart_set else None
        made = make_profile(
            shots, name or output.stem, target, table=table, aim="seen" if aim == "seen" else "published"
        )
        write_whole(output, write_dcp(made.profile), replace=replace)
    except TannerError as error:
        raise fail(str(error), 1) from None
    if as_json:
        typer.echo(json.dumps({"path": str(output), **made.report}))
        return
    typer.echo(f"{output}: {made.report['camera']}, {made.report['chart']}")
    for found in made.report["sets"]:
        typer.echo(f"  {found['title']}: {found['mean']:.2f} by a plain matrix")
    for part in made.report["lights"]:
        typer.echo(f"  {part['light']}, {part['kelvin']} K: {part['used']} patches, CIEDE2000 mean / 95 % / maximum")
        for what, label in (
            ("before", "by the file's matrix"),
            ("after", "by this profile"),
            ("leave_one_out", "leaving one out"),
        ):
            f = part[what]
            typer.echo(f"    {label:22} {f['mean']:.2f} / {f['p95']:.2f} / {f['max']:.2f}")
        for patch in part["patches"]:
            if patch["refused"]:
                typer.echo(f"    left out: {patch['name']} ({patch['refused']})")


@app.command()
def show(profile: Annotated[Path, typer.Argument(metavar="FILE.dcp")], as_json: Json = False) -> None:
    """Say what a camera profile holds."""
    from tanner.core.colour.profile_store import load

    try:
        found = load(profile)
    except TannerError as error:
        raise fail(str(error), 1) from None
    facts = describe(found)
    if as_json:
        typer.echo(json.dumps(facts))
        return
    typer.echo(f"{facts['name']}: for {facts['model'] or 'any camera'}")
    for key in ("lights", "hue_sat", "look", "curve_points", "baseline_exposure_offset", "copyright"):
        if facts[key]:
            typer.echo(f"  {key.replace('_', ' ')}: {facts[key]}")


def describe(profile: Any) -> dict[str, Any]:
    """A profile as plain data."""
    return {
        "name": profile.name,
        "model": profile.model,
        "copyright": profile.copyright,
        "lights": [
            {"code": code, "kelvin": round(kelvin)}
            for code, kelvin in zip(profile.illuminants, profile.kelvin(), strict=True)
        ],
        "color_matrices": [m.tolist() for m in profile.colour],
        "forward_matrices": [m.tolist() for m in profile.forward],
        "reduction_matrices": [m.tolist() for m in profile.reduction],
        "hue_sat": [
            {"size": list(t.cells.shape[:3]), "encoding": "sRGB" if t.srgb else "linear"} for t in profile.hue_sat
        ],
        "look": {"size": list(profile.look.cells.shape[:3]), "encoding": "sRGB" if profile.look.srgb else "linear"}
        if profile.look
        else None,
        "curve_points": 0 if profile.curve is None else len(profile.curve),
        "baseline_exposure_offset": profile.baseline,
        "default_black_render": profile.black,
        "embed_policy": profile.policy,
    }
