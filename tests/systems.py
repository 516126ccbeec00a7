"""Databases as the tests see them: made, asked and compared without the program under test."""

from __future__ import annotations

import os
import sqlite3
from pathlib import Path
from typing import Any, Protocol

import psycopg

POSTGRESQL = os.environ.get("YELDRO_TEST_POSTGRESQL", "postgresql:///postgres")


class AnyDatabase(Protocol):
    """What tests need of a database, whatever its system."""

    url: str

    def script(self, text: str) -> None:
        """Runs statements that make or change the database."""

    def rows(self, query: str) -> list[tuple[Any, ...]]: ...

    def value(self, query: str) -> Any: ...

    def contents(self) -> list[str]:
        """Every row of the whole database, written out."""


class SqliteFile:
    """One SQLite file."""

    def __init__(self, path: Path) -> None:
        self.path = path
        self.url = str(path)

    def connect(self) -> sqlite3.Connection:
        return sqlite3.connect(self.path, isolation_level=None)

    def script(self, text: str) -> None:
        connection = self.connect()
        connection.executescript(text)
        connection.close()

    def rows(self, query: str) -> list[tuple[Any, ...]]:
        connection = self.connect()
        try:
            return connection.execute(query).fetchall()
        finally:
            connection.close()

    def value(self, query: str) -> Any:
        return self.rows(query)[0][0]

    def contents(self) -> list[str]:
        connection = self.connect()
        connection.text_factory = lambda raw: raw.decode("utf-8", "backslashreplace")
        try:
            return list(connection.iterdump())
        finally:
            connection.close()


class PostgresqlServerDatabase:
    """One database of its own on the PostgreSQL server."""

    def __init__(self, name: str, template: str = "template1") -> None:
        self.name = name
        head, _, _ = POSTGRESQL.rpartition("/")
        self.url = f"{head}/{name}"
        administer(f'DROP DATABASE IF EXISTS "{name}" WITH (FORCE)')
        administer(f'CREATE DATABASE "{name}" TEMPLATE "{template}"')

    def drop(self) -> None:
        administer(f'DROP DATABASE IF EXISTS "{self.name}" WITH (FORCE)')

    def script(self, text: str) -> None:
        with psycopg.connect(self.url, autocommit=True) as connection:
            connection.execute(text)

    def rows(self, query: str) -> list[tuple[Any, ...]]:
        with psycopg.connect(self.url) as connection:
            return connection.execute(query).fetchall()

    def value(self, query: str) -> Any:
        return self.rows(query)[0][0]

    def contents(self) -> list[str]:
        listed = self.rows(
            "SELECT quote_ident(schemaname) || '.' || quote_ident(tablename) FROM pg_tables"
            " WHERE schemaname NOT IN ('pg_catalog', 'information_schema') ORDER BY 1"
        )
        return [
            f"{table}: {row}"
            for (table,) in listed
            for (row,) in self.rows(f"SELECT t::text FROM {table} AS t ORDER BY 1")
        ]


def administer(statement: str) -> None:
    """Runs one statement on the server, outside any test's database."""
    with psycopg.connect(POSTGRESQL, autocommit=True) as connection:
        connection.execute(statement)


def postgresql_answers() -> bool:
    """Whether the server is there."""
    try:
        administer("SELECT 1")
    except psycopg.OperationalError:
        return False
    return True
