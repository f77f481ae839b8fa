"""A shoot's originals read and compared with what came in, behind the scenes."""

import threading
import time
from dataclasses import dataclass, field
from pathlib import Path
from typing import Any

from tanner.catalogue.originals import check_frame, originals_of
from tanner.catalogue.store import Catalogue
from tanner.core.errors import TannerError
from tanner.jobs.recent import RecentJobs


@dataclass
class Check:
    """One check: `troubles` are {frame, name, trouble} of those that are not as they came in."""

    number: int
    shoot: int
    count: int
    done: int = 0
    troubles: list[dict[str, Any]] = field(default_factory=list)
    over: bool = False
    cancelled: bool = False
    began: float = field(default_factory=time.monotonic)

    def as_dict(self) -> dict[str, Any]:
        spent = time.monotonic() - self.began
        return {
            "id": self.number,
            "shoot": self.shoot,
            "count": self.count,
            "done": self.done,
            "over": self.over,
            "cancelled": self.cancelled,
            "left_s": round(spent / self.done * (self.count - self.done)) if self.done and not self.over else None,
            "troubles": self.troubles,
            "message": self._said() if self.over else "",
        }

    def _said(self) -> str:
        good = f"{self.done - len(self.troubles)} of {self.count} originals are as they came in"
        if self.cancelled:
            return f"Cancelled. {good}; the rest was not looked at."
        wrong = len(self.troubles)
        return f"{good}; {wrong} {'is' if wrong == 1 else 'are'} not." if wrong else f"{good}."


class Checks:
    """Checks of a running program, one at a time: a disk that is read in two places is slower than in one."""

    def __init__(self, catalogue: Catalogue) -> None:
        self._catalogue = catalogue
        self.jobs: RecentJobs[Check] = RecentJobs(busy=lambda check: not check.over)
        self._turn = threading.Lock()

    def start(self, shoot_id: int) -> Check:
        """Begin; a shoot that is being checked already is not begun twice."""
        running = next((c for c in self.jobs.all() if c.shoot == shoot_id and not c.over), None)
        if running is not None:
            return running
        frames = originals_of(self._catalogue, shoot_id)
        if not frames:
            raise TannerError("There are no frames in this shoot.")
        check = self.jobs.add(lambda n: Check(n, shoot_id, len(frames)))
        threading.Thread(target=self._run, args=(check, frames), daemon=True).start()
        return check

    def check(self, number: int) -> Check:
        found = self.jobs.get(number)
        if found is None:
            raise TannerError("This check is no longer known.")
        return found

    def cancel(self, number: int) -> None:
        self.check(number).cancelled = True

    def _run(self, check: Check, frames: list[tuple[int, str]]) -> None:
        with self._turn:
            for frame_id, path in frames:
                if check.cancelled:
                    break
                try:
                    trouble = check_frame(self._catalogue, frame_id, fully=True)
                except Exception as error:  # told of this frame; the others are looked at
                    trouble = str(error)
                if trouble:
                    check.troubles.append({"frame": frame_id, "name": Path(path).name, "trouble": trouble})
                check.done += 1
                self._catalogue.news.tell("work")
            check.over = True
            self._catalogue.news.tell("work")

    def close(self) -> None:
        for check in self.jobs.all():
            check.cancelled = True
