"""Evening out: a place keeps its own light, and what is finer or coarser than a size is made calm; grain stays."""

import cv2
import numpy as np
from numpy.typing import NDArray

from tanner.core.spots.heal import membrane

F32 = NDArray[np.float32]
Mask = NDArray[np.bool_]
GRAIN = 2.0
"""Deviations of the grain within which detail is left as it is."""


def calmed(picture: F32, hole: Mask, size: float, calm: str) -> F32:
    """A picture (h, w, c) with a hole in it made calm.

    Args:
        size: px that part fine from coarse; calm: finer or coarser, which of both goes.
    """
    soft = np.asarray(cv2.GaussianBlur(picture, (0, 0), max(size, 0.6)), np.float32).reshape(picture.shape)
    detail = picture - soft
    result = picture.copy()
    if calm == "finer":
        # Grain is told from the rest by the differences of neighbours around, which hardly hold anything else.
        step = np.diff(picture, axis=1)[~hole[:, 1:]]
        grain = np.maximum(1.4826 * np.median(np.abs(step), axis=0) / np.sqrt(2), 1e-12) * GRAIN
        result[hole] = (soft + grain * np.tanh(detail / grain))[hole]
        return result
    # What goes on smoothly from around takes the place of what is coarse; what is fine stays on it.
    result[hole] = (membrane(soft, hole) + detail)[hole]
    return result
