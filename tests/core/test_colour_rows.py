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
from tanner.core.colour.spaces import SPACES, oklab_cones, working_to
from tanner.core.jit import intrinsic, types
from tanner.core.stages import channels, lightness, local, mixer, output, tone
from tanner.core.stages.stage import HELD, WORK_ROWS, At
from tanner.core.tone.curve import Curve
from tanner.core.tone.levels import Levels
from tanner.core.tone.light import TABLE_SIZE, TABLE_TOP
from tanner.core.tone.logs import cube_root, power_of
from tanner.core.vector16 import Lanes, array, load, store

CURVE = Curve(red=((0, 0), (0.3, 0.5), (1, 0.9)))
PUSHED = np.float32([0.8, -0.6, 0.3])
"""Parameters of highlights, shadows and local contrast."""
BASE = np.stack([np.full((2, 2), 0.7), np.full((2, 2), -0.9)]).astype(np.float32)
TABLE = (1 + np.sin(np.arange(TABLE_SIZE) / 900) / 3).astype(np.float32)
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
    "tone": (tone.tone_row, tone.Tone(True, TABLE)),
    "local": (local.local_row, local.Local(True, local.LUMA, BASE, np.float32(0.4), PUSHED)),
    "output": (
        output.output_row,
        output.Output(True, np.float32(working_to(SPACES["srgb"])), np.float32(oklab_cones(SPACES["srgb"]))),
    ),
}


def run(name: str, colours: np.ndarray, n: int, *more: Any, kernel: Any = None) -> np.ndarray:
    own, parameters = KERNELS[name]
    rows = np.ascontiguousarray(colours.copy())
    work, held = np.zeros((WORK_ROWS, rows.shape[1]), np.float32), np.zeros((HELD, rows.shape[1]), np.float32)
    at = At(0, 0, rows.shape[1], 1, n, work, held, np.full(HELD // 4, -2, np.int64))
    (kernel or own)(rows[0], rows[1], rows[2], at, parameters, *more)
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


def test_tone_moves_both_ends_and_keeps_the_middle_in_proportion() -> None:
    colours = np.random.default_rng(3).uniform(0, 2, (3, 300)).astype(np.float32)
    colours[:, 7] = 0.3
    found = run("tone", colours, 300)
    high, low, middle = colours.max(axis=0), colours.min(axis=0), np.median(colours, axis=0)

    def toned(value: np.ndarray) -> np.ndarray:
        place = np.sqrt(value.astype(float) / TABLE_TOP) * (TABLE_SIZE - 1)
        return np.asarray(value * np.interp(place, np.arange(TABLE_SIZE), TABLE))

    share = np.divide(middle - low, high - low, out=np.zeros(300, np.float32), where=high > low)
    assert (
        np.abs(found.max(axis=0) - toned(high)).max() < 0.001 and np.abs(found.min(axis=0) - toned(low)).max() < 0.001
    )
    assert np.abs(np.median(found, axis=0) - (toned(low) + share * (toned(high) - toned(low)))).max() < 0.001


def test_gains_by_fields_are_those_of_the_picture_and_exposure_moves_what_they_go_by() -> None:
    colours = np.random.default_rng(4).uniform(0.001, 1.3, (3, 77)).astype(np.float32)
    alike = np.repeat(np.float32([0, *PUSHED])[:, None], 77, axis=1)
    by_fields = run("local", colours, 77, alike, kernel=local.local_row_fields)
    assert np.abs(by_fields / run("local", colours, 77) - 1).max() < 1e-6
    alike[0] = 0.5
    lum = local.LUMA.astype(float) @ colours
    base = 0.7 * (np.log2(lum) - 0.4) - 0.9 + 0.4 + 0.5
    middle = np.log2(0.18)
    u, v = np.clip((base - middle) / 4, 0, 1), np.clip((middle - base) / 5, 0, 1)
    up, down, contrast = PUSHED
    gain = 0.5 + up * u * u * (3 - 2 * u) + down * v * v * (3 - 2 * v) + contrast * (np.log2(lum) + 0.5 - base)
    by_fields = run("local", colours, 77, alike, kernel=local.local_row_fields)
    assert np.abs(by_fields / (colours * 2**gain) - 1).max() < 1e-3


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
