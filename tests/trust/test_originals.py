"""A file that is not the one that came in: never shown or delivered as if it were, and two ways out."""

import json
import os
import shutil
import time
from collections.abc import Callable, Iterator
from pathlib import Path

import pytest
from made import exposure
from sqlalchemy import select
from typer.testing import CliRunner

from tanner.catalogue.models import Delivery, Frame
from tanner.catalogue.originals import GONE, REPLACED, check_all, check_frame, find_again, take_over
from tanner.catalogue.resolver import Resolver
from tanner.catalogue.store import Catalogue
from tanner.cli import app
from tanner.core.errors import TannerError
from tanner.core.output.files import file_hash
from tanner.core.output.spec import OutputSpec
from tanner.jobs.bring_in.imports import import_now
from tanner.jobs.checking import Checks
from tanner.jobs.delivery.deliveries import Deliveries
from tanner.jobs.delivery.record import record_of
from tanner.jobs.denoise.denoising import CopyOptions, Denoising
from tanner.jobs.match.lineups import LineUps
from tanner.jobs.match.matching import Matching, Reference
from tanner.jobs.merge.merging import Merges
from tanner.jobs.tasks import read_facts
from tanner.jobs.workers import Workers
from tanner.studio.camera import take


@pytest.fixture(scope="module")
def brought_in(originals: Path, tmp_path_factory: pytest.TempPathFactory) -> Path:
    """Two frames that came in, with the data folder; a copy of all that beside it."""
    base = tmp_path_factory.mktemp("originals")
    folder = base / "now" / "photos"
    folder.mkdir(parents=True)
    for n in (1, 2):
        shutil.copy(originals / f"T000{n}.DNG", folder)
    import_now(base / "now" / "data", "Spring", sorted(folder.iterdir()), None, [])
    shutil.copytree(base / "now", base / "kept")
    return base


@pytest.fixture
def photos(brought_in: Path) -> Path:
    """As they came in, times of the files too, whatever a test before did to them."""
    shutil.rmtree(brought_in / "now")
    shutil.copytree(brought_in / "kept", brought_in / "now")
    return brought_in / "now" / "photos"


@pytest.fixture
def catalogue(photos: Path) -> Iterator[Catalogue]:
    result = Catalogue(photos.parent / "data")
    yield result
    result.close()


def replaced(path: Path, originals: Path) -> None:
    """Another photograph of the same size and time under the same name: only its content tells."""
    state = path.stat()
    data = bytearray((originals / path.name).read_bytes())
    data[-4000:] = bytes(4000)
    path.write_bytes(data)
    os.utime(path, ns=(state.st_atime_ns, state.st_mtime_ns))


def until(done: Callable[[], bool]) -> None:
    for _ in range(1200):
        if done():
            return
        time.sleep(0.05)
    raise AssertionError("it does not end")


def number(catalogue: Catalogue, name: str) -> int:
    with catalogue.read() as session:
        return session.scalars(select(Frame.id).where(Frame.name == name)).one()


def delivered(catalogue: Catalogue, folder: Path) -> dict[str, dict[str, object]]:
    folder.mkdir(exist_ok=True)
    with Workers(1) as workers:
        deliveries = Deliveries(catalogue, workers)
        with catalogue.read() as session:
            frames = list(session.scalars(select(Frame.id).order_by(Frame.name)))
        made = deliveries.create(1, frames, [OutputSpec(size="long:100")], folder)
        deliveries.wait()
        with catalogue.read() as session:
            record = record_of(session, session.get_one(Delivery, made))
        deliveries.close()
    return {str(i["original"]): i for i in record["items"]}


def test_a_replaced_original_is_not_delivered(
    catalogue: Catalogue, photos: Path, originals: Path, tmp_path: Path
) -> None:
    """The same size and time, too: before a delivery the content counts."""
    replaced(photos / "T0001.DNG", originals)
    items = delivered(catalogue, tmp_path / "out")
    first, second = (items[f"T000{n}.DNG"] for n in (1, 2))
    assert first["state"] == "failed" and "not the one that came in" in str(first["message"])
    assert second["state"] == "done"
    assert len(list((tmp_path / "out").glob("*.jpg"))) == 1


def test_the_frame_says_so_and_a_file_put_back_is_good_again(
    catalogue: Catalogue, photos: Path, originals: Path
) -> None:
    path, one = photos / "T0001.DNG", number(catalogue, "T0001.DNG")
    assert check_frame(catalogue, one) == ""
    shutil.copy(originals / "T0002.DNG", path)
    assert check_frame(catalogue, one) == REPLACED
    with catalogue.read() as session:
        assert session.get_one(Frame, one).error == REPLACED
    path.unlink()
    assert check_frame(catalogue, one) == GONE
    shutil.copy(originals / "T0001.DNG", path)
    assert check_frame(catalogue, one) == ""
    with catalogue.read() as session:
        assert session.get_one(Frame, one).error == ""


def test_a_touched_file_is_still_the_same(catalogue: Catalogue, photos: Path) -> None:
    one = number(catalogue, "T0001.DNG")
    (photos / "T0001.DNG").touch()
    with catalogue.read() as session:
        before = session.get_one(Frame, one).stamp
    assert check_frame(catalogue, one) == ""
    with catalogue.read() as session:
        assert session.get_one(Frame, one).stamp != before


