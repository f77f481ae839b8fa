"""Temperature and tint against colour-science: Robertson 1968 and Ohno 2013, from 2,500 to 10,000 K."""

from types import ModuleType

import numpy as np
import pytest

from tanner.core.colour.temperature import TINT_SCALE, mired_shift, temperature_to_xy, xy_to_temperature

KELVIN = [2500, 2856, 3200, 4000, 5003, 5500, 6504, 7500, 8700, 10000]


def uv(xy: tuple[float, float]) -> np.ndarray:
    """CIE 1960 uv (source: cie15)."""
    x, y = xy
    return np.array([4 * x, 6 * y]) / (-2 * x + 12 * y + 3)


@pytest.mark.parametrize("kelvin", KELVIN)
@pytest.mark.parametrize("tint", [-40, -12, 0, 12, 40])
def test_robertson(colour: ModuleType, kelvin: float, tint: float) -> None:
    xy = temperature_to_xy(kelvin, tint)
    theirs, duv = colour.temperature.uv_to_CCT_Robertson1968(uv(xy))
    assert theirs == pytest.approx(kelvin, rel=0.002)
    # Above the locus (greenish light) tint is positive: the picture is rendered towards magenta.
    assert duv * -TINT_SCALE == pytest.approx(tint, abs=0.6)


@pytest.mark.parametrize("kelvin", KELVIN)
@pytest.mark.parametrize("tint", [-30, 0, 30])
def test_ohno(colour: ModuleType, kelvin: float, tint: float) -> None:
    xy = temperature_to_xy(kelvin, tint)
    theirs, duv = colour.temperature.uv_to_CCT_Ohno2013(uv(xy))
    # In mired, where equal steps look equal; Robertson's method itself is good to about 1 mired here.
    assert 1e6 / theirs == pytest.approx(1e6 / kelvin, abs=1.0)
    assert duv * -TINT_SCALE == pytest.approx(tint, abs=1.5)


@pytest.mark.parametrize("kelvin", [2000, *KELVIN, 25000, 50000])
@pytest.mark.parametrize("tint", [-150, -20, 0, 20, 150])
def test_there_and_back(kelvin: float, tint: float) -> None:
    if abs(tint) == 150 and kelvin > 20000:
        pytest.skip("so far from the locus that lines of equal temperature cross")
    back = xy_to_temperature(temperature_to_xy(kelvin, tint))
    assert back[0] == pytest.approx(kelvin, rel=0.002)
    assert back[1] == pytest.approx(tint, abs=0.3)


def test_daylight_lies_green_of_the_locus(colour: ModuleType) -> None:
    """CIE daylight of 6504 K (source: cie15): its distance from the locus is +0.0032 in duv."""
    kelvin, tint = xy_to_temperature((0.31271, 0.32902))
    assert kelvin == pytest.approx(6504, abs=15)
    assert tint / -TINT_SCALE == pytest.approx(0.0032, abs=0.0003)


def test_mired_shift() -> None:
    assert mired_shift(5000, 50) == pytest.approx(4000)
    assert mired_shift(2000, 1000) == 2000
    assert mired_shift(50000, -100) == 50000
