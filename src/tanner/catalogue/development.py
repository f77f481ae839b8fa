"""The development of frames: resolving their layers, and every change to them as an undoable action."""

import hashlib
import json
from collections.abc import Iterable, Mapping, Sequence
from typing import Any

from sqlalchemy import select
from sqlalchemy.orm import Session

from tanner.catalogue.models import WITH_GONE, Action, Base, Frame, FrameSet, Patch, Shoot
from tanner.catalogue.profiles import Rule, chosen_by_rule
from tanner.core.adjust.registry import adjustments, blend, check_names, develop
from tanner.core.errors import SettingsError, TannerError
from tanner.core.series import worn
from tanner.core.series.depends import About, settled
from tanner.core.series.resolve import OFFSET_LIMITS, Layers, Resolved, followed, offset_for, resolve, shifted

Wearing = tuple[Frame, str, str, float, Mapping[str, Any]]
"""A frame, a preset's key and name, its amount in %, and its values for this frame at this amount."""
KINDS: dict[str, type[Base]] = {"frame": Frame, "set": FrameSet, "shoot": Shoot}


class Resolver:
    """Resolves frames of one shoot; leads and the shoot's preset are looked up once.

    Attributes:
        coming: own values that leads are about to get in the same action as their followers.
    """

    def __init__(self, session: Session, shoot_id: int) -> None:
        shoot = session.get(Shoot, shoot_id)
        if shoot is None:
            raise TannerError("This shoot is no longer there.")
        self.shoot = shoot
        self._preset = _known(shoot.preset.get("values", {}))
        self._amount = shoot.preset.get("amount", 100) / 100
        self._preset_at: dict[About, dict[str, Any]] = {}
        query = select(FrameSet).where(FrameSet.shoot_id == shoot_id)
        self.sets = {s.id: s for s in session.scalars(query)}
        leads = [s.lead_id for s in self.sets.values() if s.lead_id]
        self.leads = {f.id: f for f in session.scalars(select(Frame).where(Frame.id.in_(leads)))}
        self.coming: dict[int, Mapping[str, Any]] = {}
        self.rules: list[Rule] = session.info.get("rules", list)()

    def lead_of(self, frame: Frame) -> Frame | None:
        """The lead whose development this frame takes over; None for frames on their own.

        A lead has one itself where its set stands under another set.
        """
        group = self.sets.get(frame.set_id or 0)
        if group is None or not frame.follows:
            return None
        if group.lead_id == frame.id:
            group = self.sets.get(group.under_id or 0)
        lead = self.leads.get(group.lead_id or 0) if group else None
        return None if lead is None or lead.id == frame.id else lead

    def led_by(self, frame: Frame) -> dict[str, Any]:
        """What a frame takes over from its lead, and that from the lead above it, and so on."""
        chain: list[Frame] = []
        lead = self.lead_of(frame)
        while lead is not None and lead.id != frame.id and lead not in chain:
            chain.append(lead)
            lead = self.lead_of(lead)
        values: dict[str, Any] = {}
        for each in reversed(chain):
            values |= followed(self.coming.get(each.id, each.own))
        return values

    def relative_to_lead(self, frame: Frame) -> bool:
        """Whether corrections of exposure and light are kept as offsets. A lead's are values, for its followers take them."""
        return self.lead_of(frame) is not None and not self.is_lead(frame)

    def is_lead(self, frame: Frame) -> bool:
        group = self.sets.get(frame.set_id or 0)
        return group is not None and group.lead_id == frame.id

    def layers(self, frame: Frame, own: Mapping[str, Any] | None = None) -> Layers:
        kelvin, tint = frame.as_shot or (5500.0, 0.0)
        return Layers(
            defaults={**frame.starting, **self._by_rule(frame, kelvin)},
            preset=self._by_preset(frame),
            lead=self.led_by(frame),
            own=frame.own if own is None else own,
            offsets=frame.offsets,  # type: ignore[arg-type]
            as_shot=(kelvin, tint),
        )

    def _by_preset(self, frame: Frame) -> dict[str, Any]:
        """The shoot's preset for this frame: its values may depend on what the frame is."""
        about = about_of(frame)
        if about not in self._preset_at:
            self._preset_at[about] = blend(settled(self._preset, about), self._amount)
        return self._preset_at[about]

    def _by_rule(self, frame: Frame, kelvin: float) -> dict[str, Any]:
        """Defaults that the user's rules give: the camera profile for this camera in this light."""
        key = chosen_by_rule(self.rules, frame.camera_names, kelvin) if self.rules else ""
        return {"profile.camera": key} if key else {}

    def resolve(self, frame: Frame) -> Resolved:
        return resolve(self.layers(frame))


