"""Worker processes in which foreign files are decoded: a crash is one item's error, not the server's."""

import itertools
import os
import threading
from collections.abc import Callable
from concurrent.futures import Executor, Future, ProcessPoolExecutor, ThreadPoolExecutor
from concurrent.futures import TimeoutError as Late
from concurrent.futures.process import BrokenProcessPool
from multiprocessing import get_context
from pathlib import Path
from queue import Empty, PriorityQueue
from typing import Any, TypeVar

from tanner.core.colour.profile_store import PROFILE_STORE
from tanner.core.errors import TannerError
from tanner.core.limits import TooMuchMemory, bound_memory
from tanner.core.noise.kept import KEPT
from tanner.core.noise.table import TABLE
from tanner.core.small import SMALL

T = TypeVar("T")


class WorkerDied(TannerError):
    """The process that worked on an item ended: a decoder crashed, or it was killed."""


Place = tuple[Path | None, int]
"""A folder and its budget in bytes."""


def _prepare(parent: int, folders: list[Path], kept: Place, small: Place, table: Path | None) -> None:
    PROFILE_STORE.folders = folders
    KEPT.folder, KEPT.budget = kept
    SMALL.folder, SMALL.budget = small
    TABLE.file = table
    bound_memory()
    # A worker that outlives its parent would keep files and memory: end with it instead.
    # Its number is told by the parent: one that was killed while this process started would not be found any more.
    threading.Thread(target=_end_with_parent, args=(parent,), daemon=True).start()


def _end_with_parent(parent: int) -> None:
    while os.getppid() == parent:
        threading.Event().wait(2)
    os._exit(1)


class Workers(Executor):
    """A concurrent.futures executor of `processes` processes, each with one item at a time.

    One process a lane, not one shared pool: when a process dies, exactly its own item fails, and the lane
    starts a new one. Processes are spawned; forking after OpenMP has run can hang the decoder.

    What somebody waits for goes before what was asked for earlier: `soon` before `shown`, and that before `submit`.
    """

    def __init__(self, processes: int, time_limit_s: float = 300.0) -> None:
        self._threads = ThreadPoolExecutor(processes, thread_name_prefix="lane")
        self._waiting: PriorityQueue[tuple[int, int, Future[Any], Callable[[], Any]]] = PriorityQueue()
        self._order = itertools.count()
        self._local = threading.local()
        self._all: list[ProcessPoolExecutor] = []
        self._lock = threading.Lock()
        self._closed = False
        self.processes = processes
        self.time_limit_s = time_limit_s

    def _lane(self) -> ProcessPoolExecutor:
        lane: ProcessPoolExecutor | None = getattr(self._local, "lane", None)
        if lane is None:
            if self._closed:
                raise WorkerDied("This file was not read: the program ends.")
            lane = ProcessPoolExecutor(
                1,
                mp_context=get_context("spawn"),
                initializer=_prepare,
                initargs=(
                    os.getpid(),
                    list(PROFILE_STORE.folders),
                    (KEPT.folder, KEPT.budget),
                    (SMALL.folder, SMALL.budget),
                    TABLE.file,
                ),
            )
            self._local.lane = lane
            with self._lock:
                self._all.append(lane)
        return lane

    def _end_lane(self) -> str:
        """Give the lane's process up; how it ended, in words."""
        lane: ProcessPoolExecutor = self._local.lane
        self._local.lane = None
        with self._lock:
            if lane in self._all:  # not after all were ended
                self._all.remove(lane)
        processes = list((lane._processes or {}).values())
        ended = next((p.exitcode for p in processes if p.exitcode is not None), None)
        for process in processes:
            process.kill()
        lane.shutdown(wait=False, cancel_futures=True)
        return f"was ended by signal {-ended}" if ended is not None and ended < 0 else "crashed"

    def _run(self, function: Callable[..., T], args: tuple[Any, ...], kwargs: dict[str, Any]) -> T:
        try:
            return self._lane().submit(function, *args, **kwargs).result(self.time_limit_s)
        except MemoryError:
            # What was allocated up to there may be held by its traceback: a fresh process is the sure way to be rid of it.
            self._end_lane()
            raise TooMuchMemory from None
        except BrokenProcessPool:
            first = self._end_lane()
        except Late:
            self._end_lane()
            raise WorkerDied(f"This file was given up after {self.time_limit_s:.0f} s. It may be damaged.") from None
        if self._closed:
            raise WorkerDied(f"The process that read this file {first} at the end of the program.")
        # A process that is killed from outside says nothing of its file: it is tried once more.
        try:
            return self._lane().submit(function, *args, **kwargs).result(self.time_limit_s)
        except BrokenProcessPool:
            how = self._end_lane()
            raise WorkerDied(
                f"The process that read this file {how}, twice. The file may be damaged, or the computer is out of memory."
            ) from None
        except Late:
            self._end_lane()
            raise WorkerDied(f"This file was given up after {self.time_limit_s:.0f} s. It may be damaged.") from None

    def submit(self, function: Callable[..., T], /, *args: Any, **kwargs: Any) -> Future[T]:
        return self._enter(2, function, args, kwargs)

    def shown(self, function: Callable[..., T], /, *args: Any) -> Future[T]:
        """Before what goes on behind the scenes: something that is on the screen, one of many."""
        return self._enter(1, function, args, {})

    def soon(self, function: Callable[..., T], /, *args: Any) -> Future[T]:
        """Before all that waits: somebody asked for this one thing, and looks on."""
        return self._enter(0, function, args, {})

    def _enter(self, rank: int, function: Callable[..., T], args: tuple[Any, ...], kwargs: dict[str, Any]) -> Future[T]:
        future: Future[T] = Future()
        self._waiting.put((rank, next(self._order), future, lambda: self._run(function, args, kwargs)))
        # Which item it will be is decided when a lane is free.
        self._threads.submit(self._next)
        return future

    def _next(self) -> None:
        _, _, future, work = self._waiting.get_nowait()
        if not future.set_running_or_notify_cancel():
            return
        try:
            future.set_result(work())
        except BaseException as error:
            future.set_exception(error)

    def _give_up_waiting(self) -> None:
        while True:
            try:
                self._waiting.get_nowait()[2].cancel()
            except Empty:
                return

    def shutdown(self, wait: bool = True, *, cancel_futures: bool = False) -> None:
        self._closed = self._closed or cancel_futures
        self._threads.shutdown(wait=False, cancel_futures=cancel_futures)
        if cancel_futures:
            self._give_up_waiting()
        with self._lock:
            ended, self._all = self._all, []
        for lane in ended:
            # Shutting down waits for a process that is just being started: only then all are known that have to end.
            processes = lane._processes or {}
            lane.shutdown(wait=wait, cancel_futures=cancel_futures)
            if not wait:
                for process in list(processes.values()):
                    process.kill()
        self._threads.shutdown(wait=wait)
