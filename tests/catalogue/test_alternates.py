"""Alternates look as their frame did and go their own way; frames that are taken out leave no trace but can come back."""

import pytest
from sqlalchemy import select
from sqlalchemy.orm import Session

from tanner.catalogue.alternates import MOST, add_alternate, make_alternates, take_out
from tanner.catalogue.development import set_values
from tanner.catalogue.importing import add_frame, known_contents
from tanner.catalogue.models import WITH_GONE, Frame, FrameSet
from tanner.catalogue.resolver import Resolver
from tanner.catalogue.search.find import take
from tanner.catalogue.sets import move
from tanner.catalogue.steps import redo, undo
from tanner.catalogue.store import Catalogue
from tanner.core.errors import TannerError
from tanner.core.output.spec import OutputSpec
from tanner.jobs.delivery.planning import plan


def shows(session: Session, frame_id: int) -> dict[str, object]:
    return Resolver(session, 1).resolve(session.get_one(Frame, frame_id)).values


def names(session: Session, set_id: int = 1) -> list[str]:
    query = select(Frame.name).where(Frame.set_id == set_id).order_by(Frame.taken, Frame.name)
    return list(session.scalars(query))


@pytest.fixture
def worked(session: Session) -> Session:
    resolver = Resolver(session, 1)
    lead, third = session.get_one(Frame, 1), session.get_one(Frame, 3)
    set_values(session, resolver, [lead], {"light.exposure": 0.5, "crop.left": 0.2})
    set_values(session, resolver, [third], {"light.shadows": 20.0})
    set_values(session, resolver, [third], {"light.exposure": 0.8}, relative=["light.exposure"])
    return session


@pytest.mark.parametrize("source", [1, 2, 3])
def test_an_alternate_looks_as_its_frame_and_stands_beside_it(worked: Session, source: int) -> None:
    _, (made,) = make_alternates(worked, [worked.get_one(Frame, source)])
    assert shows(worked, made) == shows(worked, source)
    there = names(worked)
    assert there.index(f"A00{source}_alt1.DNG") == there.index(f"A00{source}.DNG") + 1
    # From the lead it still takes what is changed there later.
    set_values(worked, Resolver(worked, 1), [worked.get_one(Frame, 1)], {"light.contrast": 7.0})
    assert shows(worked, made)["light.contrast"] == 7.0
    # Its own way is not its frame's, and the Line-up asks nothing of it.
    set_values(worked, Resolver(worked, 1), [worked.get_one(Frame, made)], {"light.highlights": -30.0})
    assert shows(worked, source).get("light.highlights", 0.0) == 0.0
    assert worked.get_one(Frame, made).accepted


def test_alternates_are_numbered_on_and_undone(worked: Session) -> None:
    frame = worked.get_one(Frame, 2)
    _, (first,) = make_alternates(worked, [frame])
    make_alternates(worked, [worked.get_one(Frame, first)])
    assert [n for n in names(worked) if "A002" in n] == ["A002.DNG", "A002_alt1.DNG", "A002_alt2.DNG"]
    undo(worked, 1)
    undo(worked, 1)
    assert [n for n in names(worked) if "A002" in n] == ["A002.DNG"]
    redo(worked, 1)
    assert [n for n in names(worked) if "A002" in n] == ["A002.DNG", "A002_alt1.DNG"]
    # One that was undone is not written over by the next.
    make_alternates(worked, [frame])
    assert "A002_alt3.DNG" in names(worked)


def test_there_is_a_most_of_alternates(worked: Session) -> None:
    frame = worked.get_one(Frame, 2)
    add_alternate(worked, frame, MOST)
    with pytest.raises(TannerError, match="99 alternates already"):
        make_alternates(worked, [frame])


