"""Sets by hand: merge, split, move, lead, name; and a new proposal for the whole shoot."""

from typing import Any

from fastapi import APIRouter
from pydantic import BaseModel, ConfigDict, Field
from sqlalchemy import func, select
from sqlalchemy.orm import Session

from tanner.catalogue import sets
from tanner.catalogue.models import Frame, FrameSet, Shoot
from tanner.core.errors import TannerError
from tanner.core.series.sets import SetLimits
from tanner.web.api.common import WithServices, done, frame_of, frames_of, one_shoot

router = APIRouter(prefix="/api", tags=["sets"])


class Move(BaseModel):
    """Frames into a set; without one, into a new set of their own."""

    model_config = ConfigDict(extra="forbid")
    frames: list[int] = Field(min_length=1, max_length=20_000)
    set: int | None = None


class SetsWish(BaseModel):
    model_config = ConfigDict(extra="forbid")
    into: int
    others: list[int] = Field(min_length=1, max_length=1000)


class SetName(BaseModel):
    model_config = ConfigDict(extra="forbid")
    name: str = Field(min_length=1, max_length=80)


def set_of(session: Session, set_id: int) -> FrameSet:
    group = session.get(FrameSet, set_id)
    if group is None:
        raise TannerError("This set is no longer there.")
    return group


@router.get("/sets")
def all_sets(services: WithServices) -> dict[str, Any]:
    """Shoots with their sets, leads and how many frames follow them: where settings can come from and go to."""
    with services.catalogue.read() as session:
        count = select(Frame.set_id, func.count()).where(Frame.set_id.is_not(None)).group_by(Frame.set_id)
        sizes: dict[int, int] = dict(session.execute(count).all())  # type: ignore[arg-type]
        shoots = []
        for shoot in session.scalars(select(Shoot).order_by(Shoot.away, Shoot.created.desc())):
            groups = session.scalars(select(FrameSet).where(FrameSet.shoot_id == shoot.id).order_by(FrameSet.id))
            rows = [
                {"id": g.id, "name": g.name, "lead": g.lead_id, "followers": sizes[g.id] - 1}
                for g in groups
                if g.lead_id and g.id in sizes
            ]
            shoots.append({"id": shoot.id, "name": shoot.name, "sets": rows})
        return {"shoots": shoots}


@router.post("/sets/move")
def move(body: Move, services: WithServices) -> dict[str, Any]:
    """Move frames into a set, or into a new one of their own."""
    with services.catalogue.write() as session:
        frames = frames_of(session, body.frames)
        to = set_of(session, body.set) if body.set else None
        return done(sets.move(session, one_shoot(frames), frames, to))


@router.post("/sets/merge")
def merge(body: SetsWish, services: WithServices) -> dict[str, Any]:
    """Bring all frames of other sets into one."""
    with services.catalogue.write() as session:
        into = set_of(session, body.into)
        return done(sets.merge(session, into.shoot_id, into, [set_of(session, i) for i in body.others]))


@router.post("/frames/{frame_id}/lead")
def lead(frame_id: int, services: WithServices) -> dict[str, Any]:
    """Make a frame the lead of its set; what it shows stays."""
    with services.catalogue.write() as session:
        return done(sets.choose_lead(session, frame_of(session, frame_id)))


@router.post("/sets/{set_id}/name")
def name(set_id: int, body: SetName, services: WithServices) -> dict[str, Any]:
    """Give a set a name."""
    with services.catalogue.write() as session:
        return done(sets.rename(session, set_of(session, set_id), body.name))


class Propose(BaseModel):
    """How far two frames of one set may be apart (see `core.series.sets.SetLimits`)."""

    model_config = ConfigDict(extra="forbid")
    minutes: float = Field(default=SetLimits.minutes, gt=0, le=1440)
    mired: float = Field(default=SetLimits.mired, gt=0, le=500)
    ev: float = Field(default=SetLimits.ev, gt=0, le=20)
    unlike: float = Field(default=SetLimits.unlike, gt=0, le=2)
    turned: bool = SetLimits.turned


class Under(BaseModel):
    model_config = ConfigDict(extra="forbid")
    set: int | None = None


@router.post("/shoots/{shoot_id}/would-propose")
def would_propose(shoot_id: int, body: Propose, services: WithServices) -> dict[str, Any]:
    """The sets that a proposal would make, without making them."""
    with services.catalogue.read() as session:
        return {"sets": sets.would_propose(session, shoot_id, SetLimits(**body.model_dump()))}


@router.post("/shoots/{shoot_id}/propose")
def propose(shoot_id: int, body: Propose, services: WithServices) -> dict[str, Any]:
    """Make sets anew from what the frames are."""
    with services.catalogue.write() as session:
        return done(sets.propose_sets(session, shoot_id, again=True, limits=SetLimits(**body.model_dump())))


@router.post("/sets/{set_id}/under")
def under(set_id: int, body: Under, services: WithServices) -> dict[str, Any]:
    """Let a set follow the lead of another one, or none."""
    with services.catalogue.write() as session:
        other = set_of(session, body.set) if body.set else None
        return done(sets.put_under(session, set_of(session, set_id), other))
