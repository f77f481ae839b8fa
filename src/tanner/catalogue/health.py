"""Is the catalogue whole? Checked at every start; backups beside it; a damaged one is set aside and never written over."""

import fcntl
import os
import shutil
import sqlite3
from contextlib import closing
from datetime import datetime
from pathlib import Path

from tanner.catalogue.kit_backup import archive_of, back_up_kit, bring_back
from tanner.core.errors import TannerError
from tanner.core.limits import limits
from tanner.core.output.files import write_whole

NAME = "catalogue.sqlite"
MAGIC = b"SQLite format 3\0"


class DamagedCatalogue(TannerError):
    """The catalogue cannot be trusted, with what is wrong and what to do."""


def backups(folder: Path) -> list[Path]:
    """The newest first."""
    return sorted((folder / "backups").glob("catalogue-*.sqlite"), reverse=True)


def writable(folder: Path) -> None:
    """See that a data folder, and a catalogue in it, may be written to.

    Raises:
        TannerError: they may not, which is no damage.
    """
    for path in (folder, folder / NAME):
        if path.exists() and not os.access(path, os.W_OK):
            raise TannerError(
                f"{path} may not be written to, and Tanner keeps its work there. "
                "Change its rights, or choose another folder with --data. Nothing was changed."
            )


def check(folder: Path) -> None:
    """Look at the catalogue of a data folder before anything is done with it; none there is fine.

    Raises:
        DamagedCatalogue: it is not whole. Nothing was changed.
    """
    path = folder / NAME
    if not path.exists():
        left = backups(folder)
        if left:
            raise _damaged(folder, "is gone, though backups of it are there")
        return
    trouble = fault(path)
    if trouble:
        raise _damaged(folder, trouble)


def begin(folder: Path) -> None:
    """Make the file of a new catalogue, whole from its first moment: one of no bytes is taken for damage.

    Raises:
        WriteFailed: it cannot be written there.
    """
    if (folder / NAME).exists():
        return
    with closing(sqlite3.connect(":memory:")) as empty:
        empty.executescript("CREATE TABLE first (number); DROP TABLE first; VACUUM")
        data = empty.serialize()
    handle = os.open(folder, os.O_RDONLY)
    try:
        fcntl.flock(handle, fcntl.LOCK_EX)  # until it is closed: two programs may begin at once
        if not (folder / NAME).exists():
            # A log whose catalogue is gone would be read into the new one.
            _set_aside(folder)
            write_whole(folder / NAME, data)
    finally:
        os.close(handle)


def fault(path: Path) -> str:
    """What is wrong with a catalogue's file, or ""."""
    if path.stat().st_size == 0:
        return "is empty (0 bytes)"
    with path.open("rb") as file:
        if file.read(len(MAGIC)) != MAGIC:
            return "does not begin as a catalogue does: its first bytes were overwritten"
    try:
        with closing(sqlite3.connect(path, timeout=30)) as connection:
            found = connection.execute("PRAGMA integrity_check(1)").fetchone()
    except sqlite3.DatabaseError as error:
        if "locked" in str(error) or "readonly" in str(error):
            return ""  # another program is at it, or its folder may only be read: neither is damage
        return f"is damaged ({error})"
    return (
        "" if found and found[0] == "ok" else f"is damaged ({str(found[0]).splitlines()[0] if found else 'no answer'})"
    )


def _damaged(folder: Path, trouble: str) -> DamagedCatalogue:
    found = [b for b in backups(folder) if not fault(b)]
    if found:
        when = _when(found[0])
        offer = f"Start once with --restore: the damaged file is set aside, and the backup of {when} takes its place."
    else:
        offer = "There is no good backup. Start once with --restore: the damaged file is set aside, and a new catalogue begins."
    return DamagedCatalogue(f"The catalogue {folder / NAME} {trouble}. Nothing was changed. {offer}")


def _when(backup: Path) -> str:
    return datetime.fromtimestamp(backup.stat().st_mtime).strftime("%d %B %Y, %H:%M")


