"""The network for noise: its weights, and what it says of a piece of a frame.

It is the one that `training/network.py` describes; its weights come from there, and are kept in half precision. `training/network.onnx`
holds the same in an open form, which the tests run beside it.
"""

from functools import cache
from pathlib import Path

import numpy as np
from numpy.typing import NDArray

from tanner.core.noise.coding import INPUTS, OUTPUTS
from tanner.core.noise.convolve import (
    ABOVE_ZERO,
    ADDED,
    PLACES,
    PLAIN,
    ROOM,
    convolve,
    double,
    field,
    grouped,
    halve,
    mixed,
)
from tanner.core.vector16 import LANES

F32 = NDArray[np.float32]
WEIGHTS = Path(__file__).parent / "network.npz"
STEP = 4
"""Sides of a piece are multiples of it: it is halved twice."""
Pair = tuple[F32, F32]


def _even(n: int) -> int:
    return -(-n // LANES) * LANES


def seen_field(h: int, w: int) -> F32:
    """Room for what the network sees of (h, w) tiles."""
    return field(h, w, _even(INPUTS))


def _three(weights: F32, bias: F32) -> Pair:
    """A 3 x 3 convolution, its channels filled up to whole vectors."""
    results, channels = (_even(n) for n in weights.shape[:2])
    whole = np.zeros((results, channels, 3, 3), np.float32)
    whole[: weights.shape[0], : weights.shape[1]] = weights
    return mixed(whole), np.pad(bias, (0, results - len(bias))).astype(np.float32)


def _step(weights: F32, bias: F32, order: tuple[int, int, int]) -> Pair:
    """A 2 x 2 convolution with a step of 2, or a transposed one, as two matrices: of the upper row and the lower.

    Args:
        order: of the axes of one row's weights, in which what is summed over comes first.
    """
    rows = [weights[:, :, i].transpose(order) for i in range(2)]
    matrices = [r.reshape(-1, len(bias)) if order[0] == 2 else r.reshape(len(r), -1) for r in rows]
    return np.concatenate([grouped(matrix) for matrix in matrices]), bias.astype(np.float32)


class Network:
    """The weights as the convolutions take them; shared by threads."""

    def __init__(self, kept: dict[str, F32]) -> None:
        layers = {
            name.removesuffix(".weight"): (value.astype(np.float32), kept[name.replace(".weight", ".bias")])
            for name, value in kept.items()
            if name.endswith(".weight")
        }
        self.depth = max(int(name.split(".")[1]) for name in layers if name.startswith("middle.")) + 1
        self.three = {name: _three(*layer) for name, layer in layers.items() if layer[0].shape[2:] == (3, 3)}
        self.down = [_step(*layers[f"down{n}"], (2, 1, 0)) for n in range(2)]
        self.up = [_step(*layers[f"up{n}"], (0, 2, 1)) for n in range(2)]

    def run(self, seen: F32, h: int, w: int) -> F32:
        """What is to be added to the first guess, of what is seen: both fields of (h, w), multiples of STEP; see `pieces`."""
        widths = [len(self.three[f"{part}.0.a"][1]) for part in ("in0", "in1", "middle")]
        sizes = [(h >> n, w >> n) for n in range(3)]
        rooms = [(field(*size, width), field(*size, width)) for size, width in zip(sizes, widths, strict=True)]
        before, after = (np.empty(PLACES * ROOM * max(widths), np.float32) for _ in range(2))
        row = np.empty((w // 2 + 16) * 2 * max(widths), np.float32)

        def three(name: str, source: F32, way: int, out: F32, scale: int) -> None:
            convolve(source, *self.three[name], way, out, *sizes[scale], before, after)

        def blocks(part: str, scale: int, count: int) -> None:
            here, middle = rooms[scale]
            for n in range(count):
                three(f"{part}.{n}.a", here, ABOVE_ZERO, middle, scale)
                three(f"{part}.{n}.b", middle, ADDED, here, scale)

        def halved(scale: int) -> None:
            weights, bias = self.down[scale]
            out = sizes[scale + 1]
            halve(rooms[scale][0], weights, np.tile(bias, out[1]), rooms[scale + 1][0], *out, row)

        def doubled(scale: int) -> None:
            weights, bias = self.up[scale]
            half = sizes[scale + 1]
            double(rooms[scale + 1][0], weights, np.tile(bias, 2 * half[1]), rooms[scale][0], *half, row)

        three("first", seen, PLAIN, rooms[0][0], 0)
        blocks("in0", 0, 2)
        halved(0)
        blocks("in1", 1, 2)
        halved(1)
        blocks("middle", 2, self.depth)
        doubled(1)
        blocks("out1", 1, 2)
        doubled(0)
        blocks("out0", 0, 2)
        found = field(h, w, _even(OUTPUTS))
        three("last", rooms[0][0], PLAIN, found, 0)
        return found


@cache
def network() -> Network:
    """The weights that ship, read once."""
    with np.load(WEIGHTS) as kept:
        return Network(dict(kept))
