"""Makes frames of a series agree: offsets of exposure and white balance, solved on the pipeline that renders them.

The area of each frame is rendered with all of the frame's settings, and exposure, temperature and tint are moved until its
colour is that of the reference's area as rendered. Nothing is assumed about tone or profile: the response of the rendered
colour to each offset is measured where it stands (Gauss-Newton).
"""

from collections.abc import Callable, Mapping
from dataclasses import dataclass
from typing import Any

import numpy as np
from numpy.typing import NDArray

from tanner.core.adjust.registry import develop
from tanner.core.colour.difference import ciede2000
from tanner.core.colour.spaces import SPACES
from tanner.core.colour.temperature import xy_to_temperature
from tanner.core.measure import xyz_to_lab
from tanner.core.raw.source import Source
from tanner.core.render import as_shot_white, full_size, render
from tanner.core.series.area import EDGE, LEAST, Area, NoArea
from tanner.core.series.kinds import What
from tanner.core.series.resolve import shifted

Array = NDArray[np.float64]
KEYS: dict[str, tuple[str, float]] = {
    "ev": ("light.exposure", 0.1),
    "mired": ("white.temperature", 6.0),
    "tint": ("white.tint", 3.0),
}
"""The adjustment that each offset moves, and the step by which its effect is measured."""
LIMITS = {"ev": 2.0, "mired": 120.0, "tint": 40.0}
"""The most that a match changes, unless it is asked for more."""
LEAST_OFFSET = {"ev": 0.004, "mired": 0.3, "tint": 0.15}
ROUNDS = 6


@dataclass(frozen=True)
class Matched:
    """What a match found for one frame: offsets to be added to those it has, and the area before and after.

    Attributes:
        before, after: CIEDE2000 from the reference's area; limited: the names of offsets that met their limit.
    """

    offsets: dict[str, float]
    before: float
    after: float
    limited: tuple[str, ...]
    lab: tuple[float, float, float]


def picture_of(source: Source, values: Mapping[str, Any], bits: int = 8, edge: int = EDGE) -> NDArray[Any]:
    """The small developed picture that areas are found and measured on."""
    development = develop(values)
    w, h = full_size(source, development)
    share = min(1.0, edge / max(w, h))
    size = max(8, round(w * share)), max(8, round(h * share))
    return render(source, development, size, bits=bits, keep=True, draft=True)


def colour_of(pixels: NDArray[Any], mask: NDArray[np.bool_], *, whole: bool = False) -> Array:
    """L*a*b* (D50) of an area: the mean of what is not clipped, without its darkest and lightest tenths.

    Args:
        whole: what is clipped counts too, as it is seen.

    Raises:
        NoArea: too little of it is not clipped.
    """
    top = 255 if pixels.dtype == np.uint8 else 65535
    values = pixels[mask].astype(np.float64) / top
    fit = values if whole else values[(values.max(axis=1) < 0.985) & (values.min(axis=1) > 0.008)]
    if len(fit) < max(LEAST, 0.2 * len(values)):
        raise NoArea("The area is clipped, or all but black, so its colour is not known. Choose another one.")
    linear = SPACES["srgb"].decode(fit)
    light = linear @ np.array([0.2126, 0.7152, 0.0722])
    low, high = np.quantile(light, (0.1, 0.9))
    kept = linear[(light >= low) & (light <= high)]
    return xyz_to_lab(SPACES["srgb"].to_pcs() @ kept.mean(axis=0))


def measured(source: Source, values: Mapping[str, Any], area: Area) -> Array:
    """L*a*b* of an area of a frame as it is rendered."""
    return colour_of(picture_of(source, values, 16), area.mask)


def moved(values: Mapping[str, Any], offsets: Mapping[str, float], as_shot: tuple[float, float]) -> dict[str, Any]:
    """Settings with offsets on them."""
    result = dict(values)
    for kind, amount in offsets.items():
        key = KEYS[kind][0]
        if amount:
            result[key] = shifted(key, result.get(key), amount, as_shot)
    return result


