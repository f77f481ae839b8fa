"""How long a delivery will take is told by what was usual, not by what had to wait."""

from collections.abc import Iterator
from pathlib import Path

import pytest

from tanner.catalogue.models import Delivery, DeliveryItem, Frame, Shoot
from tanner.catalogue.store import Catalogue
from tanner.jobs.delivery.pace import LEAST, METHOD, seconds_each, work_of

SENSOR, WEB = (6000, 4000), (1080, 720)


@pytest.fixture
def catalogue(tmp_path: Path) -> Iterator[Catalogue]:
    """A delivery of no items yet, and 20 frames."""
    result = Catalogue(tmp_path / "data")
    with result.write() as session:
        session.add(Shoot(name="Spring"))
        session.flush()
        for n in range(20):
            plain = {"facts": {}, "starting": {}, "as_shot": [], "width": SENSOR[0], "height": SENSOR[1]}
            session.add(Frame(shoot_id=1, path=f"/{n}", name=f"{n}", content=f"{n}", **plain))
        session.add(Delivery(shoot_id=1, folder="/out", specs=[]))
    yield result
    result.close()


def written(catalogue: Catalogue, seconds: list[float], method: str | None = None, files: int = 1) -> None:
    """So many frames written, with the seconds of each shared between its files; the first has most."""
    settings = {METHOD: method} if method else {}
    with catalogue.write() as session:
        for frame, whole in enumerate(seconds, 1):
            for spec in range(files):
                session.add(
                    DeliveryItem(
                        delivery_id=1, frame_id=frame, spec=spec, number=frame, target=f"/out/{frame}-{spec}", state="done",
                        settings=settings, width=WEB[0], height=WEB[1], seconds=whole * (0.75 if files == 2 and not spec else 1 / files**2),
                    )
                )  # fmt: skip


def test_no_time_is_told_by_the_first_few(catalogue: Catalogue) -> None:
    written(catalogue, [15.0] * (LEAST - 1))
    with catalogue.read() as session:
        assert seconds_each(session) is None


@pytest.mark.parametrize("files", [1, 2])
def test_frames_that_waited_say_nothing_of_the_others(catalogue: Catalogue, files: int) -> None:
    """Two took 16 s while the program was loaded, eight 0.5 s: a mean told of eight times too long."""
    written(catalogue, [16.0, 15.5] + [0.5] * 8, files=files)
    with catalogue.read() as session:
        each = seconds_each(session)
    assert each is not None and each * work_of(SENSOR, [WEB] * files, None) == pytest.approx(0.5, rel=0.2)


def test_noise_is_work(catalogue: Catalogue) -> None:
    """What was written without it tells how long learned takes: for a full size about twenty times as long in one thread (measured)."""
    plain, learned = work_of(SENSOR, [SENSOR], None), work_of(SENSOR, [SENSOR], "learned")
    assert plain == work_of(SENSOR, [SENSOR], "none") and 10 < learned / plain < 25
    assert plain < work_of(SENSOR, [SENSOR], "quick") < work_of(SENSOR, [SENSOR], "fine") < learned
    # It is done once for all files of a frame.
    assert work_of(SENSOR, [SENSOR, WEB], "learned") - learned < 0.1 * plain
    written(catalogue, [14.0] * 8, method="learned")
    with catalogue.read() as session:
        each = seconds_each(session)
    assert each is not None and each * work_of(SENSOR, [WEB], None) < 1
