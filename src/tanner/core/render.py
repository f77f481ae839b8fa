"""The main path: from a decoded source and its development to finished pixels.

    mosaic -> noise (`noise.stage`) -> levels and demosaic (square-root values) -> fall-off and the one
    resampling (lens, crop, straighten, orientation, scale) -> white balance, rebuilt highlights, camera
    matrix, exposure -> local gain from the base layer -> tone -> saturation -> output space ->
    sharpening -> encoding

One order and one set of stages, run two ways: `render_strips` goes through a file strip by strip and never
holds a whole float picture; `render` does the same for a view, and keeps what the resampling gave
(`Source.cache`) so that a change of light or colour starts from there. A picture of a given size is the
same both ways, to the bit: how much is averaged before the resampling depends on the scale only.
"""

import math
import threading
from collections.abc import Callable, Iterator
from concurrent.futures import Executor, Future
from dataclasses import dataclass, replace
from typing import Any

import numpy as np
from numpy.typing import NDArray

from tanner.core.adjust.registry import Development, defaults
from tanner.core.adjust.registry import develop as validated
from tanner.core.colour.camera import Profile
from tanner.core.colour.cube import Cube, write_cube
from tanner.core.colour.dcp import Table
from tanner.core.colour.saturation import Colour, factors
from tanner.core.colour.shelf import SHELF
from tanner.core.colour.spaces import SPACES, luminance_weights, oklab_cones, working_to
from tanner.core.colour.white import White, white_point
from tanner.core.noise import stage
from tanner.core.noise.controls import Noise
from tanner.core.noise.methods import Strength
from tanner.core.noise.model import root_noise
from tanner.core.noise.planes import Shrunk
from tanner.core.noise.sharpen import Detail, Sharpening, capture
from tanner.core.optics import backdrop
from tanner.core.optics.crop import BEYOND, Crop, kept
from tanner.core.optics.fill import fill_beyond
from tanner.core.optics.geometry import STEP, Geometry, build, kept_size
from tanner.core.optics.lens import Optics
from tanner.core.optics.perspective import Perspective
from tanner.core.optics.projection import FISHEYES, circle
from tanner.core.optics.resample import (
    WIDEN,
    box,
    lanczos,
    sensor_range,
    shrink,
    shrink_first,
    shrink_weights,
    warp,
)
from tanner.core.optics.view import View, orientation_of
from tanner.core.raw import blocks, demosaic
from tanner.core.raw.reader import Source
from tanner.core.tone import base, point
from tanner.core.tone.clipped import NOWHERE, Clipped, cells, held, ratios
from tanner.core.tone.cube import NO_CUBE, Look
from tanner.core.tone.curve import Curve
from tanner.core.tone.light import Light, local_terms, tone_table
from tanner.core.tone.table import NO_TABLE, packed

F32 = NDArray[np.float32]
GUIDE_EDGE = 480
"""Long edge of the base layer, whatever the output: a radius means the same at every size."""
STRIP = 128
"""Rows of a strip; a multiple of 16, so that strips can become parts of one JPEG."""


class Cancelled(Exception):
    """Raised inside a render whose caller no longer wants it."""


@dataclass(frozen=True)
class Larger:
    """A whole multiple of the output's size, from which it is made by `shrink`."""

    times: int
    geometry: Geometry
    weights: F32


@dataclass(frozen=True)
class Plan:
    """All that the kernels need for one frame at one output size, computed once.

    Attributes:
        reduce: px of the source that are averaged before the resampling; stretch: how far its kernel is widened.
        tiles: what is averaged are whole tiles of the mosaic, which is not demosaiced.
        larger: the picture is resampled to a multiple of its size first.
    """

    source: Source
    geometry: Geometry
    small_noise: Noise | None
    reduce: int
    tiles: bool
    stretch: float
    larger: "Larger | None"
    kernel: F32
    pre: F32
    gains: F32
    clipped: Clipped
    matrix: F32
    plain: NDArray[np.float64]
    input_table: F32
    hue_sat: tuple[F32, NDArray[np.int32]]
    look: tuple[F32, NDArray[np.int32]]
    gain: np.float32
    guide: F32
    ev: np.float32
    terms: F32
    table: F32
    saturation: F32
    cube: Look
    out_matrix: F32
    lms: F32
    sharpen: tuple[Sharpening, ...]
    across: F32
    show_sharpening: bool
    encoder: NDArray[Any]
    beyond: tuple[F32, F32, F32] | None = None

    @property
    def margin(self) -> int:
        return sum(s.reach for s in self.sharpen)


def full_size(source: Source, development: Development) -> tuple[int, int]:
    """Width and height that the development keeps at the source's own scale."""
    crop = development.group(Crop)
    return kept_size(source.size, orientation_of(source.facts.orientation, crop), crop)


def pre_gains(source: Source) -> NDArray[np.float64]:
    """Factors that balance the mosaic as shot before demosaicing; ones for sources that are RGB."""
    if source.facts.kind != "bayer":
        return np.ones(3)
    return 1 / np.array(source.facts.neutral)


