"""`tanner find`: frames of all shoots by an expression."""

import json
from typing import Annotated, Any

import typer

from tanner.cli.common import DATA, FAILED, DataFolder, Json, fail


def find(
    expression: Annotated[
        str,
        typer.Argument(metavar="EXPR", help='For example: keep and stars>=3, or "lamp taken:2026-03 not delivered".'),
    ] = "",
    sort: Annotated[str, typer.Option(help="-taken, taken, name, -stars or -sharp.")] = "-taken",
    most: Annotated[int, typer.Option(help="At most so many; 0: all.", min=0)] = 0,
    archived: Annotated[bool, typer.Option("--archived", help="Look in archived shoots too.")] = False,
    paths: Annotated[bool, typer.Option("--paths", help="Print paths alone, one a line.")] = False,
    data: DataFolder = DATA,
    as_json: Json = False,
) -> None:
    """Find frames of all shoots: by words in their names, captions and keywords, and by what they are."""
    from tanner.catalogue import health
    from tanner.catalogue.models import Shoot
    from tanner.catalogue.search.find import condition, loaded, ordered
    from tanner.catalogue.store import Catalogue

    folder = data.expanduser()
    if not (folder / health.NAME).exists():
        raise fail(f"there is no catalogue in {folder}.", FAILED)
    catalogue = Catalogue(folder)
    with catalogue.read() as session:
        query = ordered(condition(expression, archived=archived), sort)
        ids = list(session.scalars(query.limit(most) if most else query))
        shoots: dict[int, Shoot] = {}
        for at in range(0, len(ids), 500):
            for frame in loaded(session, ids[at : at + 500]):
                if paths:
                    typer.echo(frame.path)
                    continue
                shoot = shoots.setdefault(frame.shoot_id, session.get_one(Shoot, frame.shoot_id))
                row: dict[str, Any] = {
                    "path": frame.path,
                    "shoot": shoot.name,
                    "taken": frame.taken.isoformat() if frame.taken else None,
                    "stars": frame.stars,
                    "label": frame.label,
                    "verdict": frame.verdict,
                    "keywords": frame.keywords,
                    "camera": frame.camera,
                    "lens": frame.lens,
                    "iso": frame.iso,
                }
                marks = " ".join(filter(None, [frame.verdict, "*" * frame.stars]))
                typer.echo(json.dumps(row) if as_json else f"{frame.path}  {shoot.name}  {marks}")
    catalogue.close()
    if not ids:
        raise typer.Exit(1)
