"""Pictures of the Sheet: whatever fails, and however fast, the next ones are made."""

import threading
from collections.abc import Callable
from concurrent.futures import Future, ThreadPoolExecutor
from pathlib import Path
from typing import Any

from tanner.catalogue.store import Catalogue
from tanner.jobs.pictures import Pictures, PictureWish
from tanner.jobs.workers import Workers


class _Quick(ThreadPoolExecutor):
    """Whatever is handed to it is over, or has had a second for it, before the handing returns."""

    def submit(self, fn: Callable[..., Any], /, *args: Any, **kwargs: Any) -> "Future[Any]":
        future = super().submit(fn, *args, **kwargs)
        over = threading.Event()
        future.add_done_callback(lambda _: over.set())
        over.wait(1.0)
        return future


def test_pictures_that_fail_at_once_hold_nothing_up(tmp_path: Path) -> None:
    """The Sheet stood still when a file was gone and was found to be so before the asking had ended."""
    catalogue = Catalogue(tmp_path)
    workers = Workers(1)
    pictures = Pictures(catalogue, workers)
    pictures._checks = _Quick(1)
    wishes = [PictureWish(n, f"/gone/{n}.dng", (), "v") for n in range(1, 6)]
    asking = threading.Thread(target=pictures.want, args=(wishes,), daemon=True)
    asking.start()
    asking.join(60)
    assert not asking.is_alive()
    assert pictures.wait(60) and pictures.pending == 0
    assert sorted(pictures.since(0)[1]) == [1, 2, 3, 4, 5]
    pictures.close()
    workers.shutdown(wait=False)
    catalogue.close()
