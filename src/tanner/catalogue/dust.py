"""Dust on the sensors of cameras: kept by camera with dates, and healed in every frame that was taken while it lay there."""

import hashlib
import json
from collections.abc import Mapping, Sequence
from datetime import date
from pathlib import Path
from typing import Annotated, Any

from pydantic import BaseModel, ConfigDict, Field, ValidationError, model_validator

from tanner.catalogue.models import Frame
from tanner.core.errors import TannerError
from tanner.core.output.files import write_whole
from tanner.core.spots.declare import MOST
from tanner.core.spots.dust import on_frame

Place = Annotated[float, Field(ge=-0.5, le=0.5)]


class DustSpeck(BaseModel):
    """One piece: its place on the sensor and its radius, in shares of the sensor's long edge, places from its middle."""

    model_config = ConfigDict(extra="forbid")
    x: Place
    y: Place
    size: float = Field(gt=0, le=0.05)


class SensorDust(BaseModel):
    """What lay on the sensor of a camera between two days.

    Attributes:
        serial: of the camera, "" where files do not say one; since, until: first and last day, until is None while it lies there.
    """

    model_config = ConfigDict(extra="forbid")
    id: str = Field(default="", pattern="^[0-9a-f]{0,8}$")
    camera: str = Field(min_length=1, max_length=200)
    serial: str = Field(default="", max_length=200)
    since: date
    until: date | None = None
    specks: list[DustSpeck] = Field(min_length=1, max_length=MOST)

    @model_validator(mode="after")
    def _ordered(self) -> "SensorDust":
        if self.until is not None and self.until < self.since:
            raise ValueError("dust lies there from the first day to the last")
        return self

    def lies_on(self, frame: Frame) -> bool:
        """Whether a frame was taken by this camera while it lay there."""
        if frame.camera != self.camera or frame.taken is None:
            return False
        kind, serial, *_ = frame.sensor
        if kind == "finished":
            return False
        if self.serial and serial and serial != self.serial:
            return False
        day = frame.taken.date()
        return self.since <= day and (self.until is None or day <= self.until)


class DustBook:
    """The dust of all cameras, in one file of the data folder."""

    def __init__(self, data: Path) -> None:
        self._file = data / "dust.json"
        self._read: tuple[int, list[SensorDust]] = (0, [])
        self.trouble = ""
        self._values: dict[tuple[str, int, int, int], dict[str, Any]] = {}

    def all(self) -> list[SensorDust]:
        try:
            changed = self._file.stat().st_mtime_ns
        except OSError:
            return []
        if changed != self._read[0]:
            try:
                found = [SensorDust(**d) for d in json.loads(self._file.read_text())]
                self.trouble = ""
            except (OSError, ValueError, TypeError, ValidationError) as error:
                found = []
                self.trouble = f"{self._file.name} cannot be read, so no dust is healed: {error}. It is kept aside when dust is kept anew."
            self._read = changed, found
            self._values = {}
        return self._read[1]

    def add(self, dust: SensorDust) -> SensorDust:
        """Keep it; what is kept gets an id."""
        text = dust.model_dump_json()
        new = dust.model_copy(update={"id": hashlib.sha256(text.encode()).hexdigest()[:8]})
        self._save([d for d in self.all() if d.id != new.id] + [new])
        return new

    def change(self, ident: str, since: date, until: date | None) -> SensorDust:
        old = self._one(ident)
        try:
            new = SensorDust(**{**old.model_dump(), "since": since, "until": until})
        except ValidationError:
            raise TannerError("The last day lies before the first. Choose a later one.") from None
        self._save([new if d.id == ident else d for d in self.all()])
        return new

    def delete(self, ident: str) -> None:
        self._one(ident)
        self._save([d for d in self.all() if d.id != ident])

    def _one(self, ident: str) -> SensorDust:
        found = next((d for d in self.all() if d.id == ident), None)
        if found is None:
            raise TannerError("This sensor dust is no longer in Kit. Load the page again.")
        return found

    def _save(self, dust: Sequence[SensorDust]) -> None:
        if self.trouble and self._file.exists():
            # Whatever is wrong with it: it is not written over.
            self._file.rename(self._file.with_name(f"dust.damaged-{self._read[0]}.json"))
        write_whole(self._file, json.dumps([d.model_dump(mode="json") for d in dust], indent=1).encode(), replace=True)

    def values(self, frame: Frame) -> Mapping[str, Any]:
        """Settings that heal what lay on the sensor when a frame was taken; nothing for most frames."""
        result: dict[str, Any] = {}
        for dust in self.all():
            if dust.lies_on(frame):
                width, height, orientation = (int(v or 1) for v in frame.sensor[2:])
                size = width, height
                key = (dust.id, *size, orientation)
                if key not in self._values:
                    self._values[key] = _settings(dust, size, key[3])
                result |= self._values[key]
        return result


def within(dust: Mapping[str, Any], others: Sequence[Mapping[str, Any]]) -> Mapping[str, Any]:
    """So many of a frame's dust as may lie beside its other spots: a frame has `MOST` of them."""
    if not dust:
        return dust
    ids = list(dict.fromkeys(k.split("/")[1] for k in dust))
    room = MOST - len({k.split("/")[1] for own in others for k in own if k.startswith("spots/")} - set(ids))
    if len(ids) <= room:
        return dust
    kept = set(ids[: max(room, 0)])
    return {k: v for k, v in dust.items() if k.split("/")[1] in kept}


def _settings(dust: SensorDust, size: tuple[int, int], orientation: int) -> dict[str, Any]:
    values: dict[str, Any] = {}
    for n, speck in enumerate(dust.specks):
        start = f"spots/{hashlib.sha256(f'{dust.id}/{n}'.encode()).hexdigest()[:8]}/"
        path = on_frame([(speck.x, speck.y)], size, orientation)
        values |= {
            start + "kind": "spot", start + "name": "Dust", start + "order": float(n - MOST), start + "holds": "sensor",
            start + "path": [list(p) for p in path], start + "size": speck.size,
        }  # fmt: skip
    return values
