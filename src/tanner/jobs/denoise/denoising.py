"""Noise taken out ahead of time, or into quiet copies that join their originals' set.

On this machine one frame after the other; with a cluster, jobs for many frames go to its workers, a frame each.
"""

import contextlib
import json
import threading
import time
from collections.abc import Sequence
from dataclasses import dataclass, field
from pathlib import Path
from typing import Any, Literal

from pydantic import BaseModel, ConfigDict, Field
from sqlalchemy import select

from tanner.catalogue.importing import add_frame
from tanner.catalogue.models import Frame
from tanner.catalogue.originals import same_or_refused
from tanner.catalogue.store import Catalogue
from tanner.core.adjust.registry import adjustments
from tanner.core.errors import TannerError
from tanner.core.noise.controls import Noise
from tanner.core.noise.stage import cleaned_by, method_for
from tanner.core.output.files import file_hash, write_whole
from tanner.core.raw.reader import read
from tanner.jobs.cluster import Cluster
from tanner.jobs.merge.merging import Ended, ProgressFile
from tanner.jobs.recent import RecentJobs
from tanner.jobs.tasks import read_facts
from tanner.jobs.workers import Workers

THREADS = 2


class CopyOptions(BaseModel):
    """How quiet copies are made; the last ones are kept, so that again is one step.

    Attributes:
        suffix: name of a copy; {name} and {method} are filled in.
        folder: "" for beside the originals.
    """

    model_config = ConfigDict(extra="forbid")
    method: Literal["quick", "fine", "learned"] = "fine"
    luminance: float = Field(default=100, ge=0, le=100)
    colour: float = Field(default=100, ge=0, le=100)
    detail: float = Field(default=0, ge=0, le=100)
    suffix: str = Field(default="{name}-quiet", min_length=1, max_length=100)
    folder: str = Field(default="", max_length=1000)


def work_out(path: str, noise: dict[str, Any], sign: str) -> None:
    """Work a frame's method out and keep the result on disk."""
    progress = ProgressFile(Path(sign))
    source = read(Path(path))
    wanted = Noise(**noise)
    method = method_for(source, wanted)
    if method not in ("none", "quick"):
        cleaned_by(source, wanted, method, lambda share: progress(share, "working"), THREADS)


def write_copy(path: str, options: dict[str, Any], sign: str) -> dict[str, Any]:
    from tanner.core.noise.methods import Strength
    from tanner.core.noise.prepass import denoise_file

    progress = ProgressFile(Path(sign))
    chosen = CopyOptions(**options)
    strength = Strength(chosen.luminance, chosen.colour, chosen.detail)
    folder = Path(chosen.folder) if chosen.folder else None
    return denoise_file(
        Path(path), chosen.method, strength, folder, chosen.suffix, lambda share: progress(share, "working"), THREADS
    )


@dataclass
class DenoisingItem:
    """One frame of a job: its state is "waiting", "working", "done", "failed" or "cancelled"."""

    path: str
    name: str
    frame: int
    sign: ProgressFile
    noise: dict[str, Any] = field(default_factory=dict)
    state: str = "waiting"
    message: str = ""


@dataclass
class Job:
    """Frames that are worked on together; a wish is one that somebody waits for at the Bench."""

    number: int
    kind: Literal["ahead", "copies"]
    items: list[DenoisingItem]
    options: CopyOptions
    wish: bool = False
    began: float = 0.0
    cancelled: bool = False

    @property
    def over(self) -> bool:
        return all(i.state not in ("waiting", "working") for i in self.items)

    def as_dict(self) -> dict[str, Any]:
        finished = [i for i in self.items if i.state not in ("waiting", "working")]
        working = [(i.name, i.sign.read()[0]) for i in self.items if i.state == "working"]
        whole = (len(finished) + sum(share for _, share in working)) / max(1, len(self.items))
        spent = time.monotonic() - self.began if self.began else 0.0
        return {
            "id": self.number,
            "kind": self.kind,
            "over": self.over,
            "share": round(whole, 3),
            "frame_share": round(working[0][1], 3) if working else 0.0,
            "left_s": round(spent / whole - spent) if whole > 0.02 and not self.over else None,
            "current": ", ".join(name for name, _ in working) or None,
            "done": sum(i.state == "done" for i in self.items),
            "count": len(self.items),
            "failed": [{"name": i.name, "message": i.message} for i in self.items if i.state == "failed"],
            "cancelled": self.cancelled,
            "notes": list(dict.fromkeys(i.message for i in self.items if i.state == "done" and i.message)),
        }


