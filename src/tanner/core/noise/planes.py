"""Noise of pictures that are no mosaic: sensors that the decoder interpolates, finished pictures, and mosaics made small."""

from collections.abc import Callable
from dataclasses import dataclass

import numpy as np
from numpy.typing import NDArray

from tanner.core.jit import kernel
from tanner.core.memory import Slot
from tanner.core.noise import fine, quick
from tanner.core.noise.methods import Strength
from tanner.core.noise.model import Array, estimated, noise_model, usual
from tanner.core.noise.stabilise import stabilised
from tanner.core.noise.strips import Say, in_strips
from tanner.core.noise.tiles import shrink
from tanner.core.raw.source import Source

F32 = NDArray[np.float32]
# An orthonormal change of three colours: sum, red against blue, green against both.
MIX = np.array(
    [[0.57735027, 0.57735027, 0.57735027], [0.70710678, 0, -0.70710678], [-0.40824829, 0.81649658, -0.40824829]],
    dtype=np.float32,
)
STRIP, MARGIN = 256, 56
WINDOW = 1200
"""Side in px of the part on which noise is measured."""


@kernel
def enter(planes, first, last, scale, offset, mix, out):
    """Stabilised values of some rows of three planes (3, h, w), mixed (see `tiles.enter`)."""
    w = planes.shape[2]
    line = np.empty((3, w), dtype=np.float32)
    zero, two = np.float32(0.0), np.float32(2.0)
    for y in range(first, last):
        for p in range(3):
            source, goal, s, o = planes[p, y], line[p], scale[p], offset[p]
            for x in range(w):
                goal[x] = two * np.sqrt(max(source[x] * s + o, zero))
        for m in range(3):
            goal, c0, c1, c2 = out[m, y], mix[m, 0], mix[m, 1], mix[m, 2]
            for x in range(w):
                goal[x] = c0 * line[0, x] + c1 * line[1, x] + c2 * line[2, x]


@kernel
def leave(mixed, quiet, first, last, shares, a, ground, low, mix, out):
    """Some rows of cleaned values, as far as their strength says, back to three linear planes."""
    w = out.shape[2]
    one, quarter = np.float32(1.0), np.float32(0.25)
    eighth, three = np.float32(0.125), np.float32(0.375)
    c1, c2, c3 = np.float32(np.sqrt(1.5) / 4), np.float32(11 / 8), np.float32(5 / 8 * np.sqrt(1.5))
    line = np.empty((3, w), dtype=np.float32)
    for y in range(first, last):
        for m in range(3):
            s, n, q, goal = shares[m], mixed[m, y], quiet[m, y], line[m]
            for x in range(w):
                goal[x] = n[x] + s * (q[x] - n[x])
        for p in range(3):
            m0, m1, m2 = mix[0, p], mix[1, p], mix[2, p]
            g, least, s, goal = ground[p], low[p], a[p], out[p, y]
            for x in range(w):
                v = m0 * line[0, x] + m1 * line[1, x] + m2 * line[2, x]
                d = one / max(v, one)
                square = v * v * quarter
                best = square + d * (c1 + d * (c3 * d - c2)) - eighth - g
                goal[x] = (square - three - g if v < least else best) * s


@dataclass(frozen=True)
class _Code:
    """What `enter` and `leave` need of a noise model a, b (3,)."""

    a: F32
    ground: F32
    low: F32

    @staticmethod
    def of(a: Array, b: Array) -> "_Code":
        low = np.minimum(stabilised(np.zeros(3), a, b), 1.5).astype(np.float32)
        return _Code(a.astype(np.float32), (b / (a * a)).astype(np.float32), low)

    def enter(self, planes: F32, out: F32, first: int, last: int) -> None:
        scale, offset = np.float32(1) / self.a, np.float32(0.375) + self.ground
        enter(planes, first, last, scale, offset, MIX, out)

    def leave(self, mixed: F32, quiet: F32, strength: Strength, out: F32, first: int, last: int) -> None:
        shares = np.array([strength.luminance, strength.colour, strength.colour], np.float32) / 100
        leave(mixed, quiet, first, last, shares, self.a, self.ground, self.low, MIX, out)


def _cleaned(
    planes: F32, code: _Code, clean: Callable[[F32], F32], strength: Strength, out: F32, unit: float = 1.0
) -> None:
    """Fill `out` with cleaned planes; `unit`: deviation of the noise of stabilised values."""
    mixed, h = np.empty(planes.shape, np.float32), planes.shape[1]
    code.enter(planes, mixed, 0, h)
    quiet = clean(mixed / np.float32(unit)) * np.float32(unit) if unit != 1 else clean(mixed)
    code.leave(mixed, quiet, strength, out, 0, h)


