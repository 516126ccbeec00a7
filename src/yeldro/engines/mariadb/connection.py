"""Connections to MariaDB: their settings, and an encoding for all text that MariaDB holds.

MariaDB can hold half of a surrogate pair, which is not valid UTF-8. Such text is read as Python
holds it, and a receipt keeps its bytes.
"""

from __future__ import annotations

import codecs
import ssl
from functools import cache
from typing import TYPE_CHECKING, Any

import pymysql

from yeldro.core.model.messages.errors import UsageError
from yeldro.engines.mariadb.values import SORTED_BYTES

if TYPE_CHECKING:
    import sqlalchemy as sa

_ENCODING = "yeldro-utf8"
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
    """A connection that loads no certificates if none is verified: that takes longest."""

    def _create_ssl_ctx(self, sslp: Any) -> ssl.SSLContext:
        return super()._create_ssl_ctx(sslp) if sslp else _unverified()  # type: ignore[misc]


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
    if connection.charset == "utf8mb4":
        connection.encoding = _ENCODING
    # Before the library reads the mode: it quotes names by what it finds then.
    connection.cursor().execute(f"SET SESSION {_MODE}")
    return connection


class HalfPairs:
    """Notes if any text with half of a surrogate pair has been read."""

    seen = False


def _decode(data: Any, errors: str = "strict") -> tuple[str, int]:
    del errors
    try:
        return codecs.utf_8_decode(data, "strict", True)
    except UnicodeDecodeError:
        HalfPairs.seen = True
        return codecs.utf_8_decode(data, "surrogatepass", True)


def _find(name: str) -> codecs.CodecInfo | None:
    if name != _ENCODING.replace("-", "_"):
        return None
    return codecs.CodecInfo(codecs.utf_8_encode, _decode, name=_ENCODING)


codecs.register(_find)
