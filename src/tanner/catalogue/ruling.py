"""Rules on frames of a catalogue: what they would do, and doing it as one action."""

from collections.abc import Sequence
from typing import Any

from sqlalchemy.orm import Session

from tanner.catalogue.development import preset_changes
from tanner.catalogue.library import Library
from tanner.catalogue.models import Action, Frame
from tanner.catalogue.resolver import Resolver, about_of
from tanner.catalogue.steps import record
from tanner.core.series.preset import Preset
from tanner.core.series.resolve import neutral
from tanner.core.series.rules import meeting


def would_apply(resolver: Resolver, frames: Sequence[Frame], library: Library) -> list[dict[str, Any]]:
    """For each frame the presets that rules give it, and how many adjustments would change."""
    known = library.presets()[0]
    given = library.by_rules((about_of(f), f.name) for f in frames)
    rows = []
    for frame, presets in zip(frames, given, strict=True):
        shown = resolver.resolve(frame).values
        put: dict[str, Any] = {}
        for each in presets:
            if not each.get("error"):
                put |= known[each["key"]].at(each["amount"] / 100, about_of(frame))
        changes = [k for k, v in put.items() if shown.get(k, neutral(k)) != v]
        rows.append({"frame": frame.id, "name": frame.name, "presets": presets, "changes": len(changes)})
    return rows


def apply_rules(
    session: Session, resolver: Resolver, frames: Sequence[Frame], library: Library
) -> tuple[Action | None, list[tuple[Preset, list[int]]]]:
    """Put presets on frames by the rules, as one action; and the presets that want frames matched, with these."""
    rules, presets = library.rules(), library.presets()[0]
    before = {f.id: (f.own, f.offsets, f.worn) for f in frames}
    to_match: dict[str, list[int]] = {}
    # One rule after the other, so that a later preset lies on an earlier one; told as one step at the end.
    for rule in rules:
        preset = presets.get(rule.preset)
        if preset is None:
            continue
        wanted = []
        for frame in frames:
            about = about_of(frame)
            if meeting([rule], about, frame.name):
                values = preset.at(rule.amount / 100, about)
                wanted.append((frame, rule.preset, preset.name, rule.amount, values))
                if preset.match:
                    to_match.setdefault(rule.preset, []).append(frame.id)
        if wanted:
            for frame, fields in preset_changes(resolver, wanted):
                for name, value in fields.items():
                    setattr(frame, name, value)
    changes = []
    for frame in frames:
        after = {"own": frame.own, "offsets": frame.offsets, "worn": frame.worn}
        frame.own, frame.offsets, frame.worn = before[frame.id]
        changes.append((frame, after))
    return record(session, resolver.shoot.id, "By the rules", changes), [
        (presets[k], ids) for k, ids in to_match.items()
    ]
