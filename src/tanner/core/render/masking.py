"""The mask of an area as a picture of its own: for the screen, for files, and for what is measured inside of it."""

from collections.abc import Mapping
from dataclasses import replace

import numpy as np
from numpy.typing import NDArray

from tanner.core.adjust.registry import Development, Thing
from tanner.core.areas.declare import AREAS, AreaParts
from tanner.core.areas.find import NotFound
from tanner.core.areas.look import lightness, oklab
from tanner.core.areas.masks import Masks, mask_row, places_row
from tanner.core.areas.place import to_places
from tanner.core.areas.plan import all_of, place_of, size_of
from tanner.core.areas.raster import Trouble, mask_on_grid, masks_of
from tanner.core.areas.shapes import Found
from tanner.core.errors import SettingsError
from tanner.core.jit import kernel
from tanner.core.raw.source import Source
from tanner.core.render.linear import make_linear
from tanner.core.render.plan import frame_of
from tanner.core.stages.stage import StageFrame

F32 = NDArray[np.float32]
KINDS = ("subject", "backdrop", "people", "skin")


@kernel
def _fill(masks: Masks, grid: F32, to: F32, y0: int, x0: int, out: F32) -> None:
    h, w = out.shape
    wide = max(w, 32)
    nodes, uv, part = np.empty((2, wide), np.float32), np.empty((2, wide), np.float32), np.empty(wide, np.float32)
    for i in range(h):
        places_row(grid, to, y0 + i, x0, nodes, uv, w)
        mask_row(masks, 0, uv[0], uv[1], out[i], part, w)


def mask_of(
    source: Source,
    development: Development,
    area: str | AreaParts,
    output: tuple[int, int],
    region: tuple[int, int, int, int] | None = None,
) -> F32:
    """An area's mask as it lies on the finished picture, (h, w) from 0 to 1.

    Args:
        area: the id of one of the development's, or what one is; output: width and height of the whole picture in px.
        region: left, top, right, bottom of the part that is wanted.

    Raises:
        NotFound: it is off on this frame, with why. SettingsError: there is no such area.
    """
    frame = masking_frame(source, development, output)
    things = {t.id: t for t in development.lists.get(AREAS.key, ())}
    if isinstance(area, str):
        if area not in things:
            raise SettingsError("There is no such area on this frame.")
        ident, parts = area, things[area].parts
    else:
        ident, parts = "00000000", area
    trouble = Trouble()
    masks = masks_of([(ident, parts)], place_of(frame), all_of(tuple(things.values())), trouble)  # type: ignore[list-item]
    if trouble.said:
        raise NotFound(trouble.said[ident])
    x0, y0, x1, y1 = region or (0, 0, *output)
    out = np.zeros((y1 - y0, x1 - x0), np.float32)
    _fill(masks, frame.geometry.grid, to_places(size_of(frame), source.facts.orientation), y0, x0, out)
    return out


def whole_mask(frame: StageFrame, development: Development, ident: str) -> F32:
    """An area's mask over the whole sensor, upright, (h, w) on the grid of masks.

    Raises:
        NotFound: it is not in the frame.
    """
    things = {t.id: t.parts for t in development.lists.get(AREAS.key, ())}
    return mask_on_grid(ident, things[ident], place_of(frame), things)  # type: ignore[arg-type]


def mask_or_none(source: Source, development: Development, ident: str) -> F32 | None:
    """The same of a frame; None where the area is off on it."""
    try:
        return whole_mask(masking_frame(source, development, (64, 64)), development, ident)
    except NotFound:
        return None


def masking_frame(source: Source, development: Development, output: tuple[int, int]) -> StageFrame:
    """What masks ask of a frame at an output size, without its noise and its spots being worked on: no mask reads those."""
    from tanner.core.noise.controls import Noise
    from tanner.core.noise.sharpen import Detail

    groups = {k: type(g)() if isinstance(g, Noise | Detail) else g for k, g in development.groups.items()}
    # Without what they change: masks ask for none of it, and noise in areas asks for masks.
    things = tuple(replace(t, values={}) for t in development.lists.get(AREAS.key, ()))
    bare = Development(groups, {AREAS.key: things})
    return frame_of(make_linear(source, bare, output), bare, "srgb", True)


def found_area(what: str) -> AreaParts:
    """An area of what is found by what it is: one of `KINDS`."""
    return AreaParts(kind="area", name=what.capitalize(), shapes=[Found(kind=what)])  # type: ignore[arg-type]


def named(development: Development, name: str) -> Thing:
    """The area of a name, or of an id.

    Raises:
        SettingsError: there is none, with those that there are.
    """
    things: Mapping[str, Thing] = {t.id: t for t in development.lists.get(AREAS.key, ())}
    if name in things:
        return things[name]
    same = [t for t in things.values() if t.parts.name.casefold() == name.casefold()]
    if not same:
        there = ", ".join(t.parts.name or t.id for t in things.values())
        raise SettingsError(
            f"There is no area called {name}. " + (f"There are: {there}." if there else "The settings have none.")
        )
    return same[0]


def sampled(
    source: Source, development: Development, at: tuple[float, float]
) -> tuple[float, tuple[float, float, float]]:
    """CIE L* and Oklab of a place as ranges see it; at: in shares of the long edge from the middle."""
    place = place_of(masking_frame(source, development, (64, 64)))
    w, h = place.grid.size
    x, y = place.grid.px(np.array(at))
    reach = max(2, max(w, h) // 400)
    look = place.look()
    part = look.planes[:, max(0, int(y) - reach) : int(y) + reach + 1, max(0, int(x) - reach) : int(x) + reach + 1]
    if not part.size:
        raise SettingsError("This place lies outside of the frame.")
    linear = (place.to_working @ part.reshape(3, -1).mean(axis=1)).astype(np.float32)
    lab = oklab(linear)
    return round(float(lightness(linear)), 2), (
        round(float(lab[0]), 4),
        round(float(lab[1]), 4),
        round(float(lab[2]), 4),
    )


@kernel
def _fill_places(grid: F32, to: F32, y0: int, x0: int, out: F32) -> None:
    h, w = out.shape[1], out.shape[2]
    wide = max(w, 32)
    nodes, uv = np.empty((2, wide), np.float32), np.empty((2, wide), np.float32)
    for i in range(h):
        places_row(grid, to, y0 + i, x0, nodes, uv, w)
        for j in range(w):
            out[0, i, j] = uv[0, j]
        for j in range(w):
            out[1, i, j] = uv[1, j]


def place_maps(
    source: Source, development: Development, output: tuple[int, int], region: tuple[int, int, int, int]
) -> F32:
    """Where px of a region of a finished picture lie on the frame, (2, h, w), in shares of its long edge from its middle."""
    frame = masking_frame(source, development, output)
    x0, y0, x1, y1 = region
    out = np.empty((2, y1 - y0, x1 - x0), np.float32)
    _fill_places(frame.geometry.grid, to_places(size_of(frame), source.facts.orientation), y0, x0, out)
    return out
