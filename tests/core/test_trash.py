"""The system's trash by the freedesktop.org Trash specification 1.0, and read by a second implementation (trash-cli)."""

import os
import re
import shutil
import subprocess
import sys
from datetime import datetime
from pathlib import Path
from urllib.parse import unquote

import pytest

from tanner.core.errors import TannerError
from tanner.core.output import trash


@pytest.fixture
def home(tmp_path: Path, monkeypatch: pytest.MonkeyPatch) -> Path:
    monkeypatch.setenv("XDG_DATA_HOME", str(tmp_path / "home"))
    (tmp_path / "photos").mkdir()
    return tmp_path / "home" / "Trash"


def _file(folder: Path, name: str, text: str = "raw") -> Path:
    path = folder / name
    path.write_text(text)
    return path


def test_a_file_is_put_as_the_specification_says_and_comes_back(home: Path, tmp_path: Path) -> None:
    path = _file(tmp_path / "photos", "Bär 100%.DNG")
    state = path.stat()
    found = trash.put(path)
    assert not path.exists() and found.file == home / "files" / "Bär 100%.DNG"
    lines = found.info.read_text().splitlines()
    assert found.info.name == "Bär 100%.DNG.trashinfo" and lines[0] == "[Trash Info]"
    assert lines[1].startswith("Path=/") and unquote(lines[1][5:]) == str(path) and " " not in lines[1]
    assert re.fullmatch(r"DeletionDate=\d{4}-\d\d-\d\dT\d\d:\d\d:\d\d", lines[2])
    assert abs((datetime.now() - datetime.fromisoformat(lines[2][13:])).total_seconds()) < 120
    assert [p.stat().st_mode & 0o777 for p in (home / "files", home / "info")] == [0o700, 0o700]
    trash.back(found)
    assert path.read_text() == "raw" and path.stat().st_mtime_ns == state.st_mtime_ns
    assert not list(home.rglob("*.trashinfo")) and not list((home / "files").iterdir())


def test_files_of_one_name_lie_side_by_side_and_nothing_is_written_over(home: Path, tmp_path: Path) -> None:
    first = trash.put(_file(tmp_path / "photos", "A.DNG", "1"))
    second = trash.put(_file(tmp_path / "photos", "A.DNG", "2"))
    _file(home / "files", "A.3.DNG", "not ours")  # a file that nothing tells of
    third = trash.put(_file(tmp_path / "photos", "A.DNG", "3"))
    assert [t.name for t in (first, second, third)] == ["A.DNG", "A.2.DNG", "A.4.DNG"]
    assert (home / "files" / "A.3.DNG").read_text() == "not ours"
    here = _file(tmp_path / "photos", "A.DNG", "new")
    with pytest.raises(TannerError, match="another file lies in its place; it stays in the trash"):
        trash.back(second)
    here.unlink()
    shutil.rmtree(tmp_path / "photos")  # the folder is made again
    trash.back(second)
    assert here.read_text() == "2"
    first.file.unlink()
    with pytest.raises(TannerError, match="no longer in the trash"):
        trash.back(first)
    assert third.file.read_text() == "3"


def test_another_program_reads_it(home: Path, tmp_path: Path) -> None:
    """trash-cli, which follows the same specification, lists what lies there and brings it back."""
    path = _file(tmp_path / "photos", "Näh 1.DNG")
    trash.put(path)
    program = Path(sys.executable).parent
    listed = subprocess.run([program / "trash-list", "--trash-dir", home], capture_output=True, text=True, check=True)
    assert listed.stdout.strip().endswith(str(path))
    restore = [program / "trash-restore", "--trash-dir", home, path]
    subprocess.run(restore, input="0\n", capture_output=True, text=True, check=True)
    assert path.read_text() == "raw" and not list(home.rglob("*.trashinfo"))


def test_what_another_program_put_is_found(home: Path, tmp_path: Path) -> None:
    path = _file(tmp_path / "photos", "B 2.DNG")
    program = Path(sys.executable).parent / "trash-put"
    subprocess.run([program, "--trash-dir", home, path], check=True, capture_output=True)
    (info,) = (home / "info").iterdir()
    assert trash.path_of(info) == str(path)


@pytest.fixture
def drive(tmp_path: Path, home: Path, monkeypatch: pytest.MonkeyPatch) -> Path:
    """A folder that stands for the top of another drive than the user's own."""
    top = tmp_path / "photos"
    monkeypatch.setattr(trash, "_device", lambda path: -1)
    monkeypatch.setattr(os.path, "ismount", lambda path: Path(path) in (top, Path("/")))
    return top


def test_another_drive_has_a_trash_of_its_own(drive: Path) -> None:
    (drive / "day").mkdir()
    found = trash.put(_file(drive / "day", "A.DNG"))
    assert found.trash == drive / f".Trash-{os.getuid()}"
    assert "Path=day/A.DNG" in found.info.read_text().splitlines()  # told from the top of the drive
    trash.back(found)
    assert (drive / "day" / "A.DNG").exists()


def test_a_shared_trash_serves_only_where_it_is_safe(drive: Path) -> None:
    shared = drive / ".Trash"
    shared.mkdir()
    assert trash.put(_file(drive, "A.DNG")).trash == drive / f".Trash-{os.getuid()}"  # anyone may take from it
    shared.chmod(0o1777)
    found = trash.put(_file(drive, "B.DNG"))
    assert found.trash == shared / str(os.getuid())
    trash.back(found)
    shared.rename(drive / "elsewhere")
    shared.symlink_to(drive / "elsewhere")
    assert trash.put(_file(drive, "C.DNG")).trash == drive / f".Trash-{os.getuid()}"


def test_a_drive_without_a_trash_is_told_and_the_file_stays(drive: Path, monkeypatch: pytest.MonkeyPatch) -> None:
    path = _file(drive, "A.DNG")

    def refused(self: Path, *_: object, **__: object) -> None:
        raise OSError(30, "Read-only file system")

    monkeypatch.setattr(Path, "mkdir", refused)
    with pytest.raises(
        TannerError, match=r"has no trash, and none can be made there .Read-only file system.. The file stays"
    ):
        trash.put(path)
    assert path.exists()


def test_a_file_that_cannot_be_moved_leaves_nothing_told(
    home: Path, tmp_path: Path, monkeypatch: pytest.MonkeyPatch
) -> None:
    path = _file(tmp_path / "photos", "A.DNG")

    def refused(self: Path, target: object) -> None:
        raise OSError(13, "Permission denied")

    monkeypatch.setattr(Path, "rename", refused)
    with pytest.raises(TannerError, match=r"cannot be moved to the trash .Permission denied.. The file stays"):
        trash.put(path)
    assert path.exists() and not list(home.rglob("*.trashinfo"))
    with pytest.raises(TannerError, match="is not there"):
        trash.put(tmp_path / "photos" / "none.DNG")
