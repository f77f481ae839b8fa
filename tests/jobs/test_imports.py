"""Bringing files in: by content, with checked copies, bad files told and the rest brought in."""

import shutil
from pathlib import Path

import pytest
from made import hashes
from sqlalchemy import select

from tanner.catalogue.importing import find_files
from tanner.catalogue.models import Frame, FrameSet, Shoot
from tanner.catalogue.store import Catalogue
from tanner.core.errors import TannerError
from tanner.jobs.bring_in import imports
from tanner.jobs.bring_in.imports import import_now


@pytest.fixture
def card(originals: Path, tmp_path: Path) -> Path:
    """A card in the usual layout: four good files, a cut one, an empty one, and things that are no pictures."""
    folder = tmp_path / "card" / "DCIM" / "100ALDER"
    folder.mkdir(parents=True)
    for name in ("T0001.DNG", "T0002.DNG", "T0011.DNG", "T0021.DNG"):
        shutil.copy(originals / name, folder / name)
    (folder / "CUT.DNG").write_bytes((originals / "T0003.DNG").read_bytes()[:9000])
    (folder / "EMPTY.DNG").touch()
    (folder / "NOTES.TXT").write_text("no picture")
    (folder / ".hidden.DNG").touch()
    (folder / "link.DNG").symlink_to(originals / "T0003.DNG")
    return tmp_path / "card"


def names(data: Path) -> list[str]:
    catalogue = Catalogue(data)
    with catalogue.read() as session:
        found = list(session.scalars(select(Frame.name).order_by(Frame.name)))
    catalogue.close()
    return found


def test_a_card_comes_in_whole(card: Path, data: Path, tmp_path: Path) -> None:
    before = hashes(card / "DCIM" / "100ALDER")
    to = tmp_path / "photos"
    files = [f.path for f in find_files(card)]
    assert [f.name for f in files] == ["CUT.DNG", "EMPTY.DNG", "T0001.DNG", "T0002.DNG", "T0011.DNG", "T0021.DNG"]
    job = import_now(data, "Spring", files, to, ["lamp"])
    states = {i.path.name: i.state for i in job.items}
    assert states.pop("CUT.DNG") == states.pop("EMPTY.DNG") == "failed"
    assert set(states.values()) == {"in"}
    trouble = {i.path.name: i.message for i in job.items if i.state == "failed"}
    assert "empty" in trouble["EMPTY.DNG"] and trouble["CUT.DNG"]
    # Copies are byte for byte, the card is as it was, and nothing of the bad files was copied.
    assert hashes(card / "DCIM" / "100ALDER") == before
    copied = hashes(to)
    assert set(copied) == set(states) and all(copied[n] == before[n] for n in copied)

    catalogue = Catalogue(data)
    with catalogue.read() as session:
        frames = {f.name: f for f in session.scalars(select(Frame))}
        assert all(f.path.startswith(str(to)) and f.keywords == ["lamp"] for f in frames.values())
        # The lamps are one set, the threads by another lens and the instrument in other light their own.
        sets = [[frames[n].set_id for n in g] for g in (("T0001.DNG", "T0002.DNG"), ("T0011.DNG",), ("T0021.DNG",))]
        assert len({tuple(set(s)) for s in sets}) == 3 and all(len(set(s)) == 1 for s in sets)
        assert frames["T0021.DNG"].width < frames["T0021.DNG"].height  # it stands upright
        assert all(len(f.descriptor) == 192 for f in frames.values())
        for frame in frames.values():
            pictures = list((data / "pictures").rglob(f"{frame.id}-*.jpg"))
            assert len(pictures) == 1 and "embedded" not in pictures[0].name
    catalogue.close()


