"""Runs of sixteen px against Lanczos' sums in double precision in both ways to look up."""

from functools import cache
from typing import Any

import numpy as np
import pytest
from numba import njit
from numpy.typing import NDArray

from tanner.core import vector16
from tanner.core.optics import runs
from tanner.core.optics.resample import lanczos
from tanner.core.optics.runs import FAR, REACH, SPAN

Array = NDArray[np.float64]


def at(values: Array, place: float) -> float:
    """Lanczos with three lobes of values at whole places."""
    first = int(np.floor(place)) - 2
    d = first + np.arange(6) - place
    w = np.sinc(d) * np.sinc(d / 3)
    return float((values[first : first + 6] * w).sum() / w.sum())


@cache
def compiled(reach: int, looks_up: bool) -> Any:
    """A kernel of one run; the second only tells the kernels apart."""
    run = runs._run_of(reach)

    @njit
    def go(plane, place, v, slope, p, u, du, gain, step, out, start, keep):  # type: ignore[no-untyped-def]
        run(plane, place, v, slope, p, u, du, gain, step, out, start, keep)

    return go


@pytest.mark.parametrize("looks_up", sorted({vector16.looks_up(), False}))
@pytest.mark.parametrize(
    ("reach", "u", "du"),
    [(SPAN, 0.3, 1.03), (SPAN, 0.95, 0.97), (REACH, 0.2, 0.6), (REACH, 0.7, 1.49), (FAR, 0.1, 1.6), (FAR, 0.9, 2.24)],
)
def test_a_run_is_lanczos_along_its_line(
    reach: int, u: float, du: float, looks_up: bool, monkeypatch: pytest.MonkeyPatch
) -> None:
    monkeypatch.setattr(vector16, "looks_up", lambda: looks_up)
    rng = np.random.default_rng(reach)
    plane = rng.random((12, 90)).astype(np.float32)
    top, left, v, slope = 2, 11, 0.4, 0.9 / reach
    columns = np.zeros(90)
    for j in range(left, left + reach):
        columns[j] = at(plane[:, j].astype(np.float64), top + 2 + v + slope * (j - left))
    f32 = np.float32
    p = tuple(f32(n) for n in lanczos(1.0).ravel())
    for keep in (16, 5):
        out = np.full(40, -1, np.float32)
        compiled(reach, looks_up)(
            plane, top * 90 + left, f32(v), f32(slope), p, f32(u), f32(du), f32(1.5), f32(0.01), out, 7, f32(keep)
        )
        ideal = [at(columns, left + 2 + u + i * du) * (1.5 + 0.01 * i) for i in range(keep)]
        assert np.abs(out[7 : 7 + keep] - ideal).max() < 1e-3
        assert (out[:7] == -1).all() and (out[7 + keep :] == -1).all()