class Denoising:
    """Jobs of a running program. Wishes of the Bench come before jobs for many, and stay on this machine.

    Args:
        cluster: where the frames of jobs for many are worked on instead.
    """

    def __init__(self, catalogue: Catalogue, cluster: Cluster | None = None) -> None:
        self._catalogue = catalogue
        self._cluster = cluster
        self._lock = threading.Lock()
        self._wake = threading.Condition(self._lock)
        self.jobs: RecentJobs[Job] = RecentJobs(busy=lambda job: not job.over)
        self._order: list[Job] = []
        self._workers: Workers | None = None
        self._threads: list[threading.Thread] = []
        self._closed = False
        self._last = catalogue.folder / "last-quiet.json"

    # --- wishes ------------------------------------------------------------------------------------

    def want(self, frame: Frame, noise: Noise) -> Job:
        """Work out one frame ahead of everything else; the same wish is not taken twice."""
        values = noise.model_dump()
        with self._lock:
            for job in self._order:
                if job.kind == "ahead" and len(job.items) == 1 and _same(job.items[0], frame.path, values):
                    return job
        return self._start("ahead", [(frame, values)], CopyOptions(), wish=True)

    def ahead(self, frames: Sequence[tuple[Frame, Noise]]) -> Job:
        """Work out many frames."""
        return self._start("ahead", [(f, n.model_dump()) for f, n in frames], CopyOptions())

    def copies(self, frames: Sequence[Frame], options: CopyOptions) -> Job:
        """Write quiet copies, which join the sets of their originals."""
        write_whole(self._last, (options.model_dump_json(indent=1) + "\n").encode(), replace=True)
        return self._start("copies", [(f, {}) for f in frames], options)

    def last(self) -> tuple[CopyOptions, bool]:
        """The options of the last copies, and whether there were any."""
        with contextlib.suppress(OSError, ValueError):
            return CopyOptions(**json.loads(self._last.read_text())), True
        return CopyOptions(), False

    def job(self, number: int) -> Job:
        found = self.jobs.get(number)
        if found is None:
            raise TannerError("This work is no longer known.")
        return found

    def cancel(self, number: int) -> None:
        job = self.job(number)
        with self._lock:
            job.cancelled = True
            for item in job.items:
                if item.state == "waiting":
                    item.state = "cancelled"
        for item in job.items:
            item.sign.end()

    # --- the work ----------------------------------------------------------------------------------

    def _start(
        self,
        kind: Literal["ahead", "copies"],
        frames: Sequence[tuple[Frame, dict[str, Any]]],
        options: CopyOptions,
        wish: bool = False,
    ) -> Job:
        with self._lock:
            job = self.jobs.add(lambda number: Job(number, kind, self._items(number, frames), options, wish))
            self._order.insert(0 if wish else len(self._order), job)
            if self._workers is None:
                self._workers = Workers(1, time_limit_s=3600)
            # Workers may have joined since the last job.
            far = 0 if self._cluster is None or wish else self._cluster.processes
            for n in range(len(self._threads), 1 + far):
                self._threads.append(threading.Thread(target=self._run, args=(n > 0,), daemon=True))
                self._threads[-1].start()
            self._wake.notify_all()
        return job

    def _items(self, number: int, frames: Sequence[tuple[Frame, dict[str, Any]]]) -> list[DenoisingItem]:
        signs = self._catalogue.folder / "work"
        return [
            DenoisingItem(f.path, f.name, f.id, ProgressFile(signs / f"quiet-{number}-{n}.txt"), noise)
            for n, (f, noise) in enumerate(frames)
        ]

    def _next(self, far: bool) -> tuple[Job, DenoisingItem] | None:
        """The next frame for this machine or for the cluster; waits for one, and ends with the program."""
        with self._wake:
            while not self._closed:
                self._order = [j for j in self._order if not j.over]
                for job in self._order:
                    if self._cluster is not None and far == job.wish:
                        continue
                    item = next((i for i in job.items if i.state == "waiting"), None)
                    if item:
                        item.state = "working"
                        job.began = job.began or time.monotonic()
                        item.sign.begin()
                        return job, item
                self._wake.wait()
        return None

    def _run(self, far: bool) -> None:
        while (found := self._next(far)) is not None:
            job, item = found
            try:
                self._work(job, item, far)
                item.state = "done"
            except Ended:
                if job.cancelled or self._closed:
                    item.state = "cancelled"
                else:
                    where = self._catalogue.folder / "work"
                    item.state, item.message = (
                        "failed",
                        f"{item.name}: the folder {where} is not there for what works on it. {_MAP}",
                    )
            except TannerError as error:
                item.state, item.message = "failed", str(error)
            except Exception as error:  # told on the screen; the others go on
                item.state, item.message = "failed", f"{item.name}: its noise could not be taken out ({error!r})."
            finally:
                item.sign.end()
                self._catalogue.news.tell("work")

    def _work(self, job: Job, item: DenoisingItem, far: bool) -> None:
        executor = self._cluster if far else self._workers
        assert executor is not None
        sign = str(item.sign.path)
        # What is written is compared by content; what is only kept, by size and time.
        same_or_refused(self._catalogue, item.frame, fully=job.kind == "copies")
        if job.kind == "ahead":
            executor.submit(work_out, item.path, item.noise, sign).result()
            return
        made = executor.submit(write_copy, item.path, job.options.model_dump(), sign).result()
        item.message = self._bring_in(Path(made["target"]), item.frame)

    def _bring_in(self, target: Path, original_id: int) -> str:
        """The copy joins the set right beside its original, developed as it; what would double is set to nothing."""
        assert self._workers is not None
        facts = self._workers.submit(read_facts, str(target)).result()
        content = file_hash(target)
        with self._catalogue.read() as session:
            original = session.get(Frame, original_id)
            if original is None:
                raise TannerError(f"{target.name} is written, but its original is no longer in the shoot.")
            shoot_id, keywords = original.shoot_id, list(original.keywords)
        frame_id = add_frame(self._catalogue, shoot_id, target, content, facts, keywords=keywords)
        with self._catalogue.write() as session:
            if frame_id is None:
                target.unlink()
                known = select(Frame.name).where(
                    Frame.shoot_id == shoot_id, Frame.content == content, Frame.alternate == 0
                )
                return f"{session.scalar(known)} is the same and was there already."
            frame, original = session.get_one(Frame, frame_id), session.get_one(Frame, original_id)
            frame.set_id, frame.follows = original.set_id, original.follows
            frame.stars, frame.label, frame.verdict = original.stars, original.label, original.verdict
            noise = {a.key: a.neutral for a in adjustments().values() if a.group == "noise" and a.name in _DOUBLE}
            frame.own = {**{k: v for k, v in original.own.items() if not k.startswith("noise.")}, **noise}
            frame.offsets = dict(original.offsets)
        return "The copies stand beside their originals; noise and hot pixels are off there, as they are done."

    def close(self) -> None:
        with self._wake:
            self._closed = True
            self._wake.notify_all()
        for job in self.jobs.all():
            for item in job.items:
                item.sign.end()
        if self._workers is not None:
            self._workers.shutdown(wait=False, cancel_futures=True)


_MAP = "With a cluster, give its workers the catalogue's folder by --map."
_DOUBLE = ("method", "hot_pixels")


def _same(item: DenoisingItem, path: str, noise: dict[str, Any]) -> bool:
    return item.path == path and item.noise == noise and item.state in ("waiting", "working")
