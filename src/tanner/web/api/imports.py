"""The Import page's data: folders, the files in them, which are in already, the running job."""

from functools import lru_cache
from pathlib import Path
from typing import Any

from fastapi import APIRouter
from fastapi.responses import Response
from pydantic import BaseModel, ConfigDict, Field, ValidationError
from sqlalchemy import select

from tanner.catalogue.importing import FoundFile, find_files, find_others, known_contents, shots
from tanner.catalogue.models import Shoot
from tanner.catalogue.originals import stamp_of
from tanner.core.errors import FileError, NotAllowed, TannerError
from tanner.core.output.files import file_hash
from tanner.core.output.naming import TakenNames
from tanner.core.raw.facts import FrameFacts
from tanner.core.raw.reader import read
from tanner.jobs.bring_in.cards import cards
from tanner.jobs.bring_in.recipe import Recipe, check_folders, check_room
from tanner.jobs.tasks import file_preview
from tanner.web.api.common import WithServices
from tanner.web.api.shoots import shoot_of
from tanner.web.serving.services import Services

router = APIRouter(prefix="/api", tags=["import"])


class Start(Recipe):
    """Files to bring in and how; `copy_to` empty takes them where they lie. `extra`: sound, video and notes to copy along."""

    files: list[str] = Field(min_length=1, max_length=20_000)
    extra: list[str] = Field(default=[], max_length=20_000)

    @property
    def recipe(self) -> Recipe:
        return Recipe.model_validate(self.model_dump(exclude={"files", "extra"}))


@router.get("/folders")
def folders(services: WithServices, path: str = "") -> dict[str, Any]:
    """Folders and pictures in a folder that is open to Tanner."""
    return services.folders.listing(path)


@router.get("/shoots/{shoot_id}/found")
def found(shoot_id: int, path: str, services: WithServices) -> dict[str, Any]:
    """The pictures below a folder, raw files with their companions, and what else lies there.

    Which are in already is asked file by file, as it takes reading them.
    """
    folder = services.folders.allow(path)
    pictures = find_files(folder)

    def row(file: FoundFile) -> dict[str, Any]:
        return {
            "path": str(file.path),
            "name": file.path.name,
            "under": str(file.path.parent.relative_to(folder)),
            "bytes": file.bytes,
            "when": file.when,
            "companions": [p.name for p in file.companions],
        }

    return {
        "folder": str(folder),
        "card": any(part == "DCIM" for part in folder.parts) or (folder / "DCIM").is_dir(),
        "files": [row(f) for f in shots(pictures)],
        "apart": [row(f) for f in pictures],
        "others": [row(f) for f in find_others(folder)],
    }


@router.get("/cards")
def cards_now(services: WithServices) -> dict[str, Any]:
    """Cards of cameras that are plugged in now, in opened folders and where the system shows media."""
    return {"cards": cards(services.folders.roots)}


class Card(BaseModel):
    model_config = ConfigDict(extra="forbid")
    path: str = Field(min_length=1, max_length=2000)


@router.post("/cards/open")
def open_card(body: Card, services: WithServices) -> dict[str, Any]:
    """Open the folder of a card that is plugged in, until Tanner ends; nothing else can be opened so."""
    there = next((c for c in cards(services.folders.roots) if c["path"] == body.path), None)
    if there is None:
        raise TannerError("This card is no longer there. Plug it in again.")
    if not there["opened"]:
        services.folders.roots.append(Path(body.path))
    return {"path": body.path}


@router.get("/import/picture", response_model=None)
def import_picture(path: str, services: WithServices, large: bool = False) -> Response:
    """The picture that is in a file, before anything is brought in: small, or as large as it is there."""
    file = services.folders.allow(path)
    data = file_preview(str(file), large)
    if data is None:
        return Response(status_code=404, headers={"cache-control": "no-store"})
    return Response(data, media_type="image/jpeg", headers={"cache-control": "private, max-age=3600"})


@lru_cache(maxsize=20_000)
def _facts(path: str, stamp: str) -> FrameFacts | None:
    """What a file says of itself, remembered while it stays the same."""
    try:
        return read(Path(path), pixels=False).facts
    except TannerError:
        return None


