"""`tanner deliver`: frames of a shoot through output specs, without a browser."""

import json
import time
from pathlib import Path
from typing import Annotated, Any

import typer

from tanner.cli.common import DATA, DataFolder, Json, say
from tanner.core.errors import TannerError

KINDS = ("contact", "order", "table", "record", "checksums", "zip")


def deliver(
    shoot: Annotated[str, typer.Option(help="Name of the shoot.")],
    spec: Annotated[list[str], typer.Option(help="Title of an output spec, or its file; may be given again.")],
    to: Annotated[Path | None, typer.Option(help="Folder for the finished files; needed unless --dry-run.")] = None,
    filter_: Annotated[
        str, typer.Option("--filter", metavar="EXPR", help="For example: keep and stars>=3, or set:lamp.")
    ] = "not drop",
    text: Annotated[str, typer.Option(help="Text for {text} in names.")] = "",
    start: Annotated[int, typer.Option(min=0, help="First number for {number}.")] = 1,
    document: Annotated[
        list[str] | None, typer.Option(help="contact, order, table, record, checksums or zip; may be given again.")
    ] = None,
    dry_run: Annotated[bool, typer.Option("--dry-run", help="Say what would be written, and write nothing.")] = False,
    dask: Annotated[
        str, typer.Option(help="Dask cluster that does the work, as tcp://host:8786.", envvar="TANNER_DASK")
    ] = "",
    map_: Annotated[
        list[str] | None, typer.Option("--map", metavar="HERE=THERE", help="A folder as the cluster's workers call it.")
    ] = None,
    data: DataFolder = DATA,
    as_json: Json = False,
) -> None:
    """Write frames of a shoot through output specs."""
    from sqlalchemy import select

    from tanner.catalogue.library import Library
    from tanner.catalogue.models import Shoot
    from tanner.catalogue.search.find import take
    from tanner.catalogue.search.language import parse
    from tanner.catalogue.store import Catalogue
    from tanner.core.colour.profile_store import PROFILE_STORE
    from tanner.core.noise.kept import KEPT
    from tanner.core.noise.table import TABLE
    from tanner.core.output.spec import OutputSpec, read_spec
    from tanner.jobs.cluster import Cluster, parse_mapping
    from tanner.jobs.delivery.deliveries import Deliveries
    from tanner.jobs.delivery.documents import Documents
    from tanner.jobs.delivery.planning import plan
    from tanner.jobs.workers import Workers

    folder = data.expanduser()
    if not (folder / "catalogue.sqlite").exists():
        raise TannerError(f"{folder}: there is no catalogue.")
    unknown = set(document or []) - set(KINDS)
    if unknown:
        raise TannerError(f"There is no document {', '.join(sorted(unknown))}. There are: {', '.join(KINDS)}.")
    if to is None and not dry_run:
        raise TannerError("Say where to: --to FOLDER. Or look first: --dry-run.")
    library = Library(folder)
    specs = [_spec(name, library.specs()[0], read_spec, OutputSpec) for name in spec]
    parse(filter_)
    catalogue = Catalogue(folder)
    try:
        with catalogue.read() as session:
            found = session.scalars(select(Shoot).where(Shoot.name == shoot)).first()
            if found is None:
                raise TannerError(f"There is no shoot called {shoot}.")
            frames = take(session, found.id, filter_)
            if not frames:
                raise TannerError(f"No frame of {shoot} is taken by the filter {filter_}.")
            if dry_run:
                target = (to or Path()).absolute()
                for row in plan(session, found.id, frames, specs, target, text, start):
                    row.pop("settings")
                    row["spec"] = specs[row["spec"]].title
                    _say(row, as_json)
                return
            shoot_id, ids = found.id, [f.id for f in frames]
        assert to is not None
        # Before the first worker starts: it takes the folders over.
        PROFILE_STORE.folders, KEPT.folder, TABLE.file = (
            [catalogue.profiles.folder],
            folder / "quiet",
            folder / "noise.json",
        )
        workers = Cluster(dask, parse_mapping(map_ or [])) if dask else Workers(2)
        deliveries = Deliveries(catalogue, workers)
        try:
            documents = Documents.model_validate(dict.fromkeys(document or [], True))
            number = deliveries.create(shoot_id, ids, specs, to.absolute(), text=text, start=start, documents=documents)
            failed = _follow(deliveries, catalogue, number, [s.title for s in specs], as_json)
        finally:
            deliveries.close()
            workers.shutdown()
    finally:
        catalogue.close()
    if failed:
        raise typer.Exit(1)


def _spec(name: str, known: Any, read: Any, kind: Any) -> Any:
    """A spec by its title, its key, or its file."""
    if name.endswith(".json"):
        return read(Path(name))
    for key, spec in known.items():
        if name.casefold() in (spec.title.casefold(), key, key.rpartition("/")[2]):
            return spec
    raise TannerError(f"There is no output spec {name}. There are: {', '.join(s.title for s in known.values())}.")


def _follow(deliveries: Any, catalogue: Any, number: int, titles: list[str], as_json: bool) -> bool:
    """Print files as they are done; whether some failed."""
    since, failed = -1, False
    said: set[int] = set()
    while True:
        with catalogue.read() as session:
            now = deliveries.progress.report(session, number, since)
        since = now["counter"]
        for item in now["items"]:
            if item["state"] in ("done", "failed", "skipped") and item["id"] not in said:
                said.add(item["id"])
                failed |= item["state"] == "failed"
                _say({**item, "spec": titles[item["spec"]]}, as_json)
        if now["state"] in ("done", "paused", "cancelled"):
            break
        time.sleep(0.2)
    for document in now["documents"]:
        failed |= "error" in document
        _say(document, as_json)
    return failed


def _say(row: dict[str, Any], as_json: bool) -> None:
    if as_json:
        typer.echo(json.dumps(row))
    elif "notes" in row:
        notes = f"  ({'; '.join(row['notes'])})" if row["notes"] else ""
        typer.echo(f"{row['target']}  {row['width']} × {row['height']} px{notes}")
    elif "error" in row:
        say(row["error"])
    elif row.get("state") == "failed":
        say(f"{row['original']}, {row['spec']}: {row['message']}")
    elif row.get("state") == "skipped":
        typer.echo(f"{row['path']}  left out")
    elif "state" in row:
        typer.echo(f"{row['path']}  {row['width']} × {row['height']} px")
    else:
        typer.echo(row["path"])
