"""The list of all adjustments, read from the declarations in the stages' own files."""

import difflib
from collections.abc import Iterable, Mapping
from dataclasses import dataclass, replace
from functools import cache, lru_cache
from typing import Any, TypeVar

from pydantic import ValidationError

from tanner.core.adjust.items import Listed, Parts, amounts, grouped, name_of, split, things
from tanner.core.adjust.spec import Group, Spec
from tanner.core.areas.declare import AREAS
from tanner.core.colour.exact import EXACT
from tanner.core.colour.picked import PICKED
from tanner.core.errors import SettingsError
from tanner.core.spots.declare import SPOTS
from tanner.core.stages.path import GROUPS

__all__ = ["GROUPS", "LISTS", "Adjustment", "Development", "Settings", "Thing", "adjustments", "declared", "develop"]
Settings = Mapping[str, Any]
"""Sparse values by full name, for example {"light.exposure": 0.5}."""
G = TypeVar("G", bound=Group)
LISTS: dict[str, Listed] = {AREAS.key: AREAS, SPOTS.key: SPOTS, PICKED.key: PICKED, EXACT.key: EXACT}
"""Lists of things that settings may hold, by key."""
MIRED = 200.0
"""How far the light of a listed thing may differ from the picture's."""


@dataclass(frozen=True)
class Adjustment:
    """One declared adjustment, as every reader of the registry sees it.

    Attributes:
        thing: its full name where it belongs to a listed thing.
    """

    group: str
    name: str
    spec: Spec
    neutral: Any
    low: float | None
    high: float | None
    choices: tuple[str, ...] | None
    thing: str = ""

    @property
    def key(self) -> str:
        return self.thing or f"{self.group}.{self.name}"

    def as_dict(self) -> dict[str, Any]:
        """The public form, as `tanner adjustments --json` prints it."""
        return {
            "group": self.group,
            "name": self.name,
            "label": self.spec.title,
            "unit": self.spec.unit,
            "min": self.low,
            "max": self.high,
            "step": self.spec.step,
            "neutral": self.neutral,
            "per_frame": self.spec.per_frame,
            "help": self.spec.help,
            "widget": self.spec.widget,
            "choices": self.choices,
        }


def _bound(metadata: Iterable[Any], name: str) -> float | None:
    return next((getattr(m, name) for m in metadata if hasattr(m, name)), None)


def _plain(value: Any) -> Any:
    """A neutral value as JSON gives it back, so that the two can be compared."""
    return [list(v) if isinstance(v, tuple) else v for v in value] if isinstance(value, list) else value


@cache
def _declared_in(group: str, model: type[Group]) -> dict[str, Adjustment]:
    """The adjustments that a class declares, by name."""
    found = {}
    for name, info in model.model_fields.items():
        spec = next(m for m in info.metadata if isinstance(m, Spec))
        arguments = getattr(info.annotation, "__args__", ())
        choices = tuple(a for a in arguments if isinstance(a, str)) or None
        low, high = _bound(info.metadata, "ge"), _bound(info.metadata, "le")
        found[name] = Adjustment(group, name, spec, _plain(info.default), low, high, choices)
    return found


@cache
def adjustments() -> dict[str, Adjustment]:
    """All adjustments of the picture by full name, in working order; see `declared` for those of listed things."""
    return {a.key: a for group, model in GROUPS.items() for a in _declared_in(group, model).values()}


@lru_cache(maxsize=65_536)
def declared(key: str) -> Adjustment | None:
    """The declaration behind a name, also inside a listed thing; None for a name that nobody knows."""
    if "/" not in key:
        return adjustments().get(key)
    found = split(key)
    listed = LISTS.get(found[0]) if found else None
    if found is None or listed is None:
        return None
    name = found[2]
    own = _declared_in(listed.key, listed.parts).get(name)
    if own is not None:
        return replace(own, thing=key)
    below = adjustments().get(name)
    return None if below is None or name not in listed.adjustments else _difference(below, listed, key)


def is_place(key: str) -> bool:
    """Whether a name says where or of which colour a listed thing is: one in the very middle of the frame is one, too."""
    entry = declared(key)
    return entry is not None and entry.spec.structure and isinstance(entry.neutral, list) and bool(entry.neutral)


