"""What an area is: a mask of parts, where it lies on this frame, what is done to the mask, and what it changes there."""

from typing import ClassVar

from pydantic import field_validator

from tanner.core.adjust.items import Listed, Parts
from tanner.core.adjust.spec import param
from tanner.core.areas.place import NOWHERE_ELSE, Again, Place
from tanner.core.areas.shapes import Shape
from tanner.core.colour.ranges import HUES

MOST_PARTS = 500


MOVED = (
    *(f"light.{n}" for n in ("exposure", "contrast", "highlights", "shadows", "white_point", "black_point", "local_contrast")),
    *(f"levels.{n}" for n in ("black", "middle", "white", "black_out", "white_out")),
    *(f"curve.{n}" for n in ("points", "lightness", "channels", "red", "green", "blue")),
    "white.temperature", "white.tint",
    "colour.saturation", "colour.vibrance",
    *(f"ranges.{hue}_{what}" for what in ("hue", "saturation", "lightness") for hue in HUES),
    *(f"balance.{zone}_{what}" for zone in ("shadows", "middle", "highlights", "all") for what in ("hue", "strength", "lightness")),
    "mono.amount",
    "structure.texture", "structure.middle", "structure.haze",
    "detail.amount",
    "noise.luminance", "noise.colour", "noise.moire",
)  # fmt: skip
"""Adjustments of the picture that an area has of its own, as differences."""


class AreaParts(Parts):
    key: ClassVar[str] = "areas"
    about: ClassVar[str] = "A part of the picture with adjustments of its own."

    shapes: list[Shape] = param(
        [],
        label="Mask",
        widget="item",
        structure=True,
        per_frame=False,
        help="The parts of its mask, each combined with what is before it.",
    )
    place: Place = param(
        list(NOWHERE_ELSE),
        label="Place",
        widget="item",
        structure=True,
        offset="place",
        help="Where it lies on this frame: moved (x, y), scaled, turned in degrees.",
    )
    found: Again = param(
        [],
        label="Found again",
        widget="item",
        structure=True,
        per_frame=True,
        computed=True,
        help="How the lead's mask comes to lie on this frame, and how sure that is.",
    )
    inverted: bool = param(False, label="Inverted", widget="switch", structure=True, help="Everything but the mask.")
    refine: float = param(
        0.0, 0.0, 100.0, label="Along edges", unit="%", structure=True,
        help="Fits the mask to edges in the picture that lie near its own: hair, threads.",
    )  # fmt: skip
    grow: float = param(
        0.0, -50.0, 50.0, label="Grow or shrink", unit="‰", step=0.5, structure=True,
        help="In thousandths of the frame's long edge: 1 ‰ is 6 px of 24 megapixels. Minus shrinks.",
    )  # fmt: skip
    soften: float = param(
        0.0, 0.0, 50.0, label="Soften", unit="‰", step=0.5, structure=True,
        help="Makes the whole mask softer, in thousandths of the frame's long edge.",
    )  # fmt: skip
    density: float = param(
        100.0, 0.0, 100.0, label="Density", unit="%", structure=True, help="How strong the mask is where it is strongest."
    )  # fmt: skip
    blur: float = param(
        0.0, 0.0, 100.0, label="Blur", unit="%",
        help="As if it were out of focus; what is outside of the area does not bleed into it.",
    )  # fmt: skip
    tint: int = param(
        0, 0, 5, label="Colour shown", widget="item", structure=True, help="Which colour its mask is shown in."
    )

    @field_validator("shapes")
    @classmethod
    def _not_too_many(cls, shapes: list[Shape]) -> list[Shape]:
        if len(shapes) > MOST_PARTS:
            raise ValueError(f"a mask has {MOST_PARTS} parts at most")
        return shapes

    @field_validator("found")
    @classmethod
    def _nothing_or_nine(cls, found: list[float]) -> list[float]:
        if len(found) not in (0, 9):
            raise ValueError("what was found is nine numbers")
        return found


AREAS = Listed("areas", "Area", AreaParts, MOVED)
