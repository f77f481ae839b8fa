"""Areas in a set: followed, departed from, moved, given up, carried over, preset, reset, undone, in sidecars; and what a step costs."""

import json
from pathlib import Path
from typing import Any

import pytest
from hypothesis import HealthCheck, given, settings
from hypothesis import strategies as st
from sqlalchemy import select
from sqlalchemy.orm import Session

from tanner.catalogue.alternates import make_alternates
from tanner.catalogue.development import (
    add_thing,
    apply_presets,
    carry,
    carry_list,
    give_up,
    rearrange,
    remove_things,
    reset,
    set_values,
)
from tanner.catalogue.models import Frame, Patch
from tanner.catalogue.resolver import Resolver
from tanner.catalogue.sidecars import conflicts, settle, sidecar_of, write
from tanner.catalogue.steps import difference, history, played, redo, undo
from tanner.core.adjust.items import things
from tanner.core.areas.declare import AREAS
from tanner.core.errors import FormatError, SettingsError
from tanner.core.series.conditional import About
from tanner.core.series.preset import Preset, parse_preset
from tanner.core.series.sidecar import beside, parse_sidecar, sidecar_bytes

ROUND = {"kind": "round", "at": [0.0, 0.1], "radii": [0.2, 0.1], "angle": 0.0, "softness": 0.5}
LEAD, SECOND, THIRD = 1, 2, 3


def one(session: Session, number: int) -> Frame:
    return session.get_one(Frame, number)


def shown(session: Session, number: int) -> list[dict[str, Any]]:
    return things(Resolver(session, 1).resolve(one(session, number)).values, "areas")


def values(session: Session, numbers: list[int], given: dict[str, Any], **more: Any) -> None:
    set_values(session, Resolver(session, 1), [one(session, n) for n in numbers], given, **more)


@pytest.fixture
def made(session: Session) -> str:
    """An area of the lead of the first set, with a value; the start of its names."""
    parts = {"kind": "area", "shapes": [ROUND]}
    _, ident = add_thing(session, Resolver(session, 1), [one(session, LEAD)], AREAS, "Round gradient", parts)
    start = f"areas/{ident}/"
    values(session, [LEAD], {start + "light.exposure": 0.5})
    return start


def test_the_set_follows_and_one_frame_departs_in_one_value(session: Session, made: str) -> None:
    assert shown(session, SECOND)[0]["light.exposure"] == 0.5 and not shown(session, 5)
    values(session, [SECOND], {made + "light.exposure": 0.8})
    values(session, [LEAD], {made + "light.exposure": 0.1, made + "colour.saturation": -20.0})
    (area,) = shown(session, SECOND)
    assert (area["light.exposure"], area["colour.saturation"]) == (0.8, -20.0)
    resolver = Resolver(session, 1)
    assert resolver.resolve(one(session, SECOND)).departures() == [made + "light.exposure"]
    give_up(session, resolver, [one(session, SECOND)], [made + "light.exposure"])
    assert shown(session, SECOND) == shown(session, LEAD)


def test_a_spot_in_the_very_middle_and_a_colour_of_mid_grey_are_kept(session: Session, made: str) -> None:
    """Their values are the neutral ones, and say all the same where the thing is; followers have nothing to depart in."""
    middle = {"spots/0000000a/kind": "spot", "spots/0000000a/path": [[0.0, 0.0]], "spots/0000000a/size": 0.006}
    grey = {"exact/0000000b/kind": "pair", "exact/0000000b/target": [50.0, 0.0, 0.0]}
    values(session, [LEAD], middle | grey)
    for number in (LEAD, SECOND):
        seen = Resolver(session, 1).resolve(one(session, number)).values
        assert seen["spots/0000000a/path"] == [[0.0, 0.0]] and seen["exact/0000000b/target"] == [50.0, 0.0, 0.0]
    values(session, [SECOND], {"spots/0000000a/path": [[0.1, 0.0]]})
    assert one(session, SECOND).own == {"spots/0000000a/path": [[0.1, 0.0]]}
    values(session, [SECOND], {"spots/0000000a/path": [[0.0, 0.0]]})
    assert one(session, SECOND).own == {}


