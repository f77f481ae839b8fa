"""Quick: wavelet shrinkage by what the surroundings of a coefficient hold beyond noise."""

import numpy as np
from numpy.typing import NDArray

from tanner.core.noise.strips import in_strips
from tanner.core.noise.tiles import shrink

F32 = NDArray[np.float32]
SIGMA = (0.889, 0.200, 0.086, 0.041)
"""Deviation of each level of the transform for noise of deviation 1 (source: starck1998)."""
LEVELS = len(SIGMA)
RADIUS = 2 * (2**LEVELS - 1) + 2
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
    h = mixed.shape[1]
    # Planes that threads cannot share evenly are halved, with what lies around to be looked at.
    step = h if len(mixed) % threads == 0 else max(RADIUS, -(-h // threads))

    def part(at: tuple[int, int]) -> None:
        n, top = at
        end = min(h, top + step)
        first, last = max(0, top - RADIUS), min(h, end + RADIUS)
        rest = np.ascontiguousarray(mixed[n, first:last])
        smooth, total = np.empty((2, *rest.shape), np.float32), np.zeros_like(rest)
        for level in range(LEVELS):
            sigma = SIGMA[level] if noise is None else float(noise[n, level])
            shrink(rest, 2**level, np.float32(limits[min(n, 1)] * sigma**2), smooth[level % 2], total)
            rest = smooth[level % 2]
        np.add(total[top - first : end - first], rest[top - first : end - first], out=result[n, top:end])

    in_strips(part, [(n, top) for n in range(len(mixed)) for top in range(0, h, step)], None, threads)
    return result
