"""The base layer that highlights, shadows and local contrast go by: small, whatever the output's size."""

import math
from collections.abc import Mapping
from dataclasses import replace

import cv2
import numpy as np
from numpy.typing import NDArray

from tanner.core.adjust.registry import Development
from tanner.core.areas.declare import AreaParts
from tanner.core.areas.drawing import Grid
from tanner.core.areas.find import NotFound
from tanner.core.areas.look import EDGE, AreaLook
from tanner.core.colour.spaces import luminance_weights
from tanner.core.memory import Slot
from tanner.core.optics.resample import averaged
from tanner.core.optics.view import upright
from tanner.core.raw.source import Source
from tanner.core.render.linear import PAIRED, Linear, binned, binned_planes, kernel_for, pre_gains, resample
from tanner.core.render.outside import linear_of
from tanner.core.render.reduction import TILES, by_pairs
from tanner.core.render.views import full_size, geometry_groups, geometry_only
from tanner.core.render.white import as_shot_white
from tanner.core.sharing import bands, each
from tanner.core.tone import base, haze
from tanner.core.tone.base import BAND

F32 = NDArray[np.float32]
GUIDE_EDGE = 480
"""Long edge of the base layer, whatever the output: a radius means the same at every size."""
GUIDES: Slot[F32] = Slot("guides", keep=2, heavy=True)
"""Coefficients of the base layer (2, h, w), by the groups that affect geometry."""


LAYERS = {"structure": (960, 1 / 160, 0.0018), "texture": (1920, 1 / 480, 0.0018)}
"""Long edge, radius in shares of it, and variance of an edge of the finer layers (see `tone.base`)."""
FINER: Slot[F32] = Slot("finer guides", keep=3, heavy=True)
LOOKS: Slot[AreaLook] = Slot("looks", keep=1, heavy=True)
"""What masks are read from, by nothing: the same for every development. It and the masks are kept with the frame as it was read."""
SMALLEST: Slot[tuple[F32, F32, F32]] = Slot("smallest", keep=1, heavy=True)
HAZES: Slot[tuple[F32, F32]] = Slot("hazes", keep=1, heavy=True)


def _small_planes(source: Source, development: Development, edge: int, draft: bool) -> tuple[F32, Linear]:
    """The frame's balanced planes (3, h, w), no longer than `edge`, and what they were read from."""
    w, h = full_size(source, development)
    share = min(1.0, edge / max(w, h))
    size = max(4, round(w * share)), max(4, round(h * share))
    linear = linear_of(source, geometry_only(development), size, draft=draft)
    scale = linear.geometry.scale
    if source.facts.kind == "bayer" and 2 <= scale < TILES and not linear.reduction.tiles:
        how = by_pairs(scale)
        linear = replace(linear, reduction=how, kernel=kernel_for(how))
    planes = np.empty((3, size[1], size[0]), dtype=np.float32)
    if linear.reduction.tiles and linear.reduction.blocks != PAIRED:
        binned(linear)  # once, before threads ask for it at the same time

    def band(rows: tuple[int, int]) -> None:
        part = np.empty((3, rows[1] - rows[0], size[0]), dtype=np.float32)
        resample(linear, rows[0], 0, part)
        planes[:, rows[0] : rows[1]] = part

    each(band, bands(size[1], BAND))
    return planes, linear


def _smallest(source: Source, development: Development, draft: bool) -> tuple[F32, F32, F32]:
    """What the base layer and haze are both read from."""
    key = geometry_groups(development)
    return source.memory.get(SMALLEST, key, lambda: _small(source, development, GUIDE_EDGE, draft))


def _small(source: Source, development: Development, edge: int, draft: bool) -> tuple[F32, F32, F32]:
    """The frame at a small size: its balanced planes (3, h, w), its luminance, and the gains of the file's own white.

    By the file's own profile, as shot: light is chosen on it, so it must not move with the light.
    """
    planes, linear = _small_planes(source, development, edge, draft)
    camera, white = source.colour_by("")[0], as_shot_white(source)
    numbers = camera.white_numbers(white)
    gains = np.asarray(1 / (pre_gains(linear.source) * numbers), dtype=np.float32)
    to_luminance = luminance_weights() @ (camera.to_working(white) @ np.diag(numbers) @ np.diag(gains))
    weights = to_luminance.astype(np.float32)
    return planes, weights[0] * planes[0] + weights[1] * planes[1] + weights[2] * planes[2], gains


