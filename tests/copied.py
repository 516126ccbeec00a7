"""Carries out scripts that name rows by their keys where SQL Server's rules hold."""

from __future__ import annotations

import sqlite3
import uuid

import pymssql
from standin import Stopped, Table, check_rules, foreign_keys, shown, statements_of, tables_of
from systems import SqlServerDatabase

from yeldro.engines.sqlserver.literals import literal

_TYPES = {
    "bool": "smallint", "int": "bigint", "date": "datetime2(6)", "time": "datetime2(6)",
    "real": "float", "num": "decimal(20, 4)", "blob": "varbinary(400)",
}  # fmt: skip
_TEXT = "nvarchar(400)"  # of which an index takes 450
_AT_ONCE = 500  # rows
_WAYS_MEET = 1785


def quoted(name: str) -> str:
    return f"[{name.replace(']', ']]')}]"


class CopyOnSqlServer:
    """A database on a SQL Server, or its stand-in, with the tables and rows of an SQLite file."""

    system = "sqlserver"

    def __init__(self, copied: sqlite3.Connection) -> None:
        self.database = SqlServerDatabase(f"yeldro_{uuid.uuid4().hex[:12]}")
        self.tables: dict[str, list[str]] = {}
        self.unique: set[tuple[str, ...]] = set()
        for table in tables_of(copied):
            self._copy(table)
        for key in foreign_keys(copied, self.tables):
            self._reference(key.child, key.pairs, key.parent, key.action)

    def close(self) -> None:
        self.database.drop()

    def rows(self, table: str) -> list[tuple[str, ...]]:
        columns = ", ".join(map(quoted, self.tables[table]))
        found = self.database.rows(f"SELECT {columns} FROM {quoted(table)}")
        return sorted(tuple(map(shown, row)) for row in found)

    def contents(self) -> dict[str, list[tuple[str, ...]]]:
        return {table: self.rows(table) for table in self.tables}

    def change(self, statement: str) -> None:
        self.database.batch(statement)

    def run(self, script: str) -> None:
        """Carry a script out as one batch.

        Raises:
            Stopped: a check of the script did not hold.
        """
        for statement in statements_of(script):
            if statement.startswith(("DELETE", "UPDATE")):
                check_rules(statement, "tsql")
        try:
            self.database.batch(script)
        except pymssql.Error as error:
            number, text = error.args
            if number != 50001:
                raise
            raise Stopped(text.decode()) from error

    def _copy(self, table: Table) -> None:
        self.tables[table.name] = [name for name, _, _ in table.columns]
        declared = [
            f"{quoted(name)} {_type(kind)}{' NOT NULL' if name in table.primary else ' NULL'}"
            f" DEFAULT {default}"
            for name, kind, default in table.columns
        ]
        if table.primary:
            declared.append(f"PRIMARY KEY ({', '.join(map(quoted, table.primary))})")
            self.unique.add((table.name, *sorted(table.primary)))
        self.change(f"CREATE TABLE {quoted(table.name)} ({', '.join(declared)})")
        for start in range(0, len(table.rows), _AT_ONCE):
            listed = ", ".join(
                f"({', '.join(map(literal, row))})" for row in table.rows[start : start + _AT_ONCE]
            )
            self.change(f"INSERT INTO {quoted(table.name)} VALUES {listed}")

    def _reference(
        self, child: str, pairs: list[tuple[str, str]], parent: str, action: str
    ) -> None:
        """Declare a foreign key; without its action if SQL Server does not take that one.

        The rows of a script go in an order in which no action finds any.
        """
        ours, theirs = zip(*pairs, strict=True)
        if (parent, *sorted(theirs)) not in self.unique:
            self.unique.add((parent, *sorted(theirs)))
            listed = ", ".join(map(quoted, sorted(theirs)))
            self.change(f"ALTER TABLE {quoted(parent)} ADD UNIQUE ({listed})")
        statement = (
            f"ALTER TABLE {quoted(child)} ADD FOREIGN KEY ({', '.join(map(quoted, ours))})"
            f" REFERENCES {quoted(parent)} ({', '.join(map(quoted, theirs))})"
        )
        try:
            self.change(f"{statement} ON DELETE {action}")
        except pymssql.Error as error:
            if error.args[0] != _WAYS_MEET:
                raise
            self.change(statement)


def _type(declared: str) -> str:
    lower = declared.lower()
    return next((kind for word, kind in _TYPES.items() if word in lower), _TEXT)
