"""A watched folder: the simulated camera shoots into it, frames come in, are developed by rule and delivered."""

import shutil
import time
from collections.abc import Callable, Iterator
from pathlib import Path

import pytest
from sqlalchemy import select

from tanner.catalogue.models import Frame, Shoot
from tanner.core.errors import TannerError
from tanner.core.output.spec import OutputSpec
from tanner.core.series.rules import FrameRule, When
from tanner.jobs.bring_in.watching import Watch
from tanner.web.serving.services import Services

SPEC = OutputSpec(title="Web", size="long:200", name="{number}-{name}")


@pytest.fixture
def desk(data: Path) -> Iterator[Services]:
    services = Services(data)
    with services.catalogue.write() as session:
        session.add(Shoot(name="Tethered"))
    yield services
    services.close()


def until(check: Callable[[], bool]) -> None:
    end = time.monotonic() + 90
    while not check():
        assert time.monotonic() < end, "did not come true"
        time.sleep(0.1)


def test_what_appears_is_brought_in_developed_and_delivered(desk: Services, originals: Path, tmp_path: Path) -> None:
    hot, out = tmp_path / "hot", tmp_path / "out"
    hot.mkdir()
    preset = next(k for k, p in desk.library.presets()[0].items() if p.values and not p.match)
    desk.library.save_rules([FrameRule(when=When(), preset=preset)])
    desk.watching.begin(Watch(folder=str(hot), shoot_id=1, specs=[SPEC], to=str(out)))
    # Half of a file first, as a slow cable brings it; the rest later.
    whole = (originals / "T0001.DNG").read_bytes()
    (hot / "T0001.DNG").write_bytes(whole[:9000])
    time.sleep(0.2)
    (hot / "T0001.DNG").write_bytes(whole)
    until(lambda: (out / "0001-T0001.jpg").exists())
    shutil.copy(originals / "T0002.DNG", hot)
    (hot / "BROKEN.DNG").write_bytes(whole[:7000])
    until(lambda: (out / "0002-T0002.jpg").exists())
    until(lambda: bool(desk.watching.report()["failed"]))
    assert "BROKEN.DNG" in desk.watching.report()["failed"][0]
    with desk.catalogue.read() as session:
        frames = list(session.scalars(select(Frame).order_by(Frame.name)))
        assert [f.name for f in frames] == ["T0001.DNG", "T0002.DNG"]
        assert all(f.worn for f in frames)
    # The same content under another name, and a delivered file, bring nothing new.
    shutil.copy(originals / "T0001.DNG", hot / "AGAIN.DNG")
    time.sleep(2)
    assert desk.watching.report()["taken"] == 2 and sorted(p.name for p in out.iterdir()) == [
        "0001-T0001.jpg",
        "0002-T0002.jpg",
    ]


def test_it_goes_on_after_a_restart_and_can_be_ended(
    desk: Services, originals: Path, data: Path, tmp_path: Path
) -> None:
    hot = tmp_path / "hot"
    hot.mkdir()
    desk.watching.begin(Watch(folder=str(hot), shoot_id=1))
    desk.watching.close()
    desk.watching.watch = None
    desk.watching.resume()
    shutil.copy(originals / "T0003.DNG", hot)
    until(lambda: desk.watching.report()["taken"] == 1)
    hot.rename(tmp_path / "away")
    until(lambda: "drive" in desk.watching.report()["trouble"])
    desk.watching.end()
    assert desk.watching.report()["watch"] is None and not (data / "watch.json").exists()


def test_what_cannot_be_watched_is_told(desk: Services, tmp_path: Path) -> None:
    with pytest.raises(TannerError, match="no folder"):
        desk.watching.begin(Watch(folder=str(tmp_path / "gone"), shoot_id=1))
    with pytest.raises(TannerError, match="Choose a folder"):
        desk.watching.begin(Watch(folder=str(tmp_path), shoot_id=1, specs=[SPEC]))
    with pytest.raises(TannerError, match="itself"):
        desk.watching.begin(Watch(folder=str(tmp_path), shoot_id=1, specs=[SPEC], to=str(tmp_path / "x")))
    with pytest.raises(TannerError, match="no longer"):
        desk.watching.begin(Watch(folder=str(tmp_path), shoot_id=9))
