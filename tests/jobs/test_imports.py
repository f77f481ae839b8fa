"""Bringing files in: by content, with checked copies, bad files told and the rest brought in."""

import shutil
import threading
import time
from pathlib import Path

import pytest
from made import hashes
from sqlalchemy import select

from tanner.catalogue.importing import find_files, find_others, shots
from tanner.catalogue.models import Frame, FrameSet, Shoot
from tanner.catalogue.store import Catalogue
from tanner.core.errors import TannerError
from tanner.jobs.bring_in import imports, items, recipe
from tanner.jobs.bring_in.cards import cards
from tanner.jobs.bring_in.imports import import_now
from tanner.jobs.bring_in.items import items_of
from tanner.jobs.bring_in.recipe import Recipe, check_folders, check_room
from tanner.jobs.match.matching import Matching
from tanner.jobs.pictures import Pictures
from tanner.jobs.workers import Workers


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
    def broken(path: Path, there: Path, content: str) -> tuple[Path, str]:
        from tanner.core.errors import WriteFailed

        raise WriteFailed(there, "the disk is full. Make room and try again.")

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


@pytest.fixture
def shot(originals: Path, tmp_path: Path) -> Path:
    """A card with two raw files, one of them with a JPEG and another with a sound, and a film."""
    folder = tmp_path / "card" / "DCIM" / "100ALDER"
    folder.mkdir(parents=True)
    for name in ("T0001.DNG", "T0002.DNG"):
        shutil.copy(originals / name, folder / name)
    (folder / "T0001.JPG").write_bytes(_jpeg(200))
    (folder / "ALONE.JPG").write_bytes(_jpeg(120))
    (folder / "T0002.WAV").write_bytes(b"sound")
    (folder / "FILM.MOV").write_bytes(b"film")
    return tmp_path / "card"


def _jpeg(tone: int) -> bytes:
    import io

    import numpy as np
    from PIL import Image

    out = io.BytesIO()
    Image.fromarray(np.full((60, 90, 3), tone, np.uint8)).save(out, "JPEG")
    return out.getvalue()


def test_a_raw_file_and_its_jpeg_are_one_shot(shot: Path) -> None:
    files = find_files(shot)
    found = {f.path.name: [p.name for p in f.companions] for f in shots(files)}
    assert found == {"ALONE.JPG": [], "T0001.DNG": ["T0001.JPG"], "T0002.DNG": []}
    assert [f.path.name for f in find_others(shot)] == ["FILM.MOV", "T0002.WAV"]
    paths = [f.path for f in files]
    names_of = lambda how: [(i.path.name, len(i.companions)) for i in items_of(paths, Recipe(companions=how))]  # noqa: E731
    assert names_of("with") == [("ALONE.JPG", 0), ("T0001.DNG", 1), ("T0002.DNG", 0)]
    assert names_of("raw") == [("ALONE.JPG", 0), ("T0001.DNG", 0), ("T0002.DNG", 0)]
    # Files are read for the names' sake only where these ask for it.
    assert [Recipe(name=n, folder=f).needs_facts for n, f in (("{name}", ""), ("{shoot}_{number:3}", ""), ("{name}", "{year}"))] == [
        False, False, True,
    ]  # fmt: skip
    assert [n for n, _ in names_of("apart")] == ["ALONE.JPG", "T0001.DNG", "T0001.JPG", "T0002.DNG"]


def test_files_come_in_by_a_recipe(shot: Path, data: Path, tmp_path: Path) -> None:
    """By templates, with companions and other files, and everything twice; a second import takes up where one ended."""
    to, second = tmp_path / "photos", tmp_path / "backup"
    how = Recipe(
        copy_to=str(to), second=str(second), folder="{year}/{date}", name="{shoot}_{number:2}", others=True, keywords=["lamp"],
        words={"caption": "The {name} of spring"},
    )  # fmt: skip
    before = hashes(shot / "DCIM" / "100ALDER")
    paths, others = [f.path for f in find_files(shot)], [f.path for f in find_others(shot)]
    job = import_now(data, "Spring", paths, recipe=how, others=others)
    assert [i.state for i in job.items] == ["in", "in", "in", "copied", "copied"] and not any(
        i.message for i in job.items
    )
    day = "2026/2026-03-12"
    written = {p.relative_to(to).as_posix() for p in to.rglob("*") if p.is_file()}
    assert written == {
        "0000/undated/Spring_01.JPG", f"{day}/Spring_02.DNG", f"{day}/Spring_02.JPG", f"{day}/Spring_03.DNG",
        "0000/undated/FILM.MOV", "0000/undated/T0002.WAV",
    }  # fmt: skip
    assert written == {p.relative_to(second).as_posix() for p in second.rglob("*") if p.is_file()}
    assert all((to / n).read_bytes() == (second / n).read_bytes() for n in written)
    assert (to / day / "Spring_02.DNG").read_bytes() == (shot / "DCIM" / "100ALDER" / "T0001.DNG").read_bytes()
    assert hashes(shot / "DCIM" / "100ALDER") == before
    catalogue = Catalogue(data)
    with catalogue.read() as session:
        frames = list(session.scalars(select(Frame)))
        assert all(f.words == {"caption": "The {name} of spring"} and f.keywords[-1] == "lamp" for f in frames)
    catalogue.close()
    # Once more: nothing is in twice, and other files are not written beside themselves.
    again = import_now(data, "Spring", paths, recipe=how, others=others)
    assert [i.state for i in again.items] == ["already"] * 3 + ["copied"] * 2
    assert {p.relative_to(to).as_posix() for p in to.rglob("*") if p.is_file()} == written


