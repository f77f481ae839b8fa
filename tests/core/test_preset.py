"""Presets: readable files, checked against the declarations; unknown names are kept, not refused."""

import json
from pathlib import Path

import pytest

from tanner.catalogue.library import SHIPPED, Library, slug
from tanner.core.adjust.registry import adjustments, develop
from tanner.core.errors import FormatError, TannerError
from tanner.core.output.spec import OutputSpec
from tanner.core.series.preset import Preset, parse_preset, read_preset


def test_shipped_presets_and_specs_are_good() -> None:
    presets = [read_preset(p) for p in sorted((SHIPPED / "presets").glob("*.json"))]
    assert len(presets) >= 8
    for preset in presets:
        assert preset.about and not preset.unknown
        for amount in (0.0, 0.5, 1.0, 1.5):
            develop(preset.at(amount))
        assert not any(adjustments()[k].spec.per_frame for k in preset.values)


@pytest.mark.parametrize(
    ("text", "words"),
    [
        ("{", "JSON"),
        ('{"values": {}}', "name"),
        ('{"name": "x", "values": {"light.exposure": 99}}', "exposure"),
        ('{"name": "x", "values": {"light.exposure": "bright"}}', "exposure"),
        ('{"name": "x", "values": {"curve.points": [[0, 0]]}}', "points"),
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
    assert preset.at(1.0) == {"light.exposure": 1.0}
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