class Shrunk:
    """A mosaic that was averaged in blocks, with its noise shrunk by what the model says of the averages.

    Kept while a strength is moved: that costs a mix only.

    Args:
        planes: (3, h, w), balanced by gains (3,); side: of the blocks in px.
    """

    def __init__(self, planes: F32, source: Source, gains: F32, side: int) -> None:
        model = noise_model(source)
        ry, rx = source.facts.pattern or (0, 0)
        order = [2 * ry + rx, 2 * ry + 1 - rx, 2 * (1 - ry) + 1 - rx]
        count = np.array([side * side / 4, side * side / 2, side * side / 4])
        self._code = _Code.of(model.a[order] * gains / count, model.b[order] * gains.astype(np.float64) ** 2 / count)
        self._mixed = np.empty(planes.shape, np.float32)
        self._halves(lambda first, last: self._code.enter(planes, self._mixed, first, last))
        self._quiet = quick.quick(self._mixed, threads=2)

    def at(self, strength: Strength) -> F32:
        """The planes, cleaned as far as the strength says."""
        out = np.empty(self._mixed.shape, np.float32)
        self._halves(lambda first, last: self._code.leave(self._mixed, self._quiet, strength, out, first, last))
        return out

    def _halves(self, work: Callable[[int, int], None]) -> None:
        h = len(self._mixed[0])
        in_strips(lambda rows: work(*rows), [(0, h // 2), (h // 2, h)], None, 2)


PLANES_MODEL: Slot[tuple[Array, Array]] = Slot("noise model of planes")


def planes_model(source: Source) -> tuple[Array, Array]:
    """a and b (3,) of linear planes, for their shape over brightness: how much noise there is, is measured by level."""

    def make() -> tuple[Array, Array]:
        found = estimated(_window(source.data)) if min(source.data.shape[1:]) >= 128 else None
        a, b = found or (np.full(3, usual(source.facts.iso)), np.full(3, (3 * usual(source.facts.iso)) ** 2))
        return np.maximum(a, 1e-7), np.maximum(b, 1e-10)

    return source.memory.get(PLANES_MODEL, None, make)


def _window(planes: F32) -> F32:
    h, w = planes.shape[1:]
    top, left = max(0, (h - WINDOW) // 2), max(0, (w - WINDOW) // 2)
    return planes[:, top : top + WINDOW, left : left + WINDOW]


def level_noise(mixed: F32) -> F32:
    """Deviation of the noise of mixed planes at each level of the transform, (n, LEVELS).

    Interpolated noise is coarse and not even over the levels. In blocks of 8 x 8 coefficients, the quietest tenth of a
    picture holds little but noise.
    """
    result = np.empty((len(mixed), quick.LEVELS), np.float32)
    smooth, unused = np.empty((2, *mixed.shape[1:]), np.float32), np.empty(mixed.shape[1:], np.float32)
    for n, plane in enumerate(mixed):
        rest = np.ascontiguousarray(plane)
        for level in range(quick.LEVELS):
            shrink(rest, 2**level, np.float32(0), smooth[level % 2], unused)
            side = 8 * 2**level
            h, w = (max(1, v // side) * min(side, v) for v in plane.shape)
            d = (rest - smooth[level % 2])[:h, :w]
            blocks = d.reshape(max(1, h // side), -1, max(1, w // side), w // max(1, w // side))
            result[n, level] = np.sqrt(np.quantile((blocks * blocks).mean(axis=(1, 3)), 0.1))
            rest = smooth[level % 2].copy()
    return result


def cleaned_planes(source: Source, method: str, strength: Strength, say: Say | None = None, threads: int = 1) -> Source:
    """A frame that is no mosaic with its noise taken out; measured in itself."""
    a, b = planes_model(source)
    code = _Code.of(a, b)
    part = np.ascontiguousarray(_window(source.data))
    seen = np.empty(part.shape, np.float32)
    code.enter(part, seen, 0, part.shape[1])
    noise = level_noise(seen)
    # The mean looks at single values: at their whole noise.
    unit = float(np.sqrt((noise[0] ** 2).sum()) / np.sqrt(np.sum(np.square(quick.SIGMA))))
    result = np.empty(source.data.shape, np.float32)
    h = source.data.shape[1]

    def strip(top: int) -> None:
        first, last = max(0, top - MARGIN), min(h, top + STRIP + MARGIN)
        piece = np.ascontiguousarray(source.data[:, first:last])
        out = np.empty(piece.shape, np.float32)
        if method == "quick":
            _cleaned(piece, code, lambda m: quick.quick(m, noise), strength, out)
        elif unit > 1e-3:
            _cleaned(piece, code, fine.fine, strength, out, unit)
        else:
            out = piece
        result[:, top : top + STRIP] = out[:, top - first : top - first + min(STRIP, h - top)]

    in_strips(strip, range(0, h, STRIP), say, threads)
    return Source(source.facts, result, profiles=source.profiles, gain_maps=source.gain_maps)