def test_a_second_copy_that_fails_is_said_and_the_first_stays(
    shot: Path, data: Path, tmp_path: Path, monkeypatch: pytest.MonkeyPatch
) -> None:
    true = imports.copy_in

    def full(path: Path, there: Path, content: str) -> tuple[Path, str]:
        from tanner.core.errors import WriteFailed

        if "backup" in str(there):
            raise WriteFailed(there, "the disk is full. Make room and try again.")
        return true(path, there, content)

    monkeypatch.setattr(imports, "copy_in", full)
    how = Recipe(copy_to=str(tmp_path / "photos"), second=str(tmp_path / "backup"))
    path = shot / "DCIM" / "100ALDER" / "T0002.DNG"
    (item,) = import_now(data, "Spring", [path], recipe=how).items
    assert item.state == "in" and item.message == "Its second copy failed: the disk is full. Make room and try again."
    assert (tmp_path / "photos" / "T0002.DNG").exists()


def test_room_and_folders_are_looked_at_before_anything_is_copied(
    shot: Path, tmp_path: Path, monkeypatch: pytest.MonkeyPatch
) -> None:
    paths = [f.path for f in find_files(shot)]
    how = Recipe(copy_to=str(tmp_path / "photos"), second=str(tmp_path / "backup"))
    check_room(how, paths)
    size = sum(p.stat().st_size for p in paths)
    free = recipe.SPARE + 2 * size - 1  # both copies go to one drive here
    monkeypatch.setattr(recipe.shutil, "disk_usage", lambda _: type("Use", (), {"free": free}))
    with pytest.raises(TannerError, match=r"GB are needed. Nothing was copied"):
        check_room(how, paths)
    with pytest.raises(TannerError, match="where they lie"):
        check_folders(Recipe(copy_to=str(paths[0].parent)), paths)
    with pytest.raises(TannerError, match="beside the first"):
        check_folders(Recipe(copy_to=str(tmp_path), second=f"{tmp_path}/"), paths)
    with pytest.raises(TannerError, match="needs a first"):
        check_folders(Recipe(second=str(tmp_path)), paths)


def test_cards_are_seen_where_they_are_plugged_in(shot: Path, tmp_path: Path) -> None:
    media = tmp_path / "media"
    (media / "ALDER" / "DCIM").mkdir(parents=True)
    (media / "STICK").mkdir()
    assert cards([], [media]) == [{"path": str(media / "ALDER"), "name": "ALDER", "opened": False}]
    found = cards([shot], [media])
    assert [(c["name"], c["opened"]) for c in found] == [("card", True), ("ALDER", False)]
    (shot / "DCIM").rename(shot / ".out")
    assert [c["name"] for c in cards([shot], [media])] == ["ALDER"]


def test_two_cards_come_in_at_once_and_what_both_hold_only_once(
    originals: Path, data: Path, tmp_path: Path, monkeypatch: pytest.MonkeyPatch
) -> None:
    cards_ = []
    for name, files in (("one", ("T0001.DNG", "T0002.DNG")), ("two", ("T0002.DNG", "T0011.DNG"))):
        folder = tmp_path / name
        folder.mkdir()
        cards_.append([Path(shutil.copy(originals / f, folder / f)) for f in files])
    catalogue = Catalogue(data)
    with catalogue.write() as session:
        session.add(Shoot(name="Spring"))
    workers = Workers(2)
    pictures = Pictures(catalogue, workers)
    importer = imports.Importer(catalogue, workers, pictures, Matching(catalogue, workers))
    # Each waits until both have begun: one after the other they would never end.
    met = threading.Barrier(2, timeout=60)
    begun = importer._one

    def one(job: items.ImportJob, item: items.ImportItem, known: imports.Known) -> None:
        if item.number == 1:
            met.wait()
        begun(job, item, known)

    monkeypatch.setattr(importer, "_one", one)
    to = tmp_path / "photos"
    jobs = [importer.jobs[importer.start(1, files, Recipe(copy_to=str(to)))] for files in cards_]
    until = time.monotonic() + 120
    while any(j.stage != "done" for j in jobs) and time.monotonic() < until:
        time.sleep(0.05)
    states = sorted(i.state for j in jobs for i in j.items)
    importer.close()
    pictures.close()
    workers.shutdown()
    catalogue.close()
    assert states == ["already", "in", "in", "in"]
    assert sorted(p.name for p in to.iterdir()) == ["T0001.DNG", "T0002.DNG", "T0011.DNG"]
    assert names(data) == ["T0001.DNG", "T0002.DNG", "T0011.DNG"]
