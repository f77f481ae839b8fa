"""Joining frames: panoramas, and pictures with all in focus."""

from typing import Any, Literal

from fastapi import APIRouter

from tanner.core.errors import TannerError
from tanner.web.api.common import WithServices, frames_of, one_shoot
from tanner.web.api.frames import Body

router = APIRouter(prefix="/api")
MOST_FRAMES = 60


class Join(Body):
    kind: Literal["sphere", "cylinder", "flat", "focus"]


@router.post("/merge")
def merge(body: Join, services: WithServices) -> dict[str, Any]:
    """Begin to join frames; the result comes in beside the first of them."""
    if not 2 <= len(set(body.frames)) <= MOST_FRAMES:
        raise TannerError(f"Choose 2 to {MOST_FRAMES} frames to join.")
    with services.catalogue.read() as session:
        frames = frames_of(session, body.frames)
        one_shoot(frames)
        return services.merges.start(frames, body.kind).as_dict()


@router.get("/merges/{number}")
def state(number: int, services: WithServices) -> dict[str, Any]:
    return services.merges.job(number).as_dict()


@router.post("/merges/{number}/cancel")
def cancel(number: int, services: WithServices) -> dict[str, Any]:
    services.merges.cancel(number)
    return {"cancelled": number}
