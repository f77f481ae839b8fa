"""Following, departures, offsets, carrying over, and the history of all of it."""

import pytest
from sqlalchemy import func, select
from sqlalchemy.orm import Session

from tanner.catalogue.development import carry, carry_list, edited, give_up, set_offsets, set_values
from tanner.catalogue.models import Action, Frame, Patch
from tanner.catalogue.resolver import Resolver, version
from tanner.catalogue.steps import history, record, redo, state_after, undo
from tanner.core.errors import SettingsError, TannerError


def get(session: Session, *ids: int) -> list[Frame]:
    return [session.get_one(Frame, i) for i in ids]


def shows(session: Session, frame_id: int, key: str) -> object:
    frame = session.get_one(Frame, frame_id)
    return Resolver(session, frame.shoot_id).resolve(frame).values.get(key)


def own(session: Session, frame_id: int) -> dict[str, object]:
    return session.get_one(Frame, frame_id).own


def put(session: Session, ids: list[int], values: dict[str, object], **more: object) -> Action | None:
    return set_values(session, Resolver(session, 1), get(session, *ids), values, **more)  # type: ignore[arg-type]


def test_changing_the_lead_changes_its_followers_and_nobody_else(session: Session) -> None:
    put(session, [1], {"light.exposure": 0.5})
    assert [shows(session, n, "light.exposure") for n in (1, 2, 3, 4)] == [0.5] * 4
    assert shows(session, 5, "light.exposure") is None
    assert all(own(session, n) == {} for n in (2, 3, 4))  # nothing was copied


def test_a_departure_stays_when_the_lead_changes_and_can_be_given_up(session: Session) -> None:
    put(session, [1], {"light.shadows": 10.0})
    put(session, [2], {"light.shadows": 30.0})
    put(session, [1], {"light.shadows": 15.0})
    assert shows(session, 2, "light.shadows") == 30.0 and shows(session, 3, "light.shadows") == 15.0
    give_up(session, Resolver(session, 1), get(session, 2), ["light.shadows"])
    assert shows(session, 2, "light.shadows") == 15.0 and own(session, 2) == {}


def test_relative_edits_become_offsets_on_followers_only(session: Session) -> None:
    put(session, [1], {"light.exposure": 0.5}, relative=["light.exposure"])
    put(session, [2], {"light.exposure": 0.8}, relative=["light.exposure"])
    assert own(session, 1) == {"light.exposure": 0.5}
    assert own(session, 2) == {} and session.get_one(Frame, 2).offsets == {"ev": pytest.approx(0.3)}
    put(session, [1], {"light.exposure": 1.0})
    assert shows(session, 2, "light.exposure") == pytest.approx(1.3)


def test_temperature_offsets_start_from_as_shot(session: Session) -> None:
    put(session, [3], {"white.temperature": 4000.0}, relative=["white.temperature"])
    assert session.get_one(Frame, 3).offsets == {"mired": pytest.approx(50.0)}
    assert shows(session, 3, "white.temperature") == pytest.approx(4000, rel=1e-4)


def test_an_absolute_value_replaces_an_offset(session: Session) -> None:
    set_offsets(session, Resolver(session, 1), get(session, 2), {"ev": 0.5})
    put(session, [2], {"light.exposure": 1.0})
    frame = session.get_one(Frame, 2)
    assert frame.offsets == {} and frame.own == {"light.exposure": 1.0}


def test_offsets_add_up_and_have_limits(session: Session) -> None:
    for _ in range(3):
        set_offsets(session, Resolver(session, 1), get(session, 2, 3), {"ev": 1 / 3})
    assert session.get_one(Frame, 3).offsets["ev"] == pytest.approx(1.0, abs=1e-3)
    set_offsets(session, Resolver(session, 1), get(session, 2), {"ev": 99.0})
    assert session.get_one(Frame, 2).offsets["ev"] == 5.0
    set_offsets(session, Resolver(session, 1), get(session, 2), {"ev": -5.0})
    assert session.get_one(Frame, 2).offsets == {}
    with pytest.raises(SettingsError, match="brightness"):
        set_offsets(session, Resolver(session, 1), get(session, 2), {"brightness": 1.0})


def test_setting_what_is_shown_anyway_is_no_departure(session: Session) -> None:
    put(session, [1], {"light.contrast": 20.0})
    assert put(session, [2], {"light.contrast": 20.0}) is None
    put(session, [2], {"light.contrast": 30.0})
    put(session, [2], {"light.contrast": 20.0})
    assert own(session, 2) == {}


