"""A shoot that is made while Tanner runs: frame by frame, beside other work, and gone on with after an end."""

from collections.abc import Iterator
from dataclasses import replace
from pathlib import Path

import pytest
from made import series
from sqlalchemy import select

from tanner.catalogue.models import Frame, FrameSet
from tanner.jobs.making import ShootPlan
from tanner.studio.series import shoot_one
from tanner.web.api.work import work
from tanner.web.serving.services import Services


def _plan(folder: Path) -> ShootPlan:
    shots = series()[:3]
    steps = [(folder / s.name, shoot_one, (s, str(folder / s.name))) for s in shots]
    nowhere = replace(shots[0], name="T0099.DNG", scene="of no such picture")
    steps.insert(1, (folder / nowhere.name, shoot_one, (nowhere, str(folder / nowhere.name))))
    return ShootPlan("Series", steps, {s.name: "Lamp, three" for s in shots})


@pytest.fixture
def desk(data: Path, tmp_path: Path) -> Iterator[Services]:
    (tmp_path / "series").mkdir()
    services = Services(data, [tmp_path], planned=lambda: _plan(tmp_path / "series"))
    yield services
    services.close()


def test_frames_are_made_one_by_one_told_of_and_brought_in(desk: Services, tmp_path: Path) -> None:
    there = tmp_path / "series" / "T0002.DNG"
    shoot_one(series()[1], str(there))  # made before an earlier end: it stays
    before = there.stat().st_mtime_ns
    making = desk.making
    assert making is not None
    making.start()
    making.wait()
    assert there.stat().st_mtime_ns == before
    assert making.done == 4 and len(making.failed) == 1 and making.failed[0].startswith("T0099.DNG")
    with desk.catalogue.read() as session:
        assert len(list(session.scalars(select(Frame)))) == 3
        assert [g.name for g in session.scalars(select(FrameSet))] == ["Lamp, three"]
    row = next(r for r in work(desk)["work"] if r["kind"] == "making")
    assert (row["done"], row["count"], row["over"], row["cancel"]) == (4, 4, True, None)
    assert "Series" in row["title"] and row["failed"] == making.failed


def test_what_was_stopped_goes_on_with_the_next_start(data: Path, tmp_path: Path) -> None:
    (tmp_path / "series").mkdir()
    first = Services(data, [tmp_path], planned=lambda: _plan(tmp_path / "series"))
    assert first.making is not None
    first.making.cancel()
    first.making.start()
    first.making.wait()
    assert not list((tmp_path / "series").glob("*.DNG"))
    first.close()
    again = Services(data, [tmp_path], planned=lambda: _plan(tmp_path / "series"))
    assert again.making is not None
    again.making.start()
    again.making.wait()
    with again.catalogue.read() as session:
        assert len(list(session.scalars(select(Frame)))) == 3
    again.close()


def test_frames_that_were_removed_do_not_come_back(desk: Services, data: Path, tmp_path: Path) -> None:
    assert desk.making is not None
    desk.making.start()
    desk.making.wait()
    with desk.catalogue.write() as session:
        session.delete(session.scalars(select(Frame)).first())
    desk.close()
    again = Services(data, [tmp_path], planned=lambda: _plan(tmp_path / "series"))
    assert again.making is not None
    again.making.start()
    again.making.wait()
    with again.catalogue.read() as session:
        assert len(list(session.scalars(select(Frame)))) == 2
    assert not [r for r in work(again)["work"] if r["kind"] == "making"]
    again.close()
