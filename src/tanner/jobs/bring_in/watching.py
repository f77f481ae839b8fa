"""A watched folder: raws that appear in it are brought in, developed by rule, and delivered by the specs that were chosen.

It is looked at by asking, twice a second: events of the file system do not come from network drives and cards.
"""

import json
import logging
import threading
import time
from collections.abc import Callable
from pathlib import Path
from typing import Any

from pydantic import BaseModel, ConfigDict, Field, ValidationError
from sqlalchemy import select

from tanner.catalogue.importing import find_files
from tanner.catalogue.models import Delivery, Frame, Shoot
from tanner.catalogue.store import Catalogue
from tanner.core.errors import TannerError
from tanner.core.output.files import write_whole
from tanner.core.output.spec import OutputSpec
from tanner.jobs.bring_in.imports import Importer
from tanner.jobs.bring_in.items import ImportJob
from tanner.jobs.bring_in.recipe import Recipe
from tanner.jobs.delivery.deliveries import Deliveries

log = logging.getLogger(__name__)
EVERY_S = 0.5
MOST_AT_ONCE = 50


class Watch(BaseModel):
    """What is watched, and what becomes of what appears.

    Attributes:
        folder: looked at with all below it; shoot_id: where frames go.
        copy_to: checked copies are taken there; empty: frames stay where they lie.
        rules: presets are put on by the rules that are kept.
        specs, to: what is delivered, and where; none: nothing is.
    """

    model_config = ConfigDict(extra="forbid")

    folder: str
    shoot_id: int
    copy_to: str = ""
    keywords: list[str] = Field(default=[], max_length=50)
    rules: bool = True
    specs: list[OutputSpec] = Field(default=[], max_length=20)
    to: str = ""
    delivery: int | None = None


class Watching:
    """Watches at most one folder; what is watched outlives a restart.

    A file is taken once its size and time have stayed the same between two looks. What is in already is known by content,
    so that nothing comes in twice.
    """

    def __init__(self, catalogue: Catalogue, importer: Importer, deliveries: Deliveries) -> None:
        self._catalogue, self._importer, self._deliveries = catalogue, importer, deliveries
        self._file = catalogue.folder / "watch.json"
        self._stop = threading.Event()
        self._thread: threading.Thread | None = None
        self._lock = threading.Lock()
        self.watch: Watch | None = None
        self.taken = 0
        self.failed: dict[str, str] = {}
        self.trouble = ""

    def begin(self, watch: Watch) -> None:
        """Watch a folder from now on; files that lie there are brought in, too."""
        if watch.specs and not watch.to:
            raise TannerError("Choose a folder to deliver to.")
        find_files(Path(watch.folder))
        target = Path(watch.to) if watch.specs else None
        if target and (target == Path(watch.folder) or Path(watch.folder) in target.parents):
            raise TannerError("Finished files would appear in the watched folder itself. Deliver to another one.")
        with self._catalogue.read() as session:
            if session.get(Shoot, watch.shoot_id) is None:
                raise TannerError("This shoot is no longer there.")
        self.end()
        self._keep(watch)
        self._run()

    def resume(self) -> None:
        """After a start: go on with what was watched when the program ended."""
        try:
            self.watch = Watch.model_validate_json(self._file.read_bytes())
        except (OSError, ValidationError):
            return
        self._run()

    def end(self) -> None:
        """Watch no longer; what is being brought in comes to its end."""
        self.close()
        self.watch = None
        self._file.unlink(missing_ok=True)

    def close(self) -> None:
        self._stop.set()
        if self._thread and self._thread is not threading.current_thread():
            self._thread.join(timeout=5)
        self._thread = None

    def report(self) -> dict[str, Any]:
        """What is watched, how many frames came in, and what could not be read."""
        with self._lock:
            return {
                "watch": self.watch.model_dump() if self.watch else None,
                "taken": self.taken,
                "failed": [f"{Path(p).name}: {m}" for p, m in self.failed.items()],
                "trouble": self.trouble,
            }

    def _keep(self, watch: Watch) -> None:
        self.watch = watch
        write_whole(self._file, json.dumps(watch.model_dump(), indent=1).encode(), replace=True)

    def _run(self) -> None:
        self._stop = threading.Event()
        self.taken, self.failed, self.trouble = 0, {}, ""
        self._thread = threading.Thread(target=self._look, args=(self._stop,), name="watch", daemon=True)
        self._thread.start()

    def _look(self, stop: threading.Event) -> None:
        seen: dict[Path, tuple[int, float]] = {}
        settled: set[tuple[Path, int, float]] = set()
        while not stop.wait(EVERY_S):
            watch = self.watch
            if watch is None:
                return
            try:
                now = {}
                for found in find_files(Path(watch.folder)):
                    state = found.path.stat()
                    now[found.path] = state.st_size, state.st_mtime
                self.trouble = ""
            except (TannerError, OSError) as error:
                self.trouble = str(error)  # a drive that is away may come back
                continue
            new = [p for p, mark in now.items() if mark[0] and seen.get(p) == mark and (p, *mark) not in settled]
            seen = now
            if not new:
                continue
            new = new[:MOST_AT_ONCE]
            try:
                self._take(watch, new, stop.is_set)
            except Exception as error:
                log.exception("watched folder")
                self.trouble = str(error)
            settled |= {(p, *now[p]) for p in new}

    def _take(self, watch: Watch, paths: list[Path], stopped: Callable[[], bool]) -> None:
        """Bring files in, and hand their frames to the delivery."""
        recipe = Recipe(copy_to=watch.copy_to, keywords=watch.keywords, rules=watch.rules, companions="apart")
        number = self._importer.start(watch.shoot_id, paths, recipe)
        job: ImportJob = self._importer.jobs[number]
        while job.stage != "done":
            if stopped() and job.cancelled.is_set():
                return
            time.sleep(0.05)
        new = [i.frame_id for i in job.items if i.state == "in" and i.frame_id]
        with self._lock:
            self.taken += len(new)
            for item in job.items:
                self.failed.pop(str(item.path), None)
                if item.state == "failed":
                    self.failed[str(item.path)] = item.message
        if new and watch.specs:
            self._deliver(watch, new)

    def _deliver(self, watch: Watch, new: list[int]) -> None:
        """One delivery for all that a watch brings in, in the order in which they were taken."""
        with self._catalogue.read() as session:
            query = select(Frame.id).where(Frame.id.in_(new), Frame.error == "").order_by(Frame.taken, Frame.name)
            frames = list(session.scalars(query))
            there = watch.delivery is not None and session.get(Delivery, watch.delivery) is not None
        if not there:
            number = self._deliveries.create(watch.shoot_id, [], watch.specs, Path(watch.to), queue=False)
            watch = watch.model_copy(update={"delivery": number})
            self._keep(watch)
        if watch.delivery is not None:
            self._deliveries.extend(watch.delivery, frames)
