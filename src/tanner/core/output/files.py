"""Files are written whole or not at all."""

import errno
import hashlib
import os
import shutil
import tempfile
from pathlib import Path
from typing import BinaryIO

from tanner.core.errors import NameTaken, UnreadableFile, WriteFailed

TEMPORARY = ".tanner-"
"""Prefix of files that are being written; what a killed process leaves can be told by it."""


def write_whole(
    path: Path, data: bytes | memoryview, *, replace: bool = False, lasting: bool = True, tag: str = "",
    modified: float | None = None,
) -> None:  # fmt: skip
    """Write beside the target under a temporary name, flush, and put it in place.

    Args:
        lasting: flushed to the disk, so that it outlives a power cut; what can be made again need not be.
        tag: stands in the temporary name, so that whose it was can be told (see `sweep`).
        modified: when the file says that it was written, seconds of the epoch; now, when left out.

    Raises:
        NameTaken: the target exists and `replace` is not set; also when it came up meanwhile.
        WriteFailed: the folder is missing, read-only, or the disk is full; nothing is left behind.
    """
    if not replace and path.exists():
        raise NameTaken(path, "is there already and was not replaced.")
    temporary: str | None = None
    _make_folder(path)
    try:
        handle, temporary = tempfile.mkstemp(prefix=f"{TEMPORARY}{tag}", dir=path.parent)
        with os.fdopen(handle, "wb") as stream:
            stream.write(data)
            stream.flush()
            if lasting:
                os.fsync(stream.fileno())
        os.chmod(temporary, 0o644)
        if modified is not None:
            os.utime(temporary, (modified, modified))
        if replace:
            os.replace(temporary, path)
            temporary = None
        else:
            _place_new(temporary, path)
        if lasting:
            _flush_folder(path.parent)
    except FileExistsError:
        raise NameTaken(path, "is there already and was not replaced.") from None
    except OSError as error:
        raise _write_failed(path, error) from None
    finally:
        if temporary and os.path.exists(temporary):
            os.unlink(temporary)


def _flush_folder(folder: Path) -> None:
    """The name itself on the disk, too; some file systems do not know of it."""
    try:
        handle = os.open(folder, os.O_RDONLY)
    except OSError:
        return
    try:
        os.fsync(handle)
    except OSError:
        pass
    finally:
        os.close(handle)


def sweep(folder: Path, tag: str) -> int:
    """Remove what a killed program left half-written in a folder under a tag; how many files that were."""
    count = 0
    try:
        left = [p for p in folder.iterdir() if p.name.startswith(f"{TEMPORARY}{tag}")]
    except OSError:
        return 0
    for path in left:
        try:
            path.unlink()
            count += 1
        except OSError:
            continue
    return count


def stay_within(folder: Path, target: Path) -> None:
    """A target whose folders, with all links followed as they are now, lie in a folder.

    Raises:
        WriteFailed: they lead out of it.
    """
    root, there = folder.resolve(), target.parent
    # What is not there yet will be made, and is no link.
    while not os.path.lexists(there) and there != there.parent:
        there = there.parent
    real = there.resolve()
    if real != root and root not in real.parents and real not in (root, *root.parents):
        raise WriteFailed(target, f"a link in its folder leads out of {folder}. Choose another subfolder.")
    if os.path.islink(there) and not there.exists():
        raise WriteFailed(target, "a link in its folder leads to nothing. Choose another subfolder.")


def _make_folder(target: Path) -> None:
    """The folder that a file is to lie in."""
    try:
        target.parent.mkdir(parents=True, exist_ok=True)
    except FileExistsError:
        raise WriteFailed(target, "its folder's name is taken by a file. Choose another folder.") from None
    except OSError as error:
        raise _write_failed(target, error) from None


def _write_failed(path: Path, error: OSError) -> WriteFailed:
    words = {
        errno.ENOSPC: "the disk is full. Make room and try again.",
        errno.EROFS: "the folder is read-only. Choose another one.",
        errno.EACCES: "the folder may not be written to. Choose another one.",
        errno.ENOTDIR: "a part of its folder's path is a file. Choose another folder.",
    }
    return WriteFailed(path, words.get(error.errno or 0, f"could not be written ({error.strerror})."))


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


def free_name(path: Path) -> Path:
    """The path itself, or with -2, -3 ... before its ending, so that it is not there yet."""
    candidate, number = path, 1
    while candidate.exists():
        number += 1
        candidate = path.with_name(f"{path.stem}-{number}{path.suffix}")
    return candidate


def copy_verified(source: Path, target: Path) -> tuple[Path, str]:
    """Copy a file and read the copy back: both must have the same SHA-256.

    Args:
        target: where it goes; a taken name gets a number.

    Returns:
        The path that was written, and the checksum.

    Raises:
        UnreadableFile: the source cannot be read.
        WriteFailed: the copy differs or cannot be written; nothing is left behind.
    """
    temporary: str | None = None
    _make_folder(target)
    try:
        handle, temporary = tempfile.mkstemp(prefix=TEMPORARY, dir=target.parent)
        with os.fdopen(handle, "wb") as out:
            expected = _pour(source, out)
            out.flush()
            os.fsync(out.fileno())
        if file_hash(Path(temporary)) != expected:
            raise WriteFailed(target, "the copy differs from the original and was thrown away. Try again.")
        os.chmod(temporary, 0o644)
        shutil.copystat(source, temporary)
        while True:
            free = free_name(target)
            try:
                _place_new(temporary, free)
                return free, expected
            except FileExistsError:
                continue
    except OSError as error:
        raise _write_failed(target, error) from None
    finally:
        if temporary and os.path.exists(temporary):
            os.unlink(temporary)


def _pour(source: Path, out: BinaryIO) -> str:
    """Copy bytes; trouble in reading is told apart from trouble in writing."""
    digest = hashlib.sha256()
    try:
        stream = source.open("rb")
    except OSError as error:
        raise UnreadableFile(source, f"cannot be opened ({error.strerror}).") from None
    with stream:
        while True:
            try:
                chunk = stream.read(1 << 20)
            except OSError as error:
                raise UnreadableFile(source, f"cannot be read to its end ({error.strerror}).") from None
            if not chunk:
                return digest.hexdigest()
            digest.update(chunk)
            out.write(chunk)


def file_hash(path: Path) -> str:
    """SHA-256 of a file's bytes: what tells whether it is already in.

    Raises:
        UnreadableFile: it cannot be read.
    """
    digest = hashlib.sha256()
    try:
        with path.open("rb") as stream:
            while chunk := stream.read(1 << 20):
                digest.update(chunk)
    except OSError as error:
        raise UnreadableFile(path, f"cannot be read ({error.strerror}). Is the drive connected?") from None
    return digest.hexdigest()
