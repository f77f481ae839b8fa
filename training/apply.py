"""The network at work: a noisy Bayer frame in, linear camera colour out, in tiles, through onnxruntime.

The network was trained on pictures of our own making (see the folder `training`); how far stands in network.json.
Demosaicing is part of it: colour that is guessed from noise cannot be made good afterwards.
"""

from collections.abc import Callable
from functools import cache
from pathlib import Path
from typing import Any

import numpy as np
from numpy.typing import NDArray

from tanner.core.noise.model import noise_model, tiles_of
from tanner.core.raw.reader import Source
from training.coding import guess, linear, planes

F32 = NDArray[np.float32]
HERE = Path(__file__).parent
NETWORK = HERE / "network.onnx"
TILE, EDGE = 384, 40
"""Side of a tile at half size, and what of it on each side is only there to be looked at."""


@cache
def _session(threads: int) -> Any:
    import onnxruntime

    options = onnxruntime.SessionOptions()
    options.intra_op_num_threads = threads
    options.log_severity_level = 3
    return onnxruntime.InferenceSession(str(NETWORK), options, providers=["CPUExecutionProvider"])


def clean_colour(source: Source, threads: int = 1, say: Callable[[float], None] | None = None) -> F32:
    """Linear camera colour (3, H, W) of a Bayer frame, 1 at the sensor's white, without noise.

    Args:
        say: told how far the work is, 0 to 1; may raise to end it.
    """
    model = noise_model(source)
    ry, rx = source.facts.pattern or (0, 0)
    order = [2 * ry + rx, 2 * ry + 1 - rx, 2 * (1 - ry) + rx, 2 * (1 - ry) + 1 - rx]
    gains = (1 / np.array(source.facts.neutral, np.float32))[[0, 1, 1, 2]]
    values = _red_first(source, ry, rx) * gains.reshape(4, 1, 1)
    a = (model.a[order] * gains).astype(np.float32)
    b = (model.b[order] * gains**2).astype(np.float32)
    h, w = values.shape[1:]
    result = np.empty((3, 2 * h, 2 * w), np.float32)
    session = _session(threads)
    # Multiples of 4, which the network's own scales need; reflected at the borders.
    padded = np.pad(
        values, ((0, 0), (EDGE, EDGE + 4), (EDGE, EDGE + 4)), mode="reflect" if min(h, w) > EDGE + 4 else "symmetric"
    )
    tops = range(0, h, TILE)
    lefts = range(0, w, TILE)
    for n, top in enumerate(tops):
        for left in lefts:
            if say:
                say((n * len(lefts) + left // TILE) / (len(tops) * len(lefts)))
            high, wide = min(TILE, h - top), min(TILE, w - left)
            high4, wide4 = -(-(high + 2 * EDGE) // 4) * 4, -(-(wide + 2 * EDGE) // 4) * 4
            tile = padded[:, top : top + high4, left : left + wide4]
            seen = planes(tile, a, b, gains)[None].astype(np.float32)
            coded = guess(tile) + session.run(None, {"planes": seen})[0][0]
            inner = coded[:, EDGE : EDGE + high, EDGE : EDGE + wide]
            result[:, 2 * top : 2 * (top + high), 2 * left : 2 * (left + wide)] = linear(inner)
    result = (np.maximum(result, 0) / gains[[0, 1, 3]].reshape(3, 1, 1)).astype(np.float32)
    # The tiles began at the first red: what lies before it is a row or column of neighbours' colour.
    return np.ascontiguousarray(np.roll(result, (ry, rx), axis=(1, 2))) if ry or rx else result


def _red_first(source: Source, ry: int, rx: int) -> F32:
    """Tiles (4, h, w) that begin at a red pixel, whatever the mosaic; moved around the border by a pixel."""
    if not (ry or rx):
        return tiles_of(source)
    flat = np.empty(source.data.shape, np.float32)
    tiles = tiles_of(source)
    for n, (y, x) in enumerate(((0, 0), (0, 1), (1, 0), (1, 1))):
        flat[y::2, x::2] = tiles[n]
    flat = np.roll(flat, (-ry, -rx), axis=(0, 1))
    return np.stack([flat[0::2, 0::2], flat[0::2, 1::2], flat[1::2, 0::2], flat[1::2, 1::2]])
