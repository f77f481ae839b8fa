"""How much of a picture is averaged before the one resampling, by the scale alone: so a size is the same whoever makes it."""

import math
from dataclasses import dataclass
from typing import NamedTuple

import numpy as np
from numpy.typing import NDArray

from tanner.core.optics.geometry import Geometry

F32 = NDArray[np.float32]


@dataclass(frozen=True)
class Supersampled:
    """A whole multiple of the output's size, from which it is made by `resample.shrink`."""

    times: int
    geometry: Geometry
    weights: F32


class Reduction(NamedTuple):
    """
    Attributes:
        blocks: side in px of the source of what is averaged before the resampling; stretch: how far its kernel is widened.
        tiles: what is averaged are whole tiles of the mosaic, which is not demosaiced.
        times: the picture is resampled to this multiple of its size first.
    """

    blocks: int
    stretch: float
    tiles: bool
    times: int


TILES = 3.4
"""Reduction from which a mosaic is not demosaiced: whole tiles of it are averaged."""
PAIRS = 2.2
"""Reduction from which files are made from means of 2 x 2 px: the kernel's six taps reach no farther."""


def _for_views(scale: float, bayer: bool) -> tuple[int, float]:
    """How many source px are averaged before the resampling, and how far its kernel is widened then.

    The number whose ratio to the scale is nearest to 1; blocks of a mosaic from TILES on are whole tiles of it.
    """
    near = max(1, math.floor(scale))
    choices = {max(1, near - 1), near, near + 1}
    if bayer and scale >= TILES:
        even = max(4, near - near % 2)
        choices = {even, even + 2}
    k = min(choices, key=lambda n: abs(math.log(max(scale, 1e-6) / n)))
    return k, max(1.0, scale / k)


def _for_files(scale: float) -> tuple[int, int]:
    """For files: side of the averaged blocks, and how many times the size it is resampled to first.

    Blocks are small, as their mean blurs and folds; the rest goes by the resampling's wider kernel, and from TILES on by
    Lanczos at a whole ratio (see `shrink`).
    """
    if scale < TILES:
        return (1 if scale < PAIRS else 2), 1
    choices = [(k, m) for k in (2, 4) for m in (int(scale / k), int(scale / k) + 1) if m > 1]
    return min(choices, key=lambda c: abs(math.log(scale / (c[0] * c[1]))) + 0.02 * c[1])


def reduction(scale: float, bayer: bool, fine: bool, small_level: int = 0) -> Reduction:
    """How a frame is reduced.

    Args:
        scale: px of the source for one of the output.
        fine: for files: the last of a strong reduction is done by Lanczos.
        small_level: side of blocks that are there already (see `core.small`), which then are taken; or 0.
    """
    blocks, stretch = _for_views(scale, bayer)
    tiles, times = bayer and scale >= TILES, 1
    if fine:
        blocks, times = _for_files(scale)
        stretch = max(1.0, scale / (blocks * times))
    if small_level and scale > 0.93 * small_level:
        blocks, tiles, stretch = small_level, True, max(1.0, scale / small_level)
    return Reduction(blocks, stretch, tiles, times)


def by_pairs(scale: float) -> Reduction:
    """How layers that colour goes by are reduced where a picture would still be demosaiced: by tiles of 2 x 2 px of a mosaic."""
    return Reduction(2, scale / 2, True, 1)