def about_of(frame: Frame) -> About:
    """What values of a preset may depend on."""
    kelvin = frame.as_shot[0] if frame.as_shot else None
    return About(frame.iso, kelvin, frame.camera, frame.lens, frame.height > frame.width)


def _known(values: Mapping[str, Any]) -> dict[str, Any]:
    return {k: v for k, v in values.items() if k in adjustments()}


def version(frame: Frame, values: Mapping[str, Any]) -> str:
    """A short name for what a frame looks like: changes with its file or its settings."""
    text = json.dumps([frame.content, sorted(values.items())])
    return hashlib.sha256(text.encode()).hexdigest()[:16]


# --- actions ---------------------------------------------------------------------------------------


def record(
    session: Session, shoot_id: int, label: str, changes: Iterable[tuple[Base, Mapping[str, Any]]]
) -> Action | None:
    """Apply changes as one action; None when nothing differs."""
    patches = []
    for target, fields in changes:
        before = {k: getattr(target, k) for k in fields}
        after = {k: v for k, v in fields.items() if before[k] != v}
        if not after:
            continue
        kind = next(k for k, c in KINDS.items() if isinstance(target, c))
        patches.append(
            Patch(kind=kind, target=target.id, before={k: before[k] for k in after}, after=after)  # type: ignore[attr-defined]
        )
        for key, value in after.items():
            setattr(target, key, value)
    if not patches:
        return None
    undone = select(Action).where(Action.shoot_id == shoot_id, Action.state == "undone")
    for old in session.scalars(undone):
        old.state = "left"
    action = Action(shoot_id=shoot_id, label=label)
    session.add(action)
    session.flush()
    for patch in patches:
        patch.action_id = action.id
        session.add(patch)
    return action


def _play(session: Session, action: Action, side: str) -> None:
    for patch in session.scalars(select(Patch).where(Patch.action_id == action.id)):
        target = session.get(KINDS[patch.kind], patch.target, execution_options=WITH_GONE)
        if target is not None:
            for key, value in getattr(patch, side).items():
                setattr(target, key, value)


def undo(session: Session, shoot_id: int) -> Action | None:
    """Take the last action back; None when there is none."""
    query = select(Action).where(Action.shoot_id == shoot_id, Action.state == "done").order_by(Action.id.desc())
    action = session.scalars(query.limit(1)).first()
    if action:
        _play(session, action, "before")
        action.state = "undone"
    return action


def redo(session: Session, shoot_id: int) -> Action | None:
    """Bring the action back that was undone last."""
    query = select(Action).where(Action.shoot_id == shoot_id, Action.state == "undone").order_by(Action.id)
    action = session.scalars(query.limit(1)).first()
    if action:
        _play(session, action, "after")
        action.state = "done"
    return action


def history(session: Session, frame: Frame, limit: int = 100) -> list[dict[str, Any]]:
    """Steps that changed this frame's development, newest first."""
    query = (
        select(Action, Patch)
        .join(Patch, Patch.action_id == Action.id)
        .where(Patch.kind == "frame", Patch.target == frame.id, Action.state == "done")
        .order_by(Action.id.desc())
    )
    steps = []
    for action, patch in session.execute(query.limit(limit)):
        if {"own", "offsets", "follows"} & set(patch.after):
            steps.append({"action": action.id, "label": action.label, "at": action.at.isoformat()})
    return steps


def state_after(session: Session, frame: Frame, action_id: int) -> dict[str, Any]:
    """The frame's own layer as it was right after an action; 0 is before the first one."""
    state = {"own": frame.own, "offsets": frame.offsets, "follows": frame.follows, "worn": frame.worn}
    query = (
        select(Patch)
        .join(Action, Patch.action_id == Action.id)
        .where(Patch.kind == "frame", Patch.target == frame.id, Action.state == "done", Action.id > action_id)
        .order_by(Action.id.desc())
    )
    for patch in session.scalars(query):
        state |= {k: v for k, v in patch.before.items() if k in state}
    return state


