"""Readings of areas for the Line-up: measured in worker processes, remembered by what each frame looks like."""

import json
import threading
from collections import OrderedDict
from collections.abc import Callable, Hashable, Sequence
from concurrent.futures import Future
from dataclasses import dataclass, replace
from functools import partial
from pathlib import Path
from typing import Any

import numpy as np
from sqlalchemy import select

from tanner.catalogue.models import Frame, FrameSet, Shoot
from tanner.catalogue.originals import check_frame, stamp_of
from tanner.catalogue.resolver import Resolver, version
from tanner.catalogue.store import Catalogue
from tanner.core.adjust.registry import develop
from tanner.core.colour.difference import ciede2000
from tanner.core.errors import TannerError
from tanner.core.render.masking import named
from tanner.core.series.kinds import AREA, Box
from tanner.core.series.lineup import Reading, line_up
from tanner.core.series.resolve import resolve
from tanner.core.small import SMALL
from tanner.jobs.match.matching import MatchWish, Reference, reading_of
from tanner.jobs.workers import Workers

MOST = 20_000
LINES = 16
"""Sets whose plans are kept while nothing is written."""
Step = tuple[Frame, Reference | None, MatchWish, str]
"""A frame, what it is held against, how it looks, and a key of both."""


def plan(
    resolver: Resolver, frames: Sequence[Frame], lead: Frame | None, box: Box | None, kind: str = "backdrop"
) -> list[Step]:
    """What has to be measured for each frame, with a key that changes when its look does."""
    start = None
    mark: str = kind
    if (box or kind == "backdrop") and lead is not None:
        values = resolver.resolve(lead).values
        start = Reference(lead.path, values, box=box, kind=kind)
        mark = f"{kind}{box}{version(lead, values)}"
    result = []
    for frame in frames:
        values = resolver.resolve(frame).values
        result.append((frame, start, MatchWish(frame.path, values), f"{version(frame, values)}{mark}"))
    return result


@dataclass(frozen=True)
class Line:
    """A set as the Line-up takes it: what has to be measured, its lead's id, and the ids of those that follow, the lead among them."""

    steps: Sequence[Step]
    lead: int | None
    followers: Sequence[int]


class LineUps:
    """Readings that are known, and those that are being made; the last ones are kept."""

    def __init__(self, catalogue: Catalogue, workers: Workers) -> None:
        self._catalogue = catalogue
        self._workers = workers
        self._lock = threading.Lock()
        self._known: OrderedDict[str, dict[str, Any]] = OrderedDict()
        self._running: set[str] = set()
        self._wrong: dict[str, str] = {}
        self._lines: OrderedDict[Hashable, tuple[int, Line]] = OrderedDict()

    def line(self, key: Hashable, planned: Callable[[], Line]) -> Line:
        """The plan of a set, made again only when the catalogue was written since: while it is measured it is asked for often."""
        now = self._catalogue.revision
        with self._lock:
            revision, line = self._lines.get(key, (-1, None))
        if line is None or revision != now:
            line = planned()
            with self._lock:
                self._lines[key] = now, line
                self._lines.move_to_end(key)
                while len(self._lines) > LINES:
                    self._lines.popitem(last=False)
        return line

    def readings(
        self, resolver: Resolver, frames: Sequence[Frame], lead: Frame | None, box: Box | None, kind: str = "backdrop"
    ) -> tuple[list[Reading], int]:
        """Readings of frames in their order, and how many of them are still being made."""
        return self.read(plan(resolver, frames, lead, box, kind), kind)

    def read(self, steps: Sequence[Step], kind: str) -> tuple[list[Reading], int]:
        """See `readings`."""
        result, pending = [], 0
        for frame, start, wish, key in steps:
            with self._lock:
                found = self._known.get(key)
                new = found is None and key not in self._running
            # Remembered with the file's stamp: it is not read at each look, and looked at anew when it is put back.
            stamped = f"{key}{stamp_of(Path(frame.path))}"
            if new and (trouble := self._wrong.get(stamped) or check_frame(self._catalogue, frame.id)):
                self._wrong[stamped] = trouble
                found = {"trouble": trouble}
            elif new:
                with self._lock:
                    self._running.add(key)
                future = self._workers.submit(reading_of, start, wish, kind)
                future.add_done_callback(partial(self._finished, key))
            if found is None:
                pending += 1
                found = {"trouble": "being measured"}
            result.append(reading(frame, found))
        return result, pending

    def alike(
        self,
        resolver: Resolver,
        frames: Sequence[Frame],
        lead: Frame | None,
        box: Box | None,
        kind: str,
        frame: Frame,
        before: dict[str, float],
        within: float,
    ) -> list[dict[str, Any]]:
        """Frames whose area looks as that of a frame did before it was corrected, the most alike first.

        Args:
            before: the frame's offsets before; within: CIEDE2000 up to which two areas are alike.

        Raises:
            TannerError: the frame's own area is not known.
        """
        start = next((s for _, s, _, _ in plan(resolver, frames[:1], lead, box, kind)), None)
        earlier = resolve(replace(resolver.layers(frame), offsets=before))  # type: ignore[arg-type]
        wish = MatchWish(frame.path, earlier.values)
        was = self._workers.submit(reading_of, start, wish, kind).result()
        if "lab" not in was:
            raise TannerError(f"{frame.name}: {was['trouble']}")
        found = []
        for each in self.readings(resolver, [f for f in frames if f.id != frame.id], lead, box, kind)[0]:
            if each.lab is None:
                continue
            off = float(ciede2000(np.array(each.lab), np.array(was["lab"])))
            if off <= within:
                found.append({"frame": each.key, "name": each.name, "difference": round(off, 2)})
        return sorted(found, key=lambda row: float(row["difference"]))

    def _finished(self, key: str, future: Future[dict[str, Any]]) -> None:
        try:
            found = future.result()
        except TannerError as error:
            found = {"trouble": str(error)}
        except BaseException as error:  # told for this frame, and tried again when its look changes
            found = {"trouble": f"could not be measured ({error!r})"}
        # Some thousands are kept: as text an outline takes a tenth of what lists of numbers take.
        found = {**found, "outline": json.dumps(found.get("outline", []), separators=(",", ":"))}
        with self._lock:
            self._running.discard(key)
            self._known[key] = found
            while len(self._known) > MOST:
                self._known.popitem(last=False)
        self._catalogue.news.tell("lineup")


