"""Learned: a small network of our own over the mosaic's tiles, run through onnxruntime; demosaicing is part of it.

Colour that is guessed from noise cannot be made good afterwards, so what comes out is linear colour.

It was trained on pictures of our own making (see the folder `training`); how far stands in network.json. How noisy the
frame is, is an input, so that one network serves every ISO and camera.
"""

import hashlib
import threading
from collections.abc import Callable
from functools import cache
from pathlib import Path
from typing import Any

import numpy as np
from numpy.typing import NDArray

from tanner.core.noise.coding import coded, guess, linear, planes
from tanner.core.noise.strips import in_strips

F32 = NDArray[np.float32]
NETWORK = Path(__file__).parent / "network.onnx"
TILE, EDGE = 512, 16
"""Most that a side of a piece has in tiles of the mosaic, and what more of it on each side is only there to be looked at."""
MANY = 4
"""From so many pieces on it pays to make the network ready for their size: it then lays out all its steps for it."""
_lock = threading.Lock()


@cache
def mark() -> str:
    """A short name for the weights: what another network gave is not taken for this one's."""
    return hashlib.sha1(NETWORK.read_bytes()).hexdigest()[:8]


def ready(h: int = 0, w: int = 0) -> Any:
    """The network, for pieces of one size in tiles, or (0) of any."""
    import onnxruntime

    options = onnxruntime.SessionOptions()
    # Pieces are shared between threads of ours: what is done around the network then waits for nobody.
    options.intra_op_num_threads = options.inter_op_num_threads = 1
    options.log_severity_level = 3
    if h:
        options.add_free_dimension_override_by_name("h", h)
        options.add_free_dimension_override_by_name("w", w)
    return onnxruntime.InferenceSession(str(NETWORK), options, providers=["CPUExecutionProvider"])


@cache
def _any_size() -> Any:
    return ready()


def session() -> Any:
    """The network for pieces of any size, loaded once."""
    with _lock:
        return _any_size()


def even_piece(length: int) -> int:
    """Side of a piece, a multiple of 4, which the network's own scales need: as few as can be, of nearly the same size."""
    count = max(1, -(-length // TILE))
    return -(-length // (4 * count)) * 4


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
    high, wide = even_piece(h), even_piece(w)
    corners = [(y, x) for y in range(0, h, high) for x in range(0, w, wide)]
    # One that is made for a size holds hundreds of MB of work space: it goes with the frame.
    net = ready(high + 2 * EDGE, wide + 2 * EDGE) if len(corners) >= MANY else session()

    def piece(corner: tuple[int, int]) -> None:
        top, left = corner
        tile = values[:, _around(top, high, h)[:, None], _around(left, wide, w)]
        answer = net.run(None, {"planes": planes(tile, a, b, clip)[None]})[0][0]
        inner = np.s_[:, EDGE : EDGE + min(high, h - top), EDGE : EDGE + min(wide, w - left)]
        colour = linear((guess(coded(tile)) + answer)[inner])
        result[:, 2 * top : 2 * (top + high), 2 * left : 2 * (left + wide)] = colour

    in_strips(piece, corners, say, threads)
    return result


def _around(start: int, length: int, size: int) -> NDArray[np.intp]:
    """Places of a piece with its edges; beyond the borders reflected."""
    places = np.abs(np.arange(start - EDGE, start + length + EDGE))
    places = np.where(places >= size, 2 * (size - 1) - places, places)
    return np.clip(places, 0, size - 1)
