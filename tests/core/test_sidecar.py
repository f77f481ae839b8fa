"""Sidecars: written, read back, read by a second XMP reader (Exiv2), and refused with words when damaged."""

from dataclasses import replace
from datetime import UTC, datetime
from pathlib import Path

import exiv2
import pytest
from hypothesis import given, settings
from hypothesis import strategies as st

from tanner.core.errors import FormatError
from tanner.core.series.sidecar import NS, Sidecar, beside, found_beside, parse_sidecar, sidecar_bytes

WHEN = datetime(2026, 3, 12, 9, 30, tzinfo=UTC)
FULL = Sidecar(
    own={"light.exposure": 0.5, "light.contrast": -12.0},
    offsets={"ev": 0.25, "mired": -8.0},
    worn=[{"key": "own/soft", "name": "Soft", "amount": 80.0, "values": {"light.contrast": -12.0}, "beneath": {"own": {}, "offsets": {}}}],
    follows=False,
    shown={"light.exposure": 0.75, "light.contrast": -12.0},
    content="abc",
    changed=WHEN,
    group="Lamps <blue> & \"white\"",
    lead=True,
    stars=4,
    label="green",
    keywords=("catalogue", "Käthe & Co"),
    words={"headline": "Lämps", "caption": "{set} & {name}"},
)  # fmt: skip


def test_a_round_trip_keeps_everything() -> None:
    assert parse_sidecar(sidecar_bytes(FULL), "x") == FULL


@settings(deadline=None)
@given(
    st.text(st.characters(exclude_categories=("Cs", "Cc")), max_size=20),
    st.floats(-5, 5),
    st.lists(
        st.text(st.characters(exclude_categories=("Cs", "Cc", "Cn")), min_size=1, max_size=9)
        .map(str.strip)
        .filter(bool),
        max_size=4,
    ),
)
def test_any_words_and_values_come_back(name: str, exposure: float, keywords: list[str]) -> None:
    made = Sidecar(own={"light.exposure": exposure}, group=name, keywords=tuple(keywords), changed=WHEN)
    assert parse_sidecar(sidecar_bytes(made), "x") == made


@pytest.mark.parametrize("odd", ["\x0b", "\x00", "\uffff", "\ufffe"])
def test_what_xml_cannot_hold_spoils_no_file(odd: str) -> None:
    """Word processors leave such characters in what is pasted: the file stays well-formed, and what is ours comes back whole."""
    made = replace(FULL, group=f"a{odd}b", keywords=(f"lamp{odd}",), words={"caption": f"x{odd}y"})
    said = replace(made, said={"caption": f"x{odd}y", "creator": f"A{odd}"})
    read = parse_sidecar(sidecar_bytes(said), "x")
    assert read == replace(made, keywords=("lamp",))


def test_a_second_reader_sees_the_same(tmp_path: Path) -> None:
    """Exiv2 reads the file as XMP, standard properties and ours."""
    path = beside(tmp_path / "AF0001.DNG")
    path.write_bytes(
        sidecar_bytes(replace(FULL, said={"rights": "© Alder", "city": "Alderfinch", "email": "a@alder.example"}))
    )
    exiv2.XmpProperties.registerNs(NS, "tanner")
    image = exiv2.ImageFactory.open(str(path))
    image.readMetadata()
    found = {d.key(): d.toString() for d in image.xmpData()}
    assert found["Xmp.xmp.Rating"] == "4" and found["Xmp.xmp.Label"] == "green"
    assert found["Xmp.dc.subject"] == "catalogue, Käthe & Co"
    assert "© Alder" in found["Xmp.dc.rights"] and "CiEmailWork" in "".join(found)
    assert found["Xmp.tanner.Own"] == '{"light.contrast": -12.0, "light.exposure": 0.5}'
    assert found["Xmp.tanner.Set"] == '"Lamps <blue> & \\"white\\""' and found["Xmp.tanner.Lead"] == "true"


def test_marks_of_another_program_are_taken(tmp_path: Path) -> None:
    """Attributes instead of elements, as XMP allows too."""
    other = (
        b'<x:xmpmeta xmlns:x="adobe:ns:meta/"><rdf:RDF xmlns:rdf="http://www.w3.org/1999/02/22-rdf-syntax-ns#">'
        b'<rdf:Description xmlns:xmp="http://ns.adobe.com/xap/1.0/" xmp:Rating="3" xmp:Label="Red"/></rdf:RDF></x:xmpmeta>'
    )
    found = parse_sidecar(other, "x")
    assert found is not None and (found.stars, found.label, found.own, found.follows) == (3, "red", {}, True)
    nothing = other.replace(b'xmp:Rating="3" xmp:Label="Red"', b"")
    assert parse_sidecar(nothing, "x") is None
    original = tmp_path / "A.DNG"
    assert found_beside(original) is None
    (tmp_path / "A.xmp").write_bytes(other)
    assert found_beside(original) == tmp_path / "A.xmp"
    beside(original).write_bytes(sidecar_bytes(FULL))
    assert found_beside(original) == beside(original)


@pytest.mark.parametrize(
    ("data", "words"),
    [
        (b"", "damaged"),
        (b"<x:xmpmeta", "damaged"),
        (sidecar_bytes(FULL)[:-200], "damaged"),
        (b"\xff\xfe\x00bad", "damaged"),
        (b'<!DOCTYPE a [<!ENTITY b "c">]><a/>', "entities"),
        (b" " * 1_000_001, "too large"),
        (sidecar_bytes(FULL).replace(b'"light.exposure": 0.5', b'"light.exposure": "much"'), "no sense"),
        (sidecar_bytes(FULL).replace(b'"light.exposure": 0.5', b'"light.exposure": 99'), "no sense"),
        (sidecar_bytes(FULL).replace(b'{"light', b"{light"), "no sense"),
        (sidecar_bytes(FULL).replace(b'"values": {', b'"valves": {'), "no sense"),
    ],
)
def test_what_is_damaged_is_said(data: bytes, words: str) -> None:
    with pytest.raises(FormatError, match=words):
        parse_sidecar(data, "AF0001.DNG.tanner.xmp")


def test_adjustments_of_a_newer_version_are_left_out() -> None:
    newer = sidecar_bytes(FULL).replace(b'"light.exposure": 0.5', b'"light.exposure": 0.5, "sky.glow": 3')
    found = parse_sidecar(newer, "x")
    assert found is not None and found.own == FULL.own
