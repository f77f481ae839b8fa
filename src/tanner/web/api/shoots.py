"""Shoots and their contact sheet: lists, undo and redo."""

from typing import Any

from fastapi import APIRouter
from pydantic import BaseModel, ConfigDict, Field
from sqlalchemy import case, func, select
from sqlalchemy.orm import Session

from tanner.catalogue.captions import say_of_shoot
from tanner.catalogue.clock import parse_shift, shift
from tanner.catalogue.models import Delivery, DeliveryItem, Facet, Frame, FrameSet, Shoot
from tanner.catalogue.ordering import move
from tanner.catalogue.originals import find_moved
from tanner.catalogue.resolver import Resolver
from tanner.catalogue.steps import record, redo, undo
from tanner.catalogue.trashing import follow, listed, put_into_trash
from tanner.core.errors import TannerError
from tanner.jobs.pictures import wish_for
from tanner.web.api.common import WithServices, done, frames_of, one_shoot

router = APIRouter(prefix="/api", tags=["shoots"])


class NewShoot(BaseModel):
    model_config = ConfigDict(extra="forbid")
    name: str = Field(min_length=1, max_length=120)


class ShootCaptions(BaseModel):
    model_config = ConfigDict(extra="forbid")
    name: str | None = Field(default=None, min_length=1, max_length=120)
    creator: str | None = Field(default=None, max_length=200)
    rights: str | None = Field(default=None, max_length=300)
    words: dict[str, str] | None = None


class Away(BaseModel):
    model_config = ConfigDict(extra="forbid")
    away: bool


class ShootPreset(BaseModel):
    model_config = ConfigDict(extra="forbid")
    key: str | None = None
    amount: float = Field(default=100, ge=0, le=150)


def shoot_of(session: Session, shoot_id: int) -> Shoot:
    shoot = session.get(Shoot, shoot_id)
    if shoot is None:
        raise TannerError("This shoot is no longer there.")
    return shoot


COVERS = 4  # pictures that stand for a shoot: one large, three beside it


CARDS = 24  # shoots that are shown with covers and counts, the newest; older ones are lines, so that the page is as quick after years


def shoot_list(session: Session) -> list[dict[str, Any]]:
    """The newest shoots that are not put away, with counts of what is to do, and pictures for their covers: leads first, of them those with most stars."""
    query = select(Shoot).where(Shoot.away.is_(False)).order_by(Shoot.created.desc(), Shoot.id.desc())
    shoots = list(session.scalars(query.limit(CARDS)))
    ids = [s.id for s in shoots]
    here = Facet.gone.is_(False), Facet.shoot_id.in_(ids)
    judged = [func.sum(case((Facet.verdict == v, 1), else_=0)).label(v) for v in ("keep", "drop", "undecided")]
    totals = select(
        Facet.shoot_id, func.count().label("frames"), func.count(func.distinct(Facet.set_id)).label("sets"), *judged
    )
    counts = {row.shoot_id: row for row in session.execute(totals.where(*here).group_by(Facet.shoot_id))}
    written = select(Delivery.shoot_id, func.count(func.distinct(DeliveryItem.frame_id))).join(
        DeliveryItem, DeliveryItem.delivery_id == Delivery.id
    )
    mine = written.where(Delivery.shoot_id.in_(ids), DeliveryItem.state == "done")
    delivered: dict[int, int] = dict(session.execute(mine.group_by(Delivery.shoot_id)).all())
    result = []
    for shoot in shoots:
        row = counts.get(shoot.id)
        in_time = select(Facet.frame_id).where(Facet.shoot_id == shoot.id, Facet.gone.is_(False))
        in_time = in_time.order_by(Facet.taken, Facet.name)
        leads = (
            select(Facet.frame_id)
            .join(FrameSet, FrameSet.lead_id == Facet.frame_id)
            .where(FrameSet.shoot_id == shoot.id)
        )
        leads = leads.where(Facet.gone.is_(False)).order_by(Facet.stars.desc(), Facet.taken, Facet.frame_id)
        covers = list(session.scalars(leads.limit(COVERS)))
        if len(covers) < COVERS:
            covers += session.scalars(in_time.where(Facet.frame_id.not_in(covers)).limit(COVERS - len(covers)))
        result.append(
            {
                "id": shoot.id,
                "name": shoot.name,
                "created": shoot.created,
                "frames": row.frames if row else 0,
                "sets": row.sets if row else 0,
                "keep": row.keep if row else 0,
                "drop": row.drop if row else 0,
                "undecided": row.undecided if row else 0,
                "delivered": delivered.get(shoot.id, 0),
                "covers": covers,
            }
        )
    return result


