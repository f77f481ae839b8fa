"""The methods against noise, one interface: a mosaic in, the same mosaic with quieter numbers out."""

import threading
from collections.abc import Callable, Iterator
from concurrent.futures import ThreadPoolExecutor
from dataclasses import dataclass

import cv2
import numpy as np
from numpy.typing import NDArray

from tanner.core.noise import fine, quick
from tanner.core.noise.learned import learned
from tanner.core.noise.model import noise_model, tile_places, tiles_of, usual
from tanner.core.noise.stabilise import stabilised
from tanner.core.noise.tiles import blend, enter, leave
from tanner.core.raw import demosaic
from tanner.core.raw.reader import Source

F32 = NDArray[np.float32]
BLACK = 2048
"""Where black lies in quiet mosaics, so that what is left of noise stays around it."""
STRIP = {"quick": 512, "fine": 640}
MARGIN = {"quick": quick.REACH + 2, "fine": fine.REACH}
"""Rows of tiles that are worked on at once, and what is looked at above and below them."""
METHODS = ("quick", "fine", "learned")
# An orthonormal change of a tile's four values: sum, red against blue, green against both, green against green.
MIX = np.array(
    [[0.5, 0.5, 0.5, 0.5], [0.70710678, 0, 0, -0.70710678], [-0.5, 0.5, 0.5, -0.5], [0, 0.70710678, -0.70710678, 0]],
    dtype=np.float32,
)
Say = Callable[[float], None]


@dataclass(frozen=True)
class Strength:
    """100 % each: luminance and colour noise are taken out as the model says; detail: what is put back of the rest."""

    luminance: float = 100.0
    colour: float = 100.0
    detail: float = 0.0

    @property
    def whole(self) -> bool:
        return self == Strength()


def cleaned(
    source: Source, method: str, strength: Strength | None = None, say: Say | None = None, threads: int = 1
) -> Source:
    """A Bayer frame with its noise taken out.

    Quick and fine give a mosaic, 0 at BLACK and 1 at 65535; learned gives linear colour.

    Args:
        say: told how far the work is, 0 to 1; may raise to end it.
        threads: how many share the work.
    """
    strength = strength or Strength()
    if method == "learned":
        quiet = as_colour(source, learned_planes(source, say, threads))
        return quiet if strength.whole else between(source, quiet, strength)
    quiet = as_source(source, cleaned_mosaic(source, method, say, threads))
    return quiet if strength.whole else blended(source, quiet, strength, threads)


def as_source(source: Source, data: NDArray[np.uint16]) -> Source:
    """A quiet mosaic with all that is known about its frame."""
    facts = source.facts.model_copy(update={"black": (float(BLACK),) * 4, "white": 65535.0})
    return Source(facts, data, profiles=source.profiles, gain_maps=source.gain_maps)


def _levels(source: Source) -> tuple[NDArray[np.intp], F32, F32]:
    """Places of a tile, red first, with their black and the factor that makes white 1."""
    order = tile_places(source)
    black = np.array(source.facts.black, np.float32)[order]
    return order, black, (1 / (source.facts.white - black)).astype(np.float32)


