"""Colour difference CIEDE2000 (source: sharma2005, after cie142)."""

from typing import Any

import numpy as np
from numpy.typing import NDArray


def ciede2000(first: NDArray[Any], second: NDArray[Any]) -> NDArray[np.float64]:
    """Difference of colours in L*a*b*, with all parametric factors at 1.

    Args:
        first, second: (..., 3), broadcast against each other.

    Returns:
        (...).
    """
    l1, a1, b1 = np.moveaxis(np.asarray(first, dtype=np.float64), -1, 0)
    l2, a2, b2 = np.moveaxis(np.asarray(second, dtype=np.float64), -1, 0)
    mean_c = (np.hypot(a1, b1) + np.hypot(a2, b2)) / 2
    g = 0.5 * (1 - np.sqrt(mean_c**7 / (mean_c**7 + 25.0**7)))
    a1, a2 = (1 + g) * a1, (1 + g) * a2
    c1, c2 = np.hypot(a1, b1), np.hypot(a2, b2)
    h1, h2 = np.degrees(np.arctan2(b1, a1)) % 360, np.degrees(np.arctan2(b2, a2)) % 360
    grey = c1 * c2 == 0
    turn = h2 - h1
    turn = np.where(turn > 180, turn - 360, np.where(turn < -180, turn + 360, turn))
    turn = np.where(grey, 0, turn)
    dl, dc = l2 - l1, c2 - c1
    dh = 2 * np.sqrt(c1 * c2) * np.sin(np.radians(turn) / 2)
    ml, mc, total = (l1 + l2) / 2, (c1 + c2) / 2, h1 + h2
    far = np.abs(h1 - h2) > 180
    mh = np.where(grey, total, np.where(far, np.where(total < 360, total + 360, total - 360) / 2, total / 2))
    t = (
        1
        - 0.17 * np.cos(np.radians(mh - 30))
        + 0.24 * np.cos(np.radians(2 * mh))
        + 0.32 * np.cos(np.radians(3 * mh + 6))
        - 0.20 * np.cos(np.radians(4 * mh - 63))
    )
    sl = 1 + 0.015 * (ml - 50) ** 2 / np.sqrt(20 + (ml - 50) ** 2)
    sc, sh = 1 + 0.045 * mc, 1 + 0.015 * mc * t
    rotation = -np.sin(np.radians(60 * np.exp(-(((mh - 275) / 25) ** 2)))) * 2 * np.sqrt(mc**7 / (mc**7 + 25.0**7))
    x, y, z = dl / sl, dc / sc, dh / sh
    return np.sqrt(np.maximum(x * x + y * y + z * z + rotation * y * z, 0))
