"""Ranges: masks by what a px is: its lightness, its colour, how sharp it is."""

import cv2
import numpy as np

from tanner.core.areas.drawing import smooth
from tanner.core.areas.look import F32
from tanner.core.areas.shapes import Colours, LightnessRange, Sharp

LESS = 1 / 3
"""What a difference of lightness counts for beside one of colour: light falls off over a cloth that has one colour."""


def of_lightness(shape: LightnessRange, light: F32) -> F32:
    """1 between the two lightnesses, half way down half its softness beyond them; light: L* of any shape."""
    low, high = min(shape.low, shape.high), max(shape.low, shape.high)
    soft = max(shape.softness, 0.5)
    # At the ends of the scale there is nothing to leave out.
    up = np.ones_like(light) if low <= 0 else smooth((light - low) / soft + 0.5)
    down = np.ones_like(light) if high >= 100 else smooth((high - light) / soft + 0.5)
    return np.asarray(up * down)


def of_colour(shape: Colours, lab: F32) -> F32:
    """1 within reach of the nearest sample, 0 beyond its softness; lab: Oklab (..., 3)."""
    best = np.full(lab.shape[:-1], np.inf, np.float32)
    for sample in shape.samples:
        d = lab - np.asarray(sample, np.float32)
        best = np.minimum(best, (LESS * d[..., 0]) ** 2 + d[..., 1] ** 2 + d[..., 2] ** 2)
    return smooth((shape.reach + max(shape.softness, 1e-3) - np.sqrt(best)) / max(shape.softness, 1e-3))


def sharpness(linear: F32) -> F32:
    """How strong the finest differences are around each px, (h, w), 1 at the frame's strongest (its 99.5th hundredth).

    Ratios of light are looked at, so that the same cloth counts alike in light and in shade.
    """
    log = np.log2(np.maximum(linear[..., 1], 1e-4))
    fine = log - cv2.GaussianBlur(log, (0, 0), 1.5)
    # In deep shade ratios are noise.
    fine *= np.clip(linear[..., 1] / 0.02, 0, 1)
    share = max(2.0, max(log.shape) / 200)
    energy = np.sqrt(cv2.GaussianBlur(fine * fine, (0, 0), share))
    quiet, strong = (float(v) for v in np.quantile(energy[::4, ::4], (0.05, 0.995)))
    return np.asarray(np.clip((energy - quiet) / max(strong - quiet, 1e-4), 0, 1), dtype=np.float32)


def of_sharpness(shape: Sharp, energy: F32) -> F32:
    """1 from the least on, 0 below its softness; energy: see `sharpness`."""
    soft = max(shape.softness, 1e-3)
    return smooth((energy - shape.least + soft) / soft)
