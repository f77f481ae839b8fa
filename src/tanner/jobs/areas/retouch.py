"""What several frames say of spots: what they hold to, and which of them are dust on the sensor."""

import json
import threading
from collections.abc import Callable, Sequence
from concurrent.futures import Future
from dataclasses import dataclass
from pathlib import Path
from typing import Any

from sqlalchemy import select, tuple_

from tanner.catalogue.models import Frame
from tanner.catalogue.resolver import Resolver
from tanner.catalogue.store import Catalogue
from tanner.core.errors import TannerError
from tanner.core.spots.dust import Speck, can_show, dust_of
from tanner.core.spots.evidence import Evidence, weighed
from tanner.jobs.areas.spots import dust_seen, place_in, spots_seen
from tanner.jobs.recent import RecentJobs
from tanner.jobs.workers import Workers

ASKED = 8
"""Frames that are asked what spots hold to: half of the own set, half of others."""
LOOKED = 12
"""Frames that are searched for dust, so evenly over the shoot as there are."""


AT_ONCE = 2
"""Frames that are handed to the workers at a time, so that what somebody waits for comes between."""


@dataclass
class Question:
    """A question that several frames are asked, in the background.

    Attributes:
        title: what it is about, for Work; result: what they said, once it is over; error: why they could not.
    """

    number: int
    shoot: int
    title: str
    count: int
    done: int = 0
    over: bool = False
    cancelled: bool = False
    result: Any = None
    error: str = ""


