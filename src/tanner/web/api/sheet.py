"""The Sheet of a shoot: its frames, what changed since one last asked, and their pictures."""

import hashlib
from collections.abc import Sequence
from typing import Annotated, Any

from fastapi import APIRouter, Query
from pydantic import BaseModel, ConfigDict, Field
from sqlalchemy import JSON, func, select
from sqlalchemy.orm import Session

from tanner.catalogue.dust import SensorDust
from tanner.catalogue.models import CAMERA_NAMES, SENSOR, Facet, Frame
from tanner.catalogue.ordering import standing
from tanner.catalogue.resolver import Resolver, version
from tanner.catalogue.steps import CHUNK
from tanner.core.adjust.registry import declared
from tanner.jobs.pictures import wish_for
from tanner.web.api.common import WithServices

router = APIRouter(prefix="/api", tags=["shoots"])

SHEET_COLUMNS = (
    Frame.id, Frame.name, Frame.set_id, Frame.stars, Frame.label, Frame.verdict, Frame.width, Frame.height,
    Frame.own, Frame.offsets, Frame.follows, Frame.starting, Frame.as_shot, Frame.content, Frame.error,
    Frame.camera, Frame.lens, Frame.iso, Frame.taken, Frame.keywords, Frame.seen, Frame.worn, Frame.alternate, Frame.measured, Frame.place,
    func.json_array(*(func.coalesce(Frame.facts[k].as_string(), "") for k in CAMERA_NAMES), type_=JSON).label("camera_names"),
)  # fmt: skip
"""What the list reads of a frame: reading all facts of 2,000 frames would take longer than all the rest."""

SENSOR_COLUMN = func.json_array(*(func.coalesce(Frame.facts[k].as_string(), "") for k in SENSOR), type_=JSON).label(
    "sensor"
)
"""Read besides where there is dust of any camera."""


def frame_row(resolver: Resolver, frame: Any) -> dict[str, Any]:
    """What the Sheet and the ribbon show of one frame."""
    resolved = resolver.resolve(frame)
    departs = [e for k in resolved.departures() if (e := declared(k)) and not e.spec.per_frame]
    moved = [e for k in frame.offsets if "/" in k and (e := declared(k))]
    lead = resolver.is_lead(frame)
    follows = resolver.lead_of(frame) is not None
    return {
        "id": frame.id,
        "name": frame.name,
        "set": frame.set_id,
        "stars": frame.stars,
        "label": frame.label,
        "verdict": frame.verdict,
        "w": frame.width,
        "h": frame.height,
        "v": version(frame, resolved.values),
        "lead": lead,
        "alternate": frame.alternate,
        "follows": follows,
        "own": sorted({e.spec.title for e in (*departs, *moved)}) if follows else [],
        "crop": any(e.spec.per_frame for k in frame.own if (e := declared(k))),
        "offsets": frame.offsets,
        "worked": bool(frame.own or frame.offsets) or (follows and bool(resolver.layers(frame).lead)),
        "error": frame.error,
        "camera": frame.camera,
        "lens": frame.lens,
        "iso": frame.iso,
        "taken": frame.taken.isoformat() if frame.taken else None,
        "keywords": frame.keywords,
        "sharp": frame.measured.get("sharp"),
        # Of the largest face; none in it, or not looked at yet.
        "face": frame.measured["box"] if frame.measured.get("where") == "face" else [] if frame.measured else None,
        "stands": standing(frame.taken, frame.place),
        "seen": frame.seen,
        "worn": [w["name"] for w in frame.worn],
    }


