"""What is shown on a picture, or in place of it, besides the picture: masks, and what is fine in it."""

from typing import Literal

import cv2
import numpy as np
from numpy.typing import NDArray

MaskShown = Literal["tint", "grey", "outline", "alone"]
"""How a mask is shown: laid over the picture in a colour, in black and white, its edge as a line, or what is in it on grey."""
TINTS = ((226, 90, 60), (70, 150, 235), (90, 190, 90), (235, 190, 50), (190, 110, 220), (60, 200, 200))
"""Colours that masks are shown in, by the area's choice."""


def fine_only(pixels: NDArray[np.uint8]) -> NDArray[np.uint8]:
    """What is fine in a picture (h, w, 3), in grey with its contrast raised sixfold: specks stand out on what is even."""
    light = np.asarray(cv2.cvtColor(pixels, cv2.COLOR_RGB2GRAY), np.float32)
    even = cv2.GaussianBlur(light, (0, 0), max(4.0, max(light.shape) / 120))
    grey = np.clip(np.rint(128 + 6 * (light - even)), 0, 255).astype(np.uint8)
    return np.repeat(grey[..., None], 3, axis=-1)


def shown_mask(
    pixels: NDArray[np.uint8], mask: NDArray[np.float32], how: MaskShown, tint: tuple[int, int, int]
) -> NDArray[np.uint8]:
    """A picture (h, w, 3) with a mask (h, w) from 0 to 1 shown on it."""
    if how == "grey":
        return np.repeat(np.rint(mask * 255).astype(np.uint8)[..., None], 3, axis=-1)
    m = mask[..., None]
    if how == "alone":
        return np.asarray(np.rint(128 + m * (pixels.astype(np.float32) - 128)), np.uint8)
    colour = np.array(tint, np.float32)
    if how == "outline":
        hard = (mask > 0.5).astype(np.uint8)
        rim = cv2.dilate(hard, np.ones((3, 3), np.uint8)) - cv2.erode(hard, np.ones((3, 3), np.uint8))
        return np.where(rim[..., None] > 0, colour.astype(np.uint8), pixels)
    # Light and dark stay visible under the colour.
    return np.asarray(np.rint(pixels + np.float32(0.55) * m * (colour - pixels)), np.uint8)
