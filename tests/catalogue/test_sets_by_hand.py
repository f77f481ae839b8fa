"""Sets by hand: whatever is merged, split or led by another, no frame's look jumps without a word."""

import pytest
from sqlalchemy import select
from sqlalchemy.orm import Session

from tanner.catalogue.development import set_values
from tanner.catalogue.models import Frame, FrameSet
from tanner.catalogue.resolver import Resolver
from tanner.catalogue.sets import choose_lead, merge, move, propose_sets, rename
from tanner.catalogue.steps import undo
from tanner.core.errors import TannerError


def get(session: Session, *ids: int) -> list[Frame]:
    return [session.get_one(Frame, i) for i in ids]


def members(session: Session, set_id: int | None) -> list[int]:
    return list(session.scalars(select(Frame.id).where(Frame.set_id == set_id).order_by(Frame.id)))


def shows(session: Session, frame_id: int) -> dict[str, object]:
    return Resolver(session, 1).resolve(session.get_one(Frame, frame_id)).values


@pytest.fixture
def worked(session: Session) -> Session:
    """The leads have a look, frame 3 departs."""
    resolver = Resolver(session, 1)
    set_values(session, resolver, get(session, 1), {"light.exposure": 0.5, "crop.left": 0.2})
    set_values(session, resolver, get(session, 3), {"light.shadows": 20.0})
    set_values(session, resolver, get(session, 5), {"light.contrast": -10.0})
    return session


def test_a_new_lead_keeps_the_look_of_all(worked: Session) -> None:
    before = {n: shows(worked, n) for n in (2, 4)}
    choose_lead(worked, get(worked, 3)[0])
    assert worked.get_one(FrameSet, 1).lead_id == 3
    # The new lead leads in what it departed in; all else is as it was.
    for n in (2, 4):
        assert shows(worked, n) == {**before[n], "light.shadows": 20.0}
    old = worked.get_one(Frame, 1)
    assert old.own == {"crop.left": 0.2}  # follows now, and keeps its own crop
    assert shows(worked, 1)["light.exposure"] == 0.5
    undo(worked, 1)
    assert worked.get_one(FrameSet, 1).lead_id == 1 and {n: shows(worked, n) for n in (2, 4)} == before


def test_splitting_keeps_the_look(worked: Session) -> None:
    before = {n: shows(worked, n) for n in (2, 3, 4)}
    move(worked, 1, get(worked, 2, 3), None)
    group = worked.get_one(Frame, 2).set_id
    assert members(worked, group) == [2, 3] and worked.get_one(FrameSet, group).lead_id == 2
    assert {n: shows(worked, n) for n in (2, 3, 4)} == before
    undo(worked, 1)
    assert members(worked, 1) == [1, 2, 3, 4]


def test_a_lead_that_leaves_is_replaced_by_the_next(worked: Session) -> None:
    before = {n: shows(worked, n) for n in (2, 3, 4)}
    move(worked, 1, get(worked, 1), worked.get_one(FrameSet, 2))
    assert worked.get_one(FrameSet, 1).lead_id == 2
    assert {n: shows(worked, n) for n in (2, 3, 4)} == before
    assert worked.get_one(FrameSet, 2).lead_id == 5
    assert shows(worked, 1)["light.contrast"] == -10.0  # follows its new lead


def test_merging_brings_all_under_one_lead(worked: Session) -> None:
    merge(worked, 1, worked.get_one(FrameSet, 1), [worked.get_one(FrameSet, 2)])
    assert members(worked, 1) == [1, 2, 3, 4, 5, 6] and members(worked, 2) == []
    assert worked.get_one(FrameSet, 1).lead_id == 1 and worked.get_one(FrameSet, 2).lead_id is None
    assert shows(worked, 6)["light.exposure"] == 0.5
    undo(worked, 1)
    assert members(worked, 2) == [5, 6] and worked.get_one(FrameSet, 2).lead_id == 5


def test_what_does_not_belong_together(session: Session) -> None:
    with pytest.raises(TannerError, match="own shoot"):
        move(session, 1, get(session, 1, 7), None)
    with pytest.raises(TannerError, match="own shoot"):
        move(session, 1, get(session, 1), session.get_one(FrameSet, 3))
    session.get_one(Frame, 2).set_id = None
    with pytest.raises(TannerError, match="in no set"):
        choose_lead(session, get(session, 2)[0])


def test_names(session: Session) -> None:
    rename(session, session.get_one(FrameSet, 1), "  Lamps  ")
    assert session.get_one(FrameSet, 1).name == "Lamps"
    with pytest.raises(TannerError):
        rename(session, session.get_one(FrameSet, 1), "   ")
    assert move(session, 1, [], None) is None


def test_a_proposal_takes_frames_without_a_set_only(session: Session) -> None:
    for f in get(session, 2, 3):
        f.set_id = None
    propose_sets(session, 1)
    assert members(session, 1) == [1, 4] and members(session, 2) == [5, 6]
    found = session.get_one(Frame, 2).set_id
    assert members(session, found) == [2, 3] and session.get_one(FrameSet, found).lead_id == 2
    propose_sets(session, 1, again=True)
    assert len({f.set_id for f in get(session, 1, 2, 3, 4, 5, 6)}) == 1
