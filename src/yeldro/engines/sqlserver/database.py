"""SQL Server, through pymssql.

A session that looks has one snapshot of the data where the database allows snapshots; it executes
nothing but queries, and functions cannot change tables (Transact-SQL reference, "CREATE FUNCTION").
A session that changes rows is serializable: what it has read stays as it is until it ends.
"""

from __future__ import annotations

import math
import os
from collections.abc import Iterator
from contextlib import contextmanager
from functools import cached_property
from typing import Any

import pymssql  # noqa: F401  # to say what is missing before anything is done
import sqlalchemy as sa

from yeldro.core.database.facts import NOTHING, USUAL, Mode, TableLocks
from yeldro.core.model.errors import MissingPrivilege, OutOfReach, UsageError
from yeldro.engines.address import without_secrets
from yeldro.engines.sqlserver.compiler import DRIVER
from yeldro.engines.sqlserver.errors import explained
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


class SqlServerDatabase:
    """A database on a SQL Server.

    Args:
        url: its address; `YELDRO_PASSWORD` may have the password that it leaves out.

    Raises:
        UsageError: the URL names no database.
    """

    traits = TRAITS

    def __init__(self, url: sa.URL) -> None:
        if not url.database:
            raise UsageError(
                "The URL names no database.", "Write it as mssql://user@host/database."
            )
        self.shown = without_secrets(url.set(drivername="mssql")).render_as_string()
        if url.password is None and (password := os.environ.get(PASSWORD)) is not None:
            url = url.set(password=password)
        self._url = url.set(drivername=DRIVER).update_query_dict({"charset": "UTF-8"})
        self._statement_limit: float | None = None

    def limit_statements(self, seconds: float) -> None:
        self._statement_limit = seconds

    def keep_connection(self) -> None:
        """Do nothing: settings and temporary tables of a session last as long as its connection."""

    def close(self) -> None:
        """Do nothing: every session closes its connection."""

    @contextmanager
    def create(self) -> Iterator[sa.Connection]:
        """Open a plain connection in one transaction."""
        try:
            with self._engine.begin() as connection:
                yield connection
        except sa.exc.DBAPIError as error:
            raise explained(error, self.shown, self._statement_limit) from error

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
            if self._statement_limit is not None:
                lock_wait = min(lock_wait, self._statement_limit)
            session.connection.exec_driver_sql(f"SET LOCK_TIMEOUT {max(int(lock_wait * 1000), 1)}")
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
        connected = False
        try:
            with self._engine.connect() as connection:
                connected = True
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
        except sa.exc.DBAPIError as error:
            raise explained(
                error, self.shown, self._statement_limit, connected=connected
            ) from error


def _begin(connection: sa.Connection, level: str) -> None:
    """Begin a transaction anew at an isolation level, which holds from its beginning only."""
    connection.exec_driver_sql(f"SET TRANSACTION ISOLATION LEVEL {level}")
    connection.rollback()
