"""One session on an SQLite file: its statements, values and counts."""

from __future__ import annotations

import re
import sqlite3
import zlib
from collections.abc import Collection, Generator, Sequence
from contextlib import AbstractContextManager, nullcontext
from dataclasses import replace
from datetime import date, datetime
from functools import cached_property
from pathlib import Path
from typing import TYPE_CHECKING, Any

import sqlalchemy as sa

from yeldro.core.database import sql
from yeldro.core.database.facts import (
    USUAL,
    ChangeCount,
    LastingEffect,
    Mode,
    Prevention,
    RowRefusal,
    SqlDialect,
    Traits,
)
from yeldro.core.database.identity import column_list
from yeldro.core.model.messages.errors import (
    Fault,
    Refused,
)
from yeldro.core.model.tables.schema import Column, IdentityKind, Table
from yeldro.engines.sqlite.catalogue import SqliteCatalogue, affinity
from yeldro.engines.sqlite.collations import collation_of, stored_alike
from yeldro.engines.sqlite.emptying import SqliteEmptying
from yeldro.engines.sqlite.errors import INTERRUPTED
from yeldro.engines.sqlite.groups import Groups
from yeldro.engines.sqlite.surplus import note_surplus
from yeldro.engines.sqlite.texts import (
    UndecodableText,
    bytes_of,
    decoded,
    forms_of,
)
from yeldro.engines.sqlite.trigger_effects import TriggerEffects
from yeldro.engines.standard import StandardSession

if TYPE_CHECKING:
    from yeldro.core.database.compared import Compared
    from yeldro.core.model.tables.equality import EqualityRules

_INDEX_NAMED = re.compile(r"UNIQUE constraint failed: index '(.*)'$", re.DOTALL)
_NEVER_THE_SAME = {"changes", "last_insert_rowid", "random", "randomblob", "total_changes"}
_INNOCUOUS = 0x200000  # sqlite3.h: SQLITE_INNOCUOUS
_UNDECODABLE = "Could not decode to UTF-8"
_HASHED_AT_ONCE = 40  # columns; each takes two of the 100 arguments that a function may have


TRAITS = Traits(
    name="SQLite",
    sql_dialect=SqlDialect("sqlite", plus_converts=True, keeps_days_as_texts=True, row_id="rowid"),
    core_checks_foreign_keys=True,
    has_single_writer=True,
)


