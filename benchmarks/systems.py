"""The systems on which is measured: the data made once, and a fresh copy of it for each run."""

from __future__ import annotations

import json
import os
import shutil
from collections.abc import Iterator, Sequence
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

    def make(self, rows: int) -> None:
        """Make the data, unless they are there from an earlier run."""
        raise NotImplementedError

    def refresh(self, tables: Sequence[str]) -> None:
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

    def make(self, rows: int) -> None:
        import sqlite3

        self._made = self._folder / f"made_{rows}.db"
        if self._made.exists():
            return
        connection = sqlite3.connect(self._made)
        for statement in statements(self.name, rows):
            connection.execute(statement)
        connection.execute("ANALYZE")
        connection.commit()
        connection.close()

    def refresh(self, tables: Sequence[str]) -> None:
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

    def make(self, rows: int) -> None:
        self._made = f"yeldro_made_{rows}"
        with self._connection() as connection:
            found = connection.execute(
                "SELECT 1 FROM pg_database WHERE datname = %s AND datistemplate", (self._made,)
            )
            if found.fetchone():
                return
            connection.execute(f"DROP DATABASE IF EXISTS {self._made}")
            connection.execute(f"CREATE DATABASE {self._made}")
        with self._connection(self._made) as connection:
            for statement in statements(self.name, rows):
                connection.execute(statement)
            connection.execute("VACUUM ANALYZE")
        with self._connection() as connection:
            connection.execute(f"ALTER DATABASE {self._made} IS_TEMPLATE true")

    def refresh(self, tables: Sequence[str]) -> None:
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

    def make(self, rows: int) -> None:
        self._made = f"yeldro_made_{rows}"
        if any(name == "node" for name in self._tables()):
            return
        with self._cursor() as cursor:
            cursor.execute(f"DROP DATABASE IF EXISTS {self._made}")
            cursor.execute(f"CREATE DATABASE {self._made}")
            cursor.execute(f"USE {self._made}")
            for statement in statements(self.name, rows):
                cursor.execute(statement)
            cursor.connection.commit()

    def refresh(self, tables: Sequence[str]) -> None:
        """Copy table by table: InnoDB cannot copy a database."""
        needed = {"region", *tables}
        with self._cursor() as cursor:
            cursor.execute(f"DROP DATABASE IF EXISTS {self._copy}")
            cursor.execute(f"CREATE DATABASE {self._copy}")
            cursor.execute(f"USE {self._copy}")
            for statement in statements(self.name, 1):
                words = statement.split()
                name = words[2] if words[1] != "INDEX" else words[4]
                if name not in needed:
                    continue
                if statement.startswith("CREATE"):
                    cursor.execute(statement)
                else:
                    cursor.execute(f"INSERT INTO {name} SELECT * FROM {self._made}.{name}")
            cursor.connection.commit()
            cursor.execute(f"ANALYZE TABLE {', '.join(sorted(needed))}")

    def drop(self) -> None:
        with self._cursor() as cursor:
            cursor.execute(f"DROP DATABASE IF EXISTS {self._copy}")

    def _tables(self) -> list[str]:
        with self._cursor() as cursor:
            cursor.execute("SELECT TABLE_NAME FROM information_schema.TABLES"
                           " WHERE TABLE_SCHEMA = %s", (self._made,))  # fmt: skip
            return [row[0] for row in cursor.fetchall()]

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
