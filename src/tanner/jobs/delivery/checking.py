"""Are the files of a delivery still what was written? Each is read again and compared with its checksum."""

import threading
from collections.abc import Sequence
from pathlib import Path
from typing import Any

from sqlalchemy import select

from tanner.catalogue.models import Delivery, DeliveryItem
from tanner.catalogue.store import Catalogue
from tanner.core.errors import TannerError
from tanner.jobs.delivery.journal import is_whole


class WrittenChecks:
    """The last check of each delivery, in the background."""

    def __init__(self, catalogue: Catalogue) -> None:
        self._catalogue = catalogue
        self._closing = False
        self._checks: dict[int, dict[str, Any]] = {}

    def start(self, delivery_id: int) -> None:
        """Read every written file again and compare it with its checksum."""
        with self._catalogue.read() as session:
            delivery = session.get(Delivery, delivery_id)
            if delivery is None:
                raise TannerError("This delivery is no longer there.")
            query = select(DeliveryItem).where(DeliveryItem.delivery_id == delivery_id, DeliveryItem.state == "done")
            items = [(i.id, i.target, i.content, i.bytes) for i in session.scalars(query)]
        state: dict[str, Any] = {"total": len(items), "done": 0, "over": False, "found": {}}
        self._checks[delivery_id] = state
        threading.Thread(target=self._check, args=(items, state), daemon=True).start()

    def _check(self, items: Sequence[tuple[int, str, str, int]], state: dict[str, Any]) -> None:
        for item_id, target, content, size in items:
            if self._closing:
                return
            path = Path(target)
            if not path.is_file():
                state["found"][item_id] = "gone"
            elif not is_whole(path, content, size):
                state["found"][item_id] = "changed"
            state["done"] += 1
            self._catalogue.news.tell("work")
        state["over"] = True
        self._catalogue.news.tell("work")

    def state(self, delivery_id: int) -> dict[str, Any] | None:
        """How far a check is: total, done, over, and by item what differs: "changed" or "gone"."""
        return self._checks.get(delivery_id)

    def close(self) -> None:
        self._closing = True
