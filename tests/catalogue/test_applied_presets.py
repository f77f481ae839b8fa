"""Presets on frames: later ones win, each can be taken out again, and what is changed by hand stays."""

from typing import Any

import pytest
from hypothesis import HealthCheck, given, settings
from hypothesis import strategies as st
from sqlalchemy.orm import Session

from tanner.catalogue.development import apply_presets, carry, give_up, rearrange, reset, set_offsets, set_values
from tanner.catalogue.models import Frame, FrameSet
from tanner.catalogue.resolver import Resolver
from tanner.catalogue.sets import move, put_under
from tanner.catalogue.steps import undo
from tanner.core.errors import TannerError
from tanner.core.series.applied_presets import described

SOFT = {"light.contrast": -12.0, "light.shadows": 20.0}
COOL = {"white.temperature": 4300.0, "light.contrast": 8.0}
WARM = {"white.temperature": 6500.0, "colour.vibrance": 10.0}


def shows(session: Session, frame_id: int) -> dict[str, Any]:
    return Resolver(session, 1).resolve(session.get_one(Frame, frame_id)).values


def put(session: Session, ids: list[int], name: str, values: dict[str, Any], amount: float = 100) -> None:
    frames = [session.get_one(Frame, i) for i in ids]
    apply_presets(session, Resolver(session, 1), [(f, f"own/{name}", name, amount, values) for f in frames], name)


def keep(session: Session, frame_id: int, *names: str) -> None:
    frame = session.get_one(Frame, frame_id)
    rearrange(session, Resolver(session, 1), [frame], [f"own/{n}" for n in names], "again")


def test_the_later_one_wins_and_taking_it_out_brings_back_what_was_beneath(session: Session) -> None:
    set_values(session, Resolver(session, 1), [session.get_one(Frame, 1)], {"light.contrast": 3.0})
    before = shows(session, 1)
    put(session, [1], "Soft", SOFT)
    soft = shows(session, 1)
    put(session, [1], "Cool", COOL)
    both = shows(session, 1)
    assert both["light.contrast"] == 8.0 and both["light.shadows"] == 20.0
    frame = session.get_one(Frame, 1)
    rows = described(frame.worn, both)
    assert [(r["name"], r["sets"], r["in_force"]) for r in rows] == [("Soft", 2, 1), ("Cool", 2, 2)]
    assert rows[0]["lost"] == [{"label": "Contrast", "to": "Cool"}]
    keep(session, 1, "Cool", "Soft")  # the other way round
    assert shows(session, 1)["light.contrast"] == -12.0
    keep(session, 1, "Soft", "Cool")
    assert shows(session, 1) == both
    keep(session, 1, "Soft")
    assert shows(session, 1) == soft
    keep(session, 1)
    assert shows(session, 1) == before and session.get_one(Frame, 1).worn == []
    undo(session, 1)
    assert shows(session, 1) == soft and [w["name"] for w in session.get_one(Frame, 1).worn] == ["Soft"]


def test_what_was_changed_by_hand_since_stays(session: Session) -> None:
    put(session, [1], "Soft", SOFT)
    frame = session.get_one(Frame, 1)
    set_values(session, Resolver(session, 1), [frame], {"light.shadows": 33.0})
    assert described(frame.worn, shows(session, 1))[0]["lost"] == [{"label": "Shadows", "to": "by hand"}]
    keep(session, 1)
    assert shows(session, 1).get("light.shadows") == 33.0 and "light.contrast" not in frame.own


def test_offsets_beneath_a_preset_come_back(session: Session) -> None:
    set_offsets(session, Resolver(session, 1), [session.get_one(Frame, 2)], {"mired": 12.0, "ev": 0.25})
    before = shows(session, 2)
    put(session, [2], "Cool", COOL)
    assert shows(session, 2)["white.temperature"] == 4300.0 and session.get_one(Frame, 2).offsets == {"ev": 0.25}
    keep(session, 2)
    assert shows(session, 2) == before


def test_putting_one_on_anew_replaces_it(session: Session) -> None:
    put(session, [1], "Soft", SOFT)
    put(session, [1], "Cool", COOL)
    put(session, [1], "Soft", {"light.contrast": -6.0}, 50)
    frame = session.get_one(Frame, 1)
    assert [(w["name"], w["amount"]) for w in frame.worn] == [("Cool", 100), ("Soft", 50)]
    assert shows(session, 1)["light.contrast"] == -6.0 and "light.shadows" not in frame.own
    keep(session, 1, "Cool")
    assert shows(session, 1)["light.contrast"] == 8.0


STEP = st.sampled_from(["Soft", "Cool", "Warm", "hand", "swap", "first", "last"])


