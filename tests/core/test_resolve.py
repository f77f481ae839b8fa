"""Layers: each stronger one wins, offsets stay relative, nothing of one frame reaches another."""

import pytest
from hypothesis import given
from hypothesis import strategies as st

from tanner.core.adjust.registry import adjustments
from tanner.core.series.resolve import OFFSET_LIMITS, Layers, beneath, followed, offset_for, resolve, shifted

NUMBERS = [a for a in adjustments().values() if a.spec.widget == "rule" and a.neutral is not None]


def test_weakest_first() -> None:
    layers = Layers(
        defaults={"profile.curve_strength": 100.0, "light.contrast": 1.0},
        preset={"light.contrast": 2.0, "light.shadows": 2.0, "light.highlights": 2.0},
        lead={"light.shadows": 3.0, "light.highlights": 3.0},
        own={"light.highlights": 4.0},
    )
    resolved = resolve(layers)
    assert resolved.values == {
        "profile.curve_strength": 100.0,
        "light.contrast": 2.0,
        "light.shadows": 3.0,
        "light.highlights": 4.0,
    }
    assert resolved.layers == {
        "profile.curve_strength": "default",
        "light.contrast": "preset",
        "light.shadows": "lead",
        "light.highlights": "own",
    }
    assert resolved.departures() == ["light.highlights"]
    assert resolved.below["light.highlights"] == 3.0


def test_crop_of_the_lead_stays_with_the_lead() -> None:
    lead = {"crop.left": 0.2, "crop.straighten": 3.0, "light.exposure": 1.0}
    assert followed(lead) == {"light.exposure": 1.0}
    assert resolve(Layers(lead=lead)).values == {"light.exposure": 1.0}


LAYER = st.dictionaries(
    st.sampled_from(
        ["light.exposure", "light.contrast", "crop.left", "curve.on", "areas/0a1b2c3d/kind", "nobody.knows"]
    ),
    st.sampled_from([0.0, 1.0, 2.0]),
)


@given(LAYER, LAYER, LAYER, LAYER)
def test_what_lies_beneath_is_what_resolving_says(
    defaults: dict[str, float], preset: dict[str, float], lead: dict[str, float], own: dict[str, float]
) -> None:
    layers = Layers(defaults=defaults, preset=preset, lead=lead, own=own)
    resolved = resolve(layers)
    for keys in (["light.exposure", "crop.left", "light.contrast"], ["light.exposure", "areas/0a1b2c3d/kind"]):
        assert beneath(layers, keys) == {key: resolved.base(key) for key in keys}


def test_an_offset_stays_when_the_lead_changes() -> None:
    for lead in (0.0, 0.5, -1.0):
        resolved = resolve(Layers(lead={"light.exposure": lead}, offsets={"ev": 0.3}))
        assert resolved.values["light.exposure"] == pytest.approx(lead + 0.3)
        assert resolved.departures() == []


def test_an_offset_starts_from_the_light_as_shot() -> None:
    resolved = resolve(Layers(offsets={"mired": 20.0, "tint": -3.0}, as_shot=(5000.0, 4.0)))
    assert resolved.values["white.temperature"] == pytest.approx(1e6 / 220, rel=1e-4)
    assert resolved.values["white.tint"] == pytest.approx(1.0)
    # A set temperature is the start instead, as soon as there is one.
    resolved = resolve(Layers(lead={"white.temperature": 4000.0}, offsets={"mired": 20.0}, as_shot=(5000.0, 4.0)))
    assert resolved.values["white.temperature"] == pytest.approx(1e6 / 270, rel=1e-4)


def test_an_offset_stays_inside_the_range() -> None:
    assert resolve(Layers(lead={"light.exposure": 4.0}, offsets={"ev": 3.0})).values["light.exposure"] == 5.0


def test_names_of_a_newer_version_are_left_out() -> None:
    assert resolve(Layers(own={"light.sparkle": 3, "light.contrast": 5.0})).values == {"light.contrast": 5.0}


def test_own_value_equal_to_the_lead_is_no_departure() -> None:
    resolved = resolve(Layers(lead={"light.contrast": 5.0}, own={"light.contrast": 5.0}))
    assert resolved.departures() == []


@given(
    base=st.floats(-4, 4),
    wanted=st.floats(-4, 4),
)
def test_offset_for_is_the_inverse_of_shifted(base: float, wanted: float) -> None:
    kind, amount = offset_for("light.exposure", base, wanted, (5500.0, 0.0))
    expected = min(max(wanted - base, -OFFSET_LIMITS[kind]), OFFSET_LIMITS[kind])
    assert amount == pytest.approx(expected, abs=1e-3)
    if abs(wanted - base) < 5:
        assert shifted("light.exposure", base, amount, (5500.0, 0.0)) == pytest.approx(wanted, abs=1e-3)


@given(base=st.floats(2500, 12000), wanted=st.floats(2500, 12000))
def test_temperature_offsets_in_mired(base: float, wanted: float) -> None:
    kind, amount = offset_for("white.temperature", base, wanted, (5500.0, 0.0))
    assert kind == "mired"
    if abs(1e6 / wanted - 1e6 / base) < OFFSET_LIMITS[kind]:
        assert shifted("white.temperature", base, amount, (5500.0, 0.0)) == pytest.approx(wanted, rel=1e-3)


def test_what_has_no_offset_says_so() -> None:
    with pytest.raises(KeyError):
        offset_for("light.contrast", 0, 1, (5500.0, 0.0))


values = st.fixed_dictionaries({}, optional={a.key: st.floats(a.low, a.high) for a in NUMBERS[:6]})


@given(defaults=values, preset=values, lead=values, own=values)
def test_giving_up_everything_shows_what_lies_below(
    defaults: dict[str, float], preset: dict[str, float], lead: dict[str, float], own: dict[str, float]
) -> None:
    """Property: without own values and offsets a frame shows exactly what `below` promised."""
    full = resolve(Layers(defaults=defaults, preset=preset, lead=lead, own=own))
    bare = resolve(Layers(defaults=defaults, preset=preset, lead=lead))
    assert full.below == bare.values
    for key in full.values:
        assert full.values[key] == (own[key] if key in own else bare.values[key])