class SqliteSession(StandardSession):
    """One connection in one transaction.

    Attributes:
        seen_by_others: the URI under which other processes see the same rows; empty if this session
            or others may change some.
        longest_wait: seconds that one statement may take, None for any time.
    """

    catalogue: SqliteCatalogue

    _trigger_effects: TriggerEffects | None = None

    def __init__(self, connection: sa.Connection, mode: Mode = USUAL, *, in_utf_16: bool) -> None:
        super().__init__(connection, TRAITS, mode)
        self.catalogue = SqliteCatalogue(connection)
        self._in_utf_16 = in_utf_16
        self._opened: dict[Path, str] = {}
        self.seen_by_others = ""
        self.longest_wait: float | None = None

    def create_key_table(
        self, columns: Sequence[Column], unique: int, indexed: Sequence[Sequence[str]] = ()
    ) -> sa.TableClause:
        """Make a table in SQLite's temporary database; an integer row id is its own key."""
        name = self._free_name()
        quote = self._quote
        declared = [_declared(column, quote) for column in columns]
        if unique == 1 and columns[0].row_id:
            ddl = ", ".join([f"{declared[0]} PRIMARY KEY", *declared[1:]])
            ending = ""
        else:
            key = ", ".join(quote(column.name) for column in columns[:unique])
            ddl = f"{', '.join(declared)}, PRIMARY KEY ({key})"
            ending = " WITHOUT ROWID"
        self.connection.exec_driver_sql(f"CREATE TEMP TABLE {name} ({ddl}){ending}")
        made = sa.table(
            name,
            *(sa.column(sql.quoted(column.name)) for column in columns),
            schema="temp",
        )
        for names in indexed:
            self.add_index(made, names)
        return made

    def _is_taken(self, name: str) -> bool:
        return self.catalogue.has_spelling(name)

    def note_surplus(
        self,
        keys: sa.TableClause,
        table: Table,
        values: Sequence[sa.ColumnElement[Any]],
        conditions: Sequence[sql.Predicate],
        keep_highest: bool,
    ) -> bool:
        """Use a plain GROUP BY if the key is the row id."""
        (key,) = column_list(table, table.identity.columns)
        is_row_id = key.row_id or table.identity.kind is IdentityKind.PHYSICAL
        if self.mode.plain or not is_row_id or "json_group_array" not in self._functions:
            return False
        rows = sql.rows_of(table)
        groups = Groups(rows, rows.c[key.name], tuple(values), tuple(conditions), keep_highest)
        return note_surplus(self.connection, keys, groups, self.seen_by_others, self.longest_wait)

    def insert_rows(self, staged: sa.TableClause, rows: Sequence[tuple[Any, ...]]) -> None:
        marks = ", ".join("?" * len(staged.c))
        insert = f"INSERT INTO temp.{staged.name} VALUES ({marks})"
        self.connection.exec_driver_sql(insert, list(rows))

    def opened(self, file: Path) -> str:
        """Open another file beside this one, which only works if both have one encoding."""
        if self._in_utf_16:
            return ""
        if file not in self._opened:
            name = f"yeldro_receipt_{len(self._opened)}"
            address = f"{file.resolve().as_uri()}?mode=ro"
            self.connection.exec_driver_sql(f"ATTACH ? AS {name}", (address,))
            self._opened[file] = name
        return self._opened[file]

    def insert_query(self, staged: sa.TableClause, query: str) -> int:
        """Fill it in one statement; its first column numbers the rows by itself."""
        insert = f"INSERT INTO temp.{staged.name} SELECT NULL, * FROM ({query})"
        return sql.as_written(self.connection, insert).rowcount

    @property
    def emptying(self) -> SqliteEmptying:
        return SqliteEmptying(self, self._free_name)

    def _raw(self) -> sqlite3.Connection:
        raw = self.connection.connection.driver_connection
        if not isinstance(raw, sqlite3.Connection):
            raise Fault("the driver is not the one that was asked for")
        return raw

    def add_index(self, key_table: sa.TableClause, columns: Sequence[str]) -> None:
        listed = ", ".join(self._quote(name) for name in columns)
        name = f"{key_table.name}_by_{zlib.crc32(listed.encode())}"
        self.connection.exec_driver_sql(f"CREATE INDEX temp.{name} ON {key_table.name} ({listed})")

    def referencing_value(
        self, value: sa.ColumnElement[Any], child: Column, parent: Column
    ) -> sa.ColumnElement[Any]:
        """Apply the parent's collation and affinity (sqlite.org/foreignkeys.html, 3)."""
        if affinity(parent.type) != "TEXT":
            return value
        if affinity(child.type) in ("INTEGER", "REAL", "NUMERIC"):
            value = sa.cast(value, sa.Text)
        return sa.collate(value, parent.collation or "BINARY")

    def looking(self) -> AbstractContextManager[None]:
        """Do nothing: what a filter may call cannot write."""
        return nullcontext()

    def unseen_references(self, table: Table) -> tuple[str, ...] | None:
        """Return nothing: everybody sees the whole catalogue."""
        del table
        return ()

    def lasting_effects(self, table: Table, event: str) -> tuple[LastingEffect, ...]:
        """Return triggers that replace rows; a rollback undoes all, and nothing counts them."""
        if not table.triggers:
            return ()
        if self._trigger_effects is None:
            self._trigger_effects = TriggerEffects(self.connection)
        return tuple(self._trigger_effects.of(table, event))

    def event_triggers(self) -> tuple[str, ...]:
        """Return nothing: no trigger is fired by a new table."""
        return ()

    def why_not_inserted(self, table: Table) -> str:
        """Return what SQLite says while it compiles an INSERT.

        Collations, checks, indexes on expressions and triggers can need what only the program that
        uses the file defines. Of checks it says nothing in a session that only reads.
        """
        names = ", ".join(self._quote(column.name) for column in table.stored_columns)
        values = ", ".join("NULL" for _ in table.stored_columns)
        try:
            self.connection.exec_driver_sql(
                f"EXPLAIN INSERT INTO {self._written(table)} ({names}) VALUES ({values})"
            ).close()
        except sa.exc.OperationalError as error:
            if getattr(error.orig, "sqlite_errorcode", None) != sqlite3.SQLITE_ERROR:
                raise  # a disk or a lock says nothing of the table
            return self.reason(error)
        return ""

    def unrestorable(self, table: Table) -> Sequence[tuple[str, sql.Predicate]]:
        """Return nothing: every value in a table may be written there again."""
        del table
        return ()

    def time_zone(self) -> str:
        """Return UTC: what SQLite takes the time now in, and times without a zone to be."""
        return "UTC"

    def missing_privileges(
        self, wanted: Sequence[tuple[Table, Collection[str] | None]]
    ) -> list[str]:
        """Return nothing: the system has no privileges."""
        del wanted
        return []

    def was_stopped(self, error: sa.exc.DBAPIError) -> bool:
        return str(error.orig) == INTERRUPTED or "locked" in str(error.orig)

    def may_be_committed(self, error: BaseException) -> bool:
        """True only if something other than SQLite failed, and the transaction is over.

        An interrupt closes the connection, so that nothing tells if its COMMIT was done.
        """
        if self.connection.invalidated:
            return True
        raw = self.connection.connection.driver_connection
        still_open = isinstance(raw, sqlite3.Connection) and raw.in_transaction
        return not isinstance(error, sa.exc.DBAPIError) and not still_open

    def readable(self, value: sa.ColumnElement[Any], column: Column) -> sa.ColumnElement[Any]:
        """Return the value; in a UTF-16 file fail if SQLite's UTF-8 would change it."""
        if not self._in_utf_16:
            return super().readable(value, column)
        return sa.func.yeldro_well_formed(value, sa.cast(value, sa.LargeBinary))

    def is_as_it_was(
        self,
        value: sa.ColumnElement[Any],
        now: Column,
        stored: sa.ColumnElement[Any],
        then: Column,
    ) -> sql.Predicate:
        """Compare kinds and bytes too: SQLite finds alike what is not the same.

        A collation may ignore case or blanks, and no catalogue tells it; a column without affinity
        holds 7 as well as 7.0; where types differ one side is converted.
        """
        if now.row_id and then.type == now.type:
            return super().is_as_it_was(value, now, stored, then)
        return stored_alike(self.readable(value, now), stored)

    def contents_hash(
        self, columns: Sequence[Column], rows: sa.FromClause
    ) -> sa.ColumnElement[Any]:
        """Use a function of Yeldro's, as SQLite has none that hashes.

        It takes each value with its type, and text as bytes, which need not be valid.
        """
        whole: sa.ColumnElement[Any] = sa.literal_column("''")
        for start in range(0, len(columns), _HASHED_AT_ONCE):
            told: list[sa.ColumnElement[Any]] = []
            for column in columns[start : start + _HASHED_AT_ONCE]:
                value = rows.c[column.name]
                kind = sa.func.typeof(value)
                exact = sa.case((kind == "text", sa.cast(value, sa.LargeBinary)), else_=value)
                told += [kind, exact]
            whole = sa.func.yeldro_hash(whole, *told)
        return whole

    def is_text(self, column: Column) -> bool:
        """True by affinity, or without a type, as then each value may be text."""
        return affinity(column.type) == "TEXT" or not column.type

    def is_empty(self, value: sa.ColumnElement[Any]) -> sql.Predicate:
        """True if the value has no bytes: length() stops at the first character NUL."""
        return sa.cast(value, sa.LargeBinary) == sa.literal_column("x''")

    def without_case(self, value: sa.ColumnElement[Any]) -> sa.ColumnElement[Any]:
        """Use a function of Yeldro's, as SQLite's lower() knows only the letters A to Z."""
        return sa.func.yeldro_without_case(value)

    def prevention(
        self, table: Table, by: Sequence[Compared], same: EqualityRules
    ) -> Prevention | None:
        """Return nothing if case is ignored, as an index has lower(), which knows only A to Z."""
        columns = [table.by_name[each.column] for each in by if each.column]
        if same.ignore_case and any(map(self.is_text, columns)):
            return None
        found = super().prevention(table, by, same)
        return replace(found, tried=True) if found and self._accepts(found) else None

    def _collated(self, table: Table, written: str) -> str:
        return collation_of(self.connection, self._written(table), written)

    def _accepts(self, found: Prevention) -> bool:
        """True if SQLite prepares a statement, which checks the functions in an index."""
        try:
            sql.as_written(self.connection, f"EXPLAIN {found.statement}")
        except sa.exc.DBAPIError:
            return False
        return True

    def _names_beside(self, table: Table) -> set[str]:
        """Return the names of all indexes, tables and views of the file, which must differ."""
        rows = self.connection.exec_driver_sql("SELECT name FROM main.sqlite_master")
        return super()._names_beside(table) | {str(name) for (name,) in rows}

    def is_free_of_side_effects(self, function: str) -> bool:
        """True if SQLite marks the function as innocuous, that is safe in any context."""
        name = function.lower()
        return name not in _NEVER_THE_SAME and bool(self._functions.get(name, 0) & _INNOCUOUS)

    @cached_property
    def _functions(self) -> dict[str, int]:
        """The flags of every function that SQLite has here."""
        listed = self.connection.exec_driver_sql("SELECT name, flags FROM pragma_function_list")
        return {str(name).lower(): int(flags) for name, flags in listed}

    def parameter(self, value: Any) -> Any:
        """Return dates as the text that SQLite's own functions read and write."""
        if isinstance(value, datetime):
            return value.isoformat(sep=" ")
        return value.isoformat() if isinstance(value, date) else value

    def change_count(self) -> ChangeCount:
        """Return all rows changed, by triggers too; SQLite does not tell in which tables."""
        self.seen_by_others = ""  # changes are about to come
        return ChangeCount(total=self._raw().total_changes)

    def staging_type(self, column: Column) -> str:
        """Return the column's own affinity if it is numeric, else none.

        A numeric column does not convert values from another one of its kind. Without a type,
        SQLite would convert values for each comparison with the column, and use no index.
        """
        kind = affinity(column.type)
        return kind if kind in ("INTEGER", "REAL", "NUMERIC") else ""

    def in_parts(
        self, query: sa.Select[Any], size: int
    ) -> Generator[Sequence[Sequence[Any]], None, None]:
        """Let the driver decode texts; only if it cannot, read all rows again and decode here.

        The same query on the same state of the file gives its rows in the same order.
        """
        read, last = 0, None
        if not UndecodableText.seen:
            try:
                for part in super().in_parts(query, size):
                    read, last = read + len(part), part[-1]
                    yield part
                return
            except sa.exc.DBAPIError as error:
                if _UNDECODABLE not in str(error.orig):
                    raise
                UndecodableText.seen = True
        for part in super().in_parts(query, size):
            again, fresh = part[:read], part[read:]
            read -= len(again)
            if again and not read and again[-1] != last:
                raise Fault("rows were read twice in different orders")
            if fresh:
                yield fresh

    def _fetched(self, cursor: Any, size: int) -> Sequence[Sequence[Any]]:
        raw = self._raw()
        raw.text_factory = decoded if UndecodableText.seen else str
        try:
            return super()._fetched(cursor, size)
        finally:
            raw.text_factory = decoded

    def stored(self, rows: Sequence[Sequence[Any]]) -> Sequence[Sequence[Any]]:
        """Return the rows, with text that no Python string can hold as bytes marked as text."""
        if not UndecodableText.seen:
            return rows
        return [(*map(bytes_of, row), forms_of(row)) for row in rows]

    def restored(self, value: Any, form: str) -> sa.ColumnElement[Any]:
        if form != "text":
            raise Refused(
                f"A value of the receipt is said to have the form {form!r}, which SQLite has not.",
                "Use a receipt that nobody has changed.",
            )
        return sa.cast(sa.literal(value, sa.LargeBinary), sa.Text)

    def restorable_row_id(self, table: Table) -> str | None:
        """Return the row id, which is part of a file's contents though no column shows it."""
        if any(column.row_id for column in table.columns):
            return None
        return table.row_id_columns[0].name if table.row_id_columns else None

    def notes(self) -> tuple[str, ...]:
        """Return notes on loose foreign keys, and that SQLite checks keys only if asked to."""
        notes = [f"{key} references what does not exist, or is not unique, and is ignored"
                 for key in self.catalogue.loose_foreign_keys()]  # fmt: skip
        if any(self.catalogue.table(name).foreign_keys for name in self.catalogue.table_names()):
            notes.append(
                "SQLite checks foreign keys only in programs that ask for it; "
                "Yeldro goes by the declared keys in any case"
            )
        return tuple(notes)

    def row_refusal(self, error: sa.exc.DBAPIError) -> RowRefusal | None:
        """Return a broken constraint, or what a trigger raises."""
        if not isinstance(error.orig, sqlite3.IntegrityError):
            return None
        reason = self.reason(error)
        named = _INDEX_NAMED.search(reason)
        return RowRefusal(reason, named[1] if named else "")

    def commit(self) -> None:
        self.connection.exec_driver_sql("COMMIT")

    def roll_back(self) -> None:
        if self.connection.invalidated:  # closed, which rolls everything back
            return
        raw = self.connection.connection.driver_connection
        if isinstance(raw, sqlite3.Connection) and raw.in_transaction:
            raw.rollback()


def _declared(column: Column, quote: Any) -> str:
    collation = ""
    if column.collation and re.fullmatch(r"\w+", column.collation):
        collation = f" COLLATE {column.collation}"
    return f"{quote(column.name)} {affinity(column.type)}{collation}"