def test_as_shot_can_be_asked_for_again(session: Session) -> None:
    put(session, [1], {"white.temperature": 4000.0, "white.tint": 3.0})
    put(session, [2], {"white.temperature": None})
    assert shows(session, 2, "white.temperature") is None and own(session, 2) == {"white.temperature": None}
    put(session, [1], {"white.temperature": None, "white.tint": None})
    assert own(session, 1) == {}


def test_the_shoots_preset_lies_under_the_leads(session: Session) -> None:
    resolver = Resolver(session, 1)
    preset = {"name": "x", "values": {"light.exposure": 1.0, "light.contrast": 10.0, "new.thing": 1}, "amount": 50}
    record(session, 1, "preset", [(resolver.shoot, {"preset": preset})])
    put(session, [1], {"light.contrast": 33.0})
    assert shows(session, 2, "light.exposure") == 0.5 and shows(session, 2, "light.contrast") == 33.0
    assert shows(session, 5, "light.contrast") == 5.0


def test_frames_that_stand_alone(session: Session) -> None:
    put(session, [1], {"light.exposure": 1.0})
    record(session, 1, "alone", [(session.get_one(Frame, 2), {"follows": False})])
    assert shows(session, 2, "light.exposure") is None


def test_values_are_refused_before_anything_changes(session: Session) -> None:
    for values in ({"light.exposure": 9.0}, {"light.nothing": 1}, {"crop.left": 0.9, "crop.right": 0.2}):
        with pytest.raises(SettingsError):
            put(session, [1, 2], values)
    assert own(session, 1) == {} == own(session, 2)
    assert session.scalar(select(func.count()).select_from(Patch)) == 0


# --- carry over ---------------------------------------------------------------------------------------


def test_carrying_over_within_and_across_sets_and_shoots(session: Session) -> None:
    put(session, [1], {"light.exposure": 0.5, "colour.vibrance": 20.0, "crop.left": 0.1})
    resolver = Resolver(session, 1)
    _, changed = carry(
        session, resolver, get(session, 1)[0], get(session, 2, 5, 7), ["light.exposure", "colour.vibrance"]
    )
    assert changed == 2  # frame 2 follows already: nothing to write
    assert own(session, 2) == {}
    assert own(session, 5) == own(session, 7) == {"light.exposure": 0.5, "colour.vibrance": 20.0}
    assert shows(session, 6, "light.exposure") == 0.5  # led by 5


def test_carrying_one_thing_leaves_all_others(session: Session) -> None:
    put(session, [1], {"light.exposure": 0.5, "profile.curve_strength": 40.0})
    put(session, [5], {"light.exposure": -1.0})
    carry(session, Resolver(session, 1), get(session, 1)[0], get(session, 5), ["profile.curve_strength"])
    assert own(session, 5) == {"light.exposure": -1.0, "profile.curve_strength": 40.0}


def test_neutral_values_are_carried_too(session: Session) -> None:
    put(session, [5], {"light.contrast": 25.0})
    carry(session, Resolver(session, 1), get(session, 1)[0], get(session, 5), ["light.contrast"])
    assert own(session, 5) == {}


def test_the_list_shows_values_and_leaves_per_frame_things_off(session: Session) -> None:
    put(session, [1], {"light.exposure": 0.5, "crop.straighten": 2.0})
    entries = {e["key"]: e for e in carry_list(Resolver(session, 1), get(session, 1)[0])}
    assert entries["light.exposure"]["chosen"] and entries["light.exposure"]["value"] == 0.5
    assert entries["crop.straighten"]["changed"] and not entries["crop.straighten"]["chosen"]
    assert not entries["profile.curve_strength"]["changed"]  # the start of every raw frame


# --- history -------------------------------------------------------------------------------------------


def test_undo_and_redo_go_through_everything(session: Session) -> None:
    put(session, [1], {"light.exposure": 0.5})
    put(session, [2, 3], {"light.shadows": 9.0})
    record(session, 1, "keep", [(session.get_one(Frame, 2), {"verdict": "keep", "stars": 4})])
    states = []
    for _ in range(4):
        states.append((own(session, 1), own(session, 2), session.get_one(Frame, 2).verdict))
        undo(session, 1)
    assert states[0] == ({"light.exposure": 0.5}, {"light.shadows": 9.0}, "keep")
    assert states[1][2] == "undecided" and states[2][1] == {} and states[3][0] == {}
    assert undo(session, 1) is None
    for _ in range(3):
        assert redo(session, 1) is not None
    assert redo(session, 1) is None
    assert (own(session, 1), own(session, 2), session.get_one(Frame, 2).verdict) == states[0]


def test_a_new_step_ends_redo(session: Session) -> None:
    put(session, [1], {"light.exposure": 0.5})
    undo(session, 1)
    put(session, [1], {"light.exposure": 0.2})
    assert redo(session, 1) is None
    assert own(session, 1) == {"light.exposure": 0.2}


