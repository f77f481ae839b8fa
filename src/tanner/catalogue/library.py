"""Presets and output specs: one readable JSON file each; those that ship, and the user's own beside them."""

import json
import re
from collections.abc import Callable, Container, Iterable
from pathlib import Path
from typing import Any, TypeVar

from pydantic import ValidationError

from tanner.core.errors import FormatError, TannerError
from tanner.core.output.files import write_whole
from tanner.core.output.naming import clean
from tanner.core.output.spec import OutputSpec, read_spec
from tanner.core.series.conditional import About
from tanner.core.series.preset import Preset, parse_preset, read_preset
from tanner.core.series.rules import FrameRule, meeting

SHIPPED = Path(__file__).parent.parent / "shipped"
T = TypeVar("T")


def slug(name: str) -> str:
    """A file name for a title: letters, digits and dashes."""
    return re.sub(r"[^\w]+", "-", clean(name).lower(), flags=re.UNICODE).strip("-") or "unnamed"


def _read_all(folders: list[Path], read: Callable[[Path], T]) -> tuple[dict[str, T], list[str]]:
    """Every file of the folders by its key; a file that makes no sense is told and left out."""
    found: dict[str, T] = {}
    problems: list[str] = []
    for folder, prefix in zip(folders, ("shipped", "own"), strict=True):
        for path in sorted(folder.glob("*.json")):
            try:
                found[f"{prefix}/{path.stem}"] = read(path)
            except FormatError as error:
                problems.append(str(error))
    return found, problems


class Library:
    """The presets and specs of one data folder."""

    def __init__(self, data: Path) -> None:
        self._presets, self._specs, self._rules = data / "presets", data / "specs", data / "rules.json"

    def presets(self) -> tuple[dict[str, Preset], list[str]]:
        """By key, with problems of files that could not be read."""
        return _read_all([SHIPPED / "presets", self._presets], read_preset)

    def preset(self, key: str) -> Preset:
        found = self.presets()[0].get(key)
        if found is None:
            raise TannerError("This preset is no longer there.")
        return found

    def save_preset(self, preset: Preset, *, replace: bool = False) -> str:
        """Write a preset into the user's folder; its key."""
        path = self._presets / f"{slug(preset.folder)}-{slug(preset.name)}.json"
        if path.exists() and not replace:
            raise TannerError(f"There is a preset called {preset.name} in {preset.folder} already.")
        write_whole(path, preset.to_json().encode(), replace=True)
        return f"own/{path.stem}"

    def change_preset(self, key: str, name: str, folder: str, about: str, without: Container[str] = ()) -> str:
        """Rename one of the own presets, say what it is for, leave adjustments out of it; its key, which goes by its name.

        Rules that put it on go with it.

        Raises:
            TannerError: it is not one's own, nothing would be left in it, or the name is taken.
        """
        old = self._own(self._presets, key)
        preset = read_preset(old)
        values = {k: v for k, v in preset.values.items() if k not in without}
        if not values and not preset.match:
            raise TannerError(f"{preset.name} would hold nothing any more. Delete it instead.")
        changed = preset.model_copy(update={"name": name, "folder": folder, "about": about, "values": values})
        new = self.save_preset(changed, replace=f"{slug(folder)}-{slug(name)}" == old.stem)
        if new != key:
            rules = self.rules()
            if any(r.preset == key for r in rules):
                self.save_rules([r.model_copy(update={"preset": new}) if r.preset == key else r for r in rules])
            old.unlink()
        return new

    def import_preset(self, data: bytes, name: str) -> str:
        if len(data) > 1_000_000:
            raise FormatError(f"{name}: is too large for a preset.")
        return self.save_preset(parse_preset(data, name))

    def rules(self) -> list[FrameRule]:
        """Rules that put presets on frames, in their order; none where the file makes no sense."""
        try:
            return [FrameRule(**r) for r in json.loads(self._rules.read_text())]
        except FileNotFoundError:
            return []
        except (OSError, ValueError, TypeError, ValidationError) as error:
            raise FormatError(f"{self._rules.name}: cannot be used ({str(error).splitlines()[0]}).") from None

    def save_rules(self, rules: list[FrameRule]) -> None:
        text = json.dumps([r.model_dump(exclude_defaults=True) for r in rules], indent=1)
        write_whole(self._rules, text.encode(), replace=True)

    def by_rules(self, frames: Iterable[tuple[About, str]]) -> list[list[dict[str, Any]]]:
        """For each frame (what it is, its name) the presets that rules give it, the lowest first.

        A preset is {key, name, amount, when}, with an error where it is gone.
        """
        presets, rules = self.presets()[0], self.rules()
        return [self._by_rule(meeting(rules, about, name), presets) for about, name in frames]

    def _by_rule(self, rules: list[FrameRule], presets: dict[str, Preset]) -> list[dict[str, Any]]:
        rows: list[dict[str, Any]] = []
        for rule in rules:
            row = {"key": rule.preset, "amount": rule.amount, "when": rule.when.words()}
            preset = presets.get(rule.preset)
            if preset is None:
                rows.append({**row, "name": rule.preset, "error": "this preset is no longer there"})
            else:
                rows.append({**row, "name": preset.name})
        return rows

    def delete_preset(self, key: str) -> None:
        self._own(self._presets, key).unlink()

    def _own(self, folder: Path, key: str) -> Path:
        kind, _, stem = key.partition("/")
        path = folder / f"{stem}.json"
        if kind != "own" or path.parent != folder or not path.exists():
            raise TannerError("Only your own presets and specs can be changed, and this one is not there.")
        return path

    def specs(self) -> tuple[dict[str, OutputSpec], list[str]]:
        return _read_all([SHIPPED / "specs", self._specs], read_spec)

    def spec(self, key: str) -> OutputSpec:
        found = self.specs()[0].get(key)
        if found is None:
            raise TannerError("This output spec is no longer there.")
        return found

    def save_spec(self, spec: OutputSpec, *, replace: bool = False) -> str:
        path = self._specs / f"{slug(spec.title)}.json"
        if path.exists() and not replace:
            raise TannerError(f"There is an output spec called {spec.title} already.")
        write_whole(path, (spec.model_dump_json(indent=2) + "\n").encode(), replace=True)
        return f"own/{path.stem}"

    def delete_spec(self, key: str) -> None:
        self._own(self._specs, key).unlink()
