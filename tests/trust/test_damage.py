"""Damage in pixel data that a file's own format tells: said, and never of a sound file."""

import shutil
from pathlib import Path

import cv2
import numpy as np
import pytest
from sqlalchemy import select

from tanner.catalogue.models import Delivery, Frame
from tanner.catalogue.store import Catalogue
from tanner.core.output.spec import OutputSpec
from tanner.core.raw.damage import damage_of
from tanner.core.raw.reader import read
from tanner.jobs.bring_in.imports import import_now
from tanner.jobs.delivery.deliveries import Deliveries
from tanner.jobs.delivery.record import record_of
from tanner.jobs.pictures import Pictures, wish_for
from tanner.jobs.tasks import preview
from tanner.jobs.workers import Workers


def drawn(path: Path) -> Path:
    picture = np.random.default_rng(2).integers(0, 255, (240, 320, 3)).astype(np.uint8)
    cv2.imwrite(str(path), cv2.GaussianBlur(picture, (0, 0), 3))
    return path


@pytest.mark.parametrize("name", ["a.jpg", "a.png"])
def test_a_finished_picture_with_bytes_gone_wrong(tmp_path: Path, name: str) -> None:
    path = drawn(tmp_path / name)
    assert damage_of(path) == "" and read(path).facts.warnings == ()
    data = bytearray(path.read_bytes())
    middle = len(data) // 2
    data[middle : middle + 40] = b"\xff\xd9" * 20 if name.endswith("jpg") else bytes(40)
    path.write_bytes(data)
    assert "damaged" in damage_of(path)


def test_a_jpeg_that_decodes_with_warnings_carries_them(tmp_path: Path) -> None:
    """A bit turned in the middle: a picture all the same, wrong from there on."""
    good = drawn(tmp_path / "a.jpg").read_bytes()
    for n, at in enumerate(range(len(good) // 2, len(good) // 2 + 40)):
        path = tmp_path / f"{n}.jpg"
        path.write_bytes(good[:at] + bytes([good[at] ^ 0x40]) + good[at + 1 :])
        if found := read(path).facts.warnings:
            assert "Its pixel data is damaged (" in found[0]
            break
    else:
        raise AssertionError("none of the 40 was told")


@pytest.mark.parametrize("at", [0.5, 0.99])
def test_one_byte_of_a_raw_files_numbers(originals: Path, tmp_path: Path, at: float) -> None:
    path = tmp_path / "a.DNG"
    shutil.copy(originals / "T0001.DNG", path)
    assert damage_of(path) == ""
    data = bytearray(path.read_bytes())
    data[int(len(data) * at)] ^= 0x10
    path.write_bytes(data)
    assert "not those that were written" in damage_of(path)
    assert "damaged" in preview(str(path), {})["damage"]


def test_files_of_other_kinds_say_nothing(tmp_path: Path) -> None:
    for name, data in (("a.dng", b"nothing"), ("a.nef", b"II*\0"), ("b.dng", b"II*\0\x08\0\0\0")):
        (tmp_path / name).write_bytes(data)
        assert damage_of(tmp_path / name) == ""
    assert damage_of(tmp_path / "gone.jpg") == ""


def test_the_sheet_and_the_delivery_tell_of_it(originals: Path, tmp_path: Path) -> None:
    """Damaged before it came in: its checksum is that of the damaged file, so only the format can tell."""
    photos = tmp_path / "photos"
    photos.mkdir()
    data = bytearray((originals / "T0001.DNG").read_bytes())
    data[-3000] ^= 0x10
    (photos / "T0001.DNG").write_bytes(data)
    import_now(tmp_path / "data", "Spring", [photos / "T0001.DNG"], None, [])
    catalogue = Catalogue(tmp_path / "data")
    with Workers(1) as workers:
        pictures = Pictures(catalogue, workers)
        from tanner.catalogue.resolver import Resolver

        with catalogue.read() as session:
            pictures.want([wish_for(Resolver(session, 1), session.scalars(select(Frame)).one())])
        assert pictures.wait()
        with catalogue.read() as session:
            frame = session.scalars(select(Frame)).one()
            assert "damaged" in frame.seen["damage"]
        deliveries = Deliveries(catalogue, workers)
        (tmp_path / "out").mkdir()
        number = deliveries.create(1, [frame.id], [OutputSpec(size="long:100")], tmp_path / "out")
        deliveries.wait()
        with catalogue.read() as session:
            (item,) = record_of(session, session.get_one(Delivery, number))["items"]
        assert item["state"] == "done" and "damaged" in item["message"]
        deliveries.close()
        pictures.close()
    catalogue.close()
