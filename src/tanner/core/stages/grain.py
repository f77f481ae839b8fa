"""Grain: the last thing that is laid over a picture, the same at every output size.

A tile of noise whose spectrum is given in shares of the picture's long edge is made once for an output size, by cutting its
spectrum off at what that size can hold; it goes round without a seam, and each frame begins at a place of its own.
"""

import zlib
from functools import lru_cache
from pathlib import PurePath
from typing import NamedTuple

import numpy as np
from numpy.typing import NDArray

from tanner.core.jit import kernel
from tanner.core.raw.facts import FrameFacts
from tanner.core.stages.vignette import Finish

F32 = NDArray[np.float32]
CELLS = 512
"""Cells of grain along the tile; half of them for coarse grain, whose cells are larger."""
FINEST, COARSEST = 1 / 3600, 1 / 700
"""Shares of the long edge that one cell of the finest and of the coarsest grain is."""
STRONGEST = 0.075
"""Deviation of roots of linear values at 100 %, in the middle of the scale."""
MOST = 2048
"""Sides of a tile, beyond which a coarse grain at a huge output is stretched instead."""


class Grain(NamedTuple):
    """
    Attributes:
        tile: (n, n), even deviation of 1 at full resolution; starts: (3, 2) where each channel begins in it.
        amount: deviation; own: share of each channel's own grain against that of all.
        step: px of the tile for one of the picture, 1 unless it is stretched.
    """

    tile: F32
    starts: NDArray[np.int64]
    amount: np.float32
    own: np.float32
    step: np.float32


@lru_cache(maxsize=4)
def tile_of(side: int, cells: int, roughness: float) -> F32:
    """A tile of `side` px with the spectrum of grain: a soft band around two cells a wave.

    Args:
        cells: along the tile.
        roughness: 0 is one size of grain; 1 adds coarser clumps.
    """
    chance = np.random.default_rng(20)
    frequency = np.fft.fftfreq(cells, 1 / cells)
    fx, fy = np.meshgrid(frequency[: cells // 2 + 1], frequency)
    f = np.hypot(fx, fy) / (cells / 2)
    # A soft band around two px of a cell, and a share of it at a third of its frequency.
    shape = np.exp(-(((f - 0.62) / 0.30) ** 2)) + roughness * 1.6 * np.exp(-((f / 0.28) ** 2))
    shape[0, 0] = 0
    spectrum = np.fft.rfft2(chance.normal(size=(cells, cells))) * shape
    spectrum /= np.fft.irfft2(spectrum, (cells, cells)).std()
    # The same waves on another grid: what the grid cannot hold is left out, none is folded back.
    wide = np.zeros((side, side // 2 + 1), np.complex128)
    keep = min(cells, side) // 2
    cols = slice(0, keep)
    wide[:keep, cols] = spectrum[:keep, cols]
    wide[-keep + 1 :, cols] = spectrum[-keep + 1 :, cols]
    return np.ascontiguousarray(np.fft.irfft2(wide, (side, side)) * (side / cells) ** 2, np.float32)


def grain_of(finish: Finish, facts: FrameFacts, size: tuple[int, int]) -> Grain | None:
    """The grain of one output; None without any.

    Args:
        size: width and height of the picture in px.
    """
    if not finish.grain:
        return None
    share = FINEST * (COARSEST / FINEST) ** (finish.grain_size / 100)
    cells = CELLS if finish.grain_size <= 50 else CELLS // 2
    side = max(8, round(cells * share * max(size)))
    step = max(1.0, side / MOST)
    tile = tile_of(round(side / step), cells, finish.grain_roughness / 100)
    name = f"{PurePath(facts.path).stem}|{facts.taken}|{facts.serial}"
    chance = np.random.default_rng(zlib.crc32(name.encode()))
    # In shares of the tile, so that a frame's grain lies at the same place at every size.
    starts = (chance.uniform(size=(3, 2)) * len(tile)).astype(np.int64)
    own = finish.grain_colour / 100
    return Grain(tile, starts, np.float32(finish.grain / 100 * STRONGEST), np.float32(own), np.float32(1 / step))


@kernel
def lay_grain(planes, margin, y0, x0, tile, starts, amount, own, step):  # type: ignore[no-untyped-def]
    """Grain on roots of linear values, in place: full in the middle of the scale, none at black and white.

    Args:
        planes: (3, h, w) with `margin` px on every side that are left out; y0, x0: place of the first px inside.
    """
    h, w, n = planes.shape[1] - 2 * margin, planes.shape[2] - 2 * margin, tile.shape[0]
    one, zero = np.float32(1.0), np.float32(0.0)
    rest, strong = np.sqrt(one - own * own), amount * np.float32(4.0)
    common, mine = np.empty(w, np.float32), np.empty(w, np.float32)
    for i in range(h):
        y = np.int64(np.float32(y0 + i) * step)
        _along(tile[(y + starts[0, 0]) % n], x0, starts[0, 1], step, common)
        for c in range(3):
            p = planes[c, i + margin, margin : margin + w]
            if own > zero:
                _along(tile[(y + starts[c, 0]) % n], x0, starts[c, 1], step, mine)
                for j in range(w):
                    mine[j] = rest * common[j] + own * mine[j]
            u = mine if own > zero else common
            for j in range(w):
                v = min(max(p[j], zero), one)
                p[j] = v + strong * v * (one - v) * u[j]


@kernel
def _along(line, x0, start, step, out):
    """A row of the tile, which goes round, from a place on."""
    n, w = len(line), len(out)
    if step != np.float32(1.0):
        for j in range(w):
            out[j] = line[np.int64(np.float32(x0 + j) * step + np.float32(start)) % n]
        return
    at, done = (x0 + start) % n, 0
    while done < w:
        many = min(w - done, n - at)
        out[done : done + many] = line[at : at + many]
        at, done = 0, done + many
