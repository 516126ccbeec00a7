"""SQLite files.

Yeldro turns SQLite's foreign keys off: SQLite would cascade row by row, count these rows in no
statement, and stop at 1,000 levels. Sets of rows are computed first and removed by separate
statements. The core (`execution.run`) proves before the commit that no dangling reference is left.
"""

from __future__ import annotations

import math
import re
import sqlite3
import stat
import threading
import time
from collections.abc import Iterator
from contextlib import contextmanager
from functools import cached_property
from pathlib import Path
from typing import TYPE_CHECKING, Any

import sqlalchemy as sa

from yeldro.core.database.facts import (
    NOTHING,
    USUAL,
    Mode,
    TableLocks,
)
from yeldro.core.model.messages.errors import (
    MissingPrivilege,
    OutOfReach,
    UsageError,
)
from yeldro.engines.sqlite.errors import Explained
from yeldro.engines.sqlite.session import TRAITS, SqliteSession
from yeldro.engines.sqlite.texts import (
    decoded,
    hashed,
    well_formed,
    without_case,
)

if TYPE_CHECKING:
    pass

_HEADER = b"SQLite format 3\0"
_UTF_16 = {2: "utf-16-le", 3: "utf-16-be"}  # sqlite.org/fileformat2.html, 1.3.13
_ENCODING_AT = 59
_CACHED = 48_000  # KiB of pages that are kept in memory; rows that are sorted may take as much
_STEPS_BETWEEN_SIGNALS = 100_000
# A table's own ON CONFLICT clause can make a change of one row remove others, which SQLite does not
# count; one in the statement overrides it (sqlite.org/lang_conflict.html).
_WITH_CLAUSES = "SELECT 1 FROM sqlite_master WHERE sql LIKE '%CONFLICT%' AND type = 'table'"
_CHANGE = re.compile(r"^(?:UPDATE|INSERT)(?= )(?! OR )")


