"""Brings files in: finds them, tells which are in already (by content), copies with a check, adds frames."""

import os
from collections.abc import Iterator, Sequence
from dataclasses import dataclass
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


@dataclass(frozen=True)
class Found:
    """A file that could be brought in."""

    path: Path
    bytes: int


def find_files(folder: Path) -> list[Found]:
    """Pictures in a folder and below it, by path; hidden files and folders and links are left out.

    Raises:
        TannerError: the folder cannot be read.
    """
    if not folder.is_dir():
        raise TannerError(f"{folder}: is no folder that can be read. Is the drive connected?")
    return sorted(_walk(folder), key=lambda f: str(f.path))


def _walk(folder: Path) -> Iterator[Found]:
    count = 0
    for base, folders, names in os.walk(folder, onerror=None, followlinks=False):
        folders[:] = [f for f in folders if not f.startswith(".")]
        for name in names:
            path = Path(base) / name
            kind = path.suffix.lower()
            if name.startswith((".", TEMPORARY)) or kind not in FINISHED | RAW or path.is_symlink():
                continue
            try:
                size = path.stat().st_size
            except OSError:
                size = 0
            count += 1
            if count > MOST_FILES:
                raise TannerError(f"{folder}: more than {MOST_FILES} pictures. Choose a folder further down.")
            yield Found(path, size)


def known_contents(session: Session, shoot_id: int) -> dict[str, str]:
    """Content hash to name of the frames that a shoot has."""
    query = select(Frame.content, Frame.name).where(Frame.shoot_id == shoot_id, Frame.alternate == 0)
    return dict(session.execute(query).all())


def copy_in(path: Path, folder: Path, content: str) -> tuple[Path, str]:
    """Copy a file from a card, with its checksum compared on both sides; see `copy_verified`.

    Args:
        content: the file's SHA-256. A copy of that content that lies there already is used: a program that was ended
            before it could say so has made it.
    """
    there = folder / path.name
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
            keywords=list(dict.fromkeys([*fields["facts"]["keywords"], *(k.strip() for k in keywords if k.strip())])),
        )
        session.add(frame)
        session.flush()
        return frame.id
