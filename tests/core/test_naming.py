"""Names of finished files."""

from datetime import datetime
from pathlib import Path

import pytest

from tanner.core.errors import FormatError
from tanner.core.output.naming import (
    LONGEST,
    TOKENS,
    TakenNames,
    check_template,
    clean,
    fill,
    fill_folder,
    name_values,
    remarks,
)

VALUES = name_values(
    name="AF0001", number=7, shoot="Spring / lamps", group="Set 2", spec="Web", taken=datetime(2026, 3, 12, 9, 5, 1), size=(1080, 720), stars=3, text="T", label="red", camera="Alder One", lens="55", iso=100, keyword="lamp", alternate=2,
)  # fmt: skip


def test_every_token_is_filled() -> None:
    assert set(VALUES) == set(TOKENS)
    for token in TOKENS:
        assert fill("{" + token + "}", VALUES) != "unnamed"


@pytest.mark.parametrize(
    ("template", "expected"),
    [
        ("{name}", "AF0001"),
        ("{shoot} {number}", "Spring - lamps 0007"),
        ("{date}_{time}", "2026-03-12_090501"),
        ("{width}x{height}", "1080x720"),
        ("{name}:{stars}?", "AF0001-3-"),
        ("  .{name}. ", "AF0001"),
        ("{spec}\x00\n", "Web--"),
    ],
)
def test_fill(template: str, expected: str) -> None:
    assert fill(template, VALUES) == expected


def test_a_folder_cannot_leave_its_place() -> None:
    assert fill_folder("../../{set}/./x", VALUES) == "Set 2/x"
    assert fill_folder("/abs/{name}", VALUES) == "abs/AF0001"
    assert fill_folder("", VALUES) == ""
    evil = VALUES | {"set": "../up"}
    assert fill_folder("{set}", evil) == "-up"


def test_long_and_odd_names() -> None:
    assert len(clean("ü" * 400).encode()) <= LONGEST
    assert clean('a<b>:"/\\|?*') == "a-b--------"
    assert clean("…") == "…"
    assert clean(" . ") == "unnamed"
    assert clean("e\u0301") == "é"


@pytest.mark.parametrize("template", ["{nme}", "{name", "name}", "{}", "{na{me}}"])
def test_templates_that_make_no_sense(template: str) -> None:
    with pytest.raises(FormatError):
        check_template(template)


def test_undated() -> None:
    assert fill("{date}", name_values(name="x")) == "undated"


def test_numbers_take_digits() -> None:
    assert fill("{number} {number:2} {number:6}", VALUES) == "0007 07 000007"
    for bad in ("{number:0}", "{number:x}", "{name:3}"):
        with pytest.raises(FormatError):
            check_template(bad)


@pytest.mark.parametrize(
    ("template", "said"),
    [
        ("{name}", ""),
        ("{shoot}", "replaced by -"),
        ("{name}?", "replaced by -"),
        (" {name}.", "left out"),
        ("x" * 150 + "{shoot}{shoot}{shoot}", "cut to 180 bytes"),
        ("con", "device"),
        (" . ", "empty"),
    ],
)
def test_what_a_name_has_to_change_is_told(template: str, said: str) -> None:
    found = remarks(template, VALUES)
    assert any(said in f for f in found) if said else not found
    assert fill("con", VALUES) == "_con" and fill("LPT1.x", VALUES) == "_LPT1.x"


def test_capitals_and_accents_do_not_make_another_name(tmp_path: Path) -> None:
    """As on file systems that take both for one: a clash is told before."""
    (tmp_path / "Lamp.JPG").touch()
    (tmp_path / "caf\u00e9.jpg").touch()
    taken, at = TakenNames(), f"{tmp_path}/".__add__
    assert taken.there(at("lamp.jpg")) and taken.there(at("cafe\u0301.jpg"))
    assert not taken.there(at("new.jpg")) and not taken.there(at("gone/x.jpg"))
    taken.add([at("LAMP-2.jpg")])
    assert taken.free(at("lamp.jpg"), there=True) == at("lamp-3.jpg")
    assert taken.free(at("lamp.jpg"), there=False) == at("lamp.jpg")
