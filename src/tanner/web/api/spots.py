"""Spots of frames: found by themselves, and removed; everything else about them goes by their names."""

from typing import Annotated, Any

from fastapi import APIRouter
from pydantic import BaseModel, ConfigDict, Field

from tanner.catalogue.development import remove_things
from tanner.catalogue.resolver import Resolver
from tanner.core.adjust.items import ID
from tanner.core.spots.declare import MOST, SPOTS
from tanner.core.spots.find import specks
from tanner.web.api.common import WithServices, done, frame_of, frames_of, one_shoot
from tanner.web.api.frames import Body

router = APIRouter(prefix="/api", tags=["spots"])


class SpotsGone(Body):
    spots: list[Annotated[str, Field(pattern=f"^{ID.pattern}$")]] = Field(min_length=1, max_length=MOST)


class Find(BaseModel):
    model_config = ConfigDict(extra="forbid")
    everywhere: bool = False


@router.post("/spots/remove")
def remove(body: SpotsGone, services: WithServices) -> dict[str, Any]:
    """Remove spots from frames; a lead's own go for its set, followed ones are left out on that frame only."""
    with services.catalogue.write() as session:
        frames = frames_of(session, body.frames)
        return done(remove_things(session, Resolver(session, one_shoot(frames)), frames, SPOTS, body.spots))


@router.post("/frames/{frame_id}/spots/find")
def find(frame_id: int, body: Find, services: WithServices) -> dict[str, Any]:
    """Specks, lint and scratches of a frame, the surest first: {"path", "size", "kind", "confidence"} each."""
    with services.catalogue.read() as session:
        path = frame_of(session, frame_id).path
    entry = services.viewer.entry(path)
    source = entry.future.result()
    with entry.lock:
        found = specks(source, everywhere=body.everywhere)[:MOST]
    return {"spots": [{"path": f.path, "size": f.size, "kind": f.kind, "confidence": f.confidence} for f in found]}
