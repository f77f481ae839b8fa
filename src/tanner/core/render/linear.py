"""From the mosaic to resampled linear planes: levels, demosaicing and fall-off, and the one resampling."""

import math
import threading
from dataclasses import dataclass, replace

import numpy as np
from numpy.typing import NDArray

from tanner.core.adjust.registry import Development, with_differences
from tanner.core.areas.declare import AREAS
from tanner.core.memory import Slot
from tanner.core.noise import stage
from tanner.core.noise.by_areas import NoiseArea, denoised_by_areas, mask_to, method_of
from tanner.core.noise.controls import Noise
from tanner.core.noise.methods import Strength
from tanner.core.noise.planes import Shrunk
from tanner.core.optics.fill import fill_beyond
from tanner.core.optics.geometry import Geometry
from tanner.core.optics.resample import WIDEN, box, lanczos, sensor_range, shrink, shrink_first, shrink_weights, warp
from tanner.core.raw import binning, blocks, demosaic
from tanner.core.raw.source import Source
from tanner.core.render.reduction import Reduction, Supersampled, reduction
from tanner.core.render.views import geometry_of
from tanner.core.sharing import bands, each
from tanner.core.spots.apply import healed_source, like_before

F32 = NDArray[np.float32]
STRIP = 192
"""Rows of a strip; a multiple of 16, so that strips can become parts of one JPEG."""
BINNED: Slot[F32] = Slot("binned", keep=2, heavy=True)
"""The mosaic in blocks (3, h // k, w // k), by their side."""
PAIRED = 2
"""Side of blocks that are not kept, but made row by row as they are read: the whole would be three quarters of the frame again."""
AREA_MASKS: Slot[F32 | None] = Slot("masks of noise", keep=4, heavy=True)
"""Masks of areas in which noise is dealt with in another way, over the upright frame."""
SHRUNK: Slot[Shrunk] = Slot("shrunk", heavy=True)
DENOISED_BLOCKS: Slot[F32] = Slot("denoised blocks", keep=2, heavy=True)
"""Blocks without their noise, by their side and the controls of noise."""


@dataclass(frozen=True)
class Linear:
    """All that is needed to make linear planes of one frame at one output size.

    Attributes:
        original: as it was read; source: without its noise and spots where that was done.
        small_noise: what is left to be done of it at the size that is worked at.
        pre: (3,) the balance before demosaicing.
        small_areas: areas in which it is dealt with in another way, at that size.
        outside: planes, the affine way to them and grain for what lies outside the frame, see `render.outside`.
    """

    original: Source
    source: Source
    geometry: Geometry
    small_noise: Noise | None
    reduction: Reduction
    larger: Supersampled | None
    kernel: F32
    pre: F32
    outside: tuple[F32, F32, F32] | None = None
    small_areas: tuple[NoiseArea, ...] = ()


def pre_gains(source: Source) -> NDArray[np.float64]:
    """Factors that balance the mosaic as shot before demosaicing; ones for sources that are RGB."""
    if source.facts.kind != "bayer":
        return np.ones(3)
    return 1 / np.array(source.facts.neutral)


def kernel_for(how: Reduction) -> F32:
    """The resampling's kernel: widened only where it has to be."""
    return lanczos(1.0 if how.stretch <= WIDEN else round(how.stretch, 2))


def make_linear(
    source: Source, development: Development, output: tuple[int, int], draft: bool = False, fine: bool = False
) -> Linear:
    """The map, the reduction and the kernel for a frame at an output size; see `plan.make_plan` for the arguments."""
    geometry = geometry_of(source, development, output)
    bayer, larger = source.facts.kind == "bayer", None
    how = reduction(geometry.scale, bayer, fine, source.small_level if draft else 0)
    if how.times > 1:
        size = output[0] * how.times, output[1] * how.times
        larger = Supersampled(how.times, geometry_of(source, development, size), shrink_weights(how.times))
    wanted, original = source.wanted, source
    noise = development.group(Noise)
    areas = noise_areas(source, development)
    if areas:
        noise = method_of(noise, areas)
    source, small_noise = _denoised(source, noise, draft and how.blocks >= 4, draft, areas)
    source = healed_source(source, development)
    source.wanted = wanted
    pre = np.ascontiguousarray(pre_gains(source), dtype=np.float32)
    return Linear(
        original,
        source,
        geometry,
        small_noise,
        how,
        larger,
        kernel_for(how),
        pre,
        small_areas=areas if small_noise else (),
    )


