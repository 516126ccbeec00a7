"""PostgreSQL servers, through psycopg; libpq's PG* variables and password file are used."""

from __future__ import annotations

from collections.abc import Iterator
from contextlib import contextmanager
from functools import cached_property
from typing import Any

import sqlalchemy as sa
from psycopg.types.string import TextLoader

from yeldro.core.database.facts import NOTHING, USUAL, Mode, TableLocks
from yeldro.core.model.messages.errors import Refused, YeldroError
from yeldro.engines.postgresql.errors import explained
from yeldro.engines.postgresql.knowledge import LOOKING
from yeldro.engines.postgresql.session import TRAITS, PostgresqlSession
from yeldro.engines.server import ServerDatabase

# Settings under which the text of every value reads back as that value (manual, 20.11.2), and a
# backslash in a literal is read as the parser reads it.
_EXACT_TEXT = """SET LOCAL datestyle = 'ISO'; SET LOCAL intervalstyle = 'postgres';
SET LOCAL extra_float_digits = 1; SET LOCAL array_nulls = on; SET LOCAL xmloption = content;
SET LOCAL standard_conforming_strings = on; SET LOCAL bytea_output = 'hex'"""
# MB that a hash table of keys may take, times hash_mem_multiplier. With fewer, rows come in several
# passes over the table, and each of them writes every page anew.
_WORK_MEM = 64
_KILOBYTES = {"kB": 1, "MB": 1024, "GB": 1024**2, "TB": 1024**3}
_DATES_AND_TIMES = ("date", "time", "timetz", "timestamp", "timestamptz", "interval")


class PostgresqlDatabase(ServerDatabase):
    """A database on a PostgreSQL server.

    Args:
        url: its address; libpq adds what the URL leaves out, as for its own programs.
    """

    traits = TRAITS

    def __init__(self, url: sa.URL) -> None:
        super().__init__(url, "postgresql", "postgresql+psycopg")
        self._pool: type[sa.Pool] = sa.pool.NullPool

    def keep_connection(self) -> None:
        """Keep it for the next session: every setting of a session ends with its transaction."""
        self._pool = sa.pool.QueuePool

    @cached_property
    def _engine(self) -> sa.Engine:
        engine = sa.create_engine(
            self._url,
            poolclass=self._pool,
            pool_pre_ping=True,  # a person at a prompt may take longer than the server waits
            isolation_level="REPEATABLE READ",
            connect_args={"application_name": "yeldro", "client_encoding": "UTF8"},
        )
        sa.event.listen(engine, "connect", _read_times_as_text)
        return engine

    @contextmanager
    def reading(self, mode: Mode = USUAL) -> Iterator[PostgresqlSession]:
        """Open a session in one repeatable read transaction, whose statements can only read."""
        with self._session(mode, looking=True) as session, session.looking():
            yield session

    @contextmanager
    def writing(
        self, lock_wait: float, locks: TableLocks = NOTHING, mode: Mode = USUAL
    ) -> Iterator[PostgresqlSession]:
        """Open a session in one repeatable read transaction."""
        with self._session(mode) as session:
            shown = session.connection.exec_driver_sql("SHOW session_replication_role").scalar_one()
            if shown == "replica":
                raise Refused(
                    "This role's sessions have session_replication_role = replica, in which "
                    "PostgreSQL fires no trigger and checks no foreign key.",
                    "Add ?options=-c session_replication_role=origin to the URL, or use another "
                    "role.",
                )
            milliseconds = max(int(self._lock_wait(lock_wait) * 1000), 1)
            session.connection.exec_driver_sql(f"SET LOCAL lock_timeout = {milliseconds}")
            session.lock_tables(locks)
            session.count_rows()
            yield session

    @contextmanager
    def _session(self, mode: Mode, *, looking: bool = False) -> Iterator[PostgresqlSession]:
        with self._connection() as connection:
            if looking and not _is_standby(connection):
                # Temporary tables are needed, even if sessions only read by default.
                connection.exec_driver_sql("SET TRANSACTION READ WRITE")
            connection.exec_driver_sql(_EXACT_TEXT)
            _raise_work_mem(connection)
            if (connection.dialect.server_version_info or ()) >= (11,):
                # Compiling a statement that is executed once takes longer than it saves.
                # A query here would take the snapshot before tables are locked, SET does not.
                connection.exec_driver_sql("SET LOCAL jit = off")
            if self._statement_limit is not None:
                milliseconds = max(int(self._statement_limit * 1000), 1)
                connection.exec_driver_sql(f"SET LOCAL statement_timeout = {milliseconds}")
            connection.execution_options(**{LOOKING: False})
            sa.event.listen(connection, "before_cursor_execute", _look_only)
            sa.event.listen(connection, "after_cursor_execute", _looked)
            _check_search_path(connection)
            session = PostgresqlSession(connection, mode)
            try:
                yield session
            finally:
                session.roll_back()
                if session.has_committed and not connection.invalidated:
                    connection.detach()  # its temporary tables outlive the transaction

    def _explained(self, error: sa.exc.DBAPIError, *, connected: bool) -> YeldroError:
        del connected  # the server's own codes tell
        return explained(error, self.shown, self._statement_limit)


