"""What lies outside of what the sensor saw, where a crop or a correction reaches there: the backdrop carried on, or nothing."""

import math
from dataclasses import replace

import numpy as np
from numpy.typing import NDArray

from tanner.core.adjust.registry import Development
from tanner.core.memory import Slot
from tanner.core.optics import backdrop
from tanner.core.optics.crop import BEYOND, Crop, kept
from tanner.core.optics.lens import Optics
from tanner.core.optics.perspective import Perspective
from tanner.core.raw.source import Source
from tanner.core.render.linear import Linear, make_linear, render_planes, resample
from tanner.core.render.views import full_size, geometry_only, view_of

F32 = NDArray[np.float32]
GRAIN = 96
"""Side in output px of the piece of backdrop whose noise is laid over what is carried on."""
BACKDROPS: Slot[backdrop.Backdrop] = Slot("backdrops", keep=2, heavy=True)
"""A frame's backdrop carried on, by its geometry without the crop."""


def linear_of(
    source: Source, development: Development, output: tuple[int, int], draft: bool = False, fine: bool = False
) -> Linear:
    """`make_linear`, with what lies outside the frame where some of the output does."""
    linear = make_linear(source, development, output, draft, fine)
    return replace(linear, outside=_outside(linear, development)) if linear.geometry.beyond else linear


def backdrop_of(source: Source, development: Development) -> backdrop.Backdrop:
    """The frame's backdrop carried on; kept with the source while its geometry stays."""
    crop = development.group(Crop)
    bare = Crop(turn=crop.turn, mirror=crop.mirror)

    def make() -> backdrop.Backdrop:
        whole = geometry_only(development, crop=bare)
        w, h = full_size(source, whole)
        share = 220 / max(w, h)
        size = max(16, round(w * share)), max(16, round(h * share))
        return backdrop.carried_on(render_planes(linear_of(source, whole, size)))

    key = bare, development.group(Optics), development.group(Perspective)
    return source.memory.get(BACKDROPS, key, make)


def _outside(plan: Linear, development: Development) -> tuple[F32, F32, F32]:
    """What `fill_beyond` needs: planes, the affine way from output px to them, and noise."""
    crop = development.group(Crop)
    nothing = np.zeros((3, 1, 1), np.float32)
    if crop.outside == "empty":
        return nothing, np.zeros(6, np.float32), nothing
    found = backdrop_of(plan.source, development)
    up = view_of(plan.source, development)[0].upright
    cx, cy, w, h = kept(crop, *up)
    out_w, out_h = plan.geometry.size
    rows, columns = found.planes.shape[1:]
    a = math.radians(crop.straighten)
    sx, sy = w / out_w, h / out_h
    # Output px, to px of the upright frame about its middle, to px of the planes.
    to_x = columns / (1 + 2 * BEYOND) / up[0]
    to_y = rows / (1 + 2 * BEYOND) / up[1]
    x0, y0 = cx - w / 2, cy - h / 2
    affine = np.array(
        [
            math.cos(a) * sx * to_x, math.sin(a) * sy * to_x, (math.cos(a) * x0 + math.sin(a) * y0) * to_x + columns / 2,
            -math.sin(a) * sx * to_y, math.cos(a) * sy * to_y, (math.cos(a) * y0 - math.sin(a) * x0) * to_y + rows / 2,
        ],
        dtype=np.float32,
    )  # fmt: skip
    return found.planes, affine, _grain(plan, found, crop, up)


def _grain(plan: Linear, found: backdrop.Backdrop, crop: Crop, up: tuple[int, int]) -> F32:
    """Noise of the backdrop at the scale of the output: a piece of it without its gradient."""
    cx, cy, w, h = kept(crop, *up)
    window = (
        (cx - w / 2) / up[0] + 0.5,
        (cy - h / 2) / up[1] + 0.5,
        (cx + w / 2) / up[0] + 0.5,
        (cy + h / 2) / up[1] + 0.5,
    )
    place = backdrop.quietest(found.plain, window)
    out_w, out_h = plan.geometry.size
    if place is None:
        return np.zeros((3, 1, 1), np.float32)
    # Where the place lies in the output, whose axes are turned.
    a = math.radians(crop.straighten)
    gx, gy = (place[0] - 0.5) * up[0], (place[1] - 0.5) * up[1]
    px, py = math.cos(a) * gx - math.sin(a) * gy, math.sin(a) * gx + math.cos(a) * gy
    scale = out_w / w
    x, y = (px - cx + w / 2) * scale, (py - cy + h / 2) * scale
    side = int(min(GRAIN, place[2] * max(up) * scale * 1.2))
    left, top = int(x - side / 2), int(y - side / 2)
    if side < 12 or left < 0 or top < 0 or left + side > out_w or top + side > out_h:
        return np.zeros((3, 1, 1), np.float32)
    piece = np.empty((3, side, side), np.float32)
    resample(replace(plan, outside=None), top, left, piece)
    return backdrop.without_gradient(piece)
