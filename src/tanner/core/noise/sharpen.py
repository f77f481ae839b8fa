"""Sharpening: an unsharp mask on lightness with amount, radius and threshold."""

from typing import ClassVar

import numpy as np
from numpy.typing import NDArray

from tanner.core.adjust.spec import Group, param


class Detail(Group):
    title: ClassVar[str] = "Detail"
    about: ClassVar[str] = "Sharpening of fine detail, at the size that is written."

    amount: float = param(0.0, 0.0, 200.0, label="Sharpening", unit="%", help="How strong.")
    radius: float = param(
        0.8, 0.3, 3.0, label="Radius", unit="px", step=0.1, help="Width of the edges that are sharpened."
    )
    threshold: float = param(
        1.0, 0.0, 20.0, label="Threshold", unit="%", step=0.5, help="Differences below it are left alone."
    )


def gaussian(radius: float) -> NDArray[np.float32]:
    """One half of a normalised Gaussian, from its centre outwards.

    Args:
        radius: standard deviation in px.
    """
    reach = max(1, int(np.ceil(2.5 * radius)))
    half = np.exp(-0.5 * (np.arange(reach + 1) / radius) ** 2)
    half /= half[0] + 2 * half[1:].sum()
    return half.astype(np.float32)
