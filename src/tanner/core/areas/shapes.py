"""The parts that a mask is made of, as they are declared and kept. `masks` and `drawing` say what each is, px by px."""

from collections.abc import Iterable, Mapping
from typing import Annotated, Any, Literal

from pydantic import BaseModel, ConfigDict, Field, field_validator

from tanner.core.adjust.items import ID
from tanner.core.areas import strokes

Share = Annotated[float, Field(ge=-4, le=4, allow_inf_nan=False)]
Positive = Annotated[float, Field(gt=0, le=8, allow_inf_nan=False)]
Degrees = Annotated[float, Field(ge=-3600, le=3600, allow_inf_nan=False)]
Part01 = Annotated[float, Field(ge=0, le=1, allow_inf_nan=False)]
Spot = tuple[Share, Share]
Combine = Literal["add", "subtract", "intersect", "either"]
Holds = Literal["subject", "frame", "crop"]


class Part(BaseModel):
    """One part of a mask. Places are shares of the long edge of the upright picture, from its middle: x right, y down."""

    model_config = ConfigDict(frozen=True, extra="forbid")
    combine: Combine = "add"
    inverted: bool = False


class Drawn(Part):
    """A part that was drawn on one frame.

    Attributes:
        holds: to what it holds in other frames: to the subject (found again in each), the frame, or the crop. Those that hold
            to the crop lie in shares of its long edge, from its middle.
    """

    holds: Holds = "frame"


class Straight(Drawn):
    """From all of it at `start` to nothing at `end`."""

    kind: Literal["straight"] = "straight"
    start: Spot
    end: Spot


class Round(Drawn):
    """An ellipse: half axes, turned clockwise by `angle` degrees; softness 0 is an edge, 1 begins in the middle."""

    kind: Literal["round"] = "round"
    at: Spot
    radii: tuple[Positive, Positive]
    angle: Annotated[float, Field(ge=-360, le=360, allow_inf_nan=False)] = 0.0
    softness: Part01 = 0.5


class Corner(BaseModel):
    """A point of an outline. Between two curved points the line is a curve (centripetal Catmull-Rom), else straight.

    Attributes:
        softness: of the edge here, in shares of the long edge; None as the whole outline's.
    """

    model_config = ConfigDict(frozen=True, extra="forbid")
    at: Spot
    curved: bool = False
    softness: Annotated[float, Field(ge=0, le=0.5, allow_inf_nan=False)] | None = None


class Outline(Drawn):
    """A closed line; where it crosses itself, what lies inside twice is outside (even-odd)."""

    kind: Literal["outline"] = "outline"
    points: Annotated[list[Corner], Field(min_length=3, max_length=400)]
    softness: Annotated[float, Field(ge=0, le=0.5, allow_inf_nan=False)] = 0.004


class Stroke(BaseModel):
    """A stroke of the brush.

    Attributes:
        path: see `strokes`; size: radius, a share of the long edge.
        softness: 0 is an edge, 1 begins in the middle. flow: how much one stroke lays on. strength: how far strokes build up.
        alike: above 0, it stays on what is alike along its middle: how different that may be, 0 to 1.
        erase: takes away instead.
    """

    model_config = ConfigDict(frozen=True, extra="forbid")
    path: Annotated[str, Field(min_length=8, max_length=40_000)]
    size: Annotated[float, Field(ge=0.0002, le=1, allow_inf_nan=False)]
    softness: Part01 = 0.5
    flow: Part01 = 1.0
    strength: Part01 = 1.0
    alike: Part01 = 0.0
    erase: bool = False

    @field_validator("path")
    @classmethod
    def _is_a_path(cls, path: str) -> str:
        strokes.read(path)
        return path


class Brush(Drawn):
    """What was painted: strokes, kept as strokes, in their order."""

    kind: Literal["brush"] = "brush"
    strokes: Annotated[list[Stroke], Field(max_length=2000)] = []


class LightnessRange(Part):
    """What lies between two lightnesses: CIE L* of the frame's linear values, with its white balance and exposure.

    Attributes:
        softness: over so many L* it begins and ends.
    """

    kind: Literal["lightness"] = "lightness"
    low: Annotated[float, Field(ge=0, le=100, allow_inf_nan=False)] = 50.0
    high: Annotated[float, Field(ge=0, le=100, allow_inf_nan=False)] = 100.0
    softness: Annotated[float, Field(ge=0, le=100, allow_inf_nan=False)] = 15.0


class Colours(Part):
    """What is near to sampled colours, in Oklab of the frame's linear values, with its white balance and exposure.

    Attributes:
        samples: lightness and the two axes of colour of each.
        reach: so far from a sample everything counts; softness: over so much more it ends. Lightness counts by a third.
    """

    kind: Literal["colour"] = "colour"
    samples: Annotated[list[tuple[Share, Share, Share]], Field(min_length=1, max_length=32)]
    reach: Annotated[float, Field(ge=0, le=1, allow_inf_nan=False)] = 0.05
    softness: Annotated[float, Field(ge=0, le=1, allow_inf_nan=False)] = 0.05


class Sharp(Part):
    """What is in focus: where fine differences are strong beside the frame's strongest.

    Attributes:
        least: share of the strongest from which on it counts; softness: over so much below it ends.
    """

    kind: Literal["sharpness"] = "sharpness"
    least: Part01 = 0.3
    softness: Part01 = 0.2


class Found(Part):
    """What is found by what it is, in each frame anew."""

    kind: Literal["subject", "backdrop", "people", "skin"]


class Whole(Part):
    kind: Literal["whole"] = "whole"


class Other(Part):
    """Another area of the frame. One that comes back to itself counts as nothing there."""

    kind: Literal["area"] = "area"
    area: Annotated[str, Field(pattern=f"^{ID.pattern}$")]


Shape = Annotated[
    Straight | Round | Outline | Brush | LightnessRange | Colours | Sharp | Found | Whole | Other,
    Field(discriminator="kind"),
]
AnyShape = Straight | Round | Outline | Brush | LightnessRange | Colours | Sharp | Found | Whole | Other
NAMES = {
    "straight": "Straight gradient", "round": "Round gradient", "outline": "Outline", "brush": "Brush",
    "lightness": "Range of lightness", "colour": "Range of colour", "sharpness": "What is sharp", "subject": "Subject",
    "backdrop": "Backdrop", "people": "People", "skin": "Skin", "whole": "Whole frame", "area": "Another area",
}  # fmt: skip
"""What each kind is called on the screen."""


def searched(shapes: list[AnyShape]) -> bool:
    """Whether a mask has to be looked for in other frames."""
    return any(isinstance(s, Drawn) and s.holds == "subject" for s in shapes)


def held_to_subject(kept: Iterable[Mapping[str, Any]]) -> bool:
    """The same of a mask's parts as they are kept (see `lean`)."""
    return any(part.get("holds") == "subject" for part in kept)


def lean(shape: AnyShape) -> dict[str, Any]:
    """A part as it is kept: without what is usual."""
    return {"kind": shape.kind, **shape.model_dump(mode="json", exclude_defaults=True)}