def cleaned_mosaic(source: Source, method: str, say: Say | None = None, threads: int = 1) -> NDArray[np.uint16]:
    """The numbers of `cleaned` at full strength."""
    model = noise_model(source)
    order, black, scale = _levels(source)
    a, b = (v[order].astype(np.float32) for v in (model.a, model.b))
    ground = b / (a * a)
    low = np.minimum(stabilised(np.zeros(4, np.float32), a, b), 1.5).astype(np.float32)
    data = _plain(source)
    h, w = (int(n) // 2 for n in source.data.shape)
    rows, columns = order // 2, order % 2
    step, margin = STRIP[method], MARGIN[method]
    offset = (0.375 + ground).astype(np.float32)

    def strip(top: int) -> None:
        """Some rows, with what lies around them to be looked at: memory is bounded, and threads share the work."""
        end = min(h, top + step)
        first, last = max(0, top - margin), min(h, end + margin)
        mixed = np.empty((4, last - first, w), np.float32)
        enter(source.data, first, last, rows, columns, black, scale / a, offset, MIX, mixed)
        quiet = quick.quick(mixed) if method == "quick" else fine.fine(mixed)
        leave(quiet, top - first, end - top, top, rows, columns, a, ground, low, MIX, BLACK, 65535, data)

    in_strips(strip, range(0, h, step), say, threads)
    return data


def learned_planes(source: Source, say: Say | None = None, threads: int = 1) -> F32:
    """Linear camera numbers (3, H, W) of a Bayer frame by the network, 1 at the sensor's white."""
    model = noise_model(source)
    order = tile_places(source)
    ry, rx = source.facts.pattern or (0, 0)
    gain = gains_of(source)
    # The network's tiles begin at a red pixel: the frame is moved to there, and back.
    moved = np.roll(source.data, (-ry, -rx), axis=(0, 1)) if ry or rx else source.data
    facts = source.facts.model_copy(update={"black": tuple(source.facts.black[p] for p in order)})
    values = tiles_of(Source(facts, moved))
    values *= gain.reshape(4, 1, 1)
    a, b = (model.a[order] * gain).astype(np.float32), (model.b[order] * gain**2).astype(np.float32)
    # A tenth of the work is the fine method's.
    pilot = _fine_tiles(source, (ry, rx), say and (lambda v: say(0.1 * v)), threads)
    found: F32 = learned(values, pilot, a, b, gain, threads, say and (lambda v: say(0.1 + 0.9 * v)))
    del values, pilot
    np.maximum(found, 0, out=found)
    found /= gain[[0, 1, 3]].reshape(3, 1, 1)
    # The network's own colours through the demosaicing that every frame gets, and its joint colours, err differently:
    # their mean errs less than either.
    own = np.empty(found.shape[1:], np.float32)
    for y, x, c in ((0, 0, 0), (0, 1, 1), (1, 0, 1), (1, 1, 2)):
        own[y::2, x::2] = found[c, y::2, x::2]
    numbers = np.clip(np.rint(own * np.float32(65535 - BLACK) + np.float32(BLACK)), 0, 65535).astype(np.uint16)
    del own
    facts = source.facts.model_copy(update={"black": (float(BLACK),) * 4, "white": 65535.0, "pattern": (0, 0)})
    for top, part in _demosaiced_strips(Source(facts, numbers)):
        rows = found[:, top : top + part.shape[1]]
        rows += part
        rows *= np.float32(0.5)
    del numbers
    h, w = source.data.shape
    if found.shape[1:] != (h, w):
        whole: F32 = np.pad(found, ((0, 0), (0, h - found.shape[1]), (0, w - found.shape[2])), mode="edge")
        found = whole
    return np.ascontiguousarray(np.roll(found, (ry, rx), axis=(1, 2)), np.float32) if ry or rx else found


def _fine_tiles(source: Source, start: tuple[int, int], say: Say | None, threads: int) -> Callable[[int, int], F32]:
    """Rows of tiles by the fine method, balanced, from a first to before a last; they begin at a red pixel, which lies at `start`."""
    quiet = cleaned_mosaic(source, "fine", say, threads)
    quiet = np.roll(quiet, (-start[0], -start[1]), axis=(0, 1)) if any(start) else quiet
    facts = source.facts.model_copy(update={"black": (float(BLACK),) * 4, "white": 65535.0})
    gain = gains_of(source).reshape(4, 1, 1)

    def rows(first: int, last: int) -> F32:
        return tiles_of(Source(facts, quiet[2 * first : 2 * last])) * gain

    return rows


def as_colour(source: Source, planes: F32) -> Source:
    """Quiet linear colour with all that is known about its frame."""
    plain: dict[str, object] = {"kind": "camera", "pattern": None, "black": (0.0,) * 4, "white": 65535.0}
    facts = source.facts.model_copy(update=plain)
    return Source(facts, planes, profiles=source.profiles, gain_maps=source.gain_maps)


def gains_of(source: Source) -> F32:
    """What balances the places of a tile, red first."""
    neutral: F32 = np.array(source.facts.neutral, np.float32)[[0, 1, 1, 2]]
    return np.float32(1) / neutral


def in_strips(strip: Callable[[int], None], tops: range, say: Say | None, threads: int) -> None:
    """Work through a frame, and tell how far it is."""
    done, lock = 0, threading.Lock()

    def one(top: int) -> None:
        nonlocal done
        strip(top)
        with lock:
            done += 1
            if say:
                say(done / len(tops))

    if threads == 1:
        for top in tops:
            one(top)
        return
    with ThreadPoolExecutor(threads) as pool:
        futures = [pool.submit(one, top) for top in tops]
        try:
            for future in futures:
                future.result()
        except BaseException:
            pool.shutdown(wait=True, cancel_futures=True)
            raise


def _plain(source: Source) -> NDArray[np.uint16]:
    """An array for the quiet numbers; a last odd row or column, which no tile holds, as it was."""
    data = np.empty(source.data.shape, np.uint16)
    h, w = source.data.shape
    for edge in ([np.s_[h - 1 :, :]] if h % 2 else []) + ([np.s_[:, w - 1 :]] if w % 2 else []):
        black = float(source.facts.black[0])
        values = (source.data[edge] - black) / (source.facts.white - black)
        data[edge] = np.clip(np.rint(values * (65535 - BLACK) + BLACK), 0, 65535)
    return data


def blended(source: Source, quiet: Source, strength: Strength, threads: int = 1) -> Source:
    """Between a frame and its quiet mosaic: how much of the change is made, by luminance and colour.

    In linear values, so that means stay. Detail gives back of the luminance what was taken beside structures, where it may
    be more than noise.
    """
    order, black, scale = _levels(source)
    gain = gains_of(source)
    shares = np.array([strength.luminance, strength.colour, strength.colour, strength.colour], np.float32) / 100
    keep = _busy(source, quiet) * np.float32(strength.detail / 100) if strength.detail else np.zeros((0, 0), np.float32)
    out = _plain(source)
    h = out.shape[0] // 2

    def strip(top: int) -> None:
        blend(
            source.data, quiet.data, top, min(h, top + 256), order // 2, order % 2, black, scale, np.float32(BLACK), gain,
            MIX, shares, keep, out,
        )  # fmt: skip

    in_strips(strip, range(0, h, 256), None, threads)
    return as_source(source, out)


def _busy(source: Source, quiet: Source) -> F32:
    """Where structures stand out of noise, 0 to 1, for each tile of a mosaic."""
    model = noise_model(source)
    a, b = (v.astype(np.float32).reshape(4, 1, 1) for v in (model.a, model.b))
    return _standing_out(stabilised(tiles_of(quiet), a, b).sum(axis=0, dtype=np.float32) / 2)


def _standing_out(level: F32) -> F32:
    local = cv2.blur(level - cv2.GaussianBlur(level, (0, 0), 3.0), (3, 3))
    return np.asarray(1 - np.exp(-((local / 1.2) ** 2)), np.float32)


def demosaiced(source: Source) -> F32:
    """Linear camera numbers (3, H, W) of a Bayer frame, demosaiced as development does it."""
    result = np.empty((3, *source.data.shape), np.float32)
    for top, part in _demosaiced_strips(source):
        result[:, top : top + part.shape[1]] = part
    return result


def _demosaiced_strips(source: Source) -> Iterator[tuple[int, F32]]:
    """First rows and strips of `demosaiced`: a whole picture of it is not always wanted in memory."""
    black = np.array(source.facts.black, np.float32).reshape(2, 2)
    gain = gains_of(source)[[0, 1, 3]]
    ry, rx = source.facts.pattern or (0, 0)
    balance = np.full((2, 2), gain[1], np.float32)
    balance[ry, rx], balance[1 - ry, 1 - rx] = gain[0], gain[2]
    h, w = source.data.shape
    scratch = demosaic.scratch()
    scale = (balance / (source.facts.white - black)).astype(np.float32)
    for top in range(0, h, 256):
        # Into an array of its own: the kernel asks for whole rows one after the other.
        part = np.empty((3, min(256, h - top), w), np.float32)
        demosaic.demosaic_region(source.data, top, 0, black, scale, ry, rx, scratch, part)
        part /= gain.reshape(3, 1, 1)
        yield top, part


def between(source: Source, quiet: Source, strength: Strength) -> Source:
    """Between a frame and its quiet linear colour, as `blended` does it for mosaics."""
    noisy = demosaiced(source) if source.facts.kind == "bayer" else source.data
    gain = gains_of(source)[[0, 1, 3]].reshape(3, 1, 1) if source.facts.is_raw else np.ones((3, 1, 1), np.float32)
    change = (quiet.data - noisy) * gain
    grey = change.mean(axis=0, keepdims=True)
    change -= grey
    change *= np.float32(strength.colour / 100)
    grey *= np.float32(strength.luminance / 100)
    if strength.detail:
        grey *= 1 - np.float32(strength.detail / 100) * _busy_colour(source, quiet)
    change += grey
    return Source(quiet.facts, noisy + change / gain, profiles=quiet.profiles, gain_maps=quiet.gain_maps)


def _busy_colour(source: Source, quiet: Source) -> F32:
    """Where structures stand out of noise, 0 to 1, for each pixel of linear colour."""
    if source.facts.kind == "bayer":
        model = noise_model(source)
        order = tile_places(source)[[0, 1, 3]]
        a, b = (v[order].astype(np.float32).reshape(3, 1, 1) for v in (model.a, model.b))
    else:
        a = np.full((3, 1, 1), usual(source.facts.iso), np.float32)
        b = (3 * a) ** 2
    return _standing_out(stabilised(quiet.data, a, b).sum(axis=0, dtype=np.float32) / np.float32(np.sqrt(3)))
