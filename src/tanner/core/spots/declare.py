"""What a spot is: where it lies, and how it is dealt with. Only this is kept; what is put there is worked out anew."""

from typing import Annotated, ClassVar, Literal

from pydantic import Field

from tanner.core.adjust.items import Listed, Parts
from tanner.core.adjust.spec import param
from tanner.core.areas.shapes import Spot as At

Way = Literal["heal", "copy", "fill"]
Path = Annotated[list[At], Field(min_length=1, max_length=64)]
MOST = 400
"""Spots of one frame."""


class SpotParts(Parts):
    key: ClassVar[str] = "spots"
    about: ClassVar[str] = "Specks, scratches and small things, put right from elsewhere in the picture."

    way: Way = param(
        "heal", label="How", widget="choice", structure=True,
        help="Heal: texture from elsewhere, light and colour from around it. Copy: as it is elsewhere. Fill: made from all around.",
    )  # fmt: skip
    path: Path = param(
        [(0.0, 0.0)], label="Where", widget="item", structure=True,
        help="One place, or the points of a line along a scratch, in shares of the frame's long edge from its middle.",
    )  # fmt: skip
    size: float = param(
        0.005, 0.0003, 0.25, label="Radius", widget="item", structure=True, help="A share of the frame's long edge."
    )
    softness: float = param(40.0, 0.0, 100.0, label="Softness", unit="%", structure=True, help="How gently it ends.")
    opacity: float = param(
        100.0, 0.0, 100.0, label="Opacity", unit="%", structure=True, help="How much of it is put right."
    )
    source: list[float] = param(
        [], label="From", widget="item", structure=True,
        help="How far off the place lies that it is taken from (x, y); empty: the best one near by is found.",
    )  # fmt: skip
    another: int = param(
        0,
        0,
        99,
        label="Another",
        widget="item",
        structure=True,
        help="Which proposal is taken: 0 the best, 1 the next.",
    )


SPOTS = Listed("spots", "Spot", SpotParts, most=MOST)
