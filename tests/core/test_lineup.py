"""The figures of a series: against its lead, or against the median where the lead says nothing."""

import pytest

from tanner.core.series.lineup import Reading, in_words, line_up


def readings() -> list[Reading]:
    labs = [(60.0, 1.0, 2.0), (60.2, 1.0, 2.0), (64.0, 1.0, 2.0), None, (60.0, 1.0, 6.0)]
    return [
        Reading(n, f"F{n}", lab, 0.9 if lab else 0.0, "backdrop" if lab else "", "" if lab else "No even backdrop.")
        for n, lab in enumerate(labs)
    ]


def test_frames_are_held_against_the_lead() -> None:
    found = line_up(readings(), 0, 1.0)
    assert found["by"] == "frame" and found["reference"] == [60.0, 1.0, 2.0]
    assert [r["outside"] for r in found["frames"]] == [False, False, True, False, True] and found["outside"] == 2
    assert found["frames"][0]["difference"] == 0 and found["spread"] == max(
        r["difference"] for r in found["frames"] if r["difference"] is not None
    )
    assert found["frames"][2]["words"] == "lighter by 4.0" and found["frames"][4]["words"] == "yellower by 4.0"
    assert found["frames"][3]["difference"] is None and "backdrop" in found["frames"][3]["words"]
    assert line_up(readings(), 0, 5.0)["outside"] == 0


@pytest.mark.parametrize("lead", [None, 3])
def test_without_a_lead_that_can_be_measured_the_median_stands_in(lead: int | None) -> None:
    found = line_up(readings(), lead, 1.0)
    assert found["by"] == "median" and found["reference"] == [60.1, 1.0, 2.0]


def test_an_empty_series_and_one_that_cannot_be_measured() -> None:
    assert line_up([], None)["spread"] is None
    nothing = line_up([readings()[3]], 3)
    assert nothing["reference"] is None and nothing["outside"] == 0


def test_differences_in_words_begin_with_the_largest() -> None:
    assert in_words((50, 3, -2), (52, 0.5, 3)) == "bluer by 5.0, redder by 2.5, darker by 2.0"
    assert in_words((50, 0, 0), (50.1, 0.2, 0)) == ""
