"""Hue ranges, balance, black and white, curves and levels of channels, lightness alone: against formulas and outside references."""

from collections.abc import Callable
from types import ModuleType
from typing import Any

import numpy as np
import pytest
from hypothesis import given, settings
from hypothesis import strategies as st
from numpy.typing import NDArray
from scipy.interpolate import PchipInterpolator

from tanner.core.colour.balance import Balance, zones
from tanner.core.colour.mono import Mono
from tanner.core.colour.ranges import HUES, Ranges, shares
from tanner.core.colour.spaces import SPACES, neutral_cones, working_to
from tanner.core.stages import channels, lightness, mixer
from tanner.core.stages.stage import WORK_ROWS, At
from tanner.core.tone.curve import Curve, evaluate
from tanner.core.tone.levels import Levels

F64 = NDArray[np.float64]
CONES = neutral_cones()
STRAIGHT = [(0.0, 0.0), (1.0, 1.0)]
ALL = np.ones(3, np.int32)
LEAST = 1e-8
"""Light below which roots are held: less than any file keeps."""
BENT = [(0.0, 0.0), (0.3, 0.22), (0.7, 0.8), (1.0, 1.0)]


def row(working: F64, kernel: Callable[..., None], parameters: Any) -> F64:
    """Working values (n, 3) through a stage's kernel."""
    n = len(working)
    at = At(0, 0, n, 1, n, np.empty((WORK_ROWS, n), np.float32), np.empty((4, n), np.float32), np.zeros(1, np.int64))
    planes = [np.ascontiguousarray(working[:, k], np.float32) for k in range(3)]
    kernel(*planes, at, parameters)
    return np.stack(planes, axis=-1).astype(np.float64)


def from_srgb(linear: F64) -> F64:
    return np.asarray(linear @ np.linalg.inv(working_to(SPACES["srgb"])).T)


def cube(steps: int = 9) -> F64:
    """Colours all over sRGB, as working values."""
    axis = np.linspace(0, 1, steps) ** 2
    return from_srgb(np.stack(np.meshgrid(axis, axis, axis), axis=-1).reshape(-1, 3))


def cielab(colour: ModuleType, working: F64) -> F64:
    xyz = working @ SPACES["prophoto"].to_pcs().T
    return np.asarray(colour.XYZ_to_Lab(xyz, colour.XYZ_to_xy(SPACES["prophoto"].to_pcs() @ np.ones(3))))


def oklab(colour: ModuleType, working: F64) -> F64:
    """By colour-science, from XYZ under D65."""
    linear = working @ working_to(SPACES["srgb"]).T
    return np.asarray(colour.XYZ_to_Oklab(colour.RGB_to_XYZ(linear, "sRGB")))


def mixed(ranges: Ranges = Ranges(), mono: Mono = Mono(), balance: Balance = Balance()) -> mixer.Mixer:
    return mixer.mixer(ranges, mono, balance)


def test_the_table_works_in_oklab_as_colour_science_has_it(colour: ModuleType) -> None:
    """A turn of all hues by one value keeps Oklab's lightness and chroma, by the reference library's Oklab."""
    turned = Ranges(**{f"{name}_hue": 50.0 for name in HUES})
    before = cube()
    after = row(before, mixer.mixer_row, mixed(turned))
    a, b = oklab(colour, before), oklab(colour, after)
    assert np.abs(a[:, 0] - b[:, 0]).max() < 0.002
    chroma = [np.hypot(v[:, 1], v[:, 2]) for v in (a, b)]
    assert np.abs(chroma[0] - chroma[1]).max() < 0.003
    strong = chroma[0] > 0.05
    turn = np.rad2deg(np.arctan2(b[:, 2], b[:, 1]) - np.arctan2(a[:, 2], a[:, 1]))[strong]
    assert np.abs((turn - 20 + 180) % 360 - 180).max() < 1.0


def test_hue_is_kept_under_changes_of_lightness_on_the_munsell_data(colour: ModuleType) -> None:
    """Munsell's constant hues (colour-science's renotation data, real colours within sRGB): made lighter, they stay within 6 degrees.

    The tolerance is that of Oklab itself on these data, not of the table.
    """
    data = [
        (h, v, c, xyY)
        for (h, v, c), xyY in colour.MUNSELL_COLOURS["Munsell Colours 1929"]
        if v in (4, 5, 6) and 2 < c <= 8
    ]
    xyz = colour.xyY_to_XYZ(np.array([[x, y, big / 100] for _, _, _, (x, y, big) in data]))
    linear = colour.XYZ_to_RGB(xyz, "sRGB", colour.CCS_ILLUMINANTS["CIE 1931 2 Degree Standard Observer"]["C"])
    inside = ((linear > 0.02) & (linear < 0.9)).all(axis=1)
    before = from_srgb(linear[inside])
    assert len(before) > 100
    lighter = Ranges(**{f"{name}_lightness": 40.0 for name in HUES})
    after = row(before, mixer.mixer_row, mixed(lighter))
    lab = [cielab(colour, v) for v in (before, after)]
    hue = [np.rad2deg(np.arctan2(v[:, 2], v[:, 1])) for v in lab]
    assert (lab[1][:, 0] > lab[0][:, 0]).all()
    moved = np.abs((hue[1] - hue[0] + 180) % 360 - 180)
    assert np.quantile(moved, 0.95) < 6


