"""Quiet frames kept on disk, so that seconds of work are done once: a folder within a budget, the longest unused go first."""

import contextlib
import hashlib
import logging
import os
from pathlib import Path
from typing import Any

import numpy as np
from numpy.typing import NDArray

log = logging.getLogger(__name__)
RECOUNT = 100
"""A folder is counted anew after so many results."""
VERSION = 4
"""Counts up whenever a method gives other numbers."""


class Kept:
    """Where results are kept; nowhere until a folder is set.

    Attributes:
        folder: the same in every process of Tanner; budget: bytes.
    """

    def __init__(self) -> None:
        self.folder: Path | None = None
        self.budget = 6 << 30
        # Bytes in the folder, as far as this process knows: counted anew only now and then, for others write there too.
        self._total: dict[Path, int] = {}
        self._since = 0

    def file(self, original: str, what: str) -> Path | None:
        """Where a result of a file stands, by its place, length and time; None when it cannot be kept."""
        if self.folder is None or not original:
            return None
        try:
            state = Path(original).stat()
        except OSError:
            return None
        text = f"{Path(original).absolute()}|{state.st_size}|{state.st_mtime_ns}|{what}|{VERSION}"
        return self.folder / f"{hashlib.sha1(text.encode()).hexdigest()[:24]}-{what}.npy"

    def has(self, original: str, what: str) -> bool:
        file = self.file(original, what)
        return file is not None and file.exists()

    def find(self, original: str, what: str) -> NDArray[Any] | None:
        file = self.file(original, what)
        if file is None or not file.exists():
            return None
        try:
            # Read from disk as it is needed; a private view, so that kernels get the kind of array that they know.
            found = np.asarray(np.load(file, mmap_mode="c"))
            os.utime(file)
        except (OSError, ValueError):
            file.unlink(missing_ok=True)
            return None
        return found

    def keep(self, original: str, what: str, data: NDArray[Any]) -> None:
        """Keep a result; a full disk only means that it is worked out again."""
        file = self.file(original, what)
        if file is None:
            return
        part = file.with_name(f".{os.getpid()}-{file.name}")
        try:
            file.parent.mkdir(parents=True, exist_ok=True)
            self._make_room(data.nbytes)
            with part.open("wb") as out:
                np.save(out, data)
            part.replace(file)
        except OSError as error:
            log.warning("a quiet frame could not be kept: %s", error)
        finally:
            with contextlib.suppress(OSError):
                part.unlink(missing_ok=True)

    def _make_room(self, wanted: int) -> None:
        assert self.folder is not None
        known = self._total.get(self.folder)
        self._since += 1
        if known is not None and known + wanted <= self.budget and self._since < RECOUNT:
            self._total[self.folder] = known + wanted
            return
        self._since = 0
        files = []
        for path in self.folder.glob("*.npy"):
            with contextlib.suppress(OSError):
                files.append((path.stat().st_mtime, path.stat().st_size, path))
        total = sum(size for _, size, _ in files) + wanted
        for _, size, path in sorted(files):
            if total <= self.budget:
                break
            path.unlink(missing_ok=True)
            total -= size
        self._total[self.folder] = total


KEPT = Kept()
