"""`tanner catalogue check|backup|restore|compact` and `tanner import`."""

import json
from pathlib import Path
from typing import Annotated

import typer

from tanner.cli.common import DATA, FAILED, DataFolder, Json, fail, say


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
        raise fail(f"there is no catalogue in {folder}.", FAILED)
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


def back_up(data: DataFolder = DATA) -> None:
    """Write a backup of the catalogue now, whole and checked, also while Tanner runs."""
    from tanner.catalogue import health

    made = health.back_up(_there(data), every_s=0)
    trouble = health.fault(made) if made else "could not be written"
    if made is None or trouble:
        raise fail(f"the backup {trouble}.", FAILED)
    typer.echo(f"{made}  {made.stat().st_size / 1e6:.1f} MB, checked.")


def restore(data: DataFolder = DATA) -> None:
    """Set a damaged catalogue aside and put the newest good backup in its place."""
    from tanner.catalogue import health
    from tanner.catalogue.lock import FolderLock

    folder = data.expanduser()
    lock = FolderLock(folder)
    try:
        typer.echo(health.restore(folder))
    finally:
        lock.release()


def compact(data: DataFolder = DATA) -> None:
    """Give the room back that deleted things left in the catalogue, and its indexes their order."""
    from tanner.catalogue import health
    from tanner.catalogue.lock import FolderLock

    folder = _there(data)
    lock = FolderLock(folder)
    try:
        before, after = health.compact(folder)
    finally:
        lock.release()
    typer.echo(f"{before / 1e6:.1f} MB before, {after / 1e6:.1f} MB now.")


def _there(data: Path) -> Path:
    from tanner.catalogue import health

    folder = data.expanduser()
    if not (folder / health.NAME).exists():
        raise fail(f"there is no catalogue in {folder}.", FAILED)
    return folder


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
    from tanner.jobs.bring_in.imports import import_now

    paths: list[Path] = []
    for path in files:
        paths += [f.path for f in find_files(path)] if path.is_dir() else [path.absolute()]
    if not paths:
        raise fail("there are no pictures in these folders.", FAILED)
    to = copy_to.absolute() if copy_to else None
    job = import_now(data.expanduser(), shoot, paths, to, keyword or [], rules=rules)
    for item in job.items:
        if as_json:
            typer.echo(json.dumps(item.as_dict()))
        elif item.state == "failed":
            say(f"{item.path.name}: {item.message}")
        else:
            said = "brought in" if item.state == "in" else item.message
            typer.echo(f"{item.path.name}  {said}{'; ' + item.message if item.state == 'in' and item.message else ''}")
    if job.ruled and not as_json:
        typer.echo(job.ruled)
    if any(i.state == "failed" for i in job.items):
        raise typer.Exit(1)
