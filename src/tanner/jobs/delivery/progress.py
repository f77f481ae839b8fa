"""How far deliveries are: what changed since one last asked, and how long the rest takes."""

import threading
import time
from collections.abc import Iterator
from contextlib import contextmanager
from typing import Any

from sqlalchemy import func, select
from sqlalchemy.orm import Session

from tanner.catalogue.models import Delivery, DeliveryItem
from tanner.catalogue.store import Catalogue
from tanner.core.errors import TannerError
from tanner.jobs.delivery.record import item_row, item_rows


class Progress:
    """Counts changes of items by delivery, so that who asks again is told only of what is new."""

    def __init__(self, catalogue: Catalogue) -> None:
        self._catalogue = catalogue
        self._lock = threading.Lock()
        self._counter = 0
        self._changed: dict[int, dict[int, int]] = {}
        self._pace: dict[int, tuple[float, float, float]] = {}

    @contextmanager
    def changing(self, delivery_id: int) -> Iterator[tuple[Session, list[int]]]:
        """A session that writes, and a list for the items that it changes: they are told when they are stored, not before."""
        changed: list[int] = []
        with self._catalogue.write() as session:
            yield session, changed
        with self._lock:
            self._counter += 1
            self._changed.setdefault(delivery_id, {}).update(dict.fromkeys(changed, self._counter))
        self._catalogue.news.tell("work")

    def report(self, session: Session, delivery_id: int, since: int) -> dict[str, Any]:
        """Counts by state, seconds left, and the items that changed after a counter."""
        # Before anything is read: what is stored after this is told another time.
        with self._lock:
            counter = self._counter
            changed = [i for i, n in self._changed.get(delivery_id, {}).items() if n > since]
        delivery = session.get(Delivery, delivery_id)
        if delivery is None:
            raise TannerError("This delivery is no longer there.")
        rows = []
        for at in range(0, len(changed), 500):
            query = item_rows(delivery_id).where(DeliveryItem.id.in_(changed[at : at + 500]))
            rows += [item_row(item, name) for item, name in session.execute(query)]
        counting = select(DeliveryItem.state, func.count()).where(DeliveryItem.delivery_id == delivery_id)
        states = {state: n for state, n in session.execute(counting.group_by(DeliveryItem.state))}  # noqa: C416
        return {
            "delivery": delivery_id,
            "state": delivery.state,
            "counter": counter,
            "states": states,
            "left_s": self.seconds_left(delivery_id) if delivery.state == "running" else None,
            "documents": delivery.options.get("written", []),
            "items": rows,
        }

    def begins(self, delivery_id: int, work: float) -> None:
        """A round begins, with so many megapixels of work (see `pace.work_of`)."""
        with self._lock:
            self._pace[delivery_id] = time.monotonic(), 0.0, work

    def done(self, delivery_id: int, work: float) -> None:
        """So much of the work is done."""
        with self._lock:
            began, before, rest = self._pace[delivery_id]
            self._pace[delivery_id] = began, before + work, rest - work

    def seconds_left(self, delivery_id: int) -> float | None:
        """By the pace of the round so far; None before its first file."""
        began, work, rest = self._pace.get(delivery_id, (0.0, 0.0, 0.0))
        return round((time.monotonic() - began) / work * max(0.0, rest), 1) if work else None
