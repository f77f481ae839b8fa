"""A clock that was wrong, and files that were moved outside."""

import hashlib
from datetime import datetime, timedelta
from pathlib import Path

import pytest
from sqlalchemy import select
from sqlalchemy.orm import Session

from tanner.catalogue.captions import captions_of
from tanner.catalogue.clock import parse_shift, shift
from tanner.catalogue.models import Frame, Shoot
from tanner.catalogue.originals import find_moved
from tanner.catalogue.search.find import condition, count
from tanner.catalogue.steps import redo, undo
from tanner.catalogue.store import Catalogue
from tanner.core.errors import TannerError
from tanner.core.output.captions import Captions
from tanner.core.output.metadata import blocks
from tanner.core.raw.facts import FrameFacts


@pytest.mark.parametrize(
    ("text", "seconds"),
    [
        ("+1:00", 3600),
        ("1:00", 3600),
        ("-0:03:20", -200),
        ("2d", 172_800),
        ("-1d 12:00", -129_600),
        (" − 0:30 ", -1800),
    ],
)
def test_a_shift_is_read(text: str, seconds: int) -> None:
    assert parse_shift(text) == timedelta(seconds=seconds)


@pytest.mark.parametrize("text", ["", "an hour", "1:75", "1", "+-1:00", "d"])
def test_a_shift_that_makes_no_sense(text: str) -> None:
    with pytest.raises(TannerError, match="no time to move by"):
        parse_shift(text)


def test_times_move_everywhere_and_come_back(session: Session) -> None:
    frames = [session.get_one(Frame, n) for n in (1, 2)]
    frames[1].taken = None
    session.flush()
    was = frames[0].taken
    assert was is not None
    action = shift(session, frames, parse_shift("-1d 2:00"))
    assert action is not None and "1 frames" in action.label
    now = was - timedelta(days=1, hours=2)
    assert frames[0].taken == now and frames[1].taken is None
    session.flush()
    assert count(session, condition(f"taken:{now:%Y-%m-%dT%H:%M}")) == 1
    words = Captions(**captions_of(session.get_one(Shoot, 1), frames[0]))
    written = blocks(
        FrameFacts(path="a", kind="finished", width=8, height=8, taken=was), words, (8, 8), 0, "all", True, True
    )
    assert f"{now:%Y:%m:%d %H:%M:%S}".encode() in written.exif and now.isoformat().encode() in written.xmp
    undo(session, 1)
    assert frames[0].taken == was
    redo(session, 1)
    assert frames[0].taken == now
    frames[0].taken = datetime(1, 1, 2)
    with pytest.raises(TannerError, match="calendar"):
        shift(session, frames[:1], parse_shift("-99d"))


def test_moved_files_are_found_by_their_content(catalogue: Catalogue, tmp_path: Path) -> None:
    here, there = tmp_path / "photos", tmp_path / "drive" / "day"
    here.mkdir()
    there.mkdir(parents=True)
    with catalogue.write() as session:
        for frame in session.scalars(select(Frame)):
            data = f"raw {frame.id}".encode() * 50
            path = here / frame.name
            path.write_bytes(data)
            frame.path, frame.content = str(path), hashlib.sha256(data).hexdigest()
            frame.facts = {**frame.facts, "file_bytes": len(data)}
    (here / "A001.DNG").rename(there / "A001.DNG")
    (here / "A002.DNG").rename(there / "renamed.dng")
    (here / "A003.DNG").unlink()
    (there / "A003.DNG").write_bytes(b"raw 9" * 50)  # of its name and size, and another picture
    (here / "A007.DNG").unlink()  # of another shoot
    found, left = find_moved(catalogue, tmp_path / "drive", 1)
    assert found == [("A001.DNG", there / "A001.DNG"), ("A002.DNG", there / "renamed.dng")] and left == ["A003.DNG"]
    with catalogue.read() as session:
        frame = session.get_one(Frame, 2)
        assert frame.path == str(there / "renamed.dng") and frame.name == "A002.DNG" and frame.error == ""
    assert find_moved(catalogue, tmp_path / "drive") == ([], ["A003.DNG", "A007.DNG"])
    with pytest.raises(TannerError, match="drive connected"):
        find_moved(catalogue, tmp_path / "gone")
