"""Keywords: the tree, renaming and merging over shoots, suggestions, indented text, and what files say of it."""

import json
import subprocess
from pathlib import Path

import numpy as np
import pytest
from hypothesis import given, settings
from hypothesis import strategies as st
from sqlalchemy import select
from sqlalchemy.orm import Session

from tanner.catalogue import keywords
from tanner.catalogue.captions import written_captions
from tanner.catalogue.models import Frame, Keyword, Shoot
from tanner.catalogue.search.find import condition, count
from tanner.catalogue.steps import undo
from tanner.catalogue.store import Catalogue
from tanner.core.errors import FormatError, TannerError
from tanner.core.output.captions import Captions, xmp_properties

TEXT = "light\n\tlamp = lantern, Lámpara\n\t\tdesk lamp\n\twindow\nwool\n"


@pytest.fixture
def used(session: Session) -> Session:
    for number, words in ((1, ["lamp", "wool"]), (2, ["lamp"]), (5, ["desk lamp"]), (7, ["lamp"])):
        session.get_one(Frame, number).keywords = words
    session.flush()
    keywords.from_text(session, TEXT)
    session.flush()
    return session


def test_the_tree_goes_out_and_comes_in(used: Session) -> None:
    assert keywords.as_text(used) == TEXT
    rows = {r["name"]: r for r in keywords.tree(used)}
    assert rows["lamp"] == {"name": "lamp", "parent": "light", "synonyms": ["lantern", "Lámpara"], "count": 3}
    assert rows["light"]["count"] == 0 and rows["desk lamp"]["count"] == 1
    # A tree that is turned over is no cycle: the text says where all of them are now.
    keywords.from_text(used, "desk lamp\n    lamp\n        light\n")
    used.flush()
    assert keywords.paths(used, ["light"]) == [("desk lamp", "lamp", "light")]


@pytest.mark.parametrize(
    ("text", "why"),
    [
        ("\tlamp", "Line 1: lamp is further in than anything above it"),
        ("lamp\nwool\n\tlamp", "Line 3: lamp stands in line 1 already"),
        ("a, b", "Line 1: A keyword has"),
        ("\n".join("  " * n + f"k{n}" for n in range(32)), "deeper than 30"),
    ],
)
def test_text_that_makes_no_sense_is_told_by_its_line(session: Session, text: str, why: str) -> None:
    with pytest.raises(FormatError, match=why):
        keywords.from_text(session, text)
    assert session.scalars(select(Keyword)).first() is None


def test_nothing_lies_below_itself(used: Session) -> None:
    with pytest.raises(TannerError, match="light cannot lie below desk lamp, which lies below it"):
        keywords.put_under(used, "light", "desk lamp")
    with pytest.raises(TannerError, match="cannot lie below"):
        keywords.put_under(used, "lamp", "lamp")


def test_the_tree_is_no_deeper_than_it_can_be_shown(session: Session) -> None:
    """Also when a whole branch is put below another."""
    for n in range(keywords.DEEPEST - 1):
        keywords.put_under(session, f"k{n}", f"k{n + 1}")
        session.flush()
    with pytest.raises(TannerError, match="deeper than 30"):
        keywords.put_under(session, f"k{keywords.DEEPEST - 1}", "top")
    assert len(keywords.paths(session, ["k0"])[0]) == keywords.DEEPEST


def test_names_that_text_could_not_bring_back_stay_out_of_it(used: Session) -> None:
    with pytest.raises(TannerError, match="equals signs"):
        keywords.put_under(used, "a=b", None)
    used.get_one(Frame, 2).keywords = ["a=b, c"]  # as another program wrote it into a file
    used.flush()
    assert "a=b, c" in {r["name"] for r in keywords.tree(used)} and "a=b" not in keywords.as_text(used)


def test_frames_are_found_by_what_lies_above_and_by_other_words(used: Session) -> None:
    assert [
        count(used, condition(q)) for q in ("keyword:light", "keyword:LANTERN", "keyword:lampara", "keyword:window")
    ] == [4, 4, 4, 0]
    assert count(used, condition('keyword:"desk lamp"')) == 1


