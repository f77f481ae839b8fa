"""Contrast, black and white point of a frame brought to those of a reference, on purpose: solved on the pipeline.

A colour says nothing about contrast, so what is compared is the spread of lightness: its lowest and highest parts and the
step between its quarters, over a face or a drawn area that has some structure, else over the whole frame.
"""

from collections.abc import Mapping
from typing import Any

import cv2
import numpy as np
from numpy.typing import NDArray

from tanner.core.raw.source import Source
from tanner.core.series.area import LEAST, NoArea
from tanner.core.series.match import picture_of

Array = NDArray[np.float64]
KEYS = ("light.contrast", "light.black_point", "light.white_point")
STEP, LIMIT, ROUNDS = 8.0, 50.0, 5
RANGE = 20.0
"""L* between the 3rd and 97th hundredth from which an area has a contrast of its own."""


def scale_of(picture: NDArray[Any], mask: NDArray[np.bool_] | None) -> Array:
    """L* of a picture's scale: the step between its quarters, its 3rd and its 97th hundredth.

    Raises:
        NoArea: it is all but black or white.
    """
    top = np.float32(255 if picture.dtype == np.uint8 else 65535)
    lightness = cv2.cvtColor(picture.astype(np.float32) / top, cv2.COLOR_RGB2Lab)[..., 0]
    values = lightness if mask is None else lightness[mask]
    low, quarter, three, high = np.quantile(values, (0.03, 0.25, 0.75, 0.97))
    if high < 4 or low > 97 or values.size < LEAST:
        raise NoArea("The frame is all but black or white, so it has no contrast to be matched.")
    return np.array([three - quarter, low, high])


def structured(picture: NDArray[Any], mask: NDArray[np.bool_]) -> bool:
    """Whether an area has a contrast of its own."""
    _, low, high = scale_of(picture, mask)
    return bool(high - low >= RANGE)


def match_tone(
    source: Source, values: Mapping[str, Any], mask: NDArray[np.bool_] | None, target: Array
) -> tuple[dict[str, float], float, float]:
    """Contrast, black and white point that give a frame a scale, and the largest difference in L* before and after.

    Args:
        values: all settings of the frame; mask: None for the whole frame; target: see `scale_of`.
    """
    start = np.array([float(values.get(k, 0.0) or 0.0) for k in KEYS])

    # Measured inwards where a step would leave the range.
    steps = np.where(start + LIMIT + STEP > 100, -STEP, STEP)

    def at(x: Array) -> Array:
        return scale_of(picture_of(source, {**values, **dict(zip(KEYS, map(float, x), strict=True))}, 16), mask)

    x, scale = start, at(start)
    before = float(np.abs(target - scale).max())
    for _ in range(ROUNDS):
        off = target - scale
        if np.abs(off).max() < 0.15:
            break
        effect = np.stack([at(x + steps * (np.arange(3) == n)) - scale for n in range(3)], axis=1)
        change = steps * np.linalg.solve(effect.T @ effect + 0.02 * np.eye(3), effect.T @ off)
        wanted = np.clip(x + np.clip(change, -25, 25), np.maximum(start - LIMIT, -100), np.minimum(start + LIMIT, 100))
        there = at(wanted)
        if np.linalg.norm(target - there) > np.linalg.norm(off):
            break
        x, scale = wanted, there
    found = {k: round(float(v), 1) for k, v, s in zip(KEYS, x, start, strict=True) if abs(v - s) >= 0.5}
    return found, before, float(np.abs(target - scale).max())
