"""Which rows a statement changes in tables with triggers, for the stand-in to fire them.

A trigger of SQL Server is fired once by a statement, and sees its rows in `inserted` and `deleted`
(Transact-SQL reference, "CREATE TRIGGER"). One of the table that a statement names is fired even if
it changes no row; those of tables that declared actions reach, only if these change some.
"""

from __future__ import annotations

import sqlite3
from collections.abc import Iterator, Sequence
from contextlib import contextmanager

from sqlglot import exp

from yeldro.standins.sqlserver.declared import DeclaredTable, quoted
from yeldro.standins.sqlserver.defining import Definitions
from yeldro.standins.sqlserver.reader import NewTrigger

_SEEN = ("inserted", "deleted")


class Firing:
    """Watches the tables that have triggers while one statement is carried out.

    Args:
        file: SQLite's connection.
        level: how many triggers have fired one another up to here.
    """

    def __init__(self, file: sqlite3.Connection, definitions: Definitions, level: int) -> None:
        self._file = file
        self._definitions = definitions
        self._level = level
        self._tables = definitions.with_triggers()
        self.current: NewTrigger | None = None

    @property
    def is_needed(self) -> bool:
        """True if any table has triggers."""
        return bool(self._tables)

    @contextmanager
    def watching(self) -> Iterator[None]:
        """Note each row that is changed meanwhile: what it was, and how it is changed."""
        for table in self._tables:
            self._watch(table)
        try:
            yield
        finally:
            for table in self._tables:
                self._file.execute(f"DROP TABLE IF EXISTS temp.{self._rows_of(table)}")
                for event in ("DELETE", "UPDATE", "INSERT"):
                    self._file.execute(f"DROP TRIGGER IF EXISTS temp.{self._watcher(table, event)}")

    def fired(self, named: str, event: str) -> Iterator[NewTrigger]:
        """Yield each trigger to carry out, while its rows stand in `inserted` and `deleted`.

        Args:
            named: the table that the statement names.
            event: what it does to the rows of that table.
        """
        reached = sorted(self._tables, key=lambda table: table.name.casefold() == named.casefold())
        for table in reached:
            query = f"SELECT DISTINCT kind FROM temp.{self._rows_of(table)}"
            events = {kind for (kind,) in self._file.execute(query)}
            if table.name.casefold() == named.casefold():
                events = {event}
            for each in events:
                for trigger in self._definitions.fired_by(table.name, each):
                    self.current = trigger
                    with self._seen(table):
                        yield trigger

    def renamed(self, statement: exp.Expr) -> exp.Expr:
        """Return a statement of a trigger with the tables that hold what it sees."""
        made = statement.copy()
        for place in made.find_all(exp.Table):
            name = place.name.casefold()
            if name in _SEEN and not place.db:
                if not place.alias:
                    place.set("alias", exp.TableAlias(this=exp.to_identifier(name)))
                place.set("this", exp.to_identifier(self._seen_as(name)))
        return made

    @contextmanager
    def _seen(self, table: DeclaredTable) -> Iterator[None]:
        columns = ", ".join(_columns(table))
        after = f"SELECT row FROM temp.{self._rows_of(table)} WHERE kind <> 'delete'"
        queries = {
            "inserted": f"SELECT {columns} FROM main.{quoted(table.name)} WHERE rowid IN ({after})",
            "deleted": f"SELECT {columns} FROM temp.{self._rows_of(table)} WHERE kind <> 'insert'",
        }
        names = {each: f"temp.{quoted(self._seen_as(each))}" for each in _SEEN}
        for each, query in queries.items():
            self._file.execute(f"CREATE TABLE {names[each]} AS {query}")
        try:
            yield
        finally:
            for name in names.values():
                self._file.execute(f"DROP TABLE IF EXISTS {name}")

    def _watch(self, table: DeclaredTable) -> None:
        columns, rows, name = _columns(table), self._rows_of(table), quoted(table.name)
        self._file.execute(f"CREATE TABLE temp.{rows} (kind, row UNIQUE, {', '.join(columns)})")
        before = ", ".join(f"OLD.{each}" for each in columns)
        for event in ("DELETE", "UPDATE"):
            self._file.execute(
                f"CREATE TEMP TRIGGER {self._watcher(table, event)} BEFORE {event} ON main.{name} "
                f"BEGIN INSERT OR IGNORE INTO {rows} "
                f"VALUES ('{event.lower()}', OLD.rowid, {before}); END"
            )
        # What an INSERT gives is changed once more, into what the columns hold.
        self._file.execute(
            f"CREATE TEMP TRIGGER {self._watcher(table, 'INSERT')} AFTER INSERT ON main.{name} "
            f"BEGIN INSERT OR REPLACE INTO {rows} (kind, row) VALUES ('insert', NEW.rowid); END"
        )

    def _rows_of(self, table: DeclaredTable) -> str:
        return quoted(f"yeldro rows {self._level} {table.name}")

    def _watcher(self, table: DeclaredTable, event: str) -> str:
        return quoted(f"yeldro {event} {self._level} {table.name}")

    def _seen_as(self, name: str) -> str:
        return f"yeldro_{name}_{self._level}"


def _columns(table: DeclaredTable) -> Sequence[str]:
    return [quoted(each.name) for each in table.columns]
