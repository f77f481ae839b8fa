"""What happens, as it happens: counters by topic, and whoever listens is woken when one of them moves."""

import threading
import time
from collections import Counter
from collections.abc import Callable, Iterator
from contextlib import contextmanager
from typing import Literal

Topic = Literal["frames", "pictures", "work", "lineup"]
"""frames: the catalogue was written; pictures: one is ready; work: a job went on; lineup: a reading is known."""


class News:
    """Counters only rise: who has seen some of them knows at any later time what moved since.

    Attributes:
        began: tells a program from another, whose counters mean other things.
    """

    def __init__(self) -> None:
        self.began = time.time_ns() // 1_000_000
        self._lock = threading.Lock()
        self._counts: Counter[str] = Counter()
        self._wake: list[Callable[[], None]] = []

    def tell(self, topic: Topic) -> None:
        """Something of a topic happened. Called from any thread; does not wait."""
        with self._lock:
            self._counts[topic] += 1
            wake = list(self._wake)
        for each in wake:
            each()

    def counts(self) -> dict[str, int]:
        with self._lock:
            return dict(self._counts)

    @contextmanager
    def heard_by(self, wake: Callable[[], None]) -> Iterator[None]:
        """While it is entered, `wake` is called at each piece of news, from the thread that tells it."""
        with self._lock:
            self._wake.append(wake)
        try:
            yield
        finally:
            with self._lock:
                self._wake.remove(wake)
