"""Learned: a small network of our own over the mosaic's tiles; demosaicing is part of it.

Colour that is guessed from noise cannot be made good afterwards, so what comes out is linear colour.

It was trained on pictures of our own making (see the folder `training`); how far stands in network.json. How noisy the
frame is, is an input, so that one network serves every ISO and camera.
"""

import hashlib
from collections.abc import Callable
from functools import cache

import numpy as np
from numpy.typing import NDArray

from tanner.core.noise.network import STEP, WEIGHTS, network, seen_field
from tanner.core.noise.pieces import enter, leave
from tanner.core.noise.strips import in_strips

F32 = NDArray[np.float32]
HIGH, WIDE = 256, 512
"""Most that the sides of a piece have in tiles of the mosaic: what is written for one convolution is still near for the next."""
EDGE = 8
"""What more of a piece on each side is only there to be looked at.

The network sees farther, but hardly uses it: 16 would take 8 % longer for 0.004 dB over a picture and 0.03 along the seams.
"""


@cache
def mark() -> str:
    """A short name for the weights: what another network gave is not taken for this one's."""
    return hashlib.sha1(WEIGHTS.read_bytes()).hexdigest()[:8]


def even_piece(length: int, most: int) -> int:
    """Side of a piece, a multiple of STEP: as few as can be, of nearly the same size."""
    count = max(1, -(-length // most))
    return -(-length // (STEP * count)) * STEP


def learned(
    values: F32, a: F32, b: F32, clip: F32, threads: int = 1, say: Callable[[float], None] | None = None
) -> F32:
    """Linear colour (3, 2 h, 2 w), balanced, without noise, from linear tiles.

    Args:
        values: (4, h, w), balanced: red, green beside it, green below it, blue; a, b: (4,) of their variance.
        clip: (4,) where each clips.
        say: told how far the work is, 0 to 1; may raise to end it.
    """
    h, w = values.shape[1:]
    result = np.empty((3, 2 * h, 2 * w), np.float32)
    high, wide = even_piece(h, HIGH), even_piece(w, WIDE)
    corners = [(y, x) for y in range(0, h, high) for x in range(0, w, wide)]
    net = network()

    offset, spread = (0.375 * a + b / a).astype(np.float32), (2 * np.sqrt(a)).astype(np.float32)

    def piece(corner: tuple[int, int]) -> None:
        top, left = corner
        rows, columns = _around(top, high, h), _around(left, wide, w)
        seen = seen_field(len(rows), len(columns))
        enter(values, rows, columns, offset, spread, clip, seen)
        found = net.run(seen, len(rows), len(columns))
        leave(seen, found, EDGE, result[:, 2 * top : 2 * (top + high), 2 * left : 2 * (left + wide)])

    in_strips(piece, corners, say, threads)
    return result


def _around(start: int, length: int, size: int) -> NDArray[np.intp]:
    """Places of a piece with its edges; beyond the borders reflected."""
    places = np.abs(np.arange(start - EDGE, start + length + EDGE))
    places = np.where(places >= size, 2 * (size - 1) - places, places)
    return np.clip(places, 0, size - 1)
