"""Databases as the tests see them: made, asked and compared without the program under test."""

from __future__ import annotations

import sqlite3
from pathlib import Path
from typing import Any


class SqliteFile:
    """One SQLite file."""

    def __init__(self, path: Path) -> None:
        self.path = path
        self.url = str(path)

    def connect(self) -> sqlite3.Connection:
        return sqlite3.connect(self.path, isolation_level=None)

    def script(self, text: str) -> None:
        """Runs statements that make or change the database."""
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
        """The whole database as SQLite itself writes it out."""
        connection = self.connect()
        connection.text_factory = lambda raw: raw.decode("utf-8", "backslashreplace")
        try:
            return list(connection.iterdump())
        finally:
            connection.close()
