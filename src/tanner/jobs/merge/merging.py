"""Merging frames in a process of its own, with progress, and the result brought in beside its originals."""

import contextlib
import threading
from collections.abc import Sequence
from dataclasses import dataclass, field
from pathlib import Path
from typing import Any, Literal

from sqlalchemy import select

from tanner.catalogue.importing import add_frame
from tanner.catalogue.models import Frame
from tanner.catalogue.originals import same_or_refused
from tanner.catalogue.store import Catalogue
from tanner.core.errors import TannerError
from tanner.core.output.files import file_hash, free_name, write_whole
from tanner.jobs.recent import RecentJobs
from tanner.jobs.tasks import read_facts
from tanner.jobs.workers import Workers

Kind = Literal["sphere", "cylinder", "flat", "focus"]
MOST_PIXELS = 60_000_000
"""Of all parts together: they are held in memory at once."""


class Ended(Exception):
    """The work was cancelled."""


class ProgressFile:
    """Progress between processes, through a small file: written by the work, taken away to end it."""

    def __init__(self, path: Path) -> None:
        self.path = path

    def __call__(self, share: float, text: str) -> None:
        if not self.path.exists():
            raise Ended
        self.path.write_text(f"{share:.3f} {text}")

    def read(self) -> tuple[float, str]:
        with contextlib.suppress(OSError, ValueError):
            share, _, text = self.path.read_text().partition(" ")
            return float(share), text
        return 0.0, ""

    def begin(self) -> None:
        self.path.parent.mkdir(parents=True, exist_ok=True)
        self.path.write_text("0 beginning")

    def end(self) -> None:
        self.path.unlink(missing_ok=True)


def merge_files(paths: Sequence[str], kind: Kind, target: str, sign: str) -> dict[str, Any]:
    """Merge files into one linear DNG.

    Returns:
        width, height, used (indices of the paths that are in it).
    """
    from tanner.core.merge.focus import merged_focus
    from tanner.core.merge.frames import as_dng, one_kind, part_of
    from tanner.core.merge.panorama import stitched
    from tanner.core.raw.reader import read

    progress = ProgressFile(Path(sign))
    parts = []
    for n, path in enumerate(paths):
        progress(0.4 * n / len(paths), f"reading {Path(path).name}")
        parts.append(part_of(read(Path(path)), MOST_PIXELS // len(paths)))
    one_kind([p.facts for p in parts])

    def say(share: float, text: str) -> None:
        progress(0.4 + 0.5 * share, text)

    used = list(range(len(parts)))
    facts = parts[0].facts
    if kind == "focus":
        pixels = merged_focus(parts, say)
    else:
        pixels, used, lifted = stitched(parts, kind, say)
        facts = parts[used[0]].facts
        facts = facts.model_copy(update={"baseline_exposure": facts.baseline_exposure - lifted})
    progress(0.92, "writing")
    write_whole(Path(target), as_dng(pixels, facts), replace=False)
    return {"width": pixels.shape[1], "height": pixels.shape[0], "used": used}


@dataclass
class Merge:
    """One merge: its state is "working", "done", "failed" or "cancelled"."""

    number: int
    sign: ProgressFile
    state: str = "working"
    message: str = ""
    frame: int | None = None
    left_out: list[str] = field(default_factory=list)

    def as_dict(self) -> dict[str, Any]:
        share, text = self.sign.read()
        return {
            "id": self.number,
            "state": self.state,
            "share": round(share, 3),
            "text": self.message or text,
            "frame": self.frame,
            "left_out": self.left_out,
        }


class Merges:
    """Merges of a running program, one after the other; only the last few are remembered."""

    def __init__(self, catalogue: Catalogue) -> None:
        self._catalogue = catalogue
        self.jobs: RecentJobs[Merge] = RecentJobs(busy=lambda job: job.state == "working")
        self._lock = threading.Lock()
        self._workers: Workers | None = None

    def start(self, frames: Sequence[Frame], kind: Kind) -> Merge:
        first = frames[0]
        target = free_name(
            Path(first.path).with_name(f"{Path(first.name).stem}-{'focus' if kind == 'focus' else 'wide'}.dng")
        )
        job = self.jobs.add(lambda n: Merge(n, ProgressFile(self._catalogue.folder / "work" / f"merge-{n}.txt")))
        with self._lock:
            if self._workers is None:
                self._workers = Workers(1, time_limit_s=3600)
        job.sign.begin()
        names = [f.name for f in frames]
        paths = [f.path for f in frames]
        ids = [f.id for f in frames]
        about = first.shoot_id, first.set_id
        threading.Thread(target=self._run, args=(job, ids, paths, names, kind, target, about), daemon=True).start()
        return job

    def job(self, number: int) -> Merge:
        found = self.jobs.get(number)
        if found is None:
            raise TannerError("This merge is no longer known.")
        return found

    def cancel(self, number: int) -> None:
        job = self.job(number)
        if job.state == "working":
            job.sign.end()

    def _run(
        self,
        job: Merge,
        ids: list[int],
        paths: list[str],
        names: list[str],
        kind: Kind,
        target: Path,
        about: tuple[int, int | None],
    ) -> None:
        try:
            for frame_id in ids:
                same_or_refused(self._catalogue, frame_id, fully=True)
            assert self._workers is not None
            made = self._workers.submit(merge_files, paths, kind, str(target), str(job.sign.path)).result()
            job.left_out = [n for i, n in enumerate(names) if i not in made["used"]]
            job.frame = self._bring_in(target, *about)
            job.message = f"{target.name}, {made['width']} × {made['height']} px"
            if job.left_out:
                job.message += f"; could not be placed and left out: {', '.join(job.left_out)}"
            job.state = "done"
        except Ended:
            job.state, job.message = "cancelled", "Cancelled; nothing was written."
        except TannerError as error:
            job.state, job.message = "failed", str(error)
        except Exception as error:  # told on the screen; the program goes on
            job.state, job.message = "failed", f"The frames could not be merged ({error!r})."
        finally:
            job.sign.end()
            self._catalogue.news.tell("work")

    def _bring_in(self, target: Path, shoot_id: int, set_id: int | None) -> int | None:
        """The result joins the set of its first frame, right beside it."""
        assert self._workers is not None
        facts = self._workers.submit(read_facts, str(target)).result()
        content = file_hash(target)
        frame_id = add_frame(self._catalogue, shoot_id, target, content, facts)
        with self._catalogue.write() as session:
            if frame_id is None:
                # The same frames were joined before, to the same numbers: that one is shown, and this copy goes.
                target.unlink()
                known = select(Frame.id).where(
                    Frame.shoot_id == shoot_id, Frame.content == content, Frame.alternate == 0
                )
                return session.scalar(known)
            session.get_one(Frame, frame_id).set_id = set_id
        return frame_id

    def close(self) -> None:
        for job in self.jobs.all():
            job.sign.end()
        if self._workers is not None:
            self._workers.shutdown(wait=False, cancel_futures=True)
