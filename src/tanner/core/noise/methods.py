"""The methods against noise, one interface: a mosaic in, the same mosaic with quieter numbers out."""

from dataclasses import dataclass

import cv2
import numpy as np
from numpy.typing import NDArray

from tanner.core.noise import fine, quick
from tanner.core.noise.learned import learned
from tanner.core.noise.model import noise_model, tile_places, tiles_of, usual
from tanner.core.noise.stabilise import stabilised
from tanner.core.noise.strips import Say, even_step, in_strips
from tanner.core.noise.tiles import blend, enter, join, leave
from tanner.core.raw import demosaic
from tanner.core.raw.source import Source

F32 = NDArray[np.float32]
BLACK = 2048
"""Where black lies in quiet mosaics, so that what is left of noise stays around it."""
STRIP = {"quick": 512, "fine": 640}
MARGIN = {"quick": quick.RADIUS + 2, "fine": fine.RADIUS}
"""Rows of tiles that are worked on at once, and what is looked at above and below them."""
TILINGS = {"quick": 1, "fine": 2}
"""Tiles that begin one px further right and below hold other px together: the mean of both errs less than either."""
METHODS = ("quick", "fine", "learned")
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


def cleaned_mosaic(
    source: Source, method: str, say: Say | None = None, threads: int = 1, tilings: int | None = None
) -> NDArray[np.uint16]:
    """The numbers of `cleaned` at full strength; with as many tilings as the method takes, if nothing else is said."""
    model = noise_model(source)
    order, black, scale = _levels(source)
    a, b = (v[order].astype(np.float32) for v in (model.a, model.b))
    ground = b / (a * a)
    low = np.minimum(stabilised(np.zeros(4, np.float32), a, b), 1.5).astype(np.float32)
    data = _plain(source)
    margin = MARGIN[method]
    offset = (0.375 + ground).astype(np.float32)
    count = tilings or TILINGS[method]

    def tiling(shift: int) -> None:
        """The frame in tiles that begin so many px further right and below; the mean with the tilings before."""
        h, w = ((int(n) - shift) // 2 for n in source.data.shape)
        if not h or not w:
            return
        step = even_step(h, STRIP[method])
        rows, columns = (2 - v if shift else v for v in (order // 2, order % 2))

        def strip(top: int) -> None:
            """Some rows, with what lies around them to be looked at: memory is bounded, and threads share the work."""
            end = min(h, top + step)
            first, last = max(0, top - margin), min(h, end + margin)
            mixed = np.empty((4, last - first, w), np.float32)
            enter(source.data, first, last, rows, columns, black, scale / a, offset, MIX, mixed)
            quiet = quick.quick(mixed) if method == "quick" else fine.fine(mixed)
            leave(quiet, top - first, end - top, top, rows, columns, a, ground, low, MIX, BLACK, 65535, shift > 0, data)

        in_strips(strip, range(0, h, step), say and (lambda v: say((v + shift) / count)), threads)

    for shift in range(count):
        tiling(shift)
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
    found: F32 = learned(values, a, b, gain, threads, say and (lambda v: say(0.85 * v)))
    del values, moved
    np.maximum(found, 0, out=found)
    # One tiling: of what the fine method would change, only a part is taken over, and a second brings 0.01 dB.
    quiet = cleaned_mosaic(source, "fine", say and (lambda v: say(0.85 + 0.1 * v)), threads, tilings=1)
    quiet = np.roll(quiet, (-ry, -rx), axis=(0, 1)) if ry or rx else quiet
    _join(found, quiet, source, a[[0, 1, 3]], b[[0, 1, 3]], say and (lambda v: say(0.95 + 0.05 * v)), threads)
    h, w = source.data.shape
    if found.shape[1:] != (h, w):
        whole: F32 = np.pad(found, ((0, 0), (0, h - found.shape[1]), (0, w - found.shape[2])), mode="edge")
        found = whole
    return np.ascontiguousarray(np.roll(found, (ry, rx), axis=(1, 2)), np.float32) if ry or rx else found


EVEN = (1e4, 4e4)
"""Electrons at green's white from which a frame is less noisy, and from which it is hardly noisy."""
HALO = 2
"""Rows around a strip that `join` looks at."""


def _join(found: F32, quiet: NDArray[np.uint16], source: Source, a: F32, b: F32, say: Say | None, threads: int) -> None:
    """The network's balanced colours (3, H, W) become camera numbers, each place by what two other ways make of it.

    The network's colours make a mosaic of their own. Through the demosaicing that every frame gets, it errs differently from the
    network: where they agree, their mean is nearer to the truth. The fine method looks for likenesses far around,
    which no network of this size does: a part of what it would change of that mosaic is taken over.

    Args:
        quiet: the mosaic by the fine method; it and the colours begin at a red pixel.
        a, b: (3,) scale and offset of the variance of balanced values.
    """
    h, w = found.shape[1:]
    gain = gains_of(source)[[0, 1, 3]]
    own = np.empty((h, w), np.uint16)
    for y, x, c in ((0, 0, 0), (0, 1, 1), (1, 0, 1), (1, 1, 2)):
        numbers = found[c, y::2, x::2] * np.float32((65535 - BLACK) / gain[c])
        own[y::2, x::2] = np.clip(np.rint(numbers + np.float32(BLACK)), 0, 65535)
    facts = source.facts.model_copy(update={"black": (float(BLACK),) * 4, "white": 65535.0, "pattern": (0, 0)})
    both = Source(facts, own), Source(facts, np.ascontiguousarray(quiet[:h, :w]))
    step = 96
    # Taken before strips are written over.
    beside = {
        top: (found[:, max(0, top - HALO) : top].copy(), found[:, top + step : top + step + HALO].copy())
        for top in range(0, h, step)
    }
    offset = (0.375 + b / (a * a)).astype(np.float32)
    # Hardly noisy frames need no guessing: the common demosaicing has its say everywhere, and does no harm to what is drawn.
    even = np.float32(np.clip(np.log(a[1] * EVEN[0]) / np.log(EVEN[0] / EVEN[1]), 0, 1))

    def strip(top: int) -> None:
        above, below = beside.pop(top)
        rows = found[:, top : top + step]
        joint = np.concatenate([above, rows, below], axis=1)
        first = top - above.shape[1]
        own_rows, fine_rows = (_demosaiced_rows(each, first, joint.shape[1]) for each in both)
        out = np.empty(rows.shape, np.float32)
        join(
            joint,
            own_rows,
            fine_rows,
            above.shape[1],
            (1 / a).astype(np.float32),
            offset,
            even,
            (1 / gain).astype(np.float32),
            out,
        )
        rows[:] = out

    in_strips(strip, range(0, h, step), say, threads)


def as_colour(source: Source, planes: F32) -> Source:
    """Quiet linear colour with all that is known about its frame."""
    plain: dict[str, object] = {"kind": "camera", "pattern": None, "black": (0.0,) * 4, "white": 65535.0}
    facts = source.facts.model_copy(update=plain)
    return Source(facts, planes, profiles=source.profiles, gain_maps=source.gain_maps)


def gains_of(source: Source) -> F32:
    """What balances the places of a tile, red first."""
    neutral: F32 = np.array(source.facts.neutral, np.float32)[[0, 1, 1, 2]]
    return np.float32(1) / neutral


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
    gain = gains_of(source)[[0, 1, 3]].reshape(3, 1, 1)
    result = np.empty((3, *source.data.shape), np.float32)
    for top in range(0, result.shape[1], 256):
        rows = result[:, top : top + 256]
        rows[:] = _demosaiced_rows(source, top, rows.shape[1]) / gain
    return result


def _demosaiced_rows(source: Source, top: int, rows: int) -> F32:
    """Balanced colours (3, rows, W) of some rows of a Bayer frame."""
    black = np.array(source.facts.black, np.float32).reshape(2, 2)
    gain = gains_of(source)[[0, 1, 3]]
    ry, rx = source.facts.pattern or (0, 0)
    balance = np.full((2, 2), gain[1], np.float32)
    balance[ry, rx], balance[1 - ry, 1 - rx] = gain[0], gain[2]
    scale = (balance / (source.facts.white - black)).astype(np.float32)
    # Into an array of its own: the kernel asks for whole rows one after the other.
    part = np.empty((3, rows, source.data.shape[1]), np.float32)
    demosaic.demosaic_region(source.data, top, 0, black, scale, ry, rx, demosaic.scratch(), part)
    return part


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
