"""Quick: wavelet shrinkage by what the surroundings of a coefficient hold beyond noise."""

from concurrent.futures import ThreadPoolExecutor

import numpy as np
from numpy.typing import NDArray

from tanner.core.noise.tiles import shrink

F32 = NDArray[np.float32]
SIGMA = (0.889, 0.200, 0.086, 0.041)
"""Deviation of each level of the transform for noise of deviation 1 (source: starck1998)."""
LEVELS = len(SIGMA)
REACH = 2 * (2**LEVELS - 1) + 2
"""px around a place that have a say in it."""
LUMINANCE, COLOUR = 1.1, 1.4
"""Shares of the noise's variance below which nothing stands out; colour is judged more strictly than lightness."""


def quick(
    mixed: F32, noise: F32 | None = None, limits: tuple[float, float] = (LUMINANCE, COLOUR), threads: int = 1
) -> F32:
    """Planes without their noise.

    Args:
        mixed: (n, h, w), a sum first and then colours, each with noise of deviation 1.
        noise: deviations (n, LEVELS) of the levels where the noise is not even over all frequencies.
    """
    result = np.empty_like(mixed)

    def one(n: int) -> None:
        smooth = np.empty((2, *mixed.shape[1:]), np.float32)
        rest, total = np.ascontiguousarray(mixed[n]), result[n]
        total[:] = 0
        for level in range(LEVELS):
            sigma = SIGMA[level] if noise is None else float(noise[n, level])
            shrink(rest, 2**level, np.float32(limits[min(n, 1)] * sigma**2), smooth[level % 2], total)
            rest = smooth[level % 2]
        total += rest

    if threads == 1:
        for n in range(len(mixed)):
            one(n)
    else:
        with ThreadPoolExecutor(threads) as pool:
            list(pool.map(one, range(len(mixed))))
    return result