def test_the_file_can_be_taken_as_it_is_now(catalogue: Catalogue, photos: Path) -> None:
    path, one = photos / "T0001.DNG", number(catalogue, "T0001.DNG")
    path.write_bytes(take(exposure("T0001.DNG", "instrument", iso=800, width=480, height=320)))
    assert check_frame(catalogue, one) == REPLACED
    take_over(catalogue, one, read_facts(str(path)), file_hash(path))
    assert check_frame(catalogue, one, fully=True) == ""
    with catalogue.read() as session:
        frame = session.get_one(Frame, one)
        assert (frame.width, frame.height, frame.iso, frame.error) == (480, 320, 800, "")
    shutil.copy(photos / "T0002.DNG", path)
    with pytest.raises(TannerError, match="in the shoot already, as T0002"):
        take_over(catalogue, one, read_facts(str(path)), file_hash(path))


def test_the_old_file_can_be_found_again(catalogue: Catalogue, photos: Path, originals: Path, tmp_path: Path) -> None:
    away, one = tmp_path / "away" / "deeper", number(catalogue, "T0001.DNG")
    away.mkdir(parents=True)
    (photos / "T0001.DNG").rename(away / "renamed.dng")
    shutil.copy(originals / "T0003.DNG", photos / "T0001.DNG")
    with pytest.raises(TannerError, match="nowhere in photos"):
        find_again(catalogue, one, [photos])
    assert find_again(catalogue, one, [photos, tmp_path / "away"]) == away / "renamed.dng"
    assert check_frame(catalogue, one, fully=True) == ""


def test_a_check_of_all_originals_finds_what_rotted(
    catalogue: Catalogue, photos: Path, originals: Path, tmp_path: Path
) -> None:
    assert [f["trouble"] for f in check_all(catalogue)] == ["", ""]
    replaced(photos / "T0002.DNG", originals)
    with catalogue.read() as session:
        assert session.scalars(select(Frame.error)).all() == ["", ""]
    done = CliRunner().invoke(
        app, ["catalogue", "check", "--originals", "--json", "--data", str(photos.parent / "data")]
    )
    found = [json.loads(line) for line in done.stdout.splitlines()]
    assert done.exit_code == 1 and [bool(f["trouble"]) for f in found] == [False, True]
    shutil.copy(originals / "T0002.DNG", photos)
    done = CliRunner().invoke(app, ["catalogue", "check", "--originals", "--data", str(photos.parent / "data")])
    assert done.exit_code == 0 and "0 originals" in done.stdout


def test_one_original_that_cannot_be_read_does_not_end_the_check(catalogue: Catalogue, photos: Path) -> None:
    """A folder stands under its name: said of that frame, and the others are compared all the same."""
    path = photos / "T0001.DNG"
    path.unlink()
    path.mkdir()
    found = {Path(f["path"]).name: f["trouble"] for f in check_all(catalogue)}
    assert "cannot be read" in found["T0001.DNG"] and found["T0002.DNG"] == ""


def test_copies_joins_and_matches_refuse_another_file(
    catalogue: Catalogue, photos: Path, originals: Path, monkeypatch: pytest.MonkeyPatch
) -> None:
    """Not written from it, not measured on it, and the other frames go on."""
    replaced(photos / "T0001.DNG", originals)
    with catalogue.read() as session:
        resolver = Resolver(session, 1)
        frames = list(session.scalars(select(Frame).order_by(Frame.name)))
        start = Reference(frames[1].path, resolver.resolve(frames[1]).values)
    before = sorted(photos.iterdir())
    denoising, merges = Denoising(catalogue), Merges(catalogue)
    copies = denoising.copies(frames[:1], CopyOptions(method="quick"))
    joined = merges.start(frames, "focus")
    until(lambda: copies.over and joined.state != "working")
    assert "not the one that came in" in copies.items[0].message
    assert joined.state == "failed" and "T0001.DNG: This file is not the one that came in" in joined.message
    assert sorted(photos.iterdir()) == before
    with Workers(1) as workers:
        # By size and time: it is measured, and nothing is written.
        (photos / "T0001.DNG").touch()
        matching = Matching(catalogue, workers)
        with catalogue.read() as session:
            job = matching.start(start, "T0002.DNG", frames, Resolver(session, 1), "both")
        until(lambda: job.over)
        assert "not the one that came in" in job.rows[0]["error"] and "error" not in job.rows[1]
        lines = LineUps(catalogue, workers)
        with catalogue.read() as session:
            readings, _ = lines.readings(Resolver(session, 1), frames, frames[1], None)
        assert "not the one that came in" in readings[0].trouble
        # At the next look it is not read again: its size and time say that it is the same wrong one.
        monkeypatch.setattr("tanner.jobs.match.lineups.check_frame", lambda *_: "")
        with catalogue.read() as session:
            again, _ = lines.readings(Resolver(session, 1), frames[:1], frames[1], None)
        assert again[0].trouble == readings[0].trouble
    denoising.close()
    merges.close()


def test_a_shoot_is_checked_behind_the_scenes(catalogue: Catalogue, photos: Path, originals: Path) -> None:
    replaced(photos / "T0002.DNG", originals)
    checks = Checks(catalogue)
    check = checks.start(1)
    assert checks.start(1) in (check, checks.check(check.number + 1) if check.over else check)
    until(lambda: check.over)
    told = check.as_dict()
    assert [t["name"] for t in told["troubles"]] == ["T0002.DNG"]
    assert told["message"] == "1 of 2 originals are as they came in; 1 is not."
    with pytest.raises(TannerError, match="no frames"):
        checks.start(99)


def test_a_check_can_be_stopped(catalogue: Catalogue, photos: Path, monkeypatch: pytest.MonkeyPatch) -> None:
    checks = Checks(catalogue)

    def slow(*_: object, **__: object) -> str:
        checks.cancel(1)
        return ""

    monkeypatch.setattr("tanner.jobs.checking.check_frame", slow)
    check = checks.start(1)
    until(lambda: check.over)
    assert check.done == 1 and check.as_dict()["message"].startswith("Cancelled. 1 of 2 originals are as they came in")