def test_files_that_are_in_are_known_by_content(card: Path, data: Path, tmp_path: Path) -> None:
    files = [f.path for f in find_files(card) if f.path.name.startswith("T")]
    import_now(data, "Spring", files, None, [])
    renamed = tmp_path / "again" / "OTHER.DNG"
    renamed.parent.mkdir()
    shutil.copy(files[0], renamed)
    job = import_now(data, "Spring", [renamed, *files], None, [])
    assert {i.state for i in job.items} == {"already"}
    assert job.items[0].message == "is in as T0001.DNG"
    assert len(names(data)) == 4
    # Another shoot may have the same files.
    assert {i.state for i in import_now(data, "Other", files[:1], None, []).items} == {"in"}


def test_the_same_file_twice_in_one_import(card: Path, data: Path, tmp_path: Path) -> None:
    first = next(f.path for f in find_files(card) if f.path.name == "T0001.DNG")
    twin = tmp_path / "TWIN.DNG"
    shutil.copy(first, twin)
    job = import_now(data, "Spring", [first, twin], None, [])
    assert sorted(i.state for i in job.items) == ["already", "in"]


def test_a_copy_that_goes_wrong_leaves_nothing(
    card: Path, data: Path, tmp_path: Path, monkeypatch: pytest.MonkeyPatch
) -> None:
    def broken(path: Path, folder: Path, content: str) -> tuple[Path, str]:
        from tanner.core.errors import WriteFailed

        raise WriteFailed(folder / path.name, "the disk is full. Make room and try again.")

    monkeypatch.setattr(imports, "copy_in", broken)
    files = [f.path for f in find_files(card) if f.path.name == "T0001.DNG"]
    job = import_now(data, "Spring", files, tmp_path / "photos", [])
    assert job.items[0].state == "failed" and "disk is full" in job.items[0].message
    assert names(data) == []
    monkeypatch.undo()
    assert import_now(data, "Spring", files, tmp_path / "photos", []).items[0].state == "in"


def test_a_vanished_drive(data: Path, tmp_path: Path) -> None:
    with pytest.raises(TannerError, match="drive connected"):
        find_files(tmp_path / "gone")
    job = import_now(data, "Spring", [tmp_path / "gone" / "A.DNG"], None, [])
    assert job.items[0].state == "failed" and "drive connected" in job.items[0].message


def test_what_an_ended_program_left_is_finished(card: Path, data: Path) -> None:
    """Frames without a set and picture, as after a kill: the next start makes both."""
    from tanner.jobs.bring_in.imports import Importer
    from tanner.jobs.match.matching import Matching
    from tanner.jobs.pictures import Pictures
    from tanner.jobs.workers import Workers

    files = [f.path for f in find_files(card) if f.path.name.startswith("T")]
    import_now(data, "Spring", files, None, [])
    shutil.rmtree(data / "pictures")
    catalogue = Catalogue(data)
    with catalogue.write() as session:
        for frame in session.scalars(select(Frame)):
            frame.set_id = None
        session.query(FrameSet).delete()
    workers = Workers(2)
    pictures = Pictures(catalogue, workers)
    importer = Importer(catalogue, workers, pictures, Matching(catalogue, workers))
    importer.finish_interrupted()
    importer._queue.shutdown(wait=True)
    with catalogue.read() as session:
        assert all(f.set_id for f in session.scalars(select(Frame)))
        assert session.get(Shoot, 1) is not None
    assert len(list((data / "pictures").rglob("*.jpg"))) == 4
    pictures.close()
    workers.shutdown()
    catalogue.close()


def test_a_file_is_not_in_as_one_that_failed(tmp_path: Path) -> None:
    """Ten copies of a damaged file: each says what is wrong with it, none that it is in as another."""
    folder = tmp_path / "card"
    folder.mkdir()
    for n in range(10):
        (folder / f"B{n}.DNG").write_bytes(b"II*\0" + bytes(3000))
    job = import_now(tmp_path / "data", "Spring", sorted(folder.iterdir()), None, [])
    assert [i.state for i in job.items] == ["failed"] * 10