def noise_areas(source: Source, development: Development) -> tuple[NoiseArea, ...]:
    """Areas of a development in which noise is dealt with in another way, and what their masks depend on."""
    things = development.listed(AREAS.key)
    wanted = [t for t in things if any(v for k, v in t.values.items() if k.startswith("noise."))]
    if not wanted or source.denoised or source.healed:
        return ()
    # Masks are made of this module.
    from tanner.core.render.masking import mask_or_none

    parts_key = tuple(t.parts.model_dump_json(exclude={"name", "tint", "order", "amount"}) for t in things)
    seen = tuple(development.groups[g] for g in ("white", "light", "profile", "crop") if g in development.groups)
    found = []
    for thing in wanted:
        mine = {k: v for k, v in thing.values.items() if k.startswith("noise.")}
        base = development
        if base.group(Noise).method == "none":
            # Where the frame has no method, strengths count from nothing.
            base = with_differences(development, {"noise.luminance": -100.0, "noise.colour": -100.0})
        noise = with_differences(base, mine).group(Noise)

        def mask(ident: str = thing.id) -> F32 | None:
            return source.memory.get(
                AREA_MASKS, (ident, parts_key, seen), lambda: mask_or_none(source, development, ident)
            )

        found.append(NoiseArea(noise, (thing.id, parts_key, seen), mask))
    return tuple(found)


def _denoised(
    source: Source, noise: Noise, small: bool, draft: bool, areas: tuple[NoiseArea, ...] = ()
) -> tuple[Source, Noise | None]:
    """The source without its noise; and what is left to be done at the size that is worked at."""
    cleans = noise.model_copy(update={"luminance": 100.0}) if areas else noise
    wanted = small and source.facts.kind == "bayer" and stage.method_for(source, cleans) != "none"
    if wanted and (noise.method == "quick" or stage.waits(source, cleans)):
        # Without strengths, so that moving one finds what is there.
        faults = Noise(hot_pixels=noise.hot_pixels, moire=noise.moire)
        return stage.denoised_source(source, faults), noise
    threads = 2 if draft else 1
    if areas:
        return denoised_by_areas(source, noise, areas, draft=draft, threads=threads), None
    return stage.denoised_source(source, noise, draft=draft, threads=threads), None


def _f32(values: object) -> F32:
    return np.ascontiguousarray(values, dtype=np.float32)


class LinearWork(threading.local):
    """Buffers of one thread, kept between blocks: fresh memory costs more than the arithmetic."""

    def __init__(self) -> None:
        self.buffers: dict[str, F32] = {}
        self.scratch = demosaic.scratch()

    def get(self, name: str, *shape: int) -> F32:
        count = math.prod(shape)
        if name not in self.buffers or self.buffers[name].size < count:
            self.buffers[name] = np.empty(int(count * 1.2), dtype=np.float32)
        return self.buffers[name][:count].reshape(shape)


