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

from tanner.core.jit import kernel
from tanner.core.sharing import bands, each
from tanner.core.tone.logs import log2_row

F32 = NDArray[np.float32]
EDGE = 0.25
"""Variance in stops squared below which a difference counts as texture, not as an edge."""

BAND = 160
"""Rows that a thread makes at once: what it works with stays near."""


@kernel
def _logs(x, out):
    least = np.float32(2.0**-20)
    for y in range(x.shape[0]):
        for j in range(x.shape[1]):
            out[y, j] = max(x[y, j], least)
        log2_row(out[y], out[y], x.shape[1])


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
    window = _window(luminance, share)
    mean = partial(_mean, window)
    h, w = luminance.shape
    out = np.empty((2, h, w), np.float32)

    def band(rows: tuple[int, int]) -> None:
        # Two means, one of the other: they reach one window up and down.
        first, end = max(0, rows[0] - window[1]), min(h, rows[1] + window[1])
        guide = np.empty((end - first, w), np.float32)
        _logs(luminance[first:end], guide)
        average = mean(guide)
        variance = np.maximum(mean(guide * guide) - average * average, 0)
        a = variance / (variance + np.float32(edge))
        b = average * (1 - a)
        here = slice(rows[0] - first, rows[1] - first)
        out[0, rows[0] : rows[1]], out[1, rows[0] : rows[1]] = mean(a)[here], mean(b)[here]

    each(band, bands(h, BAND))
    return out
