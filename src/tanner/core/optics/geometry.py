"""One map for all geometry: crop, straighten, orientation, lens and scale together.

The map is a coarse grid over the output with, at each node, the sensor position of the three colour
planes and the gain against fall-off; all of these are smooth, so that bilinear interpolation between
nodes 16 px apart is exact to about 0.01 px of the output.
"""

import math
from dataclasses import dataclass

import numpy as np
from numpy.typing import NDArray

from tanner.core.optics.crop import Crop, kept
from tanner.core.optics.lens import Lens, Optics, corrected

STEP = 16
"""Output pixels between two nodes. Node (j, i) stands at output position ((i-1), (j-1)) * STEP."""


@dataclass(frozen=True)
class Geometry:
    """Where each output pixel comes from.

    Attributes:
        size: output width and height in px.
        grid: float32 (7, nodes y, nodes x): x and y of red, green, blue in px of the sensor's active area
            (pixel centres at +0.5), then gain.
        scale: sensor px per output px, over the whole picture.
        same: the three planes share their positions.
    """

    size: tuple[int, int]
    grid: NDArray[np.float32]
    scale: float
    same: bool


def upright(size: tuple[int, int], orientation: int) -> tuple[int, int]:
    """Size of a frame after its EXIF orientation is honoured."""
    return (size[1], size[0]) if orientation >= 5 else size


def to_sensor(
    x: NDArray[np.float64], y: NDArray[np.float64], size: tuple[int, int], orientation: int
) -> tuple[NDArray[np.float64], NDArray[np.float64]]:
    """Upright positions to sensor positions, for the eight EXIF orientations."""
    w, h = size
    return {
        1: (x, y),
        2: (w - x, y),
        3: (w - x, h - y),
        4: (x, h - y),
        5: (y, x),
        6: (y, h - x),
        7: (w - y, h - x),
        8: (w - y, x),
    }.get(orientation, (x, y))


def kept_size(size: tuple[int, int], orientation: int, crop: Crop) -> tuple[int, int]:
    """Pixels that the crop keeps at the sensor's own scale."""
    _, _, w, h = kept(crop, *upright(size, orientation))
    return max(1, round(w)), max(1, round(h))


def _valid_share(size: tuple[int, int], lens: Lens | None, optics: Optics) -> float:
    """Largest scale about the centre at which no corrected position leaves the sensor."""
    if lens is None or not (optics.distortion or optics.lateral_colour):
        return 1.0
    w, h = size
    t = np.linspace(-0.5, 0.5, 41)
    edge_x = np.concatenate([t, t, np.full(41, -0.5), np.full(41, 0.5)]) * w
    edge_y = np.concatenate([np.full(41, -0.5), np.full(41, 0.5), t, t]) * h
    low, high = 0.5, 1.0

    def fits(share: float) -> bool:
        at, _ = corrected(lens, optics, w / 2 + share * edge_x, h / 2 + share * edge_y)
        slack = 0.75
        return bool(
            at[:, 0].min() >= -slack
            and at[:, 0].max() <= w + slack
            and at[:, 1].min() >= -slack
            and at[:, 1].max() <= h + slack
        )

    if fits(high):
        return 1.0
    for _ in range(14):
        middle = (low + high) / 2
        low, high = (middle, high) if fits(middle) else (low, middle)
    return low


def build(
    size: tuple[int, int],
    orientation: int,
    crop: Crop,
    optics: Optics,
    lens: Lens | None,
    output: tuple[int, int],
) -> Geometry:
    """The map for one frame and output size.

    Args:
        size: width and height of the sensor's active area.
        orientation: EXIF orientation, 1 to 8.
        output: width and height of the output in px.
    """
    up = upright(size, orientation)
    cx, cy, w, h = kept(crop, *up)
    out_w, out_h = output
    nx, ny = math.ceil(out_w / STEP) + 3, math.ceil(out_h / STEP) + 3
    px = cx + (((np.arange(nx) - 1) * STEP) / out_w - 0.5) * w
    py = cy + (((np.arange(ny) - 1) * STEP) / out_h - 0.5) * h
    gx, gy = np.meshgrid(px, py)
    a = math.radians(crop.straighten)
    share = _valid_share(size, lens, optics)
    # Positive straighten turns the picture clockwise, so positions turn the other way.
    ux = up[0] / 2 + share * (math.cos(a) * gx + math.sin(a) * gy)
    uy = up[1] / 2 + share * (math.cos(a) * gy - math.sin(a) * gx)
    sx, sy = to_sensor(ux, uy, size, orientation)
    positions, gain = corrected(lens, optics, sx, sy)
    grid = np.concatenate([positions.reshape(6, ny, nx), gain[None]]).astype(np.float32)
    same = bool(np.abs(positions - positions[1]).max() < 0.02)
    return Geometry((out_w, out_h), np.ascontiguousarray(grid), share * w / out_w, same)
