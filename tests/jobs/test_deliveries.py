"""Deliveries: the table before, both sizes in one pass, stop and resume, kill and resume, failures told."""

import shutil
import time
from collections.abc import Iterator
from pathlib import Path

import pytest
from PIL import Image
from sqlalchemy import select

from tanner.catalogue.development import set_values
from tanner.catalogue.models import Delivery, DeliveryItem, Frame, Shoot
from tanner.catalogue.resolver import Resolver
from tanner.catalogue.store import Catalogue
from tanner.core.errors import TannerError
from tanner.core.output.files import TEMPORARY, file_hash
from tanner.core.output.spec import OutputSpec
from tanner.jobs.bring_in.imports import import_now
from tanner.jobs.delivery.deliveries import Deliveries
from tanner.jobs.delivery.planning import plan
from tanner.jobs.delivery.record import record_of
from tanner.jobs.workers import Workers

WEB = OutputSpec(title="Web", size="long:300", subfolder="web")
FULL = OutputSpec(title="Full", size="original", format="tiff16", space="prophoto", name="{set}-{number}")


@pytest.fixture(scope="module")
def imported(originals: Path, tmp_path_factory: pytest.TempPathFactory) -> Path:
    """A data folder with three frames, imported once."""
    folder = tmp_path_factory.mktemp("imported") / "data"
    import_now(folder, "Spring", [originals / f"T000{n}.DNG" for n in (1, 2, 3)], None, ["lamp"])
    return folder


@pytest.fixture
def catalogue(imported: Path, data: Path) -> Iterator[Catalogue]:
    shutil.copytree(imported, data)
    result = Catalogue(data)
    with result.write() as session:
        shoot = session.get_one(Shoot, 1)
        shoot.creator, shoot.rights = "Alder & Finch", "© Alder"
    yield result
    result.close()


@pytest.fixture(scope="module")
def workers() -> Iterator[Workers]:
    with Workers(2) as result:
        yield result


@pytest.fixture
def deliveries(catalogue: Catalogue, workers: Workers) -> Iterator[Deliveries]:
    result = Deliveries(catalogue, workers)
    yield result
    result.close()


def ids(catalogue: Catalogue) -> list[int]:
    with catalogue.read() as session:
        return list(session.scalars(select(Frame.id).order_by(Frame.name)))


def wait(catalogue: Catalogue, number: int) -> dict[str, object]:
    for _ in range(1200):
        with catalogue.read() as session:
            record = record_of(session, session.get_one(Delivery, number))
        if record["state"] in ("done", "paused", "cancelled"):
            return record
        time.sleep(0.05)
    raise AssertionError("the delivery did not end")


def test_the_table_says_what_will_be_written(catalogue: Catalogue, tmp_path: Path) -> None:
    out = tmp_path / "out"
    (out / "web").mkdir(parents=True)
    (out / "web" / "T0001.jpg").write_text("there already")
    with catalogue.write() as session:
        frames = [session.get_one(Frame, i) for i in ids(catalogue)]
        set_values(session, Resolver(session, 1), [frames[1]], {"crop.left": 0.5})
        frames[2].verdict = "drop"
        same = OutputSpec(title="Same", size="percent:150", name="all")
        rows = plan(session, 1, frames, [WEB, same], out)
    assert [(r["width"], r["height"]) for r in rows[:4]] == [(300, 200), (900, 600), (225, 300), (450, 600)]
    targets = [r["target"] for r in rows]
    assert len(set(targets)) == 6 and targets[0].endswith("web/T0001-2.jpg") and targets[3].endswith("all-2.jpg")
    assert "name taken: gets a number" in rows[0]["notes"]
    assert "same name as another row: gets a number" in rows[3]["notes"]
    assert "marked drop" in rows[4]["notes"] and "enlarges" in rows[1]["notes"]
    assert not (out / "all.jpg").exists()  # nothing was written


