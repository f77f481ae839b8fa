"""Areas of frames: made and removed; everything else about them goes by their names, as any adjustment does."""

from typing import Annotated, Any

from fastapi import APIRouter
from pydantic import Field

from tanner.catalogue.development import add_thing, remove_things
from tanner.catalogue.resolver import Resolver
from tanner.core.adjust.items import ID
from tanner.core.areas.declare import AREAS, MOST_PARTS
from tanner.core.areas.shapes import Shape
from tanner.web.api.common import WithServices, done, frames_of, one_shoot
from tanner.web.api.frames import Body

router = APIRouter(prefix="/api", tags=["areas"])


class NewArea(Body):
    """An area with a mask and nothing else yet; its name is made from its first part unless it is given."""

    shapes: list[Shape] = Field(min_length=1, max_length=MOST_PARTS)
    name: str = Field(default="", max_length=80)


class Gone(Body):
    areas: list[Annotated[str, Field(pattern=f"^{ID.pattern}$")]] = Field(min_length=1, max_length=64)


@router.post("/areas")
def create(body: NewArea, services: WithServices) -> dict[str, Any]:
    """Make an area on frames, as one step; the same on all of them, so that they share its id."""
    with services.catalogue.write() as session:
        frames = frames_of(session, body.frames)
        resolver = Resolver(session, one_shoot(frames))
        name = body.name or f"{'Round' if body.shapes[0].kind == 'round' else 'Straight'} gradient"
        parts = {"kind": "area", "shapes": [s.model_dump(mode="json") for s in body.shapes]}
        action, ident = add_thing(session, resolver, frames, AREAS, name, parts)
        return {**done(action), "area": ident}


@router.post("/areas/remove")
def remove(body: Gone, services: WithServices) -> dict[str, Any]:
    """Remove areas from frames; a lead's own goes for its set, a followed one is left out on that frame only."""
    with services.catalogue.write() as session:
        frames = frames_of(session, body.frames)
        return done(remove_things(session, Resolver(session, one_shoot(frames)), frames, AREAS, body.areas))
