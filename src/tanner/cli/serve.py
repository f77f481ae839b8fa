"""`tanner serve`: Tanner in the browser."""

import gc
from pathlib import Path
from typing import TYPE_CHECKING, Annotated

import typer

from tanner.cli.common import DATA, DataFolder, fail

if TYPE_CHECKING:
    from tanner.jobs.making import ShootPlan


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
    studio: Annotated[
        Path | None, typer.Option(help="Folder of the demo, whose second shoot is made while Tanner runs.")
    ] = None,
    language: Annotated[
        str, typer.Option(help="Language of the pages: its code, or a .po file of your own.", envvar="TANNER_LANGUAGE")
    ] = "",
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
    # Nothing that is loaded is garbage: looking for some on the way is a tenth of the start.
    gc.disable()
    from tanner.jobs.cluster import parse_mapping
    from tanner.web.serving.serve import run

    if studio is not None and not studio.expanduser().is_dir():
        raise fail(f"there is no demo in {studio}; make it with: tanner studio demo --into {studio}")

    def planned() -> "ShootPlan":
        from tanner.studio.series import plan_of

        assert studio is not None
        return plan_of(studio.expanduser())

    run(
        data.expanduser(),
        folder or [Path.home()],
        port,
        language=language,
        dask=dask,
        mapping=parse_mapping(map_ or []),
        planned=planned if studio is not None else None,
    )
