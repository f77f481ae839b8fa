"""How a noisy mosaic is given to the network, and how its answer becomes linear colour.

Everything is per 2 x 2 tile, at half size. Values are balanced as shot, so that grey is equal in all colours. The
generalised Anscombe transform (source: makitalo2013) without its factor, sqrt(v + 3/8 a + b/a), makes the noise of a
colour even, with a deviation of sqrt(a) / 2; a and b are scale and offset of the variance of balanced values. The
answer is in roots of a fixed code, sqrt(v + FLOOR), so that it means the same whatever the noise.
"""

import numpy as np
from numpy.typing import NDArray

F32 = NDArray[np.float32]
FLOOR = 1e-3
INPUTS = 17


def tiles(mosaic: F32) -> F32:
    """(H, W) with red at the top left to (4, H/2, W/2): red, green beside it, green below it, blue."""
    return np.stack([mosaic[0::2, 0::2], mosaic[0::2, 1::2], mosaic[1::2, 0::2], mosaic[1::2, 1::2]])


def planes(values: F32, a: F32, b: F32, clip: F32) -> F32:
    """What the network sees: (17, h, w).

    Stabilised values, coded values, four times the noise's deviation in stabilised values (per tile place, 4 each), the transform's
    offset (1), and how near each value is to where the sensor clips (4).

    Args:
        values: (4, h, w), balanced linear tiles.
        a, b: (4,) scale and offset of the variance of each; clip: (4,) where each clips.
    """

    def wide(v: F32) -> F32:
        return v.reshape(4, 1, 1) + 0 * values

    offset = 0.375 * a + b / a
    stable = np.sqrt(np.clip(values + offset.reshape(4, 1, 1), 0, None))
    coded = np.sqrt(np.clip(values, 0, None) + FLOOR)
    deviation = wide(np.sqrt(a) / 2)
    near = np.clip(values / clip.reshape(4, 1, 1), 0, 1) ** 4
    ground = wide(np.sqrt(offset))[:1]
    return np.concatenate([stable, coded, 4 * deviation, ground, near], 0)


def guess(values: F32) -> F32:
    """A first picture in coded values, (12, h, w): red, green and blue at each place of a tile, the tile's own colours."""
    coded = np.sqrt(np.clip(values, 0, None) + FLOOR)
    red, green1, green2, blue = coded[0:1], coded[1:2], coded[2:3], coded[3:4]
    green = (green1 + green2) * 0.5
    return np.concatenate([red, green, blue, red, green1, blue, red, green2, blue, red, green, blue], 0)


def linear(coded: F32) -> F32:
    """(12, h, w) coded to (3, H, W) linear."""
    values = np.maximum(coded, 0) ** 2 - np.float32(FLOOR)
    h, w = coded.shape[1:]
    result = np.empty((3, 2 * h, 2 * w), np.float32)
    for place, (dy, dx) in enumerate(((0, 0), (0, 1), (1, 0), (1, 1))):
        result[:, dy::2, dx::2] = values[3 * place : 3 * place + 3]
    return result
