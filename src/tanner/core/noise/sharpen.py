"""Sharpening of what the lens and the sensor left soft, and of what a medium will make soft: never both for one cause.

Capture sharpening belongs to the frame: its radius is in px of the full size and shrinks with the picture. Output sharpening
belongs to an output spec: its radius comes from the medium.
"""

from dataclasses import dataclass
from typing import ClassVar, Literal

import numpy as np
from numpy.typing import NDArray

from tanner.core.adjust.spec import Group, param

Destination = Literal["none", "screen", "matte", "glossy"]
FINEST = 0.3
"""Radius in px below which nothing is left to be sharpened, so that the amount fades."""
MOST = 3.0


class Detail(Group):
    key: ClassVar[str] = "detail"
    rank: ClassVar[int] = 80
    title: ClassVar[str] = "Detail"
    about: ClassVar[str] = "Brings back what the lens and the sensor left soft, at the size it was taken."

    amount: float = param(0.0, 0.0, 200.0, label="Sharpening", unit="%", help="How strong.")
    radius: float = param(
        0.8, 0.3, 3.0, label="Radius", unit="px", step=0.1, help="Width of the edges that are sharpened, at full size."
    )
    threshold: float = param(
        1.0, 0.0, 20.0, label="Threshold", unit="%", step=0.5, help="Differences below it are left alone."
    )
    mask: float = param(
        0.0,
        0.0,
        100.0,
        label="Mask",
        unit="%",
        help="Spares even areas, skin and backdrop, and their noise. Hold J to see where.",
    )
    corners: float = param(
        0.0,
        0.0,
        200.0,
        label="Corners",
        unit="%",
        help="Sharpens more the farther from the middle, as lenses get softer there.",
    )


@dataclass(frozen=True)
class Sharpening:
    """One pass, as the kernel takes it; fade: what its amounts were multiplied by."""

    amount: float
    corners: float
    threshold: float
    edge_threshold: float
    half: NDArray[np.float32]
    fade: float = 1.0

    @property
    def radius(self) -> int:
        return len(self.half) - 1


def _pass(
    amount: float, corners: float, radius: float, threshold: float, edge_threshold: float, always: bool = False
) -> Sharpening | None:
    fade = min(1.0, (radius / FINEST) ** 2)
    if (amount + corners) * fade < 1e-4 and not (always and fade > 1e-3):
        return None
    half = gaussian(min(max(radius, FINEST), MOST))
    return Sharpening(amount * fade, corners * fade, threshold, edge_threshold, half, fade)


def capture(detail: Detail, scale: float, noise: float = 0.0, always: bool = False) -> Sharpening | None:
    """The frame's own sharpening, or None.

    Args:
        scale: px of the frame for one of the picture; noise: deviation of the roots of its values; always: also
            where its amount is nothing, for areas that add to it.
    """
    return _pass(
        detail.amount / 100, detail.corners / 100, detail.radius / max(scale, 1.0), detail.threshold / 1000 + 1e-6,
        detail.mask / 100 * (0.12 + 4 * noise / max(scale, 1.0)), always,
    )  # fmt: skip


def for_output(destination: Destination, strength: float, size: tuple[int, int], ppi: int) -> Sharpening | None:
    """What a medium needs: a screen little and fine; paper as wide as it spreads ink, more so the larger it is.

    Radii are common practice, without a source: half a pixel for screens; 1/250 inch for glossy and 1/200 inch for matte
    paper of 12 inches across, growing with the root of the size, as larger prints are looked at from farther away.

    Args:
        strength: 1 is usual.
        size: of the picture in px.
    """
    if destination == "none" or strength <= 0:
        return None
    if destination == "screen":
        return _pass(0.45 * strength, 0.0, 0.5, 2e-3, 0.0)
    inches = float(np.hypot(*size)) / ppi
    grows = float(np.sqrt(np.clip(inches / 12, 0.5, 4.0)))
    per_inch, amount = (250, 0.8) if destination == "glossy" else (200, 1.2)
    return _pass(amount * strength, 0.0, ppi / per_inch * grows, 2e-3, 0.0)


def gaussian(radius: float) -> NDArray[np.float32]:
    """One half of a normalised Gaussian, from its centre outwards.

    Args:
        radius: standard deviation in px.
    """
    taps = max(1, int(np.ceil(2.5 * radius)))
    half = np.exp(-0.5 * (np.arange(taps + 1) / radius) ** 2)
    half /= half[0] + 2 * half[1:].sum()
    return half.astype(np.float32)
