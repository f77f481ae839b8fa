"""Keeps sidecars in step with the catalogue: a moment after each change, those that differ are written."""

import json
import logging
import threading
from dataclasses import asdict
from typing import Any

from sqlalchemy import select

from tanner.catalogue import sidecars
from tanner.catalogue.models import Frame, Shoot
from tanner.catalogue.resolver import Resolver
from tanner.catalogue.store import Catalogue

log = logging.getLogger(__name__)
PAUSE_S = 1.0


class Sidecars:
    """Writes behind the scenes, for shoots that have it on."""

    def __init__(self, catalogue: Catalogue) -> None:
        self._catalogue = catalogue
        self._known: dict[int, str] = {}
        self._trouble: dict[int, dict[int, str]] = {}
        self._done = -1
        self._end = threading.Event()
        self._round = threading.Lock()
        self._thread = threading.Thread(target=self._run, name="sidecars", daemon=True)

    def start(self) -> None:
        self._thread.start()

    def _run(self) -> None:
        while not self._end.wait(PAUSE_S):
            if self._catalogue.revision == self._done:
                continue
            try:
                self.write_all()
            except Exception:  # told in the log, and tried again at the next change
                log.exception("sidecars could not be written")

    def write_all(self) -> int:
        """Write what differs in all shoots that have sidecars; how many were written."""
        with self._round:
            self._done = self._catalogue.revision
            with self._catalogue.read() as session:
                shoots = list(session.scalars(select(Shoot.id).where(Shoot.sidecars)))
            return sum(self._one_shoot(shoot_id) for shoot_id in shoots)

    def _one_shoot(self, shoot_id: int) -> int:
        marks: dict[int, str] = {}
        trouble = self._trouble.setdefault(shoot_id, {})
        with self._catalogue.read() as session:
            resolver = Resolver(session, shoot_id)
            for frame in session.scalars(select(Frame).where(Frame.shoot_id == shoot_id)):
                wanted = sidecars.sidecar_of(resolver, frame)
                text = json.dumps(asdict(wanted), sort_keys=True, default=str)
                if self._known.get(frame.id) == text + frame.sidecar or self._end.is_set():
                    continue
                done = sidecars.write(frame, wanted)
                trouble.pop(frame.id, None)
                if done.trouble:
                    trouble[frame.id] = done.trouble
                if done.mark:
                    marks[frame.id] = done.mark
                if done.mark or done.conflict:  # what could not be written is tried again at the next change
                    self._known[frame.id] = text + (done.mark or frame.sidecar)
        if marks:
            with self._catalogue.write() as session:
                for frame_id, mark in marks.items():
                    frame_now = session.get(Frame, frame_id)
                    if frame_now:
                        frame_now.sidecar = mark
        return len(marks)

    def forget(self, shoot_id: int) -> None:
        """Look at all sidecars of a shoot again at the next round."""
        with self._catalogue.read() as session:
            for frame_id in session.scalars(select(Frame.id).where(Frame.shoot_id == shoot_id)):
                self._known.pop(frame_id, None)
        self._done = -1

    def state(self, shoot_id: int) -> dict[str, Any]:
        """Whether sidecars are on, which were changed on both sides, and what could not be written."""
        with self._catalogue.read() as session:
            resolver = Resolver(session, shoot_id)
            on = resolver.shoot.sidecars
            count = sum(1 for m in session.scalars(select(Frame.sidecar).where(Frame.shoot_id == shoot_id)) if m)
            found = sidecars.conflicts(session, resolver) if on else []
        return {
            "on": on,
            "written": count,
            "conflicts": found,
            "trouble": sorted(set(self._trouble.get(shoot_id, {}).values()))[:20] if on else [],
        }

    def close(self) -> None:
        self._end.set()
        if self._thread.is_alive():
            self._thread.join(5)