def _difference(below: Adjustment, listed: Listed, key: str) -> Adjustment:
    """An adjustment of a listed thing: a difference from the picture's, where nothing is neutral."""
    if below.spec.widget == "curve":
        # A curve of its own, which comes after the picture's.
        return replace(below, group=listed.key, thing=key)
    kind = below.spec.offset or ""
    reach = MIRED if kind == "mired" else (below.high or 0.0) - max(below.low or 0.0, 0.0)
    spec = replace(
        below.spec, offset=None, default_rule=None, unit="mired" if kind == "mired" else below.spec.unit,
        step=5.0 if kind == "mired" else below.spec.step,
    )  # fmt: skip
    return Adjustment(listed.key, below.name, spec, 0.0, -reach, reach, None, key)


@dataclass(frozen=True)
class Thing:
    """One listed thing, validated.

    Attributes:
        parts: what it is; values: its adjustments by full name of the picture's, at its amount.
    """

    id: str
    parts: Parts
    values: Mapping[str, Any]


class Development:
    """A complete, validated set of groups and listed things: what a frame is rendered with."""

    def __init__(self, groups: Mapping[str, Group], lists: Mapping[str, tuple[Thing, ...]] | None = None) -> None:
        self.groups = dict(groups)
        self.lists = dict(lists or {})

    def group(self, model: type[G]) -> G:
        """The active values of one group (neutral when it is switched off)."""
        return next(g for g in self.groups.values() if isinstance(g, model)).active()

    def affecting(self, what: str) -> tuple[Group, ...]:
        """The active groups that affect geometry, noise, or colour alone: a key for what is kept with them."""
        return tuple(g.active() for g in self.groups.values() if g.affects == what)

    def listed(self, key: str) -> tuple[Thing, ...]:
        """The things of a list that are there and switched on, in order."""
        return tuple(t for t in self.lists.get(key, ()) if t.parts.enabled)

    def values(self) -> dict[str, Any]:
        """All values of the groups by full name."""
        return {f"{g}.{n}": v for g, m in self.groups.items() for n, v in m.model_dump().items()}


def with_differences(development: "Development", values: Mapping[str, Any]) -> "Development":
    """A development with differences added to its adjustments, within their ranges; curves come after its own."""
    from tanner.core.tone.curve import one_after_other

    groups = dict(development.groups)
    for group in dict.fromkeys(k.split(".")[0] for k in values):
        model = groups[group].active()
        changed: dict[str, Any] = {}
        for key, value in values.items():
            if not key.startswith(group + "."):
                continue
            entry, name = adjustments()[key], key.split(".")[1]
            now = getattr(model, name)
            if entry.spec.widget == "curve":
                changed[name] = one_after_other(model, now, value)
            elif now is not None:
                assert entry.low is not None and entry.high is not None
                changed[name] = min(max(now + value, entry.low), entry.high)
        groups[group] = model.model_copy(update=changed)
    return Development(groups, development.lists)


def check_names(settings: Settings) -> None:
    """Raise SettingsError for names that no adjustment has, with the nearest that exist."""
    for key in settings:
        if declared(key) is None:
            near = difflib.get_close_matches(key, adjustments(), 1)
            hint = f" Did you mean {near[0]}?" if near else " `tanner adjustments` lists them."
            raise SettingsError(f"There is no adjustment called {key}.{hint}")


@cache
def _neutral(model: type[Group]) -> Group:
    return model()


def develop(settings: Settings) -> Development:
    """Validate sparse settings and fill the rest with neutral values.

    Raises:
        SettingsError: an unknown name, or a value that its declaration refuses.
    """
    check_names(settings)
    given: dict[str, dict[str, Any]] = {}
    for key, value in settings.items():
        group, _, name = key.partition(".")
        given.setdefault(group, {})[name] = value
    groups: dict[str, Group] = {}
    for group, model in GROUPS.items():
        try:
            # Most groups of most frames have no values, and thousands of frames are validated in one step.
            groups[group] = model(**given[group]) if group in given else _neutral(model)
        except ValidationError as error:
            first = error.errors()[0]
            name = ".".join([group, str(first["loc"][0])]) if first["loc"] else group
            raise SettingsError(f"{name}: {first['msg']} (got {first.get('input')!r}).") from None
    there = {key.partition("/")[0] for key in settings if "/" in key}
    return Development(groups, {k: _things(settings, listed) if k in there else () for k, listed in LISTS.items()})


