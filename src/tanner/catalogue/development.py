"""Every change to the development of frames, as an undoable action."""

from collections.abc import Mapping, Sequence
from dataclasses import replace
from typing import Any

from sqlalchemy.orm import Session

from tanner.catalogue.models import Action, Base, Frame
from tanner.catalogue.resolver import Resolver
from tanner.catalogue.steps import record
from tanner.core.adjust.items import Listed, name_of, new_id, of_things, things
from tanner.core.adjust.registry import LISTS, adjustments, check_names, declared, develop, is_place
from tanner.core.areas.place import NOT_YET
from tanner.core.areas.shapes import held_to_subject
from tanner.core.errors import SettingsError
from tanner.core.series import applied_presets
from tanner.core.series.resolve import (
    OFFSET_LIMITS,
    Layers,
    beneath,
    computed,
    followed,
    neutral,
    offset_for,
    offset_name,
    resolve,
    shifted,
)

Applying = tuple[Frame, str, str, float, Mapping[str, Any]]
"""A frame, a preset's key and name, its amount in %, and its values for this frame at this amount."""


def say(values: Mapping[str, Any]) -> str:
    """A change in a few words, for the history."""
    if len(values) != 1:
        groups = list(dict.fromkeys(k.split("/")[0] if "/" in k else k.split(".")[0] for k in values))
        return f"{len(values)} adjustments of {', '.join(groups)}"
    key, value = next(iter(values.items()))
    entry = declared(key)
    assert entry is not None
    spec = entry.spec
    if isinstance(value, bool):
        return f"{spec.title}: {'on' if value else 'off'}"
    if isinstance(value, int | float):
        return f"{spec.title} {value:g} {spec.unit}".strip().replace("-", "−")
    return spec.title if value is not None else f"{spec.title} as shot"


def edited(
    resolver: Resolver,
    frame: Frame,
    values: Mapping[str, Any],
    *,
    relative: Sequence[str] = (),
    valid: set[str] | None = None,
) -> dict[str, Any]:
    """The frame's own layer after values were set: {"own", "offsets"}.

    A value that equals what the frame would show anyway is no departure and is not kept.

    Args:
        relative: names that become offsets where the frame follows a lead.
        valid: developments that passed already, where many frames change at once; what passes now is added.

    Raises:
        SettingsError: a name or value that the declarations refuse.
    """
    check_names(values)
    valid = set() if valid is None else valid
    layers = resolver.layers(frame)
    under = beneath(layers, values)
    own, offsets = dict(frame.own), dict(frame.offsets)
    follows = resolver.relative_to_lead(frame)
    as_shot = (frame.as_shot[0], frame.as_shot[1])
    for key, value in values.items():
        name = offset_name(key)
        below = under[key]
        if name:
            offsets.pop(name, None)
        if name and follows and key in relative and value is not None:
            own.pop(key, None)
            offset = offset_for(key, below, value, as_shot)[1]
            if offset is not None and (not isinstance(offset, float) or abs(offset) > 1e-6):
                offsets[name] = offset
        elif value == below and not (is_place(key) and _is_said(key, values, layers)):
            own.pop(key, None)
        else:
            own[key] = value
    if own == frame.own and offsets == frame.offsets:
        return {"own": own, "offsets": offsets}
    after = resolve(replace(layers, own=own)).values
    seen = repr(after)
    if seen not in valid:
        develop(after)
        valid.add(seen)
    return {"own": own, "offsets": offsets}


def _is_said(key: str, values: Mapping[str, Any], layers: Layers) -> bool:
    """Whether a neutral place is kept: not where a layer below has it already, nor where its thing goes."""
    return key not in layers.lead and key not in layers.preset and values.get(f"{key.rpartition('/')[0]}/kind") != ""


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
    valid: set[str] = set()
    try:
        for frame, values in sorted(wanted, key=lambda pair: resolver.is_lead(pair[0]), reverse=True):
            after = edited(resolver, frame, values, relative=relative, valid=valid)
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
                keys[k]: shifted(keys[k], shown.get(keys[k]), v, as_shot)  # type: ignore[index]
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
    for frame in frames:
        named = list(keys) if keys is not None else list(followed(frame.own))
        kinds = {offset_name(k) for k in named} if keys is not None else set(frame.offsets)
        own = {k: v for k, v in frame.own.items() if k not in named}
        offsets = {k: v for k, v in frame.offsets.items() if k not in kinds}
        changes.append((frame, {"own": own, "offsets": offsets, **({"worn": []} if keys is None else {})}))
    label = (
        "Departures given up"
        if keys is None
        else f"{', '.join(e.spec.title for k in keys[:3] if (e := declared(k)))} given up"
    )
    return record(session, resolver.shoot.id, label, changes)


def apply_presets(session: Session, resolver: Resolver, wanted: Sequence[Applying], label: str) -> Action | None:
    """Put presets on top of those of frames, as one action; one that a frame has already is put on anew."""
    return record(session, resolver.shoot.id, label, preset_changes(resolver, wanted))


def preset_changes(resolver: Resolver, wanted: Sequence[Applying]) -> list[tuple[Frame, dict[str, Any]]]:
    """Fields of frames after presets were put on them; see `apply_presets`."""
    edits: list[tuple[Frame, Mapping[str, Any]]] = []
    fields: dict[int, dict[str, Any]] = {}
    for frame, key, name, amount, values in wanted:
        resolved = resolver.resolve(frame)
        stay = [n for n, e in enumerate(frame.worn) if e["key"] != key]
        rest: list[Any] = list(frame.worn)
        back: dict[str, Any] = {}
        offsets: dict[str, float] = {}
        if len(stay) < len(frame.worn):
            rest, back, offsets = applied_presets.rearranged(frame.worn, stay, resolved.values, resolved.below)
        own = {k: v for k, v in {**frame.own, **back}.items() if k not in back or v != resolved.base(k)}
        top = applied_presets.entry(key, name, amount, values, own, {**frame.offsets, **offsets}, rest)
        fields[frame.id] = {"worn": [*rest, top]}
        edits.append((frame, {**back, **values}))
    return [(f, {**after, **fields[f.id]}) for f, after in _edited_all(resolver, edits)]


