"""What a colour is in a frame, and whether exact colours came out in it: measured on the frame as it is developed."""

from collections.abc import Mapping
from typing import Any

import numpy as np
from numpy.typing import NDArray

from tanner.core.adjust.items import split
from tanner.core.adjust.registry import Development, develop
from tanner.core.colour.difference import ciede2000
from tanner.core.colour.exact import EXACT, LIGHT, ExactParts, hex_of, solved
from tanner.core.colour.picked import PICKED, middle_of
from tanner.core.colour.spaces import SPACES
from tanner.core.errors import TannerError
from tanner.core.measure import xyz_to_lab
from tanner.core.raw.source import Source
from tanner.core.render import full_size, render

SPACE = "prophoto"
EDGE = 800
"""Long edge in px of the picture that is measured."""
DISC = 0.006
"""Radius of what is picked, as a share of the picture's long edge."""
NEAR = 5.0
"""In L*a*b* with lightness counted half: what is so near to a sample is of its colour. Twice a common tolerance for print."""
LEAST = 40
"""Px of a small picture of which a colour is known."""
MOVED = 0.5
"""Difference in L*a*b* from which a px counts as changed: half of what is just seen."""


def without(values: Mapping[str, Any]) -> dict[str, Any]:
    """The same settings without exact colours."""
    return {k: v for k, v in values.items() if (split(k) or ("",))[0] != EXACT.key}


def exact_pairs(development: Development) -> list[tuple[str, ExactParts]]:
    """A development's exact colours with their ids, in order."""
    return [(t.id, t.parts) for t in development.listed(EXACT.key) if isinstance(t.parts, ExactParts)]


def sample_at(source: Source, values: Mapping[str, Any], at: tuple[float, float]) -> list[float]:
    """L*a*b* (D50) of the picture around a place, before exact colours.

    Args:
        at: x and y as shares of the developed picture's width and height.

    Raises:
        TannerError: it is clipped there, or all but black.
    """
    lab = xyz_to_lab(SPACES[SPACE].to_pcs() @ mean_at(source, without(values), at))
    if lab[0] < 2 or lab[0] > 99:
        raise TannerError("It is black or white there, so it has no colour of its own. Choose another place.")
    return [round(float(v), 3) for v in lab]


def mean_at(source: Source, values: Mapping[str, Any], at: tuple[float, float]) -> NDArray[np.float64]:
    """Linear working values of the developed picture around a place, (3,)."""
    linear = _linear(source, values)
    h, w = linear.shape[:2]
    y, x = np.mgrid[0:h, 0:w]
    away = np.hypot(x + 0.5 - at[0] * w, y + 0.5 - at[1] * h)
    mean: NDArray[np.float64] = linear[away <= max(DISC * max(w, h), 3.6)].mean(axis=0)
    return mean


AFTER_RANGES = ("mono.", "balance.", "profile.look")
"""What works after picked ranges, and would move what is picked."""


def range_at(source: Source, values: Mapping[str, Any], at: tuple[float, float]) -> list[float]:
    """The middle of a range that is picked at a place: Oklab's lightness, chroma and hue before picked ranges and what follows.

    Raises:
        TannerError: it is grey there, so it has no hue.
    """
    kept = {
        k: v
        for k, v in without(values).items()
        if not k.startswith(AFTER_RANGES) and (split(k) or ("",))[0] != PICKED.key
    }
    middle = middle_of(mean_at(source, kept, at))
    if middle[1] < 0.012:
        raise TannerError("It is grey there, so there is no hue to pick. Choose a place that has a colour.")
    return middle


def _linear(source: Source, values: Mapping[str, Any], edge: int = EDGE) -> NDArray[np.float64]:
    """The developed picture, small, (h, w, 3) linear in the widest space, so that strong colours are what they are."""
    development = develop(values)
    w, h = full_size(source, development)
    share = min(1.0, edge / max(w, h))
    size = max(8, round(w * share)), max(8, round(h * share))
    picture = render(source, development, size, space=SPACE, bits=16, keep=True, draft=True)
    return SPACES[SPACE].decode(picture / 65535.0)


def _lab(source: Source, values: Mapping[str, Any]) -> NDArray[np.float64]:
    linear = _linear(source, values).reshape(-1, 3)
    return xyz_to_lab(linear @ SPACES[SPACE].to_pcs().T)


def with_colour(source: Source, values: Mapping[str, Any], ident: str, edge: int) -> tuple[NDArray[np.bool_], str]:
    """What of a frame has the colour of an exact colour's sample, as a mask on a picture of an edge, and the colour's name.

    Raises:
        TannerError: the frame has no such exact colour.
    """
    for n, (found, pair) in enumerate(exact_pairs(develop(values)), 1):
        if found == ident:
            linear = _linear(source, without(values), edge)
            lab = xyz_to_lab(linear.reshape(-1, 3) @ SPACES[SPACE].to_pcs().T)
            near = np.sqrt((((lab - np.array(pair.sample)) * (LIGHT, 1, 1)) ** 2).sum(-1))
            # Small things have few px in a small picture: then what is a little further off counts, too.
            enough = float(np.partition(near, min(2 * LEAST, near.size - 1))[min(2 * LEAST, near.size - 1)])
            mask = near <= min(max(NEAR, enough), 3 * NEAR)
            return mask.reshape(linear.shape[:2]), pair.name or f"colour {n}"
    raise TannerError("This frame does not have this exact colour.")


def measured(source: Source, values: Mapping[str, Any]) -> list[dict[str, Any]]:
    """For each exact colour: what of the frame has its sample's colour, and CIEDE2000 from the target before and after.

    Returns:
        rows {"id", "name", "found": share of the px that are of the sample's colour, "before", "after", "shown": sRGB after,
        "changed": share of all px that are changed by more than half of what is just seen, by all pairs}; without "before"
        where the frame does not have the colour.
    """
    pairs = exact_pairs(develop(values))
    if not pairs:
        return []
    before, after = (_lab(source, v) for v in (without(values), values))
    changed = float((np.sqrt(((after - before) ** 2).sum(-1)) > MOVED).mean())
    reach = solved([p for _, p in pairs]).reach
    rows: list[dict[str, Any]] = []
    for (ident, pair), far in zip(pairs, reach, strict=True):
        away = (before - np.array(pair.sample)) * (LIGHT, 1, 1)
        near = np.sqrt((away**2).sum(-1))
        is_it = near < NEAR
        row: dict[str, Any] = {
            "id": ident,
            "name": pair.name,
            "found": float(is_it.mean()),
            "changed": changed,
            "reach": round(float(far), 1),
        }
        if is_it.sum() >= LEAST:
            # The nearer to the sample, the more a px says of it.
            weight = np.exp(-0.5 * (near[is_it] / (NEAR / 2.5)) ** 2)
            was, now = (np.average(lab[is_it], axis=0, weights=weight) for lab in (before, after))
            target = np.array(pair.target)
            row |= {
                "before": round(float(ciede2000(was, target)), 2),
                "after": round(float(ciede2000(now, target)), 2),
                "shown": hex_of([float(v) for v in now]),
            }
        rows.append(row)
    return rows
