"""Lists that are asked for again and again while they fill: only rows that changed since the last answer are sent."""

import secrets
import threading
from collections import OrderedDict
from collections.abc import Sequence
from typing import Any

Row = dict[str, Any]
MOST = 24
"""Answers that are remembered, the last ones: about as many as pages are open."""


class RowChanges:
    """What was told under a word that the page gives back when it asks again."""

    def __init__(self) -> None:
        self._lock = threading.Lock()
        self._rows: OrderedDict[str, tuple[str, dict[Any, Row]]] = OrderedDict()

    def news(self, word: str, about: str, key: str, rows: Sequence[Row]) -> tuple[str, Sequence[Row], bool]:
        """A word for the next time, the rows to send, and whether these are all.

        Args:
            word: of the last answer, or empty; about: what was asked: another question is answered whole.
            key: the name by which rows are known; where rows came, went or changed places, all are sent.
        """
        now = {row[key]: row for row in rows}
        with self._lock:
            before = self._rows.pop(word, None)
            fresh = secrets.token_hex(8)
            self._rows[fresh] = about, now
            while len(self._rows) > MOST:
                self._rows.popitem(last=False)
        if before is None or before[0] != about or list(before[1]) != list(now):
            return fresh, rows, True
        return fresh, [row for name, row in now.items() if before[1][name] != row], False