class SqliteDatabase:
    """A database in one file.

    Args:
        path: where the file is.
    """

    traits = TRAITS

    def __init__(self, path: Path) -> None:
        self.path = path.expanduser().resolve()
        self.shown = f"sqlite:///{in_a_url(str(self.path))}"
        self._statement_limit = math.inf
        self._statement_ends = math.inf
        self._asked = threading.local()

    def limit_statements(self, seconds: float) -> None:
        self._statement_limit = seconds

    def keep_connection(self) -> None:
        """Do nothing: a file is opened to be read, or to be written."""

    def close(self) -> None:
        """Do nothing: every session closes its connection."""

    @cached_property
    def _engine(self) -> sa.Engine:
        def connect() -> sqlite3.Connection:
            connection: sqlite3.Connection = self._asked.open()
            return connection

        def begin(*_: Any) -> None:
            self._statement_ends = time.monotonic() + self._statement_limit

        engine = sa.create_engine("sqlite://", creator=connect, poolclass=sa.pool.NullPool)
        sa.event.listen(engine, "before_cursor_execute", begin)
        return engine

    @contextmanager
    def create(self) -> Iterator[sa.Connection]:
        """Open a plain connection to the file, which is made if it does not exist."""
        self.path.parent.mkdir(parents=True, exist_ok=True)
        engine = sa.create_engine(f"sqlite:///{self.path}", poolclass=sa.pool.NullPool)
        with engine.begin() as connection:
            yield connection

    @contextmanager
    def reading(self, mode: Mode = USUAL) -> Iterator[SqliteSession]:
        """Open a session on the file, which is opened read-only, in one read transaction."""
        with self._session("ro", 5.0, mode) as session:
            session.connection.exec_driver_sql("BEGIN")
            yield session

    @contextmanager
    def writing(
        self, lock_wait: float, locks: TableLocks = NOTHING, mode: Mode = USUAL
    ) -> Iterator[SqliteSession]:
        """Open a session that holds the write lock of the file from the start."""
        del locks
        if self.path.exists() and not self.path.stat().st_mode & (
            stat.S_IWUSR | stat.S_IWGRP | stat.S_IWOTH
        ):
            raise MissingPrivilege(
                f"The file {self.path} is marked read-only.",
                f"If it may be changed: chmod u+w {self.path}",
            )
        with self._session("rw", min(lock_wait, self._statement_limit), mode) as session:
            session.connection.exec_driver_sql("PRAGMA foreign_keys = OFF")
            session.connection.exec_driver_sql("BEGIN IMMEDIATE")
            session.seen_by_others = f"{self.path.as_uri()}?mode=ro"
            session.longest_wait = None if math.isinf(limit := self._statement_limit) else limit
            if session.connection.exec_driver_sql(_WITH_CLAUSES).first():
                sa.event.listen(session.connection, "before_cursor_execute", _abort, retval=True)
            yield session

    @contextmanager
    def _session(
        self, access: str, lock_wait: float, mode: Mode = USUAL
    ) -> Iterator[SqliteSession]:
        codec = _UTF_16.get(self._check_file(), "")
        address = f"{self.path.as_uri()}?mode={access}"

        def is_over() -> bool:
            return time.monotonic() > self._statement_ends

        def connect() -> sqlite3.Connection:
            raw = sqlite3.connect(
                address, uri=True, timeout=lock_wait, isolation_level=None, check_same_thread=False
            )
            raw.text_factory = decoded
            raw.create_function("yeldro_without_case", 1, without_case, deterministic=True)
            raw.create_function("yeldro_hash", -1, hashed, deterministic=True)
            if codec:
                check = well_formed(codec)
                raw.create_function("yeldro_well_formed", 2, check, deterministic=True)
            raw.execute(f"PRAGMA cache_size = -{_CACHED}")
            raw.set_progress_handler(is_over, _STEPS_BETWEEN_SIGNALS)
            return raw

        self._asked.open = connect
        try:
            with self._engine.connect() as connection:
                session = SqliteSession(connection, mode, in_utf_16=bool(codec))
                try:
                    yield session
                finally:
                    session.roll_back()
        except OverflowError as error:
            raise UsageError(
                "A number in it is larger than SQLite holds (64 bits).", "Write it as text."
            ) from error
        except sa.exc.DBAPIError as error:
            told = Explained(self.path, lock_wait, self._statement_limit, writes=access == "rw")
            raise told.error(error, in_time=time.monotonic() < self._statement_ends) from error

    def _check_file(self) -> int:
        """Refuse a file that is not a database; return the number of its text encoding."""
        if not self.path.exists():
            near = self.path.parent if self.path.parent.is_dir() else None
            files = sorted(near.glob("*.db")) + sorted(near.glob("*.sqlite*")) if near else []
            there = ", ".join(str(file.name) for file in files[:5])
            raise OutOfReach(
                f"There is no file {self.path}.",
                f"These files are there: {there}." if there else "Check the path.",
            )
        if self.path.is_dir():
            raise OutOfReach(f"{self.path} is a folder.", "Name the database file in it.")
        if not self.path.is_file():
            raise OutOfReach(f"{self.path} is no file, but a pipe or a device.", "Name a file.")
        try:
            with self.path.open("rb") as file:
                start = file.read(_ENCODING_AT + 1)
        except OSError as error:
            raise OutOfReach(
                f"The file {self.path} cannot be read: {error.strerror}.", "Check its permissions."
            ) from error
        if start and not start.startswith(_HEADER):
            raise OutOfReach(
                f"The file {self.path} is not an SQLite database.", "Name a database file."
            )
        return start[_ENCODING_AT] if len(start) > _ENCODING_AT else 0


def in_a_url(path: str) -> str:
    """Return a path with the characters in codes that mean something in a URL."""
    return path.replace("%", "%25").replace("?", "%3F")


def _abort(
    connection: sa.Connection, cursor: Any, statement: str, parameters: Any, context: Any, _: bool
) -> tuple[str, Any]:
    """Make a statement fail where a clause of the table would take rows out of its way."""
    del connection, cursor, context
    return _CHANGE.sub(r"\g<0> OR ABORT", statement), parameters
