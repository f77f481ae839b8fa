"""Dust on the sensors of cameras: found in frames, kept in Kit by camera with dates."""

from datetime import date
from typing import Annotated, Any

from fastapi import APIRouter
from pydantic import BaseModel, ConfigDict, Field

from tanner.catalogue.development import remove_things
from tanner.catalogue.dust import DustSpeck, SensorDust
from tanner.catalogue.resolver import Resolver
from tanner.core.adjust.items import ID
from tanner.core.errors import TannerError
from tanner.core.spots.declare import MOST, SPOTS
from tanner.core.spots.dust import on_frame, on_sensor
from tanner.web.api.common import WithServices, done, frame_of

router = APIRouter(prefix="/api", tags=["dust"])
DustId = Annotated[str, Field(pattern=f"^{ID.pattern}$")]


class FindDust(BaseModel):
    """plain: this frame alone, which was shot for it; else frames of its camera in its shoot."""

    model_config = ConfigDict(extra="forbid")
    plain: bool = False


class KeepDust(BaseModel):
    """Specks in places of the upright frame as they are shown, or spots of the frame, which go into Kit."""

    model_config = ConfigDict(extra="forbid")
    specks: list[DustSpeck] = Field(default_factory=list, max_length=MOST)
    spots: list[DustId] = Field(default_factory=list, max_length=MOST)
    since: date | None = None


class Dates(BaseModel):
    model_config = ConfigDict(extra="forbid")
    since: date
    until: date | None = None


@router.post("/frames/{frame_id}/dust/find")
def find(frame_id: int, body: FindDust, services: WithServices) -> dict[str, Any]:
    """Look for dust in this frame or in the frames of its camera; the answer comes by `/api/questions/{number}`.

    "turn" takes places of the sensor to places of this frame: [a, b, c, d] with x' = a x + b y and y' = c x + d y.
    """
    with services.catalogue.read() as session:
        facts = dict(frame_of(session, frame_id).facts)
    size, turned = (int(facts["width"]), int(facts["height"])), int(facts.get("orientation") or 1)
    number = services.retouch.dust(frame_id, body.plain).number
    (a, c), (b, d) = on_frame([(1.0, 0.0), (0.0, 1.0)], size, turned)
    return {"question": number, "turn": [a, b, c, d]}


@router.post("/frames/{frame_id}/dust")
def keep(frame_id: int, body: KeepDust, services: WithServices) -> dict[str, Any]:
    """Keep specks for the camera of a frame, from the day it was taken on; spots that go there are removed from the frame."""
    with services.catalogue.write() as session:
        frame = frame_of(session, frame_id)
        facts = frame.facts
        if frame.taken is None or not frame.camera:
            raise TannerError(
                f"{frame.name} does not say by which camera and when it was taken, so its dust cannot be kept."
            )
        size, turned = (int(facts["width"]), int(facts["height"])), int(facts.get("orientation") or 1)
        resolver = Resolver(session, frame.shoot_id)
        values = resolver.resolve(frame).values
        places = [((s.x, s.y), s.size) for s in body.specks]
        for ident in body.spots:
            path, wide = values.get(f"spots/{ident}/path"), values.get(f"spots/{ident}/size", 0.005)
            if path and values.get(f"spots/{ident}/holds") != "sensor":
                places += [((p[0], p[1]), wide) for p in path]
        if not places:
            raise TannerError("Nothing was chosen to keep for this camera.")
        if len(places) > MOST:
            raise TannerError(
                f"At most {MOST} pieces of dust are kept at a time; these are {len(places)}. Move the limit."
            )
        on = [on_sensor([at], size, turned)[0] for at, _ in places]
        specks = [
            DustSpeck(x=min(max(x, -0.5), 0.5), y=min(max(y, -0.5), 0.5), size=min(wide, 0.05))
            for (x, y), (_, wide) in zip(on, places, strict=True)
        ]
        kept = services.catalogue.dust.add(
            SensorDust(
                camera=frame.camera, serial=str(facts.get("serial") or ""), since=body.since or frame.taken.date(), specks=specks
            )
        )  # fmt: skip
        action = remove_things(session, resolver, [frame], SPOTS, body.spots) if body.spots else None
    services.catalogue.touch()
    return {**done(action), "dust": kept.id, "count": len(specks)}


@router.get("/dust")
def every(services: WithServices) -> dict[str, Any]:
    """The dust of all cameras."""
    dust = services.catalogue.dust.all()
    return {"dust": [d.model_dump(mode="json") for d in dust], "trouble": services.catalogue.dust.trouble}


@router.post("/dust/{ident}")
def change(ident: DustId, body: Dates, services: WithServices) -> dict[str, Any]:
    """From which day on it lies there, and until which; without an end it still does."""
    found = services.catalogue.dust.change(ident, body.since, body.until)
    services.catalogue.touch()
    return found.model_dump(mode="json")


@router.delete("/dust/{ident}")
def delete(ident: DustId, services: WithServices) -> dict[str, Any]:
    """Forget it; frames show it again."""
    services.catalogue.dust.delete(ident)
    services.catalogue.touch()
    return {"deleted": ident}
