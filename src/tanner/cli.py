"""The command line: the same core without a browser."""

import json
import sys
from pathlib import Path
from typing import Annotated, Any

import typer

from tanner import deliver_cli, lens_cli, lineup_cli, match_cli, noise_cli, profile_cli
from tanner.core.errors import FormatError, SettingsError, TannerError

app = typer.Typer(
    add_completion=False,
    no_args_is_help=True,
    pretty_exceptions_enable=False,
    help="Develops a series of raw files consistently.",
)
studio = typer.Typer(no_args_is_help=True, help="The simulated studio: camera, card and demo shoot.")
app.add_typer(studio, name="studio")
catalogue = typer.Typer(no_args_is_help=True, help="The catalogue itself: is it whole, are the originals?")
app.add_typer(catalogue, name="catalogue")
app.add_typer(profile_cli.app, name="profile")
app.add_typer(lens_cli.app, name="lens")
app.command()(deliver_cli.deliver)
app.command()(noise_cli.denoise)
app.command()(match_cli.match)
app.command()(lineup_cli.lineup)

Files = Annotated[list[Path], typer.Argument(help="Raw or finished files.", metavar="FILE...")]
Json = Annotated[bool, typer.Option("--json", help="Print one JSON object a line.")]


def _fail(message: str, code: int = 2) -> typer.Exit:
    typer.echo(f"tanner: {message}", err=True)
    return typer.Exit(code)


def _nested(values: dict[str, Any]) -> dict[str, Any]:
    """Settings may be flat ({"light.exposure": 1}) or by group ({"light": {"exposure": 1}})."""
    flat: dict[str, Any] = {}
    for key, value in values.items():
        if isinstance(value, dict):
            flat |= {f"{key}.{k}": v for k, v in value.items()}
        else:
            flat[key] = value
    return flat


def _settings(settings: Path | None, given: list[str]) -> dict[str, Any]:
    from tanner.core.adjust.registry import check_names, declared, develop

    result: dict[str, Any] = {}
    if settings:
        try:
            data = json.loads(settings.read_bytes())
        except (OSError, ValueError) as error:
            raise FormatError(f"{settings.name}: cannot be read ({error}).") from None
        if not isinstance(data, dict):
            raise FormatError(f"{settings.name}: settings are a JSON object.")
        result |= _nested(data)
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


@app.command()
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


@app.command()
def info(files: Files, as_json: Json = False) -> None:
    """Say what is known about files."""
    from tanner.jobs.tasks import read_facts
    from tanner.jobs.workers import Workers

    failed = False
    with Workers(1, time_limit_s=60) as workers:
        for path in files:
            try:
                facts = workers.submit(read_facts, str(path)).result()
            except TannerError as error:
                failed = True
                typer.echo(f"tanner: {_named(path, error)}", err=True)
                if as_json:
                    typer.echo(json.dumps({"path": str(path), "error": _named(path, error)}))
                continue
            if as_json:
                typer.echo(json.dumps(facts))
            else:
                typer.echo(_about(facts))
    if failed:
        raise typer.Exit(1)


def _named(path: Path, error: Exception) -> str:
    text = str(error)
    return text if text.startswith(path.name) else f"{path.name}: {text}"


def _about(facts: dict[str, Any]) -> str:
    exposure = facts["exposure_s"]
    shutter = f"1/{1 / exposure:.0f} s" if exposure and exposure < 0.5 else f"{exposure} s"
    lines = [
        f"{Path(facts['path']).name}: {facts['width']} × {facts['height']} px, {facts['mosaic'] or 'finished picture'}",
        f"  camera {facts['make']} {facts['model']}, lens {facts['lens'] or 'unknown'}",
        f"  {facts['focal_length_mm'] or '?'} mm, f/{facts['aperture'] or '?'}, {shutter}, ISO {facts['iso'] or '?'}",
        f"  colour: {len(facts['colour_matrices'])} matrices, {len(facts['forward_matrices'])} forward",
        f"  lens corrections: {facts['lens_source'] or 'none found'}",
    ]
    return "\n".join([*lines, *(f"  note: {w}" for w in facts["warnings"])])


