"""Rows of colour tools in vectors: ends of rows, numbers that are none, both ways to look up, and roots against numpy's."""

from collections.abc import Callable
from typing import Any

import numpy as np
import pytest
from numba import njit

from tanner.core import jit
from tanner.core.colour.balance import Balance
from tanner.core.colour.mono import Mono
from tanner.core.colour.ranges import Ranges
from tanner.core.jit import intrinsic, types
from tanner.core.stages import channels, lightness, mixer
from tanner.core.stages.stage import HELD, WORK_ROWS, At
from tanner.core.tone.curve import Curve
from tanner.core.tone.levels import Levels
from tanner.core.tone.logs import cube_root, power_of
from tanner.core.vector16 import Lanes, array, load, store

CURVE = Curve(red=((0, 0), (0.3, 0.5), (1, 0.9)))
KERNELS: dict[str, tuple[Callable[..., None], Any]] = {
    "channels": (
        channels.channels_row,
        channels.Channels(True, np.ones(3, np.int32), channels.channel_tables(Levels(), CURVE)),
    ),
    "lightness": (
        lightness.lightness_row,
        lightness.Lightness(
            True, lightness.TO, lightness.BACK, lightness.lightness_table(((0, 0), (0.4, 0.5), (1, 1)))
        ),
    ),
    "mixer": (
        mixer.mixer_row,
        mixer.mixer(Ranges(orange_saturation=40, blue_hue=30), Mono(), Balance()),
    ),
}


def run(name: str, colours: np.ndarray, n: int) -> np.ndarray:
    kernel, parameters = KERNELS[name]
    rows = np.ascontiguousarray(colours.copy())
    work, held = np.zeros((WORK_ROWS, rows.shape[1]), np.float32), np.zeros((HELD, rows.shape[1]), np.float32)
    at = At(0, 0, rows.shape[1], 1, n, work, held, np.full(HELD // 4, -2, np.int64))
    kernel(rows[0], rows[1], rows[2], at, parameters)
    return rows


@pytest.mark.parametrize("name", KERNELS)
@pytest.mark.parametrize("n", [1, 15, 16, 17, 127, 128, 129, 500])
def test_a_row_ends_where_it_ends_and_px_do_not_know_each_other(name: str, n: int) -> None:
    colours = np.random.default_rng(n).uniform(0.001, 1.3, (3, n + 5)).astype(np.float32)
    whole = run(name, colours, n)
    assert np.array_equal(whole[:, n:], colours[:, n:]) and not np.array_equal(whole[:, :n], colours[:, :n])
    assert np.array_equal(run(name, colours[:, n - 1 :], 1)[:, 0], whole[:, n - 1])


@pytest.mark.parametrize("name", KERNELS)
def test_numbers_that_are_none_stay_where_they_are(name: str) -> None:
    colours = np.full((3, 40), 0.2, np.float32)
    good = run(name, colours, 40)
    colours[0, 3], colours[1, 20], colours[2, 7], colours[:, 9] = np.nan, np.inf, -np.inf, 0
    found = run(name, colours, 40)
    others = [j for j in range(40) if j not in (3, 7, 9, 20)]
    assert np.array_equal(found[:, others], good[:, others]) and np.isfinite(found[:, 9]).all()


def _on_sixteens(function: Callable[[Lanes], Lanes]) -> Callable[[np.ndarray, np.ndarray], None]:
    """A function of sixteen numbers on a whole array."""

    @intrinsic
    def some(typingctx, x, out, at):  # type: ignore[no-untyped-def]
        sig = types.void(x, out, at)

        def codegen(context: Any, builder: Any, signature: Any, args: Any) -> Any:
            (source, _), (goal, _) = (array(context, builder, signature.args[n], args[n]) for n in range(2))
            store(function(load(builder, source, args[2])), goal, args[2])
            return context.get_dummy_value()

        return sig, codegen

    jit.load()

    @njit
    def go(x, out):  # type: ignore[no-untyped-def]
        for k in range(0, len(x), 16):
            some(x, out, k)

    return go  # type: ignore[no-any-return]


_roots = _on_sixteens(cube_root)


@pytest.mark.parametrize("power", [1 / 2.4, 2.4])
def test_powers_are_near(power: float) -> None:
    x = np.geomspace(2.0**-13, 7.99, 16 * 4096).astype(np.float32)
    out = np.empty_like(x)
    _on_sixteens(lambda v: power_of(v, power))(x, out)
    assert np.abs(out / x.astype(np.float64) ** power - 1).max() < 3e-6
    # Held at both ends.
    ends = np.array([0.0, 1e-9, 100.0, 9.0] * 4, np.float32)
    _on_sixteens(lambda v: power_of(v, power))(ends, out[:16])
    assert np.allclose(out[:16:4], 2.0 ** (-13 * power), rtol=1e-5) and np.allclose(out[2:16:4], 8**power, rtol=1e-3)


def test_cube_roots_are_near() -> None:
    x = np.geomspace(2.0**-29, 7.99, 16 * 4096).astype(np.float32)
    x[1::2] *= -1
    out = np.empty_like(x)
    _roots(x, out)
    assert np.abs(out / np.cbrt(x.astype(np.float64)) - 1).max() < 1e-6
    # Held there: the way back cubes what is left of nothing.
    small = np.array([0.0, -0.0, 1e-38, -1e-42, 1e3, -1e3, 9.0, -9.0] * 2, np.float32)
    out = np.empty_like(small)
    _roots(small, out)
    assert np.abs(out[:4] ** 3).max() < 2e-9 and np.allclose(np.abs(out[4:8]), 2, rtol=1e-3) and (out[5:8:2] < 0).all()
