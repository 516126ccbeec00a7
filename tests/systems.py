"""Databases as the tests see them: made, asked and compared without the program under test."""

from __future__ import annotations

import os
import re
import sqlite3
import subprocess
import time
from pathlib import Path
from typing import Any, Protocol
from urllib.parse import urlsplit

import psycopg
import pymysql
import servers
from pymysql.constants import CLIENT, FIELD_TYPE


def postgresql_url() -> str:
    """Return the URL of the server's first database."""
    return os.environ[servers.POSTGRESQL]


def mariadb_url() -> str:
    """Return the URL of the server, which ends with a slash."""
    return os.environ[servers.MARIADB].rstrip("/") + "/"


def sqlserver_url() -> str:
    """Return the URL of the server, which ends with a slash."""
    return os.environ[servers.SQLSERVER].rstrip("/") + "/"


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
        head, _, _ = postgresql_url().rpartition("/")
        self.url = f"{head}/{name}"
        administer(f'DROP DATABASE IF EXISTS "{name}" WITH (FORCE)')
        administer(f'CREATE DATABASE "{name}" TEMPLATE "{template}"')
        self._asking: psycopg.Connection | None = None

    def drop(self) -> None:
        administer(f'DROP DATABASE IF EXISTS "{self.name}" WITH (FORCE)')

    def script(self, text: str) -> None:
        with psycopg.connect(self.url, client_encoding="utf8", autocommit=True) as connection:
            connection.execute(text)

    def rows(self, query: str) -> list[tuple[Any, ...]]:
        """Ask in a session that is kept for the next question."""
        try:
            return self._session().execute(query).fetchall()
        except psycopg.OperationalError:  # a test has ended it
            return self._session(new=True).execute(query).fetchall()

    def _session(self, *, new: bool = False) -> psycopg.Connection:
        if new or self._asking is None:
            self._asking = psycopg.connect(
                self.url, client_encoding="utf8", autocommit=True, prepare_threshold=None
            )
        return self._asking

    def value(self, query: str) -> Any:
        return self.rows(query)[0][0]

    def dump(self) -> str:
        """All tables and rows as the server's own dump program writes them."""
        words = ["pg_dump", "--encoding=UTF8", "--inserts", f"--dbname={self.url}"]
        text = subprocess.run(words, capture_output=True, text=True, check=True).stdout
        return re.sub(r"(?m)^\\(un)?restrict .*$", "", text)  # which holds a random word

    def contents(self) -> list[str]:
        with psycopg.connect(self.url, client_encoding="utf8") as connection:
            listed = connection.execute(
                "SELECT quote_ident(schemaname) || '.' || quote_ident(tablename) FROM pg_tables"
                " WHERE schemaname NOT IN ('pg_catalog', 'information_schema') ORDER BY 1"
            ).fetchall()
            return [
                f"{table}: {row}"
                for (table,) in listed
                for (row,) in connection.execute(f"SELECT t::text FROM {table} AS t ORDER BY 1")
            ]


class MariadbServerDatabase:
    """One database of its own on the MariaDB server."""

    def __init__(self, name: str) -> None:
        self.name = name
        self.url = f"{mariadb_url()}{name}"
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
        url = urlsplit(mariadb_url())
        words = ["mariadb-dump", f"--host={url.hostname}", f"--port={url.port or 3306}",
                 f"--user={url.username or 'root'}", "--skip-lock-tables", "--skip-dump-date",
                 "--hex-blob",
                 self.name]  # fmt: skip
        environment = os.environ | {"MYSQL_PWD": url.password or ""}
        return subprocess.run(
            words, env=environment, capture_output=True, text=True, check=True
        ).stdout

    def contents(self) -> list[str]:
        """Every row written out, and the bytes of its values."""
        found = []
        connection = self.connect()
        with connection, connection.cursor() as cursor:
            cursor.execute("SHOW FULL TABLES WHERE Table_type = 'BASE TABLE'")
            for table, _ in cursor.fetchall():
                name = table.replace("`", "``")
                cursor.execute(f"SELECT * FROM `{name}` LIMIT 0")
                columns = ["`{}`".format(each[0].replace("`", "``")) for each in cursor.description]
                kinds = [each[1] for each in cursor.description]
                stored = ", ".join(
                    f"hex({column})" if kind == FIELD_TYPE.GEOMETRY else f"hex(concat({column}))"
                    for column, kind in zip(columns, kinds, strict=True)
                )
                cursor.execute(f"SELECT *, {stored} FROM `{name}`")
                found += sorted(f"{table}: {row!r}" for row in cursor.fetchall())
        return found


