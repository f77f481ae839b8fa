"""Every adjustment, from its one declaration: neutral does nothing, an extreme does something, values last."""

import json
import re
from pathlib import Path

import numpy as np
import pytest

from tanner.core.adjust.registry import GROUPS, Adjustment, adjustments, blend, check_names, defaults, develop
from tanner.core.adjust.spec import Spec
from tanner.core.colour.balance import ZONES
from tanner.core.colour.dcp import CameraProfile, write_dcp
from tanner.core.colour.profile_store import PROFILE_STORE
from tanner.core.colour.ranges import HUES
from tanner.core.errors import SettingsError
from tanner.core.raw.reader import read
from tanner.core.raw.source import Source
from tanner.core.render import full_size, render

ALL = list(adjustments().values())
CONTEXT = {
    # What an adjustment needs beside it to be seen.
    "detail.radius": {"detail.amount": 150.0},
    "detail.threshold": {"detail.amount": 150.0},
    "detail.mask": {"detail.amount": 200.0, "detail.radius": 3.0},
    "detail.enabled": {"detail.amount": 150.0},
    "profile.enabled": {"profile.curve_strength": 100.0},
    "optics.enabled": {"optics.distortion": 100.0},
    "noise.enabled": {"noise.method": "quick"},
    "noise.luminance": {"noise.method": "quick"},
    "noise.colour": {"noise.method": "quick"},
    "noise.detail": {"noise.method": "quick"},
    "white.enabled": {"white.temperature": 9000.0},
    "light.enabled": {"light.exposure": 1.0},
    "curve.enabled": {"curve.points": [[0, 0], [0.5, 0.7], [1, 1]]},
    "colour.enabled": {"colour.saturation": 60.0},
    "crop.enabled": {"crop.left": 0.3},
    "levels.enabled": {"levels.middle": 30.0},
    "finish.enabled": {"finish.vignette": -80.0},
    "finish.vignette_middle": {"finish.vignette": -80.0},
    "finish.vignette_roundness": {"finish.vignette": -80.0},
    "finish.vignette_softness": {"finish.vignette": -80.0},
    "finish.vignette_highlights": {"finish.vignette": -100.0, "light.exposure": 2.0},
    "perspective.enabled": {"perspective.vertical": 10.0},
    "perspective.amount": {"perspective.vertical": 10.0},
    "curve.rising": {"curve.points": [[0, 0], [0.4, 0.7], [0.6, 0.3], [1, 1]]},
    "ranges.enabled": {"ranges.blue_saturation": -100.0},
    "balance.enabled": {"balance.all_strength": 80.0},
    **{f"balance.{zone}_hue": {f"balance.{zone}_strength": 100.0} for zone in ZONES},
    "balance.all_hue": {"balance.all_strength": 100.0, "balance.all_hue": 120.0},
    "balance.low": {"balance.shadows_strength": 100.0},
    "balance.high": {"balance.highlights_strength": 100.0, "light.exposure": 1.0},
    "balance.softness": {"balance.shadows_strength": 100.0, "balance.softness": 5.0, "balance.low": 60.0},
    "mono.enabled": {"mono.amount": 100.0},
    **{f"mono.{name}": {"mono.amount": 100.0, "colour.saturation": 100.0} for name in HUES},
    **{f"mono.{zone}_tint": {"mono.amount": 100.0} for zone in ("shadow", "highlight")},
    **{f"mono.{zone}_hue": {"mono.amount": 100.0, f"mono.{zone}_tint": 100.0} for zone in ("shadow", "highlight")},
    "structure.enabled": {"structure.middle": 100.0},
    **{f"finish.grain_{name}": {"finish.grain": 80.0} for name in ("size", "roughness", "colour")},
    "profile.look_amount": {"profile.look": "halved"},
    "profile.look_space": {"profile.look": "halved"},
}
EXTREMES = {
    "curve.points": [[0, 0.1], [0.5, 0.8], [1, 0.9]],
    "crop.ratio": None,  # a note for the crop's handles, which the picture does not show
    "noise.method": "quick",
    "profile.camera": "bright",
    "profile.look": "halved",
    "profile.look_space": "linear",
    "crop.right": 0.6,
    "crop.bottom": 0.6,
    **{f"curve.{name}": [[0, 0.1], [0.5, 0.8], [1, 0.9]] for name in ("lightness", "channels", "red", "green", "blue")},
    **{f"balance.{zone}_hue": 180.0 for zone in ZONES},  # 360 is where 0 is
    **{f"mono.{zone}_hue": 240.0 for zone in ("shadow", "highlight")},
    "balance.softness": 100.0,
}


@pytest.fixture(autouse=True)
def shelf(tmp_path: Path, monkeypatch: pytest.MonkeyPatch) -> None:
    """A look and a camera profile that change what they are asked to change."""
    (tmp_path / "halved.cube").write_text("LUT_1D_SIZE 2\n0 0 0\n0.6 0.5 0.4\n")
    profile = CameraProfile(
        "b", "", (21,), (np.array([[0.9, -0.3, -0.1], [-0.4, 1.2, 0.2], [0.0, 0.2, 0.6]]),), baseline=1.0
    )
    (tmp_path / "bright.dcp").write_bytes(write_dcp(profile))
    monkeypatch.setattr(PROFILE_STORE, "folders", [tmp_path])


