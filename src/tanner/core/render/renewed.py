"""A view that is kept, with other spots: only what they changed is resampled anew."""

import math
from collections.abc import Callable, Hashable

import numpy as np
from numpy.typing import NDArray

from tanner.core.memory import Slot
from tanner.core.optics.geometry import STEP
from tanner.core.optics.resample import sensor_range
from tanner.core.render.linear import Linear
from tanner.core.spots.apply import like_before
from tanner.core.spots.canvas import SpotPatch

F32 = NDArray[np.float32]
Block = tuple[int, int, int, int]
"""Top, left, bottom and right in px of the output."""
MOST = 0.3
"""Where more of a view than this changes, all of it is made anew, in longer rows."""
TILE = 4 * STEP
AROUND = 12
"""px of the sensor that demosaicing, besides the kernel, reads around a place."""


def view_before(
    linear: Linear, slot: Slot[F32], key: Callable[[tuple[str, ...]], Hashable], margin: int
) -> tuple[F32, list[Block]] | None:
    """The planes of a view with other spots, and the blocks of them that are to be made anew; None if there are none.

    Args:
        key: what planes are kept by, from the keys of the frame's spots; margin: px around the view that are kept with it.
    """
    # What is shrunk or lies outside of the frame depends on more than what is near.
    if linear.small_noise is not None or linear.outside is not None or linear.larger is not None:
        return None
    found = like_before(linear.source, slot, key)
    if found is None:
        return None
    blocks, of = _changed(linear, found[1], margin)
    return (found[0], blocks) if len(blocks) <= MOST * of else None


def _changed(linear: Linear, patches: tuple[SpotPatch, ...], margin: int) -> tuple[list[Block], int]:
    """The tiles of a view that read what is changed, and how many there are."""
    width, height = linear.geometry.size
    pad = math.ceil(4 * linear.reduction.blocks * linear.reduction.stretch) + AROUND
    low = np.array([(p.left, p.top) for p in patches], np.int64).reshape(-1, 2) - pad
    high = np.array([(p.left + p.values.shape[-1], p.top + p.values.shape[-2]) for p in patches]).reshape(-1, 2) + pad
    reach = np.empty(4, np.float32)

    def hit(top: int, left: int, bottom: int, right: int) -> bool:
        sensor_range(linear.geometry.grid, top, bottom, left, right, reach)
        inside = (low[:, 0] < reach[1]) & (high[:, 0] > reach[0]) & (low[:, 1] < reach[3]) & (high[:, 1] > reach[2])
        return bool(inside.any())

    tops, lefts = range(-margin, height + margin, TILE), range(-margin, width + margin, TILE)
    found: list[Block] = []
    for top in tops:
        bottom = min(top + TILE, height + margin)
        if hit(top, -margin, bottom, width + margin):
            rows = [(top, left, bottom, min(left + TILE, width + margin)) for left in lefts]
            found += [block for block in rows if hit(*block)]
    return found, len(tops) * len(lefts)
