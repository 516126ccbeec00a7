"""MariaDB servers, through PyMySQL; option files are read as for MariaDB's own programs.

Cascades of InnoDB fire no triggers and are not counted. So Yeldro's connection turns foreign key
checks off and removes each set of rows by a statement. Before the commit the core
(`execution.run`) proves that no dangling reference is left, by a locking read that sees what others
have committed.
"""

from __future__ import annotations

import math
import os
from collections.abc import Iterator
from contextlib import contextmanager, suppress
from functools import cached_property
from pathlib import Path

import pymysql
import sqlalchemy as sa
from pymysql.constants import FIELD_TYPE

from yeldro.core.database.facts import NOTHING, USUAL, Mode, TableLocks
from yeldro.core.model.messages.errors import (
    MissingPrivilege,
    OutOfReach,
    Refused,
    UsageError,
    YeldroError,
)
from yeldro.engines.mariadb.connection import connect, set_up
from yeldro.engines.mariadb.errors import OPTION_FILE, explained, heed_warnings
from yeldro.engines.mariadb.session import TRAITS, MariadbSession
from yeldro.engines.server import ServerDatabase

_SOCKETS = ("/run/mysqld/mysqld.sock", "/var/lib/mysql/mysql.sock", "/tmp/mysql.sock")
_AS_TEXT = (FIELD_TYPE.DATE, FIELD_TYPE.DATETIME, FIELD_TYPE.TIMESTAMP, FIELD_TYPE.TIME)
_READ_AS = {kind: reader for kind, reader in pymysql.converters.conversions.items()
            if kind not in _AS_TEXT}  # fmt: skip


class MariadbDatabase(ServerDatabase):
    """A database on a MariaDB server.

    Args:
        url: its address; the option file adds what the URL leaves out.

    Raises:
        UsageError: the URL names no database.
    """

    traits = TRAITS

    def __init__(self, url: sa.URL) -> None:
        if not url.database:
            raise UsageError("The URL names no database.", "Write it as mariadb://host/database.")
        self._name = url.database
        more = {} if "charset" in url.query else {"charset": "utf8mb4"}
        options = Path(os.path.expanduser(OPTION_FILE))
        if options.is_file() and not any(name.startswith("read_default") for name in url.query):
            more["read_default_file"] = str(options)
        here = not url.host and "unix_socket" not in url.query and "read_default_file" not in more
        if here and (socket := _socket()):
            more["unix_socket"] = socket
        super().__init__(url, "mariadb", "mariadb+pymysql")
        self._url = self._url.update_query_dict(more)

    @contextmanager
    def reading(self, mode: Mode = USUAL) -> Iterator[MariadbSession]:
        """Open a session in one read-only transaction; key tables come first."""
        with self._session(mode) as session:
            session.look_only()
            yield session

    @contextmanager
    def writing(
        self, lock_wait: float, locks: TableLocks = NOTHING, mode: Mode = USUAL
    ) -> Iterator[MariadbSession]:
        """Open a session in one repeatable read transaction without foreign key checks."""
        with self._session(mode) as session:
            if session.setting("sql_safe_updates"):
                raise Refused(
                    "This user's sessions have sql_safe_updates on, which refuses every deletion "
                    "that looks rows up in a list of keys, as Yeldro does.",
                    "If the row count is safe enough for you, add "
                    "?init_command=SET sql_safe_updates=0 to the URL.",
                )
            _keep_logs_apart(session)
            if not session.catalogue.sees_all():
                raise MissingPrivilege(
                    f"This user does not see every table of {self._name}, and a hidden one could "
                    f"reference the rows that go.",
                    f"Use a user with SELECT on {self._name}.*",
                )
            seconds = math.ceil(self._lock_wait(lock_wait))
            session.set("innodb_lock_wait_timeout", seconds)
            session.set("lock_wait_timeout", max(seconds, 1))
            session.set("foreign_key_checks", 0)
            session.connection.exec_driver_sql("START TRANSACTION")
            session.lock_tables(locks)
            yield session

    @cached_property
    def _engine(self) -> sa.Engine:
        engine = sa.create_engine(
            self._url,
            poolclass=sa.pool.NullPool,
            connect_args={"conv": _READ_AS},
            enable_from_linting=False,
        )
        sa.event.listen(engine, "do_connect", connect)
        return engine

    @contextmanager
    def _session(self, mode: Mode) -> Iterator[MariadbSession]:
        thread = None
        try:
            with self._connection() as connection:
                thread = connection.exec_driver_sql("SELECT CONNECTION_ID()").scalar_one()
                sa.event.listen(connection, "after_cursor_execute", heed_warnings)
                session = MariadbSession(connection, self._name, mode)
                set_up(connection)
                if mode.stored_forms:  # in UTC no hour of a year occurs twice
                    connection.exec_driver_sql("SET SESSION time_zone = '+00:00'")
                session.tells_changes = session.setting("innodb_snapshot_isolation") is not None
                if session.tells_changes:
                    session.set("innodb_snapshot_isolation", 1)
                if self._statement_limit is not None:
                    session.set("max_statement_time", max(self._statement_limit, 0.001))
                try:
                    yield session
                finally:
                    session.roll_back()
        except KeyboardInterrupt:
            self._end(thread)
            raise
        except sa.exc.InvalidRequestError as error:
            if "MariaDB" not in str(error):
                raise
            raise OutOfReach(
                f"The server at {self.shown} is not MariaDB.", "Name a MariaDB server."
            ) from error

    def _explained(self, error: sa.exc.DBAPIError, *, connected: bool) -> YeldroError:
        del connected  # the server's own codes tell
        return explained(error, self.shown, self._statement_limit)

    def _end(self, thread: int | None) -> None:
        """Make the server end a session and what it is doing."""
        if thread is not None:
            with suppress(sa.exc.SQLAlchemyError), self._engine.connect() as connection:
                connection.exec_driver_sql(f"KILL {thread}")


def _keep_logs_apart(session: MariadbSession) -> None:
    """Write no slow query into a table: the server counts it among the rows that are changed.

    Raises:
        Refused: the server writes every statement into a table.
    """
    if "TABLE" not in str(session.setting("log_output")):
        return
    session.set("slow_query_log", 0)
    if session.setting("general_log") and not session.setting("sql_log_off"):
        raise Refused(
            "This server writes every statement into a table (general_log is on, and log_output "
            "has TABLE), and counts these rows among those that the statements change.",
            "Ask for SET GLOBAL log_output = 'FILE' while the rows are removed; or, as a user who "
            "may leave no trace in that log, add ?init_command=SET sql_log_off=1 to the URL.",
        )


def _socket() -> str | None:
    """Return the local server's socket, from the environment or the usual places."""
    named = os.environ.get("MYSQL_UNIX_PORT")
    return named or next((path for path in _SOCKETS if Path(path).exists()), None)
