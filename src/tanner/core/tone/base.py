"""The base layer: what is bright and dark in the large, with edges kept.

A guided filter of log2 luminance (source: he2013, the fast form of he2015): base = a * log2(Y) + b with
a and b made at a small size and interpolated, so that the layer follows edges at full size. It is made
from the picture before exposure, so that exposure never asks for a new one.
"""

from typing import Any

import cv2
import numpy as np
from numpy.typing import NDArray

F32 = NDArray[np.float32]
EDGE = 0.25
"""Variance in stops squared below which a difference counts as texture, not as an edge."""


def coefficients(luminance: F32) -> F32:
    """a and b of the base layer.

    Args:
        luminance: (h, w) linear, long edge about 480 px.

    Returns:
        float32 (2, h, w).
    """
    guide = np.log2(np.maximum(luminance, 2.0**-20)).astype(np.float32)
    radius = max(2, round(max(luminance.shape) / 40))
    window = (2 * radius + 1, 2 * radius + 1)

    def mean(x: NDArray[Any]) -> F32:
        return np.asarray(cv2.blur(x, window, borderType=cv2.BORDER_REFLECT), dtype=np.float32)

    average = mean(guide)
    variance = np.maximum(mean(guide * guide) - average * average, 0)
    a = variance / (variance + np.float32(EDGE))
    b = average * (1 - a)
    return np.stack([mean(a), mean(b)])
