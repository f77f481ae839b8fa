"""Care of the data folder while Tanner runs: backups by the clock, and where its room goes."""

import logging
import os
import sqlite3
import threading
from datetime import UTC, datetime
from pathlib import Path
from typing import Any

from tanner.catalogue import health
from tanner.core.limits import limits

log = logging.getLogger(__name__)
LOOKS_EVERY_S = 300.0


class Care:
    """Backs the catalogue up when it is time, in a thread of its own.

    Attributes:
        trouble: why the last backup could not be made, or empty.
    """

    def __init__(self, folder: Path) -> None:
        self.folder = folder
        self.trouble = ""
        self._end = threading.Event()
        self._thread = threading.Thread(target=self._run, daemon=True, name="care")

    def start(self) -> None:
        self._thread.start()

    def _run(self) -> None:
        while True:
            self.back_up()
            if self._end.wait(LOOKS_EVERY_S):
                return

    def back_up(self, every_s: float | None = None) -> Path | None:
        """Make a backup where it is time, or at once with `every_s` 0; trouble is kept to be told."""
        try:
            made = health.back_up(self.folder, every_s)
            self.trouble = ""
            return made
        except (OSError, sqlite3.Error) as error:
            self.trouble = f"The catalogue could not be backed up: {error}"
            log.warning("%s", self.trouble)
            return None

    def report(self) -> dict[str, Any]:
        """The catalogue, its backups, and what is kept beside it, each with its bytes and, where there is one, its budget."""
        now = limits()
        path = self.folder / health.NAME
        return {
            "catalogue": {"path": str(path), "bytes": sum(_size(Path(f"{path}{e}")) for e in ("", "-wal"))},
            "backups": [
                {"name": b.name, "bytes": _size(b), "at": datetime.fromtimestamp(b.stat().st_mtime, UTC).isoformat()}
                for b in health.backups(self.folder)
            ],
            "trouble": self.trouble,
            "rooms": [
                {"name": name, "bytes": _below(self.folder / folder), "gigabytes": gigabytes}
                for name, folder, gigabytes in (
                    ("previews", "pictures", now.previews_gigabytes),
                    ("blocks", "small", now.blocks_gigabytes),
                    ("quiet", "quiet", now.quiet_gigabytes),
                )
            ],
            "hours": now.backup_hours,
            "kept": now.backups_kept,
        }

    def close(self) -> None:
        self._end.set()


def _size(path: Path) -> int:
    try:
        return path.stat().st_size
    except OSError:
        return 0


def _below(folder: Path) -> int:
    """Bytes of all files in a folder and those below it."""
    total, left = 0, [folder]
    while left:
        try:
            with os.scandir(left.pop()) as entries:
                for entry in entries:
                    if entry.is_dir(follow_symlinks=False):
                        left.append(Path(entry.path))
                    else:
                        total += entry.stat(follow_symlinks=False).st_size
        except OSError:
            continue  # taken away while it was counted
    return total
