"""One map for all geometry: crop, straighten, turns, perspective, projection, lens and scale together.

The map is a coarse grid over the output with, at each node, the sensor position of the three colour
planes and the gain against fall-off; all of these are smooth, so that bilinear interpolation between
nodes 16 px apart is exact to about 0.01 px of the output.
"""

import math
from dataclasses import dataclass

import numpy as np
from numpy.typing import NDArray

from tanner.core.optics.crop import Crop, kept
from tanner.core.optics.view import View, upright
from tanner.core.sharing import bands, each

STEP = 16
"""Output pixels between two nodes. Node (j, i) stands at output position ((i-1), (j-1)) * STEP."""
BAND = 64
"""Rows of nodes that are worked out at once: what is worked out stays near the processor, and threads share the bands."""


@dataclass(frozen=True)
class Geometry:
    """Where each output pixel comes from.

    Attributes:
        size: output width and height in px.
        grid: float32 (9, nodes y, nodes x): x and y of red, green, blue in px of the sensor's active area
            (pixel centres at +0.5), then the gain of each.
        scale: sensor px per output px, over the whole picture.
        same: the three planes share their positions.
        beyond: some of the output lies outside of what the sensor saw.
    """

    size: tuple[int, int]
    grid: NDArray[np.float32]
    scale: float
    same: bool
    beyond: bool = False


def kept_size(size: tuple[int, int], orientation: int, crop: Crop) -> tuple[int, int]:
    """Pixels that the crop keeps at the sensor's own scale; `orientation` with the crop's own turn."""
    _, _, w, h = kept(crop, *upright(size, orientation))
    return max(1, round(w)), max(1, round(h))


def build(view: View, crop: Crop, output: tuple[int, int]) -> Geometry:
    """The map for one frame and output size.

    Args:
        output: width and height of the output in px.
    """
    up = view.upright
    cx, cy, w, h = kept(crop, *up)
    out_w, out_h = output
    nx, ny = math.ceil(out_w / STEP) + 3, math.ceil(out_h / STEP) + 3
    px = cx + (((np.arange(nx) - 1) * STEP) / out_w - 0.5) * w
    py = cy + (((np.arange(ny) - 1) * STEP) / out_h - 0.5) * h
    a = math.radians(crop.straighten)
    fx, fy, share = view.frame
    positions = np.empty((3, 2, ny, nx))
    grid = np.empty((9, ny, nx), np.float32)

    def some(rows: tuple[int, int]) -> bool:
        part = slice(*rows)
        gx, gy = np.meshgrid(px, py[part])
        # Positive straighten turns the picture clockwise, so positions turn the other way.
        x = fx + share * (math.cos(a) * gx + math.sin(a) * gy)
        y = fy + share * (math.cos(a) * gy - math.sin(a) * gx)
        found, gain = view.positions(x, y)
        positions[:, :, part] = found
        grid[:6, part], grid[6:, part] = found.reshape(6, *x.shape), gain
        return bool(np.abs(found[::2] - found[1]).max() < 0.02)

    same = all(each(some, bands(ny, BAND)))
    beyond = False
    if crop.outside != "never":
        inner = positions[:, :, 1:-1, 1:-1]
        slack = 1.5
        beyond = bool(
            inner.min() < -slack
            or (inner[:, 0].max() > view.size[0] + slack)
            or inner[:, 1].max() > view.size[1] + slack
        )
    scale = share * w / out_w
    if view.bends:
        # Another projection does not have one scale: that of the middle decides how much is averaged.
        mid = positions[1][:, ny // 2 - 1 : ny // 2 + 1, nx // 2 - 1 : nx // 2 + 1]
        scale = float(np.hypot(*(mid[:, 0, 1] - mid[:, 0, 0]))) / STEP
    return Geometry((out_w, out_h), grid, scale, same, beyond)