@app.command()
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
    exists: Annotated[str, typer.Option(help="A taken name: number, skip or replace.")] = "number",
    profile: Annotated[Path | None, typer.Option(help="Camera profile (.dcp).")] = None,
    lens: Annotated[
        str | None, typer.Option(help="Lens of the database by name (see `tanner lens list`), or none.")
    ] = None,
    as_json: Json = False,
) -> None:
    """Develop files into finished ones."""
    from pydantic import ValidationError

    from tanner.core.colour.shelf import SHELF, load
    from tanner.core.output.spec import OutputSpec, explain, read_spec
    from tanner.core.series.preset import read_preset
    from tanner.jobs.tasks import develop_file
    from tanner.jobs.workers import Workers

    try:
        values = _settings(settings, set_ or [])
        wanted = read_preset(preset) if preset else None
        if lens:
            values["optics.chosen_lens"] = lens
            if lens != "none":
                for name in ("distortion", "lateral_colour", "fall_off"):
                    values.setdefault(f"optics.{name}", 100.0)
        if profile:
            load(profile)
            SHELF.add(profile.absolute().parent)
            values["profile.camera"] = profile.stem
        if spec:
            specs = [read_spec(p) for p in spec]
        else:
            plain: dict[str, Any] = {"format": format_, "space": space, "exists": exists}
            specs = [OutputSpec(size=size, quality=quality, **plain)]
    except TannerError as error:
        raise _fail(str(error)) from None
    except ValidationError as error:
        raise _fail(explain(error)) from None
    failed = False
    lanes = min(2, len(files))
    dumped = [s.model_dump() for s in specs]
    with Workers(lanes) as workers:
        jobs = [
            workers.submit(
                develop_file,
                str(p),
                values,
                dumped,
                str(to),
                threads=2 // lanes,
                tokens={"number": n},
                preset=(wanted.model_dump(), amount / 100) if wanted else None,
            )
            for n, p in enumerate(files, 1)
        ]
        for path, job in zip(files, jobs, strict=True):
            try:
                results = job.result()
            except TannerError as error:
                results = [{"file": str(path), "error": _named(path, error)}]
            for result in results:
                failed |= "error" in result
                if "error" in result:
                    typer.echo(f"tanner: {result['error']}", err=True)
                if as_json:
                    typer.echo(json.dumps(result))
                elif "error" not in result:
                    what = "left out" if result["skipped"] else f"{result['width']} × {result['height']} px"
                    typer.echo(f"{result['path']}  {what}")
    if failed:
        raise typer.Exit(1)


DataFolder = Annotated[Path, typer.Option("--data", help="Where the catalogue lies.", envvar="TANNER_DATA")]
DATA = Path("~/.local/share/tanner")


@app.command()
def serve(
    data: DataFolder = DATA,
    folder: Annotated[list[Path] | None, typer.Option(help="Folder that pages may open; may be given again.")] = None,
    port: Annotated[int, typer.Option(min=1, max=65535)] = 8470,
    dask: Annotated[
        str, typer.Option(help="Dask cluster for deliveries and noise, as tcp://host:8786.", envvar="TANNER_DASK")
    ] = "",
    map_: Annotated[
        list[str] | None, typer.Option("--map", metavar="HERE=THERE", help="A folder as its workers call it.")
    ] = None,
    restore: Annotated[
        bool, typer.Option("--restore", help="Set a damaged catalogue aside and start from its newest good backup.")
    ] = False,
) -> None:
    """Start Tanner in the browser, on this machine only."""
    if restore:
        from tanner.catalogue import health
        from tanner.catalogue.lock import FolderLock

        # Nobody else may be at it meanwhile.
        lock = FolderLock(data.expanduser())
        typer.echo(health.restore(data.expanduser()))
        lock.release()
    from tanner.jobs.cluster import parse_mapping
    from tanner.web.serve import run

    run(data.expanduser(), folder or [Path.home()], port, dask=dask, mapping=parse_mapping(map_ or []))


