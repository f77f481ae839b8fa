"""Choosing: frames in groups of near-alikes, what was measured on them, and a picture at once."""

from typing import Any

from fastapi import APIRouter
from fastapi.responses import RedirectResponse, Response
from pydantic import BaseModel, ConfigDict, Field
from sqlalchemy import select

from tanner.catalogue.models import Frame
from tanner.catalogue.sets import sighting
from tanner.catalogue.steps import record
from tanner.core.choosing.alike import GAP_S, UNLIKE, Near, copies, groups
from tanner.core.choosing.hints import MOVED, SHUT
from tanner.core.errors import TannerError
from tanner.jobs.tasks import HINTS, quick_preview
from tanner.web.api.common import WithServices, done, frame_of, frames_of, one_shoot
from tanner.web.api.shoots import shoot_of

router = APIRouter(prefix="/api", tags=["choosing"])


@router.get("/shoots/{shoot_id}/choosing")
def choosing(shoot_id: int, services: WithServices, gap_s: float = GAP_S, unlike: float = UNLIKE) -> dict[str, Any]:
    """Frames of a shoot in groups of near-alikes, in order of time.

    Args:
        gap_s, unlike: how far neighbours of a group may be apart, see `core.choosing.alike`.
    """
    with services.catalogue.read() as session:
        name = shoot_of(session, shoot_id).name
        query = select(Frame).where(Frame.shoot_id == shoot_id, Frame.alternate == 0)
        frames = {f.id: f for f in session.scalars(query)}
        sightings = {i: sighting(f) for i, f in frames.items()}
        found = groups(list(sightings.values()), Near(min(max(gap_s, 0.0), 86400.0), min(max(unlike, 0.0), 1.0)))
        doubled: dict[int, int] = {}
        for group in found:
            doubled |= copies([sightings[i] for i in group])
        rows = [_row(frames[i], doubled) for group in found for i in group]
    return {"name": name, "frames": rows, "groups": found, "moved": MOVED, "shut": SHUT}


def _row(frame: Frame, doubled: dict[int, int]) -> dict[str, Any]:
    return {
        "id": frame.id,
        "name": frame.name,
        "verdict": frame.verdict,
        "stars": frame.stars,
        "label": frame.label,
        "error": frame.error,
        "taken": frame.taken.isoformat() if frame.taken else None,
        "content": frame.content[:12],
        "measured": frame.measured if frame.measured.get("by") == HINTS else None,
        "copy": doubled.get(frame.id),
    }


class OnlyThis(BaseModel):
    """One frame that is kept, and others of its group that are dropped."""

    model_config = ConfigDict(extra="forbid")
    keep: int
    drop: list[int] = Field(min_length=1, max_length=5000)


@router.post("/shoots/{shoot_id}/only-this")
def only_this(shoot_id: int, body: OnlyThis, services: WithServices) -> dict[str, Any]:
    """Keep one frame and drop others, as one step."""
    with services.catalogue.write() as session:
        kept, *dropped = frames_of(session, [body.keep, *body.drop])
        if one_shoot([kept, *dropped]) != shoot_id:
            raise TannerError("These frames are of another shoot.")
        changes = [(kept, {"verdict": "keep"}), *((f, {"verdict": "drop"}) for f in dropped)]
        return done(record(session, shoot_id, f"{kept.name} kept, not the others of its group", changes))


class ChosenFrames(BaseModel):
    model_config = ConfigDict(extra="forbid")
    frames: list[int] = Field(max_length=200)


@router.post("/shoots/{shoot_id}/hints")
def hints(shoot_id: int, body: ChosenFrames, services: WithServices) -> dict[str, Any]:
    """What was measured on these frames so far; those that are missing are measured, the nearest first."""
    left = services.hinting.want(body.frames)
    with services.catalogue.read() as session:
        query = select(Frame.id, Frame.measured).where(Frame.shoot_id == shoot_id, Frame.id.in_(body.frames))
        found = {i: m for i, m in session.execute(query).all() if m.get("by") == HINTS}
    return {"measured": found, "left": left}


@router.get("/frames/{frame_id}/quick", response_model=None)
def quick(frame_id: int, services: WithServices) -> Response:
    """The camera's own picture where the file holds a large one, else the picture of the Sheet: there at once."""
    with services.catalogue.read() as session:
        path = frame_of(session, frame_id).path
    data = quick_preview(path)
    if data is None:
        return RedirectResponse(f"/api/frames/{frame_id}/picture", 302)
    return Response(data, media_type="image/jpeg", headers={"cache-control": "private, max-age=86400"})
