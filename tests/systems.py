"""Databases as the tests see them: made, asked and compared without the program under test."""

from __future__ import annotations

import os
import re
import sqlite3
import subprocess
from pathlib import Path
from typing import Any, Protocol
from urllib.parse import urlsplit

import psycopg
import pymysql
from pymysql.constants import CLIENT

MARIADB = os.environ.get("YELDRO_TEST_MARIADB", "mariadb://root@127.0.0.1/")
POSTGRESQL = os.environ.get("YELDRO_TEST_POSTGRESQL", "postgresql:///postgres")


class AnyDatabase(Protocol):
    """What tests need of a database, whatever its system."""

    url: str

    def script(self, text: str) -> None:
        """Run statements that make or change the database."""

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
        with psycopg.connect(self.url, client_encoding="utf8", autocommit=True) as connection:
            connection.execute(text)

    def rows(self, query: str) -> list[tuple[Any, ...]]:
        with psycopg.connect(self.url, client_encoding="utf8") as connection:
            return connection.execute(query).fetchall()

    def value(self, query: str) -> Any:
        return self.rows(query)[0][0]

    def dump(self) -> str:
        """All tables and rows as the server's own dump program writes them."""
        words = ["pg_dump", "--encoding=UTF8", "--inserts", f"--dbname={self.url}"]
        text = subprocess.run(words, capture_output=True, text=True, check=True).stdout
        return re.sub(r"(?m)^\\(un)?restrict .*$", "", text)  # which holds a random word

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


class MariadbServerDatabase:
    """One database of its own on the MariaDB server."""

    def __init__(self, name: str) -> None:
        self.name = name
        self.url = f"{MARIADB.rstrip('/')}/{name}"
        self.script(f"DROP DATABASE IF EXISTS {name}; CREATE DATABASE {name}", "")

    def connect(self, database: str | None = None) -> pymysql.Connection:
        return mariadb_connection(self.name if database is None else database)

    def drop(self) -> None:
        self.script(f"DROP DATABASE IF EXISTS {self.name}", "")

    def script(self, text: str, database: str | None = None) -> None:
        connection = self.connect(database)
        with connection, connection.cursor() as cursor:
            cursor.execute(text)
            while cursor.nextset():
                pass

    def rows(self, query: str) -> list[tuple[Any, ...]]:
        connection = self.connect()
        with connection, connection.cursor() as cursor:
            cursor.execute(query)
            return list(cursor.fetchall())

    def value(self, query: str) -> Any:
        return self.rows(query)[0][0]

    def dump(self) -> str:
        """All tables and rows as statements."""
        url = urlsplit(MARIADB)
        words = ["mariadb-dump", f"--host={url.hostname}", f"--port={url.port or 3306}",
                 f"--user={url.username or 'root'}", "--skip-lock-tables", "--skip-dump-date",
                 "--hex-blob",
                 self.name]  # fmt: skip
        environment = os.environ | {"MYSQL_PWD": url.password or ""}
        return subprocess.run(
            words, env=environment, capture_output=True, text=True, check=True
        ).stdout

    def contents(self) -> list[str]:
        """Every row written out, and the server's own checksum of every table."""
        found = []
        for table, _ in self.rows("SHOW FULL TABLES WHERE Table_type = 'BASE TABLE'"):
            name = table.replace("`", "``")
            found += [f"{table}: {row!r}" for row in self.rows(f"CHECKSUM TABLE `{name}` EXTENDED")]
            found += sorted(f"{table}: {row!r}" for row in self.rows(f"SELECT * FROM `{name}`"))
        return found


def mariadb_connection(database: str) -> pymysql.Connection:
    url = urlsplit(MARIADB)
    return pymysql.connect(
        host=url.hostname or "127.0.0.1",
        port=url.port or 3306,
        user=url.username or "root",
        password=url.password or "",
        database=database or None,
        autocommit=True,
        ssl_disabled=True,
        client_flag=CLIENT.MULTI_STATEMENTS,
    )


def mariadb_answers() -> bool:
    """True if the server is there."""
    try:
        mariadb_connection("").close()
    except pymysql.OperationalError:
        return False
    return True


def administer(statement: str) -> None:
    """Run one statement on the PostgreSQL server, outside any test's database."""
    with psycopg.connect(POSTGRESQL, autocommit=True) as connection:
        connection.execute(statement)


def postgresql_answers() -> bool:
    """True if the server is there."""
    try:
        administer("SELECT 1")
    except psycopg.OperationalError:
        return False
    return True


def unchecked(database: AnyDatabase) -> str:
    """What lets rows in without their parents."""
    system = database.url.partition(":")[0]
    settings = {
        "postgresql": "SET session_replication_role = replica;",
        "mariadb": "SET foreign_key_checks = 0;",
    }
    return settings.get(system, "")
