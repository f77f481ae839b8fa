"""Haze: how much of the scene's light comes through it, from the darkest channel around each place (source: he2011).

Light that is seen is the scene's times the share t that comes through, and the light of the haze itself for the rest. Where
the air is clear some channel is dark almost everywhere; what is left of the darkest one tells the haze.
"""

import cv2
import numpy as np
from numpy.typing import NDArray

from tanner.core.tone.base import guided

F32 = NDArray[np.float32]
PATCH = 1 / 240
"""Radius of the place that is looked at, in shares of the long edge."""
KEPT = 0.8
"""Some haze is left for what is far, so that it stays far; more than in he2011, as a backdrop looks like haze, too."""
BRIGHTEST = 0.001
"""Share of px with the most haze, of which the light of the haze is taken."""


def darkest(channels: F32) -> F32:
    """The darkest channel of the darkest px around each place.

    Args:
        channels: (3, h, w).
    """
    low = channels.min(axis=0)
    radius = max(1, round(max(low.shape) * PATCH))
    kernel = np.ones((2 * radius + 1, 2 * radius + 1), np.uint8)
    return np.asarray(cv2.erode(np.ascontiguousarray(low), kernel, borderType=cv2.BORDER_REFLECT), dtype=np.float32)


def estimate(channels: F32, luminance: F32) -> tuple[F32, F32]:
    """The light of the haze, (3,), and how much of the scene comes through as coefficients of log2 luminance, (2, h, w).

    Args:
        channels: (3, h, w) scene-linear, white-balanced; luminance: (h, w) of the same.
    """
    channels = np.maximum(channels, 0).astype(np.float32)
    dark = darkest(channels)
    count = max(1, round(dark.size * BRIGHTEST))
    chosen = np.argpartition(dark.ravel(), -count)[-count:]
    air = np.maximum(channels.reshape(3, -1)[:, chosen].mean(axis=1), 1e-4)
    through = 1 - np.float32(KEPT) * np.clip(darkest(channels / air[:, None, None]), 0, 1)
    return air.astype(np.float32), guided(through, luminance, 1 / 16, 0.01)