def _check_search_path(connection: sa.Connection) -> None:
    """Refuse a search path by which another schema's names hide those of the system.

    Temporary tables may come first: no function or operator is looked for among them.

    Raises:
        Refused: names of the catalogue, and `=` itself, could mean something else.
    """
    shown = str(connection.exec_driver_sql("SHOW search_path").scalar_one())
    path = [each.strip().strip('"') for each in shown.split(",")]
    before = path[: path.index("pg_catalog")] if "pg_catalog" in path else []
    if any(each != "pg_temp" for each in before):
        raise Refused(
            f"The search_path of this session is {shown}: what the system's own names and "
            f"operators mean depends on {before[0]}.",
            "Leave pg_catalog out of it, so that it comes first, or put it there: "
            "add ?options=-c search_path=… to the URL.",
        )


def _is_standby(connection: sa.Connection) -> bool:
    """True if the server follows another one; the parameter exists since version 14."""
    raw: Any = connection.connection.driver_connection
    return bool(raw.info.parameter_status("in_hot_standby") == "on")


def _raise_work_mem(connection: sa.Connection) -> None:
    """Set work_mem for this transaction, unless it is larger already."""
    shown = str(connection.exec_driver_sql("SHOW work_mem").scalar_one())
    kilobytes = int(shown[:-2]) * _KILOBYTES[shown[-2:]]
    if kilobytes < _WORK_MEM * 1024:
        connection.exec_driver_sql(f"SET LOCAL work_mem = '{_WORK_MEM}MB'")


def _read_times_as_text(connection: Any, _: Any) -> None:
    """Load dates and times as text: Python has no year 0 or 10000, no infinity, no 24:00."""
    for kind in _DATES_AND_TIMES:
        connection.adapters.register_loader(kind, TextLoader)


def _look_only(
    connection: sa.Connection, cursor: Any, statement: str, parameters: Any, context: Any, _: bool
) -> None:
    """Make the server refuse this one statement if it would change a table of the user's."""
    del cursor, statement, parameters, context  # the cursor may be a server-side one
    if connection.get_execution_options().get(LOOKING):
        raw = connection.connection.cursor()
        raw.execute("SAVEPOINT yeldro_look; SET LOCAL transaction_read_only = on")
        raw.close()


def _looked(
    connection: sa.Connection, cursor: Any, statement: str, parameters: Any, context: Any, _: bool
) -> None:
    del cursor, statement, parameters, context
    if connection.get_execution_options().get(LOOKING):
        raw = connection.connection.cursor()
        raw.execute("RELEASE SAVEPOINT yeldro_look")
        raw.close()
