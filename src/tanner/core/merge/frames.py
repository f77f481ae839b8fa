"""Frames as merging takes them: linear camera numbers, upright, with their lens undone, on one scale."""

from collections.abc import Callable, Sequence
from dataclasses import dataclass

import cv2
import numpy as np
from numpy.typing import NDArray

from tanner.core.adjust.registry import defaults, develop
from tanner.core.errors import TannerError
from tanner.core.raw.copies import raw_copy
from tanner.core.raw.facts import FrameFacts
from tanner.core.raw.source import Source
from tanner.core.render import full_size, linear_of, render_planes

F32 = NDArray[np.float32]
Say = Callable[[float, str], None]
"""Told how far the work is, 0 to 1, and what is done; may raise to end it."""
SEEN = 1400
"""Long edge in px of the pictures in which frames are compared."""


class MergeError(TannerError):
    """Frames that cannot be merged, with the reason and what to do."""


@dataclass(frozen=True)
class FramePart:
    """One frame: linear camera numbers (H, W, 3), 1 at the sensor's white, and a grey picture (h, w) uint8 to look at."""

    pixels: F32
    seen: NDArray[np.uint8]
    facts: FrameFacts


def part_of(source: Source, most_pixels: int) -> FramePart:
    """A frame decoded, its lens corrections on; reduced where it has more than `most_pixels`."""
    if source.facts.kind == "finished":
        raise MergeError("Finished pictures are not merged: choose raw files.")
    values = defaults(raw=True, lens=source.lens is not None, applied=source.facts.applied)
    development = develop(values)
    w, h = full_size(source, development)
    share = min(1.0, (most_pixels / (w * h)) ** 0.5)
    plan = linear_of(source, development, (max(16, round(w * share)), max(16, round(h * share))))
    planes = render_planes(plan)
    pixels = np.ascontiguousarray(np.moveaxis(planes, 0, -1) / plan.pre)
    return FramePart(pixels, _seen(planes), source.facts)


def _seen(planes: F32) -> NDArray[np.uint8]:
    h, w = planes.shape[1:]
    share = min(1.0, SEEN / max(h, w))
    grey = cv2.resize(
        planes.mean(axis=0), (max(1, round(w * share)), max(1, round(h * share))), interpolation=cv2.INTER_AREA
    )
    top = max(float(np.percentile(grey, 99)), 1e-5)
    return np.clip(np.sqrt(np.clip(grey / top, 0, 1)) * 255, 0, 255).astype(np.uint8)


def one_kind(parts: Sequence[FrameFacts]) -> None:
    """Raises MergeError where frames are of different cameras."""
    if len(parts) < 2:
        raise MergeError("Choose at least two frames to merge.")
    if len({(f.make, f.model) for f in parts}) > 1:
        raise MergeError("The frames are of different cameras. Merge frames of one camera.")


def as_dng(pixels: F32, facts: FrameFacts) -> bytes:
    """A 16-bit linear DNG of camera numbers (H, W, 3), with the colour data and the taking data of a frame.

    Lens corrections are in the pixels, and marked so that they are not done again.
    """
    numbers = np.clip(np.rint(pixels * 65535), 0, 65535).astype(np.uint16)
    return raw_copy(numbers, facts, applied=("distortion", "lateral_colour", "fall_off"))
