"""Frames that were on the Bench come back without being read again, and never when their file has changed."""

import os
import shutil
import time
from dataclasses import replace
from pathlib import Path

import numpy as np
import pytest

from tanner.catalogue.originals import stamp_of
from tanner.core.raw.reader import read
from tanner.jobs.workers import Workers
from tanner.web.viewer.mosaics import MosaicStore
from tanner.web.viewer.viewer import KEEP, Viewer


@pytest.fixture
def files(originals: Path, tmp_path: Path) -> list[str]:
    return [str(shutil.copy(originals / "T0001.DNG", tmp_path / f"A{n}.DNG")) for n in range(KEEP + 2)]


def test_a_mosaic_comes_back_as_it_was(files: list[str]) -> None:
    store, path = MosaicStore(), files[0]
    source = read(Path(path))
    store.put(path, source, stamp_of(Path(path)))
    assert store.holds(path)
    back = store.take(path)
    assert back and np.array_equal(back.data, source.data) and back.data.flags.c_contiguous
    assert back.data.dtype == np.uint16 and back.facts == source.facts and back.profiles == source.profiles
    assert back.memory is not source.memory
    assert store.take(path) is None and not store.holds(path)


def test_a_changed_file_is_read_again_and_the_oldest_go_first(files: list[str]) -> None:
    source = read(Path(files[0]))
    store = MosaicStore()
    store.put(files[0], source, stamp_of(Path(files[0])))
    os.utime(files[0], ns=(1, 1))
    assert not store.holds(files[0]) and store.take(files[0]) is None
    store.put(files[1], source, stamp_of(Path(files[1])))
    Path(files[1]).unlink()
    assert not store.holds(files[1]) and store.take(files[1]) is None
    small = MosaicStore(int(1.5 * source.data.nbytes))
    for path in files[2:5]:
        small.put(path, source, stamp_of(Path(path)))
    held = [small.holds(p) for p in files[2:5]]
    assert held[-1] and not held[0]
    # Finished pictures and files that were gone before are not kept.
    rgb = replace(source, data=np.zeros((3, 4, 5), np.float32))
    small.put(files[2], rgb, stamp_of(Path(files[2])))
    small.put(files[1], source, stamp_of(Path(files[1])))
    assert not small.holds(files[2]) and not small.holds(files[1])


def put_by(viewer: Viewer, path: str) -> None:
    """Waits until a frame is packed, which is done beside."""
    end = time.monotonic() + 30
    while not viewer._put_by.holds(path) and time.monotonic() < end:
        time.sleep(0.01)
    assert viewer._put_by.holds(path)


def test_walking_back_asks_no_worker(files: list[str]) -> None:
    with Workers(1) as workers:
        viewer = Viewer(workers)
        asked: list[str] = []
        soon = workers.soon
        workers.soon = lambda work, path, **more: asked.append(path) or soon(work, path, **more)  # type: ignore[method-assign,assignment,func-returns-value]
        first = viewer.source(files[0]).data.copy()
        for path in files[1:]:
            viewer.source(path)
        put_by(viewer, files[0])
        assert asked == files
        again = viewer.source(files[0])
        assert asked == files and np.array_equal(again.data, first)
        # Another file of the same name, once the first is no longer open.
        for path in files[1:]:
            viewer.source(path)
        put_by(viewer, files[0])
        os.utime(files[0], ns=(5, 5))
        viewer.source(files[0])
        assert asked[-1] == files[0]
        viewer.close()
