"""The import job: per file hash, copy with a check, read, picture; a bad file is told and the rest goes on."""

import threading
import time
from collections.abc import Sequence
from concurrent.futures import ThreadPoolExecutor
from dataclasses import dataclass, field
from pathlib import Path
from typing import Any

from sqlalchemy import select

from tanner.catalogue.alternates import add_alternate
from tanner.catalogue.importing import add_frame, copy_in, known_contents
from tanner.catalogue.library import Library
from tanner.catalogue.models import WITH_GONE, Frame, Shoot
from tanner.catalogue.originals import facts_of
from tanner.catalogue.resolver import Resolver
from tanner.catalogue.ruling import apply_rules
from tanner.catalogue.sets import propose_sets
from tanner.catalogue.sidecars import alternates_for_import, read_for_import, sets_by_sidecar, take_over
from tanner.catalogue.store import Catalogue
from tanner.core.errors import FileError, TannerError
from tanner.core.output.files import file_hash
from tanner.core.series.preset import StoredMatch
from tanner.core.small import SMALL
from tanner.jobs.bring_in.items import ImportItem, ImportJob, items_of
from tanner.jobs.bring_in.recipe import Recipe
from tanner.jobs.match.matching import Matching
from tanner.jobs.pictures import Pictures, wish_for
from tanner.jobs.tasks import embedded_preview, read_facts
from tanner.jobs.workers import Workers

CARDS = 3
"""Imports that run at once: cards in readers of their own do not wait for one another."""


@dataclass
class Known:
    """What is in a shoot by content, and what is being brought in by any job; shared, as two cards may hold the same."""

    names: dict[str, str]
    busy: dict[str, threading.Event] = field(default_factory=dict)
    jobs: int = 0


