"""Listed things inside the flat settings: "areas/7f3a91c2/light.exposure".

A listed thing (an area) is nothing but the names that begin with its list and its id. So layers, departures, presets, carrying
over, sidecars and undo work on its parts as they do on any adjustment, and two frames speak of the same thing when the id is
the same. What it may hold is declared once, as a `Listed`.
"""

import hashlib
import re
import secrets
from collections.abc import Iterable, Mapping
from dataclasses import dataclass
from typing import Any

from tanner.core.adjust.spec import Group, param

ID = re.compile(r"[0-9a-f]{8}")
MOST = 64
"""Things of one list on one frame."""
Names = Mapping[str, Any]


class Parts(Group):
    """What every listed thing has; a list's own class adds to it."""

    enabled: bool = param(True, label="On", widget="switch", help="Switches it off and on again.")
    kind: str = param(
        "", label="Kind", widget="item", structure=True, help="What it is; empty where its lead gave it up."
    )
    name: str = param("", label="Name", widget="item", structure=True, help="What it is called.")
    order: float = param(0.0, -1e6, 1e6, label="Order", widget="item", structure=True, help="Lower ones come first.")
    present: bool = param(True, label="Present", widget="item", help="Off: this frame does without it.")
    amount: float = param(100.0, 0.0, 200.0, label="Amount", unit="%", help="How much of what it does.")


@dataclass(frozen=True)
class Listed:
    """A list that settings may hold.

    Attributes:
        key: how the names of its things begin; title: what one is called.
        parts: what belongs to the thing itself.
        most: things of the list on one frame.
        adjustments: full names of adjustments that each has of its own, as differences from the picture's.
        whole: what one does is not in its adjustments: at a preset's amount its own amount is scaled.
    """

    key: str
    title: str
    parts: type[Parts]
    adjustments: tuple[str, ...] = ()
    most: int = MOST
    whole: bool = False


def name_of(list_key: str, ident: str, name: str) -> str:
    return f"{list_key}/{ident}/{name}"


def split(key: str) -> tuple[str, str, str] | None:
    """List, id and name of a key, or None where it is none of a listed thing."""
    found = key.split("/")
    return (found[0], found[1], found[2]) if len(found) == 3 and ID.fullmatch(found[1]) else None


def new_id() -> str:
    return secrets.token_hex(4)


def id_from_preset(preset: str, ident: str) -> str:
    """The same on every frame and each time: a preset put on twice gives one thing, and taking it out finds it."""
    return hashlib.sha256(f"{preset}/{ident}".encode()).hexdigest()[:8]


def renamed(values: Names, preset: str) -> dict[str, Any]:
    """A preset's values with its listed things called as on every frame that it is put on."""
    result = {}
    for key, value in values.items():
        found = split(key)
        result[name_of(found[0], id_from_preset(preset, found[1]), found[2]) if found else key] = value
    return result


def grouped(settings: Names, list_key: str) -> dict[str, dict[str, Any]]:
    """The names of a list's things by id, whatever is in them."""
    found: dict[str, dict[str, Any]] = {}
    start = list_key + "/"
    for key, value in settings.items():
        if key.startswith(start) and (parts := split(key)):
            found.setdefault(parts[1], {})[parts[2]] = value
    return found


def things(settings: Names, list_key: str) -> list[dict[str, Any]]:
    """The things of a list that are there, in order: {"id", "kind", ..., "light.exposure", ...}."""
    found = [{"id": i, **values} for i, values in grouped(settings, list_key).items()]
    there = [t for t in found if t.get("kind") and t.get("present", True)]
    return sorted(there, key=lambda t: (t.get("order", 0.0), t["id"]))


def amounts(settings: Names, list_key: str, amount: float) -> dict[str, float]:
    """The amounts of a list's things, scaled."""
    limit = 200.0
    return {
        name_of(list_key, i, "amount"): round(min(limit, max(0.0, values.get("amount", 100.0) * amount)), 6)
        for i, values in grouped(settings, list_key).items()
    }


def with_things_of(own: Names, other: Names, lists: Iterable[str]) -> dict[str, Any]:
    """Own settings, with the listed things that only the other one has."""
    result = dict(own)
    for list_key in lists:
        there = grouped(own, list_key)
        missing = [i for i in grouped(other, list_key) if i not in there]
        result |= of_things(other, list_key, missing)
    return result


def of_things(settings: Names, list_key: str, idents: Iterable[str]) -> dict[str, Any]:
    """All names of some things: what carrying them over takes."""
    starts = tuple(f"{list_key}/{i}/" for i in idents)
    return {k: v for k, v in settings.items() if k.startswith(starts)}
