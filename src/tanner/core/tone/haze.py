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
PLAIN = 0.05
"""Detail in stops below which a place tells little of haze: it takes over what the places around it tell."""
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


def telling(luminance: F32) -> F32:
    """How far each place tells of haze at all, 0 to 1, (h, w): one without any detail, as a plain backdrop, does not."""
    log = np.log2(np.maximum(luminance, 2.0**-20)).astype(np.float32)
    fine, around = (2 * max(1, round(max(log.shape) * share)) + 1 for share in (1 / 120, 1 / 60))
    rest = log - cv2.blur(log, (fine, fine), borderType=cv2.BORDER_REFLECT)
    detail = cv2.blur(rest * rest, (around, around), borderType=cv2.BORDER_REFLECT)
    return np.asarray(detail / (detail + np.float32(PLAIN**2)), np.float32)


def spread(values: F32, weight: F32) -> F32:
    """Values where they weigh something, brought from there to where they do not, over an image pyramid (h, w)."""
    levels = [(values * weight, weight)]
    while min(levels[-1][0].shape) > 2:
        levels.append((cv2.pyrDown(levels[-1][0]), cv2.pyrDown(levels[-1][1])))
    above, weighs = levels.pop()
    for value, own in reversed(levels):
        missing = 1 - np.minimum(own, 1)
        size = own.shape[::-1]
        above = value + missing * cv2.pyrUp(above, dstsize=size)
        weighs = own + missing * cv2.pyrUp(weighs, dstsize=size)
    return np.asarray(above / np.maximum(weighs, 1e-6), np.float32)


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
    tells = telling(luminance)
    through = tells * through + (1 - tells) * spread(through, tells)
    return air.astype(np.float32), guided(through, luminance, 1 / 16, 0.01)
