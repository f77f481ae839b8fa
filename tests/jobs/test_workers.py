"""A decoder that crashes, hangs or devours memory is one item's error; the processes go on."""

import os
import subprocess
import sys
import time
from pathlib import Path

import pytest
from harmful import crash, devour, die_first, fine, hang, note

from tanner.core.errors import UnreadableFile
from tanner.jobs.tasks import read_facts
from tanner.jobs.workers import TooMuchMemory, WorkerDied, Workers


def test_harm_stays_with_its_item() -> None:
    with Workers(2, time_limit_s=20) as workers:
        good = [workers.submit(fine, n) for n in range(4)]
        bad = workers.submit(crash)
        after = [workers.submit(fine, n) for n in range(4, 8)]
        with pytest.raises(WorkerDied, match="twice"):
            bad.result()
        assert [f.result() for f in good + after] == list(range(1, 9))


def test_what_hangs_is_given_up() -> None:
    with Workers(1, time_limit_s=2) as workers:
        stuck, behind = workers.submit(hang), workers.submit(fine, 1)
        with pytest.raises(WorkerDied, match="given up"):
            stuck.result()
        # The next item gets a fresh process; starting it may take longer than the limit on a busy machine.
        workers.time_limit_s = 60
        assert behind.exception() is None or isinstance(behind.exception(), WorkerDied)


def test_memory_is_bounded() -> None:
    with Workers(1) as workers:
        with pytest.raises((TooMuchMemory, WorkerDied)):
            workers.submit(devour).result()
        assert workers.submit(fine, 1).result() == 2


def test_errors_cross_the_border_with_their_file(tmp_path) -> None:  # type: ignore[no-untyped-def]
    path = tmp_path / "empty.dng"
    path.touch()
    with Workers(1) as workers, pytest.raises(UnreadableFile) as caught:
        workers.submit(read_facts, str(path)).result()
    assert caught.value.path == path and "empty" in caught.value.reason


def test_a_process_that_is_killed_says_nothing_of_its_file(tmp_path) -> None:  # type: ignore[no-untyped-def]
    """Killed from outside in the middle: the item is tried once more by itself, and done."""
    with Workers(1) as workers:
        assert workers.submit(die_first, str(tmp_path / "tried")).result() == "done"
        assert (tmp_path / "tried").read_text() == "xx"


def test_a_worker_whose_parent_is_gone_before_it_has_begun_ends() -> None:
    """The parent was killed while the process started: its number is nobody's any more."""
    code = "from tanner.jobs.workers import _end_with_parent; _end_with_parent(1 << 30)"
    assert subprocess.run([sys.executable, "-c", code], timeout=60).returncode == 1


def test_what_somebody_waits_for_goes_before_what_was_asked_for_earlier(tmp_path: Path) -> None:
    """One lane is busy; then comes the one frame that is opened, then what is on the screen, then the rest in its order."""
    told = tmp_path / "told"
    with Workers(1) as workers:
        workers.submit(os.getpid).result()
        first = workers.submit(time.sleep, 0.5)
        rest = [workers.submit(note, str(told), f"later {n}") for n in range(3)]
        dropped = workers.submit(note, str(told), "never")
        assert dropped.cancel()
        seen = workers.shown(note, str(told), "seen")
        opened = workers.soon(note, str(told), "opened")
        for future in (first, *rest, seen, opened):
            future.result(timeout=60)
    assert told.read_text().splitlines() == ["opened", "seen", "later 0", "later 1", "later 2"]


def test_what_waits_is_given_up_at_the_end() -> None:
    workers = Workers(1)
    workers.submit(os.getpid).result()
    busy = workers.submit(time.sleep, 30)
    while not busy.running():
        time.sleep(0.01)
    waiting = workers.soon(time.sleep, 30)
    workers.shutdown(wait=False, cancel_futures=True)
    assert waiting.cancelled()
    with pytest.raises(WorkerDied):
        busy.result(timeout=30)
