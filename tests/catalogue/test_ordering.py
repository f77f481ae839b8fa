"""Frames in an order by hand: any moves give what a plain list gives, only what must move is written, and undo goes back."""

from datetime import datetime, timedelta

import pytest
from hypothesis import HealthCheck, given, settings
from hypothesis import strategies as st
from sqlalchemy import select
from sqlalchemy.orm import Session

from tanner.catalogue.models import Action, Frame, Patch
from tanner.catalogue.ordering import move, standing
from tanner.catalogue.steps import undo
from tanner.catalogue.store import Catalogue
from tanner.core.errors import TannerError

SHOOT = 1


def line(session: Session) -> list[int]:
    frames = session.scalars(select(Frame).where(Frame.shoot_id == SHOOT)).all()
    return [f.id for f in sorted(frames, key=lambda f: (standing(f.taken, f.place), f.name))]


def moved(order: list[int], ids: list[int], before: int | None) -> list[int]:
    """The same on a plain list."""
    rest = [i for i in order if i not in ids]
    while before in ids:
        at = order.index(before) + 1
        before = order[at] if at < len(order) else None
    at = rest.index(before) if before is not None else len(rest)
    return rest[:at] + ids + rest[at:]


@pytest.fixture
def burst(catalogue: Catalogue) -> Catalogue:
    start = datetime(2026, 5, 4, 9)
    with catalogue.write() as session:
        for n, each in enumerate(session.scalars(select(Frame).where(Frame.shoot_id == SHOOT).order_by(Frame.id))):
            each.taken = None if n == 4 else start + timedelta(seconds=n // 3)
    return catalogue


@settings(suppress_health_check=[HealthCheck.function_scoped_fixture])
@given(st.data())
def test_any_moves_are_those_of_a_list(burst: Catalogue, data: st.DataObject) -> None:
    """On frames of which many are of the same moment, or of none, and on what earlier moves left."""
    with burst.write() as session:
        order = line(session)
        for _ in range(data.draw(st.integers(1, 4))):
            ids = data.draw(st.lists(st.sampled_from(order), min_size=1, max_size=4, unique=True))
            before = data.draw(st.one_of(st.none(), st.sampled_from(order)))
            move(session, SHOOT, ids, before)
            order = moved(order, ids, before)
            session.flush()
            assert line(session) == order


def test_one_move_writes_one_frame_and_is_one_step(catalogue: Catalogue) -> None:
    with catalogue.write() as session:
        for n, frame in enumerate(session.scalars(select(Frame).where(Frame.shoot_id == SHOOT))):
            frame.taken = datetime(2026, 5, 4, 9) + timedelta(seconds=n)
        session.flush()
        order = line(session)
        move(session, SHOOT, [order[-1]], order[1])
        session.flush()
        assert line(session) == [order[0], order[-1], *order[1:-1]]
        action = session.scalars(select(Action).order_by(Action.id.desc())).first()
        assert action is not None and "placed by hand" in action.label
        assert len(session.scalars(select(Patch).where(Patch.action_id == action.id)).all()) == 1
        undo(session, SHOOT)
        session.flush()
        assert line(session) == order
        with pytest.raises(TannerError, match="no longer there"):
            move(session, SHOOT, [order[0], 99_999], None)
