"""What a spot is: where it lies, and how it is dealt with. Only this is kept; what is put there is worked out anew."""

import hashlib
import json
from collections.abc import Mapping
from typing import Annotated, Any, ClassVar, Literal

from pydantic import Field, field_validator

from tanner.core.adjust.items import Listed, Parts
from tanner.core.adjust.spec import param
from tanner.core.areas.place import Again
from tanner.core.areas.shapes import Spot as At

Way = Literal["heal", "copy", "fill", "even"]
Holds = Literal["setup", "subject", "frame", "sensor"]
Calm = Literal["finer", "coarser"]
Path = Annotated[list[At], Field(min_length=1, max_length=64)]
Along = Annotated[list[At], Field(max_length=64)]
MOST = 400
"""Spots of one frame."""


class SpotParts(Parts):
    key: ClassVar[str] = "spots"
    about: ClassVar[str] = "Specks, scratches and small things, put right from elsewhere in the picture."

    way: Way = param(
        "heal", label="How", widget="choice", structure=True,
        help="Heal: texture from elsewhere, light and colour from around it. Copy: as it is elsewhere. Fill: made from all around. "
        "Even: its own light, with what is finer or coarser than a size made calm.",
    )  # fmt: skip
    path: Path = param(
        [(0.0, 0.0)], label="Where", widget="item", structure=True,
        help="One place, or the points of a line along a scratch, in shares of the frame's long edge from its middle.",
    )  # fmt: skip
    closed: bool = param(
        False, label="Outline", widget="item", structure=True, help="The points go round a place, and all within is meant."
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
    along: Along = param(
        [], label="What continues", widget="item", structure=True,
        help="Fill: a stroke through the place along what goes on in it, in shares of the frame's long edge from its middle.",
    )  # fmt: skip
    calm: Calm = param(
        "finer", label="Calms", widget="choice", structure=True, help="Even: what is finer than the size, or what is coarser."
    )  # fmt: skip
    calm_size: float = param(
        25.0, 2.0, 100.0, label="Size", unit="%", structure=True, help="Even: the size that parts fine from coarse, of the radius."
    )  # fmt: skip
    other: str = param(
        "", label="From the frame", widget="item", structure=True,
        help="Name of another frame in the same folder in which the place is clean; empty: this one.",
    )  # fmt: skip
    other_at: Again = param(
        [], label="There", widget="item", structure=True, help="How places of the lead come to lie in that other frame."
    )  # fmt: skip
    holds: Holds = param(
        "setup", label="Holds to", widget="choice", structure=True,
        help="The setup: the table, the glass, whatever the camera does. The subject: moves with it. This frame: no other has it. "
        "The sensor: every frame of that camera.",
    )  # fmt: skip
    found: Again = param(
        [], label="Found again", widget="item", structure=True, per_frame=True, computed=True,
        help="How the lead's spot comes to lie on this frame, and how sure that is.",
    )  # fmt: skip
    judged: str = param(
        "", label="Judged", widget="item", structure=True, per_frame=True, computed=True,
        help="Which spot of the lead that was found for, and why it is left alone here, if it is.",
    )  # fmt: skip

    @field_validator("other")
    @classmethod
    def _a_name(cls, other: str) -> str:
        if len(other) > 255 or "/" in other or "\\" in other or other in (".", ".."):
            raise ValueError("a place is taken from a frame of the same folder, by the name of its file")
        return other


SPOTS = Listed("spots", "Spot", SpotParts, most=MOST)

LEFT = {"": "", "covered": "Left alone: something else lies here.", "lost": "Left alone: the place is not found in this frame.",
        "seam": "Left alone: a seam would show here.", "later": "Being looked for in this frame."}  # fmt: skip
"""Why a follower leaves a spot alone, by the word that is kept."""


def stamp(values: Mapping[str, Any]) -> str:
    """A short name for where a lead's spot lies: what a follower found is good for that alone.

    Args:
        values: of the spot, by their short names.
    """
    told = [values.get(k) for k in ("path", "size", "holds", "closed")]
    return hashlib.sha256(json.dumps(told, default=list).encode()).hexdigest()[:8]


def judgement(judged: str) -> tuple[str, str]:
    """The stamp, and the word for why it is left alone ("" where it is not)."""
    first, _, why = judged.partition(":")
    return first, why


def lone(own: Mapping[str, Any]) -> frozenset[str]:
    """Ids of a lead's spots that its followers do without."""
    return frozenset(
        k.split("/")[1] for k, v in own.items() if v == "frame" and k.startswith("spots/") and k.endswith("/holds")
    )
