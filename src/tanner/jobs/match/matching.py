"""Matching frames to a reference: the work of a process for one frame, and the job for many."""

import json
import threading
import time
from collections.abc import Mapping, Sequence
from concurrent.futures import Future
from dataclasses import dataclass, field, replace
from functools import lru_cache
from pathlib import Path
from typing import Any, cast

import numpy as np

from tanner.catalogue.development import set_each_offset
from tanner.catalogue.models import Frame
from tanner.catalogue.originals import same_or_refused
from tanner.catalogue.resolver import Resolver
from tanner.catalogue.search.find import loaded
from tanner.catalogue.store import Catalogue
from tanner.core.adjust.registry import develop
from tanner.core.areas.find import NotFound
from tanner.core.errors import TannerError
from tanner.core.render.masking import mask_of, named
from tanner.core.series.area import EDGE as AREA_EDGE
from tanner.core.series.area import LEAST, Area, NoArea, drawn, found_again, outline
from tanner.core.series.exactness import with_colour
from tanner.core.series.kinds import AREA, COLOUR, Box, Kind, What
from tanner.core.series.match import LIMITS, Matched, colour_of, match, measured, moved, picture_of, shot_as
from tanner.core.series.preset import StoredMatch
from tanner.core.series.subjects import area_of
from tanner.core.series.tone_match import match_tone, scale_of, structured
from tanner.core.small import read_small
from tanner.jobs.recent import RecentJobs
from tanner.jobs.tasks import starting
from tanner.jobs.workers import Workers

FAR = 3.0
"""CIEDE2000 from the reference beyond which an area is looked for again once the frame is near it."""


@dataclass(frozen=True)
class Reference:
    """The frame that others are brought to, with its settings.

    Attributes:
        rules: settings stand above the defaults by rule.
        box: its drawn area, found again in the others; without one, areas of the kind are looked for in each frame.
        kind: what is looked for, or one of the frames' own areas (see `series.area.AREA`).
        lab, scale: what a preset stored of a reference, in place of a file: its area's colour, and its scale of lightness.
        tone: contrast, black and white point are matched, too.
        most: the largest change of exposure in EV; mired and tint in proportion.
    """

    path: str
    values: Mapping[str, Any]
    rules: bool = False
    box: Box | None = None
    kind: str = "backdrop"
    lab: tuple[float, float, float] | None = None
    scale: tuple[float, float, float] | None = None
    tone: bool = False
    most: float = LIMITS["ev"]

    @property
    def limits(self) -> dict[str, float]:
        return {k: v * self.most / LIMITS["ev"] for k, v in LIMITS.items()}


@dataclass(frozen=True)
class MatchWish:
    path: str
    values: Mapping[str, Any]
    rules: bool = False


def _values(source: Any, values: Mapping[str, Any], rules: bool) -> dict[str, Any]:
    start = starting(source.facts, lens=source.lens is not None) if rules else {}
    return {**start, **values}


@lru_cache(maxsize=2)
def _reference(key: tuple[Any, ...]) -> tuple[Any, Area, Any]:
    """The reference's picture (16 bits), area and colour: the same for all frames that a process matches to it."""
    path, said, rules, box, kind, _ = key
    source = read_small(Path(path))
    values = _values(source, json.loads(said), rules)
    picture = picture_of(source, values, 16)
    area = drawn(picture.shape[:2], box) if box else _of_kind(kind, source, values)
    return picture, area, colour_of(picture, area.mask)


def _key(r: Reference) -> tuple[Any, ...]:
    # As text: values hold lists and mappings, such as the shapes of an area.
    said = json.dumps(dict(r.values), sort_keys=True)
    return r.path, said, r.rules, r.box, r.kind, Path(r.path).stat().st_mtime_ns if Path(r.path).exists() else 0


def _of_kind(kind: str, source: Any, values: Mapping[str, Any]) -> Area:
    if kind.startswith(AREA):
        return _own_area(kind.removeprefix(AREA), source, values)
    if kind.startswith(COLOUR):
        mask, name = with_colour(source, values, kind.removeprefix(COLOUR), AREA_EDGE)
        if mask.sum() < LEAST:
            raise NoArea(f"Nothing in this frame has the colour of {name}.")
        return Area("colour", mask, 1.0, name)
    return area_of(cast(Kind, kind), lambda edge: picture_of(source, values, edge=edge))


def _own_area(name: str, source: Any, values: Mapping[str, Any]) -> Area:
    """One of a frame's own areas, by its id or its name: what lies well inside of it."""
    development = develop(values)
    thing = named(development, name)
    h, w = picture_of(source, values).shape[:2]
    try:
        mask = mask_of(source, development, thing.id, (w, h)) > 0.7
    except NotFound as error:
        raise NoArea(str(error)) from None
    if mask.sum() < LEAST:
        raise NoArea(f"The area {thing.parts.name} is too small in this frame to be measured.")
    sure = getattr(thing.parts, "found", None)
    return Area("area", mask, round(float(sure[8]), 2) if sure else 1.0, thing.parts.name)


