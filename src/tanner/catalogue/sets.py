"""Sets by hand: merge, split, move, the lead; and the proposal for frames that have no set yet."""

from collections.abc import Sequence

from sqlalchemy import func, select
from sqlalchemy.orm import Session

from tanner.catalogue.models import Action, Base, Frame, FrameSet
from tanner.catalogue.steps import record
from tanner.core.errors import TannerError
from tanner.core.raw.facts import camera_name
from tanner.core.series.resolve import followed
from tanner.core.series.sets import SetLimits, Sighting, brackets, exposure_ev, propose


def sighting(frame: Frame) -> Sighting:
    facts = frame.facts
    return Sighting(
        key=frame.id,
        camera=f"{camera_name(facts.get('make', ''), facts.get('model', ''))} {facts.get('serial', '')}".strip(),
        lens=facts.get("lens") or "",
        focal_length_mm=facts.get("focal_length_mm") or 0.0,
        light_mired=1e6 / max(frame.as_shot[0], 1000.0),
        taken=frame.taken,
        name=frame.name,
        descriptor=frame.descriptor,
        exposure_ev=exposure_ev(facts.get("aperture"), facts.get("exposure_s"), frame.iso),
        upright=frame.height > frame.width,
        chart=bool(frame.seen.get("chart")),
    )


def _next_name(session: Session, shoot_id: int) -> int:
    query = select(func.count()).select_from(FrameSet).where(FrameSet.shoot_id == shoot_id)
    return int(session.scalar(query) or 0) + 1


def would_propose(session: Session, shoot_id: int, limits: SetLimits) -> list[dict[str, object]]:
    """What a new proposal for all frames would be: counts, first frames and reasons."""
    frames = {f.id: f for f in session.scalars(select(Frame).where(Frame.shoot_id == shoot_id))}
    return [
        {"count": len(p.keys), "first": frames[p.keys[0]].name, "reason": p.reason}
        for p in propose([sighting(f) for f in frames.values()], limits)
    ]


def propose_sets(
    session: Session, shoot_id: int, *, again: bool = False, limits: SetLimits = SetLimits()
) -> Action | None:
    """Put frames without a set into proposed ones; `again` proposes for all frames."""
    query = select(Frame).where(Frame.shoot_id == shoot_id)
    frames = {f.id: f for f in session.scalars(query) if again or f.set_id is None}
    changes: list[tuple[Base, dict[str, object]]] = []
    seen = [sighting(f) for f in frames.values()]
    places = brackets(seen)
    for proposal in propose(seen, limits):
        # A chart shows the light, not what the set is about: it leads only where there is nothing else.
        lead = next((k for k in proposal.keys if not frames[k].seen.get("chart")), proposal.keys[0])
        group = FrameSet(
            shoot_id=shoot_id,
            name=f"Set {_next_name(session, shoot_id)}",
            reason=proposal.reason,
            lead_id=lead,
        )
        session.add(group)
        session.flush()
        for key in proposal.keys:
            kept = {k: v for k, v in frames[key].seen.items() if k != "bracket"}
            bracket = {"bracket": list(places[key])} if key in places else {}
            changes.append((frames[key], {"set_id": group.id, "seen": {**kept, **bracket}}))
    return record(session, shoot_id, "Sets proposed", changes)


def put_under(session: Session, group: FrameSet, other: FrameSet | None) -> Action | None:
    """Let a set's lead follow the lead of another set (same light, other things), or stand on its own again.

    Raises:
        TannerError: it would go round in a circle, or the other set has no lead.
    """
    if other is None:
        return record(session, group.shoot_id, f"{group.name} stands on its own", [(group, {"under_id": None})])
    if other.shoot_id != group.shoot_id:
        raise TannerError("A set can follow a set of its own shoot only. Carry over takes settings to other shoots.")
    above, seen = other, {group.id}
    while above is not None:
        if above.id in seen:
            raise TannerError(f"{other.name} follows {group.name} already, so {group.name} cannot follow it.")
        seen.add(above.id)
        above = session.get(FrameSet, above.under_id or 0)  # type: ignore[assignment]
    if other.lead_id is None or group.lead_id is None:
        raise TannerError("A set without frames neither leads nor follows.")
    return record(session, group.shoot_id, f"{group.name} follows {other.name}", [(group, {"under_id": other.id})])


