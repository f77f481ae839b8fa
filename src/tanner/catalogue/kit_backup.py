"""The Kit beside each backup of the catalogue: presets, specs, profiles, rules and dust of sensors, in one archive."""

import zipfile
import zlib
from collections.abc import Iterator
from pathlib import Path, PurePosixPath

from tanner.core.output.files import write_whole

PARTS = (
    "presets/*.json",
    "specs/*.json",
    "profiles/*",
    "rules.json",
    "profile-rules.json",
    "dust.json",
    "noise.json",
    "settings.toml",
)
"""What a photographer made by hand and would miss; pictures and quiet frames are made again."""


def archive_of(backup: Path) -> Path:
    """Where the Kit of a backup of the catalogue lies."""
    return backup.with_name(backup.name.replace("catalogue-", "kit-")).with_suffix(".zip")


def _files(folder: Path) -> Iterator[Path]:
    for part in PARTS:
        yield from sorted(p for p in folder.glob(part) if p.is_file() and not p.name.startswith("."))


def back_up_kit(folder: Path, backup: Path) -> Path | None:
    """Keep the Kit of a data folder beside a backup of its catalogue; None where there is none yet.

    Raises:
        OSError: it could not be written; nothing half is left.
    """
    files = list(_files(folder))
    if not files:
        return None
    target = archive_of(backup)
    part = target.with_suffix(".part")
    try:
        with zipfile.ZipFile(part, "w", zipfile.ZIP_DEFLATED, strict_timestamps=False) as archive:
            for path in files:
                archive.write(path, path.relative_to(folder).as_posix())
        part.rename(target)
    finally:
        part.unlink(missing_ok=True)
    return target


def bring_back(folder: Path) -> list[str]:
    """Put files of the newest archive back that are gone; those that are there stay. Their names, in order."""
    archives = sorted((folder / "backups").glob("kit-*.zip"), reverse=True)
    for path in archives:
        try:
            with zipfile.ZipFile(path) as archive:
                if archive.testzip() is not None:
                    continue
                return [name for name in archive.namelist() if _put(folder, name, archive)]
        except (zipfile.BadZipFile, zlib.error, EOFError):
            continue
    return []


def _put(folder: Path, name: str, archive: zipfile.ZipFile) -> bool:
    target = folder / name
    if not _is_ours(PurePosixPath(name)) or target.exists():
        return False
    target.parent.mkdir(parents=True, exist_ok=True)
    write_whole(target, archive.read(name))
    return True


def _is_ours(name: PurePosixPath) -> bool:
    """Whether a name is one that `back_up_kit` writes, and leads nowhere else."""
    parts = [PurePosixPath(part) for part in PARTS]
    fits = any(name.match(str(part)) and len(name.parts) == len(part.parts) for part in parts)
    return fits and not name.is_absolute() and ".." not in name.parts