def test_a_mask_that_was_moved_with_its_subject_stays_moved(session: Session, made: str) -> None:
    place = made + "place"
    values(session, [SECOND], {place: [0.1, -0.05, 1.2, 5.0]}, relative=[place])
    frame = one(session, SECOND)
    assert frame.own == {} and frame.offsets[place] == [0.1, -0.05, 1.2, 5.0]
    values(session, [LEAD], {place: [0.04, 0.0, 1.0, 0.0]})
    (area,) = shown(session, SECOND)
    assert area["place"] != [0.1, -0.05, 1.2, 5.0] and one(session, SECOND).offsets[place] == [0.1, -0.05, 1.2, 5.0]
    give_up(session, Resolver(session, 1), [one(session, SECOND)], [place])
    assert shown(session, SECOND)[0]["place"] == [0.04, 0.0, 1.0, 0.0] and one(session, SECOND).offsets == {}


def test_left_out_on_one_frame_and_brought_back(session: Session, made: str) -> None:
    resolver = Resolver(session, 1)
    action = remove_things(session, resolver, [one(session, SECOND)], AREAS, [made.split("/")[1]])
    assert action is not None and action.label == "Round gradient removed"
    assert not shown(session, SECOND) and shown(session, THIRD) and shown(session, LEAD)
    give_up(session, Resolver(session, 1), [one(session, SECOND)], None)
    assert shown(session, SECOND)


def test_a_lead_that_removes_its_area_loses_nothing_of_its_followers(session: Session, made: str) -> None:
    values(session, [SECOND], {made + "light.exposure": 0.8})
    remove_things(session, Resolver(session, 1), [one(session, LEAD)], AREAS, [made.split("/")[1]])
    assert not shown(session, LEAD) and not shown(session, SECOND) and one(session, LEAD).own == {}
    assert one(session, SECOND).own == {made + "light.exposure": 0.8}
    undo(session, 1)
    assert shown(session, SECOND)[0]["light.exposure"] == 0.8
    redo(session, 1)
    assert not shown(session, SECOND)


def test_one_area_alone_is_carried_to_another_set(session: Session, made: str) -> None:
    values(session, [LEAD], {"light.contrast": 20.0})
    rows = carry_list(Resolver(session, 1), one(session, LEAD))
    (row,) = [r for r in rows if r["group"] == "areas"]
    assert row["label"] == "Round gradient" and row["chosen"] and row["key"] == made.rstrip("/")
    action, changed = carry(session, Resolver(session, 1), one(session, LEAD), [one(session, 5)], row["keys"])
    assert action is not None and changed == 1
    assert (
        shown(session, 6) == shown(session, 5) == shown(session, LEAD) and "light.contrast" not in one(session, 5).own
    )


def test_reset_takes_areas_out_and_names_stay_apart(session: Session, made: str) -> None:
    parts = {"kind": "area", "shapes": [ROUND]}
    _, other = add_thing(session, Resolver(session, 1), [one(session, LEAD)], AREAS, "Round gradient", parts)
    assert [a["name"] for a in shown(session, LEAD)] == ["Round gradient", "Round gradient 2"]
    assert [a["order"] for a in shown(session, LEAD)] == [1.0, 2.0] and other not in made
    reset(session, Resolver(session, 1), [one(session, LEAD)], ["areas"])
    assert not shown(session, LEAD) and not shown(session, SECOND)
    undo(session, 1)
    assert len(shown(session, SECOND)) == 2
    reset(session, Resolver(session, 1), [one(session, LEAD)], None)
    assert not shown(session, LEAD)


def test_a_preset_with_an_area_goes_on_and_out_again(session: Session, tmp_path: Path) -> None:
    file = {
        "name": "Calm ground",
        "values": {
            "areas/0000000a/kind": "area",
            "areas/0000000a/shapes": [ROUND],
            "areas/0000000a/light.exposure": -0.6,
        },
    }
    preset = parse_preset(json.dumps(file), "x.json")
    assert Preset.model_validate_json(preset.to_json()) == preset and not preset.unknown
    about = About(100, 5000.0, "", "", False)
    wanted = [(one(session, SECOND), "own/x", "Calm ground", 50.0, preset.at(0.5, about))]
    apply_presets(session, Resolver(session, 1), wanted, "Calm ground")
    (area,) = shown(session, SECOND)
    assert area["light.exposure"] == pytest.approx(-0.3) and area["shapes"] == [ROUND]
    apply_presets(session, Resolver(session, 1), wanted, "again")
    assert len(shown(session, SECOND)) == 1
    rearrange(session, Resolver(session, 1), [one(session, SECOND)], [], "out")
    assert not shown(session, SECOND) and one(session, SECOND).own == {}


def test_an_alternate_has_its_areas(session: Session, made: str) -> None:
    values(session, [SECOND], {made + "light.exposure": 0.8})
    make_alternates(session, [one(session, SECOND)])
    found = session.scalars(select(Frame).where(Frame.alternate == 1)).one()
    assert found.own == one(session, SECOND).own and shown(session, found.id) == shown(session, SECOND)


