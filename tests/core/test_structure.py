"""Texture and structure without halos or noise, against a float64 reference; haze on a scene of known depth."""

from typing import Any

import numpy as np
import pytest
from hypothesis import given, settings
from hypothesis import strategies as st
from numpy.typing import NDArray
from scipy.ndimage import uniform_filter

from tanner.core.adjust.registry import develop
from tanner.core.render.guide import LAYERS
from tanner.core.stages import haze, structure
from tanner.core.stages.local import LUMA, NO_GUIDE
from tanner.core.stages.stage import HELD, WORK_ROWS, At
from tanner.core.tone.base import coefficients
from tanner.core.tone.haze import darkest, estimate

F64 = NDArray[np.float64]
F32 = NDArray[np.float32]


def through(kernel: Any, picture: F64, parameters: Any) -> F64:
    """Working values (h, w, 3) through a stage that reads layers, row by row."""
    height, width = picture.shape[:2]
    result = np.ascontiguousarray(picture.transpose(2, 0, 1), np.float32)
    work, held = np.empty((WORK_ROWS, width), np.float32), np.empty((HELD, width), np.float32)
    state = np.full(HELD // 4, -2, np.int64)
    for y in range(height):
        kernel(result[0, y], result[1, y], result[2, y], At(y, 0, width, height, width, work, held, state), parameters)
    return result.transpose(1, 2, 0).astype(np.float64)


def layers(luminance: F64, amount: float, noise: float = 0.0, name: str = "structure") -> structure.StructureLayers:
    _, share, edge = LAYERS[name]
    found = coefficients(luminance.astype(np.float32), share, edge)
    amounts = np.array([0, amount * structure.STRONGEST], np.float32)
    return structure.StructureLayers(True, LUMA, NO_GUIDE, found, amounts, np.float32(0), np.float32(noise))


def grey(luminance: F64) -> F64:
    return np.repeat(luminance[..., None], 3, axis=2)


def reference(luminance: F64, amount: float, share: float, edge: float) -> F64:
    """The same method in float64, by SciPy's box filter, with the layer at the picture's own size."""
    log = np.log2(luminance)
    size = 2 * max(2, round(max(luminance.shape) * share)) + 1

    def mean(x: F64) -> F64:
        return np.asarray(uniform_filter(x, size, mode="reflect"))

    average = mean(log)
    a = (v := np.maximum(mean(log * log) - average**2, 0)) / (v + edge)
    base = mean(a) * log + mean(average * (1 - a))
    return np.asarray(luminance * 2 ** (amount * structure.STRONGEST * (log - base)))


@pytest.mark.parametrize("stops", [0.5, 1.0, 3.0])
@pytest.mark.parametrize("name", ["structure", "texture"])
def test_a_step_hardly_overshoots_at_the_strongest(stops: float, name: str) -> None:
    luminance = np.full((240, 960), 0.1)
    luminance[:, 480:] *= 2**stops
    after = through(structure.structure_row, grey(luminance), layers(luminance, 1.0, name=name))[120, :, 1]
    step = luminance[0, -1] - luminance[0, 0]
    over = max(after.max() - luminance[0, -1], luminance[0, 0] - after.min()) / step
    assert over <= 0.03, over


def test_it_is_the_float64_reference() -> None:
    chance = np.random.default_rng(3)
    luminance = 0.2 * 2 ** (uniform_filter(chance.normal(0, 1, (160, 320)), 5) * 2)
    for amount in (1.0, 0.4, -0.9):
        got = through(structure.structure_row, grey(luminance), layers(luminance, amount))[..., 1]
        share, edge = LAYERS["structure"][1:]
        wanted = reference(luminance, amount, share, edge)
        inside = (slice(8, -8), slice(8, -8))
        assert np.abs(np.log2(got / wanted))[inside].max() < 0.01


def test_texture_grows_and_noise_does_not() -> None:
    """What the noise model says is noise is raised by at most a tenth, while a texture of nine times that grows by two fifths and more."""
    chance = np.random.default_rng(5)
    noise = 0.0005
    root = np.sqrt(0.2) + chance.normal(0, noise, (200, 400))
    plain = root**2
    after = through(structure.structure_row, grey(plain), layers(plain, 1.0, noise))[..., 1]
    inner = (slice(10, -10), slice(10, -10))
    assert np.log2(after[inner]).std() <= 1.1 * np.log2(plain[inner]).std()
    waves = 0.03 * np.sin(np.arange(400) / 1.2)[None, :] * np.ones((200, 1))
    relief = plain * 2**waves
    after = through(structure.structure_row, grey(relief), layers(relief, 1.0, noise))[..., 1]
    profile = [np.log2(x[inner]).mean(axis=0).std() for x in (relief, after)]
    assert profile[1] > 1.4 * profile[0]


@settings(max_examples=30, deadline=None)
@given(st.floats(-100, 100), st.floats(0.01, 0.9), st.floats(-3, 3))
def test_even_surfaces_stay_whatever_the_exposure(amount: float, level: float, ev: float) -> None:
    luminance = np.full((40, 60), level)
    found = coefficients((luminance / 2**ev).astype(np.float32), 1 / 10, 0.012)
    amounts = np.array([0, amount / 100], np.float32)
    p = structure.StructureLayers(True, LUMA, NO_GUIDE, found, amounts, np.float32(ev), np.float32(0.003))
    assert np.abs(through(structure.structure_row, grey(luminance), p) - level).max() < 2e-3 * level


def scene() -> tuple[F64, F64, F64]:
    """A scene of patches that lie the farther off the higher up, what comes through, and the picture with haze in front of it."""
    chance = np.random.default_rng(9)
    height, width = 240, 360
    cells = chance.uniform(0, 0.8, (24, 36, 3))
    cells[chance.uniform(size=(24, 36)) < 0.4] *= 0.05
    clear = cells.repeat(10, axis=0).repeat(10, axis=1)
    depth = np.linspace(0.2, 1.4, height)[::-1, None] * np.ones((1, width))
    share = np.exp(-depth)
    air = np.array([0.92, 0.95, 1.0])
    return clear, share, clear * share[..., None] + air * (1 - share[..., None])


def test_haze_of_a_known_depth_is_found_and_taken_away() -> None:
    clear, share, hazy = scene()
    luminance = (hazy @ LUMA.astype(np.float64)).astype(np.float32)
    air, found = estimate(hazy.transpose(2, 0, 1).astype(np.float32), luminance)
    estimated = found[0] * np.log2(luminance) + found[1]
    rows = estimated.mean(axis=1), share.mean(axis=1)
    assert np.corrcoef(*rows)[0, 1] > 0.9 and air.min() > 0.75
    p = haze.Haze(True, LUMA, found, np.float32(0), air, np.float32(1))
    after = through(haze.haze_row, hazy, p)
    before, left = np.abs(hazy - clear).mean(), np.abs(after - clear).mean()
    assert left < 0.6 * before
    # Added haze makes everything nearer to its light, and nothing changes at 0: the stage is off.
    more = through(haze.haze_row, hazy, p._replace(amount=np.float32(-1)))
    assert np.abs(more - air).mean() < 0.7 * np.abs(hazy - air).mean()
    assert not develop({}).group(structure.Structure).haze


def test_a_plain_backdrop_is_no_haze() -> None:
    """A dark thing with detail before a plain grey sweep, in clear air: the sweep, lit from one side, was darkened by two thirds of a stop."""
    chance = np.random.default_rng(4)
    picture = np.full((300, 450, 3), 0.55)
    picture *= np.linspace(0.35, 1.1, 450)[None, :, None]
    thing = chance.uniform(0.01, 0.5, (20, 30, 3)).repeat(6, axis=0).repeat(6, axis=1)
    picture[90:210, 135:315] = thing
    luminance = (picture @ LUMA.astype(np.float64)).astype(np.float32)
    air, found = estimate(picture.transpose(2, 0, 1).astype(np.float32), luminance)
    p = haze.Haze(True, LUMA, found, np.float32(0), air, np.float32(1))
    sweep = np.ones(luminance.shape, bool)
    sweep[80:220, 125:325] = False
    changed = np.log2(through(haze.haze_row, picture, p)[sweep].mean() / picture[sweep].mean())
    assert -0.25 < changed < 0.1


def test_the_darkest_channel_is_that_of_the_place() -> None:
    channels = np.ones((3, 100, 480), np.float32)
    channels[2, 50, 200] = 0.1
    dark = darkest(channels)
    assert dark[50, 200] == np.float32(0.1) and dark[51, 201] == np.float32(0.1) and dark[50, 240] == 1
