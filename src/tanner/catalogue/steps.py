"""Undoable steps: what each changed on frames, sets and shoots, by name; undo, redo, and the history of a frame."""

from collections.abc import Iterable, Mapping, Sequence
from datetime import datetime
from typing import Any

from sqlalchemy import DateTime, insert, select, update
from sqlalchemy.orm import Session

from tanner.catalogue.models import WITH_GONE, Action, Base, Frame, FrameSet, Patch, Shoot
from tanner.core.errors import TannerError

KINDS: dict[str, type[Base]] = {"frame": Frame, "set": FrameSet, "shoot": Shoot}
BY_NAME, GONE = "by name", "gone"
"""Keys of a side that holds only the names that changed: {"by name": {...}, "gone": [...]}. No adjustment is called so.

A step of a catalogue from before holds whole fields; both are played.
"""


def difference(before: Any, after: Any) -> tuple[Any, Any]:
    """Both sides of a changed field: of a mapping only the names that differ."""
    if not isinstance(before, Mapping) or not isinstance(after, Mapping):
        return before, after
    changed = [k for k in {**before, **after} if k not in before or k not in after or before[k] != after[k]]
    return _side(before, changed), _side(after, changed)


def _side(side: Mapping[str, Any], changed: Iterable[str]) -> dict[str, Any]:
    gone = [k for k in changed if k not in side]
    found: dict[str, Any] = {BY_NAME: {k: side[k] for k in changed if k in side}}
    return found | ({GONE: gone} if gone else {})


def played(now: Any, side: Any) -> Any:
    """A field after one side of a step was played on it."""
    if not isinstance(side, Mapping) or BY_NAME not in side:
        return side
    gone = set(side.get(GONE, ()))
    return {k: v for k, v in {**(now or {}), **side[BY_NAME]}.items() if k not in gone}


def _kept(value: Any) -> Any:
    """A value as a step keeps it: times as text."""
    return value.isoformat() if isinstance(value, datetime) else value


def _timed(target: Base, key: str, value: Any) -> Any:
    """A value that a step kept, as its column holds it."""
    is_time = isinstance(type(target).__table__.c[key].type, DateTime)
    return datetime.fromisoformat(value) if is_time and isinstance(value, str) else value


def record(
    session: Session, shoot_id: int, label: str, changes: Iterable[tuple[Base, Mapping[str, Any]]]
) -> Action | None:
    """Apply changes as one action; None when nothing differs."""
    patches = []
    for target, fields in changes:
        before, after = {}, {}
        for key, value in fields.items():
            now = getattr(target, key)
            if now != value:
                before[key], after[key] = difference(_kept(now), _kept(value))
                setattr(target, key, value)
        if after:
            kind = next(k for k, c in KINDS.items() if isinstance(target, c))
            patches.append(Patch(kind=kind, target=target.id, before=before, after=after))  # type: ignore[attr-defined]
    if not patches:
        return None
    action = _begun(session, shoot_id, label)
    for patch in patches:
        patch.action_id = action.id
        session.add(patch)
    return action


def _begun(session: Session, shoot_id: int, label: str) -> Action:
    """A new step, after which what was undone can no longer be done again."""
    session.info.setdefault("changed", set()).add(shoot_id)
    undone = select(Action).where(Action.shoot_id == shoot_id, Action.state == "undone")
    for old in session.scalars(undone):
        old.state = "left"
    action = Action(shoot_id=shoot_id, label=label)
    session.add(action)
    session.flush()
    return action


CHUNK = 500
"""Ids that are named in one statement."""


def mark(session: Session, ids: Sequence[int], label: str, fields: Mapping[str, Any]) -> list[Action]:
    """Set plain fields of many frames, as `record` does, one step in each of their shoots; frames are not loaded for it.

    Raises:
        TannerError: one of them is not there.
    """
    unique = list(dict.fromkeys(ids))
    columns = [getattr(Frame, name) for name in fields]
    changed: dict[int, list[tuple[int, dict[str, Any]]]] = {}
    found = 0
    for at in range(0, len(unique), CHUNK):
        query = select(Frame.id, Frame.shoot_id, *columns).where(Frame.id.in_(unique[at : at + CHUNK]))
        for frame, shoot, *now in session.execute(query):
            found += 1
            before = {k: v for k, v in zip(fields, now, strict=True) if v != fields[k]}
            if before:
                changed.setdefault(shoot, []).append((frame, before))
    if found != len(unique) or not unique:
        raise TannerError("Some of these frames are no longer there. Load the page again.")
    done = []
    for shoot, rows in changed.items():
        action = _begun(session, shoot, label)
        session.execute(
            insert(Patch),
            [
                {
                    "action_id": action.id,
                    "kind": "frame",
                    "target": frame,
                    "before": before,
                    "after": {k: fields[k] for k in before},
                }
                for frame, before in rows
            ],
        )
        for at in range(0, len(rows), CHUNK):
            these = [frame for frame, _ in rows[at : at + CHUNK]]
            session.execute(update(Frame).where(Frame.id.in_(these)).values(**fields))
        done.append(action)
    return done