@settings(max_examples=40, deadline=None)
@given(
    st.dictionaries(
        st.sampled_from([f for f in Ranges.model_fields if f != "enabled"]), st.floats(-100, 100), max_size=6
    )
)
def test_hue_ranges_are_as_their_formula_and_leave_greys(values: dict[str, float]) -> None:
    ranges = Ranges(**values)
    before = cube(6) + LEAST
    got = row(before, mixer.mixer_row, mixed(ranges))
    exact = mixer.mix(ranges, Mono(), Balance(), oklab_exact(before))
    difference = np.abs(oklab_exact(got) - exact)
    assert difference.max() < 0.0006 and np.quantile(difference, 0.99) < 0.0001
    grey = np.repeat(np.linspace(0, 1, 33)[:, None], 3, axis=1)
    assert np.abs(row(grey, mixer.mixer_row, mixed(ranges)) - grey).max() < 2e-5


@settings(max_examples=40, deadline=None)
@given(
    st.dictionaries(st.sampled_from([f for f in Balance.model_fields if f.endswith(("hue", "strength", "lightness"))]), st.floats(-100, 100), max_size=6),
    st.dictionaries(st.sampled_from([*HUES, "amount", "shadow_tint", "highlight_tint"]), st.floats(-100, 100), max_size=4),
    st.dictionaries(st.sampled_from([f for f in Ranges.model_fields if f != "enabled"]), st.floats(-100, 100), max_size=3),
)  # fmt: skip
def test_all_of_the_mixer_is_as_its_formula(
    balance: dict[str, float], mono: dict[str, float], ranges: dict[str, float]
) -> None:
    """In the dark, too, where a table of lightness, chroma and hue was off by many steps of 8 bits."""
    strengths = {k: abs(v) if not k.endswith("lightness") else v for k, v in balance.items()}
    amounts = {k: v if k in HUES else abs(v) for k, v in mono.items()}
    parts = Ranges(**ranges), Mono(**amounts), Balance(**strengths)
    before = np.concatenate([cube(6), cube(6) ** 3]) + LEAST
    difference = np.abs(
        oklab_exact(row(before, mixer.mixer_row, mixed(*parts))) - mixer.mix(*parts, oklab_exact(before))
    )
    assert difference.max() < 0.002 and np.quantile(difference, 0.98) < 0.0002


def oklab_exact(working: F64) -> F64:
    """By the definition's two matrices (source: ottosson2020)."""
    matrix = [[0.2104542553, 0.7936177850, -0.0040720468], [1.9779984951, -2.4285922050, 0.4505937099], [0.0259040371, 0.7827717662, -0.8086757660]]  # fmt: skip
    return np.asarray(np.cbrt(working @ CONES[0].T) @ np.array(matrix).T)


def test_shares_of_hue_ranges_add_up_and_are_whole_in_their_middles() -> None:
    hues = np.linspace(0, 360, 721)
    assert np.abs(shares(hues).sum(axis=0) - 1).max() < 1e-12
    assert np.allclose(shares(np.array(list(HUES.values()))), np.eye(8))


def test_neutral_parts_change_nothing() -> None:
    before = cube()
    assert np.abs(row(before, mixer.mixer_row, mixed()) - before).max() < 3e-6
    tables = channels.channel_tables(Levels(), Curve())
    assert np.abs(
        row(before, channels.channels_row, channels.Channels(True, ALL, tables)) - np.maximum(before, 0)
    ).max() < 2e-6 + max(0, -before.min())


def test_zones_add_up_and_the_balance_keeps_black_white_and_order() -> None:
    light = np.linspace(0, 1, 1001)
    for balance in (Balance(), Balance(low=60, high=40, softness=100), Balance(low=5, high=95, softness=5)):
        found = zones(balance, light)
        assert np.abs(found["shadows"] + found["middle"] + found["highlights"] - 1).max() < 1e-12
        assert min(v.min() for v in found.values()) >= 0
    strong = Balance(
        shadows_hue=250, shadows_strength=100, shadows_lightness=-100, middle_lightness=100, highlights_hue=60, highlights_strength=100, highlights_lightness=-100
    )  # fmt: skip
    grey = np.repeat(np.linspace(0, 1, 257)[:, None], 3, axis=1)
    after = row(grey, mixer.mixer_row, mixed(balance=strong))
    assert np.abs(after[[0, -1]] - grey[[0, -1]]).max() < 1e-3
    lab = oklab_exact(after)
    dark, bright = lab[70], lab[240]  # linear light 0.27 and 0.94
    assert lab[8, 2] < -0.01 and bright[1] > 0.005 and bright[2] > 0.01 and dark[0] > 0


