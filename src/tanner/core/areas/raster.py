"""The mask of a whole area: by formula where it is gradients alone, else worked out on a grid over the whole frame.

A grid's mask is worked out once for what it depends on, and kept with the frame. It can be made again from the parts.
"""

import hashlib
from collections.abc import Callable, Mapping, Sequence
from dataclasses import dataclass, field
from typing import Any

import cv2
import numpy as np
from numpy.typing import NDArray

from tanner.core.areas import find, ranges
from tanner.core.areas.declare import AreaParts
from tanner.core.areas.drawing import NO_RASTER, Alike, Grid, kind_of, mask_of_part, numbers_of
from tanner.core.areas.edges import guided, matted
from tanner.core.areas.found import found_in
from tanner.core.areas.look import AreaLook, lightness, oklab
from tanner.core.areas.masks import ADD, EITHER, INTERSECT, INVERT, NUMBERS, RASTER, SUBTRACT, WHOLE, Masks
from tanner.core.areas.place import SURE, backwards
from tanner.core.areas.shapes import (
    AnyShape,
    Brush,
    Colours,
    Drawn,
    Found,
    LightnessRange,
    Other,
    Round,
    Sharp,
    Straight,
    Whole,
    searched,
)
from tanner.core.memory import Memory, Slot

F32 = NDArray[np.float32]
F64 = NDArray[np.float64]
U16 = NDArray[np.uint16]
COMBINED = {"add": ADD, "subtract": SUBTRACT, "intersect": INTERSECT, "either": EITHER}
MASKS: Slot[U16] = Slot("masks of areas", keep=12, heavy=True)
"""Worked out masks (h, w) of whole areas, by all that they depend on."""
STACKS: Slot[U16] = Slot("stacked masks", keep=1, heavy=True)
SHARP: Slot[F32] = Slot("sharpness", heavy=True)


@dataclass(frozen=True)
class Place:
    """What masks depend on besides their parts.

    Attributes:
        look: makes the look, once; grid: of masks; memory: of the frame as it was read.
        to_working: (3, 3) from the look's planes to working values with the frame's white balance and exposure.
        crop: (3, 3) from places of the frame to places of the crop.
        path: of the frame's file, for what is kept on disk.
    """

    look: Callable[[], AreaLook]
    grid: Grid
    memory: Memory
    to_working: F64
    crop: F64
    path: str = ""

    def found(self, what: str) -> NDArray[np.uint8]:
        """Subject, backdrop, people or skin of the frame, uint8 (h, w).

        Raises:
            NotFound: there is none.
        """
        return found_in(what, self.memory, self.look, self.path, self.grid.size)


@dataclass
class Trouble:
    """What could not be made of an area: said, never guessed. By the area's id."""

    said: dict[str, str] = field(default_factory=dict)


def plain(area: AreaParts) -> bool:
    """Whether a mask goes by formula, row by row."""
    if area.refine or area.grow or area.soften or len(area.found):
        return False
    return all(isinstance(s, Straight | Round | Whole) and getattr(s, "holds", "frame") != "crop" for s in area.shapes)


def lost(area: AreaParts) -> str:
    """Why an area is off on this frame, or ""."""
    if not searched(area.shapes) or not area.found:
        return ""
    sure = area.found[8]
    if sure < 0:
        return "Its subject has not been looked for in this frame yet, so the area is off here."
    if sure < SURE:
        return (
            "Its subject is not found in this frame, so the area is off here. Put it in place by hand, or look again."
        )
    return ""


