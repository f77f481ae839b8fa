"""`tanner import`: files into a shoot, where they lie or as checked copies."""

import json
from pathlib import Path
from typing import Annotated

import typer

from tanner.cli.common import DATA, FAILED, DataFolder, Json, fail, say


def import_files(
    files: Annotated[list[Path], typer.Argument(help="Files, or folders with files.", metavar="FILE...")],
    shoot: Annotated[str, typer.Option(help="Name of the shoot; made when there is none of that name.")],
    copy_to: Annotated[Path | None, typer.Option(help="Copy them here, each copy compared with its original.")] = None,
    folder: Annotated[str, typer.Option(help="Folder below it, with tokens: {year}/{date}.")] = "",
    name: Annotated[str, typer.Option(help="Names of the copies, with tokens: {date}_{number:4}.")] = "{name}",
    second: Annotated[Path | None, typer.Option(help="A second, checked copy here, on another drive best.")] = None,
    companions: Annotated[
        str, typer.Option(help="Pictures beside raw files: copied with them; raw: left; apart: frames of their own.")
    ] = "with",
    others: Annotated[bool, typer.Option("--others", help="Copy sound, video and notes along.")] = False,
    keyword: Annotated[list[str] | None, typer.Option(help="Keyword; may be given again.")] = None,
    rules: Annotated[bool, typer.Option("--rules", help="Put presets on by the rules that are kept.")] = False,
    data: DataFolder = DATA,
    as_json: Json = False,
) -> None:
    """Bring files into a shoot, where they lie or as checked copies."""
    from pydantic import ValidationError

    from tanner.catalogue.importing import find_files, find_others
    from tanner.core.errors import problem
    from tanner.jobs.bring_in.imports import import_now
    from tanner.jobs.bring_in.recipe import Recipe, check_folders, check_room

    paths: list[Path] = []
    more: list[Path] = []
    for path in files:
        paths += [f.path for f in find_files(path)] if path.is_dir() else [path.absolute()]
        more += [f.path for f in find_others(path)] if others and path.is_dir() else []
    if not paths:
        raise fail("there are no pictures in these folders.", FAILED)
    given = {"folder": folder, "name": name, "companions": companions, "others": others, "rules": rules}
    places = {k: str(p.absolute()) for k, p in (("copy_to", copy_to), ("second", second)) if p}
    try:
        recipe = Recipe.model_validate({**given, **places, "keywords": keyword or []})
    except ValidationError as error:
        raise fail(problem(error.errors()[0])) from None
    check_folders(recipe, [*paths, *more])
    check_room(recipe, [*paths, *more])
    job = import_now(data.expanduser(), shoot, paths, recipe=recipe, others=more)
    for item in job.items:
        if as_json:
            typer.echo(json.dumps(item.as_dict()))
        elif item.state == "failed":
            say(f"{item.path.name}: {item.message}")
        else:
            done = {"in": "brought in", "copied": "copied"}.get(item.state)
            typer.echo(f"{item.path.name}  {'; '.join(filter(None, [done, item.message]))}")
    if job.ruled and not as_json:
        typer.echo(job.ruled)
    if any(i.state == "failed" for i in job.items):
        raise typer.Exit(1)
