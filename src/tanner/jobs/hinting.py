"""Hints for choosing, measured in the background: the frames on the screen first, one at a time beside other work."""

import logging
import threading
from collections.abc import Sequence
from concurrent.futures import ThreadPoolExecutor

from sqlalchemy import select, update

from tanner.catalogue.models import Frame
from tanner.catalogue.store import Catalogue
from tanner.core.errors import TannerError
from tanner.jobs.tasks import HINTS, hints_of
from tanner.jobs.workers import Workers

log = logging.getLogger(__name__)


class Hinting:
    """Measures frames that are asked for, the last asked first."""

    def __init__(self, catalogue: Catalogue, workers: Workers) -> None:
        self._catalogue, self._workers = catalogue, workers
        self._thread = ThreadPoolExecutor(1, thread_name_prefix="hints")
        self._lock = threading.Lock()
        self._waiting: dict[int, str] = {}
        self._failed: set[int] = set()
        self._busy = False
        self._closed = False

    def want(self, frames: Sequence[int]) -> int:
        """Ask for frames, the nearest first; how many are still to be measured in all."""
        with self._catalogue.read() as session:
            rows = session.execute(
                select(Frame.id, Frame.path, Frame.measured).where(Frame.id.in_(frames), Frame.error == "")
            ).all()
        missing = {i: path for i, path, measured in rows if measured.get("by") != HINTS}
        with self._lock:
            for frame in reversed(frames):
                if frame in missing and frame not in self._failed:
                    self._waiting.pop(frame, None)
                    self._waiting[frame] = missing[frame]
            if self._waiting and not self._busy and not self._closed:
                self._busy = True
                self._thread.submit(self._run)
            return len(self._waiting) + self._busy

    def _run(self) -> None:
        while True:
            with self._lock:
                if self._closed or not self._waiting:
                    self._busy = False
                    return
                frame, path = self._waiting.popitem()
            try:
                found = self._workers.submit(hints_of, path).result()
                with self._catalogue.write() as session:
                    session.execute(update(Frame).where(Frame.id == frame).values(measured=found))
            except TannerError as error:
                log.info("hints of %s: %s", path, error)
                self._failed.add(frame)
            except BaseException as error:  # the end of the program, or a fault: nothing depends on a hint
                log.info("hints of %s: %r", path, error)
                self._failed.add(frame)

    def close(self) -> None:
        with self._lock:
            self._closed = True
            self._waiting.clear()
        self._thread.shutdown(wait=False, cancel_futures=True)