def test_black_and_white_is_grey_goes_by_hue_and_has_no_steps() -> None:
    colours = cube()
    plain = row(colours, mixer.mixer_row, mixed(mono=Mono(amount=100)))
    assert np.hypot(*oklab_exact(plain)[:, 1:].T).max() < 0.004
    reds = from_srgb(np.array([[0.6, 0.1, 0.1], [0.1, 0.1, 0.6]]))
    lighter = row(reds, mixer.mixer_row, mixed(mono=Mono(amount=100, red=80, blue=-80)))
    same = row(reds, mixer.mixer_row, mixed(mono=Mono(amount=100)))
    assert lighter[0].mean() > 1.2 * same[0].mean() and lighter[1].mean() < 0.8 * same[1].mean()
    # A tinted ramp of greys has no band: at 8 bits no step is larger than two of its neighbours together and one.
    grey = np.repeat((np.linspace(0, 1, 4096) ** 2)[:, None], 3, axis=1)
    tinted = row(grey, mixer.mixer_row, mixed(mono=Mono(amount=100, shadow_tint=60, highlight_tint=60)))
    coded = np.round(255 * SPACES["srgb"].encode(tinted @ working_to(SPACES["srgb"]).T))
    assert np.abs(np.diff(coded, axis=0)).max() <= 1


def test_the_lightness_curve_changes_lightness_alone(colour: ModuleType) -> None:
    """Against a pure change of L* in CIELAB by colour-science: within 0.5 CIEDE2000, on colours all over sRGB."""
    before = cube(8)
    table = lightness.lightness_table(BENT)
    p = lightness.Lightness(True, lightness.TO, lightness.BACK, table)
    after = cielab(colour, row(before, lightness.lightness_row, p))
    wanted = cielab(colour, before)
    x, y = np.array(BENT).T
    wanted[:, 0] = 100 * PchipInterpolator(x, y)(np.clip(wanted[:, 0] / 100, 0, 1))
    assert colour.delta_E(after, wanted, method="CIE 2000").max() < 0.5


@pytest.mark.parametrize("channel", ["red", "green", "blue"])
def test_a_channels_curve_is_scipys_on_that_channel_alone(channel: str) -> None:
    k = ["red", "green", "blue"].index(channel)
    values = np.linspace(0, 1, 2001)[:, None].repeat(3, axis=1)
    linear = SPACES["srgb"].decode(values)
    tables = channels.channel_tables(Levels(), Curve(**{channel: BENT}))
    after = SPACES["srgb"].encode(row(linear, channels.channels_row, channels.Channels(True, ALL, tables)))
    x, y = np.array(BENT).T
    assert np.abs(after[:, k] - PchipInterpolator(x, y)(values[:, k])).max() < 1e-4
    assert np.abs(np.delete(after, k, axis=1) - np.delete(values, k, axis=1)).max() < 1e-4


def test_levels_of_a_channel_by_their_formula() -> None:
    values = np.linspace(0, 1, 2001)[:, None].repeat(3, axis=1)
    levels = Levels(green_black=10, green_white=90, green_middle=40, green_black_out=5, green_white_out=95)
    tables = channels.channel_tables(levels, Curve())
    linear = SPACES["srgb"].decode(values)
    after = SPACES["srgb"].encode(row(linear, channels.channels_row, channels.Channels(True, ALL, tables)))
    share = np.clip((values[:, 1] - 0.1) / 0.8, 0, 1) ** (np.log(0.5) / np.log(0.4))
    assert np.abs(after[:, 1] - (0.05 + 0.9 * share)).max() < 2e-4
    assert np.abs(after[:, 0] - values[:, 0]).max() < 1e-4
    with pytest.raises(ValueError, match="at least 2 % apart"):
        Levels(blue_black=60, blue_white=61)


def test_a_curve_that_goes_back_rises_where_that_is_asked_for() -> None:
    back = [(0.0, 0.0), (0.4, 0.7), (0.6, 0.3), (1.0, 1.0)]
    x = np.linspace(0, 1, 400)
    assert (np.diff(evaluate(back, x)) < 0).any()
    assert (np.diff(evaluate(back, x, rising=True)) >= -1e-12).all()
    assert np.allclose(evaluate(STRAIGHT, x), x)