@router.post("/shoots/{shoot_id}/import/plan")
def plan(shoot_id: int, body: Start, services: WithServices) -> dict[str, Any]:
    """Where every file would go and under which name, names that clash, and whether there is room; nothing is written."""
    with services.catalogue.read() as session:
        shoot = shoot_of(session, shoot_id).name
    _allowed(body, services)
    recipe, taken = body.recipe, TakenNames()
    rows = []
    for number, text in enumerate(body.files, 1):
        path = services.folders.allow(text)
        facts = _facts(str(path), stamp_of(path)) if recipe.needs_facts else None
        values = recipe.values(path, facts, number, shoot)
        wanted = str(recipe.target(path, values))
        target = taken.free(wanted, there=True)
        taken.add([target])
        clash = "" if target == wanted else "another file is called so: it gets a number"
        rows.append({"name": path.name, "target": target, "clash": clash, "remarks": recipe.remarks(values)})
    trouble = ""
    try:
        check_room(recipe, [Path(f) for f in (*body.files, *body.extra)])
    except TannerError as error:
        trouble = str(error)
    return {"rows": rows, "trouble": trouble}


@router.get("/shoots/{shoot_id}/recipe")
def recipe_of(shoot_id: int, services: WithServices) -> dict[str, Any]:
    """How files came into this shoot last; a new shoot's is that of the newest that has one."""
    with services.catalogue.read() as session:
        own = shoot_of(session, shoot_id).recipe
        if not own:
            query = select(Shoot.recipe).where(Shoot.recipe != {}).order_by(Shoot.created.desc()).limit(1)
            own = session.scalar(query) or {}
    try:
        return {"recipe": Recipe.model_validate(own).model_dump()}
    except ValidationError:  # of another version
        return {"recipe": Recipe().model_dump()}


def _allowed(body: Recipe, services: Services) -> None:
    for folder in filter(None, (body.copy_to, body.second)):
        services.folders.allow(folder)


class FilesAsked(BaseModel):
    model_config = ConfigDict(extra="forbid")
    files: list[str] = Field(max_length=200)


@router.post("/shoots/{shoot_id}/known")
def known(shoot_id: int, body: FilesAsked, services: WithServices) -> dict[str, Any]:
    """For files: the name under which their content is in already; None when it is not."""
    with services.catalogue.read() as session:
        contents = known_contents(session, shoot_id)
    result: dict[str, Any] = {}
    for text in body.files:
        try:
            result[text] = {"in": contents.get(file_hash(services.folders.allow(text)))}
        except NotAllowed:
            raise
        except FileError as error:
            result[text] = {"in": None, "error": error.reason}
    return {"files": result}


@router.post("/shoots/{shoot_id}/import")
def start(shoot_id: int, body: Start, services: WithServices) -> dict[str, Any]:
    """Begin to bring files in; a job that is asked for by its number. How is kept with the shoot for next time."""
    paths = [services.folders.allow(f) for f in body.files]
    others = [services.folders.allow(f) for f in body.extra]
    _allowed(body, services)
    recipe = body.recipe
    check_folders(recipe, [*paths, *others])
    check_room(recipe, [*paths, *others])
    with services.catalogue.write() as session:
        shoot_of(session, shoot_id).recipe = recipe.model_dump()
    return {"job": services.importer.start(shoot_id, paths, recipe, others)}


@router.get("/imports/{job_id}")
def progress(job_id: int, services: WithServices, since: int = 0) -> dict[str, Any]:
    """How far an import is, and the files whose state changed after `since`, which an answer's `at` is for the next."""
    job = services.importer.jobs.get(job_id)
    if job is None:
        raise TannerError("This import is no longer known. What it brought in is in the Sheet.")
    return {**job.as_dict(max(since, 0)), "pending": services.pictures.pending}


@router.post("/imports/{job_id}/cancel")
def cancel(job_id: int, services: WithServices) -> dict[str, Any]:
    """End an import; what is in stays."""
    job = services.importer.jobs.get(job_id)
    if job:
        job.cancelled.set()
    return {"cancelled": job is not None}