def rearrange(
    session: Session, resolver: Resolver, frames: Sequence[Frame], keep: Sequence[str], label: str
) -> Action | None:
    """Put the presets of frames into another order, or take some out, by their keys, the lowest first.

    What frames have besides `keep` is taken out; a frame that lacks one of them just has no such preset.
    """
    edits: list[tuple[Frame, Mapping[str, Any]]] = []
    fields: dict[int, dict[str, Any]] = {}
    for frame in frames:
        place = {e["key"]: n for n, e in enumerate(frame.worn)}
        order = [place[k] for k in dict.fromkeys(keep) if k in place]
        resolved = resolver.resolve(frame)
        after, values, offsets = applied_presets.rearranged(frame.worn, order, resolved.values, resolved.below)
        fields[frame.id] = {"worn": after, "put back": offsets}
        edits.append((frame, values))
    changes = []
    for frame, edit in _edited_all(resolver, edits):
        back = fields[frame.id].pop("put back")
        changes.append((frame, {"own": edit["own"], "offsets": {**edit["offsets"], **back}, **fields[frame.id]}))
    return record(session, resolver.shoot.id, label, changes)


def reset(session: Session, resolver: Resolver, frames: Sequence[Frame], groups: Sequence[str] | None) -> Action | None:
    """Put adjustments of groups (all of them without any) back to how frames start, as one action.

    A follower then departs from its lead where the lead differs; to follow again is `give_up`.
    """
    keys = [k for k, a in adjustments().items() if groups is None or a.group in groups]
    if not keys and not set(groups or ()) & set(LISTS):
        raise SettingsError("There is no such group of adjustments.")
    edits = []
    for frame in frames:
        layers = resolver.layers(frame)
        start = {**layers.defaults, **layers.preset}
        shown = resolver.resolve(frame).values
        listed = [k for k in shown if "/" in k and (groups is None or k.split("/")[0] in groups)]
        edits.append((frame, {k: start.get(k, neutral(k)) for k in (*keys, *listed)}))
    kinds = {offset_name(k) for _, values in edits for k in values}
    changes = []
    for frame, after in _edited_all(resolver, edits):
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
    values = {k: shown.get(k, neutral(k)) for k in keys if not computed(k)}
    # What holds to its subject has to be found there first, unless it is off where it comes from.
    for key in [k for k in values if k.endswith("/shapes") and held_to_subject(values[k])]:
        values[key.removesuffix("shapes") + "found"] = list(NOT_YET)
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
                "label": entry.spec.title,
                "unit": entry.spec.unit,
                "value": value,
                "changed": value != start,
                "per_frame": entry.spec.per_frame,
                "chosen": value != start and not entry.spec.per_frame,
            }
        )
    for list_key, listed in LISTS.items():
        for thing in things(resolved.values, list_key):
            if thing.get("holds") == "sensor":  # every frame of that camera has it, and no other may
                continue
            names = of_things(resolved.values, list_key, [thing["id"]])
            row = {
                "group": list_key,
                "label": thing.get("name") or listed.title,
                "unit": "",
                "value": None,
                "per_frame": False,
            }
            result.append(
                {"key": f"{list_key}/{thing['id']}", "keys": sorted(names), "changed": True, "chosen": True, **row}
            )
    return result


# --- listed things -----------------------------------------------------------------------------------


def add_thing(
    session: Session, resolver: Resolver, frames: Sequence[Frame], listed: Listed, name: str, parts: Mapping[str, Any]
) -> tuple[Action | None, str]:
    """Make a listed thing on frames, as one step: the last of its list, with a name that no other there has; its id."""
    ident, wanted = new_id(), []
    for frame in frames:
        there = things(resolver.resolve(frame).values, listed.key)
        order = max((t.get("order", 0.0) for t in there), default=0.0) + 1.0
        values = {**parts, "order": order, "name": _free(name, [t.get("name", "") for t in there])}
        wanted.append((frame, {name_of(listed.key, ident, k): v for k, v in values.items()}))
    return set_each(session, resolver, wanted, f"{listed.title} made: {name}"), ident


def _free(name: str, taken: Sequence[str]) -> str:
    number, candidate = 1, name
    while candidate in taken:
        number += 1
        candidate = f"{name} {number}"
    return candidate


def remove_things(
    session: Session, resolver: Resolver, frames: Sequence[Frame], listed: Listed, idents: Sequence[str]
) -> Action | None:
    """Remove listed things from frames. Where a frame follows one, it is left out on that frame only.

    What followers changed in a thing that its lead gave up is without effect, and not lost: it works again after an undo.
    """
    wanted, names = [], []
    for frame in frames:
        resolved = resolver.resolve(frame)
        values: dict[str, Any] = {}
        for ident in idents:
            kind = name_of(listed.key, ident, "kind")
            if resolved.values.get(kind) is None:
                continue
            names.append(resolved.values.get(name_of(listed.key, ident, "name")) or listed.title)
            if resolved.layers[kind] == "own":
                values |= {k: neutral(k) for k in of_things(resolved.values, listed.key, [ident])}
            else:
                values[name_of(listed.key, ident, "present")] = False
        wanted.append((frame, values))
    return set_each(session, resolver, wanted, f"{', '.join(dict.fromkeys(names))} removed")