def _members(session: Session, set_id: int) -> list[Frame]:
    query = select(Frame).where(Frame.set_id == set_id).order_by(Frame.taken, Frame.name)
    return list(session.scalars(query))


def _takes_over(session: Session, old_id: int | None, new: Frame) -> dict[str, object]:
    """Fields of a frame that becomes a lead: it keeps the look that it had from the lead before."""
    old = session.get(Frame, old_id) if old_id and new.follows and old_id != new.id else None
    return {"own": {**(followed(old.own) if old else {}), **new.own}, "follows": True}


def lead_without(session: Session, group: FrameSet, leaving: set[int]) -> list[tuple[Base, dict[str, object]]]:
    """The lead that a set has when some frames leave it: the same one, or the first that stays."""
    staying = [f for f in _members(session, group.id) if f.id not in leaving]
    if not staying:
        return [(group, {"lead_id": None})]
    if group.lead_id in [f.id for f in staying]:
        return []
    return [(group, {"lead_id": staying[0].id}), (staying[0], _takes_over(session, group.lead_id, staying[0]))]


def move(session: Session, shoot_id: int, frames: Sequence[Frame], to: FrameSet | None) -> Action | None:
    """Move frames into a set, or into a new one of their own (split). Leads that leave are replaced."""
    if not frames:
        return None
    if any(f.shoot_id != shoot_id for f in frames) or (to and to.shoot_id != shoot_id):
        raise TannerError("Frames are moved between sets of their own shoot only.")
    changes: list[tuple[Base, dict[str, object]]] = []
    label = f"{len(frames)} moved to {to.name}" if to else f"{len(frames)} split off"
    if to is None:
        # What they took from a set above theirs stays when all come from under the same one.
        groups = [session.get(FrameSet, i) for i in {f.set_id for f in frames if f.set_id}]
        above = {g.under_id for g in groups if g}
        to = FrameSet(
            shoot_id=shoot_id,
            name=f"Set {_next_name(session, shoot_id)}",
            reason="split by hand",
            under_id=above.pop() if len(above) == 1 else None,
        )
        session.add(to)
        session.flush()
    leaving = {f.id for f in frames if f.set_id != to.id}
    for set_id in {f.set_id for f in frames if f.set_id not in (None, to.id)}:
        group = session.get(FrameSet, set_id)
        if group:
            changes += lead_without(session, group, leaving)
    for frame in frames:
        fields: dict[str, object] = {"set_id": to.id}
        if to.lead_id is None and frame is frames[0]:
            before = session.get(FrameSet, frame.set_id or 0)
            fields |= _takes_over(session, before.lead_id if before else None, frame)
        changes.append((frame, fields))
    if to.lead_id is None:
        changes.append((to, {"lead_id": frames[0].id}))
    return record(session, shoot_id, label, changes)


def merge(session: Session, shoot_id: int, into: FrameSet, others: Sequence[FrameSet]) -> Action | None:
    """Bring all frames of other sets into one; its lead stays."""
    frames = [f for other in others if other.id != into.id for f in _members(session, other.id)]
    return move(session, shoot_id, frames, into)


def choose_lead(session: Session, frame: Frame) -> Action | None:
    """Make a frame the lead of its set. The look stays; the lead before follows in all that they share."""
    group = session.get(FrameSet, frame.set_id or 0)
    if group is None:
        raise TannerError(f"{frame.name} is in no set, so it cannot lead one.")
    fields = _takes_over(session, group.lead_id, frame)
    changes: list[tuple[Base, dict[str, object]]] = [(group, {"lead_id": frame.id}), (frame, fields)]
    old = session.get(Frame, group.lead_id or 0)
    if old and old.id != frame.id:
        shared: dict[str, object] = followed(fields["own"])  # type: ignore[arg-type]
        changes.append((old, {"own": {k: v for k, v in old.own.items() if k not in shared or shared[k] != v}}))
    return record(session, frame.shoot_id, f"{frame.name} leads {group.name}", changes)


def rename(session: Session, group: FrameSet, name: str) -> Action | None:
    name = name.strip()[:80]
    if not name:
        raise TannerError("A set needs a name.")
    return record(session, group.shoot_id, f"Set called {name}", [(group, {"name": name})])
