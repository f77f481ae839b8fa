"""The main path: from a decoded source and its development to finished pixels.

    mosaic -> noise (`noise.stage`) -> levels and demosaic (square-root values) -> fall-off and the one resampling (lens, crop,
    straighten, orientation, scale; `linear`) -> the stages of colour and tone (`stages.path`) -> sharpening -> encoding

`plan` gathers what the kernels need, `strips` runs them.
"""

from tanner.core.render.guide import base_layer
from tanner.core.render.linear import STRIP, Linear, binned_planes, pre_gains, render_planes
from tanner.core.render.outside import linear_of
from tanner.core.render.plan import Plan, make_plan
from tanner.core.render.readers import (
    camera_numbers,
    camera_picture,
    camera_strips,
    development_cube,
    notes,
    plain_planes,
)
from tanner.core.render.reduction import PAIRS, TILES
from tanner.core.render.strips import Cancelled, render, render_strips
from tanner.core.render.views import full_size, geometry_groups, geometry_of, view_of
from tanner.core.render.white import as_shot_white
from tanner.core.stages.camera import around

__all__ = [
    "PAIRS", "STRIP", "TILES", "Cancelled", "Linear", "Plan", "around", "as_shot_white", "base_layer", "binned_planes",
    "camera_numbers", "camera_picture", "camera_strips", "development_cube", "full_size", "geometry_groups", "geometry_of",
    "linear_of", "make_plan", "notes", "plain_planes", "pre_gains", "render", "render_planes", "render_strips", "view_of",
]  # fmt: skip
