"""Presets: readable files, checked against the declarations; unknown names are kept, not refused."""

import json
from itertools import product
from pathlib import Path

import pytest

from tanner.catalogue.library import SHIPPED, Library, slug
from tanner.core.adjust.registry import adjustments, develop
from tanner.core.errors import FormatError, TannerError
from tanner.core.output.spec import OutputSpec
from tanner.core.series.conditional import About, resolve_conditional
from tanner.core.series.preset import Preset, parse_preset, read_preset


def test_shipped_presets_and_specs_are_good() -> None:
    presets = [read_preset(p) for p in sorted((SHIPPED / "presets").glob("*.json"))]
    assert len(presets) >= 24
    for preset in presets:
        assert preset.about and not preset.unknown
        for amount, about in product((0.0, 0.5, 1.0, 1.5), (About(), About(100, 5500), About(12_800, 2856))):
            develop(preset.at(amount, about))
        assert not any(adjustments()[k].spec.per_frame for k in preset.values)


@pytest.mark.parametrize(
    ("text", "words"),
    [
        ("{", "JSON"),
        ('{"values": {}}', "name"),
        ('{"name": "x", "values": {"light.exposure": 99}}', "exposure"),
        ('{"name": "x", "values": {"light.exposure": "bright"}}', "exposure"),
        ('{"name": "x", "values": {"curve.points": [[0, 0]]}}', "points"),
        ('{"name": "x", "values": {"light.exposure": {"by": "iso", "points": []}}}', "points"),
        ('{"name": "x", "values": {"light.exposure": {"by": "mood", "points": [[1, 1]]}}}', "mood"),
        ('{"name": "x", "values": {"light.exposure": {"by": "iso", "points": [[100, 0], [800, 99]]}}}', "exposure"),
        ('{"name": "x", "values": {"new.thing": 1}}', "none of its adjustments"),
        ('{"name": "x", "values": {}, "script": "x"}', "script"),
        ('{"tanner_preset": 0, "name": "x", "values": {}}', "tanner_preset"),
    ],
)
def test_presets_that_cannot_be_used(text: str, words: str) -> None:
    with pytest.raises(FormatError, match=words) as caught:
        parse_preset(text, "p.json")
    assert str(caught.value).startswith("p.json: ")


def test_names_of_a_newer_version_are_kept_and_written_back() -> None:
    text = json.dumps({"name": "x", "values": {"light.exposure": 1.0, "light.sparkle": 7}})
    preset = parse_preset(text, "p.json")
    assert preset.unknown == ["light.sparkle"]
    assert preset.at(1.0, About()) == {"light.exposure": 1.0}
    assert json.loads(preset.to_json())["values"] == {"light.exposure": 1.0, "light.sparkle": 7}


def test_library_keeps_own_presets_beside_the_shipped(data: Path) -> None:
    (data / "presets").mkdir(parents=True)
    (data / "specs").mkdir()
    library = Library(data)
    key = library.save_preset(Preset(name="Warm / bright", folder="Own", values={"light.exposure": 0.5}))
    assert key == "own/own-warm-bright"
    assert library.preset(key).name == "Warm / bright"
    with pytest.raises(TannerError, match="already"):
        library.save_preset(Preset(name="Warm / bright", folder="Own", values={}))
    library.save_preset(Preset(name="Warm / bright", folder="Own", values={"light.exposure": 1.0}), replace=True)
    assert library.preset(key).values == {"light.exposure": 1.0}
    (data / "presets" / "broken.json").write_text("{")
    found, problems = library.presets()
    assert key in found and len(problems) == 1 and "broken.json" in problems[0]
    library.delete_preset(key)
    with pytest.raises(TannerError):
        library.preset(key)


@pytest.mark.parametrize("key", ["shipped/silver", "own/../x", "own/nothing", "silver", "own//etc/passwd"])
def test_only_own_files_are_deleted(data: Path, key: str) -> None:
    (data / "presets").mkdir(parents=True)
    (data / "x.json").write_text("{}")
    with pytest.raises(TannerError):
        Library(data).delete_preset(key)
    assert (data / "x.json").exists()


def test_own_specs(data: Path) -> None:
    (data / "presets").mkdir(parents=True)
    (data / "specs").mkdir()
    library = Library(data)
    key = library.save_spec(OutputSpec(title="Client proof", size="long:1200"))
    assert library.spec(key).size == "long:1200"
    with pytest.raises(TannerError, match="already"):
        library.save_spec(OutputSpec(title="Client proof"))
    library.delete_spec(key)
    assert key not in library.specs()[0]


def test_slug() -> None:
    assert slug("Größe 2 / neu!") == "größe-2-neu"
    assert slug("///") == "unnamed"


# --- values that depend on the frame ------------------------------------------------------------------


def one(value: object, about: About) -> object:
    return resolve_conditional({"light.exposure": value}, about).get("light.exposure")


def test_numbers_are_interpolated_over_doublings_of_iso() -> None:
    table = {"by": "iso", "points": [[3200, 60], [800, 0]]}
    for iso, wanted in ((100, 0), (800, 0), (1600, 30), (3200, 60), (25_600, 60)):
        assert one(table, About(iso=iso)) == pytest.approx(wanted)
    assert one(table, About()) is None


def test_light_is_interpolated_over_mired() -> None:
    table = {"by": "light", "points": [[2500, 1.0], [5000, 0.0]]}
    assert one(table, About(kelvin=1e6 / 300)) == pytest.approx(0.5)  # half way from 400 to 200 mired


def test_what_is_no_number_holds_from_its_point_on() -> None:
    table = {"by": "iso", "points": [[800, "fine"], [2501, "learned"]]}
    assert [one(table, About(iso=i)) for i in (400, 800, 2500, 2501, 12_800)] == [
        None,
        "fine",
        "fine",
        "learned",
        "learned",
    ]


def test_cases() -> None:
    by_camera = {"by": "camera", "cases": {"Alder One": 1}, "else": 2}
    assert [one(by_camera, About(camera=c)) for c in ("alder one ", "Alder Two")] == [1, 2]
    upright = {"by": "orientation", "cases": {"upright": 3}}
    assert [one(upright, About(upright=u)) for u in (True, False)] == [3, None]
    assert one({"by": "lens", "cases": {"L": 4}}, About(lens="L")) == 4