class Retouch:
    """Questions to several frames at once; each is answered when all have said."""

    def __init__(self, catalogue: Catalogue, workers: Workers) -> None:
        self._catalogue = catalogue
        self._workers = workers
        self.jobs: RecentJobs[Question] = RecentJobs(busy=lambda job: not job.over)

    def evidence(self, frame_id: int, idents: Sequence[str]) -> "Question":
        """Ask what spots of a frame hold to, by what other frames of its camera show: {id: Evidence}.

        Raises:
            TannerError: there is no other frame to ask.
        """
        with self._catalogue.read() as session:
            frame = session.get(Frame, frame_id)
            if frame is None:
                raise TannerError("This frame is no longer there.")
            values = Resolver(session, frame.shoot_id).resolve(frame).values
            wanted_spots = json.dumps({k: v for k, v in values.items() if k.startswith("spots/")}, sort_keys=True)
            others = self._of_camera(session, frame, ASKED * 8)
            same = _spread([f for f in others if f.set_id == frame.set_id], ASKED // 2 + 1)
            rest = _spread([f for f in others if f.set_id != frame.set_id], ASKED - len(same))
            asked = [(f.path, f.set_id == frame.set_id) for f in (*same, *rest)]
            path, shoot = frame.path, frame.shoot_id
        if not asked:
            raise TannerError(
                "There is no other frame of this camera in the shoot, so nothing tells what a spot holds to."
            )

        def said(answers: list[Any]) -> dict[str, Evidence]:
            return {i: weighed([a[i] for a in answers if i in a]) for i in idents}

        tasks = [(spots_seen, path, wanted_spots, list(idents), p, own) for p, own in asked]
        return self._begun(shoot, "What spots hold to", tasks, said)

    def placed_in(self, frame_id: int, ident: str, other_id: int) -> tuple[str, list[float]]:
        """Where a spot's place lies in another frame of the same folder: that frame's name, and the map from the frame that
        the spot was set on.

        Raises:
            TannerError: it lies in another folder, or the place is not found in it.
        """
        with self._catalogue.read() as session:
            frame, other = session.get(Frame, frame_id), session.get(Frame, other_id)
            if frame is None or other is None:
                raise TannerError("This frame is no longer there.")
            if Path(frame.path).parent != Path(other.path).parent:
                raise TannerError(
                    f"{other.name} lies in another folder; a place can be taken from frames of the same one."
                )
            resolver = Resolver(session, frame.shoot_id)
            values = resolver.resolve(frame).values
            wanted_spots = json.dumps({k: v for k, v in values.items() if k.startswith("spots/")}, sort_keys=True)
            on = next((f for f in (frame, *resolver.chain(frame)) if f"spots/{ident}/path" in f.own), frame)
            name, paths = other.name, (on.path, other.path)
        place = self._workers.submit(place_in, paths[0], wanted_spots, ident, paths[1]).result()
        if place[8] == 0:
            raise TannerError(f"The place is not found in {name}. Choose another frame.")
        return name, place

    def dust(self, frame_id: int, plain: bool) -> "Question":
        """Look for dust on the sensor of a frame's camera: the specks, and how they were found.

        Args:
            plain: in this frame alone, which was shot for it.

        Raises:
            TannerError: no frame can show any.
        """
        with self._catalogue.read() as session:
            frame = session.get(Frame, frame_id)
            if frame is None:
                raise TannerError("This frame is no longer there.")
            frames = [frame] if plain else [frame, *self._of_camera(session, frame, 2000)]
            able = [f for f in frames if can_show(f.facts.get("aperture"))]
            if not able:
                raise TannerError(
                    "Dust throws no shadow at so wide an opening. Shoot a plain wall at f/11 or smaller for this."
                )
            asked = [(f.path, f.set_id or 0) for f in _spread(able, LOOKED)]
            shoot = frame.shoot_id

        def said(looks: list[Any]) -> tuple[list[Speck], str]:
            found = dust_of([look for look in looks if look.dark.shape == looks[0].dark.shape])
            message = f"{len(found)} places in {len(looks)} {'frame' if len(looks) == 1 else 'frames'} of this camera."
            if len(looks) > 1 and len({g for _, g in asked}) == 1:
                message += (
                    " All are of one set: what lies on its table looks the same as dust while the camera stands still."
                )
            return found, message

        return self._begun(shoot, "Dust on the sensor", [(dust_seen, p, g) for p, g in asked], said)

    def _begun(
        self, shoot: int, title: str, tasks: Sequence[tuple[Any, ...]], said: Callable[[list[Any]], Any]
    ) -> "Question":
        job = self.jobs.add(lambda n: Question(n, shoot, title, len(tasks)))
        threading.Thread(target=self._run, args=(job, tasks, said), daemon=True, name="retouch").start()
        return job

    def _run(self, job: "Question", tasks: Sequence[tuple[Any, ...]], said: Callable[[list[Any]], Any]) -> None:
        """Ask frame after frame, a few at a time; one that cannot be read says nothing."""
        answers: list[Any] = []
        trouble: Exception | None = None
        try:
            for first in range(0, len(tasks), AT_ONCE):
                waiting: list[Future[Any]] = [self._workers.submit(*t) for t in tasks[first : first + AT_ONCE]]
                for future in waiting:
                    try:
                        answers.append(future.result())
                    except Exception as error:  # told when no frame can be read
                        trouble = error
                    job.done += 1
                if job.cancelled:
                    return
            if not answers and trouble is not None:
                raise trouble
            job.result = said(answers)
        except Exception as error:
            job.error = str(error) if isinstance(error, TannerError) else f"The frames could not be asked ({error!r})."
        finally:
            job.over = True
            self._catalogue.news.tell("work")

    def cancel(self, number: int) -> None:
        job = self.jobs.get(number)
        if job is None:
            raise TannerError("This question is no longer known. Ask again.")
        job.cancelled = True

    def _of_camera(self, session: Any, frame: Frame, most: int) -> list[Frame]:
        sides = {(frame.width, frame.height), (frame.height, frame.width)}
        query = select(Frame).where(
            Frame.shoot_id == frame.shoot_id, Frame.camera == frame.camera, Frame.id != frame.id, Frame.error == "",
            tuple_(Frame.width, Frame.height).in_(sides),
        )  # fmt: skip
        found = session.scalars(query.order_by(Frame.taken))
        alike = [f for f in found if f.facts.get("kind") == frame.facts.get("kind") and f.alternate == 0]
        return _spread(alike, most)


def _spread(frames: Sequence[Frame], most: int) -> list[Frame]:
    """So many of them, evenly."""
    if len(frames) <= most:
        return list(frames)
    return [frames[(2 * k + 1) * len(frames) // (2 * most)] for k in range(most)]
