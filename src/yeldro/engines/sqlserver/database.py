"""SQL Server, through pymssql.

A session that looks has one snapshot of the data where the database allows snapshots; it executes
nothing but queries, and functions cannot change tables (Transact-SQL reference, "CREATE FUNCTION").
A session that changes rows is serializable: what it has read stays as it is until it ends.
"""

from __future__ import annotations

import math
import os
import selectors
from collections.abc import Iterator
from contextlib import contextmanager
from contextvars import ContextVar
from functools import cached_property
from typing import Any

import pymssql
import sqlalchemy as sa

from yeldro.core.database.facts import NOTHING, USUAL, Mode, TableLocks
from yeldro.core.model.messages.errors import MissingPrivilege, OutOfReach, UsageError, YeldroError
from yeldro.engines.server import ServerDatabase
from yeldro.engines.sqlserver.compiler import DRIVER
from yeldro.engines.sqlserver.errors import TIMED_OUT, explained
from yeldro.engines.sqlserver.session import TRAITS, SqlServerSession

PASSWORD = "YELDRO_PASSWORD"  # the variable that has what the URL leaves out; the driver has none
_OLDEST = 14  # SQL Server 2017, the first whose catalogue tells of graph tables
# So that no setting of the server or a client changes a result, or cuts a value short. The language
# of the login stays: it says what days in a condition mean, as in other programs of its user.
_SETTINGS = """
SET XACT_ABORT ON; SET NOCOUNT OFF; SET ROWCOUNT 0; SET TEXTSIZE 2147483647;
SET IMPLICIT_TRANSACTIONS OFF; SET ANSI_NULLS ON;
SET ANSI_PADDING ON; SET ANSI_WARNINGS ON; SET ARITHABORT ON; SET QUOTED_IDENTIFIER ON;
SET CONCAT_NULL_YIELDS_NULL ON; SET NUMERIC_ROUNDABORT OFF
"""
_SNAPSHOTS = "SELECT snapshot_isolation_state AS allowed FROM sys.databases WHERE name = DB_NAME()"
_SCHEMES = ("mssql", "sqlserver", "mssql+pymssql")
_limit: ContextVar[float | None] = ContextVar("_limit", default=None)  # seconds


class SqlServerDatabase(ServerDatabase):
    """A database on a SQL Server.

    Args:
        url: its address; `YELDRO_PASSWORD` may have the password that it leaves out.

    Raises:
        UsageError: the URL names no database, or another driver.
    """

    traits = TRAITS

    def __init__(self, url: sa.URL) -> None:
        if url.drivername not in _SCHEMES:
            raise UsageError(
                f"{url.drivername}:// names a driver that Yeldro does not connect through.",
                "Write the URL as mssql://user@host/database, which is pymssql's.",
            )
        if not url.database:
            raise UsageError(
                "The URL names no database.", "Write it as mssql://user@host/database."
            )
        super().__init__(url, "mssql", DRIVER)
        if url.password is None and (password := os.environ.get(PASSWORD)) is not None:
            self._url = self._url.set(password=password)
        self._url = self._url.update_query_dict({"charset": "UTF-8"})

    @contextmanager
    def reading(self, mode: Mode = USUAL) -> Iterator[SqlServerSession]:
        """Open a session that looks at one snapshot, if the database allows any."""
        with self._session(mode) as session:
            allowed = bool(session.connection.exec_driver_sql(_SNAPSHOTS).scalar())
            _begin(session.connection, "SNAPSHOT" if allowed else "READ COMMITTED")
            session.sees_one_moment = allowed
            yield session

    @contextmanager
    def writing(
        self, lock_wait: float, locks: TableLocks = NOTHING, mode: Mode = USUAL
    ) -> Iterator[SqlServerSession]:
        """Open a session in one serializable transaction."""
        with self._session(mode) as session:
            if not session.catalogue.sees_all:
                raise MissingPrivilege(
                    "This user does not see the definition of every table of this database, and a "
                    "hidden one could reference the rows that go.",
                    "Use a user with VIEW DEFINITION on the database.",
                )
            milliseconds = max(int(self._lock_wait(lock_wait) * 1000), 1)
            session.connection.exec_driver_sql(f"SET LOCK_TIMEOUT {milliseconds}")
            _begin(session.connection, "SERIALIZABLE")
            session.lock_tables(locks)
            yield session

    @cached_property
    def _engine(self) -> sa.Engine:
        arguments: dict[str, Any] = {"appname": "yeldro"}
        if self._statement_limit is not None:
            arguments["timeout"] = max(math.ceil(self._statement_limit), 1)
        return sa.create_engine(self._url, poolclass=sa.pool.NullPool, connect_args=arguments)

    @contextmanager
    def _session(self, mode: Mode) -> Iterator[SqlServerSession]:
        with self._connection() as connection, _limiting(self._statement_limit):
            version = int((connection.dialect.server_version_info or (0,))[0])
            if version < _OLDEST:
                raise OutOfReach(
                    f"The server at {self.shown} is of version {version}.",
                    f"Yeldro works with SQL Server 2017 (version {_OLDEST}) and later ones.",
                )
            connection.exec_driver_sql(_SETTINGS)
            session = SqlServerSession(connection, mode)
            try:
                yield session
            finally:
                session.roll_back()

    def _explained(self, error: sa.exc.DBAPIError, *, connected: bool) -> YeldroError:
        return explained(error, self.shown, self._statement_limit, connected=connected)


@contextmanager
def _limiting(seconds: float | None) -> Iterator[None]:
    """Wait so long for each answer of the server at most."""
    before = _limit.set(seconds)
    try:
        yield
    finally:
        _limit.reset(before)


def _wait(answer: int) -> None:
    """Wait for an answer of the server, where Ctrl-C ends that; the library's own wait goes on.

    Args:
        answer: the number of the file from which it is read.

    Raises:
        OperationalError: it did not come in time.
    """
    with selectors.DefaultSelector() as waiting:
        waiting.register(answer, selectors.EVENT_READ)
        if not waiting.select(_limit.get()):
            # In these words the library says so itself; the connection is closed then.
            raise pymssql.OperationalError(TIMED_OUT, b"no answer in time, message 20003")


pymssql.set_wait_callback(_wait)


def _begin(connection: sa.Connection, level: str) -> None:
    """Begin a transaction anew at an isolation level, which holds from its beginning only."""
    connection.exec_driver_sql(f"SET TRANSACTION ISOLATION LEVEL {level}")
    connection.rollback()
