"""How noisy a frame is: variance = a * value + b for each place of its mosaic, of values from 0 (black) to 1 (white).

From the file's NoiseProfile where it has one; else from what was measured on other frames of the camera (see `table`);
else estimated from the frame itself.
"""

from dataclasses import dataclass
from typing import Literal

import numpy as np
from numpy.typing import NDArray

from tanner.core.memory import Slot
from tanner.core.noise.table import TABLE
from tanner.core.raw.source import Source

Array = NDArray[np.float64]
MOST_A, MOST_B = 0.2, 0.05
"""More noise than this is no sensor's: the profile is damaged."""
USUAL = 2.2e-6
"""a at ISO 1 of a usual sensor, for frames from which nothing can be estimated (from memory)."""


@dataclass(frozen=True)
class NoiseModel:
    """a and b (4,) for the places of a 2 x 2 tile in the order of rows; where they come from."""

    a: Array
    b: Array
    source: Literal["file", "camera", "frame", "usual"]

    def sigma(self, value: float) -> float:
        """Deviation at a value, of the greenest place."""
        return float(np.sqrt(self.a[1] * value + self.b[1]))


MODEL: Slot[NoiseModel] = Slot("noise model")


def noise_model(source: Source) -> NoiseModel:
    """The model of a Bayer frame, kept with the source."""
    return source.memory.get(MODEL, None, lambda: _of(source))


def _of(source: Source) -> NoiseModel:
    profile = np.array(source.facts.noise_profile, dtype=np.float64)
    if profile.size in (2, 6) and np.isfinite(profile).all():
        rows = np.tile(profile, 3)[:6].reshape(3, 2) if profile.size == 2 else profile.reshape(3, 2)
        a, b = rows[:, 0], rows[:, 1]
        if (a > 0).all() and (a < MOST_A).all() and (b >= 0).all() and (b < MOST_B).all():
            order = _colours(source)
            return NoiseModel(a[order], np.maximum(b[order], 1e-12), "file")
    known = TABLE.find(source.facts.camera_name, source.facts.iso)
    if known is not None and source.facts.kind == "bayer":
        return NoiseModel(*known, "camera")
    found = measured(source)
    if found is not None:
        return NoiseModel(*found, "frame")
    a = np.full(4, usual(source.facts.iso))
    return NoiseModel(a, (3 * a) ** 2, "usual")


def measured(source: Source) -> tuple[Array, Array] | None:
    """a and b (4,) of a Bayer frame from itself, or None when it has too little that is even."""
    if source.facts.kind != "bayer" or min(source.data.shape) < 128:
        return None
    return estimated(tiles_of(_bands(source)))


MEASURED = 3_000_000
"""px of a frame that noise is measured on."""


def _bands(source: Source) -> Source:
    """Bands of rows all over a large frame, as one: enough to measure on."""
    h, w = source.data.shape
    share = MEASURED / (h * w)
    if share > 0.6:
        return source
    band = 2 * BLOCK * 6
    tops = np.linspace(0, h - band, max(2, int(h * share / band))).astype(int) // 2 * 2
    data = np.concatenate([source.data[t : t + band] for t in tops])
    return Source(source.facts, data)


def root_noise(source: Source) -> float:
    """Deviation of the roots of a mosaic's balanced values, from photons alone; 0 where it is taken out already."""
    if source.facts.kind != "bayer" or source.denoised:
        return 0.0
    gains = 1 / np.array(source.facts.neutral)
    return float(np.sqrt((noise_model(source).a * gains[_colours(source)]).mean()) / 2)


def usual(iso: float | None) -> float:
    """a of a usual sensor."""
    return USUAL * (iso or 100)


def _colours(source: Source) -> NDArray[np.intp]:
    """For each place of a tile which of red, green, blue it is."""
    ry, rx = source.facts.pattern or (0, 0)
    result = np.ones(4, np.intp)
    result[2 * ry + rx], result[2 * (1 - ry) + 1 - rx] = 0, 2
    return result


