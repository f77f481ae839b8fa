"""Areas of frames: made, removed, found again; their masks as pictures. Everything else about them goes by their names."""

from typing import Annotated, Any

import imagecodecs
import numpy as np
from fastapi import APIRouter
from fastapi.responses import JSONResponse, Response
from pydantic import BaseModel, ConfigDict, Field

from tanner.catalogue.development import add_thing, remove_things
from tanner.catalogue.resolver import Resolver
from tanner.core.adjust.items import ID
from tanner.core.areas.declare import AREAS, MOST_PARTS
from tanner.core.areas.find import NotFound
from tanner.core.areas.shapes import NAMES, Shape, lean
from tanner.core.errors import TannerError
from tanner.web.api.common import WithServices, done, frame_of, frames_of, one_shoot
from tanner.web.api.frames import Body

router = APIRouter(prefix="/api", tags=["areas"])
AreaId = Annotated[str, Field(pattern=f"^{ID.pattern}$")]


class NewArea(Body):
    """An area with a mask and nothing else yet; its name is made from its first part unless it is given."""

    shapes: list[Shape] = Field(min_length=1, max_length=MOST_PARTS)
    name: str = Field(default="", max_length=80)
    tint: int = Field(default=0, ge=0, le=5)


class AreasGone(Body):
    areas: list[AreaId] = Field(min_length=1, max_length=64)


class Sample(BaseModel):
    """A place of the frame, in shares of its long edge from its middle."""

    model_config = ConfigDict(extra="forbid")
    x: float = Field(ge=-0.5, le=0.5)
    y: float = Field(ge=-0.5, le=0.5)


@router.post("/areas")
def create(body: NewArea, services: WithServices) -> dict[str, Any]:
    """Make an area on frames, as one step; the same on all of them, so that they share its id."""
    with services.catalogue.write() as session:
        frames = frames_of(session, body.frames)
        resolver = Resolver(session, one_shoot(frames))
        name = body.name or NAMES[body.shapes[0].kind]
        parts = {"kind": "area", "shapes": [lean(s) for s in body.shapes]}
        action, ident = add_thing(session, resolver, frames, AREAS, name, {**parts, "tint": body.tint})
        return {**done(action), "area": ident}


@router.post("/areas/remove")
def remove(body: AreasGone, services: WithServices) -> dict[str, Any]:
    """Remove areas from frames; a lead's own goes for its set, a followed one is left out on that frame only."""
    with services.catalogue.write() as session:
        frames = frames_of(session, body.frames)
        return done(remove_things(session, Resolver(session, one_shoot(frames)), frames, AREAS, body.areas))


@router.post("/areas/find")
def find(body: AreasGone, services: WithServices) -> dict[str, Any]:
    """Look again for areas of the lead in frames that follow it, in the background."""
    with services.catalogue.read() as session:
        shoot = one_shoot(frames_of(session, body.frames))
    services.following.start(shoot, body.frames, body.areas)
    return {"done": "looking"}


@router.post("/areas/finds/{number}/cancel")
def cancel(number: int, services: WithServices) -> dict[str, Any]:
    """Stop a search; what was found stays."""
    services.following.cancel(number)
    return {"done": "cancelled"}


@router.get("/frames/{frame_id}/areas/{area}/mask", response_model=None)
def mask(
    frame_id: int, area: AreaId, services: WithServices, size: Annotated[int, Field(ge=16, le=2048)] = 96
) -> Response:
    """An area's mask as a grey PNG, as it lies on the finished picture; or why it is off on this frame."""
    with services.catalogue.read() as session:
        frame = frame_of(session, frame_id)
        path, values = frame.path, Resolver(session, frame.shoot_id).resolve(frame).values
    try:
        found = services.viewer.mask(path, values, area, size)
    except NotFound as error:
        return JSONResponse({"off": str(error)}, headers={"cache-control": "no-store"})
    data = imagecodecs.png_encode(np.rint(found * 255).astype(np.uint8), level=3)
    return Response(bytes(data), media_type="image/png", headers={"cache-control": "no-store"})


@router.post("/frames/{frame_id}/areas/sample")
def sample(frame_id: int, body: Sample, services: WithServices) -> dict[str, Any]:
    """Lightness and colour of a place as ranges see them: {"lightness": L*, "lab": Oklab}."""
    with services.catalogue.read() as session:
        frame = frame_of(session, frame_id)
        path, values = frame.path, Resolver(session, frame.shoot_id).resolve(frame).values
    if frame.error:
        raise TannerError(frame.error)
    return services.viewer.sample(path, values, (body.x, body.y))
