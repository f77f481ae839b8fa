"""Work items on other machines: a Dask cluster as a concurrent.futures executor, over storage that all of them see.

The same plain functions run with the same plain arguments as in this machine's own processes, so the results are the same
byte for byte. Paths are translated on the way there and back. What a lost worker was doing is done again by another one.
"""

import dataclasses
import threading
from collections.abc import Callable, Sequence
from concurrent.futures import Executor, Future
from pathlib import Path
from typing import Any, TypeVar

from tanner.core.colour.profile_store import PROFILE_STORE
from tanner.core.errors import TannerError
from tanner.core.noise.kept import KEPT
from tanner.core.noise.table import TABLE
from tanner.core.small import SMALL
from tanner.jobs.workers import WorkerDied

T = TypeVar("T")
Mapping = Sequence[tuple[str, str]]
"""Pairs of folders: as they are called here, and as the workers call them."""
REACH_S = 15.0


def parse_mapping(pairs: Sequence[str]) -> list[tuple[str, str]]:
    """HERE=THERE texts as pairs.

    Raises:
        TannerError: one is no pair of full paths.
    """
    found = []
    for pair in pairs:
        here, equals, there = pair.partition("=")
        if not equals or not here.startswith("/") or not there.startswith("/"):
            raise TannerError(f"{pair}: write two full paths as HERE=THERE.")
        found.append((here.rstrip("/"), there.rstrip("/")))
    return found


def mapped(value: Any, mapping: Mapping) -> Any:
    """A plain value with every path in it translated; texts that begin with no folder of the mapping stay."""
    if isinstance(value, str):
        for here, there in mapping:
            if value == here or value.startswith(f"{here}/"):
                return there + value[len(here) :]
        return value
    if isinstance(value, Path):
        return Path(mapped(str(value), mapping))
    if isinstance(value, dict):
        return {k: mapped(v, mapping) for k, v in value.items()}
    if isinstance(value, list | tuple) and not hasattr(value, "_fields"):
        return type(value)(mapped(v, mapping) for v in value)
    if dataclasses.is_dataclass(value) and not isinstance(value, type):
        changed = {f.name: mapped(getattr(value, f.name), mapping) for f in dataclasses.fields(value) if f.init}
        return dataclasses.replace(value, **changed)
    return value


class Prepared:
    """What each worker is told when it joins: where profiles, kept results and tables lie for it.

    A plugin of distributed's workers, by its methods; folders that a worker does not see it does without.
    """

    name = "tanner"

    def __init__(self, folders: list[str], kept: str, small: str, table: str) -> None:
        self.folders, self.kept, self.small, self.table = folders, kept, small, table

    def setup(self, worker: Any) -> None:
        def seen(text: str) -> Path | None:
            return Path(text) if text and Path(text).parent.is_dir() else None

        PROFILE_STORE.folders = [p for p in map(seen, self.folders) if p]
        KEPT.folder, SMALL.folder, TABLE.file = seen(self.kept), seen(self.small), seen(self.table)


class Cluster(Executor):
    """An executor whose work is done by a Dask cluster.

    Args:
        address: of its scheduler, as tcp://host:8786.
        mapping: folders as they are called here and there.

    Raises:
        TannerError: the scheduler does not answer, or has no workers.
    """

    def __init__(self, address: str, mapping: Mapping = (), time_limit_s: float = 900.0) -> None:
        from distributed import Client
        from distributed.diagnostics.plugin import WorkerPlugin

        self.mapping = list(mapping)
        self._back = [(there, here) for here, there in mapping]
        self.time_limit_s = time_limit_s
        try:
            self._client = Client(address, timeout=REACH_S, set_as_default=False)
            self._client.wait_for_workers(1, timeout=REACH_S)
        except (OSError, TimeoutError) as error:
            raise TannerError(
                f"The Dask cluster at {address} does not answer ({error}). Are its workers started?"
            ) from None
        there = mapped(
            {
                "folders": [str(f) for f in PROFILE_STORE.folders],
                "kept": str(KEPT.folder or ""),
                "small": str(SMALL.folder or ""),
                "table": str(TABLE.file or ""),
            },
            self.mapping,
        )
        plugin = type("TannerPlugin", (Prepared, WorkerPlugin), {})(**there)
        self._client.register_plugin(plugin, name="tanner")
        self._lock = threading.Lock()
        self._count = 0

    @property
    def processes(self) -> int:
        """How many items are worked on at once; one while the scheduler does not answer, and that one tells why."""
        try:
            workers = self._client.scheduler_info(n_workers=-1)["workers"]
        except (OSError, TimeoutError):
            return 1
        return max(1, sum(int(w["nthreads"]) for w in workers.values()))

    def submit(self, function: Callable[..., T], /, *args: Any, **kwargs: Any) -> Future[T]:
        with self._lock:
            self._count += 1
            key = f"{function.__name__}-{id(self):x}-{self._count}"
        result: Future[T] = Future()
        result.set_running_or_notify_cancel()
        there = self._client.submit(
            function, *mapped(args, self.mapping), **mapped(kwargs, self.mapping), key=key, pure=False
        )

        def finished(done: Any) -> None:
            try:
                result.set_result(mapped(done.result(timeout=self.time_limit_s), self._back))
            except BaseException as error:
                result.set_exception(_plain(error))

        there.add_done_callback(finished)
        return result

    def shutdown(self, wait: bool = True, *, cancel_futures: bool = False) -> None:
        self._client.close()


def _plain(error: BaseException) -> BaseException:
    """Errors of the cluster in our own words."""
    kind = type(error).__name__
    if kind == "KilledWorker":
        return WorkerDied("Several workers ended while they read this file. The file may be damaged.")
    if kind in ("CancelledError", "FutureCancelledError", "CommClosedError"):
        return WorkerDied("The connection to the Dask cluster was lost. Go on once it is back.")
    return error
