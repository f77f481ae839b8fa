"""Faults of the sensor and its grid: pixels that glow or are dead, and false colour in fine repeating texture."""

import cv2
import numpy as np
from numpy.typing import NDArray

from tanner.core.jit import kernel
from tanner.core.noise.model import MODEL, noise_model, tile_places, tiles_of
from tanner.core.noise.stabilise import stabilised
from tanner.core.raw.source import Source

F32 = NDArray[np.float32]
STANDS_OUT = np.float32(7.0)
"""Deviations of noise by which a pixel must stand out of its surroundings."""


@kernel
def _fill_hot(data, black, scale, a, b, out):
    """Copy a mosaic without pixels that alone stand out of the eight of their colour around them; their number.

    What is in the picture, however small, is spread by the lens over the next pixels too; a fault is not.
    """
    h, w = data.shape
    found = 0
    around = np.empty(8, dtype=np.float32)
    for y in range(2, h - 2):
        for x in range(2, w - 2):
            v = np.float32(data[y, x])
            left, right = np.float32(data[y, x - 2]), np.float32(data[y, x + 2])
            # Most pixels leave here.
            if not (v > max(left, right) or v < min(left, right)):
                continue
            around[0], around[1] = left, right
            around[2], around[3] = np.float32(data[y - 2, x]), np.float32(data[y + 2, x])
            around[4], around[5] = np.float32(data[y - 2, x - 2]), np.float32(data[y + 2, x + 2])
            around[6], around[7] = np.float32(data[y - 2, x + 2]), np.float32(data[y + 2, x - 2])
            high, low = max(around[0], around[1]), min(around[0], around[1])
            for k in range(2, 8):
                high, low = max(high, around[k]), min(low, around[k])
            if low <= v <= high:
                continue
            p = 2 * (y % 2) + x % 2
            edge = high if v > high else low
            level = max((edge - black[p]) * scale[p], np.float32(0.0))
            sigma = np.sqrt(a[p] * level + b[p]) / scale[p]
            out_by = abs(v - edge)
            if out_by < STANDS_OUT * sigma + np.float32(0.3) * abs(edge - black[p]):
                continue
            # How far the pixels of other colours beside it stand out of their own surroundings, to the same side.
            rise = np.float32(0.0)
            for dy, dx in ((0, -1), (0, 1), (-1, 0), (1, 0)):
                yy, xx = y + dy, x + dx
                own = np.float32(data[yy, xx])
                if dx == 0:
                    other = (np.float32(data[yy, xx - 2]) + np.float32(data[yy, xx + 2])) / np.float32(2)
                else:
                    other = (np.float32(data[yy - 2, xx]) + np.float32(data[yy + 2, xx])) / np.float32(2)
                rise += own - other
            rise = rise / np.float32(4) if v > high else -rise / np.float32(4)
            if rise > np.float32(0.2) * out_by:
                continue
            best = np.float32(1e9)
            for k in range(0, 8, 2):
                gap = abs(around[k] - around[k + 1])
                if gap < best:
                    best = gap
                    out[y, x] = np.uint16((around[k] + around[k + 1]) / np.float32(2) + np.float32(0.5))
            found += 1
    return found


def without_hot_pixels(source: Source) -> tuple[Source, int]:
    """A Bayer frame with its faulty pixels filled from the nearest of their colour, and how many there were."""
    model = noise_model(source)
    black = np.array(source.facts.black, np.float32)
    out = np.array(source.data)
    count = _fill_hot(
        np.ascontiguousarray(source.data), black, (1 / (source.facts.white - black)).astype(np.float32),
        model.a.astype(np.float32), model.b.astype(np.float32), out,
    )  # fmt: skip
    filled = Source(source.facts, out, profiles=source.profiles, gain_maps=source.gain_maps)
    filled.memory.put(MODEL, None, model)
    return filled, int(count)


def _repeating(alias: F32) -> F32:
    """Where two greens of a tile differ all around a place, 0 to 1: texture finer than the grid, not a lone edge."""
    energy = cv2.blur(alias * alias, (9, 9))
    away = 6
    shifted = [np.roll(energy, (dy, dx), axis=(0, 1)) for dy in (-away, away) for dx in (-away, away)]
    least = np.minimum.reduce([*shifted, energy])
    return np.asarray(cv2.blur(np.clip((least - 3.0) / 6.0, 0, 1), (7, 7)), np.float32)


def without_moire(source: Source, original: Source, strength: float) -> Source:
    """A frame whose colour in fine repeating texture is that of the texture as a whole.

    Where detail is finer than the grid, the two greens of a tile disagree, and colour drifts over the texture in waves. The
    waves are taken out of the colour; what is finer stays, as it holds the texture's own detail.

    Args:
        source: a mosaic, or linear colour that was made from it; original: the Bayer frame as it was before its noise was
            taken out; strength: 0 to 1.
    """
    model, order = noise_model(original), tile_places(original)
    mosaic = source if source.facts.kind == "bayer" else original
    a, b = (v[order].astype(np.float32).reshape(4, 1, 1) for v in (model.a, model.b))
    tiles = tiles_of(mosaic)[order]
    stable = stabilised(tiles, a, b).astype(np.float32)
    mask = _repeating(stable[1] - stable[2]) * np.float32(strength)
    if not mask.any():
        return source
    gain = (1 / np.array(source.facts.neutral, np.float32)).reshape(3, 1, 1)
    if source.facts.kind != "bayer":
        wide = cv2.resize(mask, source.size, interpolation=cv2.INTER_LINEAR)
        roots = np.sqrt(np.maximum(source.data * gain, 0) + FLOOR)
        planes = np.array(source.data)
        for n in (0, 2):
            planes[n] = _evened(roots[n], roots[1], wide, 2) / gain[n]
        return Source(source.facts, planes, profiles=source.profiles, gain_maps=source.gain_maps)
    roots = np.sqrt(np.maximum(tiles * gain[[0, 1, 1, 2]], 0) + FLOOR)
    green = (roots[1] + roots[2]) / 2
    out = np.array(source.data)
    h, w = (int(n) // 2 * 2 for n in out.shape)
    for place, n in ((0, 0), (3, 2)):
        value = _evened(roots[place], green, mask, 1) / gain[n]
        black = np.float32(source.facts.black[order[place]])
        numbers = np.clip(np.rint(value * (source.facts.white - black) + black), 0, 65535).astype(np.uint16)
        y, x = divmod(int(order[place]), 2)
        out[y:h:2, x:w:2] = np.where(mask > 0, numbers, out[y:h:2, x:w:2])
    return Source(source.facts, out, profiles=source.profiles, gain_maps=source.gain_maps)


FLOOR = np.float32(1e-3)


def _evened(root: F32, green: F32, mask: F32, scale: int) -> F32:
    """Linear values of a colour whose waves against green are taken out where the mask says."""
    weight = cv2.GaussianBlur(mask, (0, 0), 12.0 * scale) + np.float32(1e-6)
    colour = root - green
    wide = cv2.GaussianBlur(colour * mask, (0, 0), 12.0 * scale) / weight
    near = cv2.GaussianBlur(colour, (0, 0), 0.8 * scale)
    return np.asarray(np.maximum(root + mask * (wide - near), 0) ** 2 - FLOOR, np.float32)
