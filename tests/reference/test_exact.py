"""Exact colours: samples land on their targets, what is far stays, several work together; against scikit-image and colour-science."""

from typing import Any

import numpy as np
import pytest
from hypothesis import assume, given
from hypothesis import strategies as st
from skimage.color import deltaE_ciede2000

from tanner.core.adjust.registry import blend, defaults, develop
from tanner.core.colour.exact import GREY, ExactParts, changed, described, hex_of, parse_colour, solved
from tanner.core.colour.spaces import SPACES
from tanner.core.errors import SettingsError
from tanner.core.measure import xyz_to_lab
from tanner.core.raw.source import Source
from tanner.core.render import render
from tanner.core.series.exactness import measured, sample_at, without

LAB = st.tuples(st.floats(20, 85), st.floats(-45, 45), st.floats(-45, 45))


def pair(sample: Any, target: Any, **more: Any) -> ExactParts:
    return ExactParts(kind="pair", sample=list(sample), target=list(target), **more)


@given(st.lists(st.tuples(LAB, st.tuples(*[st.floats(-9, 9)] * 3)), min_size=1, max_size=5))
def test_samples_land_within_a_third_of_a_difference_and_what_is_far_stays(found: Any) -> None:
    samples = np.array([s for s, _ in found])
    apart = np.linalg.norm(samples[:, None] - samples[None], axis=-1) + 100 * np.eye(len(samples))
    assume(apart.min() > 25)
    pairs = [pair(s, np.add(s, m)) for s, m in found]
    bells = solved(pairs)
    landed = changed(samples, bells)
    assert deltaE_ciede2000(landed, [p.target for p in pairs]).max() < 0.3
    rng = np.random.default_rng(1)
    others = rng.uniform((0, -100, -100), (100, 100, 100), (4000, 3))
    away = np.sqrt((((others[:, None] - samples) * (0.5, 1, 1)) ** 2).sum(-1))
    far = (away > bells.reach).all(axis=1)
    assert (changed(others, bells)[far] == others[far]).all()
    # Greys stay grey where samples have a colour.
    if (np.hypot(samples[:, 1], samples[:, 2]) > GREY).all():
        greys = np.stack([np.linspace(0, 100, 50), *np.zeros((2, 50))], axis=-1)
        assert np.abs(changed(greys, bells) - greys).max() < 1e-9


def test_the_change_is_smooth_and_no_colours_change_places() -> None:
    """Along lines through the sample: what lies further along stays further along."""
    bells = solved([pair((50, 30, -20), (58, 12, -34), reach=4)])
    for way in ((0, 1, 0), (0, 0, 1), (1, 0, 0), (0, 0.7, -0.7)):
        line = np.array([50, 30, -20]) + np.linspace(-40, 40, 4001)[:, None] * way
        along = changed(line, bells) @ np.array(way)
        assert (np.diff(along) > 0).all()


def test_contradicting_pairs_are_met_half_way_and_said() -> None:
    rows = described([pair((50, 30, 10), (55, 30, 10)), pair((50, 30.5, 10), (45, 30, 10))])
    assert all("Contradicts" in str(r["wrong"]) for r in rows)
    landed = changed(
        np.array([[50.0, 30.0, 10.0]]), solved([pair((50, 30, 10), (55, 30, 10)), pair((50, 30, 10), (45, 30, 10))])
    )
    assert abs(landed[0, 0] - 50) < 0.1
    assert "outside sRGB" in str(described([pair((50, 10, 10), (60, 100, -90))])[0]["wrong"])
    assert described([pair((50, 10, 10), (52, 12, 8))])[0]["wrong"] == ""


@pytest.mark.parametrize("text", ["#3a6ea5", "3A6EA5"])
def test_colours_are_read_as_people_write_them(colour: Any, text: str) -> None:
    """sRGB against colour-science (D65 to D50 by Bradford)."""
    xyz = colour.sRGB_to_XYZ(np.array([0x3A, 0x6E, 0xA5]) / 255)
    adapted = colour.adaptation.chromatic_adaptation_VonKries(
        xyz, colour.xy_to_XYZ((0.3127, 0.3290)), colour.xy_to_XYZ((0.3457, 0.3585)), "Bradford"
    )
    expected = colour.XYZ_to_Lab(adapted, (0.3457, 0.3585))
    assert np.abs(np.array(parse_colour(text)) - expected).max() < 0.05
    assert hex_of(parse_colour(text)) == "#3a6ea5"


