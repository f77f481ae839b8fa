"""The catalogue: damage is noticed at the start, set aside and never written over; one server at a time; no number that is none."""

import json
import os
import sqlite3
import subprocess
import sys
import zipfile
from contextlib import closing
from pathlib import Path

import pytest
from sqlalchemy import text

from tanner.catalogue import health
from tanner.catalogue.health import DamagedCatalogue, back_up, backups, restore
from tanner.catalogue.kit_backup import archive_of, bring_back
from tanner.catalogue.lock import FolderLock
from tanner.catalogue.models import Frame, Shoot
from tanner.catalogue.store import Catalogue, as_json
from tanner.core.errors import TannerError
from tanner.core.limits import limits
from tanner.core.raw.facts import checked


@pytest.fixture
def folder(tmp_path: Path) -> Path:
    """A data folder with a catalogue of some pages and one backup."""
    catalogue = Catalogue(tmp_path / "data")
    with catalogue.write() as session:
        session.add_all([Shoot(name=f"Shoot {n}", words={"caption": "x" * 400}) for n in range(200)])
    catalogue.close()
    assert back_up(tmp_path / "data") is not None
    return tmp_path / "data"


def flattened(folder: Path) -> Path:
    with closing(sqlite3.connect(folder / health.NAME)) as connection:
        connection.execute("PRAGMA wal_checkpoint(TRUNCATE)")
    return folder / health.NAME


