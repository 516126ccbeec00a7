"""Connections to MariaDB, and the settings of a session."""

from __future__ import annotations

import ssl
from functools import cache
from typing import TYPE_CHECKING, Any

import pymysql

from yeldro.core.model.messages.errors import UsageError
from yeldro.engines.mariadb import reading
from yeldro.engines.mariadb.encoding import ENCODING
from yeldro.engines.mariadb.values import SORTED_BYTES

if TYPE_CHECKING:
    import sqlalchemy as sa

_MODE = (
    "sql_mode = 'STRICT_TRANS_TABLES,NO_AUTO_VALUE_ON_ZERO,ALLOW_INVALID_DATES,"
    "SIMULTANEOUS_ASSIGNMENT,"
    "NO_ENGINE_SUBSTITUTION'"
)
_SETTINGS = (
    # Values that are in a table must not be refused: zero dates, 0 in a numbered column.
    _MODE,
    "max_recursive_iterations = 4294967295",
    # If a server or a client sets a limit, every longer result is cut silently.
    "sql_select_limit = 18446744073709551615",
    # With this on, `id IS NULL` matches the row that was added last.
    "sql_auto_is_null = 0",
    # So many bytes of a value are compared when rows are sorted, or grouped by sorting.
    f"max_sort_length = {SORTED_BYTES}",
)


class _Connection(pymysql.connections.Connection):
    """The driver's connection, quicker at its start and silent at its end."""

    def _create_ssl_ctx(self, sslp: Any) -> ssl.SSLContext:
        """Load no certificates if none is verified: that takes longest."""
        return super()._create_ssl_ctx(sslp) if sslp else _unverified()  # type: ignore[misc]

    def _force_close(self) -> None:
        """End the result that was being read, too, or it goes on reading when it is let go."""
        result: Any = getattr(self, "_result", None)
        if result is not None:
            result.unbuffered_active = False
        super()._force_close()  # type: ignore[misc]


@cache
def _unverified() -> ssl.SSLContext:
    """Return the driver's default for URLs without options: encryption if the server has it."""
    context = ssl.SSLContext(ssl.PROTOCOL_TLS_CLIENT)
    context.check_hostname = False
    context.verify_mode = ssl.CERT_NONE
    return context


def set_up(connection: sa.Connection) -> None:
    """Set a session up so that no setting of the server or a client changes a result."""
    connection.exec_driver_sql(f"SET SESSION {', '.join(_SETTINGS)}")
    connection.exec_driver_sql("SET SESSION TRANSACTION ISOLATION LEVEL REPEATABLE READ")


def connect(dialect: Any, record: Any, words: Any, options: Any) -> _Connection:
    """Return the connection that SQLAlchemy asks for."""
    del dialect, record
    try:
        connection = _Connection(*words, **options)
    except TypeError as error:
        unknown = str(error).rpartition("argument ")[2]
        raise UsageError(
            f"The database URL has an option that the driver does not know: {unknown}.",
            "Drop it; charset, unix_socket, ssl_ca and read_default_file are among the known ones.",
        ) from error
    reading.widen(connection)
    if connection.charset == "utf8mb4":
        connection.encoding = ENCODING
    # Before the library reads the mode: it quotes names by what it finds then.
    connection.cursor().execute(f"SET SESSION {_MODE}")
    return connection