def test_what_is_no_area_is_refused(session: Session, made: str) -> None:
    with pytest.raises(SettingsError, match="from -5 to 5"):
        values(session, [LEAD], {made + "light.exposure": 9.0})
    with pytest.raises(SettingsError, match="no adjustment called"):
        values(session, [LEAD], {"areas/zz/light.exposure": 1.0})


# --- history ---------------------------------------------------------------------------------------


def test_a_step_keeps_the_names_that_it_changed(session: Session, made: str) -> None:
    """At most 300 bytes, whatever else the frame holds."""
    for n in range(12):
        many = [{**ROUND, "at": [k / 100, 0.0]} for k in range(80)]
        add_thing(
            session, Resolver(session, 1), [one(session, LEAD)], AREAS, f"Area {n}", {"kind": "area", "shapes": many}
        )
    assert len(json.dumps(one(session, LEAD).own)) > 50_000
    values(session, [LEAD], {made + "light.exposure": 0.77})
    last = session.scalars(select(Patch).order_by(Patch.id.desc())).first()
    assert last is not None and last.after == {"own": {"by name": {made + "light.exposure": 0.77}}}
    assert len(json.dumps(last.before)) + len(json.dumps(last.after)) <= 300
    undo(session, 1)
    assert one(session, LEAD).own[made + "light.exposure"] == 0.5


def test_marks_do_not_hide_the_development_of_a_frame(session: Session) -> None:
    from tanner.catalogue.steps import record

    values(session, [SECOND], {"light.contrast": 10.0})
    for n in range(120):
        record(session, 1, f"stars {n % 5 + 1}", [(one(session, SECOND), {"stars": n % 5 + 1})])
    assert [s["label"] for s in history(session, one(session, SECOND))] == ["Contrast 10 %"]


FIELD = st.dictionaries(
    st.sampled_from("abcdef"), st.none() | st.integers(0, 3) | st.lists(st.integers(0, 2), max_size=2), max_size=5
)


@given(before=FIELD, after=FIELD, else_=FIELD)
def test_a_side_takes_one_state_to_the_other(
    before: dict[str, Any], after: dict[str, Any], else_: dict[str, Any]
) -> None:
    back, forth = difference(before, after)
    assert played(before, json.loads(json.dumps(forth))) == after
    assert played(after, json.loads(json.dumps(back))) == before
    # What it did not change is left alone.
    apart = {f"x{k}": v for k, v in else_.items()}
    assert played({**before, **apart}, forth) == {**after, **apart}


STEP = st.tuples(
    st.sampled_from(["value", "place", "leave out", "give up", "remove", "undo", "redo"]),
    st.sampled_from([LEAD, SECOND, THIRD]),
    st.floats(-1, 1).map(lambda v: round(v, 2)),
)


@settings(max_examples=40, deadline=None, suppress_health_check=list(HealthCheck))
@given(steps=st.lists(STEP, max_size=12))
def test_whatever_is_done_undo_goes_back_to_the_start(
    session: Session, made: str, steps: list[tuple[str, int, float]]
) -> None:
    ident = made.split("/")[1]
    start = {n: (dict(one(session, n).own), dict(one(session, n).offsets)) for n in (1, 2, 3)}
    done = 0
    for what, number, amount in steps:
        resolver, frame = Resolver(session, 1), one(session, number)
        if what == "value":
            action = set_values(session, resolver, [frame], {made + "light.exposure": amount})
        elif what == "place":
            wanted = {made + "place": [amount, 0.0, 1.0, 0.0]}
            action = set_values(session, resolver, [frame], wanted, relative=list(wanted))
        elif what == "leave out":
            action = set_values(session, resolver, [frame], {made + "present": amount > 0})
        elif what == "give up":
            action = give_up(session, resolver, [frame], None) if number != LEAD else None
        elif what == "remove":
            action = remove_things(session, resolver, [frame], AREAS, [ident])
        elif what == "undo":
            done -= bool(done and undo(session, 1))
            continue
        else:
            done += redo(session, 1) is not None
            continue
        done += action is not None
        shown(session, number)
    for _ in range(done):
        assert undo(session, 1) is not None
    assert {n: (one(session, n).own, one(session, n).offsets) for n in (1, 2, 3)} == start


# --- sidecars --------------------------------------------------------------------------------------


