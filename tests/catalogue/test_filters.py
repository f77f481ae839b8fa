"""Expressions that choose frames, and words with undo."""

from types import SimpleNamespace
from typing import Any

import pytest
from hypothesis import given, settings
from hypothesis import strategies as st

from tanner.catalogue.filters import parse_filter
from tanner.core.errors import FormatError

SET: Any = SimpleNamespace(name="Lamp, evening", lead_id=7)


def frame(**more: Any) -> Any:
    plain = {
        "id": 1, "verdict": "undecided", "stars": 2, "iso": 400, "label": "none", "keywords": ["Blue lamp"], "camera": "Alder One",
        "lens": "Finch 55 mm", "name": "AF0012.DNG", "own": {}, "worn": [], "offsets": {},
    }  # fmt: skip
    return SimpleNamespace(**{**plain, **more})


@pytest.mark.parametrize(
    ("text", "given", "taken"),
    [
        ("", {}, True),
        ("keep", {}, False),
        ("not drop", {}, True),
        ("keep stars>=2", {"verdict": "keep"}, True),
        ("keep and stars>=3 or iso<=400", {}, True),  # and binds more closely than or
        ("keep and (stars>=3 or iso<=400)", {}, False),
        ("not keep and not drop", {}, True),
        ("not (keep or undecided)", {}, False),
        ('set:"lamp, eve"', {}, True),
        ("set:evening", {}, True),
        ('keyword:"blue lamp"', {}, True),
        ("keyword:blue", {}, False),  # keywords and labels are compared whole
        ("LABEL:Red", {"label": "red"}, True),
        ("camera:one lens:55 name:0012", {}, True),
        ("iso>100", {"iso": None}, False),
        ("lead", {"id": 7}, True),
        ("developed", {"offsets": {"ev": 0.1}}, True),
        ("developed", {}, False),
        ("stars!=2", {}, False),
    ],
)
def test_what_is_taken(text: str, given: dict[str, Any], taken: bool) -> None:
    assert parse_filter(text)(frame(**given), SET) is taken


def test_a_frame_without_a_set() -> None:
    assert not parse_filter("set:lamp or lead")(frame(), None)


@pytest.mark.parametrize(
    "text",
    [
        "(",
        ")",
        "keep)",
        "(keep",
        "and",
        "keep and",
        "or keep",
        "not",
        "foo",
        "stars:3",
        "stars>=x",
        "label>red",
        '"x"',
        "keep ; drop",
    ],
)
def test_what_makes_no_sense_is_told(text: str) -> None:
    with pytest.raises(FormatError, match="Filter"):
        parse_filter(text)


@settings(deadline=None)
@given(st.text(alphabet='keepdrorstaniso><=!:()"3 ', max_size=40))
def test_nothing_but_a_message_comes_of_any_text(text: str) -> None:
    try:
        assert parse_filter(text)(frame(), SET) in (True, False)
    except FormatError as error:
        assert str(error).startswith("Filter")
