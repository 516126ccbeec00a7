"""Connections to MariaDB, made without what nobody asked for."""

from __future__ import annotations

import ssl
from functools import cache
from typing import Any

import pymysql


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
    return _Connection(*words, **options)