def as_shot_white(source: Source, profile: str = "") -> tuple[float, float]:
    """Chromaticity of the light that the camera took as white, through a profile (see `Source.colour_by`)."""
    key = ("as shot", profile)
    if key not in source.cache:
        source.cache[key] = source.colour_by(profile)[0].neutral_to_white(np.array(source.facts.neutral))
    white: tuple[float, float] = source.cache[key]
    return white


TILES = 3.4
"""Reduction from which a mosaic is not demosaiced: whole tiles of it are averaged."""
PAIRS = 2.2
"""Reduction from which files are made from means of 2 x 2 px: the kernel's six taps reach no farther."""


def _reduction(scale: float, bayer: bool) -> tuple[int, float]:
    """How many source px are averaged before the resampling, and how far its kernel is widened then.

    The number whose ratio to the scale is nearest to 1; blocks of a mosaic from TILES on are whole tiles of it.
    """
    near = max(1, math.floor(scale))
    choices = {max(1, near - 1), near, near + 1}
    if bayer and scale >= TILES:
        even = max(4, near - near % 2)
        choices = {even, even + 2}
    k = min(choices, key=lambda n: abs(math.log(max(scale, 1e-6) / n)))
    return k, max(1.0, scale / k)


def _fine_reduction(scale: float) -> tuple[int, int]:
    """For files: side of the averaged blocks, and how many times the size it is resampled to first.

    Blocks are small, as their mean blurs and folds; the rest goes by the resampling's wider kernel, and from TILES on by
    Lanczos at a whole ratio (see `shrink`).
    """
    if scale < TILES:
        return (1 if scale < PAIRS else 2), 1
    choices = [(k, m) for k in (2, 4) for m in (int(scale / k), int(scale / k) + 1) if m > 1]
    return min(choices, key=lambda c: abs(math.log(scale / (c[0] * c[1]))) + 0.02 * c[1])


def _encoder(space: str, bits: int) -> NDArray[Any]:
    size, top = (4096, 255) if bits == 8 else (65536, 65535)
    root = np.arange(size) / (size - 1)
    values = np.rint(SPACES[space].encode(root * root) * top)
    return values.astype(np.uint8 if bits == 8 else np.uint16)


def _f32(values: Any) -> F32:
    return np.ascontiguousarray(values, dtype=np.float32)


def geometry_groups(development: Development) -> tuple[Any, ...]:
    """What a place in the picture depends on: a key for everything that is kept with a geometry."""
    return development.group(Crop), development.group(Optics), development.group(Perspective)


def view_of(source: Source, development: Development) -> tuple[View, str]:
    """From ideal places to the sensor's, and a warning or "".

    A correction that folds the picture over is left out, with its reason.
    """
    crop, optics, perspective = geometry_groups(development)
    orientation = orientation_of(source.facts.orientation, crop)
    key = ("map", orientation, optics, perspective)
    if key not in source.cache:
        _forget(source, "map", 4)
        lens, warning = source.lens_by(optics.chosen_lens)
        view = View(source.size, orientation, optics, perspective, lens, lens.projection if lens else "rectilinear")
        if view.bends:
            # Only here: without it in the file, a whole database is read for it.
            view = replace(view, focal=source.focal[0])
        if view.folds():
            warning = "These corrections fold the picture over, so they are left out. Lower the strengths, or choose another lens."
            view = View(source.size, orientation, Optics(), Perspective(), None)
        source.cache[key] = view, warning
    found: tuple[View, str] = source.cache[key]
    return found


def geometry_of(source: Source, development: Development, output: tuple[int, int]) -> Geometry:
    """The map of a frame, kept with the source while the same one is asked for."""
    key = ("geometry", geometry_groups(development), output)
    if key not in source.cache:
        _forget(source, "geometry", 4)
        source.cache[key] = build(view_of(source, development)[0], development.group(Crop), output)
    geometry: Geometry = source.cache[key]
    return geometry


def _forget(source: Source, kind: str, keep: int) -> None:
    """Drop the oldest entries of one kind, so that a cache stays bounded."""
    keys = [k for k in list(source.cache) if isinstance(k, tuple) and k[0] == kind]
    for key in keys[: max(0, len(keys) - keep + 1)]:
        source.cache.pop(key, None)


def _packed(source: Source, kind: str, profile: str, table: Table | None, *at: Any) -> tuple[F32, NDArray[np.int32]]:
    """A profile's table as the kernel reads it, kept while the same one is asked for: a drag lays out nothing anew."""
    if table is None:
        return NO_TABLE, np.zeros(4, np.int32)
    key = ("table", kind, profile, at)
    if key not in source.cache:
        _forget(source, "table", 4)
        source.cache[key] = packed(table.cells, table.srgb)
    result: tuple[F32, NDArray[np.int32]] = source.cache[key]
    return result