class Importer:
    """Runs import jobs, a few at once, each two files at a time."""

    def __init__(self, catalogue: Catalogue, workers: Workers, pictures: Pictures, matching: Matching) -> None:
        self._catalogue, self._workers, self._pictures, self._matching = catalogue, workers, pictures, matching
        self._library = Library(catalogue.folder)
        self._queue = ThreadPoolExecutor(CARDS, thread_name_prefix="import")
        self.jobs: dict[int, ImportJob] = {}
        self._next = 0
        self._contents_lock = threading.Lock()
        self._known: dict[int, Known] = {}

    def start(
        self,
        shoot_id: int,
        paths: Sequence[Path],
        recipe: Recipe | None = None,
        others: Sequence[Path] = (),
    ) -> int:
        """Queue an import; its number serves to ask for progress.

        Args:
            others: sound, video and notes that are copied along.
        """
        self._next += 1
        recipe = recipe or Recipe()
        job = ImportJob(shoot_id, items_of(paths, recipe, others), recipe)
        self.jobs[self._next] = job
        self._queue.submit(self.run, job)
        return self._next

    def run(self, job: ImportJob) -> None:
        """Do an import to its end."""
        job.announce = lambda: self._catalogue.news.tell("work")
        with self._catalogue.read() as session:
            contents = known_contents(session, job.shoot_id)
            shoot = session.get(Shoot, job.shoot_id)
            job.shoot_name = shoot.name if shoot else ""
        with self._contents_lock:
            known = self._known.setdefault(job.shoot_id, Known(contents))
            known.jobs += 1
        try:
            with ThreadPoolExecutor(2, thread_name_prefix="import-file") as pool:
                list(pool.map(lambda item: self._one(job, item, known), job.items))
        finally:
            with self._contents_lock:
                known.jobs -= 1
                if not known.jobs:
                    del self._known[job.shoot_id]
        job.stage = "pictures"
        if any(i.state == "in" for i in job.items):
            self._pictures.wait()
            with self._catalogue.write() as session:
                sets_by_sidecar(session, job.shoot_id)
                propose_sets(session, job.shoot_id)
            self._by_rules(job)
        job.stage = "done"
        self._catalogue.news.tell("work")

    def _by_rules(self, job: ImportJob) -> None:
        """Presets by rule on what came in without a sidecar, and matches to references that presets store."""
        new = [i.frame_id for i in job.items if i.frame_id and i.frame_id not in job.with_sidecar]
        started = []
        try:
            with self._catalogue.write() as session:
                frames = list(session.scalars(select(Frame).where(Frame.id.in_(new))))
                resolver = Resolver(session, job.shoot_id)
                stored = resolver.shoot.preset.get("match")
                wanted = [(StoredMatch(**stored), resolver.shoot.preset["name"], new)] if stored and new else []
                if job.recipe.rules:
                    action, presets = apply_rules(session, resolver, frames, self._library)
                    wanted += [(p.match, p.name, ids) for p, ids in presets if p.match]
                    job.ruled = "presets were put on by the rules" if action else "no rule fitted"
            for match, name, ids in wanted:
                with self._catalogue.read() as session:
                    frames = list(session.scalars(select(Frame).where(Frame.id.in_(ids))))
                    started.append(self._matching.start_stored(match, name, frames, Resolver(session, job.shoot_id)))
        except TannerError as error:
            job.ruled = str(error)
        for match_job in started:
            job.stage = "matching"
            while not match_job.over:
                if job.cancelled.is_set():
                    match_job.cancelled = True
                time.sleep(0.05)
            job.ruled = f"{job.ruled} {match_job.message}".strip()

    def _one(self, job: ImportJob, item: ImportItem, known: Known) -> None:
        if job.cancelled.is_set():
            item.state = "left"
            return
        item.state = "working"
        try:
            self._bring_in(job, item, known)
        except FileError as error:
            item.state, item.message = "failed", error.reason
        except TannerError as error:
            item.state, item.message = "failed", str(error)
        except Exception as error:  # told beside the file; the others go on
            item.state, item.message = "failed", f"could not be brought in ({error!r})."
        finally:
            job.touch(item)

    def _bring_in(self, job: ImportJob, item: ImportItem, known: Known) -> None:
        if item.other:
            target = job.recipe.target(item.path, job.recipe.values(item.path, None, item.number, job.shoot_name))
            self._copied(job.recipe, item.path, target.with_name(item.path.name), item)
            item.state = "copied"
            return
        content = file_hash(item.path)
        while True:
            with self._contents_lock:
                already, busy = known.names.get(content), known.busy.get(content)
                if not already and busy is None:
                    mine = known.busy[content] = threading.Event()
                    break
            if already:
                item.state, item.message = "already", f"is in as {already}"
                return
            # The same picture is being brought in under another name: only when that is done is it known to be in.
            if busy is not None:
                busy.wait()
        try:
            # Read before it is copied: a file that cannot be read is not wanted in the folder.
            facts = self._workers.submit(read_facts, str(item.path)).result()
            path = item.path
            sidecar, mark, trouble = read_for_import(item.path)
            said: list[str] = []
            if job.recipe.copy_to:
                path, said = self._copies(job, item, content, facts)
            frame_id = add_frame(
                self._catalogue,
                job.shoot_id,
                path,
                content,
                facts,
                keywords=job.recipe.keywords,
                words=job.recipe.words,
            )
            with self._contents_lock:
                known.names[content] = item.path.name
        finally:
            with self._contents_lock:
                known.busy.pop(content, None)
            mine.set()
        if frame_id is None:
            item.state, item.message = "already", "is in already"
            return
        item.frame_id, item.state, item.message = frame_id, "in", " ".join(filter(None, [trouble, *said]))
        if sidecar:
            job.with_sidecar.add(frame_id)
            with self._catalogue.write() as session:
                take_over(session.get_one(Frame, frame_id), sidecar, "" if job.recipe.copy_to else mark)
        self._bring_alternates(job, item, frame_id)
        small = self._workers.submit(embedded_preview, str(path)).result()
        if small:
            self._pictures.put_embedded(frame_id, small)
        with self._catalogue.read() as session:
            frame = session.get(Frame, frame_id)
            if frame:
                self._pictures.want([wish_for(Resolver(session, job.shoot_id), frame)])

    def _copies(self, job: ImportJob, item: ImportItem, content: str, facts: dict[str, Any]) -> tuple[Path, list[str]]:
        """The checked copy of a file, with its companions and the second ones; what of these could not be copied is said."""
        recipe = job.recipe
        target = recipe.target(item.path, recipe.values(item.path, facts_of(facts), item.number, job.shoot_name))
        path, copied = copy_in(item.path, target, content)
        if copied != content:
            raise TannerError("changed while it was copied. Import it again.")
        said = [self._second(recipe, item.path, path)]
        for companion in item.companions:
            # Named as the frame is named now, so that they stay together.
            said.append(self._copied(recipe, companion, path.with_suffix(companion.suffix)))
        return path, [s for s in said if s]

    def _copied(self, recipe: Recipe, source: Path, target: Path, item: ImportItem | None = None) -> str:
        """Copy a file that is no frame, unless it lies there already; what went wrong, or raised for an item of its own."""
        try:
            path, _ = copy_in(source, target, file_hash(source))
        except TannerError as error:
            if item is not None:
                raise
            return f"{source.name}: {error.reason if isinstance(error, FileError) else error}"
        said = self._second(recipe, source, path)
        if item is not None:
            item.message = said
        return said

    def _second(self, recipe: Recipe, source: Path, first: Path) -> str:
        """The second copy, at the same place below its folder; what went wrong, in words: the first stays."""
        if not recipe.second:
            return ""
        try:
            there = Path(recipe.second) / first.relative_to(recipe.copy_to)
            copy_in(source, there, file_hash(first))
        except (TannerError, ValueError) as error:
            return f"Its second copy failed: {error.reason if isinstance(error, FileError) else error}"
        return ""

    def _bring_alternates(self, job: ImportJob, item: ImportItem, frame_id: int) -> None:
        """Alternates that sidecars beside the file tell of."""
        for number, sidecar, mark in alternates_for_import(item.path):
            with self._catalogue.write() as session:
                source = session.get_one(Frame, frame_id)
                query = select(Frame).where(
                    Frame.shoot_id == job.shoot_id, Frame.content == source.content, Frame.alternate == number
                )
                made = session.scalar(query, execution_options=WITH_GONE) or add_alternate(session, source, number)
                made.gone, made.path, made.set_id = False, source.path, None
                take_over(made, sidecar, "" if job.recipe.copy_to else mark)
                job.with_sidecar.add(made.id)

    def finish_interrupted(self) -> None:
        """After a start: frames that an ended program left without a set get their pictures and sets."""
        with self._catalogue.read() as session:
            query = select(Frame).where(Frame.set_id.is_(None), Frame.error == "")
            lonely = list(session.scalars(query))
            for shoot_id in {f.shoot_id for f in lonely}:
                resolver = Resolver(session, shoot_id)
                self._pictures.want([wish_for(resolver, f) for f in lonely if f.shoot_id == shoot_id])
        if not lonely:
            return

        def propose() -> None:
            self._pictures.wait()
            for shoot_id in {f.shoot_id for f in lonely}:
                with self._catalogue.write() as session:
                    sets_by_sidecar(session, shoot_id)
                    propose_sets(session, shoot_id)

        self._queue.submit(propose)

    def close(self) -> None:
        for job in self.jobs.values():
            job.cancelled.set()
        self._queue.shutdown(wait=False, cancel_futures=True)


