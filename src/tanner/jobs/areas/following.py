"""Looks for a lead's areas and spots in its followers: in the background, as soon as one is there that has to be looked for.

What is found is no step of the history: it is worked out, not chosen, and can be worked out again. It is kept with each
follower, so that sidecars and files show the same without the lead.
"""

import json
import logging
import threading
import time
from collections.abc import Iterable, Iterator, Mapping, Sequence
from concurrent.futures import Future
from dataclasses import dataclass, field
from typing import Any

from sqlalchemy import select

from tanner.catalogue.models import Frame
from tanner.catalogue.originals import same_or_refused
from tanner.catalogue.resolver import Resolver
from tanner.catalogue.store import Catalogue
from tanner.core.adjust.items import grouped
from tanner.core.areas.place import SURE
from tanner.core.areas.shapes import held_to_subject
from tanner.core.errors import TannerError
from tanner.core.spots.declare import judgement, stamp
from tanner.jobs.areas.tasks import found_again
from tanner.jobs.recent import RecentJobs
from tanner.jobs.workers import Workers

log = logging.getLogger(__name__)
QUIET = 1.2
"""Seconds without a change before anything is looked for: a brush is still at work."""
AT_ONCE = 4
"""Frames that are handed to the workers at a time, so that what somebody waits for comes between."""


@dataclass(frozen=True)
class Wanted:
    """Areas and spots of a lead that are to be found in a frame."""

    lead: int
    idents: tuple[str, ...]
    frame: int
    spots: tuple[str, ...] = ()


@dataclass
class FindJob:
    """One search through the followers of a shoot.

    Attributes:
        rows: a line a frame: {"frame", "name", "found": {id: how sure}, "left": spots left alone} or {"error"}.
    """

    number: int
    shoot: int
    count: int
    began: float = field(default_factory=time.monotonic)
    rows: list[dict[str, Any]] = field(default_factory=list)
    over: bool = False
    cancelled: bool = False

    def as_dict(self) -> dict[str, Any]:
        spent, done = time.monotonic() - self.began, len(self.rows)
        left = round(spent / done * (self.count - done)) if done and not self.over else None
        lost = [r["name"] for r in self.rows if any(s < SURE for s in r.get("found", {}).values())]
        return {
            "id": self.number, "shoot": self.shoot, "count": self.count, "done": done, "over": self.over,
            "cancelled": self.cancelled, "left_s": left, "lost": lost, "rows": self.rows, "message": self._said(lost),
        }  # fmt: skip

    def _said(self, lost: Sequence[str]) -> str:
        if not self.over:
            return ""
        good = sum("found" in r for r in self.rows) - len(lost)
        said = f"Found in {good} of {self.count} {'frame' if self.count == 1 else 'frames'}"
        if lost:
            said += f"; off where they are not found: {_names(lost)}"
        left = [f"{r['name']} ({r['left']})" for r in self.rows if r.get("left")]
        if left:
            said += f"; spots left alone in {_names(left)}"
        return ("Cancelled. " if self.cancelled else "") + said + "."


def _names(names: Sequence[str]) -> str:
    return ", ".join(names[:5]) + (" and others" if len(names) > 5 else "")


def wanted_in(resolver: Resolver, frames: Iterable[Frame], *, anew: Sequence[str] | None = None) -> list[Wanted]:
    """What is to be looked for in frames: areas of their leads that hold to a subject and were not found yet.

    Args:
        anew: ids of areas that are looked for even where they were found.
    """
    result = []
    for frame in frames:
        chain = resolver.chain(frame)
        led = resolver.led_by(frame) if chain else {}
        by_lead: dict[int, tuple[list[str], list[str]]] = {}
        for part, ident in [(0, i) for i in _areas_wanted(led, frame, anew)] + [
            (1, i) for i in _spots_wanted(led, frame, anew)
        ]:
            # The nearest lead that drew it.
            key = f"spots/{ident}/path" if part else f"areas/{ident}/shapes"
            of = next((c for c in chain if key in c.own), None)
            if of is not None:
                by_lead.setdefault(of.id, ([], []))[part].append(ident)
        result += [Wanted(of, tuple(areas), frame.id, tuple(spots)) for of, (areas, spots) in by_lead.items()]
    return result


