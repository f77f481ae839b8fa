"""ASC CDL by its published formula: read as curves, written from curves, and what cannot be said so."""

import numpy as np
import pytest
from hypothesis import given, settings
from hypothesis import strategies as st

from tanner.core.colour.balance import Balance
from tanner.core.colour.cdl import Correction, corrected, fitted, read_cdl, to_curves, write_cdl
from tanner.core.colour.mono import Mono
from tanner.core.colour.ranges import Ranges
from tanner.core.colour.spaces import oklab
from tanner.core.errors import FormatError
from tanner.core.stages.as_cdl import graded, said
from tanner.core.stages.mixer import mix
from tanner.core.tone.curve import Curve, evaluate
from tanner.core.tone.levels import CHANNELS, Levels
from tanner.core.tone.light import from_display

X = np.linspace(0, 1, 1001)
COLUMNS = np.repeat(X[:, None], 3, axis=1)
FILE = b"""<?xml version="1.0"?>
<ColorDecisionList xmlns="urn:ASC:CDL:v1.01"><ColorDecision><ColorCorrection id="warm.1">
<SOPNode><Description>x</Description><Slope>1.1 1.0 0.9</Slope><Offset>0.02 0 -0.03</Offset><Power>0.95 1.0 1.2</Power></SOPNode>
<SatNode><Saturation>0.9</Saturation></SatNode></ColorCorrection></ColorDecision></ColorDecisionList>"""


def test_a_file_is_read_and_its_curves_are_the_formula() -> None:
    (found,) = read_cdl(FILE, "warm.cdl")
    assert found == Correction("warm.1", (1.1, 1.0, 0.9), (0.02, 0.0, -0.03), (0.95, 1.0, 1.2), 0.9)
    # The formula by hand at one value: (0.5 * 1.1 + 0.02) ** 0.95.
    assert corrected(found, np.array([0.5, 0.5, 0.5]))[0] == pytest.approx(0.57**0.95)
    curves = to_curves(found)
    Curve(**curves)
    wanted = corrected(found, COLUMNS)
    for k, name in enumerate(CHANNELS):
        assert np.abs(evaluate(curves[name], X) - wanted[:, k]).max() < 0.005


gentle = (
    st.tuples(*[st.floats(0.6, 1.6)] * 3),
    st.tuples(*[st.floats(-0.15, 0.15)] * 3),
    st.tuples(*[st.floats(0.7, 1.5)] * 3),
)


@settings(max_examples=60, deadline=None)
@given(*gentle)
def test_there_and_back_again(slope: tuple[float, ...], offset: tuple[float, ...], power: tuple[float, ...]) -> None:
    correction = Correction("a", slope, offset, power)  # type: ignore[arg-type]
    curves = to_curves(correction)
    Curve(**curves)
    outputs = np.stack([evaluate(curves[c], X) for c in CHANNELS], axis=1)
    assert np.abs(outputs - corrected(correction, COLUMNS)).max() < 0.03
    again, off = fitted(outputs, "a b/c")
    assert off < 0.03
    (read,) = read_cdl(write_cdl(again), "x.cc")
    assert (
        read.name == "a-b-c"
        and np.allclose(read.slope, again.slope, atol=1e-5)
        and np.allclose(read.power, again.power, atol=1e-5)
    )


def test_what_cannot_be_said_so_is_measured() -> None:
    bent = evaluate([(0.0, 0.2), (0.3, 0.1), (0.7, 0.9), (1.0, 0.6)], X)
    assert fitted(np.stack([bent] * 3, axis=1))[1] > 0.1


@pytest.mark.parametrize(
    ("data", "why"),
    [
        (b"", "no XML"), (b"<a/>", "no ColorCorrection"), (FILE.decode().encode("utf-16"), "no XML file in UTF-8"),
        (FILE.replace(b"1.1 1.0 0.9", b"1.1 1.0"), "3 numbers"), (FILE.replace(b"0.95", b"nan"), "3 numbers"),
        (FILE.replace(b"0.95 1.0 1.2", b"0 1 1"), "power must be above"), (FILE.replace(b"0.9</Sat", b"x</Sat"), "1 number"),
        (b'<!DOCTYPE x [<!ENTITY a "b">]>' + FILE, "entities"), (b" " * 1_000_001, "too large"),
    ],
)  # fmt: skip
def test_what_is_no_cdl_is_said(data: bytes, why: str) -> None:
    with pytest.raises(FormatError, match=f"(?s)odd.cdl: .*{why}"):
        read_cdl(data, "odd.cdl")


def test_the_balance_is_said_as_it_acts_on_greys() -> None:
    """All of it warmer and lighter: on greys nearly the same, further off on colours, which is told; and it is what it is told."""
    balance = Balance(all_hue=70, all_strength=25, all_lightness=10)
    found = said(Levels(), Curve(), balance, "warm")
    x = np.repeat(np.linspace(0, 1, 41)[:, None], 3, axis=1)
    there = graded(Levels(), Curve(), balance, x)
    assert np.abs(corrected(found.correction, x) - there).max() == pytest.approx(found.greys, abs=0.005)
    # Black and white stay where they are, which no slope and offset say: the most is off close to them.
    inside = slice(4, -4)
    assert np.abs(corrected(found.correction, x) - there)[inside].max() < 0.4 * np.abs(there - x).max()
    assert found.greys < 0.05
    assert found.colours > found.greys
    red, _, blue = (found.correction.slope[k] * 0.5 + found.correction.offset[k] for k in range(3))
    assert red ** found.correction.power[0] > blue ** found.correction.power[2]  # warm where the middle is


def test_without_a_balance_the_channels_are_all_that_is_said() -> None:
    correction = Correction("a", (1.1, 1.0, 0.9), (0.02, 0.0, -0.03), (0.95, 1.0, 1.2))
    found = said(Levels(), Curve(**to_curves(correction)), Balance(), "a")
    assert found.greys < 0.01 and found.colours == pytest.approx(found.greys, abs=0.01)


def test_the_balance_in_a_file_is_the_one_in_the_picture() -> None:
    balance = Balance(highlights_hue=60, highlights_strength=40, shadows_lightness=25)
    values = np.stack([np.linspace(0.05, 0.95, 64)] * 3, axis=-1)
    wanted = mix(Ranges(), Mono(), balance, oklab(from_display(values)))
    found = oklab(from_display(graded(Levels(), Curve(), balance, values)))
    assert np.abs(found - wanted).max() < 2e-3