@pytest.mark.parametrize(
    ("text", "lab"),
    [("48 -4 -33", [48, -4, -33]), ("L*=48, a*=−4, b* 33.5", [48, -4, 33.5]), ("(50; 0; 0)", [50, 0, 0])],
)
def test_lab_is_read(text: str, lab: list[float]) -> None:
    assert parse_colour(text) == lab


@pytest.mark.parametrize("text", ["blue", "#12345", "48 -4", "140 0 0", "50 0 300", ""])
def test_what_is_no_colour_says_how_one_is_written(text: str) -> None:
    with pytest.raises(SettingsError, match=r"no colour|lies between"):
        parse_colour(text)


def of(values: dict[str, Any], *pairs: ExactParts) -> dict[str, Any]:
    for n, p in enumerate(pairs):
        values = values | {
            f"exact/0000000{n}/{k}": v for k, v in p.model_dump().items() if k in ("kind", "sample", "target", "reach")
        }
    return values


def test_the_rendered_picture_does_what_the_formula_says(source: Source) -> None:
    """The kernel in single precision against numpy in double, on a whole picture in the widest space."""
    values = defaults(raw=True, lens=True)
    sample = sample_at(source, values, (0.49, 0.75))
    target = [sample[0] + 5, sample[1] - 6, sample[2] + 7]
    made = pair(sample, target, reach=30)
    pictures = [render(source, develop(v), (400, 267), space="prophoto", bits=16) for v in (values, of(values, made))]
    before, after = (
        xyz_to_lab(SPACES["prophoto"].decode(p.reshape(-1, 3) / 65535) @ SPACES["prophoto"].to_pcs().T)
        for p in pictures
    )
    wanted = changed(before, solved([made]))
    # Where nothing is cut off at the borders of the space, and sharpening, which comes after, does little.
    flat = (pictures[0].reshape(-1, 3).min(axis=1) > 600) & (pictures[1].reshape(-1, 3).min(axis=1) > 600)
    off = np.abs(after - wanted)[flat]
    assert np.quantile(off, 0.99) < 0.25 and np.abs(after - before)[flat].max() > 3
    untouched = np.abs(wanted - before).max(axis=1) == 0
    assert np.quantile(np.abs(after - before)[untouched], 0.98) < 0.05


def test_it_is_measured_on_the_frame(source: Source) -> None:
    values = defaults(raw=True, lens=True)
    sample = sample_at(source, values, (0.49, 0.75))
    target = [sample[0] + 3, sample[1] - 5, sample[2] + 5]
    with_it = of(values, pair(sample, target))
    (row,) = measured(source, with_it)
    # What has the colour is spread round it; the sample itself is met.
    assert row["after"] < 0.4 * row["before"] and row["before"] > 3 and 0 < row["changed"] < 0.5
    assert without(with_it) == values and measured(source, values) == []
    # The sample is the picture's own, whatever exact colours are there already.
    assert np.allclose(sample_at(source, with_it, (0.49, 0.75)), sample)
    (absent,) = measured(source, of(values, pair((60, 60, -60), (50, 50, -50))))
    assert "before" not in absent


def test_at_half_of_a_preset_a_colour_goes_half_of_its_way() -> None:
    made = of({}, pair((50, 20, 10), (56, 10, 20)))
    for amount, wanted in ((0.0, (50, 20, 10)), (0.5, (53, 15, 15)), (1.0, (56, 10, 20))):
        (thing,) = develop(blend(made, amount)).listed("exact")
        assert isinstance(thing.parts, ExactParts)
        landed = changed(np.array([[50.0, 20.0, 10.0]]), solved([thing.parts]))
        assert np.allclose(landed, wanted, atol=0.01)
    assert blend(made, 1.0) == made
