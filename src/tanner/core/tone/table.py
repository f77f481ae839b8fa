"""Hue, saturation and value tables of camera profiles on rows of pixels (source: dng17, chapter 6).

Linear ROMM values become hue (0 to 6), saturation and value; the table gives a hue shift and two factors,
interpolated in three directions (hue goes round, the others are held at their ends); then back.
"""

import numpy as np
from numpy.typing import NDArray

from tanner.core.jit import kernel
from tanner.core.tone.hues import (
    CELL,
    WORK,
    enter,
    enter_deep,
    enter_srgb,
    enter_srgb_deep,
    leave,
    leave_srgb,
    look_up,
    look_up_deep,
)
from tanner.core.vector16 import LANES

F32 = NDArray[np.float32]
RUN = 128
"""Pixels that go through the steps together: their work rows and a table stay in the nearest cache."""
NO_TABLE = np.zeros((1, CELL), dtype=np.float32)


def packed(cells: NDArray[np.float32], srgb: bool) -> tuple[F32, NDArray[np.int32]]:
    """A table (hues, sats, vals, 3) with degrees, as the kernel reads it.

    Returns:
        float32 (vals * (hues + 1) * sats + sats + 1, CELL): hue shift in sixths of a turn, saturation factor, value
        factor and a 0; the first hue stands again at the end of each level of value. What follows the last level is only
        read with a share of nothing. And int32 (4,): hues, sats, vals, and 1 for an sRGB-encoded value.
    """
    hues, sats, vals, _ = cells.shape
    laid = np.zeros((vals, hues + 1, sats, CELL), np.float32)
    laid[:, :hues, :, :3] = cells.transpose(2, 0, 1, 3)
    laid[..., 0] /= 60.0
    laid[:, hues] = laid[:, 0]
    flat = laid.reshape(-1, CELL)
    return np.concatenate([flat, np.repeat(flat[-1:], sats + 1, axis=0)]), np.array([hues, sats, vals, srgb], np.int32)


@kernel
def apply_table(r, g, b, cells, size, gain, n):
    """A table on one row of linear ROMM values, in place.

    Args:
        cells, size: see `packed`.
        gain: a factor on the result, for exposure.
    """
    rows = np.empty((WORK, RUN), np.float32)
    flat = cells.reshape(-1)
    sats, level = np.int64(size[1]), np.int64(size[0] + 1) * np.int64(size[1])
    deep, srgb = size[2] > 1, size[3] == 1
    for start in range(0, n, RUN):
        m = min(RUN, n - start)
        parts = (m + LANES - 1) // LANES
        for k in range(parts):
            on = k * LANES
            at, keep = start + on, m - on
            if srgb and deep:
                enter_srgb_deep(r, g, b, size, rows, at, on, keep)
            elif srgb:
                enter_srgb(r, g, b, size, rows, at, on, keep)
            elif deep:
                enter_deep(r, g, b, size, rows, at, on, keep)
            else:
                enter(r, g, b, size, rows, at, on, keep)
        for k in range(parts):
            if deep:
                look_up_deep(flat, sats, level, rows, k * LANES)
            else:
                look_up(flat, sats, level, rows, k * LANES)
        for k in range(parts):
            on = k * LANES
            at, keep = start + on, m - on
            if srgb:
                leave_srgb(rows, gain, r, g, b, at, on, keep)
            else:
                leave(rows, gain, r, g, b, at, on, keep)
