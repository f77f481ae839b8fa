"""The consistency of a series in numbers: the area of each frame against that of the reference."""

from collections.abc import Sequence
from dataclasses import dataclass
from typing import Any

import numpy as np

from tanner.core.colour.difference import ciede2000

TOLERANCE = 1.0
"""CIEDE2000 up to which two frames look the same side by side (common practice, no source)."""


@dataclass(frozen=True)
class Reading:
    """One frame's area: its colour, or why there is none.

    Attributes:
        lab: L*a*b* (D50) as rendered; accepted: why the frame is taken as it is, or empty.
        outline: rims of the area, in shares of the picture, or the same as JSON; goes into the figures as it is.
    """

    key: int
    name: str
    lab: tuple[float, float, float] | None
    confidence: float = 0.0
    area: str = ""
    trouble: str = ""
    accepted: str = ""
    outline: Sequence[Any] | str = ()


def in_words(lab: Any, reference: Any) -> str:
    """How a colour differs from another one, the largest difference first."""
    parts = []
    for value, plus, minus in zip(
        np.subtract(lab, reference), ("lighter", "redder", "yellower"), ("darker", "greener", "bluer"), strict=True
    ):
        if abs(value) >= 0.3:
            parts.append((abs(value), f"{plus if value > 0 else minus} by {abs(value):.1f}"))
    return ", ".join(text for _, text in sorted(parts, reverse=True))


def line_up(readings: Sequence[Reading], reference: int | None, tolerance: float = TOLERANCE) -> dict[str, Any]:
    """Figures of a series, frame by frame.

    Args:
        reference: key of the frame that the others are held against; without it, or where its area is not known, the
            median of all.

    Returns:
        frames: each reading with its difference (CIEDE2000), whether it is outside, and words; reference: L*a*b*;
        spread: the largest difference; mean; outside: how many.
    """
    known = {r.key: np.array(r.lab) for r in readings if r.lab is not None}
    by_median = reference not in known
    middle = np.median(np.array(list(known.values())), axis=0) if known else None
    held = middle if by_median or reference is None else known[reference]
    far: dict[int, float] = {}
    if known and held is not None:
        off = ciede2000(np.array(list(known.values())), held)
        far = dict(zip(known, (float(v) for v in np.atleast_1d(off)), strict=True))
    rows = []
    for r in readings:
        row: dict[str, Any] = {
            "frame": r.key,
            "name": r.name,
            "lab": None if r.lab is None else [round(v, 2) for v in r.lab],
            "confidence": r.confidence,
            "area": r.area,
            "difference": None,
            "outside": False,
            "words": r.trouble,
            "accepted": r.accepted,
            "outline": r.outline,
        }
        if r.key in far:
            difference = far[r.key]
            row |= {
                "difference": round(difference, 2),
                "outside": difference > tolerance and not r.accepted,
                "words": in_words(r.lab, held),
            }
        rows.append(row)
    return {
        "frames": rows,
        "reference": None if held is None else [round(float(v), 2) for v in held],
        "by": "median" if by_median else "frame",
        "tolerance": tolerance,
        "spread": round(max(far.values()), 2) if far else None,
        "mean": round(float(np.mean(list(far.values()))), 2) if far else None,
        "outside": sum(bool(r["outside"]) for r in rows),
    }
