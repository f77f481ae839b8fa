"""Values of a preset that depend on the frame: on its ISO or light by a table of points, or on what it is.

    {"by": "iso", "points": [[800, 0], [3200, 60]]}
    {"by": "camera", "cases": {"Alder One": 20}, "else": 0}

Numbers are interpolated between points, over doublings of ISO and over mired of light; other values hold from their point
on. A frame that no case fits, or below the first point of a value that is no number, is left as it is.
"""

import math
from collections.abc import Iterator, Mapping
from dataclasses import dataclass
from itertools import pairwise
from typing import Annotated, Any, Literal

from pydantic import BaseModel, ConfigDict, Field

Number = int | float


@dataclass(frozen=True)
class About:
    """What a value may depend on.

    Attributes:
        iso: None where the file does not say it; kelvin: of the light, as shot.
        camera, lens: by name; upright: higher than wide.
    """

    iso: float | None = None
    kelvin: float | None = None
    camera: str = ""
    lens: str = ""
    upright: bool = False


class ByPoints(BaseModel):
    model_config = ConfigDict(extra="forbid", frozen=True)
    by: Literal["iso", "light"]
    points: list[tuple[float, Any]] = Field(min_length=1, max_length=50)

    def values(self) -> Iterator[Any]:
        yield from (v for _, v in self.points)

    def at(self, about: About) -> Any:
        x = about.iso if self.by == "iso" else about.kelvin
        if not x or x <= 0:
            return None
        points = sorted(self.points, key=lambda p: p[0])
        if all(isinstance(v, Number) and not isinstance(v, bool) for _, v in points):
            return _between(x, points, self.by)
        return next((v for at, v in reversed(points) if x >= at), None)


def _between(x: float, points: list[tuple[float, Any]], by: str) -> float:
    def scale(value: float) -> float:
        return math.log2(max(value, 1e-6)) if by == "iso" else -1e6 / max(value, 1.0)

    for (low, a), (high, b) in pairwise(points):
        if x <= low:
            return float(a)
        if x < high:
            share = (scale(x) - scale(low)) / (scale(high) - scale(low))
            return round(a + (b - a) * share, 4)
    return float(points[0][1] if x <= points[0][0] else points[-1][1])


class ByCase(BaseModel):
    model_config = ConfigDict(extra="forbid", frozen=True)
    by: Literal["camera", "lens", "orientation"]
    cases: dict[str, Any] = Field(min_length=1, max_length=200)
    otherwise: Any = Field(default=None, alias="else")

    def values(self) -> Iterator[Any]:
        yield from self.cases.values()
        if self.otherwise is not None:
            yield self.otherwise

    def at(self, about: About) -> Any:
        name = {"camera": about.camera, "lens": about.lens, "orientation": "upright" if about.upright else "wide"}[
            self.by
        ]
        found = next((v for k, v in self.cases.items() if k.strip().lower() == name.strip().lower()), None)
        return self.otherwise if found is None else found


Depends = Annotated[ByPoints | ByCase, Field(discriminator="by")]


class _Holder(BaseModel):
    value: Depends


def conditional(value: Any) -> ByPoints | ByCase | None:
    """A value that depends on the frame, checked; None for a plain one.

    Raises:
        ValidationError: it is meant to depend, and makes no sense.
    """
    return _Holder.model_validate({"value": value}).value if isinstance(value, Mapping) else None


def resolve_conditional(values: Mapping[str, Any], about: About) -> dict[str, Any]:
    """The values for one frame; those that do not concern it are left out."""
    result: dict[str, Any] = {}
    for key, value in values.items():
        chosen = conditional(value)
        found = value if chosen is None else chosen.at(about)
        if chosen is None or found is not None:
            result[key] = found
    return result