# Types, words and functions that the tests' scripts use, in Transact-SQL.
_IN_TSQL = (
    (r"\btext\b(?= (?:NOT NULL )?(?:PRIMARY|UNIQUE))", "nvarchar(400)"),
    (r"\btext\b", "nvarchar(max)"),
    (r"\bboolean\b", "bit"),
    (r"\btimestamp\b", "datetime2"),
    (r"\bdouble precision\b", "float"),
    (r"\b\w++(?:\(\d+\))? GENERATED ALWAYS AS (\(.*?\))\s+(?:STORED|VIRTUAL)", r"AS \1 PERSISTED"),
    (r"(SELECT(?: DISTINCT)?)\b([^()]*?) LIMIT (\d+)", r"\1 TOP (\3)\2"),
    (r" COLUMN (\w+ \w+)", r" \1"),
)


def in_tsql(text: str) -> str:
    """Return statements that are written for all systems in the words of Transact-SQL."""
    for pattern, word in _IN_TSQL:
        text = re.sub(pattern, word, text, flags=re.IGNORECASE)
    return text


class SqlServerDatabase:
    """One database of its own on the SQL Server, or on its stand-in."""

    def __init__(self, name: str, source: str | None = None) -> None:
        self.name = name
        self.url = f"{sqlserver_url()}{name}"
        copied = f" AS COPY OF {source}" if source else ""
        self._administer(f"DROP DATABASE IF EXISTS {name}", f"CREATE DATABASE {name}{copied}")
        self._asking: Any = None

    def connect(self) -> Any:
        return servers.sqlserver_connection(sqlserver_url(), self.name)

    def drop(self) -> None:
        if self._asking is not None:
            self._asking.close()
        self._administer(f"DROP DATABASE IF EXISTS {self.name}")

    def script(self, text: str) -> None:
        """Run statements; those of the tests in the words of all systems are translated."""
        text = in_tsql(text)
        with self.connect() as connection:
            for statement in text.split(";"):
                if statement.strip():
                    connection.cursor().execute(statement)

    def batch(self, text: str) -> None:
        """Run a batch as it stands."""
        with self.connect() as connection:
            connection.cursor().execute(text)

    def rows(self, query: str) -> list[tuple[Any, ...]]:
        """Ask in a session that is kept for the next question."""
        if self._asking is None:
            self._asking = self.connect()
        cursor = self._asking.cursor()
        cursor.execute(in_tsql(query))
        return list(cursor.fetchall())

    def value(self, query: str) -> Any:
        return self.rows(query)[0][0]

    def contents(self) -> list[str]:
        """Every row written out."""
        tables = self.rows("SELECT s.name, t.name FROM sys.tables AS t"
                           " JOIN sys.schemas AS s ON s.schema_id = t.schema_id")  # fmt: skip
        found = []
        for schema, table in tables:
            name = "[{}].[{}]".format(schema, table.replace("]", "]]"))
            found += sorted(f"{table}: {row!r}" for row in self.rows(f"SELECT * FROM {name}"))
        return found

    def _administer(self, *statements: str) -> None:
        with servers.sqlserver_connection(sqlserver_url(), "") as connection:
            for statement in statements:
                connection.cursor().execute(statement)


def mariadb_connection(database: str) -> pymysql.Connection:
    url = urlsplit(mariadb_url())
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


def administer(statement: str) -> None:
    """Run one statement on the PostgreSQL server, outside any test's database."""
    with psycopg.connect(postgresql_url(), autocommit=True) as connection:
        connection.execute(statement)


def has_icu() -> bool:
    """True if the PostgreSQL server has the collations of ICU."""
    with psycopg.connect(postgresql_url()) as connection:
        query = "SELECT count(*) FROM pg_collation WHERE collname LIKE '%-x-icu'"
        return connection.execute(query).fetchall() != [(0,)]


def has_xml() -> bool:
    """True if the PostgreSQL server was built with a reader of XML."""
    with psycopg.connect(postgresql_url()) as connection:
        try:
            connection.execute("SELECT '<a/>'::xml")
        except psycopg.errors.FeatureNotSupported:
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


def wait_until_alone(database: AnyDatabase) -> None:
    """Wait until the server has let go of every other session of a database."""
    name = database.url.rpartition("/")[2]
    for _ in range(200):
        if database.url.startswith("postgresql"):
            others = database.value("SELECT count(*) FROM pg_stat_activity WHERE datname ="
                                    " current_database() AND pid <> pg_backend_pid()")  # fmt: skip
        elif database.url.startswith("mariadb"):
            others = database.value("SELECT count(*) FROM information_schema.processlist"
                                    f" WHERE db = '{name}' AND id <> connection_id()")  # fmt: skip
        else:
            return
        if not others:
            return
        time.sleep(0.02)
    raise AssertionError("a session of a program that has ended is still there")
