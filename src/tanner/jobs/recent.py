"""The last things of a kind, each with a number by which pages ask for it."""

import threading
from collections.abc import Callable
from typing import Generic, TypeVar

T = TypeVar("T")


class RecentJobs(Generic[T]):
    """Remembers the last few things.

    Args:
        most: so many are remembered.
        busy: what is never forgotten.
    """

    def __init__(self, most: int = 8, busy: Callable[[T], bool] = lambda thing: False) -> None:
        self._most, self._busy = most, busy
        self._things: dict[int, T] = {}
        self._last = 0
        self._lock = threading.Lock()

    def add(self, make: Callable[[int], T]) -> T:
        """Make a thing with its number, and forget the oldest."""
        with self._lock:
            self._last += 1
            thing = self._things[self._last] = make(self._last)
            for old in [n for n, t in self._things.items() if not self._busy(t)][: -self._most]:
                del self._things[old]
        return thing

    def get(self, number: int) -> T | None:
        return self._things.get(number)

    def all(self) -> list[T]:
        with self._lock:
            return list(self._things.values())
