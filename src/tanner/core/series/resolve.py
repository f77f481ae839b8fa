"""Resolves what a frame shows from its layers; nothing is ever copied between frames.

Weakest first: neutral values; defaults by rule; the shoot's preset; the set's lead; the frame's own
values; its offsets, which are relative and come last so that they stay right when anything below changes.

Offsets of the picture go by their kind (EV, mired, tint), those of listed things by full name: where a mask lies on this frame
stays right when the lead's mask moves.
"""

import math
from collections.abc import Iterable, Mapping
from dataclasses import dataclass, field
from functools import cache
from typing import Any, Literal

from tanner.core.adjust.registry import Settings, adjustments, declared
from tanner.core.adjust.spec import OffsetKind
from tanner.core.areas import place as places
from tanner.core.areas.shapes import held_to_subject
from tanner.core.colour.temperature import mired_shift
from tanner.core.errors import SettingsError
from tanner.core.spots.declare import lone

Layer = Literal["neutral", "default", "preset", "lead", "own"]
Offsets = Mapping[str, Any]
"""By kind for the picture, by full name for listed things."""
OFFSET_LIMITS: dict[OffsetKind, float] = {"ev": 5.0, "mired": 200.0, "tint": 100.0}


@dataclass(frozen=True)
class Layers:
    """What one frame's settings are made of.

    Attributes:
        defaults: starting values by rule, of this frame.
        preset: the shoot's preset at its amount.
        lead: own values of the set's lead; empty for the lead itself and for frames that do not follow.
        own: own values of this frame.
        offsets: see `Offsets`.
        as_shot: kelvin and tint of the light as the camera took it, which offsets start from when
            neither is set.
    """

    defaults: Settings = field(default_factory=dict)
    preset: Settings = field(default_factory=dict)
    lead: Settings = field(default_factory=dict)
    own: Settings = field(default_factory=dict)
    offsets: Offsets = field(default_factory=dict)
    as_shot: tuple[float, float] = (5500.0, 0.0)


@dataclass(frozen=True)
class Resolved:
    """Values by full name, which layer each came from, and what offsets were added.

    Attributes:
        values: sparse: what is neutral may be absent.
        layers: layer of each value.
        below: the values without this frame's own values and offsets: what it would show if it gave
            them up.
    """

    values: dict[str, Any]
    layers: dict[str, Layer]
    below: dict[str, Any]

    def departures(self) -> list[str]:
        """Names of own values that differ from what the frame would show without them."""
        return [
            k
            for k, layer in self.layers.items()
            if layer == "own" and self.values[k] != self.base(k) and not computed(k)
        ]

    def base(self, key: str) -> Any:
        return self.below.get(key, neutral(key))


def neutral(key: str) -> Any:
    """The neutral value behind a name; None for one that nobody knows."""
    entry = declared(key)
    return None if entry is None else entry.neutral


def computed(key: str) -> bool:
    """Whether a value is worked out and not chosen."""
    entry = declared(key)
    return entry is not None and entry.spec.computed


def followed(own: Settings) -> dict[str, Any]:
    """What followers take from a lead's own values: all but what belongs to one frame."""
    without = lone(own)
    given = {k: v for k, v in own.items() if (entry := declared(k)) and not entry.spec.per_frame}
    return (
        {k: v for k, v in given.items() if not (k.startswith("spots/") and k.split("/")[1] in without)}
        if without
        else given
    )


def resolve(layers: Layers) -> Resolved:
    """The settings of one frame. Unknown names (from a newer version) are left out, not refused."""
    values: dict[str, Any] = {}
    origin: dict[str, Layer] = {}
    below: dict[str, Any] = {}
    stack: list[tuple[Layer, Settings]] = [
        ("default", layers.defaults),
        ("preset", layers.preset),
        ("lead", followed(layers.lead)),
        ("own", layers.own),
    ]
    for layer, settings in stack:
        if layer == "own":
            below = dict(values)
        for key, value in settings.items():
            if declared(key):
                values[key], origin[key] = value, layer
    # A mask, or a spot, that holds to its subject is off on a follower until it was found there.
    for key in [k for k, layer in origin.items() if layer == "lead" and k.endswith(("/shapes", "/holds"))]:
        again = key[: key.rindex("/")] + "/found"
        subject = values[key] == "subject" if key.endswith("holds") else held_to_subject(values[key])
        if again not in values and subject:
            values[again], origin[again] = list(places.NOT_YET), "lead"
    for name, amount in layers.offsets.items():
        for key in (name,) if "/" in name else _of_kind().get(name, ()):
            entry = declared(key)
            if entry is None or entry.spec.offset is None or not amount:
                continue
            values[key] = shifted(key, values.get(key), amount, layers.as_shot)
            origin.setdefault(key, "neutral")
    return Resolved(values, origin, below)


