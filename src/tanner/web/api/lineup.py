"""The Line-up's data: the areas of a set's frames against their lead's, and small steps for frames that stand out."""

import json
from typing import Annotated, Any

from fastapi import APIRouter, Query
from fastapi.responses import JSONResponse, Response
from pydantic import BaseModel, ConfigDict, Field
from sqlalchemy import select
from sqlalchemy.orm import Session

from tanner.catalogue.development import set_each_offset
from tanner.catalogue.models import Frame
from tanner.catalogue.resolver import Resolver
from tanner.catalogue.steps import last_correction, record
from tanner.core.errors import TannerError
from tanner.core.series.area import OwnArea
from tanner.core.series.kinds import Box, LookedFor
from tanner.core.series.lineup import line_up
from tanner.jobs.match.lineups import Line, plan
from tanner.web.api.common import WithServices, done, frame_of, frames_of, one_shoot
from tanner.web.api.frames import Body
from tanner.web.viewer.viewer import AskedView

router = APIRouter(prefix="/api", tags=["line-up"])


class Nudge(Body):
    """Steps of exposure (EV), and of the light (mired, tint)."""

    ev: float = Field(default=0, ge=-2, le=2)
    mired: float = Field(default=0, ge=-100, le=100)
    tint: float = Field(default=0, ge=-50, le=50)


class Accept(Body):
    """Why frames are taken as they are; empty to hold them against the others again."""

    reason: str = Field(max_length=300)


class AlikeWish(BaseModel):
    """The frame that was corrected, and by which area of its set others are told to be like it."""

    model_config = ConfigDict(extra="forbid")
    frame: int
    box: str = Field(default="", max_length=80)
    kind: LookedFor | OwnArea = "backdrop"
    within: float = Field(default=1.5, gt=0, le=20)


@router.get("/shoots/{shoot_id}/lineup", response_model=None)
def lineup(
    shoot_id: int,
    services: WithServices,
    group: Annotated[int, Query(alias="set")],
    tolerance: Annotated[float, Query(gt=0, le=20)] = 1.0,
    box: Annotated[str, Query(max_length=80)] = "",
    kind: LookedFor | OwnArea = "backdrop",
    known: Annotated[str, Query(max_length=40)] = "",
) -> Response:
    """Figures of a set, as far as they are measured; ask again while some are pending.

    Args:
        box: x0,y0,x1,y1 of an area that was drawn on the lead, in shares; empty for one of the kind.
        known: "known" of the last answer: then "frames" are those alone whose figures changed since, unless "whole".
    """
    drawn = _box(box)

    def planned() -> Line:
        with services.catalogue.read() as session:
            resolver = Resolver(session, shoot_id)
            frames, lead = _line(session, resolver, group)
            followers = [f.id for f in frames if resolver.lead_of(f) is not None or resolver.is_lead(f)]
            return Line(plan(resolver, frames, lead, drawn, kind), lead.id if lead else None, followers)

    line = services.lineups.line((shoot_id, group, drawn, kind), planned)
    readings, pending = services.lineups.read(line.steps, kind)
    figures = line_up(readings, line.lead, tolerance)
    about = repr((shoot_id, group, box, kind, tolerance))
    word, rows, whole = services.row_changes.news(known, about, "frame", figures["frames"])
    rows = [r | {"outline": json.loads(r["outline"])} if isinstance(r["outline"], str) else r for r in rows]
    also = {"lead": line.lead, "pending": pending, "followers": line.followers, "known": word, "whole": whole}
    # As it is: looking through some thousand points of outlines for what is no JSON would take longer than all the rest.
    return JSONResponse({**figures, **also, "count": len(readings), "frames": rows})


def _line(session: Session, resolver: Resolver, group: int) -> tuple[list[Frame], Frame | None]:
    """The frames of a set in order, and its lead."""
    chosen = resolver.sets.get(group)
    if chosen is None:
        raise TannerError("This set is no longer there.")
    query = select(Frame).where(Frame.set_id == group, Frame.verdict != "drop").order_by(Frame.taken, Frame.name)
    return list(session.scalars(query)), resolver.leads.get(chosen.lead_id or 0)


@router.post("/alike")
def alike(body: AlikeWish, services: WithServices) -> dict[str, Any]:
    """The frame's last correction, and the frames of its set that look as it did before: nothing is done to them."""
    with services.catalogue.read() as session:
        frame = frame_of(session, body.frame)
        correction = last_correction(session, frame)
        if correction is None:
            raise TannerError(f"{frame.name} has no correction of its own that could be carried on. Move it first.")
        resolver = Resolver(session, frame.shoot_id)
        frames, lead = _line(session, resolver, frame.set_id or 0)
        followers = [f for f in frames if resolver.relative_to_lead(f)]
        moved, before = correction
        found = services.lineups.alike(
            resolver, followers, lead, _box(body.box), body.kind, frame, before, body.within
        )  # fmt: skip
    return {"name": frame.name, "moved": moved, "frames": found}


@router.get("/frames/{frame_id}/view", response_model=None)
def view(frame_id: int, services: WithServices, wanted: Annotated[AskedView, Query()]) -> Response:
    """A view of a frame as it is developed; the size of the whole picture is in the header x-full."""
    with services.catalogue.read() as session:
        frame = frame_of(session, frame_id)
        values = Resolver(session, frame.shoot_id).resolve(frame).values
    shown = services.viewer.show(frame.path, values, frame.starting, wanted)
    full = "x".join(str(v) for v in shown.header["full"])
    return Response(shown.jpeg, media_type="image/jpeg", headers={"cache-control": "no-store", "x-full": full})


def _box(text: str) -> Box | None:
    if not text:
        return None
    try:
        x0, y0, x1, y1 = (float(v) for v in text.split(","))
    except ValueError:
        raise TannerError("An area is four shares: x0,y0,x1,y1.") from None
    return x0, y0, x1, y1


@router.post("/accept")
def accept(body: Accept, services: WithServices) -> dict[str, Any]:
    """Take frames as they are, with a reason."""
    reason = body.reason.strip()
    label = f"Accepted: {reason}" if reason else "No longer accepted as it is"
    with services.catalogue.write() as session:
        frames = frames_of(session, body.frames)
        return done(record(session, one_shoot(frames), label, [(f, {"accepted": reason}) for f in frames]))


@router.post("/nudge")
def nudge(body: Nudge, services: WithServices) -> dict[str, Any]:
    """Move exposure or white balance of frames by a step: followers by their offset, others by their value."""
    deltas = {k: v for k, v in (("ev", body.ev), ("mired", body.mired), ("tint", body.tint)) if v}
    if not deltas:
        raise TannerError("Say by how much.")
    said = ", ".join(f"{k} {v:+.3g}" for k, v in deltas.items()).replace("-", "−")
    with services.catalogue.write() as session:
        frames = frames_of(session, body.frames)
        resolver = Resolver(session, one_shoot(frames))
        return done(set_each_offset(session, resolver, [(f, deltas) for f in frames], f"Moved by {said}"))
