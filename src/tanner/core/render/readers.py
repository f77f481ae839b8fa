"""Odd readers: camera numbers of a place, of the whole frame, or of a file to be written; and the development as a look."""

import math
from dataclasses import replace

import numpy as np
from numpy.typing import NDArray

from tanner.core.adjust.registry import Development, defaults
from tanner.core.adjust.registry import develop as validated
from tanner.core.colour.cube import Cube, write_cube
from tanner.core.colour.spaces import SPACES, working_to
from tanner.core.colour.white import White, white_point
from tanner.core.noise import stage
from tanner.core.noise.controls import Noise
from tanner.core.optics.crop import Crop
from tanner.core.optics.projection import FISHEYES, circle
from tanner.core.raw.source import Source
from tanner.core.render.linear import STRIP, Linear, render_planes, resample, work
from tanner.core.render.outside import backdrop_of, linear_of
from tanner.core.render.plan import make_plan
from tanner.core.render.strips import finish
from tanner.core.render.views import full_size, view_of
from tanner.core.render.white import as_shot_white

F32 = NDArray[np.float32]


def notes(source: Source, development: Development) -> list[str]:
    """What is to be said about a frame: noise that is gone already, a lens that is not there, a border that is not plain."""
    view, warning = view_of(source, development)
    said = [warning] if warning else []
    said += stage.notes(source, development.group(Noise))
    if view.bends and not source.focal[1]:
        said.append("The file does not say its focal length: that of a 35 mm lens is taken. Set Stretch by eye.")
    lens = view.lens
    ends = source.focal[0] * circle(lens.projection) if lens and lens.projection in FISHEYES else math.inf
    if ends < math.hypot(*source.size) / 2:
        said.append("Beyond the circle of this fisheye lens its colour seams are not known; they may stay there.")
    crop = development.group(Crop)
    if crop.outside == "backdrop":
        sides = (crop.left < 0, crop.top < 0, crop.right > 1, crop.bottom > 1)
        if crop.straighten:
            sides = (True, True, True, True)
        said += backdrop_of(source, development).notes(sides) if any(sides) else []
    return said


def camera_strips(plan: Linear, black: int, white: int = 65535) -> NDArray[np.uint16]:
    """Camera numbers of a whole plan, (h, w, 3), from `black` to `white` at the sensor's white: linear, before colour."""
    width, height = plan.geometry.size
    out = np.empty((height, width, 3), dtype=np.uint16)
    span = np.float32(white - black) / plan.pre
    for top in range(0, height, STRIP):
        rows = min(STRIP, height - top)
        planes = work.get("camera", 3, rows, width)
        resample(plan, top, 0, planes)
        for n in range(3):
            out[top : top + rows, :, n] = np.clip(np.rint(planes[n] * span[n] + np.float32(black)), 0, white)
    return out


def plain_planes(source: Source, edge: int) -> F32:
    """Linear planes (3, h, w) as the sensor lies, balanced as shot, without any correction of the lens."""
    flat = Source(source.facts.model_copy(update={"orientation": 1}), source.data, decoder=source.decoder)
    share = min(1.0, edge / max(source.size))
    size = max(8, round(source.size[0] * share)), max(8, round(source.size[1] * share))
    return render_planes(linear_of(flat, validated({"optics.chosen_lens": "none"}), size))


def camera_picture(source: Source, edge: int) -> F32:
    """Camera numbers of the whole upright frame, (h, w, 3), 1 at the sensor's white; the lens corrected where known."""
    development = validated(defaults(raw=source.facts.is_raw, lens=source.lens is not None))
    w, h = full_size(source, development)
    share = min(1.0, edge / max(w, h))
    size = max(8, round(w * share)), max(8, round(h * share))
    plan = linear_of(source, development, size)
    return np.ascontiguousarray(np.moveaxis(render_planes(plan), 0, -1) / plan.pre)


def camera_numbers(source: Source, development: Development, x: float, y: float, radius: float) -> NDArray[np.float64]:
    """Mean camera numbers around a point of the upright, cropped picture, for a white balance pick.

    Args:
        x, y: position in shares of the picture; radius: half the side of the square, in the same shares of
            the long edge.
    """
    w, h = full_size(source, development)
    size = max(8, round(w * 800 / max(w, h))), max(8, round(h * 800 / max(w, h)))
    plan = linear_of(source, development, size)
    r = max(1, round(radius * 800))
    cx, cy = min(max(int(x * size[0]), r), size[0] - r - 1), min(max(int(y * size[1]), r), size[1] - r - 1)
    block = np.empty((3, 2 * r + 1, 2 * r + 1), dtype=np.float32)
    resample(plan, cy - r, cx - r, block)
    mean: NDArray[np.float64] = block.reshape(3, -1).mean(axis=1).astype(np.float64) / plan.pre
    return mean


def development_cube(source: Source, development: Development, title: str, size: int = 33) -> str:
    """The global part of a development as a .cube text: colour and tone of a pixel, whatever stands around it.

    Input: the frame by the same white balance and the plain matrix, without curve, as sRGB display values. Output: the
    developed picture as sRGB display values. Local contrast, highlights and shadows, areas, a vignette, sharpening, noise and
    geometry depend on what surrounds a pixel or where it lies, and are not in it.
    """
    ramp = np.linspace(0, 1, size)
    grid = np.stack(np.meshgrid(ramp, ramp, ramp, indexing="ij"), axis=-1).reshape(-1, 3)
    working = SPACES["srgb"].decode(grid) @ np.linalg.inv(working_to(SPACES["srgb"])).T
    plan = make_plan(source, development, (64, 64), "srgb", 16)
    white = white_point(development.group(White), as_shot_white(source))
    camera = source.camera
    plain = camera.to_working(white) @ np.diag(camera.white_numbers(white))
    balanced = working @ np.linalg.inv(plain).T * camera.white_numbers(white)
    planes = np.ascontiguousarray((balanced / plan.frame.pre**-1).T[:, None, :], dtype=np.float32)
    p = plan.parameters
    alone = p._replace(
        camera=p.camera._replace(clipped=p.camera.clipped._replace(full=np.zeros(3, np.float32))),
        local=p.local._replace(on=False),
        vignette=p.vignette._replace(on=False),
    )
    flat = replace(plan.linear, geometry=replace(plan.linear.geometry, size=(len(grid), 1)))
    plan = replace(plan, linear=flat, sharpen=(), areas=None, parameters=alone)
    out = np.empty((1, len(grid), 3), dtype=np.uint16)
    finish(plan, planes, 0, 0, out)
    table = (out[0].astype(np.float32) / 65535).reshape(size, size, size, 3)
    comments = ["Global part of a development in Tanner.", "Input and output: sRGB display values."]
    return write_cube(Cube(title, table), comments)
