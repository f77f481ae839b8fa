"""Where the sensor was full: the colour of such places, and that they stay white when all of it is darkened.

A channel is clipped where it reaches the sensor's white. What it would have been is told by the channels that are left
and by the colours of unclipped places around: how channels stand to one another there (`ratios`). From the point of
clipping on, light is taken to be added in the light's own colour, as a gloss adds it (the dichromatic model, source:
shafer1985). Unclipped pixels stay as they are, to the bit. docs/colour.md has the measurements.
"""

import math
from typing import Any, NamedTuple

import cv2
import numpy as np
from numpy.typing import NDArray

from tanner.core.jit import kernel
from tanner.core.optics.geometry import STEP
from tanner.core.sharing import bands, each
from tanner.core.tone.light import CURVE_WHITE, base_curve

F32 = NDArray[np.float32]
CELLS = 160
"""Along the long edge: how finely surroundings are known."""
WIDTHS = (1.5, 3.0, 6.0, 12.0, 24.0)
"""Of the Gaussians, in cells, whose sum says how much a place counts at a distance."""
PRIOR = 0.6
"""How much weight, in cells full of known colour, the light's own colour has against what is around."""
PRIOR_SPREAD, LEAST_SPREAD = 0.12, 0.02
"""Deviations of logarithms of ratios: of the prior's, and the least that is believed."""
TOGETHER = np.float32(0.5)
"""How far two clipped channels are brought to the ratio that they have around."""
FULL, CERTAIN = 0.995, 0.999
"""Shares of the sensor's white from which a channel counts as clipped, and wholly so: the resampling leaves that much."""
BRIGHT = 0.5
"""Share of white that one of two channels must reach for a place to tell of highlights."""
HOLD = 0.8
"""Share of white, in the least clipped channel, from which a place is held up to white when the picture is darkened."""


class Clipped(NamedTuple):
    """What the point kernel needs to know.

    Attributes:
        full: (3,) from plane values to shares of the sensor's white; zeros: nothing is clipped in this source.
        around: (9, rows, columns): for red/green, red/blue and green/blue the sums of the logarithms of their ratio in
            shares of white, then the weights of these sums, then the sums of their squares; see `ratios`.
        cell: sensor px of a side of its cells.
        offset: (3,) what white balance adds to each logarithm.
        grid: see `optics.geometry.Geometry`.
        amount: 1 rebuilds colour, 0 makes clipped places white.
        hold: value of balanced planes that is shown as white.
    """

    full: F32
    around: F32
    cell: np.float32
    offset: F32
    grid: F32
    amount: np.float32
    hold: np.float32


BANDS = 8
"""In so many bands a frame is gone through by threads that share it."""


@kernel
def _count(v, log, out):
    """Add a place to its cell's sums; 1 where a channel of it is clipped.

    Args:
        v: (3,) shares of the sensor's white; log: (3,), work space; out: (9,), see `Clipped.around`.
    """
    full, bright = np.float32(FULL), np.float32(BRIGHT)
    top = max(v[0], max(v[1], v[2]))
    if top >= bright:
        for c in range(3):
            log[c] = np.log(max(v[c], np.float32(1e-5)))
        for p in range(3):
            m, n = (0, 1) if p == 0 else (0, 2) if p == 1 else (1, 2)
            if v[m] < full and v[n] < full and max(v[m], v[n]) >= bright:
                d = log[m] - log[n]
                out[p] += d
                out[3 + p] += np.float32(1.0)
                out[6 + p] += d * d
    return 1 if top >= full else 0


