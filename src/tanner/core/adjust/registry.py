"""The list of all adjustments, read from the declarations in the stages' own files."""

import difflib
from collections.abc import Iterable, Mapping
from dataclasses import dataclass
from functools import cache
from typing import Any

from pydantic import ValidationError

from tanner.core.adjust.spec import Group, Spec
from tanner.core.colour.camera import Profile
from tanner.core.colour.saturation import Colour
from tanner.core.colour.white import White
from tanner.core.errors import SettingsError
from tanner.core.noise.controls import Noise
from tanner.core.noise.sharpen import Detail
from tanner.core.optics.crop import Crop
from tanner.core.optics.lens import Optics
from tanner.core.optics.perspective import Perspective
from tanner.core.tone.curve import Curve
from tanner.core.tone.light import Light

Settings = Mapping[str, Any]
"""Sparse values by full name, for example {"light.exposure": 0.5}."""

# Working order, as on the Bench.
GROUPS: dict[str, type[Group]] = {
    "profile": Profile,
    "optics": Optics,
    "noise": Noise,
    "white": White,
    "light": Light,
    "curve": Curve,
    "colour": Colour,
    "detail": Detail,
    "perspective": Perspective,
    "crop": Crop,
}


@dataclass(frozen=True)
class Adjustment:
    """One declared adjustment, as every reader of the registry sees it."""

    group: str
    name: str
    spec: Spec
    neutral: Any
    low: float | None
    high: float | None
    choices: tuple[str, ...] | None

    @property
    def key(self) -> str:
        return f"{self.group}.{self.name}"

    def as_dict(self) -> dict[str, Any]:
        """The public form, as `tanner adjustments --json` prints it."""
        return {
            "group": self.group,
            "name": self.name,
            "label": self.spec.label,
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
    return [list(v) for v in value] if isinstance(value, list) else value


@cache
def adjustments() -> dict[str, Adjustment]:
    """All adjustments by full name, in working order."""
    found: dict[str, Adjustment] = {}
    for group, model in GROUPS.items():
        for name, info in model.model_fields.items():
            spec = next(m for m in info.metadata if isinstance(m, Spec))
            arguments = getattr(info.annotation, "__args__", ())
            choices = tuple(a for a in arguments if isinstance(a, str)) or None
            entry = Adjustment(
                group,
                name,
                spec,
                _plain(info.default),
                _bound(info.metadata, "ge"),
                _bound(info.metadata, "le"),
                choices,
            )
            found[entry.key] = entry
    return found


class Development:
    """A complete, validated set of groups: what a frame is rendered with."""

    def __init__(self, groups: Mapping[str, Group]) -> None:
        self.groups = dict(groups)

    def group(self, model: type[Group]) -> Any:
        """The active values of one group (neutral when it is switched off)."""
        return next(g for g in self.groups.values() if isinstance(g, model)).active()

    def values(self) -> dict[str, Any]:
        """All values by full name."""
        return {f"{g}.{n}": v for g, m in self.groups.items() for n, v in m.model_dump().items()}


def check_names(settings: Settings) -> None:
    """Raise SettingsError for names that no adjustment has, with the nearest that exist."""
    for key in settings:
        if key not in adjustments():
            near = difflib.get_close_matches(key, adjustments(), 1)
            hint = f" Did you mean {near[0]}?" if near else " `tanner adjustments` lists them."
            raise SettingsError(f"There is no adjustment called {key}.{hint}")


def develop(settings: Settings) -> Development:
    """Validate sparse settings and fill the rest with neutral values.

    Raises:
        SettingsError: an unknown name, or a value that its declaration refuses.
    """
    check_names(settings)
    groups: dict[str, Group] = {}
    for group, model in GROUPS.items():
        given = {k.split(".", 1)[1]: v for k, v in settings.items() if k.startswith(group + ".")}
        try:
            groups[group] = model(**given)
        except ValidationError as error:
            first = error.errors()[0]
            name = ".".join([group, str(first["loc"][0])]) if first["loc"] else group
            raise SettingsError(f"{name}: {first['msg']} (got {first.get('input')!r}).") from None
    return Development(groups)


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

    Numbers and curves are scaled from their neutral value. What cannot be scaled (switches, choices,
    values whose neutral is "as shot") is taken from an amount of one half on.
    """
    result: dict[str, Any] = {}
    for key, value in settings.items():
        entry = adjustments()[key]
        if entry.spec.widget == "curve":
            result[key] = [[x, min(1.0, max(0.0, x + (y - x) * amount))] for x, y in value]
        elif isinstance(value, int | float) and not isinstance(value, bool) and entry.neutral is not None:
            scaled = entry.neutral + (value - entry.neutral) * amount
            low = entry.low if entry.low is not None else scaled
            high = entry.high if entry.high is not None else scaled
            result[key] = round(min(high, max(low, scaled)), 6)
        elif amount >= 0.5:
            result[key] = value
    return result
