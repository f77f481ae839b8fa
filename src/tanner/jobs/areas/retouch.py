"""What several frames say of spots: what they hold to, and which of them are dust on the sensor."""

import json
from collections.abc import Sequence
from concurrent.futures import Future
from pathlib import Path
from typing import Any

from sqlalchemy import select

from tanner.catalogue.models import Frame
from tanner.catalogue.resolver import Resolver
from tanner.catalogue.store import Catalogue
from tanner.core.errors import TannerError
from tanner.core.spots.dust import Speck, can_show, dust_of
from tanner.core.spots.evidence import Evidence, weighed
from tanner.jobs.areas.spots import dust_seen, place_in, spots_seen
from tanner.jobs.workers import Workers

ASKED = 8
"""Frames that are asked what spots hold to: half of the own set, half of others."""
LOOKED = 12
"""Frames that are searched for dust, so evenly over the shoot as there are."""


class Retouch:
    """Questions to several frames at once; each is answered when all have said."""

    def __init__(self, catalogue: Catalogue, workers: Workers) -> None:
        self._catalogue = catalogue
        self._workers = workers

    def evidence(self, frame_id: int, idents: Sequence[str]) -> dict[str, Evidence]:
        """What spots of a frame hold to, by what other frames of its camera show."""
        with self._catalogue.read() as session:
            frame = session.get(Frame, frame_id)
            if frame is None:
                raise TannerError("This frame is no longer there.")
            values = Resolver(session, frame.shoot_id).resolve(frame).values
            told = json.dumps({k: v for k, v in values.items() if k.startswith("spots/")}, sort_keys=True)
            others = self._of_camera(session, frame, ASKED * 8)
            same = _spread([f for f in others if f.set_id == frame.set_id], ASKED // 2 + 1)
            rest = _spread([f for f in others if f.set_id != frame.set_id], ASKED - len(same))
            asked = [(f.path, f.set_id == frame.set_id) for f in (*same, *rest)]
            path = frame.path
        if not asked:
            raise TannerError(
                "There is no other frame of this camera in the shoot, so nothing tells what a spot holds to."
            )
        answers = _answers([self._workers.submit(spots_seen, path, told, list(idents), p, own) for p, own in asked])
        return {i: weighed([a[i] for a in answers if i in a]) for i in idents}

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
            told = json.dumps({k: v for k, v in values.items() if k.startswith("spots/")}, sort_keys=True)
            on = frame
            while f"spots/{ident}/path" not in on.own and (lead := resolver.lead_of(on)) is not None and lead is not on:
                on = lead
            name, paths = other.name, (on.path, other.path)
        place = self._workers.submit(place_in, paths[0], told, ident, paths[1]).result()
        if place[8] == 0:
            raise TannerError(f"The place is not found in {name}. Choose another frame.")
        return name, place

    def dust(self, frame_id: int, plain: bool) -> tuple[list[Speck], str]:
        """Dust on the sensor of a frame's camera, and how it was found.

        Args:
            plain: in this frame alone, which was shot for it.
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
        looks = _answers([self._workers.submit(dust_seen, p, g) for p, g in asked])
        found = dust_of([look for look in looks if look.dark.shape == looks[0].dark.shape])
        said = f"{len(found)} places in {len(looks)} {'frame' if len(looks) == 1 else 'frames'} of this camera."
        if len(looks) > 1 and len({g for _, g in asked}) == 1:
            said += " All are of one set: what lies on its table looks the same as dust while the camera stands still."
        return found, said

    def _of_camera(self, session: Any, frame: Frame, most: int) -> list[Frame]:
        query = select(Frame).where(
            Frame.shoot_id == frame.shoot_id, Frame.camera == frame.camera, Frame.id != frame.id, Frame.error == "",
            Frame.width == frame.width, Frame.height == frame.height,
        )  # fmt: skip
        turned = select(Frame).where(
            Frame.shoot_id == frame.shoot_id, Frame.camera == frame.camera, Frame.id != frame.id, Frame.error == "",
            Frame.width == frame.height, Frame.height == frame.width, Frame.width != frame.width,
        )  # fmt: skip
        found = [*session.scalars(query.order_by(Frame.taken)), *session.scalars(turned.order_by(Frame.taken))]
        alike = [f for f in found if f.facts.get("kind") == frame.facts.get("kind") and f.alternate == 0]
        return _spread(alike, most)


def _spread(frames: Sequence[Frame], most: int) -> list[Frame]:
    """So many of them, evenly."""
    if len(frames) <= most:
        return list(frames)
    return [frames[(2 * k + 1) * len(frames) // (2 * most)] for k in range(most)]


def _answers(waiting: Sequence[Future[Any]]) -> list[Any]:
    """What could be answered; a frame that cannot be read says nothing.

    Raises:
        TannerError: none could.
    """
    found, trouble = [], None
    for future in waiting:
        try:
            found.append(future.result())
        except TannerError as error:
            trouble = error
    if trouble is not None and not found:
        raise trouble
    return found
