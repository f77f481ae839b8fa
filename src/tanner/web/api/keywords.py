"""Keywords over all shoots: their tree, suggestions while one writes, renaming, in and out as text."""

from typing import Annotated, Any

from fastapi import APIRouter, Request
from fastapi.responses import PlainTextResponse, Response
from pydantic import BaseModel, ConfigDict, Field

from tanner.catalogue import keywords
from tanner.core.errors import FormatError
from tanner.web.api.common import WithServices, attachment, frames_of

router = APIRouter(prefix="/api", tags=["keywords"])
Name = Annotated[str, Field(min_length=1, max_length=keywords.MOST_NAME)]


class KeywordPlace(BaseModel):
    """A keyword's place in the tree; `parent` None: at its top."""

    model_config = ConfigDict(extra="forbid")
    name: Name
    parent: Name | None = None


class Also(BaseModel):
    """Other words for a keyword."""

    model_config = ConfigDict(extra="forbid")
    name: Name
    synonyms: list[str] = Field(max_length=50)


class Rename(BaseModel):
    model_config = ConfigDict(extra="forbid")
    name: Name
    to: Name


class Change(BaseModel):
    """Keywords that frames get, and keywords that they lose."""

    model_config = ConfigDict(extra="forbid")
    frames: list[int] = Field(min_length=1, max_length=20_000)
    add: list[Name] = Field(default=[], max_length=100)
    take: list[Name] = Field(default=[], max_length=100)


@router.get("/keywords")
def tree(services: WithServices) -> dict[str, Any]:
    """All keywords with their places, other words for them, and how many frames have each."""
    with services.catalogue.read() as session:
        return {"keywords": keywords.tree(session)}


@router.get("/keywords/suggest")
def suggest(services: WithServices, q: str = "", shoot: int | None = None) -> dict[str, Any]:
    """Keywords for what is being written; without anything, those that were used last in a shoot."""
    with services.catalogue.read() as session:
        last = keywords.last_used(session, shoot) if shoot is not None and not q.strip() else []
        return {"keywords": last or keywords.suggest(session, q[: keywords.MOST_NAME])}


@router.post("/keywords/change")
def change(body: Change, services: WithServices) -> dict[str, Any]:
    """Add keywords to frames, or take them away; one step in each shoot."""
    with services.catalogue.write() as session:
        actions = keywords.change(session, frames_of(session, body.frames), body.add, body.take)
        return {"done": actions[0].label if actions else None}


@router.post("/keywords/place")
def place(body: KeywordPlace, services: WithServices) -> dict[str, Any]:
    """Put a keyword under another one."""
    with services.catalogue.write() as session:
        keywords.put_under(session, body.name, body.parent)
    return {"name": body.name}


@router.post("/keywords/also")
def also(body: Also, services: WithServices) -> dict[str, Any]:
    """Say other words for a keyword."""
    with services.catalogue.write() as session:
        keywords.say_also(session, body.name, body.synonyms)
    return {"name": body.name}


@router.post("/keywords/rename")
def rename(body: Rename, services: WithServices) -> dict[str, Any]:
    """Call a keyword otherwise in all shoots; a name that is there already takes the frames of both."""
    with services.catalogue.write() as session:
        return {"shoots": len(keywords.rename(session, body.name, body.to))}


@router.post("/keywords/leave-out")
def leave_out(body: KeywordPlace, services: WithServices) -> dict[str, Any]:
    """Take a keyword out of the tree; frames keep it."""
    with services.catalogue.write() as session:
        keywords.leave_out(session, body.name)
    return {"name": body.name}


@router.get("/keywords/file", response_class=PlainTextResponse)
def as_file(services: WithServices) -> Response:
    """The tree as indented text."""
    with services.catalogue.read() as session:
        text = keywords.as_text(session)
    return PlainTextResponse(text, headers=attachment("keywords.txt"))


@router.post("/keywords/file")
async def from_file(request: Request, services: WithServices) -> dict[str, Any]:
    """Take keywords from indented text into the tree."""
    data = await request.body()
    try:
        text = data.decode("utf-8-sig")
    except UnicodeDecodeError:
        raise FormatError("This file is no text in UTF-8.") from None
    with services.catalogue.write() as session:
        return {"taken": keywords.from_text(session, text)}
