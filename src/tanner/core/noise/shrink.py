"""Wavelet shrinkage of demosaiced square-root values, where photon noise is even.

An a-trous transform with the cubic B-spline (source: starck1998) of lightness and two colour
differences; coefficients are shrunk softly by thresholds that follow the frame's noise model.
"""

import cv2
import numpy as np
from numpy.typing import NDArray

from tanner.core.noise.plain import Noise

F32 = NDArray[np.float32]
LEVELS = 4
MARGIN = 2 * (2**LEVELS - 1)
# Standard deviation of each level for unit white noise (source: starck1998, for the B-spline).
_LEVEL_SIGMA = (0.889, 0.200, 0.086, 0.041)
_KERNEL = np.array([1, 4, 6, 4, 1], dtype=np.float32) / 16


def _blur(plane: F32, level: int) -> F32:
    step = 2**level
    kernel = np.zeros(4 * step + 1, dtype=np.float32)
    kernel[::step] = _KERNEL
    return np.asarray(cv2.sepFilter2D(plane, -1, kernel, kernel, borderType=cv2.BORDER_REFLECT), dtype=np.float32)


def root_sigma(scale: float) -> float:
    """Noise of square roots of values whose variance is scale * value: sqrt(scale) / 2."""
    return float(np.sqrt(max(scale, 0.0)) / 2)


def denoise(roots: F32, noise: Noise, sigma: float) -> F32:
    """Shrink noise.

    Args:
        roots: (3, h, w) square roots of balanced linear values.
        sigma: standard deviation of the noise in the roots, before demosaicing.

    Returns:
        (3, h, w), with MARGIN pixels at each border less exact than the rest.
    """
    r, g, b = roots
    planes = [(r + 2 * g + b) / 4, r - g, b - g]
    strengths = [noise.luminance / 100 * 1.1, noise.colour / 100 * 3.5, noise.colour / 100 * 3.5]
    cleaned = []
    for plane, strength in zip(planes, strengths, strict=True):
        rest, total = plane, np.zeros_like(plane)
        for level in range(LEVELS if strength else 0):
            smooth = _blur(rest, level)
            wave = rest - smooth
            # Demosaicing makes noise coarser: the finest level holds less, the next ones more.
            t = strength * sigma * _LEVEL_SIGMA[level] * (1.0, 2.2, 2.2, 2.2)[level]
            total += wave * np.maximum(1 - t * t * 2.5 / np.maximum(wave * wave, 1e-12), 0)
            rest = smooth
        cleaned.append(rest + total)
    y, cr, cb = cleaned
    green = y - (cr + cb) / 4
    return np.stack([green + cr, green, green + cb])
