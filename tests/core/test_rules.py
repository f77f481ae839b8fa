"""Rules: which frames meet them, and what they say."""

import pytest
from pydantic import ValidationError

from tanner.core.series.conditional import About
from tanner.core.series.rules import FrameRule, When, meeting

NIGHT = About(iso=6400, kelvin=2900, camera="Alder Two", lens="Finch 90 mm", upright=True)
DAY = About(iso=100, kelvin=5500, camera="Alder One", lens="Finch 55 mm")


@pytest.mark.parametrize(
    ("when", "night", "day", "words"),
    [
        ({}, True, True, "always"),
        ({"camera": "TWO alder"}, True, False, 'camera has "TWO alder"'),
        ({"iso": [1600, 12800]}, True, False, "ISO 1600 to 12800"),
        ({"kelvin": [5000, 6000], "lens": "55"}, False, True, 'lens has "55", light 5000 to 6000 K'),
        ({"held": "upright", "name": "af00"}, True, False, 'name has "af00", held upright'),
        ({"iso": [100, 100]}, False, True, "ISO 100 to 100"),
        ({"iso": [800, 1e6], "kelvin": [0, 4000]}, True, False, "ISO 800 and up, light up to 4000 K"),
    ],
)
def test_a_frame_meets_all_that_is_named(when: dict[str, object], night: bool, day: bool, words: str) -> None:
    condition = When(**when)  # type: ignore[arg-type]
    assert (condition.meets(NIGHT, "AF0001.DNG"), condition.meets(DAY, "AF0002.DNG")) == (night, day)
    assert condition.words() == words


def test_what_is_not_known_does_not_meet_a_range() -> None:
    assert not When(iso=(0, 1e6)).meets(About(), "a") and not When(kelvin=(0, 1e6)).meets(About(), "a")


def test_rules_that_are_off_are_left_out_and_order_is_kept() -> None:
    rules = [FrameRule(when=When(), preset=p, on=p != "b") for p in "abc"]
    assert [r.preset for r in meeting(rules, DAY, "x")] == ["a", "c"]
    with pytest.raises(ValidationError, match="low to high"):
        When(iso=(800, 100))