work = LinearWork()


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
    data = source.data

    def band(rows: tuple[int, int]) -> None:
        binning.bin_mosaic(data, black, gain, ry, rx, k, planes, *rows)

    each(band, bands(h // k, STRIP))
    return planes


def binned(plan: Linear) -> F32:
    """The whole mosaic in blocks, each colour for itself; in a draft, its noise shrunk at that size."""
    memory, k = plan.source.memory, plan.reduction.blocks
    planes = memory.get(BINNED, k, lambda: _binned_anew(plan.source, plan.pre, k))
    noise = plan.small_noise
    if noise is None:
        return planes
    strength = Strength(noise.luminance, noise.colour)

    def make() -> F32:
        shrunk = memory.get(SHRUNK, k, lambda: Shrunk(planes, plan.source, plan.pre, k))
        found = base = np.asarray(shrunk.at(strength))
        for area in plan.small_areas:
            mask = area.mask()
            if mask is not None:
                other = np.asarray(shrunk.at(Strength(area.noise.luminance, area.noise.colour)))
                found = found + mask_to(mask, plan.source, k, (0, base.shape[1]), base.shape[2]) * (other - base)
        return np.asarray(found, np.float32)

    return memory.get(DENOISED_BLOCKS, (k, noise, tuple((a.noise, a.key) for a in plan.small_areas)), make)


def _binned_anew(source: Source, pre: F32, k: int) -> F32:
    """The mosaic in blocks; where they are kept of it with other spots, only what these changed is made anew."""
    kept = like_before(source, BINNED, lambda _: k)
    if kept is None:
        return binned_planes(source, pre, k)
    planes, changed = kept[0].copy(), kept[1]
    black, gain = _levels(source, pre)
    ry, rx = source.facts.pattern or (0, 0)
    rows, cols = planes.shape[1:]
    for patch in changed:
        h, w = patch.values.shape
        top, left = patch.top // k, patch.left // k
        bottom, right = min(rows, -(-(patch.top + h) // k)), min(cols, -(-(patch.left + w) // k))
        if bottom > top and right > left:
            part = np.ascontiguousarray(source.data[top * k : bottom * k, left * k : right * k])
            out = np.empty((3, bottom - top, right - left), np.float32)
            binning.bin_mosaic(part, black, gain, ry, rx, k, out, 0, bottom - top)
            planes[:, top:bottom, left:right] = out
    return planes


def _whole(planes: F32) -> NDArray[np.int64]:
    return np.array([0, planes.shape[1], 0, planes.shape[2]])


def _block_planes(plan: Linear, y0: int, x0: int, y1: int, x1: int) -> tuple[F32, NDArray[np.int64], F32, float, F32]:
    """Linear planes that cover the source of an output block, the window of them that does, their origin, pitch and shifts."""
    source, k = plan.source, plan.reduction.blocks
    bayer = source.facts.kind == "bayer"
    shifts = np.zeros((3, 2), dtype=np.float32)
    if plan.reduction.tiles:
        # The pixels of one colour lie off the centre of their block by half a pixel.
        ry, rx = source.facts.pattern or (0, 0)
        shifts[0] = rx - 0.5, ry - 0.5
        shifts[2] = 0.5 - rx, 0.5 - ry
        if k != PAIRED:
            whole = binned(plan)
            return whole, _whole(whole), np.zeros(2, np.float32), float(k), shifts
    reach = np.empty(4, dtype=np.float32)
    sensor_range(plan.geometry.grid, y0, y1, x0, x1, reach)
    if plan.reduction.tiles:
        planes, first = _paired(plan, float(reach[2]), float(reach[3]))
        return planes, _whole(planes), _f32((0, first)), float(k), shifts
    pad = math.ceil(3 * k * plan.reduction.stretch) + 1
    w, h = source.size
    left = int(math.floor((max(float(reach[0]), -8.0) - pad) / k)) * k
    top = int(math.floor((max(float(reach[2]), -8.0) - pad) / k)) * k
    cols = max(10, math.ceil((min(float(reach[1]), w + 8.0) + pad - left) / k))
    rows = max(10, math.ceil((min(float(reach[3]), h + 8.0) + pad - top) / k))
    boxes = blocks.of(source, k) if bayer and k > 1 else None
    ready = boxes.ready_rows(left, top, cols, rows) if boxes else None
    if boxes and ready is not None:
        if ready < rows:
            y, x, part = top + ready * k, left, boxes.part(left, top + ready * k, cols, rows - ready)
            # Threads may bring the same blocks: with the same values.
            demosaic.demosaic_means(source.data, y, x, *_mosaic(plan), work.scratch, k, boxes.planes, part)
            boxes.mark(part)
        # Beyond this window there may be nothing yet.
        return (
            boxes.planes,
            np.array(boxes.part(left, top, cols, rows)),
            _f32((boxes.left, boxes.top)),
            float(k),
            shifts,
        )
    if bayer and k == 1 and source.wanted:
        planes = _shared(plan, (x0 <= 0, y0 <= 0), (x1, y1), (left, top, cols, rows))
        return planes, _whole(planes), _f32((left, top)), 1.0, shifts
    planes = work.get("planes", 3, rows, cols)
    if bayer and k > 1:
        demosaic.demosaic_means(source.data, top, left, *_mosaic(plan), work.scratch, k, planes, (0, rows, 0, cols))
    elif bayer:
        _demosaic(plan, top, left, planes)
    else:
        ys = np.clip(np.arange(top, top + rows * k), 0, h - 1)
        xs = np.clip(np.arange(left, left + cols * k), 0, w - 1)
        px = source.data[:, ys[0] : ys[-1] + 1][:, ys - ys[0]][:, :, xs]
        if k > 1:
            box(np.ascontiguousarray(px, np.float32), 0, 0, k, planes, 0, 0, rows, cols)
        else:
            planes[:] = px
    return planes, _whole(planes), _f32((left, top)), float(k), shifts


def _paired(plan: Linear, top: float, bottom: float) -> tuple[F32, int]:
    """Rows of a mosaic in pairs of px that cover rows of the sensor and what the kernel reads around, and the first of them in px."""
    h, w = plan.source.data.shape
    pad = math.ceil(3 * PAIRED * plan.reduction.stretch) + 1
    first = min(max(math.floor((top - pad) / PAIRED), 0), h // PAIRED - 10)
    end = max(min(math.ceil((bottom + pad) / PAIRED) + 1, h // PAIRED), first + 10)
    planes = work.get("planes", 3, end - first, w // PAIRED)
    part = plan.source.data[first * PAIRED : end * PAIRED]
    binning.bin_mosaic(part, *_mosaic(plan), PAIRED, planes, 0, end - first)
    return planes, first * PAIRED


def _shared(plan: Linear, first: tuple[bool, bool], end: tuple[int, int], region: tuple[int, int, int, int]) -> F32:
    """A demosaiced region of a full-size picture, left to smaller ones on its way; wider at the picture's sides for them."""
    left, top, cols, rows = region
    width, height = plan.geometry.size
    before = blocks.WIDER * first[0], blocks.WIDER * first[1]
    after = blocks.WIDER * (end[0] >= width), blocks.WIDER * (end[1] >= height)
    planes = work.get("planes", 3, before[1] + rows + after[1], before[0] + cols + after[0])
    _demosaic(plan, top - before[1], left - before[0], planes)
    blocks.leave_averages(plan.source, planes, top - before[1], left - before[0])
    if not any(before + after):
        return planes
    # Cut back: places are counted from the corner, and rounding goes by it.
    tight = work.get("tight", 3, rows, cols)
    tight[:] = planes[:, before[1] : before[1] + rows, before[0] : before[0] + cols]
    return tight


def _demosaic(plan: Linear, top: int, left: int, planes: F32) -> None:
    """A region of the sensor, which may reach beyond it, as linear planes."""
    demosaic.demosaic_region(plan.source.data, top, left, *_mosaic(plan), work.scratch, planes)


def _mosaic(plan: Linear) -> tuple[F32, F32, int, int]:
    """How a mosaic is read: black and gain by row and column, and where red stands."""
    return *_levels(plan.source, plan.pre), *(plan.source.facts.pattern or (0, 0))


def resample(plan: Linear, y0: int, x0: int, out: F32) -> None:
    """Fill a block of output pixels with linear planes."""
    if plan.larger is not None:
        _from_larger(plan, plan.larger, y0, x0, out)
    else:
        h, w = out.shape[1:]
        planes, window, origin, pitch, shifts = _block_planes(plan, y0, x0, y0 + h, x0 + w)
        warp(planes, window, origin, pitch, shifts, plan.geometry.grid, y0, x0, plan.kernel, out)
    if plan.outside is not None:
        fill_beyond(
            plan.geometry.grid,
            y0,
            x0,
            np.float32(plan.source.size[0]),
            np.float32(plan.source.size[1]),
            *plan.outside,
            out,
        )


AROUND = 8
"""px beyond a picture's sides that its map reaches for certain."""


def _from_larger(plan: Linear, larger: Supersampled, y0: int, x0: int, out: F32) -> None:
    """Fill a block from the same at a multiple of its size."""
    m, (w, h) = larger.times, larger.geometry.size
    top, left = m * y0 + shrink_first(m), m * x0 + shrink_first(m)
    bottom, right = top + m * (out.shape[1] + 5), left + m * (out.shape[2] + 5)
    t, b = max(top, -AROUND), min(bottom, h + AROUND)
    l, r = max(left, -AROUND), min(right, w + AROUND)  # noqa: E741
    part = work.get("larger", 3, b - t, r - l)
    resample(replace(plan, geometry=larger.geometry, larger=None, outside=None), t, l, part)
    if (t, l, b, r) != (top, left, bottom, right):
        part = np.pad(part, ((0, 0), (t - top, bottom - b), (l - left, right - r)), mode="edge")
    shrink(part, m, larger.weights, out)


def render_planes(plan: Linear) -> F32:
    """The resampled linear planes (3, h, w) of a whole plan, before any colour: for joining frames, and for tests."""
    width, height = plan.geometry.size
    planes = np.empty((3, height, width), dtype=np.float32)
    for top in range(0, height, STRIP):
        resample(plan, top, 0, planes[:, top : top + STRIP])
    return planes