def tile_places(source: Source) -> NDArray[np.intp]:
    """The places of a tile (counted by rows) of red, the green beside it, the green below it, and blue."""
    ry, rx = source.facts.pattern or (0, 0)
    return np.array([2 * ry + rx, 2 * ry + 1 - rx, 2 * (1 - ry) + rx, 2 * (1 - ry) + 1 - rx], np.intp)


def tiles_of(source: Source) -> NDArray[np.float32]:
    """The mosaic from 0 (black) to 1 (white), as tiles (4, H/2, W/2) in the order of rows."""
    black = np.array(source.facts.black, dtype=np.float32)
    places = ((0, 0), (0, 1), (1, 0), (1, 1))
    scale = 1 / (source.facts.white - black)
    h, w = (n // 2 * 2 for n in source.data.shape)
    return np.stack([(source.data[y:h:2, x:w:2] - black[n]) * scale[n] for n, (y, x) in enumerate(places)]).astype(
        np.float32
    )


BLOCK = 8
_QUARTILE = 0.7668
"""What a quarter of blocks of pure noise lie below, as a share of its variance: by simulation, for BLOCK and the filter."""


def estimated(tiles: NDArray[np.float32]) -> tuple[Array, Array] | None:
    """a and b of each plane (n, h, w) from its own even places, or None when it has too few.

    Second differences across both diagonals leave little of a picture and all of its noise (source: immerkaer1996);
    their variance is taken in blocks, and at each level the quietest quarter of the blocks speaks, so that texture does
    not. A line is fitted through the levels (after foi2008).
    """
    a, b = np.empty(len(tiles)), np.empty(len(tiles))
    for n, plane in enumerate(tiles):
        d = _second_differences(plane)
        h, w = (v // BLOCK * BLOCK for v in d.shape)
        squares = (d[:h, :w] ** 2).reshape(h // BLOCK, BLOCK, w // BLOCK, BLOCK).mean(axis=(1, 3)).ravel()
        values = plane[1:-1, 1:-1][:h, :w]
        means = values.reshape(h // BLOCK, BLOCK, w // BLOCK, BLOCK).mean(axis=(1, 3)).ravel()
        tops = values.reshape(h // BLOCK, BLOCK, w // BLOCK, BLOCK).max(axis=(1, 3)).ravel()
        good = (tops < 0.97) & (means > -0.01)
        if good.sum() < 100:
            return None
        means, squares = means[good], squares[good]
        order = np.argsort(means)
        bins = np.array_split(order, int(np.clip(len(order) // 60, 6, 48)))
        level = np.array([means[i].mean() for i in bins])
        noise = np.array([np.quantile(squares[i], 0.25) for i in bins]) / _QUARTILE
        # Dark levels are exact in themselves, so errors count in shares of what is measured.
        terms = np.stack([level, np.ones_like(level)], axis=1)
        weight = 1 / np.maximum(noise, 1e-12)
        for _ in range(8):
            fit = np.linalg.lstsq(terms * weight[:, None], noise * weight, rcond=None)[0]
            fitted = np.maximum(terms @ fit, 1e-12)
            # Levels with texture everywhere lie above the line, and count less and less.
            above = np.clip((noise - fitted) / fitted, 0, None)
            weight = 1 / (fitted * (1 + (above / 0.15) ** 2))
        a[n], b[n] = max(float(fit[0]), 1e-8), max(float(fit[1]), 1e-12)
    return a, b


def _second_differences(plane: NDArray[np.float32]) -> Array:
    p = plane.astype(np.float64)
    d = (
        p[:-2, :-2] + p[:-2, 2:] + p[2:, :-2] + p[2:, 2:] + 4 * p[1:-1, 1:-1]
        - 2 * (p[:-2, 1:-1] + p[2:, 1:-1] + p[1:-1, :-2] + p[1:-1, 2:])
    )  # fmt: skip
    return d / 6
