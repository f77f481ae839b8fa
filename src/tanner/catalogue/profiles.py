"""The camera profiles of one data folder: .dcp files, the figures of those made here, and rules that choose them."""

import hashlib
import json
from collections.abc import Sequence
from pathlib import Path
from typing import Any

from pydantic import BaseModel, ConfigDict, Field, ValidationError, model_validator

from tanner.catalogue.library import slug
from tanner.core.colour.cube import read_cube
from tanner.core.colour.dcp import CameraProfile, ProfileError, read_dcp, write_dcp
from tanner.core.colour.printing import check_icc, for_cameras
from tanner.core.colour.profile_store import MOST_BYTES, fits_names, load
from tanner.core.errors import TannerError
from tanner.core.lensmake.make import joined
from tanner.core.optics.database import check_file
from tanner.core.output.files import write_whole
from tanner.core.output.mark import check_picture


class Rule(BaseModel):
    """Frames of this camera, taken in light of this range, get this profile unless they say otherwise."""

    model_config = ConfigDict(extra="forbid")

    camera: str = Field(min_length=1, max_length=200)
    low: float = Field(default=1000, ge=1000, le=50_000)
    high: float = Field(default=50_000, ge=1000, le=50_000)
    profile: str = Field(min_length=1, max_length=200)

    @model_validator(mode="after")
    def _ordered(self) -> "Rule":
        if self.low >= self.high:
            raise ValueError("the range of a rule goes from low to high")
        return self

    def meets(self, make: str, model: str, unique: str, kelvin: float) -> bool:
        return fits_names(self.camera, make, model, unique) and self.low <= kelvin < self.high