@router.get("/shoots/{shoot_id}/sheet")
def sheet(
    shoot_id: int,
    services: WithServices,
    first: Annotated[int, Query(ge=0, le=100_000)] = 0,
    since: Annotated[int, Query(ge=0)] = 0,
    basis: Annotated[str, Query(max_length=40)] = "",
) -> dict[str, Any]:
    """The frames of a shoot in order of time, with their sets.

    Args:
        first: only so many, for a page that shows something before all of a large shoot is there; 0: all.
        since, basis: "tick" and "basis" of an earlier answer: then only what changed since is told, and which frames are "gone";
            "whole" says whether all are told nevertheless, as they are where what all stand on (the shoot's preset, who leads
            whom, rules of profiles) is no longer the same.
    """
    with services.catalogue.read() as session:
        # Before the rows are read: what is written meanwhile is told once more.
        tick = session.scalar(select(func.max(Facet.tick))) or 0
        resolver = Resolver(session, shoot_id)
        stands_on = _basis(resolver, services.catalogue.dust.all())
        more = [SENSOR_COLUMN] if services.catalogue.dust.all() else []
        query = select(*SHEET_COLUMNS, *more).where(Frame.shoot_id == shoot_id).order_by(Frame.taken, Frame.name)
        gone: list[int] = []
        whole = first > 0 or stands_on != basis or since > tick
        if whole:
            rows = [frame_row(resolver, row) for row in session.execute(query.limit(first) if first else query)]
        else:
            rows, gone = changed_rows(session, resolver, query, since)
        here = Facet.shoot_id == shoot_id, Facet.gone.is_(False)
        total = session.scalar(select(func.count()).select_from(Facet).where(*here)) or 0
        used = {r["set"] for r in rows} if first else set(session.scalars(select(Facet.set_id).where(*here).distinct()))
        groups = [
            {"id": s.id, "name": s.name, "reason": s.reason, "lead": s.lead_id, "under": s.under_id}
            for s in resolver.sets.values()
            if s.id in used
        ]
        preset = resolver.shoot.preset
        name = resolver.shoot.name
    return {
        "name": name,
        "frames": rows,
        "total": total,
        "sets": groups,
        "preset": {"name": preset["name"], "amount": preset["amount"]} if preset else None,
        "counter": services.pictures.counter,
        "tick": tick,
        "basis": stands_on,
        "whole": whole,
        "gone": gone,
    }


def _basis(resolver: Resolver, dust: Sequence[SensorDust]) -> str:
    """What rows of all frames stand on, as a short hash."""
    sets = [(s.id, s.lead_id, s.under_id) for s in resolver.sets.values()]
    said = repr((sorted(sets, key=lambda s: s[0]), resolver.shoot.preset, resolver.rules, dust))
    return hashlib.sha256(said.encode()).hexdigest()[:16]


def changed_rows(
    session: Session, resolver: Resolver, query: Any, since: int
) -> tuple[list[dict[str, Any]], list[int]]:
    """Rows of the frames that changed since a tick, and of those that follow one that did; ids of those that are gone."""
    here = select(Facet.frame_id, Facet.gone).where(Facet.shoot_id == resolver.shoot.id, Facet.tick > since)
    changed: dict[int, bool] = dict(session.execute(here).all())
    led = {s.id for s in resolver.sets.values() if s.lead_id in changed}
    while more := {s.id for s in resolver.sets.values() if s.under_id in led} - led:
        led |= more  # the lead of a set that stands under another follows that one's lead
    ids = [i for i, gone in changed.items() if not gone]
    parts = [Frame.id.in_(ids[at : at + CHUNK]) for at in range(0, len(ids), CHUNK)]
    if led:
        parts.append(Frame.set_id.in_(led))
    rows: dict[int, dict[str, Any]] = {}
    for part in parts:
        for row in session.execute(query.where(part)):
            if row.id not in rows:
                rows[row.id] = frame_row(resolver, row)
    return list(rows.values()), [i for i, gone in changed.items() if gone]


@router.get("/shoots/{shoot_id}/pictures")
def pictures(shoot_id: int, since: int, services: WithServices) -> dict[str, Any]:
    """Which pictures became ready since a counter."""
    counter, ready = services.pictures.since(since)
    return {"counter": counter, "ready": ready, "pending": services.pictures.pending}


class PicturesWish(BaseModel):
    model_config = ConfigDict(extra="forbid")
    frames: list[int] = Field(max_length=500)


@router.post("/shoots/{shoot_id}/want")
def want(shoot_id: int, body: PicturesWish, services: WithServices) -> dict[str, Any]:
    """Ask for the pictures of the frames that are on the screen, the nearest named first."""
    with services.catalogue.read() as session:
        resolver = Resolver(session, shoot_id)
        query = select(Frame).where(Frame.shoot_id == shoot_id, Frame.id.in_(body.frames))
        found = {f.id: f for f in session.scalars(query)}
        # The newest wish is made first: so the nearest frame is wished for last.
        wishes = [wish_for(resolver, found[i]) for i in reversed(body.frames) if i in found]
    services.pictures.want(wishes)
    return {"pending": services.pictures.pending}
