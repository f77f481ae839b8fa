"""From linear planes to encoded pixels, two ways: strip by strip for files, and a view that is kept while light is changed.

`render_strips` goes through a file and never holds a whole float picture; `render` does the same for a view, and keeps what the
resampling gave so that a change of light or colour starts from there. A picture of a given size is the same both ways: how
much is averaged before the resampling depends on the scale only.
"""

import math
from collections.abc import Callable, Hashable, Iterator
from concurrent.futures import Executor, Future
from typing import Any

import numpy as np
from numpy.typing import NDArray

from tanner.core.adjust.registry import Development
from tanner.core.areas.fields import sharpen_more
from tanner.core.memory import Slot
from tanner.core.noise.sharpen import Sharpening
from tanner.core.optics.geometry import STEP
from tanner.core.raw import demosaic
from tanner.core.raw.source import Source
from tanner.core.render.encode import encode8, encode16
from tanner.core.render.linear import STRIP, binned, resample, work
from tanner.core.render.plan import Plan, make_plan
from tanner.core.render.renewed import Block, view_before
from tanner.core.sharing import with_threads
from tanner.core.spots.apply import key_of
from tanner.core.stages.grain import lay_grain
from tanner.core.stages.path import any_again, develop_block, develop_block_again, develop_block_with_areas
from tanner.core.stages.sharpening import sharpen_block

F32 = NDArray[np.float32]
PLANES: Slot[F32] = Slot("view planes", keep=3, heavy=True)
"""Resampled planes of a view, by its geometry, what noise is left to be done, and its size."""
NOTHING_MORE: F32 = np.zeros((0, 0), np.float32)
KEPT_MARGIN = 16
"""px around a view that are kept with it, for what looks around."""


class Cancelled(Exception):
    """Raised inside a render whose caller no longer wants it."""


def finish(plan: Plan, planes: F32, y0: int, x0: int, out: NDArray[Any]) -> None:
    """Develop, sharpen and encode a block whose planes carry `plan.margin` px on every side."""
    m = plan.margin
    place = planes, y0 - m, x0 - m, *plan.size, plan.parameters
    if plan.areas is None:
        develop_block(*place)
    elif any_again(plan.areas.again):
        develop_block_again(*place, plan.areas)
    else:
        develop_block_with_areas(*place, plan.areas)
    inset = 0
    for number, each in enumerate(plan.sharpen):
        inset += each.radius
        more = NOTHING_MORE
        if number == 0 and plan.sharpen_areas and plan.areas is not None:
            more = work.get("more", *planes.shape[1:])
            sharpen_more(plan.areas, y0 - m, x0 - m, each.fade, more)
        _sharpen(plan, each, planes, inset, y0 - m, x0 - m, more)
    if plan.show_sharpening and not plan.sharpen:
        planes[:] = 0
    if plan.grain is not None:
        lay_grain(planes, m, y0, x0, *plan.grain)
    encode = encode8 if out.dtype == np.uint8 else encode16
    encode(planes, m, plan.encoder, out)


def _sharpen(plan: Plan, each: Sharpening, planes: F32, inset: int, y0: int, x0: int, more: F32) -> None:
    h, w = planes.shape[1:]
    ax, ay, sx, sy = plan.across
    place = np.array([ax + x0 * sx, ay + y0 * sy, sx, sy], dtype=np.float32)
    strength = np.array([each.amount, each.corners], dtype=np.float32)
    sharpen_block(
        planes, inset, strength, place, np.float32(each.threshold), np.float32(each.edge_threshold), each.half,
        work.get("lum", h, w), work.get("blur", h, w), plan.show_sharpening, more,
    )  # fmt: skip


def _strip(plan: Plan, y0: int, y1: int, x0: int, x1: int, stop: Callable[[], bool] | None = None) -> NDArray[Any]:
    """Encoded pixels of a region, column by column of blocks, straight from the source."""
    out = np.empty((y1 - y0, x1 - x0, 3), dtype=plan.encoder.dtype)
    m = plan.margin
    # As wide as one pass of the demosaicing reaches, so that no narrow rest is left over.
    scale = plan.linear.reduction.blocks * plan.linear.reduction.stretch
    reach = demosaic.BLOCK_W - 2 * math.ceil(3 * scale) - 24
    step = max(64, int(reach / scale) - 2 * m - 16)
    # Whole cells of the map, which the resampling takes as runs.
    step = math.ceil((x1 - x0) / math.ceil((x1 - x0) / step) / STEP) * STEP
    for left in range(x0, x1, step):
        if stop and stop():
            raise Cancelled
        right = min(x1, left + step)
        planes = work.get("out", 3, y1 - y0 + 2 * m, right - left + 2 * m)
        resample(plan.linear, y0 - m, left - m, planes)
        block = np.empty((y1 - y0, right - left, 3), dtype=out.dtype)
        finish(plan, planes, y0, left, block)
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
    width, height = plan.size
    if plan.linear.reduction.tiles:
        binned(plan.linear)  # once, before threads ask for it at the same time

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
    with with_threads(pool):
        plan = make_plan(source, development, output, space, bits, draft, show_sharpening=show_sharpening, fine=fine)
    if keep and region is None:
        return _from_kept(plan, development, pool)
    x0, y0, x1, y1 = region or (0, 0, *output)
    if plan.linear.reduction.tiles:
        binned(plan.linear)
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
    width, height = plan.size
    m, e = KEPT_MARGIN, plan.margin
    run = map if pool is None else pool.map
    bands = [(y, min(height, y + 64)) for y in range(0, height, 64)]

    small = plan.linear.small_noise, tuple((a.noise, a.key) for a in plan.linear.small_areas)

    def key(spots: tuple[str, ...]) -> Hashable:
        return (*development.affecting("geometry"), *spots), small, (width, height)

    def make() -> F32:
        if plan.linear.reduction.tiles:
            binned(plan.linear)
        kept = view_before(plan.linear, PLANES, key, m)
        if kept is not None:
            return _renewed(plan, *kept, m, run)
        view = np.empty((3, height + 2 * m, width + 2 * m), dtype=np.float32)

        def fill(band: tuple[int, int]) -> None:
            top = -m if band[0] == 0 else band[0]
            bottom = height + m if band[1] == height else band[1]
            block = work.get("fill", 3, bottom - top, width + 2 * m)
            resample(plan.linear, top, -m, block)
            view[:, top + m : bottom + m] = block

        list(run(fill, bands))
        return view

    view = plan.linear.source.memory.get(PLANES, key(key_of(development)), make)
    out = np.empty((height, width, 3), dtype=plan.encoder.dtype)

    def finished(band: tuple[int, int]) -> None:
        y0, y1 = band
        planes = work.get("out", 3, y1 - y0 + 2 * e, width + 2 * e)
        planes[:] = view[:, y0 + m - e : y1 + m + e, m - e : width + m + e]
        finish(plan, planes, y0, 0, out[y0:y1])

    list(run(finished, bands))
    return out


def _renewed(plan: Plan, before: F32, blocks: list[Block], margin: int, run: Callable[..., Iterator[Any]]) -> F32:
    """A view's planes from those with other spots, with some blocks made anew."""
    view = before.copy()

    def fill(block: Block) -> None:
        top, left, bottom, right = block
        part = work.get("fill", 3, bottom - top, right - left)
        resample(plan.linear, top, left, part)
        view[:, top + margin : bottom + margin, left + margin : right + margin] = part

    list(run(fill, blocks))
    return view
