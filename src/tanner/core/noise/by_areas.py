"""Noise taken out more or less in areas: on the sensor's numbers, before everything else, as the whole frame's is.

One method serves a frame: what areas change is how much of its work is done, and how much false colour is taken out. So each
area costs a mix of two frames that are there, and a mask.
"""

from collections.abc import Callable, Hashable, Sequence
from dataclasses import dataclass
from typing import Any

import cv2
import numpy as np
from numpy.typing import NDArray

from tanner.core.areas.place import to_places
from tanner.core.memory import Slot
from tanner.core.noise import stage
from tanner.core.noise.controls import Noise
from tanner.core.raw.source import Source

F32 = NDArray[np.float32]
STRIP = 256
BY_AREAS: Slot[Source] = Slot("denoised by areas", keep=1, heavy=True)


@dataclass(frozen=True)
class NoiseArea:
    """What is asked for against noise in one area.

    Attributes:
        noise: the controls as they are there; key: what its mask depends on.
        mask: gives it, (h, w) from 0 to 1 over the upright frame; None where the area is off on this frame.
    """

    noise: Noise
    key: Hashable
    mask: Callable[[], F32 | None]


def method_of(noise: Noise, areas: Sequence[NoiseArea]) -> Noise:
    """The frame's controls with a method: quick, where only areas ask for one."""
    if noise.method == "none" and any(a.noise.luminance > 0 or a.noise.colour > 0 for a in areas):
        return noise.model_copy(update={"method": "quick", "luminance": 0.0, "colour": 0.0})
    return noise


def mask_to(mask: F32, source: Source, side: int, rows: tuple[int, int], width: int) -> F32:
    """Rows of a mask of the upright frame on blocks of px of the sensor, (rows, width).

    Args:
        side: of a block in px; rows: the first, and the one after the last; width: blocks in a row.
    """
    h, w = mask.shape
    to = to_places(source.size, source.facts.orientation).astype(np.float64)
    long = max(h, w)
    grid = np.column_stack([to[:, :2] * long, to[:, 2] * long + ((w - 1) / 2, (h - 1) / 2)])
    # From the middle of a block to px of the sensor, from there to px of the mask.
    middle = grid[:, :2] @ np.array([side / 2, side * rows[0] + side / 2]) + grid[:, 2]
    way = np.column_stack([grid[:, :2] * side, middle])
    flags = cv2.INTER_LINEAR | cv2.WARP_INVERSE_MAP
    return np.asarray(
        cv2.warpAffine(mask, way, (width, rows[1] - rows[0]), flags=flags, borderMode=cv2.BORDER_REPLICATE), np.float32
    )


def denoised_by_areas(
    source: Source, noise: Noise, areas: Sequence[NoiseArea], *, draft: bool = False, threads: int = 1
) -> Source:
    """The source with its noise taken out as `noise` asks, and in areas as they do. See `stage.denoised_source`."""
    strongest = noise.model_copy(update={"luminance": 100.0, "colour": 100.0})
    cleans = any(n.luminance > 0 or n.colour > 0 for n in (noise, *(a.noise for a in areas)))
    method = stage.method_for(source, strongest) if cleans else "none"
    if draft and method != "none" and stage.waits(source, strongest):
        method = "quick"

    def make() -> Source:
        base = stage.quieted(source, noise, method, threads)
        data = np.array(base.data, copy=True)
        for area in areas:
            mask = area.mask()
            if mask is None:
                continue
            other = stage.quieted(source, area.noise.model_copy(update={"method": noise.method}), method, threads)
            if other.data.shape == data.shape:
                _lay(data, base, other, mask)
        result = Source(base.facts, data, profiles=base.profiles, gain_maps=base.gain_maps, denoised=base.denoised)
        result.memory.take_shared(source.memory)
        return result

    return source.memory.get(BY_AREAS, (noise, method, tuple((a.noise, a.key) for a in areas)), make)


def _lay(data: NDArray[Any], base: Source, other: Source, mask: F32) -> None:
    h, w = data.shape[-2:]
    for top in range(0, h, STRIP):
        rows = top, min(h, top + STRIP)
        m = mask_to(mask, base, 1, rows, w)
        if not m.any():
            continue
        part = slice(*rows)
        start = base.data[..., part, :].astype(np.float32)
        changed = data[..., part, :] + m * (other.data[..., part, :].astype(np.float32) - start)
        if data.dtype.kind == "u":
            changed = np.clip(np.rint(changed), 0, np.iinfo(data.dtype).max)
        data[..., part, :] = changed.astype(data.dtype)