def _area_in(source: Any, values: Mapping[str, Any], reference: Reference | None, kind: str) -> Area:
    """The area of a frame: the reference's drawn one found again, else the one of a kind."""
    if reference is None or reference.box is None:
        return _of_kind(reference.kind if reference else kind, source, values)
    there, area, _ = _reference(_key(reference))
    return found_again((there >> 8).astype(np.uint8), area, picture_of(source, values))


def _common(reference: Reference, here: Area) -> tuple[Area, Any] | None:
    """What the backdrops of a frame and of its reference have in common, and the reference's colour there.

    Light falls off over a backdrop: the same part of both is held against one another, where they share enough of it.
    """
    if here.kind != "backdrop" or reference.lab is not None:
        return None
    picture, area, _ = _reference(_key(reference))
    if area.mask.shape != here.mask.shape:
        return None
    both = area.mask & here.mask
    if both.sum() < max(LEAST, 0.3 * min(area.mask.sum(), here.mask.sum())):
        return None
    return replace(here, mask=both), colour_of(picture, both)


def matched(reference: Reference, wish: MatchWish, what: What) -> dict[str, Any]:
    """Offsets for one frame: ev, mired, tint, area, confidence, before, after, limited; values: of tone, if asked for."""
    target = _target(reference)
    source = read_small(Path(wish.path))
    values = _values(source, wish.values, wish.rules)
    here, done = _solved(source, values, reference, target, what)
    if not reference.box and done.before > FAR:
        # An area is chosen by what can be seen of it: so once more on the frame as it is now, nearer to the reference.
        near = moved(values, done.offsets, shot_as(source, values))
        here, done = _solved(source, values, reference, target, what, near)
    tone: dict[str, float] = {}
    if reference.tone:
        as_shot = shot_as(source, values)
        scale, own = _scale(reference)
        mask = here.mask if own else None
        first = done.before
        # Contrast and the ends of the scale move the area's colour a little, and the other way round: twice is enough.
        for _ in range(2):
            start = {**moved(values, done.offsets, as_shot), **tone}
            tone |= match_tone(source, start, mask, scale)[0]
            done = _solved(source, {**values, **tone}, reference, target, what)[1]
        done = replace(done, before=first)
    return {
        "ev": done.offsets.get("ev", 0.0),
        "mired": done.offsets.get("mired", 0.0),
        "tint": done.offsets.get("tint", 0.0),
        "values": tone,
        "area": f"{here.kind} {here.words}".strip(),
        "confidence": here.confidence,
        "before": done.before,
        "after": done.after,
        "limited": list(done.limited),
        "lab": [round(v, 2) for v in done.lab],
    }


def _solved(
    source: Any,
    values: Mapping[str, Any],
    reference: Reference,
    target: Any,
    what: What,
    near: Mapping[str, Any] | None = None,
) -> tuple[Area, Matched]:
    """The area of a frame, looked for in it as it is or as `near`, and what brings it to the reference."""
    here = _area_in(source, near or values, reference, reference.kind)
    common = _common(reference, here)
    area, wanted = common or (here, target)
    return here, match(source, values, area, wanted, what, reference.limits)


def _target(reference: Reference) -> Any:
    if reference.lab is not None:
        return np.array(reference.lab)
    try:
        return _reference(_key(reference))[2]
    except NoArea as error:
        raise NoArea(f"{Path(reference.path).name}, the reference: {error}") from None


def _scale(reference: Reference) -> tuple[Any, bool]:
    """The reference's scale of lightness, and whether it is its area's (else the whole frame's)."""
    if reference.scale is not None:
        return np.array(reference.scale), False
    picture, area, _ = _reference(_key(reference))
    own = area.kind in ("face", "drawn") and structured(picture, area.mask)
    return scale_of(picture, area.mask if own else None), own


def figures_of(reference: Reference) -> dict[str, Any]:
    """What a preset stores of a reference: kind, lab, scale (of the whole frame), confidence."""
    picture, area, lab = _reference(_key(reference))
    return {
        "kind": area.kind,
        "lab": [round(float(v), 3) for v in lab],
        "scale": [round(float(v), 2) for v in scale_of(picture, None)],
        "confidence": area.confidence,
    }


def reading_of(reference: Reference | None, wish: MatchWish, kind: str = "backdrop") -> dict[str, Any]:
    """The colour of a frame's area as it is rendered: lab, area, confidence; or {"trouble": why not}."""
    source = read_small(Path(wish.path))
    values = _values(source, wish.values, wish.rules)
    try:
        here = _area_in(source, values, reference, kind)
        lab = measured(source, values, here)
        if reference and (common := _compared(reference, here)):
            # As far from the reference as the part is that both show.
            area, there = common
            lab = _reference(_key(reference))[2] + measured(source, values, area) - there
    except NoArea as error:
        return {"trouble": str(error)}
    return {
        "lab": [float(v) for v in lab],
        "area": f"{here.kind} {here.words}".strip(),
        "confidence": here.confidence,
        "outline": outline(here),
    }


