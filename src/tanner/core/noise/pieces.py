"""A piece of a mosaic on its way into the network and out of it: what `coding` says in whole arrays, px by px."""

import numpy as np

from tanner.core.jit import kernel
from tanner.core.noise.coding import FLOOR

_FLOOR = np.float32(FLOOR)


@kernel
def enter(values, rows, columns, offset, spread, clip, seen):
    """What the network sees of a piece, into the inside of a field (see `coding.planes` and `convolve.field`).

    Args:
        values: float32 (4, h, w), balanced linear tiles; rows, columns: int (n,), which of them the piece holds.
        offset: float32 (4,), the transform's; spread: float32 (4,), four times the deviation it leaves; clip: float32 (4,).
    """
    zero, one = np.float32(0), np.float32(1)
    first = np.sqrt(offset[0])
    for i in range(len(rows)):
        for j in range(len(columns)):
            place = seen[i + 1, j + 1]
            for p in range(4):
                value = values[p, rows[i], columns[j]]
                near = min(max(value / clip[p], zero), one)
                place[p] = np.sqrt(max(value + offset[p], zero))
                place[4 + p] = np.sqrt(max(value, zero) + _FLOOR)
                place[8 + p] = spread[p]
                place[13 + p] = near * near * near * near
            place[12] = first


@kernel
def leave(seen, found, edge, out):
    """The network's answer on a first guess (see `coding.guess`), as linear colour.

    Args:
        seen, found: float32 fields of what the network saw and of its answer; edge: places at each side that are left out.
        out: float32 (3, 2 h, 2 w), the inside of the piece.
    """
    half, quarter = np.float32(0.5), np.float32(0.25)
    for i in range(out.shape[1] // 2):
        y = i + 1 + edge
        for j in range(out.shape[2] // 2):
            x = j + 1 + edge
            answer = found[y, x]
            red, right, below, blue = seen[y, x, 4], seen[y, x, 5], seen[y, x, 6], seen[y, x, 7]
            red_right, red_below, red_across = seen[y, x + 1, 4], seen[y + 1, x, 4], seen[y + 1, x + 1, 4]
            blue_left, blue_above, blue_across = seen[y, x - 1, 7], seen[y - 1, x, 7], seen[y - 1, x - 1, 7]
            _write(out, 0, 2 * i, 2 * j, red + answer[0])
            _write(out, 1, 2 * i, 2 * j, quarter * (right + seen[y, x - 1, 5] + below + seen[y - 1, x, 6]) + answer[1])
            _write(out, 2, 2 * i, 2 * j, quarter * (blue + blue_above + blue_left + blue_across) + answer[2])
            _write(out, 0, 2 * i, 2 * j + 1, half * (red + red_right) + answer[3])
            _write(out, 1, 2 * i, 2 * j + 1, right + answer[4])
            _write(out, 2, 2 * i, 2 * j + 1, half * (blue + blue_above) + answer[5])
            _write(out, 0, 2 * i + 1, 2 * j, half * (red + red_below) + answer[6])
            _write(out, 1, 2 * i + 1, 2 * j, below + answer[7])
            _write(out, 2, 2 * i + 1, 2 * j, half * (blue + blue_left) + answer[8])
            _write(out, 0, 2 * i + 1, 2 * j + 1, quarter * (red + red_right + red_below + red_across) + answer[9])
            green = quarter * (below + seen[y, x + 1, 6] + right + seen[y + 1, x, 5])
            _write(out, 1, 2 * i + 1, 2 * j + 1, green + answer[10])
            _write(out, 2, 2 * i + 1, 2 * j + 1, blue + answer[11])


@kernel
def _write(out, colour, y, x, root):
    root = max(root, np.float32(0))
    out[colour, y, x] = root * root - _FLOOR