def _areas_wanted(led: Mapping[str, Any], frame: Frame, anew: Sequence[str] | None) -> Iterator[str]:
    for ident, values in grouped(led, "areas").items():
        if not values.get("kind") or not held_to_subject(values.get("shapes", ())):
            continue
        own = grouped(frame.own, "areas").get(ident, {})
        if "shapes" in own or own.get("present") is False:
            continue
        if own.get("found") and own["found"][8] >= 0 and ident not in (anew or ()):
            continue
        if anew is None or ident in anew:
            yield ident


def _spots_wanted(led: Mapping[str, Any], frame: Frame, anew: Sequence[str] | None) -> Iterator[str]:
    own = grouped(frame.own, "spots")
    for ident, values in grouped(led, "spots").items():
        mine = own.get(ident, {})
        if not values.get("kind") or "path" in mine or mine.get("present") is False:
            continue
        # What was found is good for the spot as it lay then.
        if judgement(mine.get("judged", ""))[0] == stamp(values) and ident not in (anew or ()):
            continue
        if anew is None or ident in anew:
            yield ident


def _row(found: Mapping[str, Any]) -> dict[str, Any]:
    """What a frame's line says: how sure each area is, and how many spots are left alone."""
    areas = {k.split("/")[1]: v[8] for k, v in found.items() if k.startswith("areas/")}
    return {"found": areas, "left": sum(bool(judgement(v)[1]) for k, v in found.items() if k.endswith("/judged"))}


