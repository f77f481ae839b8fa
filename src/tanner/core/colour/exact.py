"""Exact colours: what a colour of the picture must be, and a smooth change around it that brings it there.

Several pairs work together: the change is a sum of bells in L*a*b*, one at each sample, whose heights are solved so that
every sample lands on its target. A bell is Wendland's function of compact support (source: wendland1995): smooth, and
nothing at all beyond its reach. Lightness counts half, for a thing has its colour in shade, too. Where a sample has a
colour of its own, greys stay grey.
"""

import re
from collections.abc import Sequence
from typing import Annotated, ClassVar, NamedTuple

import numpy as np
from numpy.typing import NDArray
from pydantic import Field

from tanner.core.adjust.items import Listed, Parts
from tanner.core.adjust.spec import param
from tanner.core.colour.difference import ciede2000
from tanner.core.colour.spaces import SPACES
from tanner.core.errors import SettingsError
from tanner.core.measure import lab_to_xyz, xyz_to_lab

F64 = NDArray[np.float64]
MOST = 16
"""Pairs on one frame."""
STEEP = 2.2
"""A bell reaches at least so many times as far as it moves its sample: less, and colours would change places."""
GREY = 6.0
"""Chroma from which a sample has a colour of its own, so that greys are kept from its bell."""
KEPT = 0.6
"""Share of the sample's chroma from which the bell has its full height."""
LIGHT = 0.5
"""How much a difference of lightness counts."""
Colour = Annotated[list[float], Field(min_length=3, max_length=3)]


class ExactParts(Parts):
    key: ClassVar[str] = "exact"
    about: ClassVar[str] = "A colour of the picture, and what it must be."

    sample: Colour = param(
        [50.0, 0.0, 0.0], label="Sample", widget="item", structure=True, help="L*a*b* (D50) as it is without this."
    )
    target: Colour = param(
        [50.0, 0.0, 0.0], label="Must be", widget="item", structure=True, help="L*a*b* (D50) of what it must be."
    )
    reach: float = param(
        20.0, 4.0, 80.0, label="Reach", widget="item", structure=True,
        help="How far from the sample colours are changed, in L*a*b* with lightness counted half; further where the change asks for it.",
    )  # fmt: skip


EXACT = Listed("exact", "Exact colour", ExactParts, most=MOST, whole=True)


class Bells(NamedTuple):
    """
    Attributes:
        samples, heights: (n, 3) L*a*b*; reach: (n,); full: (n,) chroma at which a bell has its full height, 0 where greys change too.
        off: (n,) CIEDE2000 by which samples miss their targets: contradicting ones cannot all be met.
    """

    samples: F64
    heights: F64
    reach: F64
    full: F64
    off: F64


def weights(lab: F64, samples: F64, reach: F64, full: F64) -> F64:
    """How much of each bell colours have, (..., n); lab: (..., 3)."""
    away = lab[..., None, :] - samples
    away[..., 0] *= LIGHT
    d = np.minimum(np.sqrt((away**2).sum(-1)) / reach, 1.0)
    chroma = np.hypot(lab[..., 1], lab[..., 2])[..., None]
    u = np.where(full > 0, np.clip(chroma / np.maximum(full, 1e-9), 0, 1), 1.0)
    return np.asarray((1 - d) ** 4 * (4 * d + 1) * u * u * (3 - 2 * u))


def solved(pairs: Sequence[ExactParts]) -> Bells:
    """Bells whose sum brings every sample to its target, as far as they do not contradict one another."""
    samples = np.array([p.sample for p in pairs], float).reshape(-1, 3)
    moves = np.array([np.subtract(p.target, p.sample) * (p.amount / 100) for p in pairs], float).reshape(-1, 3)
    length = np.sqrt(((moves * (LIGHT, 1, 1)) ** 2).sum(-1))
    reach = np.maximum([p.reach for p in pairs], STEEP * length) if pairs else np.zeros(0)
    chroma = np.hypot(samples[:, 1], samples[:, 2])
    full = np.where(chroma > GREY, KEPT * chroma, 0.0)
    w = weights(samples, samples, reach, full)
    # Samples that all but coincide would need heights without bounds: they meet in the middle instead.
    heights = np.linalg.solve(w.T @ w + 1e-5 * np.eye(len(samples)), w.T @ moves) if pairs else moves
    landed = samples + w @ heights
    off = np.atleast_1d(ciede2000(landed, samples + moves)) if pairs else np.zeros(0)
    return Bells(samples, heights, reach, full, off)