@kernel
def _gather(mosaic, red_y, red_x, black, gain, cell, step, out, first, end):
    """Sums over the tiles of each cell, for `ratios`: logarithms of ratios of unclipped channels, and how many.

    Args:
        black, gain: float32 (2, 2) by row and column parity: to shares of the sensor's white.
        step: only every step-th tile is looked at, each way; cell: px of a side, a multiple of 2 step.
        out: float32 (9, rows, columns); first, end: its rows that are filled.
    """
    full = np.float32(FULL)
    v = np.empty(3, dtype=np.float32)
    log = np.empty(3, dtype=np.float32)
    clipped = 0
    # Most places are not bright: told by the mosaic's own whole numbers, one comparison for each.
    low = np.empty(4, np.int64)
    for a in range(2):
        for b in range(2):
            low[2 * a + b] = np.ceil(black[a, b] + np.float32(0.999) * np.float32(BRIGHT) / gain[a, b])
    low0, low1, low2, low3 = low[0], low[1], low[2], low[3]
    for i in range(first, end):
        # Row by row over all cells: along a row memory is read ahead.
        for y in range(i * cell, min((i + 1) * cell, mosaic.shape[0] - 1), 2 * step):
            upper, lower = mosaic[y], mosaic[y + 1]
            for x in range(0, mosaic.shape[1] - 1, 2 * step):
                if upper[x] < low0 and upper[x + 1] < low1 and lower[x] < low2 and lower[x + 1] < low3:
                    continue
                ry, rx, by, bx = y + red_y, x + red_x, y + 1 - red_y, x + 1 - red_x
                v[0] = (np.float32(mosaic[ry, rx]) - black[red_y, red_x]) * gain[red_y, red_x]
                v[2] = (np.float32(mosaic[by, bx]) - black[1 - red_y, 1 - red_x]) * gain[1 - red_y, 1 - red_x]
                a = (np.float32(mosaic[ry, bx]) - black[red_y, 1 - red_x]) * gain[red_y, 1 - red_x]
                b = (np.float32(mosaic[by, rx]) - black[1 - red_y, red_x]) * gain[1 - red_y, red_x]
                v[1] = max(a, b) if max(a, b) >= full else np.float32(0.5) * (a + b)
                clipped += _count(v, log, out[:, i, x // cell])
    return clipped


@kernel
def _gather_planes(planes, cell, step, out):
    """The same for linear colour, float32 (3, H, W), 1 at the sensor's white."""
    log = np.empty(3, dtype=np.float32)
    clipped = 0
    for i in range(out.shape[1]):
        for j in range(out.shape[2]):
            for y in range(i * cell, min((i + 1) * cell, planes.shape[1]), 2 * step):
                for x in range(j * cell, min((j + 1) * cell, planes.shape[2]), 2 * step):
                    clipped += _count(planes[:, y, x], log, out[:, i, j])
    return clipped


NOWHERE: F32 = np.zeros((9, 1, 1), np.float32)
"""Surroundings that say nothing: the light's own colour stands in."""


def cells(size: tuple[int, int]) -> tuple[int, int]:
    """For a sensor's width and height: every how many tiles one is looked at, and the px of a cell's side."""
    step = max(1, max(size) // 2400)
    return step, max(2 * step, round(max(size) / CELLS / (2 * step)) * 2 * step)


def held(strength: float, points: bool) -> float:
    """The scene value that a base curve of some strength (0 to 1) shows as white; points: it is a camera profile's."""
    if points or strength <= 0:
        return 1.0
    x = np.linspace(1, CURVE_WHITE, 401)
    y = x + (base_curve(x) - x) * strength
    return float(x[np.argmax(y >= 1 - 1e-6)])


def ratios(data: NDArray[Any], pattern: tuple[int, int], black: tuple[float, ...], white: float) -> F32:
    """How the channels stand to one another around every place of a frame, in shares of the sensor's white.

    Bright unclipped places count, the nearer the more; a pair of channels counts wherever these two are unclipped.

    Args:
        data: uint16 (H, W), a Bayer mosaic with its red at `pattern` (row, column parity); or float32 (3, H, W),
            linear from 0 to 1.
        black: by row and column parity; white: in the mosaic's numbers.

    Returns:
        float32 (9, rows, columns), see `Clipped.around`; NOWHERE for a frame without a clipped pixel.
    """
    h, w = data.shape[-2:]
    step, cell = cells((w, h))
    found = np.zeros((9, math.ceil(h / cell), math.ceil(w / cell)), np.float32)
    if data.ndim == 2:
        levels = np.array(black, dtype=np.float64).reshape(2, 2)
        gain = np.ascontiguousarray(1 / (white - levels), dtype=np.float32)
        low = levels.astype(np.float32)

        def band(rows: tuple[int, int]) -> int:
            return int(_gather(data, *pattern, low, gain, cell, step, found, *rows))

        clipped = sum(each(band, bands(found.shape[1], -(-found.shape[1] // BANDS))))
    else:
        clipped = _gather_planes(data, cell, step, found)
    if not clipped:
        return NOWHERE
    found /= np.float32((cell / (2 * step)) ** 2)
    spread = [np.sum([cv2.GaussianBlur(plane, (0, 0), s) for s in WIDTHS], axis=0) for plane in found]
    return np.ascontiguousarray(np.stack(spread), dtype=np.float32)


@kernel
def _log_ratio(clip, pair, ix, iy, fx, fy, out):
    """Mean and deviation of the logarithm of a ratio of two balanced channels at a place between cells, into out (2,)."""
    total, weight = np.float32(0.0), np.float32(PRIOR)
    square = np.float32(PRIOR * PRIOR_SPREAD * PRIOR_SPREAD)
    offset = clip.offset[pair]
    for dy in range(2):
        for dx in range(2):
            y, x = min(iy + dy, clip.around.shape[1] - 1), min(ix + dx, clip.around.shape[2] - 1)
            share = (fx if dx else np.float32(1.0) - fx) * (fy if dy else np.float32(1.0) - fy)
            a, n, q = clip.around[pair, y, x], clip.around[3 + pair, y, x], clip.around[6 + pair, y, x]
            total += share * (a + n * offset)
            weight += share * n
            square += share * (q + np.float32(2.0) * offset * a + n * offset * offset)
    mean = total / weight
    out[0] = mean
    out[1] = np.sqrt(max(square / weight - mean * mean, np.float32(LEAST_SPREAD * LEAST_SPREAD)))


@kernel
def _above(mean, spread, least):
    """What is to be expected of a normal variable that is known to be above `least`."""
    a = (least - mean) / spread
    if a < np.float32(-6.0):
        return mean
    if a > np.float32(4.0):
        return least + spread / a
    tail = np.float32(0.5) * np.float32(math.erfc(a * np.float32(0.70710678)))
    return mean + spread * np.float32(0.39894228) * np.exp(np.float32(-0.5) * a * a) / max(tail, np.float32(1e-12))


@kernel
def rebuild_row(r, g, b, clip, gains, y, x0, n, near):
    """Clipped channels of a row of planes, in place.

    Args:
        r, g, b: float32, plane values before white balance; gains: (3,) from them to balanced values.
        y, x0: output position of the first pixel; n: pixels.
        near: float32 (n,), work space.
    """
    zero, one = np.float32(0.0), np.float32(1.0)
    f0, f1, f2 = clip.full[0], clip.full[1], clip.full[2]
    for j in range(n):
        near[j] = max(r[j] * f0, max(g[j] * f1, b[j] * f2))
    # Evened-out corners have whites of their own above 1; darkened ones are not thought of.
    # Asked so, it is done in vectors: the greatest of all is not.
    some = 0
    for j in range(n):
        some |= near[j] >= np.float32(HOLD)
    if not some:
        return
    full, span = np.float32(FULL), one / np.float32(CERTAIN - FULL)
    step = np.float32(STEP)
    grid = clip.grid
    v = (np.float32(y) + np.float32(0.5)) / step + one
    iy = min(max(int(v), 0), grid.shape[1] - 2)
    fy = v - np.float32(iy)
    value, share, lost = np.empty(3, dtype=np.float32), np.empty(3, dtype=np.float32), np.empty(3, dtype=np.float32)
    at, found = np.empty(5, dtype=np.float32), np.empty(3, dtype=np.float32)
    for j in range(n):
        if not near[j] >= np.float32(HOLD):
            continue
        u = (np.float32(x0 + j) + np.float32(0.5)) / step + one
        ix = min(max(int(u), 0), grid.shape[2] - 2)
        fx = u - np.float32(ix)
        for k in range(5):
            # Where green lies on the sensor, and how much the corners of each channel were lifted.
            p = 2 + k if k < 2 else 4 + k
            a = grid[p, iy, ix] + fx * (grid[p, iy, ix + 1] - grid[p, iy, ix])
            c = grid[p, iy + 1, ix] + fx * (grid[p, iy + 1, ix + 1] - grid[p, iy + 1, ix])
            at[k] = a + fy * (c - a)
        lifted = at[2:]
        for k in range(3):
            lifted[k] = max(lifted[k], np.float32(1e-3))
        value[0], value[1], value[2] = r[j] * gains[0], g[j] * gains[1], b[j] * gains[2]
        share[0], share[1], share[2] = r[j] * f0 / lifted[0], g[j] * f1 / lifted[1], b[j] * f2 / lifted[2]
        most, left, white, top = zero, zero, zero, max(value[0], max(value[1], value[2]))
        for k in range(3):
            lost[k] = min(max((share[k] - full) * span, zero), one)
            most = max(most, lost[k])
            left += one - lost[k]
            white = max(white, lifted[k] * gains[k] / clip.full[k])
        if most > zero:
            _rebuilt(clip, value, share, lost, left, white, lifted, gains, at[0], at[1], found)
            for k in range(3):
                # What is not rebuilt goes to white: to where the brightest channel is.
                plain = value[k] + most * (top - value[k])
                value[k] = found[k] if clip.amount >= one else plain + clip.amount * (found[k] - plain)
        least = min(share[0], min(share[1], share[2]))
        if least > np.float32(HOLD) and white < clip.hold:
            t = min((least - np.float32(HOLD)) / np.float32(1.0 - HOLD), one)
            t = t * t * (np.float32(3.0) - np.float32(2.0) * t)
            up = one + t * (clip.hold / white - one)
            for k in range(3):
                value[k] *= up
        elif most == zero:
            continue
        r[j], g[j], b[j] = value[0] / gains[0], value[1] / gains[1], value[2] / gains[2]


@kernel
def _rebuilt(clip, value, share, lost, left, white, lifted, gains, x, y, out):
    """The balanced values of one pixel with what is clipped rebuilt, into out (3,).

    Args:
        share: of the sensor's white; lost: how certainly each channel is clipped; left: how many are not.
        white: what a fully clipped pixel has; lifted: (3,) gains against fall-off; x, y: place on the sensor.
    """
    zero, one = np.float32(0.0), np.float32(1.0)
    cells = clip.around
    u, v = x / clip.cell - np.float32(0.5), y / clip.cell - np.float32(0.5)
    u = min(max(u, zero), np.float32(cells.shape[2] - 1))
    v = min(max(v, zero), np.float32(cells.shape[1] - 1))
    ix, iy = int(u), int(v)
    fx, fy = u - np.float32(ix), v - np.float32(iy)
    known = np.empty(2, dtype=np.float32)
    for c in range(3):
        out[c] = value[c]
        if lost[c] == zero:
            continue
        edge = lifted[c] * gains[c] / clip.full[c]
        wanted = white
        if left > np.float32(1e-3):
            guide, log, wide, nearest = zero, zero, zero, zero
            for a in range(3):
                w = one - lost[a]
                if a == c or w <= zero:
                    continue
                pair = a + c - 1
                _log_ratio(clip, pair, ix, iy, fx, fy, known)
                log += w * (known[0] if c < a else -known[0])
                wide += w * known[1]
                guide += w * np.log(max(value[a], np.float32(1e-5)))
                nearest = max(nearest, w * min(share[a], one))
            others = left - (one - lost[c])
            if others > np.float32(1e-3):
                # The nearer what is left is to white itself, the less the place can be other than white.
                nearest *= nearest
                guide = np.exp(guide / others)
                least = np.log(edge / guide)
                log /= others
                if others < np.float32(1.5):
                    # What is around and cannot be here, as the channel is above its edge, does not count. Where two channels
                    # are left, they tell enough.
                    log = _above(log, wide / others, least)
                log *= one - nearest * nearest
                # From the point of clipping on light is added in the light's own colour.
                found = edge + max(guide - edge / np.exp(max(log, least)), zero)
                found = max(found, edge)
                share_left = min(others, one)
                wanted = found + (one - share_left) * max(white - found, zero)
        out[c] = value[c] + lost[c] * max(wanted - value[c], zero)
    for a in range(2):
        for b in range(a + 1, 3):
            both = lost[a] * lost[b]
            if both == zero or left <= np.float32(1e-3):
                continue
            # Two that are clipped were told by the third, each for itself: they must suit each other as well.
            _log_ratio(clip, a + b - 1, ix, iy, fx, fy, known)
            third = 3 - a - b
            free = one - min(share[third], one) ** 4
            # Only the lower one moves, upwards: what is clipped has a lower bound and no upper one.
            d = TOGETHER * both * (one - lost[third]) * free * (np.log(out[a] / out[b]) - known[0] * free)
            if d > zero:
                out[b] *= np.exp(d)
            else:
                out[a] *= np.exp(-d)
