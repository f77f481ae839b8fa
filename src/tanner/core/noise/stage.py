"""Noise as a stage of development: from a decoded source to the quiet one that everything else starts from."""

from collections.abc import Callable
from typing import Any

from tanner.core.noise.controls import Noise
from tanner.core.noise.faults import without_hot_pixels, without_moire
from tanner.core.noise.kept import KEPT
from tanner.core.noise.methods import Say, Strength, as_source, blended, cleaned_mosaic
from tanner.core.noise.planes import cleaned_planes
from tanner.core.raw.reader import Source


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
        and ("cleaned", _what(method, noise)) not in source.cache
        and not KEPT.has(source.facts.path, _what(method, noise))
    )


def _what(method: str, noise: Noise) -> str:
    return f"{method}-filled" if noise.hot_pixels else method


def _remembered(source: Source, key: tuple[Any, ...], make: Callable[[], Source]) -> Source:
    """Kept with the source: the last two of a kind."""
    if key not in source.cache:
        for old in [k for k in list(source.cache) if isinstance(k, tuple) and k[0] == key[0]][:-1]:
            source.cache.pop(old, None)
        source.cache[key] = make()
    result: Source = source.cache[key]
    return result


def filled(source: Source, noise: Noise) -> Source:
    """The source without its hot pixels, where that is wanted."""
    if not noise.hot_pixels or source.facts.kind != "bayer":
        return source
    return _remembered(source, ("filled",), lambda: without_hot_pixels(source)[0])


def cleaned_by(source: Source, noise: Noise, method: str, say: Say | None = None, threads: int = 1) -> Source:
    """The frame by a method at full strength: from memory, from disk, or worked out and kept."""
    what = _what(method, noise)

    def make() -> Source:
        path = source.facts.path
        found = KEPT.find(path, what) if method != "quick" else None
        start = filled(source, noise)
        if found is not None and (source.facts.kind != "bayer" or found.shape == source.data.shape):
            if source.facts.kind == "bayer":
                return as_source(source, found)
            return Source(source.facts, found, profiles=source.profiles, gain_maps=source.gain_maps)
        if source.facts.kind != "bayer":
            quiet = cleaned_planes(start, method, Strength(), say, threads)
            data = quiet.data
        else:
            data = cleaned_mosaic(start, method, say, threads)
            quiet = as_source(source, data)
        if method != "quick":
            KEPT.keep(path, what, data)
        return quiet

    return _remembered(source, ("cleaned", what), make)


def quiet_source(source: Source, noise: Noise, *, draft: bool = False, threads: int = 1) -> Source:
    """The source with all that `noise` asks for done to it.

    Args:
        draft: quick instead of methods that are not worked out yet.
    """
    if not noise.changes:
        return source
    return _remembered(source, ("quiet", noise, draft), lambda: _quiet(source, noise, draft, threads))


def _quiet(source: Source, noise: Noise, draft: bool, threads: int) -> Source:
    start = result = filled(source, noise)
    method = method_for(source, noise)
    if method != "none":
        if draft and waits(source, noise):
            method = "quick"
        strength = Strength(noise.luminance, noise.colour, noise.detail)
        if source.facts.kind == "bayer":
            result = cleaned_by(source, noise, method, threads=threads)
            result = result if strength.whole else blended(start, result, strength, threads)
        elif method == "quick":
            result = cleaned_planes(start, method, strength, threads=threads)
        else:
            result = cleaned_by(source, noise, method, threads=threads)
            if not strength.whole:
                # Planes have no tiles: between the two in linear values, by the stronger of both wishes.
                result = between(start, result, strength)
    if noise.moire and source.facts.kind == "bayer":
        result = without_moire(result, start, noise.moire / 100)
    if result is source:
        return source
    # What is known of the frame besides its pixels holds for the quiet one too.
    known = ("lens", "camera", "focal")
    result.cache.update(
        {k: v for k, v in source.cache.items() if k in known or (isinstance(k, tuple) and k[0] in _SAME)}
    )
    return result


_SAME = {"lens", "colour", "table", "as shot", "map", "geometry"}


def between(noisy: Source, quiet: Source, strength: Strength) -> Source:
    """How much of the change is made to planes, by luminance and colour."""
    import numpy as np

    change = quiet.data - noisy.data
    sum_of = change.mean(axis=0, keepdims=True)
    data = (
        noisy.data
        + np.float32(strength.luminance / 100) * sum_of
        + np.float32(strength.colour / 100) * (change - sum_of)
    )
    return Source(noisy.facts, data, profiles=noisy.profiles, gain_maps=noisy.gain_maps)
