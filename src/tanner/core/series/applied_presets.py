"""Presets that lie on one frame: in order, the later one wins; each can be taken out or moved, and what was beneath returns.

A frame's own values stay what they are; this is the record of where they came from. An entry is plain data:
{"key", "name", "amount", "values", "beneath": {"own", "offsets"}}; `beneath` holds the own values and offsets that were
there before the lowest preset that sets them.
"""

from collections.abc import Mapping, Sequence
from typing import Any

from tanner.core.adjust.registry import declared
from tanner.core.series.resolve import neutral, offset_name

Entry = dict[str, Any]


def entry(
    key: str,
    name: str,
    amount: float,
    values: Mapping[str, Any],
    own: Mapping[str, Any],
    offsets: Mapping[str, float],
    applied: Sequence[Entry],
) -> Entry:
    """A preset to be put on top of those of a frame."""
    covered = {k for e in applied for k in e["values"]}
    first = [k for k in values if k not in covered]
    kinds = {offset_name(k) for k in first}
    beneath = {
        "own": {k: own[k] for k in first if k in own},
        "offsets": {k: v for k, v in offsets.items() if k in kinds},
    }
    return {"key": key, "name": name, "amount": amount, "values": dict(values), "beneath": beneath}


def winners(applied: Sequence[Entry]) -> dict[str, int]:
    """For each adjustment the place of the preset that wins."""
    return {k: n for n, e in enumerate(applied) for k in e["values"]}


def rearranged(
    applied: Sequence[Entry], order: Sequence[int], shown: Mapping[str, Any], below: Mapping[str, Any]
) -> tuple[list[Entry], dict[str, Any], dict[str, float]]:
    """Presets in another order, or without some of them.

    Args:
        order: the places of those that stay, the lowest first.
        shown: what the frame shows; below: what it would show without its own values.

    Returns:
        The entries, values to be set, and offsets to be put back. What was changed by hand since stays.
    """
    base_own = {k: v for e in applied for k, v in e["beneath"]["own"].items()}
    base_offsets = {k: v for e in applied for k, v in e["beneath"]["offsets"].items()}
    after: list[Entry] = []
    for place in order:
        old = applied[place]
        covered = {k for e in after for k in e["values"]}
        first = [k for k in old["values"] if k not in covered]
        kinds = {offset_name(k) for k in first}
        beneath = {
            "own": {k: base_own[k] for k in first if k in base_own},
            "offsets": {k: v for k, v in base_offsets.items() if k in kinds},
        }
        after.append({**old, "beneath": beneath})
    won = {k: applied[n]["values"][k] for k, n in winners(applied).items()}
    wins = {k: after[n]["values"][k] for k, n in winners(after).items()}
    values: dict[str, Any] = {}
    offsets: dict[str, float] = {}
    for key, value in won.items():
        if declared(key) is None or shown.get(key, neutral(key)) != value:
            continue  # from a newer version; or by hand since
        if key in wins:
            values[key] = wins[key]
        else:
            values[key] = base_own.get(key, below.get(key, neutral(key)))
            name = offset_name(key)
            if name and name in base_offsets:
                offsets[name] = base_offsets[name]
    return after, values, offsets


def described(applied: Sequence[Entry], shown: Mapping[str, Any]) -> list[dict[str, Any]]:
    """What each preset does to a frame as it is now: its values in force, and what wins over the others."""
    place = winners(applied)
    result = []
    for n, each in enumerate(applied):
        lost = []
        for key, value in each["values"].items():
            entry = declared(key)
            if entry is None:
                continue
            if place[key] != n:
                lost.append({"label": entry.spec.title, "to": applied[place[key]]["name"]})
            elif shown.get(key, entry.neutral) != value:
                lost.append({"label": entry.spec.title, "to": "by hand"})
        known = sum(declared(k) is not None for k in each["values"])
        result.append(
            {"key": each["key"], "name": each["name"], "amount": each["amount"], "sets": known, "in_force": known - len(lost), "lost": lost}
        )  # fmt: skip
    return result