def import_now(
    data: Path,
    shoot_name: str,
    paths: Sequence[Path],
    copy_to: Path | None = None,
    keywords: Sequence[str] = (),
    workers: Workers | None = None,
    rules: bool = False,
    recipe: Recipe | None = None,
    others: Sequence[Path] = (),
) -> ImportJob:
    """Bring files into a shoot by name, and wait for the end: the command line's way.

    Args:
        workers: processes that are there already; they stay.
        recipe: in place of copy_to, keywords and rules.
    """
    recipe = recipe or Recipe(copy_to=str(copy_to or ""), keywords=list(keywords), rules=rules)
    catalogue = Catalogue(data)
    if workers is None:
        SMALL.folder = data / "small"
    own, workers = workers is None, workers or Workers(2)
    pictures = Pictures(catalogue, workers)
    importer = Importer(catalogue, workers, pictures, Matching(catalogue, workers))
    try:
        with catalogue.write() as session:
            shoot = session.scalars(select(Shoot).where(Shoot.name == shoot_name)).first()
            if shoot is None:
                shoot = Shoot(name=shoot_name)
                session.add(shoot)
                session.flush()
            shoot.away = False  # who brings frames into it wants to see it
            shoot_id = shoot.id
        job = ImportJob(shoot_id, items_of(paths, recipe, others), recipe)
        importer.run(job)
        return job
    finally:
        importer.close()
        pictures.close()
        if own:
            workers.shutdown()
        catalogue.close()
