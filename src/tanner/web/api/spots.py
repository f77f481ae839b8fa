"""Spots of frames: found by themselves, removed, told what they hold to; everything else about them goes by their names."""

import math
from collections.abc import Sequence
from typing import Annotated, Any

from fastapi import APIRouter
from fastapi.responses import Response
from pydantic import BaseModel, ConfigDict, Field

from tanner.catalogue.development import remove_things
from tanner.catalogue.resolver import Resolver
from tanner.core.adjust.items import ID
from tanner.core.adjust.registry import develop
from tanner.core.errors import TannerError
from tanner.core.spots.apply import spots_of
from tanner.core.spots.canvas import lying
from tanner.core.spots.declare import MOST, SPOTS, SpotParts
from tanner.core.spots.find import FoundSpot, specks
from tanner.web.api.common import WithServices, done, frame_of, frames_of, one_shoot
from tanner.web.api.frames import Body
from tanner.web.viewer.spots import Shown, spot_picture

router = APIRouter(prefix="/api", tags=["spots"])
SpotId = Annotated[str, Field(pattern=f"^{ID.pattern}$")]


class SomeSpots(Body):
    spots: list[SpotId] = Field(min_length=1, max_length=MOST)


class Asked(BaseModel):
    model_config = ConfigDict(extra="forbid")
    spots: list[SpotId] = Field(min_length=1, max_length=MOST)


class FromFrame(BaseModel):
    """The frame in which the place is clean."""

    model_config = ConfigDict(extra="forbid")
    frame: int


class Find(BaseModel):
    model_config = ConfigDict(extra="forbid")
    everywhere: bool = False


@router.post("/spots/remove")
def remove(body: SomeSpots, services: WithServices) -> dict[str, Any]:
    """Remove spots from frames; a lead's own go for its set, followed ones are left out on that frame only."""
    with services.catalogue.write() as session:
        frames = frames_of(session, body.frames)
        return done(remove_things(session, Resolver(session, one_shoot(frames)), frames, SPOTS, body.spots))


@router.post("/spots/follow")
def follow(body: SomeSpots, services: WithServices) -> dict[str, Any]:
    """Look again for spots of the lead in frames that follow it, in the background."""
    with services.catalogue.read() as session:
        shoot = one_shoot(frames_of(session, body.frames))
    services.following.start(shoot, body.frames, body.spots)
    return {"done": "looking"}


@router.post("/frames/{frame_id}/spots/find")
def find(frame_id: int, body: Find, services: WithServices) -> dict[str, Any]:
    """Specks, lint and scratches of a frame, the surest first: {"path", "size", "kind", "confidence"} each."""
    with services.catalogue.read() as session:
        frame = frame_of(session, frame_id)
        path, values = frame.path, Resolver(session, frame.shoot_id).resolve(frame).values
    entry = services.viewer.entry(path)
    source = entry.future.result()
    there = [lying(s) for _, s in spots_of(develop(values))]
    with entry.lock:
        # What a spot lies on already is not shown again.
        found = [f for f in specks(source, everywhere=body.everywhere) if not _dealt_with(f, there)][:MOST]
    return {"spots": [{"path": f.path, "size": f.size, "kind": f.kind, "confidence": f.confidence} for f in found]}


def _dealt_with(found: FoundSpot, spots: Sequence[SpotParts]) -> bool:
    x, y = found.path[len(found.path) // 2]
    return any(math.hypot(x - u, y - v) < max(s.size, 0.5 * found.size) for s in spots for u, v in s.path)


@router.post("/frames/{frame_id}/spots/evidence")
def evidence(frame_id: int, body: Asked, services: WithServices) -> dict[str, Any]:
    """Ask other frames what spots hold to; the answer comes by `/api/questions/{number}`."""
    return {"question": services.retouch.evidence(frame_id, body.spots).number}


@router.get("/questions/{number}")
def question(number: int, services: WithServices) -> dict[str, Any]:
    """How far a question to several frames is, and its answer once it is over.

    Of spots {"spots": {id: {"holds", "said", "counts"}}}; holds is None where they do not tell. Of dust
    {"specks": [{"at", "size", "confidence", "frames"}], "said"}, in places of the sensor.
    """
    job = services.retouch.jobs.get(number)
    if job is None:
        raise TannerError("This question is no longer known. Ask again.")
    if job.over and job.error:
        raise TannerError(job.error)
    answer = {"done": job.done, "count": job.count, "over": job.over, "cancelled": job.cancelled}
    if job.result is None:
        return answer
    if isinstance(job.result, dict):
        evidence = {i: {"holds": e.holds, "said": e.said, "counts": e.counts} for i, e in job.result.items()}
        return {**answer, "spots": evidence}
    found, said = job.result
    rows = [{"at": (s.x, s.y), "size": s.size, "confidence": s.confidence, "frames": s.frames} for s in found[:MOST]]
    return {**answer, "specks": rows, "said": said}


@router.post("/questions/{number}/cancel")
def cancel(number: int, services: WithServices) -> dict[str, Any]:
    """Ask no more frames."""
    services.retouch.cancel(number)
    return {"done": "cancelled"}


@router.post("/frames/{frame_id}/spots/{spot}/from")
def taken_from(frame_id: int, spot: SpotId, body: FromFrame, services: WithServices) -> dict[str, Any]:
    """Where a spot's place lies in another frame of its set, to be taken from there: {"other": its name, "at": the map}."""
    name, at = services.retouch.placed_in(frame_id, spot, body.frame)
    return {"other": name, "at": at}


@router.get("/frames/{frame_id}/spots/{spot}/picture", response_model=None)
def picture(
    frame_id: int,
    spot: SpotId,
    services: WithServices,
    shown: Shown = "after",
    number: Annotated[int, Field(ge=0, le=99)] = 0,
    size: Annotated[int, Field(ge=16, le=400)] = 48,
) -> Response:
    """A small JPEG of a spot and what is around it: before, after, or as a proposal would look."""
    with services.catalogue.read() as session:
        frame = frame_of(session, frame_id)
        path, values = frame.path, Resolver(session, frame.shoot_id).resolve(frame).values
    data = spot_picture(services.viewer, path, values, spot, shown, number, size)
    return Response(data, media_type="image/jpeg", headers={"cache-control": "no-store"})
