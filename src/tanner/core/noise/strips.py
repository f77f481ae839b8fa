"""A frame in parts that threads share."""

import threading
from collections.abc import Callable, Sequence
from concurrent.futures import ThreadPoolExecutor
from typing import TypeVar

from tanner.core.sharing import each

P = TypeVar("P")
Say = Callable[[float], None]


def even_step(length: int, most: int) -> int:
    """Rows of a strip, `most` at most: an even number of strips of nearly the same size, so that two threads end together.

    Whatever the number of threads: where a strip begins must not change with them.
    """
    count = 2 * max(1, -(-length // (2 * most)))
    return max(1, -(-length // count))


def in_strips(strip: Callable[[P], None], parts: Sequence[P], say: Say | None, threads: int) -> None:
    """Work through all parts.

    Args:
        say: told how far the work is, 0 to 1; may raise to end it.
        threads: how many of its own; with 1, those of an export that waits for the frame share the work.
    """
    done, lock = 0, threading.Lock()

    def one(part: P) -> None:
        nonlocal done
        strip(part)
        with lock:
            done += 1
            if say:
                say(done / len(parts))

    if threads == 1:
        each(one, parts)
        return
    with ThreadPoolExecutor(threads) as pool:
        futures = [pool.submit(one, part) for part in parts]
        try:
            for future in futures:
                future.result()
        except BaseException:
            pool.shutdown(wait=True, cancel_futures=True)
            raise
