"""Opens the catalogue: checked, SQLite in WAL mode, one writer at a time, migrations at start."""

import json
import math
import sqlite3
import threading
from collections.abc import Callable, Iterator
from contextlib import contextmanager
from functools import lru_cache
from pathlib import Path
from typing import Any

from pydantic_core import from_json, to_json
from sqlalchemy import create_engine, event
from sqlalchemy.orm import ORMExecuteState, Session, with_loader_criteria

from tanner.catalogue import health
from tanner.catalogue.dust import DustBook
from tanner.catalogue.models import Frame
from tanner.catalogue.news import News
from tanner.catalogue.profiles import Profiles
from tanner.core.errors import TannerError
from tanner.core.texts import folded

MIGRATIONS = Path(__file__).parent / "migrations"


def _plain(value: Any) -> Any:
    """The same without numbers that are none, which JSON does not know: they become null."""
    if isinstance(value, float):
        return value if math.isfinite(value) else None
    if isinstance(value, dict):
        return {k: _plain(v) for k, v in value.items()}
    if isinstance(value, list | tuple):
        return [_plain(v) for v in value]
    return value


def as_json(value: Any) -> str:
    """JSON as every reader takes it, SQLite's own among them: numbers that are none become null."""
    try:
        return to_json(value, inf_nan_mode="null").decode()
    except ValueError:  # half a character, as the system gives it for a name that is no UTF-8: kept as an escape
        return json.dumps(_plain(value), allow_nan=False)


def of_json(text: str) -> Any:
    """What `as_json` wrote, or the code before."""
    try:
        return from_json(text)
    except ValueError:
        return json.loads(text)


class Catalogue:
    """The database of one data folder, with the folders beside it for pictures and presets.

    Attributes:
        revision: counts writes, so that what was read once can be told to be stale.
        news: what happens, for those who wait for it; jobs tell it, too.
        after: is told the ids of shoots whose frames, sets or settings a write changed by a step.
    """

    def __init__(self, folder: Path) -> None:
        self.folder = folder
        self.pictures = folder / "pictures"
        self.presets = folder / "presets"
        self.specs = folder / "specs"
        self.profiles = Profiles(folder)
        self.dust = DustBook(folder)
        health.writable(folder)
        try:
            for each in (folder, self.pictures, self.presets, self.specs, self.profiles.folder):
                each.mkdir(parents=True, exist_ok=True)
        except OSError as error:
            raise TannerError(f"{folder}: the data folder cannot be made ({error.strerror}).") from None
        health.check(folder)
        health.begin(folder)
        self.engine = create_engine(
            f"sqlite:///{folder / health.NAME}",
            connect_args={"timeout": 30, "check_same_thread": False},
            # A third of the standard library's time, which was half of a change to 5,000 frames.
            json_serializer=as_json,
            json_deserializer=of_json,
        )
        event.listen(self.engine, "connect", _prepare)
        self._writer = threading.Lock()
        self.revision = 0
        self.news = News()
        self.after: Callable[[set[int]], None] = lambda shoots: None
        self._migrate()

    def _migrate(self) -> None:
        if self._version() == max(path.name[:4] for path in MIGRATIONS.glob("versions/[0-9]*.py")):
            return  # and what brings catalogues up is not even loaded: half a second at each start
        from alembic import command
        from alembic.config import Config
        from alembic.runtime.migration import MigrationContext
        from alembic.script import ScriptDirectory

        config = Config()
        config.set_main_option("script_location", str(MIGRATIONS))
        with self.engine.connect() as connection:
            # Left to itself the driver commits before each change of a table: a program that was killed in between
            # left half a version, which nothing could open. So the one transaction is begun and ended here.
            connection = connection.execution_options(isolation_level="AUTOCOMMIT")
            # A table that is made anew is dropped for a moment; what points to it must not mind.
            connection.exec_driver_sql("PRAGMA foreign_keys=OFF")
            config.attributes["connection"] = connection
            was = MigrationContext.configure(connection).get_current_revision()
            if was not in (None, ScriptDirectory.from_config(config).get_current_head()):
                self._back_up_first()
            connection.exec_driver_sql("BEGIN IMMEDIATE")
            command.upgrade(config, "head")
            connection.exec_driver_sql("COMMIT")
            connection.exec_driver_sql("PRAGMA foreign_keys=ON")

    def _version(self) -> str | None:
        """Which migration the catalogue is at; None for one that is new."""
        with self.engine.connect() as connection:
            there = connection.exec_driver_sql("SELECT 1 FROM sqlite_master WHERE name = 'alembic_version'").first()
            row = connection.exec_driver_sql("SELECT version_num FROM alembic_version").first() if there else None
            return str(row[0]) if row else None

    def _back_up_first(self) -> None:
        """Before its tables are changed for this version, the catalogue is kept as it is.

        Raises:
            TannerError: there is no room for that; nothing was changed.
        """
        try:
            health.back_up(self.folder, every_s=0)
        except (OSError, sqlite3.Error) as error:
            raise TannerError(
                f"{self.folder}: the catalogue is of an older version, and could not be backed up before it is brought up ({error}). "
                "Make room and start again. Nothing was changed."
            ) from None

    def _session(self) -> Session:
        # Who resolves frames in this session asks for the rules and the dust of sensors here.
        return Session(
            self.engine, expire_on_commit=False, info={"rules": self.profiles.rules, "dust": self.dust.values}
        )

    def touch(self) -> None:
        """Something outside the tables changed that decides what frames look like."""
        self.revision += 1
        self.news.tell("frames")

    @contextmanager
    def read(self) -> Iterator[Session]:
        """A session for reading."""
        with self._session() as session:
            yield session

    @contextmanager
    def write(self) -> Iterator[Session]:
        """The one session that writes; committed whole at its end, or rolled back."""
        with self._writer:
            with self._session() as session, session.begin():
                yield session
            self.revision += 1
        self.news.tell("frames")
        if session.info.get("changed"):
            self.after(session.info["changed"])

    def close(self) -> None:
        self.engine.dispose()


@event.listens_for(Session, "do_orm_execute")
def _leave_out_gone(state: ORMExecuteState) -> None:
    """Frames that were taken out of their shoot are seen only by queries that ask for them."""
    if state.is_select and not state.is_column_load and not state.execution_options.get("with_gone"):
        state.statement = state.statement.options(with_loader_criteria(Frame, Frame.gone.is_(False)))


@lru_cache(4096)
def _folded(value: Any) -> str | None:
    return None if value is None else folded(str(value))


def _prepare(connection: Any, _: Any) -> None:
    connection.create_function("folded", 1, _folded, deterministic=True)
    cursor = connection.cursor()
    for pragma in (
        "journal_mode=WAL",
        "synchronous=NORMAL",
        "foreign_keys=ON",
        "busy_timeout=30000",
        "journal_size_limit=8388608",
    ):
        cursor.execute(f"PRAGMA {pragma}")
    cursor.close()