def _play(session: Session, action: Action, side: str) -> None:
    patches = list(session.scalars(select(Patch).where(Patch.action_id == action.id)))
    ids = [p.target for p in patches if p.kind == "frame"]
    # In a few questions, and not in one a frame.
    parts = [select(Frame).where(Frame.id.in_(ids[at : at + CHUNK])) for at in range(0, len(ids), CHUNK)]
    frames = {f.id: f for part in parts for f in session.scalars(part.execution_options(**WITH_GONE))}
    for patch in patches:
        target: Any = frames.get(patch.target)
        if patch.kind != "frame":
            target = session.get(KINDS[patch.kind], patch.target)
        if target is not None:
            for key, value in getattr(patch, side).items():
                setattr(target, key, _timed(target, key, played(getattr(target, key), value)))


def undo(session: Session, shoot_id: int) -> Action | None:
    """Take the last action back; None when there is none."""
    query = select(Action).where(Action.shoot_id == shoot_id, Action.state == "done").order_by(Action.id.desc())
    action = session.scalars(query.limit(1)).first()
    if action:
        session.info.setdefault("changed", set()).add(shoot_id)
        _play(session, action, "before")
        action.state = "undone"
    return action


def redo(session: Session, shoot_id: int) -> Action | None:
    """Bring the action back that was undone last."""
    query = select(Action).where(Action.shoot_id == shoot_id, Action.state == "undone").order_by(Action.id)
    action = session.scalars(query.limit(1)).first()
    if action:
        session.info.setdefault("changed", set()).add(shoot_id)
        _play(session, action, "after")
        action.state = "done"
    return action


DEVELOPMENT = ("own", "offsets", "follows")
"""Fields whose change is a step of a frame's development."""


def history(session: Session, frame: Frame, limit: int = 100) -> list[dict[str, Any]]:
    """Steps that changed this frame's development, newest first; marks and words do not count against the limit."""
    query = (
        select(Action, Patch.after)
        .join(Patch, Patch.action_id == Action.id)
        .where(Patch.kind == "frame", Patch.target == frame.id, Action.state == "done")
        .order_by(Action.id.desc())
    )
    steps: list[dict[str, Any]] = []
    for action, after in session.execute(query.execution_options(yield_per=200)):
        if set(DEVELOPMENT) & set(after):
            steps.append({"action": action.id, "label": action.label, "at": action.at.isoformat()})
        if len(steps) >= limit:
            break
    return steps


def _patches(session: Session, frame: Frame, after: int = 0) -> Iterable[Patch]:
    """What was done to a frame, the last first."""
    query = (
        select(Patch)
        .join(Action, Patch.action_id == Action.id)
        .where(Patch.kind == "frame", Patch.target == frame.id, Action.state == "done", Action.id > after)
        .order_by(Action.id.desc())
    )
    return session.scalars(query)


def state_after(session: Session, frame: Frame, action_id: int) -> dict[str, Any]:
    """The frame's own layer as it was right after an action; 0 is before the first one."""
    state = {"own": frame.own, "offsets": frame.offsets, "follows": frame.follows, "worn": frame.worn}
    for patch in _patches(session, frame, action_id):
        state |= {k: played(state[k], v) for k, v in patch.before.items() if k in state}
    return state


def last_correction(session: Session, frame: Frame) -> tuple[dict[str, float], dict[str, float]] | None:
    """How the frame's offsets were moved by its last steps in a row, and what they were before; None without any.

    Places of listed things are no corrections of light.
    """
    before: dict[str, Any] | None = None
    for patch in _patches(session, frame):
        if "offsets" not in patch.after:
            break
        before = played(frame.offsets if before is None else before, patch.before["offsets"])
    if before is None:
        return None
    kinds = sorted(k for k in {*before, *frame.offsets} if "/" not in k)
    moved = {k: round(frame.offsets.get(k, 0.0) - before.get(k, 0.0), 4) for k in kinds}
    moved = {k: v for k, v in moved.items() if abs(v) > 1e-6}
    return (moved, {k: before[k] for k in kinds if k in before}) if moved else None
