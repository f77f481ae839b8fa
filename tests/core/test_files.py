"""Written whole or not at all; copies compared; originals never replaced by accident."""

import errno
import os
from pathlib import Path

import pytest

from tanner.core.errors import NameTaken, UnreadableFile, WriteFailed
from tanner.core.output import files
from tanner.core.output.files import TEMPORARY, copy_verified, file_hash, free_name, write_whole


def leftovers(folder: Path) -> list[Path]:
    return [p for p in folder.rglob("*") if p.name.startswith(TEMPORARY)]


def test_writes_and_makes_folders(tmp_path: Path) -> None:
    target = tmp_path / "a" / "b" / "x.bin"
    write_whole(target, b"abc")
    assert target.read_bytes() == b"abc"
    assert not leftovers(tmp_path)


def test_a_taken_name_is_left_alone(tmp_path: Path) -> None:
    target = tmp_path / "x"
    target.write_bytes(b"old")
    with pytest.raises(NameTaken):
        write_whole(target, b"new")
    assert target.read_bytes() == b"old"
    write_whole(target, b"new", replace=True)
    assert target.read_bytes() == b"new"


def test_a_name_that_is_taken_meanwhile_is_left_alone(tmp_path: Path, monkeypatch: pytest.MonkeyPatch) -> None:
    target = tmp_path / "x"
    real = files.tempfile.mkstemp

    def taking(**kwargs: object) -> tuple[int, str]:
        target.write_bytes(b"somebody else")
        return real(**kwargs)  # type: ignore[call-overload]

    monkeypatch.setattr(files.tempfile, "mkstemp", taking)
    with pytest.raises(NameTaken):
        write_whole(target, b"new")
    assert target.read_bytes() == b"somebody else"
    assert not leftovers(tmp_path)


@pytest.mark.parametrize(
    ("code", "words"),
    [
        (errno.ENOSPC, "disk is full"),
        (errno.EROFS, "read-only"),
        (errno.EACCES, "may not be written"),
        (errno.EIO, "could not"),
    ],
)
def test_trouble_leaves_nothing_behind(tmp_path: Path, monkeypatch: pytest.MonkeyPatch, code: int, words: str) -> None:
    target = tmp_path / "x"
    target.write_bytes(b"old")

    def full(_: int) -> None:
        raise OSError(code, os.strerror(code))

    monkeypatch.setattr(files.os, "fsync", full)
    with pytest.raises(WriteFailed, match=words):
        write_whole(target, b"new" * 1000, replace=True)
    assert target.read_bytes() == b"old"
    assert not leftovers(tmp_path)


def test_a_file_where_a_folder_should_be(tmp_path: Path) -> None:
    (tmp_path / "f").write_bytes(b"")
    with pytest.raises(WriteFailed):
        write_whole(tmp_path / "f" / "x", b"new")


def test_free_name_counts_up(tmp_path: Path) -> None:
    (tmp_path / "x.jpg").touch()
    assert free_name(tmp_path / "x.jpg").name == "x-2.jpg"
    (tmp_path / "x-2.jpg").touch()
    assert free_name(tmp_path / "x.jpg").name == "x-3.jpg"
    assert free_name(tmp_path / "y.jpg").name == "y.jpg"


def test_a_copy_is_compared(tmp_path: Path) -> None:
    source = tmp_path / "s.dng"
    source.write_bytes(os.urandom(3_000_000))
    path, checksum = copy_verified(source, tmp_path / "to" / "s.dng")
    assert path.read_bytes() == source.read_bytes()
    assert checksum == file_hash(source)
    again, _ = copy_verified(source, tmp_path / "to" / "s.dng")
    assert again.name == "s-2.dng"


def test_a_copy_that_differs_is_thrown_away(tmp_path: Path, monkeypatch: pytest.MonkeyPatch) -> None:
    source = tmp_path / "s.dng"
    source.write_bytes(b"x" * 1000)
    monkeypatch.setattr(files, "file_hash", lambda _: "another")
    with pytest.raises(WriteFailed, match="differs"):
        copy_verified(source, tmp_path / "to" / "s.dng")
    assert list((tmp_path / "to").iterdir()) == []


def test_a_vanished_card_is_told_from_a_full_disk(tmp_path: Path, monkeypatch: pytest.MonkeyPatch) -> None:
    with pytest.raises(UnreadableFile, match="cannot be opened"):
        copy_verified(tmp_path / "gone.dng", tmp_path / "to" / "gone.dng")
    assert list((tmp_path / "to").iterdir()) == []
    with pytest.raises(UnreadableFile, match="drive connected"):
        file_hash(tmp_path / "gone.dng")

    source = tmp_path / "s.dng"
    source.write_bytes(b"x" * 1000)

    def full(_: int) -> None:
        raise OSError(errno.ENOSPC, "full")

    monkeypatch.setattr(files.os, "fsync", full)
    with pytest.raises(WriteFailed, match="disk is full"):
        copy_verified(source, tmp_path / "to" / "s.dng")
    assert not leftovers(tmp_path)
