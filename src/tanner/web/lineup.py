"""The Line-up's data: the areas of a set's frames against their lead's, and small steps for frames that stand out."""

from typing import Annotated, Any, Literal

from fastapi import APIRouter, Query
from pydantic import Field
from sqlalchemy import select

from tanner.catalogue.development import Resolver, record, set_each_offset
from tanner.catalogue.models import Frame
from tanner.core.errors import TannerError
from tanner.core.series.area import Box
from tanner.core.series.lineup import line_up
from tanner.web.common import Desk, done, frames_of, one_shoot
from tanner.web.frames import Body

router = APIRouter(prefix="/api")


class Nudge(Body):
    """Steps of exposure (EV), and of the light (mired, tint)."""

    ev: float = Field(default=0, ge=-2, le=2)
    mired: float = Field(default=0, ge=-100, le=100)
    tint: float = Field(default=0, ge=-50, le=50)


class Accept(Body):
    """Why frames are taken as they are; empty to hold them against the others again."""

    reason: str = Field(max_length=300)


@router.get("/shoots/{shoot_id}/lineup")
def lineup(
    shoot_id: int,
    desk: Desk,
    group: Annotated[int, Query(alias="set")],
    tolerance: Annotated[float, Query(gt=0, le=20)] = 1.0,
    box: Annotated[str, Query(max_length=80)] = "",
    kind: Literal["backdrop", "face", "skin", "chart", "card"] = "backdrop",
) -> dict[str, Any]:
    """Figures of a set, as far as they are measured; ask again while some are pending.

    Args:
        box: x0,y0,x1,y1 of an area that was drawn on the lead, in shares; empty for one of the kind.
    """
    with desk.catalogue.read() as session:
        resolver = Resolver(session, shoot_id)
        chosen = resolver.sets.get(group)
        if chosen is None:
            raise TannerError("This set is no longer there.")
        query = select(Frame).where(Frame.set_id == group, Frame.verdict != "drop").order_by(Frame.taken, Frame.name)
        frames = list(session.scalars(query))
        lead = resolver.leads.get(chosen.lead_id or 0)
        readings, pending = desk.lineups.readings(resolver, frames, lead, _box(box), kind)
    return {**line_up(readings, chosen.lead_id, tolerance), "lead": chosen.lead_id, "pending": pending}


def _box(text: str) -> Box | None:
    if not text:
        return None
    try:
        x0, y0, x1, y1 = (float(v) for v in text.split(","))
    except ValueError:
        raise TannerError("An area is four shares: x0,y0,x1,y1.") from None
    return x0, y0, x1, y1


@router.post("/accept")
def accept(body: Accept, desk: Desk) -> dict[str, Any]:
    """Take frames as they are, with a reason."""
    reason = body.reason.strip()
    label = f"Accepted: {reason}" if reason else "No longer accepted as it is"
    with desk.catalogue.write() as session:
        frames = frames_of(session, body.frames)
        return done(record(session, one_shoot(frames), label, [(f, {"accepted": reason}) for f in frames]))


@router.post("/nudge")
def nudge(body: Nudge, desk: Desk) -> dict[str, Any]:
    """Move exposure or white balance of frames by a step: followers by their offset, others by their value."""
    deltas = {k: v for k, v in (("ev", body.ev), ("mired", body.mired), ("tint", body.tint)) if v}
    if not deltas:
        raise TannerError("Say by how much.")
    said = ", ".join(f"{k} {v:+.3g}" for k, v in deltas.items()).replace("-", "−")
    with desk.catalogue.write() as session:
        frames = frames_of(session, body.frames)
        resolver = Resolver(session, one_shoot(frames))
        return done(set_each_offset(session, resolver, [(f, deltas) for f in frames], f"Moved by {said}"))
