"""The data that the network is trained on: pictures are what they should be, and the coding is its own inverse."""

import numpy as np
from training.pictures import calm, picture

from tanner.core.noise.coding import INPUTS, coded, guess, linear, planes


def test_procedural_pictures_are_repeatable_and_varied() -> None:
    made = [(picture if seed < 4 else calm)(seed, 64) for seed in range(8)]
    assert np.array_equal(made[3], picture(3, 64)) and np.array_equal(made[5], calm(5, 64))
    assert all(p.shape == (64, 64, 3) and np.isfinite(p).all() and p.min() >= 0 and p.max() <= 4 for p in made)
    assert all(p.std() > 1e-3 for p in made) and len({round(float(p.mean()), 4) for p in made}) == 8


def test_the_coding_gives_clean_values_back() -> None:
    """A grey picture comes back by its own first guess."""
    values = np.full((4, 8, 10), 0.3, np.float32)
    found = linear(guess(coded(values)))
    assert found.shape == (3, 16, 20) and np.abs(found - 0.3).max() < 1e-5
    a, b, clip = (np.full(4, v, np.float32) for v in (1e-3, 1e-5, 1.5))
    seen = planes(values, a, b, clip)
    assert seen.shape == (INPUTS, 8, 10) and np.isfinite(seen).all()
    # The stabilised planes, their deviation, and the offset, by hand.
    offset = 0.375e-3 + 1e-2
    assert np.allclose(seen[0], np.sqrt(0.3 + offset), atol=1e-6)
    assert np.allclose(seen[8], 2 * np.sqrt(1e-3)) and np.allclose(seen[12], np.sqrt(offset), atol=1e-6)


def test_the_first_guess_puts_colours_where_they_belong() -> None:
    """A ramp of each colour, seen through the mosaic: the means of the nearest give it back away from the border."""
    y, x = np.mgrid[0:16, 0:20].astype(np.float32)
    colours = np.stack([0.5 + 0.01 * x, 0.6 + 0.01 * y, 0.7 - 0.01 * x])
    tiles = np.stack([colours[0, 0::2, 0::2], colours[1, 0::2, 1::2], colours[1, 1::2, 0::2], colours[2, 1::2, 1::2]])
    guessed = guess(tiles)
    for place, (dy, dx) in enumerate(((0, 0), (0, 1), (1, 0), (1, 1))):
        for c in range(3):
            found = guessed[3 * place + c][1:-1, 1:-1]
            assert np.abs(found - colours[c, dy::2, dx::2][1:-1, 1:-1]).max() < 1e-6