def test_deliveries_write_alternates_or_leave_them_out(worked: Session, tmp_path: object) -> None:
    from pathlib import Path

    assert isinstance(tmp_path, Path)
    make_alternates(worked, [worked.get_one(Frame, 2)])
    frames = list(worked.scalars(select(Frame).where(Frame.set_id == 1).order_by(Frame.taken, Frame.name)))
    specs = [OutputSpec(title="a", name="{name}"), OutputSpec(title="b", subfolder="b", alternates=False),
             OutputSpec(title="c", subfolder="c", name="{shoot}_{number}{alternate}")]  # fmt: skip
    found = [Path(r["target"]).relative_to(tmp_path).as_posix() for r in plan(worked, 1, frames, specs, tmp_path)]
    assert [f for f in found if f.startswith("A002")] == ["A002.jpg", "A002_alt1.jpg"]
    assert [f for f in found if f.startswith("b/A002")] == ["b/A002.jpg"]
    assert [f for f in found if f.startswith("c/")] == [
        "c/Spring_0001.jpg", "c/Spring_0002.jpg", "c/Spring_00031.jpg", "c/Spring_0004.jpg", "c/Spring_0005.jpg",
    ]  # fmt: skip
    assert [f.name for f in take(worked, 1, "alternate")] == ["A002_alt1.DNG"]


def test_taking_out_hides_a_frame_everywhere_and_undo_brings_it_back(worked: Session) -> None:
    before = {n: shows(worked, n) for n in (2, 3, 4)}
    take_out(worked, [worked.get_one(Frame, 1), worked.get_one(Frame, 4)])
    assert names(worked) == ["A002.DNG", "A003.DNG"]
    worked.expire_all()
    assert worked.get(Frame, 1) is None and worked.get(Frame, 1, execution_options=WITH_GONE) is not None
    # The set got another lead, and nobody's look jumped.
    assert worked.get_one(FrameSet, 1).lead_id == 2
    assert {n: shows(worked, n) for n in (2, 3)} == {n: before[n] for n in (2, 3)}
    undo(worked, 1)
    assert names(worked) == ["A001.DNG", "A002.DNG", "A003.DNG", "A004.DNG"]
    assert worked.get_one(FrameSet, 1).lead_id == 1 and {n: shows(worked, n) for n in (2, 3, 4)} == before


def test_a_whole_set_can_go_and_come_back(worked: Session) -> None:
    take_out(worked, [worked.get_one(Frame, n) for n in (5, 6)])
    assert worked.get_one(FrameSet, 2).lead_id is None and names(worked, 2) == []
    undo(worked, 1)
    assert worked.get_one(FrameSet, 2).lead_id == 5 and len(names(worked, 2)) == 2


def test_importing_a_file_again_brings_its_frame_back(catalogue: Catalogue) -> None:
    facts = {"path": "/photos/B.DNG", "kind": "bayer", "width": 600, "height": 400, "black": (0,) * 4, "white": 1000,
             "pattern": (0, 0), "neutral": (1.0, 1.0, 1.0), "colour_matrices": (), "illuminants": (), "starting": {},
             "as_shot": [5000.0, 0.0]}  # fmt: skip
    from pathlib import Path

    with catalogue.write() as session:
        session.get_one(Frame, 2).stars = 4
        take_out(session, [session.get_one(Frame, 2)])
    with catalogue.read() as session:
        assert "1-2" not in known_contents(session, 1)
    assert add_frame(catalogue, 1, Path("/other/A002.DNG"), "1-2", facts) == 2
    assert add_frame(catalogue, 1, Path("/other/A002.DNG"), "1-2", facts) is None
    with catalogue.read() as session:
        back = session.get_one(Frame, 2)
        assert (back.stars, back.path, back.set_id) == (4, "/other/A002.DNG", None)


def test_an_alternate_moves_and_leads_like_any_frame(worked: Session) -> None:
    made = add_alternate(worked, worked.get_one(Frame, 1), 1)
    look = shows(worked, made.id)
    move(worked, 1, [made], None)
    assert worked.get_one(FrameSet, made.set_id).lead_id == made.id and shows(worked, made.id) == look
