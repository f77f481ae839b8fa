"""One server at a time on a data folder: a lock that the system takes away when its program ends, however it ends."""

import fcntl
import os
from pathlib import Path
from typing import IO

from tanner.catalogue.health import writable
from tanner.core.errors import TannerError


class FolderLock:
    """Held from its making until `release`, or until the program ends.

    Raises:
        TannerError: another program holds it.
    """

    def __init__(self, folder: Path) -> None:
        folder.mkdir(parents=True, exist_ok=True)
        writable(folder)
        path = folder / "server.lock"
        self._file: IO[str] | None = path.open("a+")
        try:
            fcntl.flock(self._file, fcntl.LOCK_EX | fcntl.LOCK_NB)
        except OSError:
            self._file.seek(0)
            who = self._file.read().strip()
            self._file.close()
            self._file = None
            raise TannerError(
                f"Another Tanner works with {folder}{f' (process {who})' if who else ''}. "
                "Close it, or choose another folder with --data."
            ) from None
        self._file.truncate(0)
        self._file.write(str(os.getpid()))
        self._file.flush()

    def release(self) -> None:
        if self._file is not None:
            self._file.close()
            self._file = None
