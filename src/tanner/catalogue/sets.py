"""Sets by hand: merge, split, move, the lead; and the proposal for frames that have no set yet."""

from collections.abc import Sequence

from sqlalchemy import func, select
from sqlalchemy.orm import Session

from tanner.catalogue.development import record
from tanner.catalogue.models import Action, Base, Frame, FrameSet
from tanner.core.errors import TannerError
from tanner.core.raw.facts import camera_name
from tanner.core.series.resolve import followed
from tanner.core.series.sets import Sighting, propose


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
    )


def _next_name(session: Session, shoot_id: int) -> int:
    query = select(func.count()).select_from(FrameSet).where(FrameSet.shoot_id == shoot_id)
    return int(session.scalar(query) or 0) + 1


def propose_sets(session: Session, shoot_id: int, *, again: bool = False) -> Action | None:
    """Put frames without a set into proposed ones; `again` proposes for all frames."""
    query = select(Frame).where(Frame.shoot_id == shoot_id)
    frames = {f.id: f for f in session.scalars(query) if again or f.set_id is None}
    changes: list[tuple[Base, dict[str, object]]] = []
    for proposal in propose([sighting(f) for f in frames.values()]):
        group = FrameSet(
            shoot_id=shoot_id,
            name=f"Set {_next_name(session, shoot_id)}",
            reason=proposal.reason,
            lead_id=proposal.keys[0],
        )
        session.add(group)
        session.flush()
        changes += [(frames[k], {"set_id": group.id}) for k in proposal.keys]
    return record(session, shoot_id, "Sets proposed", changes)


def _members(session: Session, set_id: int) -> list[Frame]:
    query = select(Frame).where(Frame.set_id == set_id).order_by(Frame.taken, Frame.name)
    return list(session.scalars(query))


def _takes_over(session: Session, old_id: int | None, new: Frame) -> dict[str, object]:
    """Fields of a frame that becomes a lead: it keeps the look that it had from the lead before."""
    old = session.get(Frame, old_id) if old_id and new.follows and old_id != new.id else None
    return {"own": {**(followed(old.own) if old else {}), **new.own}, "follows": True}


def _lead_without(session: Session, group: FrameSet, leaving: set[int]) -> list[tuple[Base, dict[str, object]]]:
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
        to = FrameSet(shoot_id=shoot_id, name=f"Set {_next_name(session, shoot_id)}", reason="split by hand")
        session.add(to)
        session.flush()
    leaving = {f.id for f in frames if f.set_id != to.id}
    for set_id in {f.set_id for f in frames if f.set_id not in (None, to.id)}:
        group = session.get(FrameSet, set_id)
        if group:
            changes += _lead_without(session, group, leaving)
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
