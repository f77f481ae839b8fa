"""Is an original still the file that came in? By size and time where that is enough, else by its content."""

from collections.abc import Iterable, Iterator, Mapping
from pathlib import Path
from typing import Any

from sqlalchemy import select, update

from tanner.catalogue.models import Frame
from tanner.catalogue.store import Catalogue
from tanner.core.errors import TannerError, UnreadableFile
from tanner.core.output.files import file_hash
from tanner.core.raw.facts import FrameFacts

REPLACED = (
    "This file is not the one that came in: another lies under its name. "
    "Put the old one back, or say that this is the frame's file now."
)
GONE = "This file is not there. Is its drive connected, or was it moved?"


def stamp_of(path: Path) -> str:
    """Size and time of a file, "" where there is none."""
    try:
        state = path.stat()
    except OSError:
        return ""
    return f"{state.st_size}-{state.st_mtime_ns}"


def trouble_of(path: Path, content: str, stamp: str = "") -> tuple[str, str]:
    """What is wrong with an original, or "", and its stamp.

    Args:
        content: SHA-256 of the file that came in; stamp: of when that was last compared, which then need not be done.
    """
    now = stamp_of(path)
    if not now:
        return GONE, ""
    if stamp and now == stamp:
        return "", now
    try:
        return ("" if file_hash(path) == content else REPLACED), now
    except UnreadableFile as error:
        return f"This file {error.reason}", ""


def check_frame(catalogue: Catalogue, frame_id: int, *, fully: bool = False) -> str:
    """Compare a frame's file with the one that came in, and keep what was found with all developments of it.

    Args:
        fully: by content, whatever size and time say.
    """
    with catalogue.read() as session:
        frame = session.get(Frame, frame_id)
        if frame is None:
            raise TannerError("This frame is no longer there.")
        path, content, stamp, error = frame.path, frame.content, frame.stamp, frame.error
    trouble, now = trouble_of(Path(path), content, "" if fully else stamp)
    known = "" if trouble else now
    if known != stamp or (trouble != error and (trouble or error in (REPLACED, GONE))):
        with catalogue.write() as session:
            message = trouble if trouble or error in (REPLACED, GONE) else error
            session.execute(
                update(Frame).where(Frame.path == path, Frame.content == content).values(stamp=known, error=message)
            )
    return trouble


def same_or_refused(catalogue: Catalogue, frame_id: int, *, fully: bool = False) -> None:
    """`check_frame` for work that must not go on with another file.

    Raises:
        TannerError: the file is not the one that came in; names the frame.
    """
    if trouble := check_frame(catalogue, frame_id, fully=fully):
        with catalogue.read() as session:
            name = session.scalar(select(Frame.name).where(Frame.id == frame_id))
        raise TannerError(f"{name}: {trouble}")


def originals_of(catalogue: Catalogue, shoot_id: int | None = None) -> list[tuple[int, str]]:
    """(frame, path) of each original of a shoot, or of all, by path; alternates share theirs."""
    with catalogue.read() as session:
        query = select(Frame.id, Frame.path).where(Frame.alternate == 0).order_by(Frame.path)
        if shoot_id is not None:
            query = query.where(Frame.shoot_id == shoot_id)
        return [(i, p) for i, p in session.execute(query)]


def check_all(catalogue: Catalogue, shoot_id: int | None = None) -> Iterator[dict[str, Any]]:
    """Every original of a shoot, or of all, by its content, as {frame, path, trouble}; each file is read once."""
    frames = originals_of(catalogue, shoot_id)
    for frame_id, path in frames:
        yield {"frame": frame_id, "path": path, "trouble": check_frame(catalogue, frame_id, fully=True)}


def find_again(catalogue: Catalogue, frame_id: int, folders: Iterable[Path]) -> Path:
    """Look for the file that came in, by its content, and make the frame and its alternates use it where it lies now.

    Raises:
        TannerError: it is in none of the folders.
    """
    from tanner.catalogue.importing import find_files

    with catalogue.read() as session:
        frame = session.get(Frame, frame_id)
        if frame is None:
            raise TannerError("This frame is no longer there.")
        path, content, size = frame.path, frame.content, int(frame.facts.get("file_bytes") or 0)
    looked = []
    for folder in dict.fromkeys(folders):
        looked.append(folder.name)
        try:
            there = find_files(folder)
        except TannerError as error:
            # The others are looked through all the same.
            looked[-1] += f" ({error})"
            continue
        for found in there:
            if (size and found.bytes != size) or str(found.path) == path or trouble_of(found.path, content)[0]:
                continue
            _lies_now(catalogue, path, content, found.path)
            return found.path
    raise TannerError(
        f"The file that came in is nowhere in {', '.join(looked)}. Put it back, or open its folder with --folder."
    )


