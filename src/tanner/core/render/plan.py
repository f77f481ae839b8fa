"""A plan: all that the kernels need for one frame at one output size, computed once."""

from dataclasses import dataclass
from typing import Any

import numpy as np
from numpy.typing import NDArray

from tanner.core.adjust.registry import Development
from tanner.core.areas.declare import AREAS
from tanner.core.areas.fields import Areas
from tanner.core.areas.plan import areas_of
from tanner.core.colour.camera import Profile
from tanner.core.colour.white import White, white_point
from tanner.core.noise.model import root_noise
from tanner.core.noise.sharpen import Detail, Sharpening, capture
from tanner.core.raw.source import Source
from tanner.core.render.encode import encoder
from tanner.core.render.guide import base_layer, blurred, finer_layer, haze_of, look_of
from tanner.core.render.linear import Linear, pre_gains
from tanner.core.render.outside import linear_of
from tanner.core.render.views import across
from tanner.core.render.white import as_shot_white
from tanner.core.stages import path
from tanner.core.stages.grain import Grain, grain_of
from tanner.core.stages.stage import StageFrame
from tanner.core.stages.vignette import Finish
from tanner.core.tone.light import Light

F32 = NDArray[np.float32]


@dataclass(frozen=True)
class Plan:
    """
    Attributes:
        linear: how the linear planes are made.
        parameters: of the stages of the path, see `stages.path`; areas: what areas move, or None.
        sharpen: passes, in order; across: see `views.across`; show_sharpening: where, in grey, instead of the picture.
        encoder: see `encode.encoder`; grain: laid over the picture at last, or None.
        sharpen_areas: areas change the amount of the first pass.
    """

    linear: Linear
    frame: StageFrame
    parameters: Any
    areas: Areas | None
    sharpen: tuple[Sharpening, ...]
    across: F32
    show_sharpening: bool
    encoder: NDArray[Any]
    grain: Grain | None = None
    sharpen_areas: bool = False

    @property
    def size(self) -> tuple[int, int]:
        """Width and height of the output in px."""
        return self.linear.geometry.size

    @property
    def margin(self) -> int:
        return sum(s.radius for s in self.sharpen)


def make_plan(
    source: Source,
    development: Development,
    output: tuple[int, int],
    space: str = "srgb",
    bits: int = 8,
    draft: bool = False,
    output_sharpening: Sharpening | None = None,
    show_sharpening: bool = False,
    fine: bool = False,
) -> Plan:
    """Compute tables, matrices and the map for one frame at one output size.

    Args:
        output: width and height in px.
        space: one of `SPACES`.
        bits: 8 or 16.
        draft: noise that is not taken out yet is shrunk quickly, and at the size that is worked at where that is small.
        output_sharpening: done last, besides the development's own.
        show_sharpening: where the development sharpens, in grey, instead of the picture.
        fine: for files: the last of a strong reduction is done by Lanczos.
    """
    linear = linear_of(source, development, output, draft, fine)
    frame = frame_of(linear, development, space, draft)
    areas = areas_of(frame, development, development.listed(AREAS.key))
    parameters = path.parameters(frame, development, areas.used if areas else None)
    if areas:
        areas = areas._replace(
            start=path.starts(parameters),
            beside=path.beside(areas.used),
            alone=path.alone(frame, development, areas.used, parameters),
            again=path.again(parameters, areas.again),
        )
    detail = development.group(Detail)
    grain = root_noise(linear.source) if detail.mask and linear.small_noise is None else 0.0
    by_areas = bool(areas is not None and areas.sharpen.any())
    wanted = capture(detail, linear.geometry.scale, grain, always=by_areas), output_sharpening
    return Plan(
        linear=linear,
        frame=frame,
        parameters=parameters,
        areas=areas,
        sharpen=tuple(s for s in wanted if s),
        across=across(source, development, output),
        show_sharpening=show_sharpening,
        encoder=encoder(space, bits),
        sharpen_areas=by_areas,
        grain=None if show_sharpening else grain_of(development.group(Finish), source.facts, output),
    )


def frame_of(linear: Linear, development: Development, space: str, draft: bool) -> StageFrame:
    """What the stages may ask of the frame."""
    source, profile = linear.source, development.group(Profile)
    camera = source.colour_by(profile.camera)[0]
    white = white_point(development.group(White), as_shot_white(source, profile.camera))
    return StageFrame(
        source=source,
        original=linear.original,
        camera=camera,
        white=white,
        numbers=camera.white_numbers(white),
        pre=pre_gains(source),
        ev=development.group(Light).exposure + source.facts.baseline_exposure + camera.baseline,
        geometry=linear.geometry,
        space=space,
        guide=lambda: base_layer(source, development, draft),
        layer=lambda name: finer_layer(source, development, draft, name),
        haze=lambda: haze_of(source, development, draft),
        look=lambda: look_of(linear.original),
        blurred=lambda ident, parts, others: blurred(linear, development, draft, ident, parts, others),
        noise=lambda: 0.0 if linear.small_noise is not None else root_noise(source),
    )