def older_shoots(session: Session) -> list[Any]:
    """(id, name, created) of those that are not put away and stand behind the newest."""
    query = select(Shoot.id, Shoot.name, Shoot.created).where(Shoot.away.is_(False))
    return list(session.execute(query.order_by(Shoot.created.desc(), Shoot.id.desc()).offset(CARDS)))


def put_away(session: Session) -> list[Shoot]:
    """Those that are put away, by name."""
    return list(session.scalars(select(Shoot).where(Shoot.away).order_by(Shoot.name, Shoot.created)))


@router.post("/shoots")
def create(body: NewShoot, services: WithServices) -> dict[str, Any]:
    """A new shoot."""
    with services.catalogue.write() as session:
        shoot = Shoot(name=body.name.strip() or "Untitled")
        session.add(shoot)
        session.flush()
        return {"id": shoot.id}


@router.post("/shoots/{shoot_id}/words")
def words(shoot_id: int, body: ShootCaptions, services: WithServices) -> dict[str, Any]:
    """The shoot's name, and what is said of all its frames."""
    with services.catalogue.write() as session:
        shoot = shoot_of(session, shoot_id)
        said = {"creator": body.creator, "rights": body.rights, **(body.words or {})}
        action = say_of_shoot(session, shoot, {k: v for k, v in said.items() if v is not None})
        if body.name is not None:
            action = record(session, shoot_id, "Name of the shoot", [(shoot, {"name": body.name})]) or action
        return done(action)


@router.post("/shoots/{shoot_id}/away")
def away(shoot_id: int, body: Away, services: WithServices) -> dict[str, Any]:
    """Put a shoot away, or bring it back: it leaves the list, and all that it holds stays as it is."""
    with services.catalogue.write() as session:
        shoot = shoot_of(session, shoot_id)
        shoot.away = body.away
        return {"name": shoot.name, "away": shoot.away}


@router.post("/shoots/{shoot_id}/check")
def check(shoot_id: int, services: WithServices) -> dict[str, Any]:
    """Begin to read all originals of a shoot and compare them with what came in."""
    with services.catalogue.read() as session:
        shoot_of(session, shoot_id)
    return services.checks.start(shoot_id).as_dict()


@router.get("/checks/{number}")
def check_state(number: int, services: WithServices) -> dict[str, Any]:
    """How far a check of originals is, and what it found."""
    return services.checks.check(number).as_dict()


@router.post("/checks/{number}/cancel")
def check_cancel(number: int, services: WithServices) -> dict[str, Any]:
    """End a check; what it found so far stays with the frames."""
    services.checks.cancel(number)
    return {"cancelled": number}


@router.post("/shoots/{shoot_id}/preset")
def shoot_preset(shoot_id: int, body: ShootPreset, services: WithServices) -> dict[str, Any]:
    """Put a preset under all frames of the shoot (layer 2), or take it away."""
    preset: dict[str, Any] = {}
    if body.key:
        found = services.library.preset(body.key)
        preset = {"name": found.name, "values": found.values, "amount": body.amount}
        if found.match:
            preset["match"] = found.match.model_dump(mode="json")
    with services.catalogue.write() as session:
        shoot = shoot_of(session, shoot_id)
        label = f"Preset of the shoot: {preset['name']}" if preset else "Preset of the shoot taken away"
        answer = done(record(session, shoot_id, label, [(shoot, {"preset": preset})]))
        ids = list(session.scalars(select(Frame.id).where(Frame.shoot_id == shoot_id, Frame.verdict != "drop")))
    if body.key and ids and found.match and answer["done"]:
        with services.catalogue.read() as session:
            frames = frames_of(session, ids)
            job = services.matching.start_stored(found.match, found.name, frames, Resolver(session, shoot_id))
        return {**answer, "match": job.number}
    return answer


