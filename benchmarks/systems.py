"""The systems on which is measured: the data made once, and a fresh copy of it for each run."""

from __future__ import annotations

import json
import os
import shutil
from collections.abc import Callable, Iterable, Iterator
from contextlib import contextmanager
from pathlib import Path
from typing import Any

from benchmarks.data import statements
from benchmarks.hand import connect

SERVERS = {
    "postgresql": os.environ.get("YELDRO_BENCH_POSTGRESQL", "postgresql:///postgres"),
    "mariadb": os.environ.get("YELDRO_BENCH_MARIADB", "mariadb://root@127.0.0.1/"),
}


class System:
    """One system with its data.

    Attributes:
        url: the fresh copy, as Yeldro is told it.
        place: the same, as the hand-written side is told it.
    """

    name: str
    url: str
    place: str

    def make(self, rows: int, tables: Iterable[str]) -> None:
        """Make the tables that are not there from an earlier run, `region` among them.

        Args:
            rows: of each large table.
        """
        raise NotImplementedError

    def _missing(
        self, rows: int, tables: Iterable[str], execute: Callable[[str], Any]
    ) -> Iterator[list[str]]:
        """Yield for each table that is not made the statements that make it and note this."""
        execute("CREATE TABLE IF NOT EXISTS made (name varchar(20))")
        there = {name for (name,) in execute("SELECT name FROM made")}
        needed = {"region", *tables} - there
        for name, making in statements(self.name, rows).items():
            if name in needed:
                yield [
                    f"DROP TABLE IF EXISTS {name}",
                    *making,
                    f"INSERT INTO made VALUES ('{name}')",
                ]

    def refresh(self, tables: Iterable[str]) -> None:
        """Make the copy as the data are.

        Args:
            tables: those that are needed; a system may copy all of them.
        """
        raise NotImplementedError

    def drop(self) -> None:
        """Remove the copy."""

    def server_seconds(self) -> float:
        """Return the CPU seconds that the server has used so far, 0 where there is none."""
        return 0.0


class Sqlite(System):
    name = "sqlite"

    def __init__(self, folder: Path) -> None:
        self._folder = folder
        self.url = self.place = str(folder / "copy.db")

    def make(self, rows: int, tables: Iterable[str]) -> None:
        import sqlite3

        self._made = self._folder / f"made_{rows}.db"
        connection = sqlite3.connect(self._made)
        for making in self._missing(rows, tables, connection.execute):
            for statement in making:
                connection.execute(statement)
            connection.execute("ANALYZE")
            connection.commit()
        connection.close()

    def refresh(self, tables: Iterable[str]) -> None:
        del tables
        shutil.copyfile(self._made, self.url)

    def drop(self) -> None:
        Path(self.url).unlink(missing_ok=True)


class Postgresql(System):
    name = "postgresql"

    def __init__(self, folder: Path) -> None:
        del folder
        self._server = SERVERS[self.name]
        self._copy = f"yeldro_copy_{os.getpid()}"
        self.url = self.place = self._server.rpartition("/")[0] + f"/{self._copy}"

    def make(self, rows: int, tables: Iterable[str]) -> None:
        self._made = f"yeldro_made_{rows}"
        with self._connection() as connection:
            query = "SELECT 1 FROM pg_database WHERE datname = %s"
            if not connection.execute(query, (self._made,)).fetchone():
                connection.execute(f"CREATE DATABASE {self._made}")
        with self._connection(self._made) as connection:
            for making in self._missing(rows, tables, connection.execute):
                for statement in making:
                    connection.execute(statement)
                connection.execute("VACUUM ANALYZE")

    def refresh(self, tables: Iterable[str]) -> None:
        del tables
        with self._connection() as connection:
            connection.execute(f"DROP DATABASE IF EXISTS {self._copy} WITH (FORCE)")
            connection.execute(f"CREATE DATABASE {self._copy} TEMPLATE {self._made}")
            connection.execute("CHECKPOINT")

    def drop(self) -> None:
        with self._connection() as connection:
            connection.execute(f"DROP DATABASE IF EXISTS {self._copy} WITH (FORCE)")

    @contextmanager
    def _connection(self, database: str | None = None) -> Iterator[Any]:
        import psycopg

        place = self._server if database is None else (
            f"{self._server.rpartition('/')[0]}/{database}"
        )  # fmt: skip
        with psycopg.connect(place, autocommit=True) as connection:
            yield connection

    def server_seconds(self) -> float:
        with self._connection() as connection:
            query = "SELECT pg_read_file('postmaster.pid', 0, 20)"
            pid = int(connection.execute(query).fetchone()[0].split()[0])
        return _cpu_seconds(pid, with_children=True)


class Mariadb(System):
    name = "mariadb"

    def __init__(self, folder: Path) -> None:
        import sqlalchemy as sa

        del folder
        url = sa.make_url(SERVERS[self.name])
        self._copy = f"yeldro_copy_{os.getpid()}"
        self.url = url.set(database=self._copy).render_as_string(hide_password=False)
        self._options = {"host": url.host or "localhost", "user": url.username or ""}
        if url.password:
            self._options["password"] = str(url.password)
        self.place = json.dumps(self._options | {"database": self._copy})

    def make(self, rows: int, tables: Iterable[str]) -> None:
        self._made = f"yeldro_made_{rows}"
        with self._cursor() as cursor:
            cursor.execute(f"CREATE DATABASE IF NOT EXISTS {self._made}")
            cursor.execute(f"USE {self._made}")

            def execute(statement: str) -> Any:
                cursor.execute(statement)
                return cursor.fetchall()

            for making in self._missing(rows, tables, execute):
                for statement in making:
                    execute(statement)
                cursor.connection.commit()

    def refresh(self, tables: Iterable[str]) -> None:
        """Copy table by table: InnoDB cannot copy a database."""
        needed = {"region", *tables}
        with self._cursor() as cursor:
            cursor.execute(f"DROP DATABASE IF EXISTS {self._copy}")
            cursor.execute(f"CREATE DATABASE {self._copy}")
            cursor.execute(f"USE {self._copy}")
            for name, (made, _, *indexed) in statements(self.name, 1).items():
                if name in needed:
                    copied = f"INSERT INTO {name} SELECT * FROM {self._made}.{name}"
                    for statement in (made, copied, *indexed):
                        cursor.execute(statement)
            cursor.connection.commit()
            cursor.execute(f"ANALYZE TABLE {', '.join(sorted(needed))}")

    def drop(self) -> None:
        with self._cursor() as cursor:
            cursor.execute(f"DROP DATABASE IF EXISTS {self._copy}")

    @contextmanager
    def _cursor(self) -> Iterator[Any]:
        connection = connect(self.name, json.dumps(self._options))
        try:
            yield connection.cursor()
        finally:
            connection.close()

    def server_seconds(self) -> float:
        with self._cursor() as cursor:
            cursor.execute("SELECT @@pid_file")
            found = Path(str(cursor.fetchone()[0]))
        return _cpu_seconds(int(found.read_text()), with_children=False)


def _cpu_seconds(pid: int, *, with_children: bool) -> float:
    """Return the CPU seconds of a process on this machine, 0 where they cannot be read."""
    try:
        fields = Path(f"/proc/{pid}/stat").read_text().rpartition(")")[2].split()
    except OSError:
        return 0.0
    used = fields[11:15] if with_children else fields[11:13]
    return sum(map(int, used)) / os.sysconf("SC_CLK_TCK")


SYSTEMS = {each.name: each for each in (Sqlite, Postgresql, Mariadb)}