def test_a_keyword_is_renamed_in_all_shoots_and_merged(used: Session) -> None:
    assert len(keywords.rename(used, "lamp", "lighting")) == 2
    assert used.get_one(Frame, 7).keywords == ["lighting"] and used.get_one(Frame, 1).keywords == ["lighting", "wool"]
    assert keywords.paths(used, ["desk lamp"]) == [("light", "lighting", "desk lamp")]
    undo(used, 2)
    assert used.get_one(Frame, 7).keywords == ["lamp"] and used.get_one(Frame, 2).keywords == ["lighting"]
    keywords.rename(used, "lighting", "wool")  # both are there: one is left, once on each frame
    used.flush()
    assert used.get_one(Frame, 1).keywords == ["wool"]
    rows = {r["name"]: r for r in keywords.tree(used)}
    assert "lighting" not in rows and rows["desk lamp"]["parent"] == "wool" and "lantern" in rows["wool"]["synonyms"]
    keywords.rename(used, "wool", "desk lamp")  # into one that lies below it
    used.flush()
    assert {r["name"]: r["parent"] for r in keywords.tree(used)}["desk lamp"] is None
    keywords.leave_out(used, "light")
    used.flush()
    assert {r["name"]: r["parent"] for r in keywords.tree(used)}["window"] is None


def test_keywords_are_suggested_while_one_writes(used: Session) -> None:
    assert keywords.suggest(used, "la") == ["lamp", "desk lamp"]  # begins so by its name; by a word of it
    assert keywords.suggest(used, "LÁN")[0] == "lamp"  # by another word for it, accents aside
    assert keywords.suggest(used, "windwo")[0] == "window"  # mistyped
    assert keywords.suggest(used, "zzzz") == []
    assert keywords.suggest(used, "")[0] == "lamp"  # the commonest
    assert keywords.last_used(used, 2) == ["lamp"]


def test_keywords_are_added_and_taken_over_shoots(used: Session) -> None:
    frames = [used.get_one(Frame, n) for n in (1, 7)]
    assert len(keywords.change(used, frames, ["brass", "wool"], ["lamp"])) == 2
    assert [f.keywords for f in frames] == [["wool", "brass"], ["brass", "wool"]]
    with pytest.raises(TannerError, match="no commas"):
        keywords.change(used, frames, ["a,b"], [])


@settings(max_examples=30)  # each makes a catalogue of its own
@given(st.lists(st.tuples(st.integers(0, 9), st.integers(0, 9)), max_size=25))
def test_whatever_is_put_where_the_tree_stays_a_tree(
    tmp_path_factory: pytest.TempPathFactory, moves: list[tuple[int, int]]
) -> None:
    catalogue = Catalogue(tmp_path_factory.mktemp("tree"))
    with catalogue.write() as session:
        for child, parent in moves:
            try:
                keywords.put_under(session, f"k{child}", f"k{parent}")
            except TannerError:
                continue
            session.flush()
        names = {r["name"] for r in keywords.tree(session)}
        text = keywords.as_text(session)
        # Every keyword is reached from the top, once: there is no cycle.
        assert sorted(line.strip() for line in text.splitlines()) == sorted(names)
    catalogue.close()


def test_files_say_where_a_keyword_lies_and_others_read_it(used: Session, tmp_path: Path) -> None:
    """MWG's hierarchy of keywords, read by Debian's exiftool; the flat list beside it by exiv2."""
    frame = used.get_one(Frame, 5)
    frame.keywords = ["desk lamp", "window", "brass"]
    used.flush()
    words = Captions(**written_captions(used, used.get_one(Shoot, 1), frame))
    assert words.paths == (("light", "lamp", "desk lamp"), ("light", "window"))
    assert "mwg-kw" not in xmp_properties(words.only(contact_only=False, place=True, keywords=False))
    from PIL import Image

    from tanner.core.output.metadata import xmp_packet
    from tanner.core.raw.facts import FrameFacts

    path = tmp_path / "a.jpg"
    facts = FrameFacts(path=str(path), kind="finished", width=8, height=8)
    Image.fromarray(np.zeros((8, 8, 3), np.uint8)).save(path, xmp=xmp_packet(facts, words))
    found = json.loads(
        subprocess.run(["exiftool", "-j", "-struct", "-XMP:all", path], capture_output=True, check=True).stdout
    )[0]
    assert found["Subject"] == ["desk lamp", "window", "brass"]
    (top,) = found["KeywordInfo"]["Hierarchy"]
    assert top["Keyword"] == "light"
    assert [c["Keyword"] for c in top["Children"]] == ["lamp", "window"]
    assert top["Children"][0]["Children"] == [{"Keyword": "desk lamp"}]
    import exiv2

    image = exiv2.ImageFactory.open(str(path))
    image.readMetadata()
    assert "desk lamp" in str(image.xmpData()["Xmp.dc.subject"].toString())