def picture(source: Source, wanted: dict[str, object]) -> np.ndarray:
    development = develop(wanted)
    w, h = full_size(source, development)
    return render(source, development, (max(1, w // 2), max(1, h // 2)))


def extreme(a: Adjustment) -> object:
    if a.key in EXTREMES:
        return EXTREMES[a.key]
    if a.spec.widget == "switch":
        return not a.neutral
    return a.high if a.high is not None and a.high != a.neutral else a.low


@pytest.mark.parametrize("a", ALL, ids=lambda a: a.key)
def test_declaration_is_complete(a: Adjustment) -> None:
    assert a.spec.label and a.spec.help.endswith(".")
    if a.spec.widget == "rule":
        assert a.low is not None and a.high is not None and a.low < a.high and a.spec.step > 0
        if a.neutral is not None:
            assert a.low <= a.neutral <= a.high


@pytest.mark.parametrize("a", ALL, ids=lambda a: a.key)
def test_neutral_changes_nothing(a: Adjustment, source: Source) -> None:
    assert np.array_equal(picture(source, {a.key: a.neutral}), picture(source, {}))


@pytest.mark.parametrize("a", [a for a in ALL if extreme(a) is not None], ids=lambda a: a.key)
def test_an_extreme_changes_the_picture(a: Adjustment, noisy_lamp: Path) -> None:
    source = read(noisy_lamp)
    # One pixel glows, for what is done about such pixels.
    data = np.array(source.data)
    data[300, 200] = source.facts.white
    # A patch is clipped in green, for what is done there.
    data[100:140:2, 101:141:2] = data[101:141:2, 100:140:2] = source.facts.white
    source = Source(source.facts, data, profiles=source.profiles, gain_maps=source.gain_maps)
    beside = CONTEXT.get(a.key, {})
    plain, changed = picture(source, dict(beside)), picture(source, {**beside, a.key: extreme(a)})
    assert plain.shape != changed.shape or np.abs(plain.astype(int) - changed).max() > 2


@pytest.mark.parametrize("a", ALL, ids=lambda a: a.key)
def test_values_survive_every_round_trip(a: Adjustment) -> None:
    value = extreme(a)
    if value is None:
        value = a.neutral
    first = develop({a.key: value}).values()
    again = develop(json.loads(json.dumps(first))).values()
    assert again == first


@pytest.mark.parametrize("a", [a for a in ALL if a.low is not None], ids=lambda a: a.key)
def test_values_out_of_range_are_refused_by_name(a: Adjustment) -> None:
    assert a.high is not None
    for wrong in (a.high + 1, float("nan"), float("inf"), "much"):
        with pytest.raises(SettingsError, match=a.key.split(".")[0]):
            develop({a.key: wrong})


def test_names_are_declared_in_one_file_only() -> None:
    """A new adjustment is one field and the stage that uses it: no list names them all again."""
    root = Path(__file__).parents[2] / "src" / "tanner"
    registry = (root / "core" / "adjust" / "registry.py").read_text()
    for a in ALL:
        if a.name == "enabled":
            continue
        assert a.name in GROUPS or f'"{a.name}"' not in registry
        declared = [
            p
            for p in root.rglob("*.py")
            if re.search(rf"^    {a.name}: [^=\n]+ = (param|_\w+)\(", p.read_text(), re.M)
            and f"class {GROUPS[a.group].__name__}(Group)" in p.read_text()
        ]
        assert len(declared) == 1, a.key


def test_every_group_says_what_it_is() -> None:
    for model in GROUPS.values():
        assert model.title and model.about
        assert all(any(isinstance(m, Spec) for m in f.metadata) for f in model.model_fields.values())


def test_unknown_name_suggests_the_nearest() -> None:
    with pytest.raises(SettingsError, match=r"light\.exposure"):
        check_names({"light.exposur": 1})


def test_defaults_follow_the_facts() -> None:
    assert defaults(raw=False, lens=False) == {}
    assert set(defaults(raw=True, lens=False)) == {"profile.curve_strength"}
    assert set(defaults(raw=False, lens=True)) == {"optics.distortion", "optics.lateral_colour", "optics.fall_off"}


def test_amount_scales_from_neutral_and_stays_in_range() -> None:
    values = {
        "light.exposure": 4.0,
        "light.contrast": -40.0,
        "crop.straighten": 10.0,
        "curve.points": [[0, 0], [1, 0.5]],
    }
    assert blend(values, 0.0) == {
        "light.exposure": 0.0,
        "light.contrast": 0.0,
        "crop.straighten": 0.0,
        "curve.points": [[0, 0.0], [1, 1.0]],
    }
    assert blend(values, 1.0)["light.contrast"] == -40
    assert blend(values, 1.5)["light.exposure"] == 5.0  # 6 is out of range
    assert blend({"white.temperature": 4000.0}, 0.4) == {}
    assert blend({"white.temperature": 4000.0}, 0.6) == {"white.temperature": 4000.0}


def test_a_switched_off_group_is_neutral() -> None:
    from tanner.core.tone.light import Light

    off = develop({"light.exposure": 2.0, "light.enabled": False})
    assert off.group(Light).exposure == 0
    assert off.values()["light.exposure"] == 2.0