def last_correction(session: Session, frame: Frame) -> tuple[dict[str, float], dict[str, float]] | None:
    """How the frame's offsets were moved by its last steps in a row, and what they were before; None without any."""
    query = (
        select(Patch)
        .join(Action, Patch.action_id == Action.id)
        .where(Patch.kind == "frame", Patch.target == frame.id, Action.state == "done")
        .order_by(Action.id.desc())
    )
    before: dict[str, float] | None = None
    for patch in session.scalars(query):
        if "offsets" not in patch.after:
            break
        before = patch.before["offsets"]
    if before is None:
        return None
    kinds = sorted(set(before) | set(frame.offsets))
    moved = {k: round(frame.offsets.get(k, 0.0) - before.get(k, 0.0), 4) for k in kinds}
    moved = {k: v for k, v in moved.items() if abs(v) > 1e-6}
    return (moved, dict(before)) if moved else None


# --- changes to a development ------------------------------------------------------------------------


def say(values: Mapping[str, Any]) -> str:
    """A change in a few words, for the history."""
    if len(values) != 1:
        groups = list(dict.fromkeys(k.split(".")[0] for k in values))
        return f"{len(values)} adjustments of {', '.join(groups)}"
    key, value = next(iter(values.items()))
    spec = adjustments()[key].spec
    if isinstance(value, bool):
        return f"{spec.label}: {'on' if value else 'off'}"
    if isinstance(value, int | float):
        return f"{spec.label} {value:g} {spec.unit}".strip().replace("-", "−")
    return spec.label if value is not None else f"{spec.label} as shot"


def edited(
    resolver: Resolver, frame: Frame, values: Mapping[str, Any], *, relative: Sequence[str] = ()
) -> dict[str, Any]:
    """The frame's own layer after values were set: {"own", "offsets"}.

    A value that equals what the frame would show anyway is no departure and is not kept.

    Args:
        relative: names that become offsets where the frame follows a lead.

    Raises:
        SettingsError: a name or value that the declarations refuse.
    """
    check_names(values)
    resolved = resolver.resolve(frame)
    own, offsets = dict(frame.own), dict(frame.offsets)
    follows = resolver.relative_to_lead(frame)
    as_shot = (frame.as_shot[0], frame.as_shot[1])
    for key, value in values.items():
        kind = adjustments()[key].spec.offset
        below = resolved.base(key)
        if kind:
            offsets.pop(kind, None)
        if kind and follows and key in relative and value is not None:
            own.pop(key, None)
            offset = offset_for(key, below, float(value), as_shot)[1]
            if abs(offset) > 1e-6:
                offsets[kind] = offset
        elif value == below:
            own.pop(key, None)
        else:
            own[key] = value
    check = resolve(resolver.layers(frame, own))
    develop(check.values)
    return {"own": own, "offsets": offsets}


def set_values(
    session: Session,
    resolver: Resolver,
    frames: Sequence[Frame],
    values: Mapping[str, Any],
    *,
    relative: Sequence[str] = (),
    label: str = "",
) -> Action | None:
    """Set values on frames as one action."""
    changes = _edited_all(resolver, [(f, values) for f in frames], relative)
    return record(session, resolver.shoot.id, label or say(values), changes)


def set_each(
    session: Session, resolver: Resolver, wanted: Sequence[tuple[Frame, Mapping[str, Any]]], label: str
) -> Action | None:
    """Set values of each frame's own on several frames, as one action."""
    return record(session, resolver.shoot.id, label, _edited_all(resolver, wanted))


def _edited_all(
    resolver: Resolver, wanted: Sequence[tuple[Frame, Mapping[str, Any]]], relative: Sequence[str] = ()
) -> list[tuple[Frame, dict[str, Any]]]:
    """Own layers after a change, leads first: followers that are changed along then have nothing to depart in."""
    changes = []
    try:
        for frame, values in sorted(wanted, key=lambda pair: resolver.is_lead(pair[0]), reverse=True):
            after = edited(resolver, frame, values, relative=relative)
            if resolver.is_lead(frame):
                resolver.coming[frame.id] = after["own"]
            changes.append((frame, after))
    finally:
        resolver.coming.clear()
    return changes


def _moved_offsets(frame: Frame, deltas: Mapping[str, float]) -> dict[str, float]:
    """The frame's offsets with amounts added, within their limits; none is kept at nothing."""
    offsets = dict(frame.offsets)
    for kind, delta in deltas.items():
        limit = OFFSET_LIMITS[kind]  # type: ignore[index]
        moved = round(min(max(offsets.get(kind, 0.0) + delta, -limit), limit), 4)
        offsets.pop(kind, None)
        if moved:
            offsets[kind] = moved
    return offsets


