"""What workers note of a delivery right before a file gets its name, so that nothing is done twice, whoever ends when; and who may write.

A line holds the file's name without its folder: machines of a cluster may call the folder otherwise.
"""

import fcntl
import json
import os
from collections.abc import Iterator, Mapping
from contextlib import contextmanager
from pathlib import Path
from typing import Any

from tanner.core.output.files import file_hash

Lines = Mapping[int, dict[str, Any]]


def note(journal: str, number: int, path: Path, content: str, size: int) -> None:
    """A line, on the disk before this returns: what is about to be put where."""
    line = json.dumps({"item": number, "name": path.name, "content": content, "bytes": size}) + "\n"
    handle = os.open(journal, os.O_WRONLY | os.O_CREAT | os.O_APPEND, 0o644)
    try:
        os.write(handle, line.encode())
        os.fsync(handle)
    finally:
        os.close(handle)


def lines_of(journal: Path) -> Lines:
    """The last line about each item; a line that was cut short is left out."""
    found: dict[int, dict[str, Any]] = {}
    try:
        lines = journal.read_text(errors="replace").splitlines()
    except OSError:
        return found
    for line in lines:
        try:
            entry = json.loads(line)
            found[int(entry["item"])] = entry
        except (ValueError, KeyError, TypeError):
            continue
    return found


def placed(lines: Lines, number: int, folder: Path) -> dict[str, Any] | None:
    """The line about an item with its path, where its file is there, whole."""
    line = lines.get(number)
    if line is None:
        return None
    path = folder / str(line["name"])
    return {**line, "path": str(path)} if is_whole(path, line["content"], line["bytes"]) else None


def is_whole(path: Path, content: str, size: int) -> bool:
    """Whether a file is there with this checksum; its size is looked at first."""
    try:
        return path.stat().st_size == size and file_hash(path) == content
    except OSError:
        return False


@contextmanager
def alone(lock: Path) -> Iterator[bool]:
    """Whether no other process holds this lock; it is given up when the process ends, however it ends."""
    lock.parent.mkdir(parents=True, exist_ok=True)
    with lock.open("w") as file:
        try:
            fcntl.flock(file, fcntl.LOCK_EX | fcntl.LOCK_NB)
        except OSError:
            yield False
            return
        yield True


def nobody_at(busy: Path) -> None:
    """Wait until no worker of an earlier program writes files any more; each ends soon after its parent."""
    with busy.open("w") as file:
        fcntl.flock(file, fcntl.LOCK_EX)
