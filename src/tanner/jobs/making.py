"""A shoot whose files are made while Tanner runs: one after the other at low priority, then brought in."""

import logging
import os
import threading
from collections.abc import Callable, Sequence
from dataclasses import dataclass, field
from functools import cache
from pathlib import Path
from typing import Any

from sqlalchemy import select

from tanner.catalogue.models import Frame, FrameSet, Shoot
from tanner.catalogue.store import Catalogue
from tanner.core.errors import TannerError
from tanner.core.output.files import write_whole
from tanner.jobs.bring_in.imports import Importer
from tanner.jobs.bring_in.recipe import Recipe
from tanner.jobs.workers import Workers

log = logging.getLogger(__name__)


@dataclass(frozen=True)
class ShootPlan:
    """What is to be made.

    Attributes:
        shoot: its name; steps: for each file its path, and a function with its arguments that writes it whole.
        sets: what the set of a file is called, by the file's name.
    """

    shoot: str
    steps: Sequence[tuple[Path, Callable[..., Any], tuple[Any, ...]]]
    sets: dict[str, str] = field(default_factory=dict)


@cache
def _step_back() -> None:
    os.nice(15)


def _make(function: Callable[..., Any], args: tuple[Any, ...]) -> None:
    _step_back()
    function(*args)


class Making:
    """Works a plan off in a thread and one process of its own. What is there already is not made again.

    What was brought in once is not brought in again: who removes its frames does not get them back at the next start.

    Args:
        planned: makes the plan; called in the thread, so that no start waits for it.
    """

    def __init__(self, catalogue: Catalogue, importer: Importer, planned: Callable[[], ShootPlan]) -> None:
        self._catalogue, self._importer, self._planned = catalogue, importer, planned
        self.plan: ShootPlan | None = None
        self._mark = catalogue.folder / "made"
        self.done, self.failed, self.over = 0, list[str](), False
        self._stopped = threading.Event()
        self._workers = Workers(1)
        self._thread = threading.Thread(target=self._run, daemon=True, name="making")

    def start(self) -> None:
        self._thread.start()

    def cancel(self) -> None:
        """Stop after the file that is being made; the next start of Tanner goes on from there."""
        self._stopped.set()

    def wait(self) -> None:
        self._thread.join()

    def close(self) -> None:
        self._stopped.set()
        self._workers.shutdown(wait=False, cancel_futures=True)

    def _run(self) -> None:
        try:
            if not self._mark.exists():
                self.plan = plan = self._planned()
                self._make_all(plan)
                if not self._stopped.is_set():
                    self._bring_in(plan)
                if not self._stopped.is_set():
                    write_whole(self._mark, f"{plan.shoot}\n".encode(), replace=True)
        except BaseException as error:  # the end of the program, or a fault: it is told, and nothing else depends on it
            log.info("a shoot could not be made: %r", error)
            if not self._stopped.is_set():
                self.failed.append(str(error) or type(error).__name__)
        finally:
            self.over = True
            self._catalogue.news.tell("work")
            self._workers.shutdown(wait=False, cancel_futures=True)

    def _make_all(self, plan: ShootPlan) -> None:
        for path, function, args in plan.steps:
            if self._stopped.is_set():
                return
            if not path.exists():
                try:
                    self._workers.submit(_make, function, args).result()
                except (TannerError, OSError) as error:
                    self.failed.append(f"{path.name}: {error}")
            self.done += 1
            self._catalogue.news.tell("work")

    def _bring_in(self, plan: ShootPlan) -> None:
        with self._catalogue.write() as session:
            shoot = session.scalars(select(Shoot).where(Shoot.name == plan.shoot)).first()
            if shoot is None:
                shoot = Shoot(name=plan.shoot)
                session.add(shoot)
                session.flush()
            number = shoot.id
        paths = sorted(path for path, _, _ in plan.steps if path.exists())
        job = self._importer.jobs[self._importer.start(number, paths, Recipe(rules=True))]
        while job.stage != "done" and not self._stopped.wait(0.2):
            pass
        with self._catalogue.write() as session:
            for group in session.scalars(select(FrameSet).where(FrameSet.shoot_id == number)):
                first = session.scalars(select(Frame).where(Frame.set_id == group.id).order_by(Frame.taken)).first()
                group.name = plan.sets.get(first.name, group.name) if first else group.name
        self._catalogue.touch()
