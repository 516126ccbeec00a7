"""Connections to MariaDB, made without what nobody asked for, and for all text that it holds.

MariaDB keeps half of a surrogate pair in a text, which no UTF-8 has. Such text is read as Python
holds it, and a receipt keeps its bytes.
"""

from __future__ import annotations

import codecs
import ssl
from functools import cache
from typing import Any

import pymysql

from yeldro.core.model.errors import UsageError

_ENCODING = "yeldro-utf8"


class _Connection(pymysql.connections.Connection):
    """Loads no certificates where none is verified: that takes longer than all the rest."""

    def _create_ssl_ctx(self, sslp: Any) -> ssl.SSLContext:
        return super()._create_ssl_ctx(sslp) if sslp else _unverified()  # type: ignore[misc]


@cache
def _unverified() -> ssl.SSLContext:
    """Encryption as the driver offers it where the URL asks for nothing: if the server has it."""
    context = ssl.SSLContext(ssl.PROTOCOL_TLS_CLIENT)
    context.check_hostname = False
    context.verify_mode = ssl.CERT_NONE
    return context


def connect(dialect: Any, record: Any, words: Any, options: Any) -> _Connection:
    """The connection that SQLAlchemy asks for."""
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
    return connection


class HalfPairs:
    """Whether any text with half of a surrogate pair has been read."""

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