def base_layer(source: Source, development: Development, draft: bool) -> F32:
    """Coefficients of the base layer for this geometry, before white balance and exposure are chosen."""

    def make() -> F32:
        return base.coefficients(_smallest(source, development, draft)[1])

    return source.memory.get(GUIDES, geometry_groups(development), make)


def finer_layer(source: Source, development: Development, draft: bool, name: str) -> F32:
    """Coefficients of one of the finer layers, see `LAYERS`."""
    edge, share, variance = LAYERS[name]

    def make() -> F32:
        return base.coefficients(_small(source, development, edge, draft)[1], share, variance)

    return source.memory.get(FINER, (name, geometry_groups(development)), make)


def haze_of(source: Source, development: Development, draft: bool) -> tuple[F32, F32]:
    """Coefficients of how much light comes through the haze, and the light of the haze itself in plane values, (3,)."""

    def make() -> tuple[F32, F32]:
        planes, luminance, gains = _smallest(source, development, draft)
        air, through = haze.estimate(planes * gains[:, None, None], luminance)
        return through, np.asarray(air / gains, dtype=np.float32)

    return source.memory.get(HAZES, geometry_groups(development), make)


def look_of(source: Source) -> AreaLook:
    """What the masks of a frame are read from: the whole sensor, upright, whatever the development."""

    def make() -> AreaLook:
        camera, white = source.colour_by("")[0], as_shot_white(source)
        pre = pre_gains(source)
        numbers = camera.white_numbers(white)
        plain = camera.to_working(white) @ np.diag(numbers) @ np.diag(1 / (pre * numbers))
        facts = source.facts
        grid = Grid.of(upright((facts.width, facts.height), facts.orientation), EDGE)
        bayer = facts.kind == "bayer"
        small = binned_planes(source, np.asarray(pre, np.float32), 2) if bayer else source.data
        # On its side where the camera was: turned when it is small.
        size = grid.size if facts.orientation < 5 else grid.size[::-1]
        if size[0] <= small.shape[2] and size[1] <= small.shape[1]:
            small = averaged(small, size)
        else:
            small = np.stack([cv2.resize(p, size, interpolation=cv2.INTER_AREA) for p in small])
        planes = [_turned(p, facts.orientation) for p in small]
        return AreaLook(np.ascontiguousarray(planes, np.float32), np.asarray(plain, np.float64), grid)

    return source.memory.get(LOOKS, None, make)


def _turned(plane: F32, orientation: int) -> F32:
    """A plane as it stands upright; orientation: EXIF 1 to 8."""
    if orientation >= 5:
        plane = plane.T
    if orientation in (2, 3, 6, 7):
        plane = plane[:, ::-1]
    if orientation in (3, 4, 7, 8):
        plane = plane[::-1]
    return plane


def blurred(
    of: Linear, development: Development, draft: bool, ident: str, parts: AreaParts, others: Mapping[str, AreaParts]
) -> F32:
    """The picture (3, h, w) as plane values, blurred from what lies in an area alone, small: a disc has a few px.

    All blurred pictures of one development have one size, so that they can lie on one another.
    """
    # The plan is made of this module.
    from tanner.core.render.masking import mask_of

    parts_key = [p.model_dump_json(exclude={"name", "tint", "order"}) for p in (parts, *others.values())]

    def make() -> F32:
        planes, _ = _small_planes(of.source, development, BLUR_EDGE, draft)
        size = planes.shape[2], planes.shape[1]
        try:
            mask = mask_of(of.original, development, ident, size)
        except NotFound:  # it is off on this frame: nothing reads this
            return planes
        radius = max(0.6, parts.blur * parts.amount / 1e4 * BLUR_MOST * max(size))
        whole = math.ceil(radius)
        far = np.hypot(*np.mgrid[-whole : whole + 1, -whole : whole + 1])
        disc = np.clip(radius + 0.5 - far, 0, 1).astype(np.float32)
        disc /= disc.sum()
        # A little everywhere, so that there is something to read where nothing of the area is near.
        weight = mask + np.float32(1e-4)
        under = cv2.filter2D(weight, -1, disc, borderType=cv2.BORDER_REFLECT)
        soft = [cv2.filter2D(p * weight, -1, disc, borderType=cv2.BORDER_REFLECT) / under for p in planes]
        return np.ascontiguousarray(soft, np.float32)

    return of.source.memory.get(BLURRED, (geometry_groups(development), ident, tuple(parts_key)), make)


BLUR_EDGE, BLUR_MOST = 1200, 0.02
"""Long edge that blurring is done at, and the radius of the disc at 100 % in shares of it."""
BLURRED: Slot[F32] = Slot("blurred", keep=4, heavy=True)
