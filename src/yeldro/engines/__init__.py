"""A package for each database system, with only what is special to it."""

from __future__ import annotations

import re
from collections.abc import Iterator
from contextlib import contextmanager
from pathlib import Path
from typing import TYPE_CHECKING

import sqlalchemy as sa

from yeldro.core.model.messages.errors import UsageError

if TYPE_CHECKING:
    from yeldro.core.database.protocol import Database

_CONNECTION_STRING = re.compile(r"\b\w+ *= *\S.*(\s|;)|(password|pwd|passwd) *=", re.IGNORECASE)


def open_database(text: str) -> Database:
    """Return the database for a URL or a path; nothing is opened yet.

    Raises:
        UsageError: the URL cannot be read, or there is no engine for its system.
    """
    if "://" not in text:
        if _CONNECTION_STRING.search(text) and not Path(text).exists():
            raise UsageError(
                "The database is neither a path nor a URL. It looks like a connection string, "
                "which is not repeated here, as it may hold a password.",
                "Write it as postgresql://user@host/database, mariadb://user@host/database or "
                "mssql://user@host/database.",
            )
        return _sqlite(text)
    try:
        url = sa.make_url(text)
    except (sa.exc.ArgumentError, ValueError) as error:
        raise UsageError(
            "The database URL cannot be read.", "Write it as sqlite:///path/to/file.db."
        ) from error
    if url.get_backend_name() == "sqlite":
        return _sqlite(url.database or "")
    if url.get_backend_name() in ("postgresql", "postgres"):
        with _driver_of("PostgreSQL", "psycopg"):
            from yeldro.engines.postgresql.database import PostgresqlDatabase

        return PostgresqlDatabase(url)
    if url.get_backend_name() in ("mariadb", "mysql"):
        with _driver_of("MariaDB", "pymysql"):
            from yeldro.engines.mariadb.database import MariadbDatabase

        return MariadbDatabase(url)
    if url.get_backend_name() in ("mssql", "sqlserver"):
        with _driver_of("SQL Server", "pymssql"):
            from yeldro.engines.sqlserver.database import SqlServerDatabase

        return SqlServerDatabase(url)
    raise UsageError(
        f"There is no engine for {url.get_backend_name()!r} databases.",
        "Give a path to an SQLite file, postgresql://host/database, mariadb://host/database or "
        "mssql://host/database.",
    )


@contextmanager
def _driver_of(system: str, package: str) -> Iterator[None]:
    """Say what to install if a system's driver is missing."""
    try:
        yield
    except ModuleNotFoundError as error:
        if error.name != package:
            raise
        raise UsageError(
            f"The driver of {system} is not installed ({package}).",
            f"Install it with: pip install 'yeldro[{system.replace(' ', '').lower()}]'.",
        ) from error


def _sqlite(path: str) -> Database:
    from yeldro.engines.sqlite.database import SqliteDatabase

    if path in ("", ":memory:"):
        raise UsageError("No database file is named.", "Give the path of an SQLite file.")
    return SqliteDatabase(Path(path))