def test_two_specs_in_one_pass(catalogue: Catalogue, deliveries: Deliveries, tmp_path: Path) -> None:
    out = tmp_path / "out"
    number = deliveries.create(1, ids(catalogue), [WEB, FULL], out)
    record = wait(catalogue, number)
    assert record["state"] == "done" and record["done"] == record["total"] == 6
    for item in record["items"]:  # type: ignore[attr-defined]
        path = Path(item["path"])
        assert item["state"] == "done" and path.stat().st_size == item["bytes"]
        assert file_hash(path) == item["sha256"]
    with Image.open(out / "web" / "T0001.jpg") as image:
        assert image.size == (300, 200) and image.getexif()[315] == "Alder & Finch"
    assert sorted(p.name for p in out.glob("*.tif")) == ["Set 1-0001.tif", "Set 1-0002.tif", "Set 1-0003.tif"]


def test_what_was_asked_for_is_what_is_written(catalogue: Catalogue, deliveries: Deliveries, tmp_path: Path) -> None:
    """A change after the delivery was asked for does not reach into it."""
    frame = ids(catalogue)[:1]
    first = wait(catalogue, deliveries.create(1, frame, [WEB], tmp_path / "a"))
    deliveries._closing = True  # the queue takes it, but nothing is written yet
    number = deliveries.create(1, frame, [WEB], tmp_path / "b")
    with catalogue.write() as session:
        set_values(session, Resolver(session, 1), [session.get_one(Frame, frame[0])], {"light.exposure": 2.0})
    deliveries.wait()  # the queue has taken it, and left it
    deliveries._closing = False
    deliveries._stop.pop(number)
    deliveries.enqueue(number)
    second = wait(catalogue, number)
    assert first["items"][0]["sha256"] == second["items"][0]["sha256"]  # type: ignore[index]


def test_stop_and_go_on(catalogue: Catalogue, deliveries: Deliveries, tmp_path: Path) -> None:
    out = tmp_path / "out"
    number = deliveries.create(1, ids(catalogue), [WEB, FULL], out)
    deliveries.pause(number)
    record = wait(catalogue, number)
    assert record["state"] == "paused"
    for _ in range(200):  # files that were under way end whole
        with catalogue.read() as session:
            record = record_of(session, session.get_one(Delivery, number))
        if not any(i["state"] == "running" for i in record["items"]):  # type: ignore[attr-defined]
            break
        time.sleep(0.05)
    before = {p: p.stat().st_mtime_ns for p in out.rglob("*") if p.is_file()}
    deliveries.enqueue(number)
    record = wait(catalogue, number)
    assert record["state"] == "done" and {i["state"] for i in record["items"]} == {"done"}  # type: ignore[attr-defined]
    files = [p for p in out.rglob("*") if p.is_file()]
    assert len(files) == 6 and all(p.stat().st_mtime_ns == t for p, t in before.items())


def test_resume_after_a_kill_does_nothing_twice(catalogue: Catalogue, deliveries: Deliveries, tmp_path: Path) -> None:
    """As a killed program leaves it: one file whole but not recorded, one half-written under its temporary name."""
    out = tmp_path / "out"
    number = deliveries.create(1, ids(catalogue), [WEB], out)
    wait(catalogue, number)
    files = sorted((out / "web").iterdir())
    kept = files[0].stat().st_mtime_ns
    files[1].unlink()
    (out / "web" / f"{TEMPORARY}half").write_bytes(b"half")
    with catalogue.write() as session:
        session.get_one(Delivery, number).state = "running"
        for item in session.scalars(select(DeliveryItem).where(DeliveryItem.spec == 0)):
            if item.target in (str(files[0]), str(files[1])):
                item.state, item.content, item.bytes = "running", "", 0
    deliveries._stop.clear()
    assert deliveries.resume_interrupted() == [number]
    record = wait(catalogue, number)
    assert {i["state"] for i in record["items"]} == {"done"}  # type: ignore[attr-defined]
    assert all(file_hash(Path(i["path"])) == i["sha256"] for i in record["items"])  # type: ignore[attr-defined]
    assert files[0].stat().st_mtime_ns == kept
    assert sorted(p.name for p in (out / "web").glob("*.jpg")) == ["T0001.jpg", "T0002.jpg", "T0003.jpg"]


