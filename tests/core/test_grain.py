"""Grain: its spectrum in shares of the frame, its own on each frame, none at black and white."""

from itertools import pairwise

import numpy as np
import pytest
from numpy.typing import NDArray

from tanner.core.raw.facts import FrameFacts
from tanner.core.stages.grain import STRONGEST, grain_of, lay_grain, tile_of
from tanner.core.stages.vignette import Finish


def facts(name: str = "AF0001.DNG") -> FrameFacts:
    return FrameFacts(path=f"/somewhere/{name}", kind="bayer", width=6000, height=4000)


def laid(finish: Finish, size: tuple[int, int], level: float = 0.5, name: str = "AF0001.DNG") -> NDArray[np.float32]:
    planes = np.full((3, size[1], size[0]), level, np.float32)
    grain = grain_of(finish, facts(name), size)
    assert grain is not None
    lay_grain(planes, 0, 0, 0, *grain)
    return planes - np.float32(level)


def spectrum(x: NDArray[np.float32], waves: NDArray[np.float64]) -> NDArray[np.float64]:
    """Mean power per area of the frame at so many waves along its long edge, by FFT."""
    power = np.abs(np.fft.rfft2(x)) ** 2 / x.size**2
    h, w = x.shape
    fy, fx = np.fft.fftfreq(h, 1 / h) * (w / h), np.arange(power.shape[1])
    radius = np.hypot(fx[None, :], fy[:, None])
    return np.array([power[(radius >= lo) & (radius < hi)].sum() for lo, hi in pairwise(waves)])


@pytest.mark.parametrize("size", [30, 100])
@pytest.mark.parametrize("roughness", [0, 80])
def test_its_spectrum_is_the_same_at_1080_px_and_at_full_size(size: int, roughness: int) -> None:
    """In waves along the frame, up to what 1,080 px can hold: within 10 %."""
    finish = Finish(grain=60, grain_size=size, grain_roughness=roughness)
    waves = np.array([60, 120, 200, 280, 360, 440, 500.0])
    small, full = (spectrum(laid(finish, s)[1], waves) for s in ((1080, 720), (5400, 3600)))
    # Where there is hardly any power, a share of it says nothing.
    there = full > 0.02 * full.sum()
    assert there.sum() >= 3 and np.abs(small / full - 1)[there].max() < 0.10


def test_it_stands_still_on_a_frame_and_differs_between_frames() -> None:
    finish = Finish(grain=40)
    one, again, other = (laid(finish, (600, 400), name=n)[0] for n in ("AF0001.DNG", "AF0001.DNG", "AF0002.DNG"))
    assert (one == again).all()
    assert abs(np.corrcoef(one.ravel(), other.ravel())[0, 1]) < 0.05
    # Block by block it is the same as at once.
    grain = grain_of(finish, facts(), (600, 400))
    assert grain is not None
    part = np.full((3, 60, 90), 0.5, np.float32)
    lay_grain(part, 5, 100, 200, *grain)
    assert np.allclose(part[0, 5:-5, 5:-5] - 0.5, one[100:150, 200:280], atol=1e-6)


def test_grey_grain_is_grey_and_colour_is_each_channels_own() -> None:
    grey, colour = (laid(Finish(grain=50, grain_colour=c), (600, 400)) for c in (0, 100))
    assert (grey[0] == grey[1]).all() and (grey[0] == grey[2]).all()
    assert abs(np.corrcoef(colour[0].ravel(), colour[1].ravel())[0, 1]) < 0.05
    assert grey[0].std() == pytest.approx(colour[1].std(), rel=0.1)


def test_black_and_white_stay_and_the_amount_is_a_deviation() -> None:
    assert not laid(Finish(grain=100), (300, 200), 0.0).any() and not laid(Finish(grain=100), (300, 200), 1.0).any()
    full = laid(Finish(grain=100, grain_size=100), (3000, 2000))
    assert full.std() == pytest.approx(STRONGEST, rel=0.05)
    assert grain_of(Finish(), facts(), (300, 200)) is None
    assert tile_of(512, 512, 0.3).std() == pytest.approx(1, rel=0.02) and abs(tile_of(512, 512, 0.3).mean()) < 1e-6