def _lies_now(catalogue: Catalogue, path: str, content: str, there: Path) -> None:
    """All developments of a file use it where it lies now."""
    with catalogue.write() as session:
        same = update(Frame).where(Frame.path == path, Frame.content == content)
        session.execute(same.values(path=str(there), stamp=stamp_of(there), error=""))


def find_moved(
    catalogue: Catalogue, folder: Path, shoot_id: int | None = None
) -> tuple[list[tuple[str, Path]], list[str]]:
    """Look through a folder for all originals that are not where they were, by their content, and use them where they lie now.

    Files of another size are not read. Returns (name, where it lies now) of those that were found, and names of those that
    were not.

    Raises:
        TannerError: the folder cannot be read.
    """
    from tanner.catalogue.importing import find_files

    with catalogue.read() as session:
        query = select(Frame).where(Frame.alternate == 0).order_by(Frame.path)
        if shoot_id is not None:
            query = query.where(Frame.shoot_id == shoot_id)
        missing = [
            (f.name, f.path, f.content, int(f.facts.get("file_bytes") or 0))
            for f in session.scalars(query)
            if not Path(f.path).exists()
        ]
    if not missing:
        return [], []
    by_size: dict[int, list[Path]] = {}
    for file in find_files(folder):
        by_size.setdefault(file.bytes, []).append(file.path)
    hashes: dict[Path, str] = {}
    found: list[tuple[str, Path]] = []
    left: list[str] = []
    for name, path, content, size in missing:
        there = by_size.get(size, []) if size else [p for each in by_size.values() for p in each]
        for candidate in sorted(there, key=lambda p: p.name != name):  # those of the same name first
            if candidate not in hashes:
                try:
                    hashes[candidate] = file_hash(candidate)
                except UnreadableFile:
                    hashes[candidate] = ""
            if hashes[candidate] == content:
                _lies_now(catalogue, path, content, candidate)
                found.append((name, candidate))
                break
        else:
            left.append(name)
    return found, left


def facts_of(facts: Mapping[str, Any]) -> FrameFacts:
    """A file's facts from what was read of it (see `jobs.tasks.read_facts`), which says more."""
    return FrameFacts(**{k: v for k, v in facts.items() if k in FrameFacts.model_fields})


def fields_of(facts: dict[str, Any]) -> dict[str, Any]:
    """What a frame's row holds of its file's facts (see `jobs.tasks.read_facts`)."""
    known = facts_of(facts)
    width, height = (known.height, known.width) if known.orientation >= 5 else (known.width, known.height)
    return {
        "taken": known.taken,
        "camera": known.camera_name,
        "lens": known.lens,
        "iso": known.iso,
        "facts": known.summary(),
        "starting": facts["starting"],
        "as_shot": facts["as_shot"],
        "width": width,
        "height": height,
    }


def take_over(catalogue: Catalogue, frame_id: int, facts: dict[str, Any], content: str) -> None:
    """The file that lies there is the frame's from now on: its facts and content take the old one's place.

    Raises:
        TannerError: that content is in this shoot already.
    """
    fields = fields_of(facts)
    with catalogue.write() as session:
        frame = session.get(Frame, frame_id)
        if frame is None:
            raise TannerError("This frame is no longer there.")
        same = select(Frame).where(Frame.shoot_id == frame.shoot_id, Frame.content == content)
        other = session.scalar(same)
        if other is not None and other.path != frame.path:
            raise TannerError(f"This picture is in the shoot already, as {other.name}.")
        path, old = frame.path, frame.content
        for each in session.scalars(select(Frame).where(Frame.path == path, Frame.content == old)):
            each.content, each.stamp, each.error = content, stamp_of(Path(path)), ""
            for name, value in fields.items():
                setattr(each, name, value)
