"""Matching frames to a reference frame, as the Sheet asks for it."""

from typing import Annotated, Any

from fastapi import APIRouter
from pydantic import Field

from tanner.catalogue.originals import same_or_refused
from tanner.catalogue.resolver import Resolver
from tanner.core.series.area import OwnArea
from tanner.core.series.kinds import LookedFor, What
from tanner.core.series.match import LIMITS
from tanner.jobs.match.matching import Reference
from tanner.web.api.common import WithServices, frame_of, frames_of, one_shoot
from tanner.web.api.frames import Body

router = APIRouter(prefix="/api", tags=["matching"])
Share = Annotated[float, Field(ge=0, le=1)]


class Match(Body):
    """Frames to be brought to a reference.

    Attributes:
        box: its area in shares of the picture, or none for one of the kind; tone: contrast, black and white point, too.
        most: the largest change of exposure in EV; of white balance in proportion.
    """

    reference: int
    what: What = "both"
    box: tuple[Share, Share, Share, Share] | None = None
    kind: LookedFor | OwnArea = "backdrop"
    tone: bool = False
    most: float = Field(default=LIMITS["ev"], ge=0.1, le=5)


@router.post("/match")
def match(body: Match, services: WithServices) -> dict[str, Any]:
    """Begin to match; offsets are written as one step at the end."""
    same_or_refused(services.catalogue, body.reference)
    with services.catalogue.read() as session:
        reference = frame_of(session, body.reference)
        frames = frames_of(session, body.frames)
        one_shoot([*frames, reference])
        resolver = Resolver(session, reference.shoot_id)
        start = Reference(
            reference.path, resolver.resolve(reference).values,
            box=body.box, kind=body.kind, tone=body.tone, most=body.most,
        )  # fmt: skip
        others = [f for f in frames if f.id != reference.id]
        return services.matching.start(start, reference.name, others, resolver, body.what).as_dict()


@router.get("/match/{number}")
def state(number: int, services: WithServices) -> dict[str, Any]:
    """How far a match is, and the figures of each frame."""
    return services.matching.job(number).as_dict()


@router.post("/match/{number}/cancel")
def cancel(number: int, services: WithServices) -> dict[str, Any]:
    """End a match; frames that are not matched yet stay as they are."""
    services.matching.cancel(number)
    return {"cancelled": number}