def test_what_a_lost_worker_left_half_written_is_cleared_away(
    catalogue: Catalogue, deliveries: Deliveries, workers: Workers, tmp_path: Path, monkeypatch: pytest.MonkeyPatch
) -> None:
    """A worker that is killed while the delivery goes on, here or on a cluster, cannot do it itself."""
    out, submit = tmp_path / "out", workers.submit

    def lost(*args: object, **kwargs: object) -> object:
        (out / "web").mkdir(exist_ok=True)
        (out / "web" / f"{TEMPORARY}1-half").write_bytes(b"half")
        (out / "web" / f"{TEMPORARY}2-half").write_bytes(b"another delivery's")
        return submit(*args, **kwargs)  # type: ignore[arg-type]

    monkeypatch.setattr(workers, "submit", lost)
    out.mkdir()
    number = deliveries.create(1, ids(catalogue), [WEB], out)
    assert number == 1 and wait(catalogue, number)["state"] == "done"
    hidden = [p.name for p in (out / "web").iterdir() if p.name.startswith(".")]
    assert hidden == [f"{TEMPORARY}2-half"] and len(list((out / "web").iterdir())) == 4


def test_failures_are_told_and_tried_again(catalogue: Catalogue, deliveries: Deliveries, tmp_path: Path) -> None:
    with catalogue.write() as session:
        frame = session.get_one(Frame, ids(catalogue)[1])
        there = frame.path
        frame.path = str(tmp_path / "gone" / "T0002.DNG")
    number = deliveries.create(1, ids(catalogue), [WEB], tmp_path / "out")
    record = wait(catalogue, number)
    states = [i["state"] for i in record["items"]]  # type: ignore[attr-defined]
    assert states == ["done", "failed", "done"]
    assert "is not there" in record["items"][1]["message"]  # type: ignore[index]
    with catalogue.write() as session:
        session.get_one(Frame, ids(catalogue)[1]).path = there
    deliveries.enqueue(number)
    assert {i["state"] for i in wait(catalogue, number)["items"]} == {"done"}  # type: ignore[attr-defined]


def test_a_folder_that_may_not_be_written(catalogue: Catalogue, deliveries: Deliveries, tmp_path: Path) -> None:
    (tmp_path / "out").write_text("a file where the folder should be")
    record = wait(catalogue, deliveries.create(1, ids(catalogue)[:1], [WEB], tmp_path / "out"))
    assert record["items"][0]["state"] == "failed" and record["items"][0]["message"]  # type: ignore[index]


@pytest.mark.parametrize("exists", ["skip", "replace", "number"])
def test_taken_names(catalogue: Catalogue, deliveries: Deliveries, tmp_path: Path, exists: str) -> None:
    out = tmp_path / "out"
    out.mkdir()
    (out / "T0001.jpg").write_bytes(b"old")
    spec = OutputSpec(size="long:200", exists=exists)  # type: ignore[arg-type]
    record = wait(catalogue, deliveries.create(1, ids(catalogue)[:1], [spec], out))
    item = record["items"][0]  # type: ignore[index]
    old = (out / "T0001.jpg").read_bytes() == b"old"
    assert (item["state"], old, len(list(out.iterdir()))) == {
        "skip": ("skipped", True, 1),
        "replace": ("done", False, 1),
        "number": ("done", True, 2),
    }[exists]


def test_nothing_to_do_is_told(deliveries: Deliveries, catalogue: Catalogue, tmp_path: Path) -> None:
    with pytest.raises(TannerError, match="frame"):
        deliveries.create(1, [999], [WEB], tmp_path)
    with pytest.raises(TannerError, match="spec"):
        deliveries.create(1, ids(catalogue), [], tmp_path)
    with pytest.raises(TannerError, match="no longer"):
        deliveries.enqueue(999)


def test_a_target_that_was_unplugged_is_told_and_not_made_anew(
    catalogue: Catalogue, deliveries: Deliveries, tmp_path: Path
) -> None:
    drive = tmp_path / "drive"
    number = deliveries.create(1, ids(catalogue)[:1], [WEB], drive / "out")
    wait(catalogue, number)
    drive.rename(tmp_path / "away")
    drive.mkdir()  # the place where it was
    deliveries.extend(number, ids(catalogue)[1:2])
    deliveries.wait()
    record = wait(catalogue, number)
    states = [i["state"] for i in record["items"]]  # type: ignore[attr-defined]
    assert states == ["done", "failed"] and not list(drive.iterdir())
    assert "drive connected" in record["items"][1]["message"]  # type: ignore[index]
    drive.rmdir()
    (tmp_path / "away").rename(drive)
    deliveries.enqueue(number)
    deliveries.wait()
    assert {i["state"] for i in wait(catalogue, number)["items"]} == {"done"}  # type: ignore[attr-defined]