def _quiet(source: Source, noise: Noise, small: bool, draft: bool) -> tuple[Source, Noise | None]:
    """The source without its noise; and what is left to be done at the size that is worked at."""
    wanted = small and source.facts.kind == "bayer" and stage.method_for(source, noise) != "none"
    if wanted and (noise.method == "quick" or stage.waits(source, noise)):
        # Without strengths, so that moving one finds what is there.
        faults = Noise(hot_pixels=noise.hot_pixels, moire=noise.moire)
        return stage.quiet_source(source, faults), noise
    return stage.quiet_source(source, noise, draft=draft, threads=2 if draft else 1), None


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
    light, curve = development.group(Light), development.group(Curve)
    profile, detail = development.group(Profile), development.group(Detail)
    geometry = geometry_of(source, development, output)
    bayer, larger = source.facts.kind == "bayer", None
    reduce, stretch = _reduction(geometry.scale, bayer)
    tiles = bayer and geometry.scale >= TILES
    if fine:
        reduce, times = _fine_reduction(geometry.scale)
        stretch = max(1.0, geometry.scale / (reduce * times))
        if times > 1:
            size = output[0] * times, output[1] * times
            larger = Larger(times, geometry_of(source, development, size), shrink_weights(times))
    small = source.cache.get("small", 0)
    if small and draft and geometry.scale > 0.93 * small:
        # Its blocks are there already (see `core.small`): nothing is read.
        reduce, tiles, stretch = small, True, max(1.0, geometry.scale / small)
    wanted_blocks = source.cache.get("wanted", ())
    source, small_noise = _quiet(source, development.group(Noise), draft and reduce >= 4, draft)
    source.cache["wanted"] = wanted_blocks
    pre = pre_gains(source)
    camera = source.colour_by(profile.camera)[0]
    white = white_point(development.group(White), as_shot_white(source, profile.camera))
    numbers = camera.white_numbers(white)
    ev = light.exposure + source.facts.baseline_exposure + camera.baseline
    plain = camera.to_working(white) @ np.diag(numbers)
    hue_sat, look = camera.hue_sat_at(white), camera.look
    # A hue and saturation table comes before exposure, as the DNG specification orders it.
    first, gain = (1.0, 2.0**ev) if hue_sat or camera.input_table is not None else (2.0**ev, 1.0)
    hold = held(profile.curve_strength / 100, camera.curve is not None)
    terms = local_terms(light)
    to_output = working_to(SPACES[space])
    grain = root_noise(source) if detail.mask and small_noise is None else 0.0
    wanted = capture(detail, geometry.scale, grain), output_sharpening
    plan = Plan(
        source=source,
        geometry=geometry,
        small_noise=small_noise,
        reduce=reduce,
        tiles=tiles,
        larger=larger,
        stretch=stretch,
        kernel=lanczos(1.0 if stretch <= WIDEN else round(stretch, 2)),
        pre=_f32(pre),
        gains=_f32(1 / (pre * numbers)),
        clipped=_clipped(source, light, geometry, pre, 1 / (pre * numbers), 2.0**ev, hold),
        matrix=_f32(plain * first),
        plain=plain,
        input_table=NO_CUBE if camera.input_table is None else camera.input_table,
        hue_sat=_packed(source, "hue_sat", profile.camera, hue_sat, white),
        look=_packed(source, "look", profile.camera, look),
        gain=np.float32(gain),
        guide=base_layer(source, development, draft) if terms.any() else np.zeros((2, 1, 1), np.float32),
        ev=np.float32(ev),
        terms=terms,
        table=tone_table(light, curve, profile.curve_strength / 100, camera.curve),
        saturation=_f32(factors(development.group(Colour))),
        cube=Look(SHELF.cube(profile.look), profile.look_space == "display", profile.look_amount / 100),
        out_matrix=_f32(to_output),
        lms=_f32(oklab_cones(SPACES[space])),
        sharpen=tuple(s for s in wanted if s),
        across=_across(source, development, output),
        show_sharpening=show_sharpening,
        encoder=_encoder(space, bits),
    )
    return replace(plan, beyond=_beyond(plan, development)) if geometry.beyond else plan


def around(source: Source) -> F32:
    """How the channels stand to one another around clipped places; made once for a source."""
    if "around" not in source.cache:
        facts = source.facts
        source.cache["around"] = ratios(source.data, facts.pattern or (0, 0), facts.black, facts.white)
    result: F32 = source.cache["around"]
    return result


def _clipped(
    source: Source,
    light: Light,
    geometry: Geometry,
    pre: NDArray[np.float64],
    gains: NDArray[np.float64],
    exposure: float,
    hold: float,
) -> Clipped:
    """What is done where the sensor was full; nothing in a finished picture, which ends at its white."""
    raw = source.facts.is_raw
    balance = np.log(pre * gains)
    return Clipped(
        full=_f32(1 / pre if raw else np.zeros(3)),
        around=around(source) if raw else NOWHERE,
        cell=np.float32(cells(source.size)[1]),
        offset=_f32([balance[0] - balance[1], balance[0] - balance[2], balance[1] - balance[2]]),
        grid=geometry.grid,
        amount=np.float32(light.clipped_colour / 100),
        hold=np.float32(hold / exposure),
    )


