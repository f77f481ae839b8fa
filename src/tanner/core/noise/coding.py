"""How a noisy mosaic is given to the network, and how its answer becomes a clean picture of all colours.

Everything is per 2 x 2 tile, at half size. Values are balanced as shot, so that grey is equal in all colours. The
generalised Anscombe transform (source: makitalo2013) without its factor, sqrt(v + 3/8 a + b/a), makes the noise of a
colour even, with a deviation of sqrt(a) / 2; a and b are scale and offset of the variance of balanced values. The
answer is in roots of a fixed code, sqrt(v + FLOOR), so that it means the same whatever the noise.

Training works with these whole arrays; the application does the same px by px (see `pieces`).
"""

import numpy as np
from numpy.typing import NDArray

F32 = NDArray[np.float32]
FLOOR = 1e-3
INPUTS, OUTPUTS = 17, 12


def planes(values: F32, a: F32, b: F32, clip: F32) -> F32:
    """What the network sees: (17, h, w).

    Stabilised values, coded values, four times the noise's deviation in stabilised values (per tile place, 4 each), the
    transform's offset (1), and how near each value is to where the sensor clips (4).

    Args:
        values: (4, h, w), balanced linear tiles.
        a, b: (4,) scale and offset of the variance of each; clip: (4,) where each clips.
    """
    offset = (0.375 * a + b / a).astype(np.float32)
    seen = np.empty((INPUTS, *values.shape[1:]), np.float32)
    np.sqrt(np.maximum(values + offset.reshape(4, 1, 1), 0), out=seen[0:4])
    seen[4:8] = coded(values)
    seen[8:12] = (2 * np.sqrt(a)).reshape(4, 1, 1)
    seen[12] = np.sqrt(offset[0])
    near = np.clip(values / clip.reshape(4, 1, 1), 0, 1)
    near *= near
    np.multiply(near, near, out=seen[13:17])
    return seen


def coded(values: F32) -> F32:
    """Roots of a fixed code."""
    result: F32 = np.sqrt(np.maximum(values, 0) + np.float32(FLOOR))
    return result


def guess(roots: F32) -> F32:
    """A first picture (12, h, w), which the network's answer is added to: red, green and blue at each place of a tile.

    Missing colours are means of the nearest in coded values; the border repeats.

    Args:
        roots: (4, h, w) coded tiles.
    """
    h, w = roots.shape[1:]
    p = np.pad(roots, ((0, 0), (1, 1), (1, 1)), mode="edge")

    def at(place: int, dy: int = 0, dx: int = 0) -> F32:
        return p[place, 1 + dy : 1 + dy + h, 1 + dx : 1 + dx + w]

    half, quarter = np.float32(0.5), np.float32(0.25)
    red, right, below, blue = (at(n) for n in range(4))
    result = np.empty((OUTPUTS, h, w), np.float32)
    result[0], result[4], result[7], result[11] = red, right, below, blue
    # Green at red: right and left, below and above; at blue: the same the other way about.
    result[1] = quarter * (right + at(1, 0, -1) + below + at(2, -1, 0))
    result[10] = quarter * (below + at(2, 0, 1) + right + at(1, 1, 0))
    # Red beside and below itself, and across; blue the other way about.
    result[3] = half * (red + at(0, 0, 1))
    result[6] = half * (red + at(0, 1, 0))
    result[9] = quarter * (red + at(0, 0, 1) + at(0, 1, 0) + at(0, 1, 1))
    result[5] = half * (blue + at(3, -1, 0))
    result[8] = half * (blue + at(3, 0, -1))
    result[2] = quarter * (blue + at(3, -1, 0) + at(3, 0, -1) + at(3, -1, -1))
    return result


def linear(found: F32) -> F32:
    """(12, h, w) coded to (3, 2 h, 2 w) linear."""
    h, w = found.shape[1:]
    root = np.maximum(found, 0)
    root *= root
    root -= np.float32(FLOOR)
    result = np.empty((3, 2 * h, 2 * w), np.float32)
    for place, (dy, dx) in enumerate(((0, 0), (0, 1), (1, 0), (1, 1))):
        result[:, dy::2, dx::2] = root[3 * place : 3 * place + 3]
    return result
