"""The methods against noise, one interface: a Bayer frame in, the same frame with quieter numbers out."""

from collections.abc import Callable
from concurrent.futures import ThreadPoolExecutor
from dataclasses import dataclass

import cv2
import numpy as np
from numpy.typing import NDArray

from tanner.core.noise.model import noise_model, tiles_of
from tanner.core.noise.nonlocal_means import average, wiener
from tanner.core.noise.stabilise import stabilised, unbiased
from tanner.core.raw.reader import Source

F32 = NDArray[np.float32]
BLACK = 2048
"""Where black lies in quiet mosaics, so that what is left of noise stays around it."""
STRIP, MARGIN = 256, 40
"""Rows of tiles that are worked on at once, and what is looked at above and below them."""
METHODS = ("quick", "fine")
# An orthonormal change of a tile's four values: sum, red against blue, green against both, green against green.
MIX = np.array(
    [[0.5, 0.5, 0.5, 0.5], [0.70710678, 0, 0, -0.70710678], [-0.5, 0.5, 0.5, -0.5], [0, 0.70710678, -0.70710678, 0]],
    dtype=np.float32,
)


@dataclass(frozen=True)
class Strength:
    """100 % each: luminance and colour noise are taken out as the model says; detail: what is put back of the rest."""

    luminance: float = 100.0
    colour: float = 100.0
    detail: float = 0.0


def cleaned(
    source: Source,
    method: str,
    strength: Strength | None = None,
    say: Callable[[float], None] | None = None,
    threads: int = 1,
) -> Source:
    """A Bayer frame with its noise taken out.

    Quick and fine give a mosaic, 0 at BLACK and 1 at 65535.

    Args:
        say: told how far the work is, 0 to 1; may raise to end it.
        threads: how many share the work.
    """
    strength = strength or Strength()
    model = noise_model(source)
    tiles = tiles_of(source)
    ry, rx = source.facts.pattern or (0, 0)
    order = [2 * ry + rx, 2 * ry + 1 - rx, 2 * (1 - ry) + rx, 2 * (1 - ry) + 1 - rx]
    a, b = (v[order].astype(np.float32).reshape(4, 1, 1) for v in (model.a, model.b))
    black, white = float(BLACK), 65535.0
    data = np.empty(source.data.shape, np.uint16)
    h = tiles.shape[1]
    tops = list(range(0, h, STRIP))
    done = 0

    def strip(top: int) -> None:
        """Some rows, with what lies around them to be looked at: memory is bounded, and threads share the work."""
        nonlocal done
        first, last = max(0, top - MARGIN), min(h, top + STRIP + MARGIN)
        mixed = np.tensordot(MIX, stabilised(tiles[order, first:last], a, b).astype(np.float32), axes=1)
        quiet = _quick(mixed) if method == "quick" else _fine(mixed)
        quiet = mixed + _shares(strength, mixed, quiet) * (quiet - mixed)
        values = unbiased(np.tensordot(MIX.T, quiet, axes=1), a, b)[:, top - first : min(h, top + STRIP) - first]
        numbers = np.clip(np.rint(values * (white - black) + black), 0, white).astype(np.uint16)
        for n, place in enumerate(order):
            data[2 * top + place // 2 : 2 * min(h, top + STRIP) : 2, place % 2 :: 2] = numbers[n]
        done += 1
        if say:
            say(done / len(tops))

    if threads == 1:
        for top in tops:
            strip(top)
    else:
        with ThreadPoolExecutor(threads) as pool:
            list(pool.map(strip, tops))
    facts = source.facts.model_copy(update={"black": (black,) * 4, "white": white})
    return Source(facts, data, profiles=source.profiles, gain_maps=source.gain_maps)


def _shares(strength: Strength, noisy: F32, quiet: F32) -> F32:
    """How much of the change is made, by plane (sum first, then colours) and place.

    Detail gives back of the luminance what was taken beside structures, where it may be more than noise.
    """
    shares = np.array([strength.luminance, strength.colour, strength.colour, strength.colour], np.float32) / 100
    full = np.broadcast_to(shares.reshape(4, 1, 1), noisy.shape).astype(np.float32)
    if strength.detail:
        local = cv2.blur(quiet[0] - cv2.GaussianBlur(quiet[0], (0, 0), 3.0), (3, 3))
        busy = 1 - np.exp(-((local / 1.2) ** 2))
        full[0] *= 1 - strength.detail / 100 * busy
    return full


_KERNEL = np.array([1, 4, 6, 4, 1], dtype=np.float32) / 16
_SIGMA = (0.889, 0.200, 0.086, 0.041)
"""Deviation of each level of the transform for noise of deviation 1 (source: starck1998)."""


def _wave(plane: F32, level: int) -> F32:
    step = 2**level
    taps = np.zeros(4 * step + 1, dtype=np.float32)
    taps[::step] = _KERNEL
    return np.asarray(cv2.sepFilter2D(plane, -1, taps, taps, borderType=cv2.BORDER_REFLECT), dtype=np.float32)


def _quick(mixed: F32, luminance: float = 2.6, colour: float = 3.4) -> F32:
    """Wavelet shrinkage: each coefficient by what its neighbourhood holds beyond noise."""
    result = np.empty_like(mixed)
    for n, plane in enumerate(mixed):
        rest, total = plane, np.zeros_like(plane)
        strength = luminance if n == 0 else colour
        for level in range(4):
            smooth = _wave(rest, level)
            wave = rest - smooth
            noise = (strength * _SIGMA[level]) ** 2 / 4
            power = cv2.blur(wave * wave, (5, 5), borderType=cv2.BORDER_REFLECT)
            total += wave * np.maximum(1 - noise * 1.6 / np.maximum(power, 1e-6), 0)
            rest = smooth
        result[n] = rest + total
    return result


def _dct(size: int) -> F32:
    k = np.arange(size)
    rows = np.sqrt(2 / size) * np.cos(np.pi * (2 * k[None] + 1) * k[:, None] / (2 * size))
    rows[0] /= np.sqrt(2)
    return rows.astype(np.float32)


def _wiener(noisy: F32, pilot: F32, size: int, step: int) -> F32:
    """Empirical Wiener filter of the cosine transform of small blocks, by the spectrum that a pilot shows.

    Blocks overlap; each counts by how little noise it leaves.
    """
    h, w = noisy.shape[1:]
    pad = size
    both = [np.pad(v, ((0, 0), (pad, pad + step), (pad, pad + step)), mode="reflect") for v in (noisy, pilot)]
    window = np.hanning(size + 2)[1:-1].astype(np.float32)
    forward = _dct(size)
    result = np.empty_like(noisy)
    inner = np.s_[pad : pad + h, pad : pad + w]
    for n in range(len(noisy)):
        total, norm = np.zeros(both[0].shape[1:], np.float32), np.zeros(both[0].shape[1:], np.float32)
        wiener(both[0][n], both[1][n], forward, window, step, total, norm)
        result[n] = total[inner] / norm[inner]
    return result


def _fine(
    mixed: F32, reach: int = 10, patch: int = 1, base: float = 2.3, width: float = 2.0, size: int = 12, step: int = 5
) -> F32:
    """A non-local mean (source: buades2011) as the pilot of a Wiener filter, which brings fine texture back."""
    mixed = np.ascontiguousarray(mixed)
    pilot = np.empty_like(mixed)
    average(mixed, mixed, reach, patch, np.float32(base), np.float32(width), pilot)
    # What the filter leaves ringing and what the mean smooths away differ: together they err less than either.
    return np.float32(0.7) * _wiener(mixed, pilot, size, step) + np.float32(0.3) * pilot
