"""Paths of brush strokes as short text: so that a frame with hundreds of strokes stays a few kilobytes.

A path is base64 of 16-bit integers, little end first: x and y of its first point, then how far each next one is from the one
before, all in steps of `STEP`, from the middle of the upright picture in shares of its long edge.
"""

import base64
import binascii
from collections.abc import Iterable

import numpy as np
from numpy.typing import NDArray

STEP = 1 / 16384
F64 = NDArray[np.float64]


def written(points: Iterable[Iterable[float]]) -> str:
    """The text of a path; points: (N, 2) places."""
    whole = np.rint(np.asarray(list(points), dtype=np.float64).reshape(-1, 2) / STEP)
    # Differences of what was rounded, so that errors do not add up.
    steps = np.clip(np.diff(whole, axis=0, prepend=0), -32768, 32767).astype("<i2")
    return base64.b64encode(steps.tobytes()).decode()


def read(path: str) -> F64:
    """The places of a path, (N, 2).

    Raises:
        ValueError: it is none.
    """
    try:
        data = base64.b64decode(path, validate=True)
    except (binascii.Error, ValueError):
        raise ValueError("a stroke's path is base64 of 16-bit steps") from None
    if not data or len(data) % 4:
        raise ValueError("a stroke's path is pairs of 16-bit steps")
    steps = np.frombuffer(data, "<i2").reshape(-1, 2).astype(np.float64)
    return np.cumsum(steps, axis=0) * STEP