def reading(frame: Frame, found: dict[str, Any]) -> Reading:
    lab = found.get("lab")
    return Reading(
        frame.id, frame.name, tuple(lab) if lab else None, found.get("confidence", 0.0), found.get("area", ""), found.get("trouble", ""),
        frame.accepted, found.get("outline", ()),
    )  # fmt: skip


def measured_set(data: Path, shoot: str, name: str, tolerance: float, kind: str = "backdrop") -> dict[str, Any]:
    """The figures of a set by its name, measured now (see `core.series.lineup.line_up`).

    Raises:
        TannerError: there is no such catalogue, shoot or set.
    """
    if not (data / "catalogue.sqlite").exists():
        raise TannerError(f"{data}: there is no catalogue.")
    SMALL.folder = data / "small"
    catalogue, workers = Catalogue(data), Workers(2)
    try:
        with catalogue.read() as session:
            found = session.scalars(select(Shoot).where(Shoot.name == shoot)).first()
            if found is None:
                raise TannerError(f"There is no shoot called {shoot}.")
            query = select(FrameSet).where(FrameSet.shoot_id == found.id, FrameSet.name == name)
            group = session.scalars(query).first()
            if group is None:
                names = session.scalars(select(FrameSet.name).where(FrameSet.shoot_id == found.id))
                raise TannerError(f"There is no set called {name} in {shoot}. There are: {', '.join(names)}.")
            resolver = Resolver(session, found.id)
            first = resolver.leads.get(group.lead_id or 0)
            if kind.startswith(AREA) and first is not None:
                # Followers have the same area, whatever they call it.
                kind = AREA + named(develop(resolver.resolve(first).values), kind.removeprefix(AREA)).id
            members = select(Frame).where(Frame.set_id == group.id, Frame.verdict != "drop")
            frames = list(session.scalars(members.order_by(Frame.taken, Frame.name)))
            jobs = [
                (f, workers.submit(reading_of, r, w, kind)) for f, r, w, _ in plan(resolver, frames, first, None, kind)
            ]
            lead = group.lead_id
        readings = []
        for frame, job in jobs:
            try:
                readings.append(reading(frame, job.result()))
            except TannerError as error:
                readings.append(reading(frame, {"trouble": str(error)}))
        return {"shoot": shoot, "set": name, **line_up(readings, lead, tolerance)}
    finally:
        workers.shutdown()
        catalogue.close()