def test_undo_of_one_shoot_leaves_the_other(session: Session) -> None:
    put(session, [1], {"light.exposure": 0.5})
    set_values(session, Resolver(session, 2), get(session, 7), {"light.exposure": 1.0})
    undo(session, 1)
    assert own(session, 1) == {} and own(session, 7) == {"light.exposure": 1.0}


def test_going_back_to_any_step(session: Session) -> None:
    put(session, [2], {"light.exposure": 0.1})
    put(session, [2], {"light.shadows": 9.0})
    set_offsets(session, Resolver(session, 1), get(session, 2), {"mired": 8.0})
    steps = history(session, session.get_one(Frame, 2))
    assert [s["label"] for s in steps] == ["Offset mired +8", "Shadows 9 %", "Exposure 0.1 EV"]
    frame = session.get_one(Frame, 2)
    first = state_after(session, frame, steps[-1]["action"])
    assert first == {"own": {"light.exposure": 0.1}, "offsets": {}, "follows": True, "worn": []}
    assert state_after(session, frame, 0)["own"] == {}
    record(session, 1, "back", [(frame, first)])
    undo(session, 1)
    assert frame.own == {"light.exposure": 0.1, "light.shadows": 9.0} and frame.offsets == {"mired": 8.0}


def test_an_edit_costs_little(session: Session) -> None:
    """Kilobytes an edited frame, not megabytes."""
    for n in range(100):
        put(session, [1], {"light.exposure": n / 50, "light.contrast": float(n)})
    size = sum(len(str(p.before)) + len(str(p.after)) for p in session.scalars(select(Patch)))
    assert size < 30_000


def test_versions_tell_looks_apart(session: Session) -> None:
    frame = session.get_one(Frame, 1)
    assert version(frame, {"light.exposure": 1.0}) != version(frame, {"light.exposure": 1.1})
    assert version(frame, {"a": 1, "b": 2}) == version(frame, {"b": 2, "a": 1})
    assert version(frame, {}) != version(session.get_one(Frame, 2), {})


def test_a_shoot_that_is_gone(session: Session) -> None:
    with pytest.raises(TannerError, match="no longer there"):
        Resolver(session, 99)


def test_edited_tells_without_writing(session: Session) -> None:
    frame = session.get_one(Frame, 2)
    after = edited(Resolver(session, 1), frame, {"light.exposure": 0.7}, relative=["light.exposure"])
    assert after == {"own": {}, "offsets": {"ev": pytest.approx(0.7)}} and frame.offsets == {}


def test_leads_and_followers_that_are_changed_together_stay_in_step(session: Session) -> None:
    """Whatever the order: the follower has nothing of its own afterwards."""
    put(session, [2, 1, 3], {"light.contrast": 12.0})
    assert own(session, 1) == {"light.contrast": 12.0} and own(session, 2) == {} == own(session, 3)
    put(session, [5], {"light.exposure": 1.0})
    carry(session, Resolver(session, 1), get(session, 5)[0], get(session, 2, 1), ["light.exposure"])
    assert own(session, 1)["light.exposure"] == 1.0 and own(session, 2) == {}


def test_marks_of_many_frames_are_steps_like_any_other(session: Session) -> None:
    """Set without loading frames: one step in each shoot, only what differs, undone and done again."""
    from tanner.catalogue.steps import mark

    session.get_one(Frame, 2).stars = 3
    session.flush()
    actions = mark(session, [1, 2, 7], "stars 3, label red", {"stars": 3, "label": "red"})
    assert [(a.shoot_id, a.label) for a in actions] == [(1, "stars 3, label red"), (2, "stars 3, label red")]
    patches = {
        p.target: (p.before, p.after)
        for p in session.scalars(select(Patch).where(Patch.action_id.in_([a.id for a in actions])))
    }
    assert patches[1] == ({"stars": 0, "label": "none"}, {"stars": 3, "label": "red"})
    assert patches[2] == ({"label": "none"}, {"label": "red"})
    assert [session.get_one(Frame, n).label for n in (1, 2, 7)] == ["red"] * 3
    assert mark(session, [1, 2], "the same", {"stars": 3}) == []
    undo(session, 1)
    assert [(session.get_one(Frame, n).stars, session.get_one(Frame, n).label) for n in (1, 2, 7)] == [
        (0, "none"),
        (3, "none"),
        (3, "red"),
    ]
    redo(session, 1)
    assert session.get_one(Frame, 1).stars == 3 and session.info["changed"] >= {1, 2}
    with pytest.raises(TannerError, match="no longer there"):
        mark(session, [1, 999], "x", {"stars": 1})
