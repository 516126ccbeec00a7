"""The databases of the stand-in, a file of SQLite's each, and how many sessions use them."""

from __future__ import annotations

import sqlite3
from collections import Counter, defaultdict
from contextlib import closing
from pathlib import Path
from threading import Condition

from yeldro.standins.sqlserver.refusals import ReadError


class Databases:
    """Opens, makes and drops databases.

    Args:
        folder: where the files are.
        waits: seconds for another session; the server itself waits for ever.
    """

    def __init__(self, folder: Path, waits: float = 10.0) -> None:
        self._folder, self._waits = folder, waits
        self._sessions: Counter[str] = Counter()
        self._changed = Condition()
        self._drawn: defaultdict[str, dict[str, int]] = defaultdict(dict)

    def opened(self, name: str) -> sqlite3.Connection:
        """Return a connection to a database; `closed` says that it is used no more.

        Raises:
            ReadError: there is none of this name.
        """
        with self._changed:
            if not self._path(name).exists():
                raise ReadError(4060, f"Cannot open database '{name}'.")
            self._sessions[name.casefold()] += 1
        return sqlite3.connect(
            self._path(name),
            isolation_level=None,
            detect_types=sqlite3.PARSE_DECLTYPES,
            timeout=self._waits,
        )

    def closed(self, name: str) -> None:
        """Take note that a session has closed its connection."""
        with self._changed:
            self._sessions[name.casefold()] -= 1
            self._changed.notify_all()

    def drawn(self, name: str) -> dict[str, int]:
        """Return the last value of each identity column of a database, which all sessions share.

        Like a real server's, it is not taken back with a transaction.
        """
        return self._drawn[name.casefold()]

    def make(self, name: str, source: str | None = None) -> None:
        """Make a database, as a copy of another one if that is named.

        Raises:
            ReadError: there is one of this name.
        """
        if self._path(name).exists():
            raise ReadError(1801, f"Database '{name}' already exists.")
        with closing(sqlite3.connect(self._path(name))) as made:
            if source:
                with closing(sqlite3.connect(self._path(source))) as copied:
                    copied.backup(made)
            made.execute("PRAGMA journal_mode = WAL")  # who reads stops nobody who writes

    def drop(self, name: str) -> None:
        """Drop a database, if there is one, as soon as no session uses it.

        SQLite deletes a file's log when it is closed, by its name: a file that takes the same name
        too early would lose its own.

        Raises:
            ReadError: it is still used.
        """
        with self._changed:
            unused = self._changed.wait_for(
                lambda: not self._sessions[name.casefold()], self._waits
            )
            if not unused:
                raise ReadError(
                    3702, f"Cannot drop database '{name}' because it is currently in use."
                )
            for each in self._folder.glob(f"{self._path(name).name}*"):
                each.unlink()
            self._drawn.pop(name.casefold(), None)

    def _path(self, name: str) -> Path:
        return self._folder / f"{name.casefold()}.db"