def set_offsets(
    session: Session, resolver: Resolver, frames: Sequence[Frame], deltas: Mapping[str, float]
) -> Action | None:
    """Move the offsets of frames by amounts (EV, mired, tint), within their limits."""
    for kind in deltas:
        if kind not in OFFSET_LIMITS:
            raise SettingsError(f"There is no offset called {kind}. There are: {', '.join(OFFSET_LIMITS)}.")
    changes = []
    for frame in frames:
        changes.append((frame, {"offsets": _moved_offsets(frame, deltas)}))
    said = ", ".join(f"{k} {v:+g}" for k, v in deltas.items()).replace("-", "−")
    return record(session, resolver.shoot.id, f"Offset {said}", changes)


def set_each_offset(
    session: Session,
    resolver: Resolver,
    wanted: Sequence[tuple[Frame, Mapping[str, float]]],
    label: str,
    values: Mapping[int, Mapping[str, Any]] | None = None,
) -> Action | None:
    """Move exposure and white balance of each frame by amounts (EV, mired, tint), as one action.

    Args:
        values: what else is set on frames, by their id.

    Followers get offsets, which stay right when their lead changes. A lead, and a frame on its own, has nothing to be
    relative to: it gets values.
    """
    keys = {a.spec.offset: a.key for a in adjustments().values() if a.spec.offset}
    changes: list[tuple[Base, Mapping[str, Any]]] = []
    for frame, deltas in wanted:
        also = (values or {}).get(frame.id, {})
        if not resolver.relative_to_lead(frame):
            shown = resolver.resolve(frame).values
            as_shot = (frame.as_shot[0], frame.as_shot[1])
            moved = {
                keys[k]: shifted(keys[k], shown.get(keys[k]), k, v, as_shot)  # type: ignore[arg-type, index]
                for k, v in deltas.items()
                if abs(v) > 1e-6
            }
            changes.append((frame, edited(resolver, frame, {**also, **moved})))
            continue
        own = {"own": edited(resolver, frame, also)["own"]} if also else {}
        changes.append((frame, {"offsets": _moved_offsets(frame, deltas), **own}))
    return record(session, resolver.shoot.id, label, changes)


def give_up(session: Session, resolver: Resolver, frames: Sequence[Frame], keys: Sequence[str] | None) -> Action | None:
    """Give up own values and offsets (all of them, or those named): the frame follows again."""
    changes = []
    table = adjustments()
    for frame in frames:
        named = list(keys) if keys is not None else [k for k in frame.own if k in table and not table[k].spec.per_frame]
        kinds = {table[k].spec.offset for k in named if k in table} if keys is not None else set(OFFSET_LIMITS)
        own = {k: v for k, v in frame.own.items() if k not in named}
        offsets = {k: v for k, v in frame.offsets.items() if k not in kinds}
        changes.append((frame, {"own": own, "offsets": offsets, **({"worn": []} if keys is None else {})}))
    label = "Departures given up" if keys is None else f"{', '.join(table[k].spec.label for k in keys[:3])} given up"
    return record(session, resolver.shoot.id, label, changes)


def wear(session: Session, resolver: Resolver, wanted: Sequence[Wearing], label: str) -> Action | None:
    """Put presets on top of what frames wear, as one action; one that a frame wears already is put on anew."""
    return record(session, resolver.shoot.id, label, wear_changes(resolver, wanted))


def wear_changes(resolver: Resolver, wanted: Sequence[Wearing]) -> list[tuple[Frame, dict[str, Any]]]:
    """Fields of frames after presets were put on them; see `wear`."""
    told: list[tuple[Frame, Mapping[str, Any]]] = []
    fields: dict[int, dict[str, Any]] = {}
    for frame, key, name, amount, values in wanted:
        resolved = resolver.resolve(frame)
        stay = [n for n, e in enumerate(frame.worn) if e["key"] != key]
        rest: list[Any] = list(frame.worn)
        back: dict[str, Any] = {}
        offsets: dict[str, float] = {}
        if len(stay) < len(frame.worn):
            rest, back, offsets = worn.rearranged(frame.worn, stay, resolved.values, resolved.below)
        own = {k: v for k, v in {**frame.own, **back}.items() if k not in back or v != resolved.base(k)}
        top = worn.entry(key, name, amount, values, own, {**frame.offsets, **offsets}, rest)
        fields[frame.id] = {"worn": [*rest, top]}
        told.append((frame, {**back, **values}))
    return [(f, {**after, **fields[f.id]}) for f, after in _edited_all(resolver, told)]