def _things(settings: Settings, listed: Listed) -> tuple[Thing, ...]:
    """The things of a list, validated, at their amounts; those without a kind are not there."""
    own = listed.parts.model_fields
    parts: dict[str, Parts] = {}
    # All of them, also those without a kind: a lead that brings its area back finds nothing that makes no sense.
    for ident, values in grouped(settings, listed.key).items():
        for name, value in values.items():
            if name not in own:
                _check_difference(name_of(listed.key, ident, name), value)
        try:
            parts[ident] = listed.parts(**{k: v for k, v in values.items() if k in own})
        except ValidationError as error:
            first = error.errors()[0]
            where = ".".join(str(p) for p in first["loc"])
            raise SettingsError(f"{listed.title} {values.get('name') or ident}, {where}: {first['msg']}.") from None
    there = things(settings, listed.key)
    if len(there) > listed.most:
        raise SettingsError(f"There are {len(there)} of {listed.key}; a frame holds {listed.most}.")
    return tuple(
        Thing(t["id"], p, {k: _at(v, p.amount / 100) for k, v in t.items() if k in listed.adjustments})
        for t in there
        for p in [parts[t["id"]]]
    )


def _at(value: Any, amount: float) -> Any:
    """A difference, or a curve, at an amount."""
    if isinstance(value, list):
        return [[x, min(1.0, max(0.0, x + (y - x) * amount))] for x, y in value]
    return value * amount


def _check_difference(key: str, value: Any) -> None:
    entry = declared(key)
    if entry is not None and entry.spec.widget == "curve":
        group, name = key.split("/")[2].split(".")
        try:
            GROUPS[group](**{name: value})
        except ValidationError as error:
            raise SettingsError(f"{key}: {error.errors()[0]['msg']} (got {value!r}).") from None
        return
    assert entry is not None and entry.low is not None and entry.high is not None
    if isinstance(value, bool) or not isinstance(value, int | float) or not entry.low <= value <= entry.high:
        raise SettingsError(f"{key}: from {entry.low:g} to {entry.high:g} is taken (got {value!r}).")


def defaults(*, raw: bool, lens: bool, applied: Iterable[str] = ()) -> dict[str, Any]:
    """Starting values by rule, from what the declarations say: layer 1 of the resolved settings.

    Args:
        raw: the frame is camera data, so a base curve is due.
        lens: corrections for the frame's lens are known.
        applied: names of lens corrections that are in the file's pixels already; they are not due again.
    """
    facts = {"raw": raw, "lens": lens}
    return {
        a.key: a.spec.default_value
        for a in adjustments().values()
        if a.spec.default_rule and facts[a.spec.default_rule] and not (a.group == "optics" and a.name in applied)
    }


def blend(settings: Settings, amount: float) -> dict[str, Any]:
    """Settings at an amount: 0 is neutral, 1 is as given, up to 1.5; clipped to each range.

    Numbers and curves are scaled from their neutral value. What says what a listed thing is stays as it is; what else cannot be
    scaled (switches, choices, values whose neutral is "as shot") is taken from an amount of one half on.
    """
    result: dict[str, Any] = {}
    for key, value in settings.items():
        entry = declared(key)
        assert entry is not None
        if entry.spec.structure:
            result[key] = value
        elif entry.spec.widget == "curve":
            result[key] = [[x, min(1.0, max(0.0, x + (y - x) * amount))] for x, y in value]
        elif isinstance(value, int | float) and not isinstance(value, bool) and entry.neutral is not None:
            scaled = entry.neutral + (value - entry.neutral) * amount
            low = entry.low if entry.low is not None else scaled
            high = entry.high if entry.high is not None else scaled
            result[key] = round(min(high, max(low, scaled)), 6)
        elif amount >= 0.5:
            result[key] = value
    for listed in LISTS.values():
        if listed.whole and amount != 1:
            result |= amounts(settings, listed.key, amount)
    return result