def _compared(reference: Reference, here: Area) -> tuple[Area, Any] | None:
    try:
        return _common(reference, here)
    except NoArea:  # the reference has no such area: each frame by its own
        return None


@dataclass
class MatchJob:
    """One match of many frames to a reference."""

    number: int
    reference: str
    count: int
    began: float = field(default_factory=time.monotonic)
    rows: list[dict[str, Any]] = field(default_factory=list)
    over: bool = False
    cancelled: bool = False
    message: str = ""

    def as_dict(self) -> dict[str, Any]:
        spent, done = time.monotonic() - self.began, len(self.rows)
        left = round(spent / done * (self.count - done)) if done and not self.over else None
        return {
            "id": self.number,
            "reference": self.reference,
            "count": self.count,
            "done": done,
            "over": self.over,
            "cancelled": self.cancelled,
            "message": self.message,
            "left_s": left,
            "rows": self.rows,
        }


class Matching:
    """Matches of a running program; offsets are written as one step when all frames are measured."""

    def __init__(self, catalogue: Catalogue, workers: Workers) -> None:
        self._catalogue = catalogue
        self._workers = workers
        self.jobs: RecentJobs[MatchJob] = RecentJobs(busy=lambda job: not job.over)

    def start(
        self, reference: Reference, name: str, frames: Sequence[Frame], resolver: Resolver, what: What
    ) -> MatchJob:
        """Begin to match frames to a reference of a name; offsets are written as one step at the end."""
        wishes = [(f.id, f.name, MatchWish(f.path, resolver.resolve(f).values)) for f in frames]
        if not wishes:
            raise TannerError("Choose frames besides the reference to match to it.")
        job = self.jobs.add(lambda n: MatchJob(n, name, len(wishes)))
        threading.Thread(target=self._run, args=(job, reference, wishes, what, resolver.shoot.id), daemon=True).start()
        return job

    def start_stored(self, stored: StoredMatch, name: str, frames: Sequence[Frame], resolver: Resolver) -> MatchJob:
        """Begin to match frames to a reference that a preset stored."""
        start = Reference("", {}, kind=stored.kind, lab=stored.lab, scale=stored.scale, tone=stored.tone)
        return self.start(start, f"{stored.of or 'the reference'} of {name}", frames, resolver, stored.what)

    def job(self, number: int) -> MatchJob:
        found = self.jobs.get(number)
        if found is None:
            raise TannerError("This match is no longer known.")
        return found

    def cancel(self, number: int) -> None:
        self.job(number).cancelled = True

    def _run(
        self, job: MatchJob, start: Reference, wishes: list[tuple[int, str, MatchWish]], what: What, shoot_id: int
    ) -> None:
        waiting = []
        try:
            waiting = [(i, name, self._begun(i, start, wish, what)) for i, name, wish in wishes]
            found: dict[int, dict[str, float]] = {}
            tones: dict[int, dict[str, float]] = {}
            for frame_id, name, future in waiting:
                if job.cancelled:
                    job.message = "Cancelled; nothing was changed."
                    return
                row: dict[str, Any] = {"frame": frame_id, "name": name}
                try:
                    row |= future.result()
                    found[frame_id] = {k: row[k] for k in ("ev", "mired", "tint")}
                    tones[frame_id] = row["values"]
                except Exception as error:  # told for this frame; the others go on
                    row["error"] = (
                        str(error) if isinstance(error, TannerError) else f"could not be measured ({error!r})"
                    )
                job.rows.append(row)
                self._catalogue.news.tell("work")
            with self._catalogue.write() as session:
                resolver = Resolver(session, shoot_id)
                wanted = [(f, found[f.id]) for f in loaded(session, list(found))]
                set_each_offset(session, resolver, wanted, f"Matched to {job.reference}", tones)
            job.message = self._said(job)
        finally:
            for _, _, future in waiting:
                future.cancel()
            job.over = True
            self._catalogue.news.tell("work")

    def _begun(self, frame_id: int, start: Reference, wish: MatchWish, what: What) -> Future[dict[str, Any]]:
        """A frame's match, or what is wrong with its file."""
        try:
            same_or_refused(self._catalogue, frame_id)
        except TannerError as error:
            refused: Future[dict[str, Any]] = Future()
            refused.set_exception(error)
            return refused
        return self._workers.submit(matched, start, wish, what)

    def _said(self, job: MatchJob) -> str:
        good = [r for r in job.rows if "error" not in r]
        if not good:
            return "None of the frames could be matched."
        before, after = (float(np.mean([r[k] for r in good])) for k in ("before", "after"))
        words = f"{len(good)} matched to {job.reference}: from {before:.1f} to {after:.1f} CIEDE2000 on average"
        failed = len(job.rows) - len(good)
        limited = [r["name"] for r in good if r["limited"]]
        words += f"; {failed} could not be" if failed else ""
        return words + (f"; at the limit: {', '.join(limited[:5])}" if limited else "") + "."
