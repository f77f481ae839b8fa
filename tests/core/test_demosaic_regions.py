"""A piece of a frame is demosaiced as the whole frame is, wherever it begins and however small it is."""

import numpy as np
import pytest

from tanner.core.optics.resample import box
from tanner.core.raw.demosaic import BLOCK_W, demosaic_means, demosaic_region, scratch

BLACK = np.full((2, 2), 512, np.float32)
GAIN = np.array([[2.0, 1.0], [1.0, 1.6]], np.float32) / 16_000


def region(raw: np.ndarray, y: int, x: int, h: int, w: int, red: tuple[int, int]) -> np.ndarray:
    out = np.full((3, h, w), np.nan, np.float32)
    gain = np.roll(GAIN, red, axis=(0, 1))
    demosaic_region(raw, y, x, BLACK, gain, *red, scratch(), out)
    return out


@pytest.mark.parametrize("red", [(0, 0), (0, 1), (1, 0), (1, 1)])
def test_a_piece_is_as_the_whole(red: tuple[int, int]) -> None:
    rng = np.random.default_rng(6)
    raw = rng.integers(500, 15_000, (61, BLOCK_W + 155)).astype(np.uint16)
    whole = region(raw, 0, 0, *raw.shape, red)
    assert np.isfinite(whole).all()
    # What is measured stays: red at red pixels, and so on.
    balanced = (raw - np.float32(512)) * np.roll(GAIN, red, axis=(0, 1))[
        np.ix_(np.arange(61) % 2, np.arange(raw.shape[1]) % 2)
    ]
    reds, greens = np.s_[red[0] :: 2, red[1] :: 2], np.s_[red[0] :: 2, 1 - red[1] :: 2]
    bright = balanced > 0.001
    assert np.abs(whole[0][reds] - balanced[reds])[bright[reds]].max() < 1e-5
    assert np.abs(whole[1][greens] - balanced[greens])[bright[greens]].max() < 1e-5
    for y, x, h, w in (
        (0, 0, 61, 3),
        (7, 11, 20, 33),
        (12, 799, 5, 64),
        (40, 900, 21, 55),
        (3, 801, 9, 1),
        (20, 100, 30, 831),
    ):
        piece = region(raw, y, x, h, w, red)
        assert np.abs(piece - whole[:, y : y + h, x : x + w]).max() < 1e-5, (y, x, h, w)


def test_beyond_the_borders_it_goes_on_as_in_a_mirror() -> None:
    raw = np.random.default_rng(7).integers(500, 15_000, (40, 70)).astype(np.uint16)
    beyond = region(raw, -8, -6, 60, 90, (0, 0))
    mirrored = region(np.pad(raw, ((16, 20), (14, 24)), mode="reflect"), 8, 8, 60, 90, (0, 0))
    assert np.abs(beyond - mirrored).max() < 1e-5


@pytest.mark.parametrize("k", [2, 3, 4])
@pytest.mark.parametrize(("y", "x", "rows", "columns"), [(0, 0, 30, 40), (-12, -12, 40, 450), (84, 96, 20, 100)])
def test_means_are_those_of_the_region_to_the_bit(k: int, y: int, x: int, rows: int, columns: int) -> None:
    raw = np.random.default_rng(k).integers(500, 12000, (180, 1500)).astype(np.uint16)
    black, gain = np.full((2, 2), 500, np.float32), np.full((2, 2), 1 / 12000, np.float32)
    whole, want = np.empty((3, rows * k, columns * k), np.float32), np.empty((3, rows, columns), np.float32)
    demosaic_region(raw, y, x, black, gain, 0, 1, scratch(), whole)
    box(whole, 0, 0, k, want, 0, 0, rows, columns)
    blocks = np.full((3, rows + 4, columns + 5), -1, np.float32)
    demosaic_means(raw, y, x, black, gain, 0, 1, scratch(), k, blocks, (3, rows, 2, columns))
    assert np.array_equal(blocks[:, 3:-1, 2:-3], want)
    blocks[:, 3:-1, 2:-3] = -1
    assert (blocks == -1).all()