def test_areas_are_in_sidecars(session: Session, made: str) -> None:
    wanted = sidecar_of(Resolver(session, 1), one(session, LEAD))
    found = parse_sidecar(sidecar_bytes(wanted), "x.xmp")
    assert found is not None and found.own == one(session, LEAD).own and found.same_development(wanted)
    assert things(found.shown, "areas") == shown(session, LEAD)


@pytest.mark.parametrize("take", ["mine", "theirs"])
def test_areas_that_two_machines_added_both_stay(session: Session, made: str, tmp_path: Path, take: str) -> None:
    frame = one(session, LEAD)
    frame.path = str(tmp_path / "A001.DNG")
    Path(frame.path).write_bytes(b"raw")
    frame.sidecar = write(frame, sidecar_of(Resolver(session, 1), frame)).mark
    # Another machine adds one of its own, and this one another.
    theirs = sidecar_of(Resolver(session, 1), frame)
    extra = {"areas/0badcafe/kind": "area", "areas/0badcafe/shapes": [ROUND], "areas/0badcafe/order": 7.0}
    from dataclasses import replace

    beside(Path(frame.path)).write_bytes(sidecar_bytes(replace(theirs, own={**theirs.own, **extra})))
    parts = {"kind": "area", "shapes": [ROUND]}
    _, mine = add_thing(session, Resolver(session, 1), [frame], AREAS, "Mine", parts)
    resolver = Resolver(session, 1)
    assert write(frame, sidecar_of(resolver, frame)).conflict and conflicts(session, resolver)
    settle(session, resolver, frame, take)
    ids = {a["id"] for a in shown(session, LEAD)}
    assert {"0badcafe", mine, made.split("/")[1]} == ids
    undo(session, 1)
    assert "0badcafe" not in {a["id"] for a in shown(session, LEAD)}


def test_a_moved_mask_is_in_its_sidecar(session: Session, made: str) -> None:
    place = made + "place"
    values(session, [SECOND], {place: [0.1, -0.05, 1.2, 5.0]}, relative=[place])
    wanted = sidecar_of(Resolver(session, 1), one(session, SECOND))
    found = parse_sidecar(sidecar_bytes(wanted), "x.xmp")
    assert found is not None and found.offsets == {place: [0.1, -0.05, 1.2, 5.0]} and found.same_development(wanted)


@pytest.mark.parametrize("take", ["mine", "theirs"])
def test_a_damaged_sidecar_is_settled_by_what_is_here(session: Session, made: str, tmp_path: Path, take: str) -> None:
    frame = one(session, LEAD)
    frame.path = str(tmp_path / "A001.DNG")
    beside(Path(frame.path)).write_bytes(b"<broken")
    before = dict(frame.own)
    if take == "theirs":
        with pytest.raises(FormatError, match="is damaged"):
            settle(session, Resolver(session, 1), frame, take)
    else:
        settle(session, Resolver(session, 1), frame, take)
        assert [p.read_bytes() for p in tmp_path.glob("*theirs*")] == [b"<broken"]
    assert frame.own == before


def test_two_moves_that_lead_far_out_stay_a_place(session: Session, made: str) -> None:
    """Each is fine by itself; the frame can still be developed."""
    from tanner.core.adjust.registry import develop

    place = made + "place"
    values(session, [SECOND], {place: [3.0, 0.0, 900.0, 0.0]}, relative=[place])
    values(session, [LEAD], {place: [3.0, 0.0, 900.0, 0.0]})
    found = develop(Resolver(session, 1).resolve(one(session, SECOND)).values).listed("areas")
    assert found[0].parts.place[2] == 1000.0  # type: ignore[attr-defined]


@pytest.mark.parametrize("wrong", ["all", [1], [0, 0, 0, 0], [0, 0, "x", 0], [0, 0, 1, float("inf")], {"x": 1}])
def test_what_is_no_place_is_refused(session: Session, made: str, wrong: Any) -> None:
    place = made + "place"
    for relative in ([place], []):
        with pytest.raises(SettingsError, match="place"):
            values(session, [SECOND], {place: wrong}, relative=relative)
    with pytest.raises(SettingsError, match="a number is needed"):
        values(session, [SECOND], {"light.exposure": wrong}, relative=["light.exposure"])


def test_parts_of_an_area_that_is_not_there_are_checked_too(session: Session, made: str) -> None:
    """Else a lead that brings it back would find a frame that cannot be developed."""
    with pytest.raises(SettingsError, match="shapes"):
        values(session, [SECOND], {"areas/0000000b/shapes": "bad"})
    with pytest.raises(SettingsError, match="500 parts at most"):
        values(session, [LEAD], {made + "shapes": [ROUND] * 501})
