"""Files that promise too much: refused by their header; the limit can be raised."""

import struct
import zlib
from pathlib import Path

import pytest

from tanner.core import limits
from tanner.core.errors import SettingsError, UnreadableFile
from tanner.core.raw.reader import read
from tanner.jobs.workers import TooMuchMemory, Workers


def png(width: int, height: int) -> bytes:
    """A PNG that says how large it is and holds next to nothing."""

    def chunk(kind: bytes, body: bytes) -> bytes:
        return struct.pack(">I", len(body)) + kind + body + struct.pack(">I", zlib.crc32(kind + body))

    head = struct.pack(">IIBBBBB", width, height, 8, 2, 0, 0, 0)
    return (
        b"\x89PNG\r\n\x1a\n" + chunk(b"IHDR", head) + chunk(b"IDAT", zlib.compress(b"\0" * 100)) + chunk(b"IEND", b"")
    )


@pytest.fixture
def fresh(monkeypatch: pytest.MonkeyPatch):  # type: ignore[no-untyped-def]
    monkeypatch.delenv("TANNER_MOST_MEGAPIXELS", raising=False)
    limits.limits.cache_clear()
    yield monkeypatch
    monkeypatch.undo()
    limits.limits.cache_clear()


def test_a_header_that_says_400_megapixels_is_enough(fresh: pytest.MonkeyPatch, tmp_path: Path) -> None:
    path = tmp_path / "large.png"
    path.write_bytes(png(20_000, 20_000))
    with pytest.raises(UnreadableFile, match=r"20000 × 20000 px, more than the 120 megapixels.*settings\.toml"):
        read(path)
    assert read_small_is_fine(tmp_path)


def read_small_is_fine(folder: Path) -> bool:
    import cv2
    import numpy as np

    cv2.imwrite(str(folder / "small.png"), np.full((40, 60, 3), 90, np.uint8))
    return read(folder / "small.png").size == (60, 40)


def test_the_limit_is_raised_in_the_settings_file(fresh: pytest.MonkeyPatch, tmp_path: Path) -> None:
    fresh.setenv("TANNER_MOST_MEGAPIXELS", "0.001")
    limits.limits.cache_clear()
    with pytest.raises(SettingsError, match="TANNER_MOST_MEGAPIXELS"):
        limits.limits()
    fresh.delenv("TANNER_MOST_MEGAPIXELS")
    limits.take(tmp_path)
    assert limits.limits().most_megapixels == 120
    (tmp_path / "settings.toml").write_text("most_megapixels = 200\n")
    limits.take(tmp_path)
    assert limits.limits().most_megapixels == 200
    import os

    fresh.setenv("TANNER_MOST_MEGAPIXELS", os.environ["TANNER_MOST_MEGAPIXELS"])
    for wrong in ("most_megapixels = 'many'", "most = 3", "= ="):
        (tmp_path / "settings.toml").write_text(wrong)
        with pytest.raises(SettingsError, match=r"settings\.toml"):
            limits.take(tmp_path)


def grabbed(size: int) -> int:
    import numpy as np

    return int(np.ones(size, np.uint8)[-1])


def test_a_worker_has_a_bound_of_memory_and_goes_on_after_it() -> None:
    """Two at the limit and the server fit into 8 GB; what needs more is that item's error alone."""
    assert 2 * limits.Limits().worker_gigabytes < 8
    with Workers(1) as workers:
        with pytest.raises(TooMuchMemory, match=r"3\.5 GB.*worker_gigabytes in settings\.toml"):
            workers.submit(grabbed, 5_000_000_000).result()
        assert workers.submit(grabbed, 1000).result() == 1