def masks_of(
    areas: Sequence[tuple[str, AreaParts]], place: Place | None = None, others: Mapping[str, AreaParts] | None = None,
    trouble: Trouble | None = None,
) -> Masks:  # fmt: skip
    """The masks of areas, for the kernel.

    Args:
        areas: with their ids, in order; place: needed as soon as one of them does not go by formula.
        others: all areas of the frame by id, for parts that are another area.
        trouble: filled with what is off, and why.
    """
    first, kinds, combines, inverted, numbers = [0], [], [], [], []
    keys: list[str] = []
    rasters: list[U16] = []

    def put(kind: int, combine: int, turned: bool, values: Sequence[float]) -> None:
        kinds.append(kind)
        combines.append(combine)
        inverted.append(turned)
        numbers.append(list(values))

    for ident, area in areas:
        why = lost(area)
        if why:
            # Nothing at all: not even the other side of an inverted mask.
            if trouble is not None:
                trouble.said[ident] = why
        elif plain(area):
            for shape in area.shapes:
                assert isinstance(shape, Straight | Round | Whole)
                put(kind_of(shape), COMBINED[shape.combine], shape.inverted, numbers_of(shape, area.place))
            if area.inverted:
                put(ROUND_ANY, INVERT, False, [0.0] * NUMBERS)
            if area.density < 100:
                put(WHOLE, INTERSECT, False, [area.density / 100, *[0.0] * (NUMBERS - 1)])
        else:
            assert place is not None
            key, mask, said = _worked_out(ident, area, place, others or {})
            if said:
                if trouble is not None:
                    trouble.said[ident] = said
            else:
                put(RASTER, ADD, False, [len(rasters), *place.grid.scale, *[0.0] * (NUMBERS - 3)])
                keys.append(key)
                rasters.append(mask)
        first.append(len(kinds))
    stack = NO_RASTER
    if rasters:
        assert place is not None
        stack = place.memory.get(STACKS, tuple(keys), lambda: np.stack(rasters))
    return Masks(
        np.array(first, np.int32),
        np.array(kinds, np.int32),
        np.array(combines, np.int32),
        np.array(inverted, np.bool_),
        np.array(numbers, np.float32).reshape(-1, NUMBERS),
        stack,
    )


ROUND_ANY = 1
"""A kind that is not looked at."""


def _depends(area: AreaParts, others: Mapping[str, AreaParts], seen: frozenset[str]) -> tuple[list[Any], bool, bool]:
    """All that a mask depends on, whether it reads the light of the frame, and whether it reads its crop."""
    mask = area.model_dump(
        mode="json",
        exclude={"enabled", "kind", "name", "order", "present", "amount", "tint", "blur"},
        exclude_defaults=True,
    )
    told: list[Any] = [mask]
    light = crop = False
    for shape in area.shapes:
        light |= isinstance(shape, LightnessRange | Colours)
        crop |= isinstance(shape, Drawn) and shape.holds == "crop"
        if isinstance(shape, Other) and shape.area in others and shape.area not in seen:
            more, l, c = _depends(others[shape.area], others, seen | {shape.area})  # noqa: E741
            told.append([shape.area, more])
            light, crop = light or l, crop or c
    return told, light, crop


def _worked_out(ident: str, area: AreaParts, place: Place, others: Mapping[str, AreaParts]) -> tuple[str, U16, str]:
    """Key, mask (h, w) and trouble of an area."""
    told, light, crop = _depends(area, others, frozenset({ident}))
    if light:
        told.append(np.round(place.to_working, 5).tolist())
    if crop:
        told.append(np.round(place.crop, 6).tolist())
    key = hashlib.sha1(repr(told).encode()).hexdigest()
    try:
        return key, place.memory.get(MASKS, key, lambda: _coded(_whole(ident, area, place, others, frozenset()))), ""
    except find.NotFound as error:
        return key, NO_RASTER[0], str(error)


def _coded(mask: F32) -> U16:
    return np.asarray(np.rint(np.clip(mask, 0, 1) * 65535), np.uint16)


def mask_on_grid(ident: str, area: AreaParts, place: Place, others: Mapping[str, AreaParts]) -> F32:
    """An area's mask over the whole frame, (h, w) from 0 to 1, however it is made.

    Raises:
        NotFound: a part of it is not in the frame.
    """
    why = lost(area)
    if why:
        raise find.NotFound(why)
    return np.asarray(_whole(ident, area, place, others, frozenset()), np.float32)


def _whole(ident: str, area: AreaParts, place: Place, others: Mapping[str, AreaParts], seen: frozenset[str]) -> F32:
    mask = np.zeros(place.grid.size[::-1], np.float32)
    for shape in area.shapes:
        part = _part(shape, area, place, others, seen | {ident})
        if shape.inverted:
            part = 1 - part
        if shape.combine == "add":
            mask = mask + part - mask * part
        elif shape.combine == "subtract":
            mask = mask * (1 - part)
        elif shape.combine == "either":
            mask = mask + part - 2 * mask * part
        else:
            mask = mask * part
    return _finished(np.asarray(mask, np.float32), area, place)