def _across(source: Source, development: Development, output: tuple[int, int]) -> F32:
    """Where output px lie from the middle of the frame: the first one and the steps, in half diagonals of the frame."""
    crop = development.group(Crop)
    up = view_of(source, development)[0].upright
    cx, cy, w, h = kept(crop, *up)
    half = math.hypot(*up) / 2
    sx, sy = w / output[0], h / output[1]
    return _f32([(cx - w / 2 + sx / 2) / half, (cy - h / 2 + sy / 2) / half, sx / half, sy / half])


# --- from the mosaic to resampled linear planes --------------------------------------------------


class _Work(threading.local):
    """Buffers of one thread, kept between blocks: fresh memory costs more than the arithmetic."""

    def __init__(self) -> None:
        self.buffers: dict[str, F32] = {}
        self.scratch = demosaic.scratch()

    def get(self, name: str, *shape: int) -> F32:
        count = math.prod(shape)
        if name not in self.buffers or self.buffers[name].size < count:
            self.buffers[name] = np.empty(int(count * 1.2), dtype=np.float32)
        return self.buffers[name][:count].reshape(shape)


_work = _Work()


def _levels(source: Source, pre: F32) -> tuple[F32, F32]:
    """Black and gain by row and column parity, so that white is 1 before the as-shot balance."""
    black = np.array(source.facts.black, dtype=np.float64).reshape(2, 2)
    ry, rx = source.facts.pattern or (0, 0)
    balance = np.full((2, 2), float(pre[1]))
    balance[ry, rx], balance[1 - ry, 1 - rx] = pre[0], pre[2]
    return _f32(black), _f32(balance / (source.facts.white - black))


