"""Noise as a stage of development: from a decoded source to the quiet one that everything else starts from."""

from typing import Any

import numpy as np
from numpy.typing import NDArray

from tanner.core.memory import Slot
from tanner.core.noise.controls import Noise
from tanner.core.noise.faults import without_hot_pixels, without_moire
from tanner.core.noise.kept import KEPT
from tanner.core.noise.learned import mark
from tanner.core.noise.methods import (
    Strength,
    as_colour,
    as_source,
    between,
    blended,
    cleaned_mosaic,
    learned_planes,
)
from tanner.core.noise.planes import cleaned_planes
from tanner.core.noise.strips import Say
from tanner.core.raw.source import Source

FILLED: Slot[Source] = Slot("without hot pixels", keep=2, heavy=True)
CLEANED: Slot[Source] = Slot("cleaned", keep=2, heavy=True)
"""By a method at full strength, by what it is kept as."""
QUIET: Slot[Source] = Slot("denoised", keep=2, heavy=True)
"""With all that the controls ask for, by them and the method."""


def done_before(source: Source) -> bool:
    """Does the file say that its noise is taken out already?"""
    return "noise" in source.facts.applied


def method_for(source: Source, noise: Noise) -> str:
    """The method that serves a frame: "none" for one that is quiet already, and nothing learned without a Bayer mosaic."""
    if not noise.cleans or done_before(source):
        return "none"
    if noise.method == "learned" and source.facts.kind != "bayer":
        return "fine"
    return noise.method


def notes(source: Source, noise: Noise) -> list[str]:
    """What is to be said about a frame's noise."""
    if noise.cleans and done_before(source):
        return ["This file's noise is taken out already, so the method does nothing here."]
    if noise.cleans and method_for(source, noise) != noise.method:
        return ["The learned method knows Bayer mosaics only; fine is used for this frame."]
    return []


def waits(source: Source, noise: Noise) -> bool:
    """Would the frame have to be worked on for seconds before it can be shown as it will be?"""
    method = method_for(source, noise)
    return (
        method in ("fine", "learned")
        and source.memory.find(CLEANED, _what(method, noise)) is None
        and not KEPT.has(source.facts.path, _what(method, noise))
    )


def _what(method: str, noise: Noise) -> str:
    """What a result is kept as."""
    name = f"learned-{mark()}" if method == "learned" else method
    return f"{name}-filled" if noise.hot_pixels else name


def held_bytes(source: Source) -> int:
    """Memory of a source's pixels and of the quiet ones that are remembered with it, each array once."""
    held = [source, *source.memory.all(FILLED, CLEANED, QUIET)]
    return sum({id(s.data): s.data.nbytes for s in held}.values())


def filled(source: Source, noise: Noise) -> Source:
    """The source without its hot pixels, where that is wanted."""
    if not noise.hot_pixels or source.facts.kind != "bayer":
        return source
    return source.memory.get(FILLED, None, lambda: without_hot_pixels(source)[0])


def cleaned_by(source: Source, noise: Noise, method: str, say: Say | None = None, threads: int = 1) -> Source:
    """The frame by a method at full strength: from memory, from disk, or worked out and kept."""
    what = _what(method, noise)

    def make() -> Source:
        path = source.facts.path
        found = KEPT.find(path, what) if method != "quick" else None
        if found is not None:
            return _as_quiet(source, found)
        start = filled(source, noise)
        data: NDArray[Any]
        if source.facts.kind != "bayer":
            data = cleaned_planes(start, method, Strength(), say, threads).data
        elif method == "learned":
            data = learned_planes(start, say, threads)
        else:
            data = cleaned_mosaic(start, method, say, threads)
        if method != "quick":
            KEPT.keep(path, what, packed(data) if data.ndim == 3 else data)
        return _as_quiet(source, data)

    return source.memory.get(CLEANED, what, make)


def _as_quiet(source: Source, data: NDArray[Any]) -> Source:
    if data.ndim == 2:
        return as_source(source, data)
    planes = data if data.dtype == np.float32 else unpacked(data)
    if source.facts.kind == "bayer":
        return as_colour(source, planes)
    return Source(source.facts, planes, profiles=source.profiles, gain_maps=source.gain_maps)


LOW, HIGH = np.float32(-0.01), np.float32(1.5)
"""Linear values that are kept on disk, as roots in 16 bits: finer than the noise of any sensor."""


def packed(planes: NDArray[Any]) -> NDArray[np.uint16]:
    result = np.empty(planes.shape, np.uint16)
    for n, plane in enumerate(planes):
        roots = np.sqrt((np.clip(plane, LOW, HIGH) - LOW) / (HIGH - LOW))
        result[n] = np.rint(roots * np.float32(65535))
    return result


def unpacked(numbers: NDArray[np.uint16]) -> NDArray[np.float32]:
    result = numbers.astype(np.float32)
    result *= np.float32(1 / 65535)
    result *= result
    result *= HIGH - LOW
    result += LOW
    return result


def denoised_source(source: Source, noise: Noise, *, draft: bool = False, threads: int = 1) -> Source:
    """The source with all that `noise` asks for done to it.

    Args:
        draft: quick instead of methods that are not worked out yet.
    """
    if not noise.changes:
        return source
    method = "quick" if draft and waits(source, noise) else method_for(source, noise)
    return quieted(source, noise, method, threads)


def quieted(source: Source, noise: Noise, method: str, threads: int = 1) -> Source:
    """The same by a method that is given, even where `noise` asks for nothing of it: all in the same numbers, to be mixed."""
    return source.memory.get(QUIET, (noise, method), lambda: _quiet(source, noise, method, threads))


def _quiet(source: Source, noise: Noise, method: str, threads: int) -> Source:
    start = result = filled(source, noise)
    if method != "none":
        strength = Strength(noise.luminance, noise.colour, noise.detail)
        result = cleaned_by(source, noise, method, threads=threads)
        if not strength.whole:
            result = (blended if result.data.ndim == 2 else between)(start, result, strength)
    if noise.moire and source.facts.kind == "bayer":
        result = without_moire(result, start, noise.moire / 100)
    if result is source:
        return source
    if method != "none":
        result.denoised = True
    # What is known of the frame besides its pixels holds for the quiet one too.
    result.memory.take_shared(source.memory)
    return result
