"""`tanner catalogue check|backup|restore|compact`."""

import json
import sqlite3
from pathlib import Path
from typing import Annotated

import typer

from tanner.cli.common import DATA, FAILED, DataFolder, Json, fail


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

    try:
        made = health.back_up(_there(data), every_s=0)
    except (OSError, sqlite3.Error) as error:
        raise fail(f"the backup could not be made ({error}).", FAILED) from None
    assert made is not None
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