def binned_planes(source: Source, pre: F32, k: int) -> F32:
    """A mosaic in blocks of k px, (3, h // k, w // k), 1 at its white before the balance `pre` (3,)."""
    black, gain = _levels(source, pre)
    h, w = source.data.shape
    planes = np.empty((3, h // k, w // k), dtype=np.float32)
    ry, rx = source.facts.pattern or (0, 0)
    demosaic.bin_mosaic(source.data, black, gain, ry, rx, k, planes)
    return planes


def _binned(plan: Plan) -> F32:
    """The whole mosaic in blocks, each colour for itself; in a draft, its noise shrunk at that size."""
    source, k = plan.source, plan.reduce
    key = ("binned", k)
    if key not in source.cache:
        _forget(source, "binned", 2)
        source.cache[key] = binned_planes(source, plan.pre, k)
    planes = source.cache[key]
    if plan.small_noise is None:
        return planes
    quieted = ("quieted", k, plan.small_noise)
    if quieted not in source.cache:
        _forget(source, "quieted", 2)
        shrunk = ("shrunk", k)
        if shrunk not in source.cache:
            _forget(source, "shrunk", 1)
            source.cache[shrunk] = Shrunk(planes, source, plan.pre, k)
        source.cache[quieted] = source.cache[shrunk].at(Strength(plan.small_noise.luminance, plan.small_noise.colour))
    result: F32 = source.cache[quieted]
    return result


def _whole(planes: F32) -> NDArray[np.int64]:
    return np.array([0, planes.shape[1], 0, planes.shape[2]])


def _block_planes(plan: Plan, y0: int, x0: int, y1: int, x1: int) -> tuple[F32, NDArray[np.int64], F32, float, F32]:
    """Linear planes that cover the source of an output block, the window of them that does, their origin, pitch and shifts."""
    source, k = plan.source, plan.reduce
    bayer = source.facts.kind == "bayer"
    shifts = np.zeros((3, 2), dtype=np.float32)
    if plan.tiles:
        # The pixels of one colour lie off the centre of their block by half a pixel.
        ry, rx = source.facts.pattern or (0, 0)
        shifts[0] = rx - 0.5, ry - 0.5
        shifts[2] = 0.5 - rx, 0.5 - ry
        binned = _binned(plan)
        return binned, _whole(binned), np.zeros(2, np.float32), float(k), shifts
    reach = np.empty(4, dtype=np.float32)
    sensor_range(plan.geometry.grid, y0, y1, x0, x1, reach)
    pad = math.ceil(3 * k * plan.stretch) + 1
    w, h = source.size
    left = int(math.floor((max(float(reach[0]), -8.0) - pad) / k)) * k
    top = int(math.floor((max(float(reach[2]), -8.0) - pad) / k)) * k
    cols = max(10, math.ceil((min(float(reach[1]), w + 8.0) + pad - left) / k))
    rows = max(10, math.ceil((min(float(reach[3]), h + 8.0) + pad - top) / k))
    boxes = blocks.of(source, k) if bayer and k > 1 else None
    ready = boxes.wanting(left, top, cols, rows) if boxes else None
    if boxes and ready is not None:
        if ready < rows:
            planes = _work.get("planes", 3, (rows - ready) * k, cols * k)
            _demosaic(plan, top + ready * k, left, planes)
            boxes.take(planes, top + ready * k, left)
        # Beyond this window there may be nothing yet.
        return boxes.planes, boxes.window(left, top, cols, rows), _f32((boxes.left, boxes.top)), float(k), shifts
    if bayer and k == 1 and source.cache.get("wanted"):
        planes = _shared(plan, (x0 <= 0, y0 <= 0), (x1, y1), (left, top, cols, rows))
        return planes, _whole(planes), _f32((left, top)), 1.0, shifts
    shape = (3, rows * k, cols * k)
    planes = _work.get("planes", *shape)
    if bayer:
        _demosaic(plan, top, left, planes)
    else:
        ys = np.clip(np.arange(top, top + shape[1]), 0, h - 1)
        xs = np.clip(np.arange(left, left + shape[2]), 0, w - 1)
        planes[:] = source.data[:, ys[0] : ys[-1] + 1][:, ys - ys[0]][:, :, xs]
    if k > 1:
        small = _work.get("small", 3, rows, cols)
        box(planes, 0, 0, k, small, 0, 0, rows, cols)
        planes = small
    return planes, _whole(planes), _f32((left, top)), float(k), shifts


def _shared(plan: Plan, first: tuple[bool, bool], end: tuple[int, int], region: tuple[int, int, int, int]) -> F32:
    """A demosaiced region of a full-size picture, left to smaller ones on its way; wider at the picture's sides for them."""
    left, top, cols, rows = region
    width, height = plan.geometry.size
    before = blocks.WIDER * first[0], blocks.WIDER * first[1]
    after = blocks.WIDER * (end[0] >= width), blocks.WIDER * (end[1] >= height)
    planes = _work.get("planes", 3, before[1] + rows + after[1], before[0] + cols + after[0])
    _demosaic(plan, top - before[1], left - before[0], planes)
    blocks.harvest(plan.source, planes, top - before[1], left - before[0])
    if not any(before + after):
        return planes
    # Cut back: places are counted from the corner, and rounding goes by it.
    tight = _work.get("tight", 3, rows, cols)
    tight[:] = planes[:, before[1] : before[1] + rows, before[0] : before[0] + cols]
    return tight


def _demosaic(plan: Plan, top: int, left: int, planes: F32) -> None:
    """A region of the sensor, which may reach beyond it, as linear planes."""
    black, gain = _levels(plan.source, plan.pre)
    ry, rx = plan.source.facts.pattern or (0, 0)
    demosaic.demosaic_region(plan.source.data, top, left, black, gain, ry, rx, _work.scratch, planes)


def _resample(plan: Plan, y0: int, x0: int, out: F32) -> None:
    """Fill a block of output pixels with linear planes."""
    if plan.larger is not None:
        _from_larger(plan, plan.larger, y0, x0, out)
    else:
        h, w = out.shape[1:]
        planes, window, origin, pitch, shifts = _block_planes(plan, y0, x0, y0 + h, x0 + w)
        warp(planes, window, origin, pitch, shifts, plan.geometry.grid, y0, x0, plan.kernel, out)
    if plan.beyond is not None:
        fill_beyond(plan.geometry.grid, y0, x0, *source_size(plan), *plan.beyond, out)


AROUND = 8
"""px beyond a picture's sides that its map reaches for certain."""


def _from_larger(plan: Plan, larger: Larger, y0: int, x0: int, out: F32) -> None:
    """Fill a block from the same at a multiple of its size."""
    m, (w, h) = larger.times, larger.geometry.size
    top, left = m * y0 + shrink_first(m), m * x0 + shrink_first(m)
    bottom, right = top + m * (out.shape[1] + 5), left + m * (out.shape[2] + 5)
    t, b = max(top, -AROUND), min(bottom, h + AROUND)
    l, r = max(left, -AROUND), min(right, w + AROUND)  # noqa: E741
    part = _work.get("larger", 3, b - t, r - l)
    _resample(replace(plan, geometry=larger.geometry, larger=None, beyond=None), t, l, part)
    if (t, l, b, r) != (top, left, bottom, right):
        part = np.pad(part, ((0, 0), (t - top, bottom - b), (l - left, right - r)), mode="edge")
    shrink(part, m, larger.weights, out)


def _geometry_only(development: Development, **other: Any) -> Development:
    """A development of which only the geometry is left, with other groups in their places."""
    plain = {k: type(g)() for k, g in development.groups.items()}
    return Development({**plain, **{k: development.groups[k] for k in ("crop", "optics", "perspective")}, **other})


def base_layer(source: Source, development: Development, draft: bool) -> F32:
    """Coefficients of the base layer for this geometry, before white balance and exposure are chosen."""
    groups = geometry_groups(development)
    key = ("guide", groups)
    if key not in source.cache:
        _forget(source, "guide", 2)
        w, h = full_size(source, development)
        share = min(1.0, GUIDE_EDGE / max(w, h))
        size = max(4, round(w * share)), max(4, round(h * share))
        plan = make_plan(source, _geometry_only(development), size, draft=draft)
        planes = np.empty((3, size[1], size[0]), dtype=np.float32)
        _resample(plan, 0, 0, planes)
        m = luminance_weights() @ (plan.plain @ np.diag(plan.gains))
        luminance = np.tensordot(m, planes, axes=1).astype(np.float32)
        source.cache[key] = base.coefficients(luminance)
    guide: F32 = source.cache[key]
    return guide


# --- beyond the picture ------------------------------------------------------------------------------

GRAIN = 96
"""Side in output px of the piece of backdrop whose noise is laid over what is carried on."""


def source_size(plan: Plan) -> tuple[np.float32, np.float32]:
    return np.float32(plan.source.size[0]), np.float32(plan.source.size[1])


def backdrop_of(source: Source, development: Development) -> backdrop.Backdrop:
    """The frame's backdrop carried on; kept with the source while its geometry stays."""
    crop, optics, perspective = geometry_groups(development)
    bare = Crop(turn=crop.turn, mirror=crop.mirror)
    key = ("backdrop", bare, optics, perspective)
    if key not in source.cache:
        _forget(source, "backdrop", 2)
        whole = _geometry_only(development, crop=bare)
        w, h = full_size(source, whole)
        share = 220 / max(w, h)
        size = max(16, round(w * share)), max(16, round(h * share))
        source.cache[key] = backdrop.carried_on(render_planes(make_plan(source, whole, size)))
    found: backdrop.Backdrop = source.cache[key]
    return found


def _beyond(plan: Plan, development: Development) -> tuple[F32, F32, F32]:
    """What `fill_beyond` needs: planes, the way from output px to them, and noise."""
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
    way = _f32(
        [
            math.cos(a) * sx * to_x, math.sin(a) * sy * to_x, (math.cos(a) * x0 + math.sin(a) * y0) * to_x + columns / 2,
            -math.sin(a) * sx * to_y, math.cos(a) * sy * to_y, (math.cos(a) * y0 - math.sin(a) * x0) * to_y + rows / 2,
        ]
    )  # fmt: skip
    return found.planes, way, _grain(plan, found, crop, up)


def _grain(plan: Plan, found: backdrop.Backdrop, crop: Crop, up: tuple[int, int]) -> F32:
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
    _resample(replace(plan, beyond=None), top, left, piece)
    return backdrop.without_gradient(piece)


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


# --- from linear planes to encoded pixels ----------------------------------------------------------


def _finish(plan: Plan, planes: F32, y0: int, x0: int, out: NDArray[Any]) -> None:
    """Develop, sharpen and encode a block whose planes carry `plan.margin` px on every side."""
    m = plan.margin
    point.develop_block(
        planes,
        y0 - m,
        x0 - m,
        plan.geometry.size,
        plan.gains,
        plan.clipped,
        plan.matrix,
        plan.input_table,
        *plan.hue_sat,
        *plan.look,
        plan.gain,
        _LUMA,
        plan.guide,
        plan.ev,
        plan.terms,
        plan.table,
        plan.saturation,
        plan.cube.cube,
        plan.cube.line,
        plan.cube.to,
        plan.cube.back,
        plan.cube.domain,
        plan.cube.display,
        plan.cube.amount,
        plan.out_matrix,
        plan.lms,
    )
    inset = 0
    for each in plan.sharpen:
        h, w = planes.shape[1:]
        inset += each.reach
        ax, ay, sx, sy = plan.across
        place = _f32([ax + (x0 - m) * sx, ay + (y0 - m) * sy, sx, sy])
        point.sharpen_block(
            planes, inset, _f32([each.amount, each.corners]), place, np.float32(each.threshold), np.float32(each.even),
            each.half, _work.get("lum", h, w), _work.get("blur", h, w), plan.show_sharpening,
        )  # fmt: skip
    if plan.show_sharpening and not plan.sharpen:
        planes[:] = 0
    encode = point.encode8 if out.dtype == np.uint8 else point.encode16
    encode(planes, m, plan.encoder, out)


_LUMA = _f32(luminance_weights())


def _strip(plan: Plan, y0: int, y1: int, x0: int, x1: int, stop: Callable[[], bool] | None = None) -> NDArray[Any]:
    """Encoded pixels of a region, column by column of blocks, straight from the source."""
    out = np.empty((y1 - y0, x1 - x0, 3), dtype=plan.encoder.dtype)
    m = plan.margin
    # As wide as one pass of the demosaicing reaches, so that no narrow rest is left over.
    reach = demosaic.BLOCK_W - 2 * math.ceil(3 * plan.reduce * plan.stretch) - 24
    step = max(64, int(reach / (plan.reduce * plan.stretch)) - 2 * m - 16)
    # Whole cells of the map, which the resampling takes as runs.
    step = math.ceil((x1 - x0) / math.ceil((x1 - x0) / step) / STEP) * STEP
    for left in range(x0, x1, step):
        if stop and stop():
            raise Cancelled
        right = min(x1, left + step)
        planes = _work.get("out", 3, y1 - y0 + 2 * m, right - left + 2 * m)
        _resample(plan, y0 - m, left - m, planes)
        block = np.empty((y1 - y0, right - left, 3), dtype=out.dtype)
        _finish(plan, planes, y0, left, block)
        out[:, left - x0 : right - x0] = block
    return out


def render_strips(
    plan: Plan, pool: Executor | None = None, ahead: int = 4, after: Callable[[NDArray[Any], int], Any] | None = None
) -> Iterator[Any]:
    """The finished picture in strips of STRIP rows, top to bottom.

    Args:
        pool: threads to work in; without one the strips are made one by one.
        ahead: strips that may be under way at once, which bounds memory.
        after: done to each strip and its first row in its own thread (encoding, for example); its result is what is given.
    """
    width, height = plan.geometry.size
    if plan.tiles:
        _binned(plan)  # once, before threads ask for it at the same time

    def make(y0: int) -> Any:
        pixels = _strip(plan, y0, min(height, y0 + STRIP), 0, width)
        return after(pixels, y0) if after else pixels

    if pool is None:
        for y0 in range(0, height, STRIP):
            yield make(y0)
        return
    waiting: list[Future[Any]] = []
    for y0 in range(0, height, STRIP):
        waiting.append(pool.submit(make, y0))
        if len(waiting) >= ahead:
            yield waiting.pop(0).result()
    for future in waiting:
        yield future.result()


def render(
    source: Source,
    development: Development,
    output: tuple[int, int],
    *,
    space: str = "srgb",
    bits: int = 8,
    region: tuple[int, int, int, int] | None = None,
    pool: Executor | None = None,
    keep: bool = False,
    draft: bool = False,
    show_sharpening: bool = False,
    fine: bool = False,
) -> NDArray[Any]:
    """Render a frame, or a part of it.

    Args:
        output: width and height of the whole output in px; nothing larger than 400 MP.
        region: left, top, right, bottom of the part that is wanted, in output px.
        pool: threads to share the work between.
        keep: keep the resampled planes with the source, for a view whose light is being changed.
        draft, show_sharpening, fine: see `make_plan`.

    Returns:
        uint8 or uint16 (h, w, 3), encoded for `space`, upright.
    """
    plan = make_plan(source, development, output, space, bits, draft, show_sharpening=show_sharpening, fine=fine)
    if keep and region is None:
        return _from_kept(plan, development, pool)
    x0, y0, x1, y1 = region or (0, 0, *output)
    if plan.tiles:
        _binned(plan)
    tops = list(range(y0, y1, 64 if region else STRIP))
    ends = [*tops[1:], y1]

    def part(pair: tuple[int, int]) -> NDArray[Any]:
        return _strip(plan, pair[0], pair[1], x0, x1)

    parts = list(
        map(part, zip(tops, ends, strict=True)) if pool is None else pool.map(part, zip(tops, ends, strict=True))
    )
    return np.concatenate(parts)


def _from_kept(plan: Plan, development: Development, pool: Executor | None) -> NDArray[Any]:
    """A whole view from its resampled planes, which are made first when the geometry is new."""
    source, (width, height) = plan.source, plan.geometry.size
    key = ("view", geometry_groups(development), plan.small_noise, (width, height))
    m = 16
    run = map if pool is None else pool.map
    bands = [(y, min(height, y + 64)) for y in range(0, height, 64)]
    if key not in source.cache:
        _forget(source, "view", 3)
        if plan.tiles:
            _binned(plan)
        view = np.empty((3, height + 2 * m, width + 2 * m), dtype=np.float32)

        def fill(band: tuple[int, int]) -> None:
            top = -m if band[0] == 0 else band[0]
            bottom = height + m if band[1] == height else band[1]
            block = _work.get("fill", 3, bottom - top, width + 2 * m)
            _resample(plan, top, -m, block)
            view[:, top + m : bottom + m] = block

        list(run(fill, bands))
        source.cache[key] = view
    view = source.cache[key]
    out = np.empty((height, width, 3), dtype=plan.encoder.dtype)
    e = plan.margin

    def finish(band: tuple[int, int]) -> None:
        y0, y1 = band
        planes = _work.get("out", 3, y1 - y0 + 2 * e, width + 2 * e)
        planes[:] = view[:, y0 + m - e : y1 + m + e, m - e : width + m + e]
        _finish(plan, planes, y0, 0, out[y0:y1])

    list(run(finish, bands))
    return out


def render_planes(plan: Plan) -> F32:
    """The resampled linear planes (3, h, w) of a whole plan, before any colour: for joining frames, and for tests."""
    width, height = plan.geometry.size
    planes = np.empty((3, height, width), dtype=np.float32)
    for top in range(0, height, STRIP):
        _resample(plan, top, 0, planes[:, top : top + STRIP])
    return planes


def camera_strips(plan: Plan, black: int, white: int = 65535) -> NDArray[np.uint16]:
    """Camera numbers of a whole plan, (h, w, 3), from `black` to `white` at the sensor's white: linear, before colour."""
    width, height = plan.geometry.size
    out = np.empty((height, width, 3), dtype=np.uint16)
    span = np.float32(white - black) / plan.pre
    for top in range(0, height, STRIP):
        rows = min(STRIP, height - top)
        planes = _work.get("camera", 3, rows, width)
        _resample(plan, top, 0, planes)
        for n in range(3):
            out[top : top + rows, :, n] = np.clip(np.rint(planes[n] * span[n] + np.float32(black)), 0, white)
    return out


def plain_planes(source: Source, edge: int) -> F32:
    """Linear planes (3, h, w) as the sensor lies, balanced as shot, without any correction of the lens."""
    flat = Source(source.facts.model_copy(update={"orientation": 1}), source.data, decoder=source.decoder)
    share = min(1.0, edge / max(source.size))
    size = max(8, round(source.size[0] * share)), max(8, round(source.size[1] * share))
    return render_planes(make_plan(flat, validated({"optics.chosen_lens": "none"}), size))


def camera_picture(source: Source, edge: int) -> F32:
    """Camera numbers of the whole upright frame, (h, w, 3), 1 at the sensor's white; the lens corrected where known."""
    development = validated(defaults(raw=source.facts.is_raw, lens=source.lens is not None))
    w, h = full_size(source, development)
    share = min(1.0, edge / max(w, h))
    size = max(8, round(w * share)), max(8, round(h * share))
    plan = make_plan(source, development, size)
    return np.ascontiguousarray(np.moveaxis(render_planes(plan), 0, -1) / plan.pre)


def camera_numbers(source: Source, development: Development, x: float, y: float, radius: float) -> NDArray[np.float64]:
    """Mean camera numbers around a point of the upright, cropped picture, for a white balance pick.

    Args:
        x, y: position in shares of the picture; radius: half the side of the square, in the same shares of
            the long edge.
    """
    w, h = full_size(source, development)
    size = max(8, round(w * 800 / max(w, h))), max(8, round(h * 800 / max(w, h)))
    plan = make_plan(source, development, size)
    r = max(1, round(radius * 800))
    cx, cy = min(max(int(x * size[0]), r), size[0] - r - 1), min(max(int(y * size[1]), r), size[1] - r - 1)
    block = np.empty((3, 2 * r + 1, 2 * r + 1), dtype=np.float32)
    _resample(plan, cy - r, cx - r, block)
    mean: NDArray[np.float64] = block.reshape(3, -1).mean(axis=1).astype(np.float64) / plan.pre
    return mean


def development_cube(source: Source, development: Development, title: str, size: int = 33) -> str:
    """The global part of a development as a .cube text: colour and tone of a pixel, whatever stands around it.

    Input: the frame by the same white balance and the plain matrix, without curve, as sRGB display values. Output: the
    developed picture as sRGB display values. Local contrast, highlights and shadows, sharpening, noise and geometry
    depend on what surrounds a pixel and are not in it.
    """
    ramp = np.linspace(0, 1, size)
    grid = np.stack(np.meshgrid(ramp, ramp, ramp, indexing="ij"), axis=-1).reshape(-1, 3)
    working = SPACES["srgb"].decode(grid) @ np.linalg.inv(working_to(SPACES["srgb"])).T
    plan = make_plan(source, development, (64, 64), "srgb", 16)
    white = white_point(development.group(White), as_shot_white(source))
    camera = source.camera
    plain = camera.to_working(white) @ np.diag(camera.white_numbers(white))
    balanced = working @ np.linalg.inv(plain).T * camera.white_numbers(white)
    planes = _f32((balanced / plan.pre.astype(np.float64) ** -1).T[:, None, :])
    plan = replace(plan, geometry=replace(plan.geometry, size=(len(grid), 1)), sharpen=(), clipped=plan.clipped._replace(full=np.zeros(3, np.float32)),
                   terms=_f32(np.zeros(len(plan.terms))), guide=np.zeros((2, 1, 1), np.float32))  # fmt: skip
    out = np.empty((1, len(grid), 3), dtype=np.uint16)
    _finish(plan, planes, 0, 0, out)
    table = (out[0].astype(np.float32) / 65535).reshape(size, size, size, 3)
    comments = ["Global part of a development in Tanner.", "Input and output: sRGB display values."]
    return write_cube(Cube(title, table), comments)
