"""Where camera profiles are found by their keys: folders of .dcp files, the same in every process of Tanner.

A key is a file's name without its ending. Files are never changed in place: a changed profile is a new file.
"""

from pathlib import Path

from tanner.core.colour.cube import Cube, CubeError, read_cube
from tanner.core.colour.dcp import CameraProfile, ProfileError, read_dcp
from tanner.core.raw.facts import FrameFacts

MOST_BYTES = 64 << 20


class ProfileStore:
    """Folders that are searched in order.

    Attributes:
        folders: may be set at any time; a worker process gets those of its parent when it starts.
    """

    def __init__(self) -> None:
        self.folders: list[Path] = []
        self._kept: dict[Path, CameraProfile] = {}
        self._cubes: dict[Path, Cube] = {}

    def add(self, folder: Path) -> None:
        if folder not in self.folders:
            self.folders.append(folder)

    def _file(self, key: str, ending: str) -> Path | None:
        if not key or key != Path(key).name:
            return None
        return next((p for p in (f / f"{key}{ending}" for f in self.folders) if p.is_file()), None)

    def path(self, key: str) -> Path | None:
        return self._file(key, ".dcp")

    def find(self, key: str) -> CameraProfile | None:
        """The profile of a key; None when there is none that can be read."""
        path = self.path(key)
        if path is None:
            return None
        if path not in self._kept:
            try:
                self._kept[path] = load(path)
            except ProfileError:
                return None
        return self._kept[path]

    def icc(self, key: str) -> bytes | None:
        """A user's ICC profile by its key."""
        path = self._file(key, ".icc")
        return path.read_bytes() if path else None

    def picture(self, key: str) -> bytes | None:
        """A watermark's picture by its key."""
        path = self._file(key, ".png")
        return path.read_bytes() if path else None

    def cube(self, key: str) -> Cube | None:
        """A look by its key; None when there is none that can be read."""
        path = self._file(key, ".cube")
        if path is None:
            return None
        if path not in self._cubes:
            try:
                self._cubes[path] = read_cube(path.read_text(errors="replace"), path.name)
            except (OSError, CubeError):
                return None
        return self._cubes[path]

    def keys(self) -> list[str]:
        return sorted({p.stem for f in self.folders if f.is_dir() for p in f.glob("*.dcp")})


def load(path: Path) -> CameraProfile:
    """A profile file.

    Raises:
        ProfileError: it cannot be read, with its name and the reason.
    """
    try:
        if path.stat().st_size > MOST_BYTES:
            raise ProfileError(f"{path.name} is larger than any camera profile.")
        data = path.read_bytes()
    except OSError as error:
        raise ProfileError(f"{path.name} cannot be opened ({error.strerror or error}).") from None
    return read_dcp(data, path.name)


def fits(profile: CameraProfile, facts: FrameFacts) -> bool:
    """Is the profile for the camera that took a frame? One without a camera fits all."""
    return fits_names(profile.model, facts.make, facts.model, facts.unique_model)


def fits_names(wanted: str, make: str, model: str, unique: str = "") -> bool:
    def plain(text: str) -> str:
        return " ".join(text.lower().split())

    return not wanted.strip() or plain(wanted) in {
        plain(model),
        plain(f"{make} {model}"),
        plain(unique) or plain(model),
    }


PROFILE_STORE = ProfileStore()
