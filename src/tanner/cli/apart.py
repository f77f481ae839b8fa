"""A process apart, for files of strangers: one that crashes its decoder is one file's error, and the rest goes on."""

import contextlib
import os
import signal
from collections.abc import Callable
from multiprocessing.connection import Connection, Pipe
from types import TracebackType
from typing import Any, TypeVar

from tanner.core.errors import TannerError

T = TypeVar("T")


class Apart:
    """Runs one function after the other in a process of its own.

    It is forked, so that nothing is loaded twice: only for what starts no threads before it, as a short command does. A server has
    `tanner.jobs.workers` instead.
    """

    def __init__(self) -> None:
        self._child = 0
        self._to_child: Connection | None = None

    def __enter__(self) -> "Apart":
        return self

    def __exit__(self, kind: type[BaseException] | None, error: BaseException | None, at: TracebackType | None) -> None:
        self._end()

    def run(self, function: Callable[..., T], *args: Any, within_s: float) -> T:
        """What the function gives.

        Raises:
            TannerError: its process ended, took longer or needed too much memory; what the function raises comes as one.
        """
        if self._to_child is None:
            self._begin()
        assert self._to_child is not None
        try:
            self._to_child.send((function, args))
            if not self._to_child.poll(within_s):
                self._end()
                raise TannerError(f"This file was given up after {within_s:.0f} s. It may be damaged.")
            failed, result = self._to_child.recv()
        except (EOFError, ConnectionError):
            self._end()
            raise TannerError("The process that read this file crashed. The file may be damaged.") from None
        if failed:
            raise result
        return result  # type: ignore[no-any-return]

    def _begin(self) -> None:
        self._to_child, own = Pipe()
        self._child = os.fork()
        if self._child:
            own.close()
            return
        self._to_child.close()
        code = 1
        try:
            _serve(own)
            code = 0
        finally:
            # Without what the parent would do at its end.
            os._exit(code)

    def _end(self) -> None:
        if self._to_child is None:
            return
        self._to_child.close()
        self._to_child = None
        with contextlib.suppress(ProcessLookupError):
            os.kill(self._child, signal.SIGKILL)
        os.waitpid(self._child, 0)


def _serve(asked: Connection) -> None:
    """In the child: answer until the parent hangs up."""
    # Not above: every command loads this file, and the limits are checked by a large library.
    from tanner.core.limits import TooMuchMemory, bound_memory

    bound_memory()
    with contextlib.suppress(EOFError, ConnectionError):
        while True:
            function, args = asked.recv()
            try:
                answer = (False, function(*args))
            except TannerError as error:
                answer = (True, error)
            except MemoryError:
                answer = (True, TannerError(str(TooMuchMemory())))
            except Exception as error:  # not every one can be sent
                answer = (True, TannerError(f"This file cannot be read ({error!r})."))
            asked.send(answer)
