"""Dropped frames go into the trash with what belongs to them, and come back by undo."""

from pathlib import Path

import pytest
from sqlalchemy import select
from sqlalchemy.orm import Session

from tanner.catalogue.models import WITH_GONE, Delivery, DeliveryItem, Frame
from tanner.catalogue.steps import redo, undo
from tanner.catalogue.trashing import files_of, follow, listed, put_into_trash
from tanner.core.errors import NotAllowed


@pytest.fixture
def photos(session: Session, tmp_path: Path, monkeypatch: pytest.MonkeyPatch) -> Path:
    """The frames' files, frame 2 with a sidecar, a JPEG and a note; frame 1 leads, frame 3 was delivered."""
    monkeypatch.setenv("XDG_DATA_HOME", str(tmp_path / "home"))
    folder = tmp_path / "photos"
    folder.mkdir()
    for frame in session.scalars(select(Frame)):
        frame.path = str(folder / frame.name)
        Path(frame.path).write_bytes(b"x" * 1000)
        frame.verdict = "drop" if frame.id in (1, 2, 3) else "keep"
    for name in ("A002.DNG.xmp", "A002.jpg", "A002.wav", "A002b.jpg", "A002_alt1.DNG.xmp"):
        (folder / name).write_bytes(b"y" * 10)
    session.add(Delivery(shoot_id=1, folder="/out", specs=[]))
    session.flush()
    session.add(DeliveryItem(delivery_id=1, frame_id=3, spec=0, number=1, target="x", settings={}, state="done"))
    session.flush()
    return folder


def dropped(session: Session) -> list[Frame]:
    return list(session.scalars(select(Frame).where(Frame.verdict == "drop").order_by(Frame.id)))


def names(folder: Path) -> set[str]:
    return {p.name for p in folder.iterdir()}


def test_the_list_says_what_goes_with_each(session: Session, photos: Path) -> None:
    assert [p.name for p in files_of(photos / "A002.DNG")] == ["A002.DNG", "A002.DNG.xmp", "A002.jpg", "A002.wav"]
    rows = {r["frame"]: r for r in listed(session, dropped(session))}
    assert (rows[2]["bytes"], len(rows[2]["files"])) == (1030, 4)
    assert [(r["lead"], r["delivered"]) for r in rows.values()] == [(True, False), (False, False), (False, True)]


def test_frames_go_and_come_back_with_their_files(session: Session, photos: Path) -> None:
    before = names(photos)
    action, told = put_into_trash(session, dropped(session))
    assert action is not None and action.label == "A002.DNG put into the trash"
    assert told == ["A001.DNG: leads its set; it stays.", "A003.DNG: was delivered; it stays."]
    assert before - names(photos) == {"A002.DNG", "A002.DNG.xmp", "A002.jpg", "A002.wav"}
    assert [f.id for f in dropped(session)] == [1, 3]
    assert follow(session, undo(session, 1), undone=True) == [] and names(photos) == before
    assert session.get_one(Frame, 2).trashed == []
    assert follow(session, redo(session, 1), undone=False) == [] and "A002.DNG" not in names(photos)
    gone = session.get(Frame, 2, execution_options=WITH_GONE)
    assert gone is not None and Path(gone.trashed[0]["path"]).name == "A002.DNG"
    # The trash was emptied since: the frame comes back, and what is missing is told.
    for place in gone.trashed:
        (Path(place["trash"]) / "files" / place["name"]).unlink()
    told = follow(session, undo(session, 1), undone=True)
    assert len(told) == 4 and "A002.DNG: is no longer in the trash." in told


def test_leads_and_delivered_frames_go_only_by_a_word(session: Session, photos: Path) -> None:
    action, told = put_into_trash(session, dropped(session), leads=True, delivered=True)
    assert action is not None and told == [] and names(photos) >= {"A004.DNG"}
    assert {"A001.DNG", "A002.DNG", "A003.DNG"} & names(photos) == set()


def test_a_file_that_another_frame_needs_stays(session: Session, photos: Path) -> None:
    other = session.get_one(Frame, 7)  # of another shoot
    other.path = str(photos / "A002.DNG")
    session.flush()
    action, told = put_into_trash(session, [session.get_one(Frame, 2)])
    assert action is None and told == ["A002.DNG: its file is needed in Other; it stays."]
    other.path = str(photos / "A002.jpg")  # the JPEG is a frame of its own
    session.flush()
    put_into_trash(session, [session.get_one(Frame, 2)])
    assert names(photos) >= {"A002.jpg"} and "A002.wav" not in names(photos)


def test_nothing_half_where_it_fails(session: Session, photos: Path) -> None:
    before = names(photos)

    def refuse(path: str) -> None:
        if path.endswith(".wav"):
            raise NotAllowed("outside")

    action, told = put_into_trash(session, [session.get_one(Frame, 2)], allowed=refuse)
    assert action is None and told == ["outside"] and names(photos) == before
