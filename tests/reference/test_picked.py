"""Picked ranges: what lies in them, evenness, and the table against the formula; Oklab against colour-science."""

from typing import Any

import numpy as np
import pytest
from hypothesis import given
from hypothesis import strategies as st

from tanner.core.adjust.registry import defaults, develop
from tanner.core.colour.balance import Balance
from tanner.core.colour.mono import Mono
from tanner.core.colour.picked import PickedParts, middle_of, moved, share
from tanner.core.colour.ranges import GREY, Ranges
from tanner.core.colour.spaces import SPACES, oklab
from tanner.core.errors import TannerError
from tanner.core.raw.source import Source
from tanner.core.render import render
from tanner.core.series.exactness import range_at
from tanner.core.stages.mixer import deep_table, mix


def part(**more: Any) -> PickedParts:
    return PickedParts(kind="range", **{"middle": [0.6, 0.12, 40.0], **more})


def test_oklab_is_that_of_colour_science(colour: Any) -> None:
    rng = np.random.default_rng(2)
    working = rng.random((200, 3))
    xyz = working @ SPACES["prophoto"].to_pcs().T
    d65 = colour.adaptation.chromatic_adaptation_VonKries(
        xyz, colour.xy_to_XYZ((0.3457, 0.3585)), colour.xy_to_XYZ((0.3127, 0.3290)), "Bradford"
    )
    # Ours has white without any chroma; theirs is 0.0001 off.
    assert np.abs(oklab(working) - colour.XYZ_to_Oklab(d65)).max() < 6e-4


@given(
    st.floats(0, 360),
    st.floats(10, 90),
    st.floats(0, 100),
    st.floats(-100, 100),
    st.floats(-100, 100),
    st.floats(0, 100),
)
def test_only_what_is_in_the_range_changes_and_greys_never(
    hue: float, width: float, softness: float, turn: float, light: float, even: float
) -> None:
    one = part(
        middle=[0.6, 0.12, hue],
        width=width,
        softness=softness,
        hue=turn,
        lightness=light,
        even_hue=even,
        even_chroma=even,
    )
    rng = np.random.default_rng(5)
    before = rng.random(500), rng.random(500) * 0.3, rng.random(500) * 360
    after = moved([one], *before)
    away = np.abs((before[2] - hue + 180) % 360 - 180)
    outside = away >= width
    for a, b in zip(after, before, strict=True):
        assert (a[outside] == b[outside]).all()
    # Never beyond what its controls say, however they are set.
    assert (after[1] >= 0).all() and (after[0] > -0.001).all() and (after[0] < 1.001).all()
    grey = share(one, np.array([0.5]), np.array([0.0]), np.array([hue]))
    assert grey[0] == 0 and share(one, np.array([0.5]), np.array([GREY]), np.array([hue]))[0] == 1


def test_evenness_draws_the_range_together_round_what_was_picked() -> None:
    """Two dye lots: their difference shrinks by the amount, and all of it at 100 %."""
    lots = np.array([0.55, 0.62]), np.array([0.10, 0.13]), np.array([33.0, 46.0])
    for much in (0, 40, 100):
        after = moved([part(even_hue=much, even_chroma=much, even_lightness=much, width=30, softness=20)], *lots)
        for a, b in zip(after, lots, strict=True):
            assert np.ptp(a) == pytest.approx(np.ptp(b) * (1 - much / 100), abs=1e-9)
    hues = moved(
        [part(middle=[0.6, 0.1, 355.0], even_hue=100, width=40, softness=0)],
        *(np.array([v, v]) for v in (0.6, 0.1)),
        np.array([340.0, 10.0]),
    )[2]
    assert np.allclose(hues % 360, 355)  # across the circle's seam


def test_limits_of_strength_and_lightness_keep_the_rest() -> None:
    light, chroma, hue = np.array([0.2, 0.6, 0.9, 0.6]), np.array([0.12, 0.12, 0.12, 0.3]), np.full(4, 40.0)
    found = share(part(darkest=40, lightest=75, strongest=60), light, chroma, hue)
    assert found.tolist() == [0, 1, 0, 0]


def test_the_table_holds_what_the_formula_says() -> None:
    picked = [part(hue=60, saturation=-40, even_chroma=50), part(middle=[0.5, 0.1, 250.0], lightness=50, width=40)]
    table = deep_table(Ranges(), Mono(), picked)
    plain = deep_table(Ranges(), Mono(), [])
    assert np.abs(plain).max() < 1e-9 < 0.02 < np.abs(table).max()
    lab = np.array([0.5, 0.1 * np.cos(np.deg2rad(40)), 0.1 * np.sin(np.deg2rad(40))])
    assert np.abs(mix(Ranges(), Mono(), Balance(), lab, picked) - lab).max() > 0.01


def test_a_range_is_picked_in_the_picture_and_changes_it(source: Source) -> None:
    values = defaults(raw=True, lens=True)
    middle = range_at(source, values, (0.49, 0.75))
    changed = values | {
        "picked/00000000/kind": "range",
        "picked/00000000/middle": middle,
        "picked/00000000/saturation": -100.0,
    }
    before, after = (render(source, develop(v), (300, 200)).astype(int) for v in (values, changed))
    blue = before[..., 2] - before[..., 0] > 60
    assert blue.sum() > 200 and np.median(np.ptp(after[blue], axis=-1)) < 10
    assert np.abs(after[:40] - before[:40]).max() <= 1  # the backdrop is grey
    # Picked again with a change in force, and black and white after it, it is the same.
    assert np.allclose(range_at(source, changed | {"mono.amount": 100.0}, (0.49, 0.75)), middle)
    with pytest.raises(TannerError, match="grey there"):
        range_at(source, values, (0.05, 0.05))
    assert middle_of(np.array([0.5, 0.5, 0.5]))[1] < 1e-6