class Profiles:
    """Profiles as files: a key is a file's name without its ending, and a file is never changed."""

    def __init__(self, data: Path) -> None:
        self.folder = data / "profiles"
        self._rules = data / "profile-rules.json"

    def all(self) -> tuple[list[dict[str, Any]], list[str]]:
        """What there is, by name, and what cannot be read."""
        found, problems = [], []
        for path in sorted(self.folder.glob("*.dcp")):
            try:
                profile = load(path)
            except ProfileError as error:
                problems.append(str(error))
                continue
            found.append(self._about(path.stem, profile))
        return sorted(found, key=lambda p: (p["model"].lower(), p["name"].lower())), problems

    def _about(self, key: str, profile: CameraProfile) -> dict[str, Any]:
        report = self.report(key)
        return {
            "key": key,
            "name": profile.name,
            "model": profile.model,
            "lights": [round(k) for k in profile.kelvin()],
            "parts": parts_of(profile),
            "made": report is not None,
            "figures": [
                {"light": p["light"], **p["after"], "loo": p["leave_one_out"]["mean"]} for p in report["lights"]
            ]
            if report
            else [],
        }

    def report(self, key: str) -> dict[str, Any] | None:
        path = self.folder / f"{key}.json"
        if key != Path(key).name or not path.exists():
            return None
        try:
            result: dict[str, Any] = json.loads(path.read_text())
            return result
        except (OSError, ValueError):
            return None

    def path(self, key: str) -> Path:
        path = self.folder / f"{key}.dcp"
        if key != Path(key).name or not path.is_file():
            raise TannerError("This camera profile is no longer there.")
        return path

    def others(self, ending: str) -> list[dict[str, str]]:
        """ICC profiles (.icc), looks (.cube), lenses (.xml) or watermarks (.png) that were added."""
        found = []
        for path in sorted(self.folder.glob(f"*{ending}")):
            with path.open("rb") as file:
                kind = "camera" if ending == ".icc" and for_cameras(file.read(128)) else "output"
            found.append({"key": path.stem, "name": path.stem.rsplit("-", 1)[0], "kind": kind})
        return found

    def delete_other(self, key: str, ending: str) -> None:
        path = self.folder / f"{key}{ending}"
        if key != Path(key).name or ending not in (".icc", ".cube", ".xml", ".png") or not path.is_file():
            raise TannerError("This file is no longer there.")
        path.unlink()

    def add(self, data: bytes, name: str) -> str:
        """Bring a file in from its bytes, by its ending: .dcp, .icc or .icm, .cube, .xml (lenses), .png (watermarks); its
        key.

        Raises:
            TannerError: it cannot be read, is of another kind, or is there already.
        """
        if len(data) > MOST_BYTES:
            raise ProfileError(f"{name} is larger than any camera profile.")
        ending = Path(name).suffix.lower()
        if ending in (".icc", ".icm"):
            check_icc(data, name)
            return self._keep_other(data, name, ".icc")
        if ending == ".png":
            check_picture(data, name)
            return self._keep_other(data, name, ".png")
        if ending == ".xml":
            check_file(data, name)
            return self._keep_other(data, name, ".xml")
        if ending == ".cube":
            read_cube(data.decode("utf-8", "replace"), name)
            return self._keep_other(data, name, ".cube")
        return self._keep(read_dcp(data, name), data)

    def _keep_other(self, data: bytes, name: str, ending: str) -> str:
        key = f"{slug(Path(name).stem)}-{hashlib.sha256(data).hexdigest()[:6]}"
        if (self.folder / f"{key}{ending}").exists():
            raise TannerError(f"{name} is there already.")
        write_whole(self.folder / f"{key}{ending}", data, replace=False)
        return key

    def keep_lens(self, xml: str, name: str) -> str:
        """Keep a lens that was measured here, with what was measured of it before at other focal lengths."""
        path = self.folder / f"measured-{slug(name)}.xml"
        if path.exists():
            xml = joined(xml, path.read_text())
        check_file(xml.encode(), name)
        write_whole(path, xml.encode(), replace=True)
        return path.name

    def keep(self, profile: CameraProfile, report: dict[str, Any]) -> str:
        """Keep a profile that was made here, with its report."""
        key = self._keep(profile, write_dcp(profile))
        write_whole(self.folder / f"{key}.json", json.dumps(report, indent=1).encode(), replace=True)
        return key

    def _keep(self, profile: CameraProfile, data: bytes) -> str:
        key = f"{slug(profile.name)}-{profile.content[:6]}"
        if (self.folder / f"{key}.dcp").exists():
            raise ProfileError(f"The camera profile {profile.name} is there already.")
        write_whole(self.folder / f"{key}.dcp", data, replace=False)
        return key

    def delete(self, key: str) -> None:
        self.path(key).unlink()
        (self.folder / f"{key}.json").unlink(missing_ok=True)
        self.save_rules([r for r in self.rules() if r.profile != key])

    # --- rules ---

    def rules(self) -> list[Rule]:
        if not self._rules.exists():
            return []
        try:
            return [Rule(**r) for r in json.loads(self._rules.read_text())]
        except (OSError, ValueError, TypeError, ValidationError):
            return []

    def save_rules(self, rules: list[Rule]) -> None:
        text = json.dumps([r.model_dump() for r in rules], indent=1)
        if rules or self._rules.exists():
            write_whole(self._rules, text.encode(), replace=True)


def chosen_by_rule(rules: list[Rule], names: Sequence[str], kelvin: float) -> str:
    """The profile that the first fitting rule gives a frame of a camera (its `camera_names`); "" without one."""
    make, model, unique = names
    return next((r.profile for r in rules if r.meets(make, model, unique, kelvin)), "")


def parts_of(profile: CameraProfile) -> str:
    """What a profile holds, for people."""
    parts = ["matrix" if len(profile.colour) == 1 else f"matrices for {len(profile.colour)} lights"]
    if profile.hue_sat:
        parts.append("hue and saturation table")
    if profile.look:
        parts.append("look table")
    if profile.curve is not None:
        parts.append("curve")
    return ", ".join(parts)