def beneath(layers: Layers, keys: Iterable[str]) -> dict[str, Any]:
    """What a frame would show for these names if it gave up its own values: `Resolved.base`, without resolving all."""
    keys = tuple(keys)
    if any("/" in key for key in keys):  # listed things depend on one another
        resolved = resolve(layers)
        return {key: resolved.base(key) for key in keys}
    found = {}
    for key in keys:
        entry = declared(key)
        below = [layers.preset, layers.defaults]
        if entry and not entry.spec.per_frame:
            below.insert(0, layers.lead)
        found[key] = next((s[key] for s in below if key in s), entry.neutral if entry else None)
    return found


@cache
def _of_kind() -> dict[str, tuple[str, ...]]:
    """The picture's adjustments by the kind of their offset."""
    found: dict[str, tuple[str, ...]] = {}
    for key, entry in adjustments().items():
        if entry.spec.offset:
            found[entry.spec.offset] = (*found.get(entry.spec.offset, ()), key)
    return found


def shifted(key: str, value: Any, amount: Any, as_shot: tuple[float, float]) -> Any:
    """A value with an offset on it, kept inside its range."""
    entry = declared(key)
    assert entry is not None
    kind = entry.spec.offset
    if kind == "place":
        return places.within(places.moved(value or entry.neutral, amount))
    if value is None:
        value = {"mired": as_shot[0], "tint": as_shot[1]}.get(kind or "", entry.neutral)
    moved = mired_shift(value, amount) if kind == "mired" else value + amount
    low = moved if entry.low is None else entry.low
    high = moved if entry.high is None else entry.high
    return round(min(max(moved, low), high), 4)


def offset_for(key: str, base: Any, wanted: Any, as_shot: tuple[float, float]) -> tuple[str, Any]:
    """The offset (what it goes by, how much) that takes a base value to a wanted one; the inverse of `shifted`.

    Raises:
        KeyError: the adjustment has no offset.
        SettingsError: what is wanted is no such value.
    """
    entry = declared(key)
    kind = entry.spec.offset if entry else None
    if entry is None or kind is None:
        raise KeyError(key)
    if kind == "place":
        by = places.within(places.between(base or entry.neutral, places.checked(wanted)))
        return key, None if by == list(places.NOWHERE_ELSE) else by
    if isinstance(wanted, bool) or not isinstance(wanted, int | float) or not math.isfinite(wanted):
        raise SettingsError(f"{key}: a number is needed (got {wanted!r}).")
    if base is None:
        base = {"mired": as_shot[0], "tint": as_shot[1]}.get(kind, entry.neutral)
    amount = 1e6 / wanted - 1e6 / base if kind == "mired" else wanted - base
    limit = OFFSET_LIMITS[kind]
    return kind, round(min(max(amount, -limit), limit), 4)


def known_offsets(offsets: Mapping[str, Any]) -> dict[str, Any]:
    """Those offsets of a file that this version knows and that make sense; others are left out.

    Raises:
        ValueError, TypeError: a number is none. SettingsError: a place is none.
    """
    found: dict[str, Any] = {}
    for name, amount in offsets.items():
        if name in OFFSET_LIMITS:
            if math.isfinite(float(amount)):
                found[name] = float(amount)
        elif "/" in name and offset_name(name) == name:
            found[name] = places.checked(amount)
    return found


def offset_name(key: str) -> str | None:
    """What an adjustment's offset goes by: its kind for the picture, its full name in a listed thing; None for none."""
    entry = declared(key)
    if entry is None or entry.spec.offset is None:
        return None
    return key if "/" in key else entry.spec.offset