def _set_aside(folder: Path) -> tuple[str, Path | None]:
    """Rename a catalogue and its log, which stay; the stamp in their names, and the catalogue's new one if there was any."""
    stamp = datetime.now().strftime("%Y%m%d-%H%M%S")
    aside = {ending: folder / f"damaged-{stamp}-{NAME}{ending}" for ending in ("", "-wal", "-shm")}
    there = [ending for ending in aside if (folder / f"{NAME}{ending}").exists()]
    for ending in there:
        (folder / f"{NAME}{ending}").rename(aside[ending])
    return stamp, aside[""] if "" in there else None


def restore(folder: Path) -> str:
    """Set a damaged catalogue aside and put the newest good backup in its place; what was done, in words.

    A catalogue that is whole stays.
    """
    path = folder / NAME
    if path.exists() and not fault(path):
        return "The catalogue is whole; nothing was restored."
    stamp, aside = _set_aside(folder)
    said = [f"The damaged catalogue is kept as {aside.name}."] if aside else []
    for backup in backups(folder):
        if fault(backup):
            continue
        shutil.copy2(backup, path.with_suffix(".part"))
        path.with_suffix(".part").rename(path)
        said.append(f"The backup of {_when(backup)} took its place.")
        back = bring_back(folder)
        if back:
            said.append(f"Of the Kit, {', '.join(back)} was gone and was put back.")
        return " ".join(said)
    # Without a backup folder the next start begins anew; backups that are damaged, too, must not stop it.
    if (folder / "backups").exists():
        (folder / "backups").rename(folder / f"damaged-{stamp}-backups")
    return " ".join([*said, "There was no good backup: a new catalogue begins."])


def back_up(folder: Path, every_s: float | None = None) -> Path | None:
    """Copy the catalogue, whole, while others may use it; None where a backup is young enough or nothing is there.

    Args:
        every_s: how old the newest one must be; None: as the settings say.

    Raises:
        OSError, sqlite3.Error: it could not be written; nothing half is left.
    """
    path = folder / NAME
    there = backups(folder)
    now = datetime.now()
    if every_s is None:
        every_s = limits().backup_hours * 3600
        if not every_s:
            return None
    # A backup from the future is of a clock that was set back since: it says nothing of how old it is.
    if not path.exists() or (there and 0 <= now.timestamp() - there[0].stat().st_mtime < every_s):
        return None
    target = folder / "backups" / f"catalogue-{now:%Y%m%d-%H%M%S-%f}.sqlite"
    target.parent.mkdir(exist_ok=True)
    part = target.with_suffix(".part")
    try:
        with closing(sqlite3.connect(path, timeout=30)) as source, closing(sqlite3.connect(part)) as copy:
            source.backup(copy, pages=2000, sleep=0.01)
        trouble = fault(part)
        if trouble:  # no backup is better than one that is believed
            raise sqlite3.DatabaseError(f"the copy {trouble}")
        part.rename(target)
    finally:
        part.unlink(missing_ok=True)
    back_up_kit(folder, target)
    for old in backups(folder)[limits().backups_kept :]:
        old.unlink(missing_ok=True)
        archive_of(old).unlink(missing_ok=True)
    return target


def compact(folder: Path) -> tuple[int, int]:
    """Give back what deleted rows left, and count anew what the planner of queries knows; bytes before and after.

    A backup is made first. The catalogue is not open elsewhere.

    Raises:
        TannerError: there is no room for it; nothing was changed.
    """
    path = folder / NAME
    before = path.stat().st_size
    if shutil.disk_usage(folder).free < 2.2 * before:
        raise TannerError(
            f"{folder}: compacting takes about {2.2 * before / 1e6:.0f} MB of room, and there is less. Nothing was changed."
        )
    back_up(folder, every_s=0)
    with closing(sqlite3.connect(path, timeout=30)) as connection:
        connection.execute("VACUUM")
        connection.execute("ANALYZE")
        connection.execute("PRAGMA wal_checkpoint(TRUNCATE)")
    return before, path.stat().st_size