def test_a_delivery_that_is_cancelled_keeps_what_is_written(
    catalogue: Catalogue, deliveries: Deliveries, tmp_path: Path
) -> None:
    number = deliveries.create(1, ids(catalogue), [WEB, FULL], tmp_path / "out")
    deliveries.cancel(number)
    deliveries.wait()
    record = wait(catalogue, number)
    assert record["state"] == "cancelled" and {i["state"] for i in record["items"]} <= {"done", "cancelled"}  # type: ignore[attr-defined]
    assert "cancelled" in {i["state"] for i in record["items"]}  # type: ignore[attr-defined]
    deliveries.enqueue(number)  # thought better of
    deliveries.wait()
    assert {i["state"] for i in wait(catalogue, number)["items"]} == {"done"}  # type: ignore[attr-defined]


def test_two_programs_do_not_write_one_delivery(catalogue: Catalogue, deliveries: Deliveries, tmp_path: Path) -> None:
    import fcntl

    deliveries._closing = True
    number = deliveries.create(1, ids(catalogue), [WEB], tmp_path / "out")
    deliveries.wait()  # the queue has taken it, and left it
    deliveries._closing = False
    journals = catalogue.folder / "deliveries"
    journals.mkdir(exist_ok=True)
    with (journals / f"{number}.lock").open("w") as other:
        fcntl.flock(other, fcntl.LOCK_EX)
        deliveries._stop.pop(number, None)
        deliveries.enqueue(number)
        deliveries.wait()
        assert not list((tmp_path / "out").rglob("*.jpg"))
    deliveries.enqueue(number)
    deliveries.wait()
    assert len(list((tmp_path / "out").rglob("*.jpg"))) == 3


def test_a_work_item_that_is_done_again_writes_nothing_again(originals: Path, tmp_path: Path) -> None:
    """As a cluster does when a worker ends after its files were written: another does the same item."""
    from tanner.jobs.delivery.tasks import develop_file

    specs, targets = [WEB.model_dump(), FULL.model_dump()], [str(tmp_path / "a.jpg"), str(tmp_path / "b.tif")]
    item = (str(originals / "T0001.DNG"), {}, specs, "")
    first = develop_file(*item, targets=targets, journal=(str(tmp_path / "1.jsonl"), [1, 2]))
    (tmp_path / "b.tif").unlink()
    again = develop_file(*item, targets=targets, journal=(str(tmp_path / "1.jsonl"), [1, 2]))
    assert sorted(p.name for p in tmp_path.glob("*.???")) == ["a.jpg", "b.tif"]
    assert [r["content"] for r in again] == [r["content"] for r in first]
    assert [r["path"] for r in again] == targets and not any(r["skipped"] for r in again)


def test_who_looks_at_each_piece_of_news_sees_every_file_end(
    catalogue: Catalogue, deliveries: Deliveries, tmp_path: Path
) -> None:
    """What is told is stored: a page that asks for what is new, at the very moment that it hears of it, misses nothing."""
    seen: dict[int, str] = {}
    since = -1
    begun: list[int] = []

    def look() -> None:
        nonlocal since
        if not begun:
            return
        with catalogue.read() as session:
            now = deliveries.progress.report(session, begun[0], since)
        since = now["counter"]
        seen.update({item["id"]: item["state"] for item in now["items"]})

    (tmp_path / "out").mkdir()
    with catalogue.news.heard_by(look):
        begun.append(deliveries.create(1, ids(catalogue), [WEB, FULL], tmp_path / "out", queue=False))
        deliveries.enqueue(begun[0])
        deliveries.wait()
    assert len(seen) == 6 and set(seen.values()) == {"done"}
