"""Reads the patches of a chart from a picture of camera numbers: robustly, and with a reason for what is refused."""

from dataclasses import dataclass

import cv2
import numpy as np
from numpy.typing import NDArray

from tanner.core.profile.chart import Chart, ChartError

F32 = NDArray[np.float32]
F64 = NDArray[np.float64]
SIDE = 32
"""A patch is looked at in SIDE x SIDE places within its middle."""
MIDDLE = 0.5
"""The part of a cell's side that is read."""
CLIPPED, DARK, UNEVEN, GLARE = 0.985, 0.0015, 0.12, 1.35


@dataclass(frozen=True)
class Readings:
    """What was read from one shot.

    Attributes:
        numbers: (N, 3) trimmed mean camera numbers.
        spread: (N,) relative deviation within each patch.
        refused: a reason for each patch, "" for good ones.
        corners: (4, 2), shares of the picture.
    """

    numbers: F64
    spread: F64
    refused: tuple[str, ...]
    corners: F64

    @property
    def good(self) -> NDArray[np.bool_]:
        return np.array([not r for r in self.refused])


def read_patches(numbers: F32, corners: F64, chart: Chart) -> Readings:
    """Read every patch within four corners.

    Args:
        numbers: camera numbers (H, W, 3), 1 at the sensor's white, not balanced.
        corners: (4, 2) in shares: top left, top right, bottom right, bottom left of the upright chart.

    Raises:
        ChartError: corners that cross over, or too few patches that can be used.
    """
    h, w = numbers.shape[:2]
    points = (np.asarray(corners, dtype=np.float64) * [w, h]).astype(np.float32)
    a = np.roll(points, -1, axis=0) - points
    b = np.roll(a, -1, axis=0)
    turns = a[:, 0] * b[:, 1] - a[:, 1] * b[:, 0]
    if not np.isfinite(points).all() or (turns <= 0).any():
        raise ChartError("The four corners cross over. Set them clockwise, from the chart's top left.")
    if np.sqrt(cv2.contourArea(points)) < 6 * max(chart.rows, chart.columns):
        raise ChartError("The chart is too small in the picture to be read.")
    box = np.array([[0, 0], [chart.columns, 0], [chart.columns, chart.rows], [0, chart.rows]], dtype=np.float32)
    matrix = cv2.getPerspectiveTransform(box, points)
    inner = (np.arange(SIDE) + 0.5) / SIDE * MIDDLE + (1 - MIDDLE) / 2
    means, spreads, refused = [], [], []
    for r in range(chart.rows):
        for c in range(chart.columns):
            v, u = np.meshgrid(r + inner, c + inner, indexing="ij")
            full = np.stack([u.ravel(), v.ravel(), np.ones(u.size)], axis=1) @ matrix.T
            at = (full[:, :2] / full[:, 2:]).astype(np.float32)
            if (at < 0).any() or (at[:, 0] > w - 1).any() or (at[:, 1] > h - 1).any():
                means.append(np.zeros(3))
                spreads.append(0.0)
                refused.append("outside the picture")
                continue
            seen = cv2.remap(numbers, at[None, :, 0] - 0.5, at[None, :, 1] - 0.5, cv2.INTER_LINEAR)[0].astype(
                np.float64
            )
            mean, spread, reason = _one(seen)
            means.append(mean)
            spreads.append(spread)
            refused.append(reason)
    return Readings(np.array(means), np.array(spreads), tuple(refused), np.asarray(corners, dtype=np.float64))


def _one(seen: F64) -> tuple[F64, float, str]:
    """Trimmed mean, relative spread and a reason to refuse; seen: (SIDE * SIDE, 3)."""
    ordered = np.sort(seen, axis=0)
    cut = len(seen) // 10
    mean = ordered[cut:-cut].mean(axis=0)
    level = float(mean.max())
    if (seen.max(axis=1) >= CLIPPED).mean() > 0.02:
        return mean, 0.0, "clipped"
    if level < DARK or float(mean.min()) <= 0:
        return mean, 0.0, "underexposed"
    bright = seen[:, int(mean.argmax())].reshape(SIDE, SIDE)
    noise = float(np.abs(np.diff(bright, axis=1)).mean()) / level
    blocks = bright.reshape(4, SIDE // 4, 4, SIDE // 4).mean(axis=(1, 3))
    # Noise within a block of 64 readings averages to an eighth, so it does not count as unevenness.
    uneven = max(0.0, float(np.ptp(blocks)) / level - 3 * noise / 8)
    if float(blocks.max()) > GLARE * float(np.median(blocks)):
        return mean, uneven, "glare"
    if uneven > UNEVEN:
        return mean, uneven, "uneven"
    return mean, uneven, ""
