"""Pictures for the Sheet and the ribbon: rendered in worker processes, kept as files, newest wish first."""

import contextlib
import logging
import os
import threading
import time
from collections.abc import Iterator
from concurrent.futures import ThreadPoolExecutor
from dataclasses import dataclass
from pathlib import Path
from typing import Any

from tanner.catalogue.models import Frame
from tanner.catalogue.originals import check_frame
from tanner.catalogue.resolver import Resolver, version
from tanner.catalogue.store import Catalogue
from tanner.core.errors import TannerError
from tanner.core.noise.table import TABLE
from tanner.core.output.files import write_whole
from tanner.jobs.tasks import preview
from tanner.jobs.workers import Workers

log = logging.getLogger(__name__)


@dataclass(frozen=True)
class PictureWish:
    """A picture that somebody wants: of a frame, with settings that have a version; `first`: it had none before."""

    frame_id: int
    path: str
    settings: tuple[tuple[str, Any], ...]
    version: str
    first: bool = True


TRIMMED_TO = 0.9
"""Share of the budget that is left when pictures go, so that they go seldom."""


class Pictures:
    """Keeps one rendered picture a frame (and the one from the file until then), within a budget.

    Attributes:
        budget: bytes on disk; pictures that were not asked for the longest time go first, and are made again when needed.
    """

    def __init__(self, catalogue: Catalogue, workers: Workers) -> None:
        self._catalogue = catalogue
        self._workers = workers
        # Files are compared with those that came in here, and waited for, not on whoever asks for a picture.
        self._checks = ThreadPoolExecutor(workers.processes, thread_name_prefix="originals")
        self._lock = threading.Lock()
        self._idle = threading.Condition(self._lock)
        self._waiting: dict[int, PictureWish] = {}
        self._running: dict[int, str] = {}
        self._failed: dict[int, str] = {}
        self._listed_lock = threading.Lock()
        self._listed: dict[str, dict[int, Path]] = {}
        self._closed = False
        # Bytes on disk: counted once (see `count`), then kept by what is added; None until then.
        self._bytes: int | None = None
        self._trimming = threading.Lock()
        self.budget = 8_000_000_000
        self.counter = 0
        self.ready: dict[int, tuple[int, str]] = {}

    def file(self, frame_id: int, name: str) -> Path:
        return self._catalogue.pictures / f"{frame_id // 1000:03d}" / f"{frame_id}-{name}.jpg"

    def best(self, frame_id: int) -> Path | None:
        """The newest picture there is of a frame, whatever its version."""
        folder = self._catalogue.pictures / f"{frame_id // 1000:03d}"
        with self._listed_lock:
            listed = self._listed.get(folder.name)
            best = listed.get(frame_id) if listed is not None else None
            if listed is None or (best is not None and not best.exists()):
                # Read once a folder of a thousand frames, and again where somebody else took a picture away.
                listed = self._listed[folder.name] = _newest(folder)
                best = listed.get(frame_id)
            return best

    def _is_there(self, frame_id: int, path: Path) -> None:
        with self._listed_lock:
            listed = self._listed.get(path.parent.name)
            if listed is not None:
                listed[frame_id] = path

    def put_embedded(self, frame_id: int, data: bytes) -> None:
        write_whole(self.file(frame_id, "embedded"), data, replace=True)
        self._is_there(frame_id, self.file(frame_id, "embedded"))
        self._grown(len(data))
        self._announce(frame_id, "embedded")

    def read(self, path: Path | None) -> bytes | None:
        """A picture, which counts as used now; None when it is not there."""
        if path is None:
            return None
        try:
            data = path.read_bytes()
            # The time of its making says which is the newest of a frame; that of its use, which may go.
            os.utime(path, ns=(time.time_ns(), path.stat().st_mtime_ns))
            return data
        except OSError:
            return None

    def count(self) -> None:
        """Go through what is on disk once: until then nothing has to go. Beside other work, as it takes a while."""
        counted = sum(size for _, size, _ in _all(self._catalogue.pictures))
        with self._trimming:
            self._bytes = counted
        self._grown(0)

    def _grown(self, by: int) -> None:
        """Count what was added; make room where the budget is reached. Called from threads in the background."""
        with self._trimming:
            if self._bytes is None:
                return
            self._bytes += by
            if self._bytes <= self.budget:
                return
            files = sorted(_all(self._catalogue.pictures))
            total = sum(size for _, size, _ in files)
            for _, size, path in files:
                if total <= TRIMMED_TO * self.budget:
                    break
                Path(path).unlink(missing_ok=True)
                total -= size
            self._bytes = total

    def _announce(self, frame_id: int, name: str) -> None:
        with self._lock:
            self.counter += 1
            self.ready[frame_id] = (self.counter, name)
        self._catalogue.news.tell("pictures")

    def want(self, wishes: list[PictureWish]) -> None:
        """Ask for pictures; those that exist or failed at the same version are not made again."""
        with self._lock:
            for wish in wishes:
                known = (self._running.get(wish.frame_id), self._failed.get(wish.frame_id))
                if wish.version in known or self.file(wish.frame_id, wish.version).exists():
                    continue
                self._waiting.pop(wish.frame_id, None)
                self._waiting[wish.frame_id] = wish
            begun = self._begun()
        self._hand_out(begun)

    def _begun(self) -> list[PictureWish]:
        """The newest wishes for which processes are free; called with the lock held."""
        begun: list[PictureWish] = []
        while self._waiting and len(self._running) < self._workers.processes and not self._closed:
            frame_id = next((k for k in reversed(self._waiting) if k not in self._running), None)
            if frame_id is None:
                break
            begun.append(self._waiting.pop(frame_id))
            self._running[frame_id] = begun[-1].version
        return begun

    def _hand_out(self, begun: list[PictureWish]) -> None:
        """Without the lock: a picture may have failed before this returns."""
        for wish in begun:
            with contextlib.suppress(RuntimeError):  # the program ends
                self._checks.submit(self._work, wish)

    def _made(self, wish: PictureWish) -> dict[str, Any]:
        """A picture from a file that is still the one that came in."""
        trouble = check_frame(self._catalogue, wish.frame_id)
        if trouble:
            raise TannerError(trouble)
        return self._workers.shown(preview, wish.path, dict(wish.settings), wish.first).result()

    def _work(self, wish: PictureWish) -> None:
        failed = ""
        try:
            self._keep(wish, self._made(wish))
        except Exception as error:
            if self._closed:
                return  # the program ends: that says nothing of the file
            failed = str(error) if isinstance(error, TannerError) else f"could not be rendered ({error!r})."
            log.info("picture of %s: %s", wish.path, failed)
            try:
                self._mark(wish.frame_id, failed)
            except Exception:  # a full disk: its lane goes on with the next one all the same
                log.exception("that a picture failed could not be noted")
        with self._lock:
            self._running.pop(wish.frame_id, None)
            if failed:
                self._failed[wish.frame_id] = wish.version
            self.counter += 1
            self.ready[wish.frame_id] = (self.counter, wish.version)
            begun = self._begun()
            self._idle.notify_all()
        self._hand_out(begun)
        self._catalogue.news.tell("pictures")

    def _keep(self, wish: PictureWish, result: dict[str, Any]) -> None:
        place = self.file(wish.frame_id, wish.version)
        write_whole(place, result["jpeg"], replace=True, lasting=False)
        self._is_there(wish.frame_id, place)
        grown = len(result["jpeg"])
        for old in place.parent.glob(f"{wish.frame_id}-*.jpg"):
            if old != place:
                with contextlib.suppress(OSError):
                    size = old.stat().st_size
                    old.unlink()
                    grown -= size
        self._grown(grown)
        with self._catalogue.read() as session:
            frame = session.get(Frame, wish.frame_id)
            if frame is None or (frame.descriptor and not frame.error):
                return  # nothing new is known of it: most pictures are made anew
        with self._catalogue.write() as session:
            frame = session.get(Frame, wish.frame_id)
            if frame and not frame.descriptor and result["noise"] and frame.iso:
                TABLE.add(frame.camera, frame.iso, *result["noise"])
            if frame and not frame.descriptor and result["chart"]:
                frame.seen = {**frame.seen, "chart": True}
            if frame and not frame.descriptor and result["damage"]:
                frame.seen = {**frame.seen, "damage": result["damage"]}
            if frame and (not frame.descriptor or frame.error):
                frame.descriptor, frame.error = result["descriptor"], ""

    def _mark(self, frame_id: int, message: str) -> None:
        with self._catalogue.write() as session:
            frame = session.get(Frame, frame_id)
            if frame:
                frame.error = message

    def retry(self, frame_id: int) -> None:
        """Forget that a frame's picture failed, so that the next wish tries again."""
        with self._lock:
            self._failed.pop(frame_id, None)

    @property
    def pending(self) -> int:
        with self._lock:
            return len(self._waiting) + len(self._running)

    def since(self, counter: int) -> tuple[int, dict[int, str]]:
        """What became ready after a counter."""
        with self._lock:
            return self.counter, {k: v for k, (n, v) in self.ready.items() if n > counter}

    def wait(self, timeout_s: float = 600.0) -> bool:
        """Until nothing is wanted any more; False when it takes too long."""
        with self._idle:
            return self._idle.wait_for(lambda: self._closed or not (self._waiting or self._running), timeout_s)

    def close(self) -> None:
        with self._lock:
            self._closed = True
            self._waiting.clear()
            self._idle.notify_all()
        self._checks.shutdown(wait=False, cancel_futures=True)


def _all(folder: Path) -> Iterator[tuple[int, int, str]]:
    """Time of the last use in ns, bytes and path of every picture below a folder."""
    # A folder that is taken away meanwhile holds nothing.
    for path in folder.glob("*/*.jpg"):
        with contextlib.suppress(OSError):
            state = path.stat()
            yield state.st_atime_ns, state.st_size, str(path)


def _newest(folder: Path) -> dict[int, Path]:
    """The newest picture of each frame in a folder."""
    found: dict[int, tuple[int, Path]] = {}
    try:
        with os.scandir(folder) as entries:
            for entry in entries:
                number, _, rest = entry.name.partition("-")
                if number.isdigit() and rest.endswith(".jpg"):
                    when = entry.stat().st_mtime_ns
                    if when >= found.get(int(number), (-1, folder))[0]:
                        found[int(number)] = when, Path(entry.path)
    except OSError:
        return {}
    return {frame: path for frame, (_, path) in found.items()}


def wish_for(resolver: Resolver, frame: Frame) -> PictureWish:
    values = resolver.resolve(frame).values
    return PictureWish(frame.id, frame.path, tuple(values.items()), version(frame, values), not frame.descriptor)