class Following:
    """Searches of a running program."""

    def __init__(self, catalogue: Catalogue, workers: Workers) -> None:
        self._catalogue = catalogue
        self._workers = workers
        self.jobs: RecentJobs[FindJob] = RecentJobs(busy=lambda job: not job.over)
        self._shoots: set[int] = set()
        self._lock = threading.Lock()
        self._wake = threading.Event()
        self._closed = False
        # Frames that could not be searched are not tried again by themselves.
        self._failed: set[Wanted] = set()
        self._thread: threading.Thread | None = None

    def consider(self, shoots: Iterable[int]) -> None:
        """Something changed in shoots: followers may have to be searched. Returns at once."""
        with self._lock:
            if self._closed:
                return
            self._shoots |= set(shoots)
            self._wake.set()
            if self._thread is None:
                self._thread = threading.Thread(target=self._watch, daemon=True, name="areas")
                self._thread.start()

    def _watch(self) -> None:
        while not self._closed:
            self._wake.wait()
            while not self._closed and self._wake.is_set():
                self._wake.clear()
                self._wake.wait(QUIET)
            with self._lock:
                shoots, self._shoots = self._shoots, set()
            for shoot in shoots:
                if self._closed:
                    return
                try:
                    self.look(shoot)
                except Exception as error:  # a shoot that is gone, a catalogue that was closed: the next one goes on
                    log.info("areas of shoot %s were not looked for: %r", shoot, error)

    def look(self, shoot: int, frames: Sequence[int] = (), anew: Sequence[str] | None = None) -> FindJob | None:
        """Look for what is missing in a shoot's followers, or anew in some frames; until it is done. None: nothing to do."""
        with self._catalogue.read() as session:
            resolver = Resolver(session, shoot)
            if not any(k.endswith(("/shapes", "/path")) for lead in resolver.leads.values() for k in lead.own):
                return None
            query = select(Frame).where(Frame.shoot_id == shoot, Frame.set_id.is_not(None), Frame.follows)
            if frames:
                query = query.where(Frame.id.in_(frames))
            wanted = wanted_in(resolver, session.scalars(query), anew=anew)
            wanted = [w for w in wanted if anew is not None or w not in self._failed]
            if not wanted:
                return None
            leads = {i: self._settings(resolver, session.get_one(Frame, i)) for i in {w.lead for w in wanted}}
            names = {
                w.frame: (session.get_one(Frame, w.frame).name, session.get_one(Frame, w.frame).path) for w in wanted
            }
        return self._searched(shoot, wanted, leads, names)

    def carried(self, source: int, frames: Sequence[int], idents: Sequence[str]) -> None:
        """Look, in the background, for areas that were carried over from a frame to frames that do not follow it."""
        threading.Thread(target=self._look_from, args=(source, frames, tuple(idents)), daemon=True).start()

    def _look_from(self, source: int, frames: Sequence[int], idents: tuple[str, ...]) -> None:
        with self._catalogue.read() as session:
            lead = session.get_one(Frame, source)
            leads = {source: self._settings(Resolver(session, lead.shoot_id), lead)}
            targets = [session.get_one(Frame, i) for i in frames if i != source]
            # Those that follow get it from their lead.
            wanted = [
                Wanted(source, idents, f.id) for f in targets if any(f"areas/{i}/shapes" in f.own for i in idents)
            ]
            names = {f.id: (f.name, f.path) for f in targets}
            shoot = lead.shoot_id
        if wanted:
            self._searched(shoot, wanted, leads, names)

    def start(self, shoot: int, frames: Sequence[int], anew: Sequence[str]) -> None:
        """The same in the background."""
        threading.Thread(target=self.look, args=(shoot, frames, anew), daemon=True).start()

    def _settings(self, resolver: Resolver, lead: Frame) -> tuple[str, str]:
        values = resolver.resolve(lead).values
        kept = {
            k: v
            for k, v in values.items()
            if k.startswith(("areas/", "spots/")) or k.split(".")[0] in ("light", "white", "crop")
        }
        return lead.path, json.dumps(kept, sort_keys=True)

    def _searched(
        self,
        shoot: int,
        wanted: list[Wanted],
        leads: Mapping[int, tuple[str, str]],
        names: Mapping[int, tuple[str, str]],
    ) -> FindJob:
        """The job of a search, when it is done.

        Args:
            leads: their paths and settings; names: name and path of frames.
        """
        job = self.jobs.add(lambda n: FindJob(n, shoot, len(wanted)))
        try:
            self._run(job, wanted, leads, names)
        finally:
            job.over = True
            self._catalogue.news.tell("work")
        return job

    def _run(
        self,
        job: FindJob,
        wanted: list[Wanted],
        leads: Mapping[int, tuple[str, str]],
        names: Mapping[int, tuple[str, str]],
    ) -> None:
        for first in range(0, len(wanted), AT_ONCE):
            part = wanted[first : first + AT_ONCE]
            if job.cancelled or self._closed:
                return
            waiting = [(w, self._begun(w, leads[w.lead], names[w.frame][1])) for w in part]
            found: dict[int, Mapping[str, Any]] = {}
            for each, future in waiting:
                row: dict[str, Any] = {"frame": each.frame, "name": names[each.frame][0]}
                try:
                    found[each.frame] = future.result()
                    row |= _row(found[each.frame])
                except Exception as error:  # told for this frame; the others go on
                    self._failed.add(each)
                    row["error"] = (
                        str(error) if isinstance(error, TannerError) else f"could not be searched ({error!r})"
                    )
                job.rows.append(row)
            self._keep(found)

    def _begun(self, wanted: Wanted, lead: tuple[str, str], path: str) -> Future[Mapping[str, Any]]:
        try:
            for frame in (wanted.lead, wanted.frame):
                same_or_refused(self._catalogue, frame)
        except TannerError as error:
            refused: Future[Mapping[str, Any]] = Future()
            refused.set_exception(error)
            return refused
        return self._workers.submit(found_again, lead[0], lead[1], list(wanted.idents), list(wanted.spots), path)

    def _keep(self, found: Mapping[int, Mapping[str, Any]]) -> None:
        with self._catalogue.write() as session:
            for frame_id, values in found.items():
                frame = session.get(Frame, frame_id)
                if frame is not None:
                    frame.own = {**frame.own, **values}

    def cancel(self, number: int) -> None:
        job = self.jobs.get(number)
        if job is None:
            raise TannerError("This search is no longer known.")
        job.cancelled = True

    def close(self) -> None:
        self._closed = True
        self._wake.set()