def rearrange(
    session: Session, resolver: Resolver, frames: Sequence[Frame], keep: Sequence[str], label: str
) -> Action | None:
    """Put the presets that frames wear into another order, or take some out, by their keys, the lowest first.

    What frames wear besides `keep` is taken out; a frame that lacks one of them just has no such preset.
    """
    told: list[tuple[Frame, Mapping[str, Any]]] = []
    fields: dict[int, dict[str, Any]] = {}
    for frame in frames:
        place = {e["key"]: n for n, e in enumerate(frame.worn)}
        order = [place[k] for k in dict.fromkeys(keep) if k in place]
        resolved = resolver.resolve(frame)
        after, values, offsets = worn.rearranged(frame.worn, order, resolved.values, resolved.below)
        fields[frame.id] = {"worn": after, "put back": offsets}
        told.append((frame, values))
    changes = []
    for frame, edit in _edited_all(resolver, told):
        back = fields[frame.id].pop("put back")
        changes.append((frame, {"own": edit["own"], "offsets": {**edit["offsets"], **back}, **fields[frame.id]}))
    return record(session, resolver.shoot.id, label, changes)


def reset(session: Session, resolver: Resolver, frames: Sequence[Frame], groups: Sequence[str] | None) -> Action | None:
    """Put adjustments of groups (all of them without any) back to how frames start, as one action.

    A follower then departs from its lead where the lead differs; to follow again is `give_up`.
    """
    keys = [k for k, a in adjustments().items() if groups is None or a.group in groups]
    if not keys:
        raise SettingsError("There is no such group of adjustments.")
    told = []
    for frame in frames:
        layers = resolver.layers(frame)
        start = {**layers.defaults, **layers.preset}
        told.append((frame, {k: start.get(k, adjustments()[k].neutral) for k in keys}))
    kinds = {adjustments()[k].spec.offset for k in keys} - {None}
    changes = []
    for frame, after in _edited_all(resolver, told):
        offsets = {k: v for k, v in after["offsets"].items() if k not in kinds}
        changes.append((frame, {**after, "offsets": offsets, **({"worn": []} if groups is None else {})}))
    label = "Everything reset" if groups is None else f"{', '.join(dict.fromkeys(groups))} reset"
    return record(session, resolver.shoot.id, label, changes)


def carry(
    session: Session, resolver: Resolver, source: Frame, targets: Sequence[Frame], keys: Sequence[str]
) -> tuple[Action | None, int]:
    """Carry chosen adjustments of one frame over to others, across sets too.

    Targets may belong to another shoot; each shoot's change is an action of its own.

    Returns:
        The (last) action, and how many frames changed.
    """
    check_names(dict.fromkeys(keys))
    shown = resolver.resolve(source).values
    values = {k: shown.get(k, adjustments()[k].neutral) for k in keys}
    action, changed = None, 0
    for shoot_id in dict.fromkeys(f.shoot_id for f in targets):
        there = resolver if shoot_id == resolver.shoot.id else Resolver(session, shoot_id)
        mine = [f for f in targets if f.shoot_id == shoot_id and f.id != source.id]
        changes = _edited_all(there, [(f, values) for f in mine])
        changed += sum(any(getattr(f, k) != v for k, v in after.items()) for f, after in changes)
        action = record(session, shoot_id, f"Carried over from {source.name}: {say(values)}", changes) or action
    return action, changed


def carry_list(resolver: Resolver, source: Frame) -> list[dict[str, Any]]:
    """What Carry over shows: every adjustment with its value, grouped; per-frame ones off at first."""
    resolved = resolver.resolve(source)
    result = []
    for key, entry in adjustments().items():
        value = resolved.values.get(key, entry.neutral)
        start = source.starting.get(key, entry.neutral)
        result.append(
            {
                "key": key,
                "group": entry.group,
                "label": entry.spec.label,
                "unit": entry.spec.unit,
                "value": value,
                "changed": value != start,
                "per_frame": entry.spec.per_frame,
                "chosen": value != start and not entry.spec.per_frame,
            }
        )
    return result
