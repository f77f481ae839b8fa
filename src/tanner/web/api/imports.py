"""The Import page's data: folders, the files in them, which are in already, the running job."""

from pathlib import Path
from typing import Any

from fastapi import APIRouter
from pydantic import BaseModel, ConfigDict, Field

from tanner.catalogue.importing import find_files, known_contents
from tanner.core.errors import FileError, NotAllowed, TannerError
from tanner.core.output.files import file_hash
from tanner.web.api.common import WithServices

router = APIRouter(prefix="/api", tags=["import"])


class Start(BaseModel):
    """Files to bring in; `copy_to` empty takes them where they lie."""

    model_config = ConfigDict(extra="forbid")
    files: list[str] = Field(min_length=1, max_length=20_000)
    copy_to: str = ""
    keywords: list[str] = Field(default=[], max_length=50)
    rules: bool = False


@router.get("/folders")
def folders(services: WithServices, path: str = "") -> dict[str, Any]:
    """Folders and pictures in a folder that is open to Tanner."""
    return services.folders.listing(path)


@router.get("/shoots/{shoot_id}/found")
def found(shoot_id: int, path: str, services: WithServices) -> dict[str, Any]:
    """The pictures below a folder. Which are in already is asked file by file, as it takes reading them."""
    folder = services.folders.allow(path)
    files = find_files(folder)
    return {
        "folder": str(folder),
        "card": any(part == "DCIM" for part in folder.parts) or (folder / "DCIM").is_dir(),
        "files": [
            {
                "path": str(f.path),
                "name": f.path.name,
                "under": str(f.path.parent.relative_to(folder)),
                "bytes": f.bytes,
            }
            for f in files
        ],
    }


class Check(BaseModel):
    model_config = ConfigDict(extra="forbid")
    files: list[str] = Field(max_length=200)


@router.post("/shoots/{shoot_id}/known")
def known(shoot_id: int, body: Check, services: WithServices) -> dict[str, Any]:
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
    """Begin to bring files in; a job that is asked for by its number."""
    paths = [services.folders.allow(f) for f in body.files]
    copy_to: Path | None = None
    if body.copy_to:
        copy_to = services.folders.allow(body.copy_to)
        if any(copy_to == p.parent for p in paths):
            raise TannerError("Files cannot be copied to where they lie. Choose another folder.")
    return {"job": services.importer.start(shoot_id, paths, copy_to, body.keywords, body.rules)}


@router.get("/imports/{job_id}")
def progress(job_id: int, services: WithServices) -> dict[str, Any]:
    """How far an import is, file by file."""
    job = services.importer.jobs.get(job_id)
    if job is None:
        raise TannerError("This import is no longer known. What it brought in is in the Sheet.")
    return {**job.as_dict(), "pending": services.pictures.pending}


@router.post("/imports/{job_id}/cancel")
def cancel(job_id: int, services: WithServices) -> dict[str, Any]:
    """End an import; what is in stays."""
    job = services.importer.jobs.get(job_id)
    if job:
        job.cancelled.set()
    return {"cancelled": job is not None}
