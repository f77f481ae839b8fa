"""`tanner develop`: files into finished ones, without a catalogue."""

import json
from contextlib import suppress
from pathlib import Path
from typing import TYPE_CHECKING, Annotated, Any

import typer

from tanner.cli.common import Files, Json, fail, named, say, settings_of
from tanner.core.errors import TannerError

if TYPE_CHECKING:
    from tanner.jobs.workers import Workers


def develop(
    files: Files,
    to: Annotated[Path, typer.Option(help="Folder for the finished files.")],
    settings: Annotated[Path | None, typer.Option(help="JSON file of settings.")] = None,
    set_: Annotated[list[str] | None, typer.Option("--set", metavar="GROUP.NAME=VALUE")] = None,
    preset: Annotated[Path | None, typer.Option(help="Preset file.")] = None,
    amount: Annotated[float, typer.Option(min=0, max=150, help="Amount of the preset in %.")] = 100,
    spec: Annotated[list[Path] | None, typer.Option(help="Output spec file; may be given again.")] = None,
    size: Annotated[str, typer.Option(help="original, long:N, short:N, box:WxH or percent:N.")] = "original",
    format_: Annotated[str, typer.Option("--format", help="jpeg, tiff8, tiff16 or png.")] = "jpeg",
    quality: Annotated[int, typer.Option(min=1, max=100)] = 92,
    space: Annotated[str, typer.Option(help="srgb, p3, widegamut1998 or prophoto.")] = "srgb",
    exists: Annotated[str, typer.Option(help="If the file exists: number, skip or replace.")] = "number",
    profile: Annotated[Path | None, typer.Option(help="Camera profile (.dcp).")] = None,
    lens: Annotated[
        str | None, typer.Option(help="Lens of the database by name (see `tanner lens list`), or none.")
    ] = None,
    automatic: Annotated[
        bool, typer.Option(help="Exposure, ends, contrast and saturation from the pictures, for all files together.")
    ] = False,
    spots: Annotated[str, typer.Option(help="found: specks that are found on even ground are healed.")] = "",
    as_json: Json = False,
) -> None:
    """Develop files into finished ones."""
    from pydantic import ValidationError

    from tanner.core.colour.profile_store import PROFILE_STORE, load
    from tanner.core.output.spec import OutputSpec, explain, read_spec
    from tanner.core.series.preset import read_preset
    from tanner.jobs.delivery.tasks import develop_file
    from tanner.jobs.workers import Workers

    if spots not in ("", "found"):
        raise fail(f"--spots {spots}: there is only found.")
    try:
        values = settings_of(settings, set_ or [])
        wanted = read_preset(preset) if preset else None
        if lens:
            values["optics.chosen_lens"] = lens
            if lens != "none":
                for name in ("distortion", "lateral_colour", "fall_off"):
                    values.setdefault(f"optics.{name}", 100.0)
        if profile:
            load(profile)
            PROFILE_STORE.add(profile.absolute().parent)
            values["profile.camera"] = profile.stem
        if spec:
            specs = [read_spec(p) for p in spec]
        else:
            plain: dict[str, Any] = {"format": format_, "space": space, "exists": exists}
            specs = [OutputSpec(size=size, quality=quality, **plain)]
    except TannerError as error:
        raise fail(error) from None
    except ValidationError as error:
        raise fail(explain(error)) from None
    failed = False
    processes = min(2, len(files))
    dumped = [s.model_dump() for s in specs]
    with Workers(processes) as workers:
        if automatic:
            values = {**_automatic(workers, files, values), **values}
        jobs = [
            workers.submit(
                develop_file,
                str(p),
                values,
                dumped,
                str(to),
                threads=2 // processes,
                tokens={"number": n},
                preset=(wanted.model_dump(), amount / 100) if wanted else None,
                spots=bool(spots),
            )
            for n, p in enumerate(files, 1)
        ]
        for path, job in zip(files, jobs, strict=True):
            try:
                results = job.result()
            except TannerError as error:
                results = [{"file": str(path), "error": named(path, error)}]
            for result in results:
                failed |= "error" in result
                if "error" in result:
                    say(result["error"])
                if as_json:
                    typer.echo(json.dumps(result))
                elif "error" not in result:
                    what = "left out" if result["skipped"] else f"{result['width']} × {result['height']} px"
                    typer.echo(f"{result['path']}  {what}")
    if failed:
        raise typer.Exit(1)


def _automatic(workers: "Workers", files: list[Path], values: dict[str, Any]) -> dict[str, float]:
    """What the pictures ask for, together; files that cannot be read say so when they are developed."""
    from tanner.core.series.automatic import ALL, automatic
    from tanner.jobs.measure.tasks import measured_for_automatic

    # An exposure that is given stays, and the rest is worked out with it.
    given = "light.exposure" in values
    ev = float(values["light.exposure"]) if given else 0.0
    what = [w for w in ALL if w != "white" and not (given and w == "exposure")]
    found = []
    for job in [workers.submit(measured_for_automatic, str(p), values, ev) for p in files]:
        with suppress(TannerError):
            found.append(job.result())
    return automatic(found, what) if found else {}
