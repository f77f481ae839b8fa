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

F32 = NDArray[np.float32]
NETWORK = Path(__file__).parent / "network.onnx"
TILE, EDGE = 320, 24
"""Side of a piece in tiles of the mosaic, and what of it on each side is only there to be looked at."""
_lock = threading.Lock()


@cache
def mark() -> str:
    """A short name for the weights: what another network gave is not taken for this one's."""
    return hashlib.sha1(NETWORK.read_bytes()).hexdigest()[:8]


@cache
def _session(threads: int) -> Any:
    import onnxruntime

    options = onnxruntime.SessionOptions()
    options.intra_op_num_threads = threads
    options.inter_op_num_threads = 1
    options.log_severity_level = 3
    return onnxruntime.InferenceSession(str(NETWORK), options, providers=["CPUExecutionProvider"])


def session(threads: int) -> Any:
    """The network, loaded once for each number of threads."""
    with _lock:
        return _session(threads)


def learned(
    values: F32,
    pilot: Callable[[int, int], F32],
    a: F32,
    b: F32,
    clip: F32,
    threads: int = 1,
    say: Callable[[float], None] | None = None,
) -> F32:
    """Linear colour (3, 2 h, 2 w), balanced, without noise, from linear tiles.

    Args:
        values: (4, h, w), balanced: red, green beside it, green below it, blue; a, b: (4,) of their variance.
        pilot: the same by the fine method, for rows of tiles from the first to before the second.
        clip: (4,) where each clips.
        say: told how far the work is, 0 to 1; may raise to end it.
    """
    net = session(threads)
    h, w = values.shape[1:]
    result = np.empty((3, 2 * h, 2 * w), np.float32)
    # Multiples of 4, which the network's own scales need; reflected at the borders.
    mode = "reflect" if min(h, w) > EDGE + 4 else "symmetric"
    tops, lefts = range(0, h, TILE), range(0, w, TILE)
    for n, top in enumerate(tops):
        high = min(TILE, h - top)
        high4 = -(-(high + 2 * EDGE) // 4) * 4
        wanted = _reflected(h, top - EDGE, top - EDGE + high4)
        beside = ((0, 0), (0, 0), (EDGE, EDGE + 4))
        rows = np.pad(values[:, wanted], beside, mode=mode)  # type: ignore[call-overload]
        first = int(wanted.min())
        quiet = pilot(first, int(wanted.max()) + 1)[:, wanted - first]
        quiet = np.pad(quiet, beside, mode=mode)  # type: ignore[call-overload]
        for m, left in enumerate(lefts):
            wide = min(TILE, w - left)
            piece = np.s_[:, :, left : left + -(-(wide + 2 * EDGE) // 4) * 4]
            tile = rows[piece]
            answer = net.run(None, {"planes": planes(tile, quiet[piece], a, b, clip)[None]})[0][0]
            inner = np.s_[:, EDGE : EDGE + high, EDGE : EDGE + wide]
            colour = linear((guess(coded(tile)) + answer)[inner])
            result[:, 2 * top : 2 * (top + high), 2 * left : 2 * (left + wide)] = colour
            if say:
                say((n * len(lefts) + m + 1) / (len(tops) * len(lefts)))
    return result


def _reflected(h: int, first: int, last: int) -> NDArray[np.intp]:
    """Rows from first to before last, beyond the borders reflected."""
    rows = np.abs(np.arange(first, last))
    rows = np.where(rows >= h, 2 * (h - 1) - rows, rows)
    return np.clip(rows, 0, h - 1)