def shot_as(source: Source, values: Mapping[str, Any]) -> tuple[float, float]:
    """Kelvin and tint of the light as the camera took it."""
    kelvin, tint = xy_to_temperature(as_shot_white(source, str(values.get("profile.camera", ""))))
    return float(kelvin), float(tint)


CLIPPED = 0.02
"""Share of an area that may be clipped before exposure is lowered to see what is there."""


def _begin(
    source: Source,
    values: Mapping[str, Any],
    area: Area,
    kinds: list[str],
    limit: Array,
    as_shot: tuple[float, float],
) -> tuple[Array, Array]:
    """Where the search begins, and the area's colour there: no offsets, or an exposure at which the area is not clipped.

    Raises:
        NoArea: the area cannot be measured there either.
    """
    tries = [0.0, *(-0.4 * n for n in range(1, 6) if 0.4 * n <= limit[0])] if "ev" in kinds else [0.0]
    for n, ev in enumerate(tries):
        picture = picture_of(source, moved(values, {"ev": ev}, as_shot), 16)
        clipped = float((picture[area.mask].max(axis=1) >= 0.985 * 65535).mean())
        if clipped <= CLIPPED or n == len(tries) - 1:
            x = np.zeros(len(kinds))
            x[0] = ev
            return x, colour_of(picture, area.mask)
    raise AssertionError


def _or_none(at: Callable[[Array], Array], x: Array) -> Array | None:
    try:
        return at(x)
    except NoArea:
        return None


def match(
    source: Source,
    values: Mapping[str, Any],
    area: Area,
    target: Array,
    what: What = "both",
    limits: Mapping[str, float] = LIMITS,
) -> Matched:
    """Offsets that bring a frame's area to a colour.

    Args:
        values: all settings of the frame; target: L*a*b* of the reference's area as rendered.
        what: exposure moves lightness only, white the two colour axes only.

    Raises:
        NoArea: the area cannot be measured.
    """
    as_shot = shot_as(source, values)
    kinds = {"both": ["ev", "mired", "tint"], "exposure": ["ev"], "white": ["mired", "tint"]}[what]
    rows = {"both": [0, 1, 2], "exposure": [0], "white": [1, 2]}[what]
    limit = np.array([limits[k] for k in kinds])
    step = np.array([KEYS[k][1] for k in kinds])

    def at(x: Array) -> Array:
        return measured(source, moved(values, dict(zip(kinds, x, strict=True)), as_shot), area)

    x, lab = _begin(source, values, area, kinds, limit, as_shot)
    before = lab if not x.any() else colour_of(picture_of(source, values, 16), area.mask, whole=True)
    for _ in range(ROUNDS):
        off = (target - lab)[rows]
        if np.abs(off).max() < 0.03:
            break
        effect = np.stack(
            [(at(x + step * (np.arange(len(x)) == n)) - lab)[rows] / step[n] for n in range(len(x))], axis=1
        )
        # Damped a little: where an offset hardly does anything it is not to run away.
        scaled = effect * step
        change = step * np.linalg.solve(scaled.T @ scaled + 1e-4 * np.eye(len(x)), scaled.T @ off)
        change = np.clip(change, -limit / 2, limit / 2)
        # Too far at once: half the way, and half of that.
        for share in (1.0, 0.5, 0.25):
            wanted = np.clip(x + share * change, -limit, limit)
            there = _or_none(at, wanted)
            if there is not None and np.linalg.norm((target - there)[rows]) < np.linalg.norm(off):
                break
        else:
            break
        x, lab = wanted, there
    met = tuple(k for k, v, most in zip(kinds, x, limit, strict=True) if abs(v) >= most - 1e-9)
    # What nobody sees is no departure.
    offsets = {k: round(float(v), 4) if abs(v) >= LEAST_OFFSET[k] else 0.0 for k, v in zip(kinds, x, strict=True)}
    before_off, after_off = (round(float(ciede2000(v, target)), 3) for v in (before, lab))
    return Matched(offsets, before_off, after_off, met, (float(lab[0]), float(lab[1]), float(lab[2])))
