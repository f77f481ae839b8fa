"""The database: migrations, one writer, and what happens when it cannot be written."""

import sqlite3
from pathlib import Path

import pytest
from alembic.autogenerate import compare_metadata
from alembic.migration import MigrationContext
from made import downgrade
from sqlalchemy import Engine, event, text
from sqlalchemy.exc import IntegrityError

from tanner.catalogue import health, store
from tanner.catalogue.models import Base, Frame, Shoot
from tanner.catalogue.store import Catalogue
from tanner.core.errors import TannerError


def test_migrations_give_the_tables_of_the_models(data: Path) -> None:
    catalogue = Catalogue(data)
    with catalogue.engine.connect() as connection:
        # Full text is kept in tables of the database's own making.
        ours = {"compare_type": False, "include_name": lambda name, kind, of: kind != "table" or "_text" not in name}
        context = MigrationContext.configure(connection, opts=ours)
        assert compare_metadata(context, Base.metadata) == []
        assert connection.execute(text("PRAGMA journal_mode")).scalar() == "wal"
        assert connection.execute(text("PRAGMA foreign_keys")).scalar() == 1
    catalogue.close()


def test_opening_again_keeps_everything(data: Path) -> None:
    first = Catalogue(data)
    with first.write() as session:
        session.add(Shoot(name="Spring", preset={"name": "x", "values": {}, "amount": 100}))
    first.close()
    second = Catalogue(data)
    with second.read() as session:
        shoot = session.get_one(Shoot, 1)
        assert shoot.name == "Spring" and shoot.preset["amount"] == 100
    second.close()


def test_a_catalogue_of_an_older_version_with_frames_in_it_is_brought_up(catalogue: Catalogue) -> None:
    """Rows that others point to stay where they are while columns are added."""
    folder = catalogue.folder
    downgrade(catalogue, "0002")
    with sqlite3.connect(folder / "catalogue.sqlite") as older:
        assert "worn" not in [row[1] for row in older.execute("PRAGMA table_info(frame)")]
        assert older.execute("SELECT count(*) FROM frame").fetchone() == (7,)
    assert not list((folder / "backups").glob("*"))
    again = Catalogue(folder)
    # What was there before is kept, whole, beside it.
    (kept,) = (folder / "backups").glob("catalogue-*.sqlite")
    with sqlite3.connect(kept) as before:
        assert before.execute("SELECT version_num FROM alembic_version").fetchone() == ("0002",)
        assert before.execute("SELECT count(*) FROM frame").fetchone() == (7,)
    with again.read() as session:
        frame = session.get_one(Frame, 2)
        assert (frame.name, frame.set_id, frame.worn, frame.seen, frame.sidecar) == ("A002.DNG", 1, [], {}, "")
        assert session.get_one(Shoot, 1).sidecars is False
    again.close()


class Killed(Exception):
    """Stands for the end of the process."""


def broken_off(folder: Path, at: int) -> bool:
    """Open a catalogue and be killed before statement `at` that changes something; whether it came so far."""
    changes = 0

    def stop(_c: object, _k: object, statement: str, *_: object) -> None:
        nonlocal changes
        changes += not statement.lstrip().startswith(("SELECT", "PRAGMA"))
        if changes > at:
            raise Killed

    event.listen(Engine, "before_cursor_execute", stop)
    try:
        Catalogue(folder).close()
    except Killed:
        return True
    finally:
        event.remove(Engine, "before_cursor_execute", stop)
    return False


def test_a_catalogue_whose_making_was_broken_off_is_made(tmp_path: Path) -> None:
    """Also when each attempt is broken off a little later: no statement leaves its part behind."""
    at = 0
    while broken_off(tmp_path / "data", at):
        at += 5
    assert at > 40
    catalogue = Catalogue(tmp_path / "data")
    with catalogue.read() as session:
        assert session.get(Shoot, 1) is None
    catalogue.close()


def test_a_new_catalogue_is_at_no_moment_a_file_of_no_bytes(tmp_path: Path, monkeypatch: pytest.MonkeyPatch) -> None:
    """That is what a killed program left, and it was taken for damage at the next start."""

    def killed(*_: object, **__: object) -> None:
        raise Killed

    with monkeypatch.context() as patch, pytest.raises(Killed):
        patch.setattr(store, "create_engine", killed)
        Catalogue(tmp_path / "data")
    assert health.fault(tmp_path / "data" / health.NAME) == ""
    Catalogue(tmp_path / "data").close()


def test_a_log_whose_catalogue_is_gone_is_kept_and_not_read_into_a_new_one(data: Path) -> None:
    first = Catalogue(data)
    with first.write() as session:
        session.add_all(Shoot(name=f"Shoot {n}", words={"caption": "x" * 400}) for n in range(300))
    log = (data / f"{health.NAME}-wal").read_bytes()
    first.close()
    for part in data.glob(f"{health.NAME}*"):
        part.unlink()
    (data / f"{health.NAME}-wal").write_bytes(log)
    again = Catalogue(data)
    with again.read() as session:
        assert session.get(Shoot, 1) is None
    again.close()
    assert not health.fault(data / health.NAME)
    assert [p.read_bytes() for p in data.glob("damaged-*-wal")] == [log]


def test_an_older_catalogue_whose_bringing_up_was_broken_off_is_as_before(catalogue: Catalogue) -> None:
    folder = catalogue.folder
    downgrade(catalogue, "0002")
    at = 0
    while broken_off(folder, at):
        with sqlite3.connect(folder / "catalogue.sqlite") as older:
            assert older.execute("SELECT version_num FROM alembic_version").fetchone() == ("0002",)
            assert "worn" not in [row[1] for row in older.execute("PRAGMA table_info(frame)")]
            assert older.execute("SELECT count(*) FROM frame").fetchone() == (7,)
        at += 9
    assert at > 40
    again = Catalogue(folder)
    with again.read() as session:
        assert session.get_one(Frame, 2).name == "A002.DNG"
    again.close()


def test_a_failed_change_leaves_nothing(data: Path) -> None:
    catalogue = Catalogue(data)
    revision = catalogue.revision
    with pytest.raises(IntegrityError), catalogue.write() as session:
        session.add(Shoot(name="half"))
        session.flush()
        session.execute(text("INSERT INTO frame_set (shoot_id, name, reason) VALUES (99, 'x', '')"))
    with catalogue.read() as session:
        assert session.get(Shoot, 1) is None
    assert catalogue.revision == revision
    catalogue.close()


def test_a_process_that_died_in_a_transaction_loses_only_that(data: Path) -> None:
    catalogue = Catalogue(data)
    with catalogue.write() as session:
        session.add(Shoot(name="kept"))
    catalogue.close()
    raw = sqlite3.connect(data / "catalogue.sqlite")
    raw.execute(
        "INSERT INTO shoot (name, created, creator, rights, preset) VALUES ('lost', '2026-01-01', '', '', '{}')"
    )
    raw.close()  # without commit, as a killed process leaves it
    again = Catalogue(data)
    with again.read() as session:
        assert [s.name for s in session.query(Shoot)] == ["kept"]
    again.close()


def test_a_data_folder_that_cannot_be(tmp_path: Path) -> None:
    (tmp_path / "file").write_text("")
    with pytest.raises(TannerError, match="data folder"):
        Catalogue(tmp_path / "file" / "data")
