"""The system's trash, by the freedesktop.org Trash specification 1.0: files are moved into it and brought back.

Source: trashspec; headings of it are named below. Nothing is deleted here.
"""

import errno
import os
import stat
from dataclasses import dataclass
from datetime import datetime
from pathlib import Path
from urllib.parse import quote, unquote

from tanner.core.errors import TannerError

HEAD = "[Trash Info]"
MOST_TRIES = 10_000
"""Files of one name that a trash may hold."""


@dataclass(frozen=True)
class Trashed:
    """A file that lies in a trash.

    Attributes:
        path: where it lay; trash: the folder of the trash; name: what it is called within it.
    """

    path: Path
    trash: Path
    name: str

    @property
    def file(self) -> Path:
        return self.trash / "files" / self.name

    @property
    def info(self) -> Path:
        return self.trash / "info" / f"{self.name}.trashinfo"

    def as_dict(self) -> dict[str, str]:
        return {"path": str(self.path), "trash": str(self.trash), "name": self.name}


def home_trash() -> Path:
    """The trash of the user's own drive ("Trash directories", 1)."""
    base = os.environ.get("XDG_DATA_HOME", "")
    return (Path(base) if base.startswith("/") else Path.home() / ".local" / "share") / "Trash"


def _top_of(path: Path) -> Path:
    """Where the drive of a file is mounted."""
    here = path.parent.resolve()
    while not os.path.ismount(here):
        here = here.parent
    return here


def _device(path: Path) -> int:
    """The drive that a folder would lie on, also before it is made."""
    while not path.exists():
        path = path.parent
    return path.stat().st_dev


def _trash_for(path: Path) -> tuple[Path, Path | None]:
    """The trash for a file, and the folder that paths in it are told from (None: from the root).

    Raises:
        TannerError: its drive has none, and none can be made.
    """
    device = path.parent.stat().st_dev
    home = home_trash()
    if _device(home) == device:
        return home, None
    top = _top_of(path)
    user = str(os.getuid())
    shared = top / ".Trash"
    try:
        state = shared.lstat()
        # A shared one serves only where nobody can take others' files away, and where it is no link ("Trash directories", 2).
        if stat.S_ISDIR(state.st_mode) and state.st_mode & stat.S_ISVTX:
            return shared / user, top
    except OSError:
        pass
    own = top / f".Trash-{user}"
    try:
        own.mkdir(mode=0o700, exist_ok=True)
    except OSError as error:
        raise TannerError(
            f"{path.name}: its drive ({top}) has no trash, and none can be made there ({error.strerror}). The file stays."
        ) from None
    if own.is_symlink():
        raise TannerError(f"{path.name}: the trash of its drive ({own}) is a link and is not trusted. The file stays.")
    return own, top


def put(path: Path) -> Trashed:
    """Move a file into the trash of its drive.

    Raises:
        TannerError: it is not there, or cannot be moved; it then lies where it lay.
    """
    path = path.absolute()
    if not path.is_file() or path.is_symlink():
        raise TannerError(f"{path.name}: is not there, or is no plain file.")
    trash, top = _trash_for(path)
    written = path.relative_to(top) if top else path
    text = f"{HEAD}\nPath={quote(os.fsencode(written))}\nDeletionDate={datetime.now():%Y-%m-%dT%H:%M:%S}\n"
    try:
        for folder in (trash / "files", trash / "info"):
            folder.mkdir(mode=0o700, parents=True, exist_ok=True)
        name = _info_written(trash, path.name, text)
    except OSError as error:
        raise TannerError(
            f"{path.name}: the trash {trash} cannot be written to ({error.strerror}). The file stays."
        ) from None
    found = Trashed(path, trash, name)
    try:
        if found.file.exists():  # a file in the trash that is told of nowhere: never written over
            raise FileExistsError(errno.EEXIST, "a file of that name lies there")
        path.rename(found.file)
    except OSError as error:
        found.info.unlink(missing_ok=True)
        raise TannerError(f"{path.name}: cannot be moved to the trash ({error.strerror}). The file stays.") from None
    return found


def _info_written(trash: Path, name: str, text: str) -> str:
    """Write what is told of a file before it is moved, under a name that is free; that name ("The trash directory")."""
    stem, ending = Path(name).stem, Path(name).suffix
    for number in range(1, MOST_TRIES):
        tried = name if number == 1 else f"{stem}.{number}{ending}"
        if (trash / "files" / tried).exists():
            continue
        try:
            handle = os.open(trash / "info" / f"{tried}.trashinfo", os.O_WRONLY | os.O_CREAT | os.O_EXCL, 0o600)
        except FileExistsError:
            continue
        with os.fdopen(handle, "w", encoding="utf-8") as file:
            file.write(text)
            file.flush()
            os.fsync(file.fileno())
        return tried
    raise FileExistsError(errno.EEXIST, f"it holds {MOST_TRIES} files of that name")


def back(found: Trashed) -> None:
    """Bring a file back to where it lay.

    Raises:
        TannerError: the trash no longer holds it, or another file lies in its place; nothing is changed then.
    """
    if not found.file.is_file() or path_of(found.info) != str(found.path):
        raise TannerError(f"{found.path.name}: is no longer in the trash.")
    try:
        found.path.parent.mkdir(parents=True, exist_ok=True)
        # By a second name first: unlike a move, this never replaces what lies there.
        os.link(found.file, found.path)
    except FileExistsError:
        raise TannerError(f"{found.path.name}: another file lies in its place; it stays in the trash.") from None
    except OSError:
        if found.path.exists():
            raise TannerError(f"{found.path.name}: another file lies in its place; it stays in the trash.") from None
        try:  # a drive that knows no second names
            found.file.rename(found.path)
        except OSError as error:
            raise TannerError(
                f"{found.path.name}: cannot be brought back ({error.strerror}); it stays in the trash."
            ) from None
    found.file.unlink(missing_ok=True)
    found.info.unlink(missing_ok=True)


def path_of(info: Path) -> str:
    """Where a file in the trash lay, by what is told of it; "" where that cannot be read."""
    try:
        lines = info.read_text(encoding="utf-8").splitlines()
    except (OSError, UnicodeDecodeError):
        return ""
    if not lines or lines[0].strip() != HEAD:
        return ""
    path = next((unquote(line[5:]) for line in lines if line.startswith("Path=")), "")
    if not path or path.startswith("/"):
        return path
    # Told from the top of its drive, which the trash lies in: .Trash-1000, or .Trash/1000.
    trash = info.parent.parent
    top = trash.parent.parent if trash.parent.name == ".Trash" else trash.parent
    return str(top / path)