def damage(kind: str, path: Path) -> None:
    data = bytearray(path.read_bytes())
    if kind == "a page":
        # The pages in the middle, with rows on them.
        data[len(data) // 2 : len(data) // 2 + 4096] = b"\xa5" * 4096
    elif kind == "cut in half":
        data = data[: len(data) // 2]
    elif kind == "header":
        data[:40] = b"?" * 40
    elif kind == "empty":
        data = bytearray()
    path.write_bytes(data)


@pytest.mark.parametrize("kind", ["a page", "cut in half", "header", "empty"])
def test_damage_is_said_and_a_backup_offered(folder: Path, kind: str) -> None:
    path = flattened(folder)
    damage(kind, path)
    damaged = path.read_bytes()
    with pytest.raises(DamagedCatalogue, match=r"Nothing was changed.*--restore.*the backup of"):
        Catalogue(folder)
    assert path.read_bytes() == damaged
    said = restore(folder)
    assert "is kept as damaged-" in said and "took its place" in said
    assert next(folder.glob("damaged-*.sqlite")).read_bytes() == damaged
    catalogue = Catalogue(folder)
    with catalogue.read() as session:
        assert session.scalar(text("SELECT count(*) FROM shoot")) == 200
    catalogue.close()
    assert restore(folder).startswith("The catalogue is whole")


def test_a_catalogue_that_is_gone_is_not_begun_anew_without_a_word(folder: Path) -> None:
    flattened(folder).unlink()
    with pytest.raises(DamagedCatalogue, match="is gone"):
        Catalogue(folder)
    restore(folder)
    Catalogue(folder).close()


def test_without_a_good_backup_that_is_said(folder: Path) -> None:
    damage("header", flattened(folder))
    for backup in backups(folder):
        damage("cut in half", backup)
    with pytest.raises(DamagedCatalogue, match="There is no good backup"):
        Catalogue(folder)
    assert "a new catalogue begins" in restore(folder)
    Catalogue(folder).close()


def test_backups_are_whole_few_and_not_too_often(folder: Path) -> None:
    assert back_up(folder) is None  # there is a young one
    for _ in range(limits().backups_kept + 2):
        back_up(folder, every_s=0)
    assert len(backups(folder)) == limits().backups_kept
    assert all(health.fault(b) == "" for b in backups(folder)) and not list(folder.glob("backups/*.part"))


def test_the_kit_lies_beside_each_backup_and_what_is_gone_comes_back(folder: Path) -> None:
    """Rules and dust of sensors were in no backup: a folder that was lost lost them for good."""
    kit = {
        "presets/own.json": "{}",
        "profiles/one.dcp": "dcp",
        "rules.json": "[1]",
        "dust.json": "[]",
        "token": "secret",
    }
    for name, held in kit.items():
        (folder / name).parent.mkdir(exist_ok=True)
        (folder / name).write_text(held)
    os.utime(folder / "profiles/one.dcp", (0, 0))  # a time that archives do not know
    (folder / "presets/long.json").write_text(json.dumps(list(range(9000))))
    for _ in range(limits().backups_kept + 1):
        assert back_up(folder, every_s=0)
    archives = sorted(folder.glob("backups/kit-*.zip"))
    assert [archive_of(b) for b in reversed(backups(folder))][-len(archives) :] == archives
    assert len(archives) == limits().backups_kept
    (folder / "rules.json").unlink()
    (folder / "profiles/one.dcp").unlink()
    (folder / "dust.json").write_text("[2]")
    # Bad ones are passed over: one that is cut off, one with other bytes in the middle.
    archives[-1].write_bytes(archives[-1].read_bytes()[:40])
    data = bytearray(archives[-2].read_bytes())
    data[len(data) // 2 : len(data) // 2 + 400] = b"\xff" * 400
    archives[-2].write_bytes(data)
    damage("empty", flattened(folder))
    said = health.restore(folder)
    assert "Of the Kit, profiles/one.dcp, rules.json was gone and was put back." in said
    assert (folder / "rules.json").read_text() == "[1]" and (folder / "profiles/one.dcp").read_text() == "dcp"
    assert (folder / "dust.json").read_text() == "[2]"
    with zipfile.ZipFile(archives[0]) as archive:
        assert "token" not in archive.namelist()


def test_an_archive_puts_nothing_elsewhere(folder: Path) -> None:
    (folder / "rules.json").write_text("[1]")
    assert back_up(folder, every_s=0)
    with zipfile.ZipFile(archive_of(backups(folder)[0]), "w") as archive:
        for name in (
            "../rules.json",
            "presets/../../out.json",
            "/tmp/rules.json",
            "catalogue.sqlite-wal",
            "specs/good.json",
        ):
            archive.writestr(name, "{}")
    assert bring_back(folder) == ["specs/good.json"]
    assert not (folder.parent / "rules.json").exists() and not (folder.parent / "out.json").exists()


def test_one_server_at_a_time_and_a_crash_leaves_no_lock(tmp_path: Path) -> None:
    code = (
        "import sys, time; from pathlib import Path; from tanner.catalogue.lock import FolderLock; "
        "held = FolderLock(Path(sys.argv[1])); print('held', flush=True); time.sleep(60)"
    )
    other = subprocess.Popen([sys.executable, "-c", code, str(tmp_path)], stdout=subprocess.PIPE, text=True)
    assert other.stdout is not None and other.stdout.readline() == "held\n"
    with pytest.raises(TannerError, match=rf"Another Tanner works with .*process {other.pid}"):
        FolderLock(tmp_path)
    other.kill()
    other.wait()
    other.stdout.close()
    lock = FolderLock(tmp_path)
    lock.release()
    FolderLock(tmp_path).release()


BAD = {
    "noise_profile": (float("nan"), 0.1), "exposure_s": float("inf"), "aperture": -1.0, "iso": 10**12, "lens": "x" * 9999,
    "baseline_exposure": float("nan"), "neutral": (0.5, float("nan"), 1.0), "colour_matrices": ((float("inf"),) * 9,),
    "focal_length_mm": float("nan"), "light_places": ((float("nan"), 0.3),),
}  # fmt: skip


@pytest.mark.parametrize("name", sorted(BAD))
def test_facts_that_make_no_sense_are_left_out_with_a_word(name: str) -> None:
    good = {"path": "a.dng", "kind": "bayer", "width": 600, "height": 400, "iso": 100}
    facts = checked({**good, name: BAD[name]})
    assert name.replace("_", " ") in " ".join(facts.warnings)
    assert getattr(facts, name) == type(facts).model_fields[name].default
    assert facts.iso == (None if name == "iso" else 100)
    with pytest.raises(ValueError):
        checked({**good, "width": -3})


def test_no_number_that_is_none_gets_into_the_catalogue(tmp_path: Path) -> None:
    told = as_json({"a": [1.5, float("nan")], "b": {"c": float("-inf")}})
    assert json.loads(told) == {"a": [1.5, None], "b": {"c": None}}
    catalogue = Catalogue(tmp_path)
    with catalogue.write() as session:
        session.add(Shoot(name="x", words={"v": float("nan")}))
    with catalogue.read() as session:
        assert session.scalar(text("SELECT json_extract(words, '$.v') FROM shoot")) is None
        assert session.get_one(Shoot, 1).words == {"v": None}
    catalogue.close()


def test_half_a_character_is_kept_as_it_is(tmp_path: Path) -> None:
    """As the system gives a name that is no UTF-8."""
    name = b"caf\xe9.dng".decode("utf-8", "surrogateescape")
    catalogue = Catalogue(tmp_path)
    with catalogue.write() as session:
        session.add(Shoot(name="x", words={"v": name, "w": float("nan")}))
    with catalogue.read() as session:
        assert session.get_one(Shoot, 1).words == {"v": name, "w": None}
    catalogue.close()


def test_a_catalogue_that_holds_such_numbers_opens(tmp_path: Path) -> None:
    """As the version before left it: the migration makes nothing of them."""
    from alembic import command
    from alembic.config import Config

    catalogue = Catalogue(tmp_path)
    with catalogue.write() as session:
        session.add(Shoot(name="x"))
        session.flush()
        facts = {"width": 1, "height": 1, "noise_profile": [1.0, 2.0]}
        session.add(
            Frame(shoot_id=1, path="a", name="a", content="c", facts=facts, starting={}, as_shot=[], width=1, height=1)
        )
    config = Config()
    config.set_main_option("script_location", str(Path(health.__file__).parent / "migrations"))
    with catalogue.engine.connect() as connection:
        config.attributes["connection"] = connection
        command.downgrade(config, "0006")
        connection.exec_driver_sql("UPDATE frame SET facts = '{\"noise_profile\": [NaN, -Infinity]}'")
        connection.commit()
    catalogue.close()
    again = Catalogue(tmp_path)
    with again.read() as session:
        assert session.scalar(text("SELECT json_extract(facts, '$.noise_profile[0]') FROM frame")) is None
        assert session.get_one(Frame, 1).facts == {"noise_profile": [None, None]}
    again.close()
