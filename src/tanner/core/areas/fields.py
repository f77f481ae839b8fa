"""Parameter fields: an adjustment of an area adds its mask times a difference to a parameter of every px.

A stage that areas may move reads its parameter from a row of the field, which starts at the picture's own value. So any number
of areas costs one pass of the path; each costs its mask and one multiply-add a px for each parameter that it moves.
"""

from typing import Any, NamedTuple

import numpy as np
from numpy.typing import NDArray

from tanner.core.areas.masks import F32, Masks, mask_row, places_row
from tanner.core.jit import kernel


class Areas(NamedTuple):
    """All areas of a frame as the kernel reads them.

    Attributes:
        masks: see there. grid: of the frame's geometry; to: float32 (2, 3), from px of the sensor to places.
        start: float32 (fields,), the picture's own values; by: float32 (areas, fields), what each area adds.
        used: bool (fields,), whether any area moves it, and beside: whether any moves one of its stage.
        alone: bool (fields,), whether its stage has something to do without areas.
        again: for stages that are done once more for some areas, see `stages.path.Again`.
        sharpen: float32 (areas,), what each adds to the amount of sharpening.
    """

    masks: Masks
    grid: F32
    to: F32
    start: F32
    by: F32
    used: NDArray[np.bool_]
    beside: NDArray[np.bool_]
    alone: NDArray[np.bool_]
    again: Any
    sharpen: F32


@kernel
def fill_fields(
    areas: Areas,
    y: int,
    x0: int,
    field: F32,
    masks: F32,
    work: F32,
    n: int,
    moved: NDArray[np.bool_],
    touched: NDArray[np.bool_],
) -> None:
    """The parameters of a row of px: float32 (fields, n), and each area's mask, (areas, n).

    Most areas are small: where a mask is nothing all along the row, nothing is done for it.

    Args:
        work: float32 (6 or more, at least 8 and n).
        moved: bool (fields,), filled with whether any area moves it in this row; without any, the field is not filled.
        touched: bool (areas,), filled with whether an area has anything of this row.
    """
    moved[:] = False
    places_row(areas.grid, areas.to, y, x0, work[4:6], work[:2], n)
    for area in range(areas.by.shape[0]):
        m, total = masks[area], np.float32(0.0)
        mask_row(areas.masks, area, work[0], work[1], m, work[3], n)
        for j in range(n):
            total += m[j]
        touched[area] = total > np.float32(0.0)
        if not touched[area]:
            continue
        for k in range(areas.start.shape[0]):
            d = areas.by[area, k]
            if d != np.float32(0.0):
                row, value = field[k], areas.start[k]
                if moved[k]:
                    for j in range(n):
                        row[j] += m[j] * d
                else:
                    moved[k] = True
                    for j in range(n):
                        row[j] = value + m[j] * d
    # Fields of a stage go together: one that is not moved stands beside one that is.
    any_moved = moved.any()
    for k in range(areas.start.shape[0]):
        if any_moved and areas.beside[k] and not moved[k]:
            row, value = field[k], areas.start[k]
            for j in range(n):
                row[j] = value


@kernel
def sharpen_more(areas: Areas, y0: int, x0: int, fade: float, out: F32) -> None:
    """What areas add to the amount of sharpening, float32 (h, w), of a block at y0, x0."""
    h, w = out.shape
    wide = max(w, 32)
    nodes, uv = np.empty((2, wide), np.float32), np.empty((2, wide), np.float32)
    m, part = np.empty(wide, np.float32), np.empty(wide, np.float32)
    for i in range(h):
        for j in range(w):
            out[i, j] = np.float32(0.0)
        places_row(areas.grid, areas.to, y0 + i, x0, nodes, uv, w)
        for area in range(areas.sharpen.shape[0]):
            amount = areas.sharpen[area] * np.float32(fade)
            if amount != np.float32(0.0):
                mask_row(areas.masks, area, uv[0], uv[1], m, part, w)
                for j in range(w):
                    out[i, j] += m[j] * amount