def changed(lab: F64, bells: Bells) -> F64:
    """L*a*b* after the change: what the stage does, in double precision."""
    return np.asarray(lab + weights(lab, bells.samples, bells.reach, bells.full) @ bells.heights)


def described(pairs: Sequence[ExactParts]) -> list[dict[str, object]]:
    """What a page says of each pair: sRGB of both, CIEDE2000 before and after, how far the change reaches, what is wrong."""
    bells = solved(pairs)
    rows: list[dict[str, object]] = []
    for n, pair in enumerate(pairs):
        wrong = []
        if bells.off[n] > 0.3:
            others = [
                k for k in range(len(pairs)) if k != n and np.linalg.norm(bells.samples[k] - bells.samples[n]) < 8
            ]
            wrong.append(
                "Contradicts another pair whose sample is nearly the same: both are met half way."
                if others
                else "Cannot be met together with the other pairs."
            )
        if outside(pair.target):
            wrong.append("Lies outside sRGB: files in a larger space can show it.")
        rows.append(
            {
                "sample": hex_of(pair.sample),
                "target": hex_of(pair.target),
                "before": round(float(ciede2000(np.array(pair.sample), np.array(pair.target))), 2),
                "after": round(float(bells.off[n]), 2),
                "reach": round(float(bells.reach[n]), 1),
                "wrong": " ".join(wrong),
            }
        )
    return rows


def _linear(lab: Sequence[float]) -> F64:
    return np.asarray(lab_to_xyz(np.array(lab, float)) @ np.linalg.inv(SPACES["srgb"].to_pcs()).T)


def outside(lab: Sequence[float]) -> bool:
    """Whether sRGB cannot show a colour, by more than rounding."""
    linear = _linear(lab)
    return bool((linear < -0.002).any() or (linear > 1.002).any())


def hex_of(lab: Sequence[float]) -> str:
    """sRGB of a colour, brought into range."""
    encoded = SPACES["srgb"].encode(np.clip(_linear(lab), 0, 1))
    return "#" + "".join(f"{round(255 * float(v)):02x}" for v in encoded)


_HEX = re.compile(r"#?([0-9a-f]{6})\s*$", re.I)
_NUMBER = r"[-+−]?\d+(?:\.\d+)?"
_LAB = re.compile(
    rf"\s*(?:lab\b|l\*?\s*=?)?\s*\(?\s*({_NUMBER})[,;\s/]+(?:a\*?\s*=?\s*)?({_NUMBER})[,;\s/]+(?:b\*?\s*=?\s*)?({_NUMBER})\s*\)?\s*$",
    re.I,
)


def parse_colour(text: str) -> list[float]:
    """L*a*b* (D50) of a colour as people write it: "#3a6ea5" (sRGB), or "48 -4 -33" (L*a*b*).

    Raises:
        SettingsError: it is none.
    """
    text = text.strip()
    if found := _HEX.match(text):
        encoded = np.array([int(found[1][i : i + 2], 16) for i in (0, 2, 4)]) / 255
        lab = xyz_to_lab(SPACES["srgb"].decode(encoded) @ SPACES["srgb"].to_pcs().T)
        return [round(float(v), 3) for v in lab]
    if found := _LAB.match(text):
        said = [float(v.replace("−", "-")) for v in found.groups()]
        if 0 <= said[0] <= 100 and all(abs(v) <= 128 for v in said[1:]):
            return said
        raise SettingsError(f"“{text}”: L* lies between 0 and 100, a* and b* between −128 and 128.")
    raise SettingsError(f"“{text}” is no colour. Write sRGB as #3a6ea5, or L*a*b* as 48 −4 −33.")
