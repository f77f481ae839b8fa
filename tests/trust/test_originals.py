"""A file that is not the one that came in: never shown or delivered as if it were, and two ways out."""

import json
import os
import shutil
from collections.abc import Iterator
from pathlib import Path

import pytest
from made import exposure
from sqlalchemy import select
from typer.testing import CliRunner

from tanner.catalogue.models import Delivery, Frame
from tanner.catalogue.originals import GONE, REPLACED, check_all, check_frame, find_again, take_over
from tanner.catalogue.store import Catalogue
from tanner.cli import app
from tanner.core.errors import TannerError
from tanner.core.output.files import file_hash
from tanner.core.output.spec import OutputSpec
from tanner.jobs.deliveries import Deliveries, record_of
from tanner.jobs.imports import import_now
from tanner.jobs.tasks import read_facts
from tanner.jobs.workers import Workers
from tanner.studio.camera import take


@pytest.fixture
def photos(originals: Path, tmp_path: Path) -> Path:
    folder = tmp_path / "photos"
    folder.mkdir()
    for n in (1, 2):
        shutil.copy(originals / f"T000{n}.DNG", folder)
    import_now(tmp_path / "data", "Spring", sorted(folder.iterdir()), None, [])
    return folder


@pytest.fixture
def catalogue(photos: Path, tmp_path: Path) -> Iterator[Catalogue]:
    result = Catalogue(tmp_path / "data")
    yield result
    result.close()


def replaced(path: Path, originals: Path) -> None:
    """Another photograph of the same size and time under the same name: only its content tells."""
    state = path.stat()
    data = bytearray((originals / path.name).read_bytes())
    data[-4000:] = bytes(4000)
    path.write_bytes(data)
    os.utime(path, ns=(state.st_atime_ns, state.st_mtime_ns))


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
    done = CliRunner().invoke(app, ["catalogue", "check", "--originals", "--json", "--data", str(tmp_path / "data")])
    found = [json.loads(line) for line in done.stdout.splitlines()]
    assert done.exit_code == 1 and [bool(f["trouble"]) for f in found] == [False, True]
    shutil.copy(originals / "T0002.DNG", photos)
    done = CliRunner().invoke(app, ["catalogue", "check", "--originals", "--data", str(tmp_path / "data")])
    assert done.exit_code == 0 and "0 originals" in done.stdout


def test_one_original_that_cannot_be_read_does_not_end_the_check(catalogue: Catalogue, photos: Path) -> None:
    """A folder stands under its name: said of that frame, and the others are compared all the same."""
    path = photos / "T0001.DNG"
    path.unlink()
    path.mkdir()
    found = {Path(f["path"]).name: f["trouble"] for f in check_all(catalogue)}
    assert "cannot be read" in found["T0001.DNG"] and found["T0002.DNG"] == ""
