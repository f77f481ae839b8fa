"""Automatic white balance: shades of grey, held near the lights that there are.

The light's colour is the Minkowski mean (p = 2) of the camera numbers (source: finlayson2004), without pixels that are
clipped or nearly black. A scene of one strong colour would pull it away, so the tint is held to the neighbourhood of
the daylight and tungsten loci, and the temperature between 2,300 K and 12,000 K.
"""

import cv2
import numpy as np
from numpy.typing import NDArray

from tanner.core.colour.camera import CameraColour
from tanner.core.colour.temperature import temperature_to_xy, xy_to_temperature

POWER = 2.0
"""Of 1, 2, 4 and 6 the one with the smallest worst error over the simulated series (docs/colour.md)."""
MOST_TINT = 18.0


def auto_white(camera: CameraColour, numbers: NDArray[np.float32]) -> dict[str, float]:
    """The settings that the method finds.

    Args:
        numbers: camera numbers (H, W, 3), 1 at the sensor's white.
    """
    small = cv2.resize(numbers, (256, 256), interpolation=cv2.INTER_AREA).reshape(-1, 3).astype(np.float64)
    level = small.max(axis=1)
    usable = (level < 0.97) & (level > 0.01) & (small.min(axis=1) > 0)
    chosen = small[usable] if usable.sum() > 200 else np.maximum(small, 1e-5)
    # Balanced roughly first, so that no channel rules the power.
    rough = np.maximum(camera.white_numbers(temperature_to_xy(5000.0)), 1e-3)
    mean = ((chosen / rough) ** POWER).mean(axis=0) ** (1 / POWER) * rough
    kelvin, tint = xy_to_temperature(camera.neutral_to_white(mean / mean.max()))
    return {
        "white.temperature": round(float(np.clip(kelvin, 2300, 12_000)), 1),
        "white.tint": round(float(np.clip(tint, -MOST_TINT, MOST_TINT)), 2),
    }
