"""Sidecars of a shoot: on or off, what both sides changed, and ending such a conflict."""

from typing import Any, Literal

from fastapi import APIRouter
from pydantic import BaseModel, ConfigDict

from tanner.catalogue.resolver import Resolver
from tanner.catalogue.sidecars import settle
from tanner.catalogue.steps import record
from tanner.web.api.common import WithServices, done, frame_of
from tanner.web.api.shoots import shoot_of

router = APIRouter(prefix="/api")


class Switch(BaseModel):
    model_config = ConfigDict(extra="forbid")
    on: bool


class Settle(BaseModel):
    model_config = ConfigDict(extra="forbid")
    take: Literal["mine", "theirs"]


@router.get("/shoots/{shoot_id}/sidecars")
def state(shoot_id: int, services: WithServices) -> dict[str, Any]:
    """Whether sidecars are written, what was changed on both sides, and what could not be written."""
    return services.sidecars.state(shoot_id)


@router.post("/shoots/{shoot_id}/sidecars")
def switch(shoot_id: int, body: Switch, services: WithServices) -> dict[str, Any]:
    """Switch the sidecars of a shoot on or off; files that are there stay."""
    with services.catalogue.write() as session:
        shoot = shoot_of(session, shoot_id)
        label = f"Sidecars {'on' if body.on else 'off'}"
        answer = done(record(session, shoot_id, label, [(shoot, {"sidecars": body.on})]))
    services.sidecars.forget(shoot_id)
    return answer


@router.post("/frames/{frame_id}/sidecar")
def end_conflict(frame_id: int, body: Settle, services: WithServices) -> dict[str, Any]:
    """Which version of a frame holds; the other one is kept aside."""
    with services.catalogue.write() as session:
        frame = frame_of(session, frame_id)
        answer = done(settle(session, Resolver(session, frame.shoot_id), frame, body.take))
        shoot_id = frame.shoot_id
    services.sidecars.forget(shoot_id)
    return answer
