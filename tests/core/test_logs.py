"""Fast logarithms and powers, against numpy's in double precision."""

import numpy as np
import pytest

from tanner.core.tone.logs import exp2_row, log2_row

RNG = np.random.default_rng(4)


@pytest.mark.parametrize("n", [1, 15, 16, 17, 1000])
def test_logarithms_and_powers_are_near_and_stay_within_their_row(n: int) -> None:
    x = np.exp(RNG.uniform(-13, 11, n + 3)).astype(np.float32)
    out = np.full(n + 3, 7, np.float32)
    log2_row(x, out, n)
    assert np.abs(out[:n] - np.log2(x[:n].astype(np.float64))).max() < 2e-5
    assert (out[n:] == 7).all()
    y = RNG.uniform(-29.9, 29.9, n + 3).astype(np.float32)
    wanted = np.exp2(y.astype(np.float64))
    beyond = y[n:].copy()
    exp2_row(y, y, n)  # in place
    assert np.array_equal(y[n:], beyond)
    assert np.abs(y[:n] / wanted[:n] - 1).max() < 1e-5


def test_what_has_no_logarithm_is_held_at_the_end() -> None:
    x = np.array([0, -1, np.nan, 2.0**-25, np.inf], np.float32)
    out = np.empty_like(x)
    log2_row(x, out, 5)
    assert np.allclose(out[:4], -20) and np.isfinite(out).all()
    exp2_row(np.array([-1e9, 1e9, np.nan], np.float32), out, 3)
    assert np.isfinite(out[:3]).all() and out[0] == np.float32(2.0**-30) and out[1] == np.float32(2.0**30)