@router.get("/shoots/{shoot_id}/dropped")
def dropped(shoot_id: int, services: WithServices) -> dict[str, Any]:
    """Dropped frames of a shoot with the files that would go with each into the trash."""
    with services.catalogue.read() as session:
        shoot_of(session, shoot_id)
        query = select(Frame).where(Frame.shoot_id == shoot_id, Frame.verdict == "drop")
        rows = listed(session, list(session.scalars(query.order_by(Frame.taken, Frame.name))))
    return {"frames": rows, "bytes": sum(r["bytes"] for r in rows)}


class FolderWish(BaseModel):
    model_config = ConfigDict(extra="forbid")
    folder: str = Field(min_length=1, max_length=2000)


@router.post("/shoots/{shoot_id}/find-files")
def find_files_again(shoot_id: int, body: FolderWish, services: WithServices) -> dict[str, Any]:
    """Look through a folder for all originals of a shoot that are not where they were, and use them where they lie now."""
    folder = services.folders.allow(body.folder)
    found, left = find_moved(services.catalogue, folder, shoot_id)
    with services.catalogue.read() as session:
        resolver = Resolver(session, shoot_id)
        paths = [str(p) for _, p in found]
        frames = [
            f
            for at in range(0, len(paths), 500)
            for f in session.scalars(select(Frame).where(Frame.path.in_(paths[at : at + 500])))
        ]
        wishes = [wish_for(resolver, f) for f in frames if f.shoot_id == shoot_id]
    for wish in wishes:
        services.pictures.retry(wish.frame_id)
    services.pictures.want(wishes)
    return {"found": [{"name": n, "path": str(p)} for n, p in found], "left": left}


class Shift(BaseModel):
    """Frames whose camera's clock was wrong, and by how much: "+1:00", "-0:03:20", "2d"."""

    model_config = ConfigDict(extra="forbid")
    frames: list[int] = Field(min_length=1, max_length=20_000)
    by: str = Field(max_length=40)


@router.post("/shift-time")
def shift_time(body: Shift, services: WithServices) -> dict[str, Any]:
    """Move the times of frames; files stay as they are, and what is delivered says the new time."""
    by = parse_shift(body.by)
    with services.catalogue.write() as session:
        frames = frames_of(session, body.frames)
        one_shoot(frames)
        return done(shift(session, frames, by))


class OrderWish(BaseModel):
    """Frames that are put in front of another, or at the end."""

    model_config = ConfigDict(extra="forbid")
    frames: list[int] = Field(min_length=1, max_length=20_000)
    before: int | None = None


@router.post("/shoots/{shoot_id}/place")
def place(shoot_id: int, body: OrderWish, services: WithServices) -> dict[str, Any]:
    """Put frames where they stand when a shoot is ordered by hand."""
    with services.catalogue.write() as session:
        shoot_of(session, shoot_id)
        return done(move(session, shoot_id, body.frames, body.before))


class Trash(BaseModel):
    """Frames whose files go into the system's trash; leads and delivered frames only where that is said."""

    model_config = ConfigDict(extra="forbid")
    frames: list[int] = Field(min_length=1, max_length=20_000)
    leads: bool = False
    delivered: bool = False


@router.post("/shoots/{shoot_id}/trash")
def into_trash(shoot_id: int, body: Trash, services: WithServices) -> dict[str, Any]:
    """Put files of dropped frames, with their companions, into the system's trash; undo brings them back."""
    with services.catalogue.write() as session:
        frames = frames_of(session, body.frames)
        if any(f.shoot_id != shoot_id or f.verdict != "drop" for f in frames):
            raise TannerError("Only dropped frames of this shoot go into the trash.")
        action, messages = put_into_trash(
            session, frames, leads=body.leads, delivered=body.delivered, allowed=services.folders.allow
        )
        return {**done(action), "told": messages}


@router.post("/shoots/{shoot_id}/undo")
def undo_last(shoot_id: int, services: WithServices) -> dict[str, Any]:
    """Take the last step back; files that it put into the trash come back."""
    with services.catalogue.write() as session:
        action = undo(session, shoot_id)
        return {**done(action), "told": follow(session, action, undone=True)}


@router.post("/shoots/{shoot_id}/redo")
def redo_last(shoot_id: int, services: WithServices) -> dict[str, Any]:
    """Bring the step again that was taken back last."""
    with services.catalogue.write() as session:
        action = redo(session, shoot_id)
        return {**done(action), "told": follow(session, action, undone=False)}