@settings(deadline=None, max_examples=40, suppress_health_check=[HealthCheck.function_scoped_fixture])
@given(st.lists(STEP, max_size=7))
def test_taking_everything_out_leaves_the_frame_as_it_was(session: Session, steps: list[str]) -> None:
    """Whatever is put on, moved and taken out: without presets and hand changes the frame is as at first."""
    kinds = {"Soft": SOFT, "Cool": COOL, "Warm": WARM}
    frame = session.get_one(Frame, 1)
    frame.own, frame.offsets, frame.worn = {"light.contrast": 3.0, "light.exposure": 0.5}, {}, []
    before = shows(session, 1)
    by_hand = False
    for step in steps:
        names = [w["name"] for w in frame.worn]
        if step in kinds:
            put(session, [1], step, kinds[step])
        elif step == "hand":
            set_values(session, Resolver(session, 1), [frame], {"colour.vibrance": 77.0})
            by_hand = True
        elif names:
            keep(session, 1, *{"swap": names[::-1], "first": names[1:], "last": names[:-1]}[step])
        for n, row in enumerate(described(frame.worn, shows(session, 1))):
            assert 0 <= row["in_force"] <= row["sets"], n
    keep(session, 1)
    after = shows(session, 1)
    if by_hand:
        assert after.get("colour.vibrance", 0) in (77.0, 0, 10.0)
        after.pop("colour.vibrance", None)
    assert after == before


def test_resetting_groups_and_all(session: Session) -> None:
    first, second = session.get_one(Frame, 1), session.get_one(Frame, 2)
    set_values(session, Resolver(session, 1), [first], {"light.contrast": 9.0, "colour.vibrance": 5.0})
    set_offsets(session, Resolver(session, 1), [second], {"ev": 0.5})
    reset(session, Resolver(session, 1), [first, second], ["light"])
    assert "light.contrast" not in first.own and first.own["colour.vibrance"] == 5.0 and second.offsets == {}
    undo(session, 1)
    assert first.own["light.contrast"] == 9.0 and second.offsets == {"ev": 0.5}
    # The follower alone: it departs to the start, and follows again when that is given up.
    reset(session, Resolver(session, 1), [second], ["light"])
    assert shows(session, 2).get("light.contrast", 0.0) == 0.0
    give_up(session, Resolver(session, 1), [second], None)
    assert shows(session, 2)["light.contrast"] == 9.0
    reset(session, Resolver(session, 1), [first], None)
    assert first.own == {}
    with pytest.raises(TannerError, match="no such group"):
        reset(session, Resolver(session, 1), [first], ["nothing"])


GROUPS = (["light.contrast", "light.shadows"], ["colour.vibrance"], ["white.temperature", "white.tint"])


@settings(deadline=None, max_examples=15, suppress_health_check=[HealthCheck.function_scoped_fixture])
@given(st.permutations(GROUPS))
def test_the_order_of_carrying_disjoint_groups_does_not_matter(session: Session, order: list[list[str]]) -> None:
    for n in (1, 2, 3):
        frame = session.get_one(Frame, n)
        frame.own, frame.offsets, frame.worn = {}, {}, []
    source, target = session.get_one(Frame, 5), session.get_one(Frame, 3)
    source.own = {"light.contrast": 4.0, "light.shadows": 7.0, "colour.vibrance": -3.0, "white.temperature": 4000.0}
    for keys in order:
        carry(session, Resolver(session, 1), source, [target], keys)
    assert target.own == {
        "light.contrast": 4.0,
        "light.shadows": 7.0,
        "colour.vibrance": -3.0,
        "white.temperature": 4000.0,
    }


def test_a_set_can_follow_another_sets_lead(session: Session) -> None:
    above, below = session.get_one(FrameSet, 1), session.get_one(FrameSet, 2)
    set_values(session, Resolver(session, 1), [session.get_one(Frame, 1)], {"light.contrast": 9.0, "crop.left": 0.1})
    put_under(session, below, above)
    assert shows(session, 5)["light.contrast"] == 9.0 and shows(session, 6)["light.contrast"] == 9.0
    assert "crop.left" not in shows(session, 5)
    # The set's own lead goes over it, for its followers, too; exposure as a value, so that they take it.
    five = session.get_one(Frame, 5)
    set_values(
        session,
        Resolver(session, 1),
        [five],
        {"light.contrast": 2.0, "light.exposure": 0.5},
        relative=["light.exposure"],
    )
    assert five.own == {"light.contrast": 2.0, "light.exposure": 0.5} and five.offsets == {}
    assert shows(session, 6)["light.contrast"] == 2.0 and shows(session, 6)["light.exposure"] == 0.5
    set_offsets(session, Resolver(session, 1), [session.get_one(Frame, 6)], {"ev": -0.25})
    set_values(session, Resolver(session, 1), [session.get_one(Frame, 1)], {"light.shadows": 5.0})
    six = shows(session, 6)
    assert six["light.shadows"] == 5.0 and six["light.exposure"] == 0.25
    give_up(session, Resolver(session, 1), [five], None)
    assert shows(session, 6)["light.contrast"] == 9.0
    # Split off it still follows.
    move(session, 1, [session.get_one(Frame, 6)], None)
    assert shows(session, 6)["light.contrast"] == 9.0
    with pytest.raises(TannerError, match="already"):
        put_under(session, above, below)
    with pytest.raises(TannerError, match="already"):
        put_under(session, below, below)
    with pytest.raises(TannerError, match="own shoot"):
        put_under(session, below, session.get_one(FrameSet, 3))
    put_under(session, below, None)
    assert "light.contrast" not in shows(session, 5)
