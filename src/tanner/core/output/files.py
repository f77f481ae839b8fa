"""Files are written whole or not at all."""

import errno
import os
import tempfile
from pathlib import Path

from tanner.core.errors import NameTaken, WriteFailed

TEMPORARY = ".tanner-"
"""Prefix of files that are being written; what a killed process leaves can be told by it."""


def write_whole(path: Path, data: bytes | memoryview, *, replace: bool = False) -> None:
    """Write beside the target under a temporary name, flush, and put it in place.

    Raises:
        NameTaken: the target exists and `replace` is not set; also when it came up meanwhile.
        WriteFailed: the folder is missing, read-only, or the disk is full; nothing is left behind.
    """
    if not replace and path.exists():
        raise NameTaken(path, "is there already and was not replaced.")
    temporary: str | None = None
    try:
        path.parent.mkdir(parents=True, exist_ok=True)
        handle, temporary = tempfile.mkstemp(prefix=TEMPORARY, dir=path.parent)
        with os.fdopen(handle, "wb") as stream:
            stream.write(data)
            stream.flush()
            os.fsync(stream.fileno())
        os.chmod(temporary, 0o644)
        if replace:
            os.replace(temporary, path)
            temporary = None
        else:
            _place_new(temporary, path)
    except FileExistsError:
        raise NameTaken(path, "is there already and was not replaced.") from None
    except OSError as error:
        words = {
            errno.ENOSPC: "the disk is full. Make room and try again.",
            errno.EROFS: "the folder is read-only. Choose another one.",
            errno.EACCES: "the folder may not be written to. Choose another one.",
        }
        reason = words.get(error.errno or 0, f"could not be written ({error.strerror}).")
        raise WriteFailed(path, reason) from None
    finally:
        if temporary and os.path.exists(temporary):
            os.unlink(temporary)


def _place_new(temporary: str, path: Path) -> None:
    """Rename without ever replacing: a hard link fails when the name is taken."""
    try:
        os.link(temporary, path)
    except OSError as error:
        if error.errno not in (errno.EPERM, errno.ENOTSUP, errno.EMLINK, errno.ENOSYS):
            raise
        if path.exists():
            raise FileExistsError(str(path)) from None
        os.rename(temporary, path)


def free_name(path: Path, taken: set[Path] | None = None) -> Path:
    """The path itself, or with -2, -3 ... before its ending, so that it is not there yet."""
    candidate, number = path, 1
    while candidate.exists() or (taken is not None and candidate in taken):
        number += 1
        candidate = path.with_name(f"{path.stem}-{number}{path.suffix}")
    return candidate