@catalogue.command("check")
def check_catalogue(
    data: DataFolder = DATA,
    originals: Annotated[
        bool, typer.Option("--originals", help="Read every original and compare it with the one that came in.")
    ] = False,
    as_json: Json = False,
) -> None:
    """Say whether the catalogue is whole, and with --originals whether every original is the one that came in."""
    from tanner.catalogue import health
    from tanner.catalogue.originals import check_all
    from tanner.catalogue.store import Catalogue

    folder = data.expanduser()
    health.check(folder)
    if not (folder / health.NAME).exists():
        raise _fail(f"there is no catalogue in {folder}.", 1)
    troubles = 0
    if originals:
        for frame in check_all(Catalogue(folder)):
            troubles += bool(frame["trouble"])
            if as_json:
                typer.echo(json.dumps(frame))
            elif frame["trouble"]:
                typer.echo(f"{frame['path']}: {frame['trouble']}")
    if not as_json:
        typer.echo("The catalogue is whole." + (f" {troubles} originals are not as they came in." if originals else ""))
    if troubles:
        raise typer.Exit(1)


@app.command("import")
def import_files(
    files: Annotated[list[Path], typer.Argument(help="Files, or folders with files.", metavar="FILE...")],
    shoot: Annotated[str, typer.Option(help="Name of the shoot; made when there is none of that name.")],
    copy_to: Annotated[Path | None, typer.Option(help="Copy them here, each copy compared with its original.")] = None,
    keyword: Annotated[list[str] | None, typer.Option(help="Keyword; may be given again.")] = None,
    rules: Annotated[bool, typer.Option("--rules", help="Put presets on by the rules that are kept.")] = False,
    data: DataFolder = DATA,
    as_json: Json = False,
) -> None:
    """Bring files into a shoot, where they lie or as checked copies."""
    from tanner.catalogue.importing import find_files
    from tanner.jobs.imports import import_now

    paths: list[Path] = []
    for path in files:
        paths += [f.path for f in find_files(path)] if path.is_dir() else [path.absolute()]
    if not paths:
        raise _fail("there are no pictures in these folders.", 1)
    to = copy_to.absolute() if copy_to else None
    job = import_now(data.expanduser(), shoot, paths, to, keyword or [], rules=rules)
    for item in job.items:
        if as_json:
            typer.echo(json.dumps(item.as_dict()))
        elif item.state == "failed":
            typer.echo(f"tanner: {item.path.name}: {item.message}", err=True)
        else:
            said = "brought in" if item.state == "in" else item.message
            typer.echo(f"{item.path.name}  {said}{'; ' + item.message if item.state == 'in' and item.message else ''}")
    if job.ruled and not as_json:
        typer.echo(job.ruled)
    if any(i.state == "failed" for i in job.items):
        raise typer.Exit(1)


@studio.command()
def demo(into: Annotated[Path, typer.Option(help="Folder for the demo.")] = Path("build/demo")) -> None:
    """Make the demo shoot, the simulated card and a catalogue that is half worked on."""
    from tanner.studio.demo import make_shoot
    from tanner.studio.worked import work_on

    make_shoot(into)
    work_on(into)


@studio.command()
def shoot(
    into: Annotated[Path, typer.Option(help="Folder that the camera writes to.")],
    every: Annotated[str, typer.Option(help="Time between frames, such as 5s or 0.5s.")] = "5s",
    count: Annotated[int, typer.Option(min=0, help="How many frames; 0 for the whole shoot.")] = 0,
    scene: Annotated[list[str] | None, typer.Option(help="Only scenes that begin so, such as lamp.")] = None,
) -> None:
    """Play a tethered camera: frames appear in a folder one by one, as from a device."""
    from tanner.studio.demo import drop_frames

    try:
        seconds = float(every.removesuffix("s"))
    except ValueError:
        raise _fail(f"--every is a time in seconds such as 5s, not {every!r}") from None
    if not 0 <= seconds <= 3600:
        raise _fail("--every lies between 0s and 3600s")
    written = drop_frames(into, seconds, count, scene)
    typer.echo(f"{len(written)} frames are in {into}")


def main() -> None:
    """Entry point; an error that Tanner raises is a line on stderr, not a traceback."""
    try:
        app()
    except TannerError as error:
        print(f"tanner: {error}", file=sys.stderr)
        sys.exit(1)


if __name__ == "__main__":
    main()
