"""What is made once for a whole frame, before its strips are, is shared between the threads that wait for it.

Who begins says with which threads (`with_threads`); what is deep below asks for them (`each`). Within those threads nobody is
asked again: work that waited there for work of its own would wait for ever.
"""

from collections.abc import Callable, Iterator, Sequence
from concurrent.futures import Executor
from contextlib import contextmanager
from contextvars import ContextVar
from typing import TypeVar

A = TypeVar("A")
B = TypeVar("B")

# Threads of a pool do not take it over: there it is None.
_pool: ContextVar[Executor | None] = ContextVar("pool", default=None)


@contextmanager
def with_threads(pool: Executor | None) -> Iterator[None]:
    """While this lasts, `each` shares between these threads; with None it does all by itself."""
    before = _pool.set(pool)
    try:
        yield
    finally:
        _pool.reset(before)


def each(function: Callable[[A], B], things: Sequence[A]) -> list[B]:
    """The function of each thing, in order; what one of them raises comes out here."""
    pool = _pool.get()
    if pool is None or len(things) < 2:
        return [function(thing) for thing in things]
    return list(pool.map(function, things))


def bands(rows: int, most: int) -> list[tuple[int, int]]:
    """Rows in nearly equal bands of `most` at most: first and end of each. Whatever the threads: results must not change with them."""
    count = max(1, -(-rows // most))
    return [(rows * n // count, rows * (n + 1) // count) for n in range(count)]
