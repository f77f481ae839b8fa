"""Brings files in: finds them, tells which are in already (by content), copies with a check, adds frames."""

import os
from collections.abc import Container, Iterator, Mapping, Sequence
from dataclasses import dataclass, replace
from pathlib import Path
from typing import Any

from sqlalchemy import select
from sqlalchemy.orm import Session

from tanner.catalogue.models import WITH_GONE, Frame, Shoot
from tanner.catalogue.originals import fields_of, stamp_of
from tanner.catalogue.store import Catalogue
from tanner.core.errors import TannerError
from tanner.core.output.files import TEMPORARY, copy_verified, file_hash
from tanner.core.raw.reader import FINISHED, RAW

MOST_FILES = 20_000
OTHERS = frozenset(
    [".wav", ".mp3", ".m4a", ".aac", ".mp4", ".mov", ".avi", ".mts", ".m4v", ".mpg", ".txt", ".pdf", ".gpx", ".csv"]
)
"""Endings of sound, video and notes: listed, and copied along where that is asked for."""


@dataclass(frozen=True)
class FoundFile:
    """A file that could be brought in.

    Attributes:
        when: seconds since 1970 at which it was last written: a card's files were written as they were taken.
        companions: finished pictures of the same shot beside a raw file.
    """

    path: Path
    bytes: int
    when: float = 0.0
    companions: tuple[Path, ...] = ()


def find_files(folder: Path) -> list[FoundFile]:
    """Pictures in a folder and below it, by path; hidden files and folders and links are left out.

    Raises:
        TannerError: the folder cannot be read.
    """
    return sorted(_walk(folder, FINISHED | RAW), key=lambda f: str(f.path))


def find_others(folder: Path) -> list[FoundFile]:
    """Sound, video and notes in a folder and below it, by path."""
    return sorted(_walk(folder, OTHERS), key=lambda f: str(f.path))


def shots(files: Sequence[FoundFile]) -> list[FoundFile]:
    """Raw files with the finished pictures of the same shot, which have the same name but for the ending, as their companions."""
    raws = {(f.path.parent, f.path.stem.casefold()): f for f in files if f.path.suffix.lower() in RAW}
    beside: dict[Path, list[Path]] = {}
    for file in files:
        raw = raws.get((file.path.parent, file.path.stem.casefold()))
        if raw is not None and file.path.suffix.lower() in FINISHED:
            beside.setdefault(raw.path, []).append(file.path)
    taken = {p for each in beside.values() for p in each}
    return [replace(f, companions=tuple(beside.get(f.path, ()))) for f in files if f.path not in taken]


def _walk(folder: Path, kinds: Container[str]) -> Iterator[FoundFile]:
    if not folder.is_dir():
        raise TannerError(f"{folder}: is no folder that can be read. Is the drive connected?")
    count = 0
    for base, folders, names in os.walk(folder, onerror=None, followlinks=False):
        folders[:] = [f for f in folders if not f.startswith(".")]
        for name in names:
            path = Path(base) / name
            kind = path.suffix.lower()
            if name.startswith((".", TEMPORARY)) or kind not in kinds or path.is_symlink():
                continue
            try:
                state = path.stat()
                size, when = state.st_size, state.st_mtime
            except OSError:
                size, when = 0, 0.0
            count += 1
            if count > MOST_FILES:
                raise TannerError(f"{folder}: more than {MOST_FILES} pictures. Choose a folder further down.")
            yield FoundFile(path, size, when)


def known_contents(session: Session, shoot_id: int) -> dict[str, str]:
    """Content hash to name of the frames that a shoot has."""
    query = select(Frame.content, Frame.name).where(Frame.shoot_id == shoot_id, Frame.alternate == 0)
    return dict(session.execute(query).all())


def copy_in(path: Path, there: Path, content: str) -> tuple[Path, str]:
    """Copy a file from a card, with its checksum compared on both sides; see `copy_verified`.

    Args:
        there: where it goes; content: the file's SHA-256. A copy of that content that lies there already is used: a program that was ended
            before it could say so has made it.
    """
    if there.is_file() and not there.is_symlink() and not there.samefile(path) and file_hash(there) == content:
        return there, content
    return copy_verified(path, there)


def add_frame(
    catalogue: Catalogue,
    shoot_id: int,
    path: Path,
    content: str,
    facts: dict[str, Any],
    *,
    keywords: Sequence[str] = (),
    words: Mapping[str, str] | None = None,
) -> int | None:
    """Add one frame from its facts, or bring the one back that was taken out; None when its content is in already."""
    fields = fields_of(facts)
    with catalogue.write() as session:
        if session.get(Shoot, shoot_id) is None:
            raise TannerError("This shoot is no longer there.")
        query = select(Frame).where(Frame.shoot_id == shoot_id, Frame.content == content, Frame.alternate == 0)
        there = session.scalar(query, execution_options=WITH_GONE)
        if there is not None:
            if not there.gone:
                return None
            there.gone, there.path, there.name, there.stamp = False, str(path), path.name, stamp_of(path)
            return there.id
        frame = Frame(
            shoot_id=shoot_id,
            path=str(path),
            stamp=stamp_of(path),
            name=path.name,
            content=content,
            **fields,
            words={k: v for k, v in (words or {}).items() if v},
            keywords=list(dict.fromkeys([*fields["facts"]["keywords"], *(k.strip() for k in keywords if k.strip())])),
        )
        session.add(frame)
        session.flush()
        return frame.id