def _part(shape: AnyShape, area: AreaParts, place: Place, others: Mapping[str, AreaParts], seen: frozenset[str]) -> F32:
    grid = place.grid
    if isinstance(shape, Whole):
        return np.ones(grid.size[::-1], np.float32)
    if isinstance(shape, Drawn):
        # By hand it is moved whatever it holds to; what was found again moves only what holds to the subject.
        back = backwards(area.place, area.found if shape.holds == "subject" else [])
        if shape.holds == "crop":
            back = back @ place.crop
        alike = None
        if isinstance(shape, Brush) and any(s.alike for s in shape.strokes):
            alike = Alike(oklab(place.look().working(_even(place.look()))))
        return mask_of_part(shape, back, grid, alike)
    if isinstance(shape, Other):
        there = others.get(shape.area)
        if there is None or shape.area in seen or not there.kind or not there.present or lost(there):
            return np.zeros(grid.size[::-1], np.float32)
        return _whole(shape.area, there, place, others, seen)
    if isinstance(shape, Found):
        return np.asarray(place.found(shape.kind), np.float32) / np.float32(255)
    if isinstance(shape, Sharp):
        look = place.look()
        return ranges.of_sharpness(
            shape, place.memory.get(SHARP, None, lambda: ranges.sharpness(look.working(look.plain)))
        )
    # Single px are noise: ranges read the frame a little softened.
    linear = cv2.GaussianBlur(place.look().working(place.to_working), (0, 0), 1.0)
    if isinstance(shape, LightnessRange):
        return ranges.of_lightness(shape, lightness(linear))
    return ranges.of_colour(shape, oklab(linear))


def _even(look: AreaLook) -> F64:
    """To working values in which a frame's lightest hundredth is white, so that likeness means the same in dark frames."""
    top = float(np.quantile(look.planes[1, ::8, ::8], 0.99))
    return look.plain / max(top, 1e-4)


def _finished(mask: F32, area: AreaParts, place: Place) -> F32:
    """What is done to the whole: along edges, grown, softened, inverted, thinned, in this order."""
    long = max(place.grid.size)
    if area.refine:
        mask = _along_edges(mask, area.refine / 100, place)
    if area.grow:
        radius = abs(area.grow) / 1000 * long
        mask = _grown(mask, radius, area.grow > 0)
    if area.soften:
        mask = cv2.GaussianBlur(mask, (0, 0), area.soften / 1000 * long / 2, borderType=cv2.BORDER_REPLICATE)
    if area.inverted:
        mask = 1 - mask
    return np.asarray(mask * np.float32(area.density / 100), np.float32)


def _grown(mask: F32, radius: float, more: bool) -> F32:
    """Grown or shrunk by a radius in px, parts of px too: soft edges keep their softness."""
    whole = int(radius)
    change = cv2.dilate if more else cv2.erode
    found = mask
    for r in (whole,) if whole else ():
        found = change(found, cv2.getStructuringElement(cv2.MORPH_ELLIPSE, (2 * r + 1, 2 * r + 1)))
    rest = radius - whole
    if rest > 0.02:
        further = change(found, cv2.getStructuringElement(cv2.MORPH_ELLIPSE, (3, 3)))
        found = found + np.float32(rest) * (further - found)
    return np.asarray(found, np.float32)


def _along_edges(mask: F32, amount: float, place: Place) -> F32:
    """The mask fitted to the picture: the band around its edge solved by matting, blended in by the amount."""
    long = max(place.grid.size)
    picture = place.look().floating(long)
    reach = max(2, round(long * 0.006 * (0.3 + 0.7 * amount)))
    edge = ((mask > 0.02) & (mask < 0.98)).mean()
    if edge > 0.25:
        # Soft almost everywhere: there is no edge to solve.
        return np.asarray(mask + amount * (guided(picture, mask, reach, 1e-4) - mask), np.float32)
    return np.asarray(mask + np.float32(amount) * (matted(picture, mask, reach, reach) - mask), np.float32)
