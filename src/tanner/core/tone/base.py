"""The base layer: what is bright and dark in the large, with edges kept.

A guided filter of log2 luminance (source: he2013, the fast form of he2015): base = a * log2(Y) + b with
a and b made at a small size and interpolated, so that the layer follows edges at full size. It is made
from the picture before exposure, so that exposure never asks for a new one.
"""

from functools import partial
from typing import Any

import cv2
import numpy as np
from numpy.typing import NDArray

F32 = NDArray[np.float32]
EDGE = 0.25
"""Variance in stops squared below which a difference counts as texture, not as an edge."""


def _window(x: F32, share: float) -> tuple[int, int]:
    radius = max(2, round(max(x.shape) * share))
    return 2 * radius + 1, 2 * radius + 1


def _mean(window: tuple[int, int], x: NDArray[Any]) -> F32:
    return np.asarray(cv2.blur(x, window, borderType=cv2.BORDER_REFLECT), dtype=np.float32)


def guided(x: F32, luminance: F32, share: float, edge: float) -> F32:
    """A picture x smoothed along the edges of log2 luminance, as coefficients: x is about a * log2(Y) + b (source: he2013).

    Returns:
        float32 (2, h, w).
    """
    guide = np.log2(np.maximum(luminance, 2.0**-20)).astype(np.float32)
    mean = partial(_mean, _window(luminance, share))
    average, level = mean(guide), mean(x)
    variance = np.maximum(mean(guide * guide) - average * average, 0)
    a = (mean(guide * x) - average * level) / (variance + np.float32(edge))
    return np.stack([mean(a), mean(level - a * average)])


def coefficients(luminance: F32, share: float = 1 / 40, edge: float = EDGE) -> F32:
    """a and b of the base layer.

    Args:
        luminance: (h, w) linear, small.
        share: radius of the filter in shares of the long edge.
        edge: see `EDGE`.

    Returns:
        float32 (2, h, w).
    """
    guide = np.log2(np.maximum(luminance, 2.0**-20)).astype(np.float32)
    window = _window(luminance, share)
    mean = partial(_mean, window)
    average = mean(guide)
    variance = np.maximum(mean(guide * guide) - average * average, 0)
    a = variance / (variance + np.float32(edge))
    b = average * (1 - a)
    return np.stack([mean(a), mean(b)])
