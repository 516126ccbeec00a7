"""Behaviour that most systems share; each engine overrides what differs.

What the guard asks before rows change has no default here: each engine answers itself.
"""

from __future__ import annotations

import logging
import re
from collections.abc import Callable, Collection, Generator, Iterable, Iterator, Sequence
from contextlib import AbstractContextManager, contextmanager, nullcontext
from dataclasses import replace
from itertools import count
from typing import TYPE_CHECKING, Any

import sqlalchemy as sa

from yeldro.core.database import sql
from yeldro.core.database.compared import columns_read
from yeldro.core.database.facts import Prevention
from yeldro.core.database.parts import PartSize
from yeldro.core.model.messages.errors import Fault, Refused
from yeldro.core.model.tables.schema import TableName

if TYPE_CHECKING:
    from pathlib import Path

    from yeldro.core.database.compared import Compared
    from yeldro.core.database.facts import Mode, Traits
    from yeldro.core.database.protocol import Catalogue
    from yeldro.core.model.tables.equality import EqualityRules
    from yeldro.core.model.tables.schema import Column, ForeignKey, Table

_TEXT = re.compile(r"(n?(var)?char|character|.*text|clob|enum|set\b)", re.IGNORECASE)

# The library logs a connection that is not closed in order; users get an error message instead.
logging.getLogger("sqlalchemy").addHandler(logging.NullHandler())


class StandardSession:
    """One connection in one transaction, on a system with physical row ids and native types."""

    catalogue: Catalogue

    def __init__(self, connection: sa.Connection, traits: Traits, mode: Mode) -> None:
        checks = traits.core_checks_foreign_keys and not mode.checked_by_system
        self.connection = connection
        self.traits = replace(traits, core_checks_foreign_keys=checks)
        self.mode = mode
        self.locked_tables: frozenset[TableName] = frozenset()
        self._temporary_tables = 0

    def _free_name(self, stem: str = "yeldro_keys") -> str:
        """Return a name for a temporary table that hides no table of the user's."""
        while True:
            self._temporary_tables += 1
            name = f"{stem}_{self._temporary_tables}"
            if not self._is_taken(name):
                return name

    def _is_taken(self, name: str) -> bool:
        """True if a statement that says `name` means a table of the user's."""
        return self.catalogue.has_table(TableName(name))

    def note_surplus(
        self,
        keys: sa.TableClause,
        table: Table,
        values: Sequence[sa.ColumnElement[Any]],
        conditions: Sequence[sql.Predicate],
        keep_highest: bool,
    ) -> bool:
        """Return False: no way is quicker than numbering all rows."""
        del keys, table, values, conditions, keep_highest
        return False

    def volatile_among(
        self, functions: Collection[str], operators: Collection[str], types: Collection[str]
    ) -> str:
        """Return nothing: users cannot define operators and casts."""
        del functions, operators, types
        return ""

    def making_transactional(self, table: Table) -> str:
        """Fail: every table has transactions."""
        raise Fault(f"{table.name} has transactions")

    def defer_checks(self, keys: Sequence[ForeignKey]) -> None:
        """Do nothing: the core checks foreign keys when all is done."""

    def run_deferred(self) -> None:
        """Do nothing: no trigger can be deferred to the commit."""

    def insert_rows(self, staged: sa.TableClause, rows: Sequence[tuple[Any, ...]]) -> None:
        """Use an INSERT of many rows, or whatever the driver makes of it."""
        names = list(staged.c.keys())
        values = [dict(zip(names, row, strict=True)) for row in rows]
        self.connection.execute(sa.insert(staged), values)

    def opened(self, file: Path) -> str:
        """Return nothing: the system reads only its own tables."""
        del file
        return ""

    def insert_query(self, staged: sa.TableClause, query: str) -> int:
        """Fail: no other file is opened."""
        raise Fault(f"{staged.name} cannot be filled by {query}")

    def key_table_filled(self, key_table: sa.TableClause) -> None:
        """Do nothing: the planner needs no statistics."""

    def referencing_value(
        self, value: sa.ColumnElement[Any], child: Column, parent: Column
    ) -> sa.ColumnElement[Any]:
        """Return the value: both sides of a foreign key compare alike by themselves."""
        del child, parent
        return value

    def is_text(self, column: Column) -> bool:
        """True for the common names of text types."""
        return _TEXT.match(column.type) is not None

    def is_empty(self, value: sa.ColumnElement[Any]) -> sql.Predicate:
        """True if the text has no length, whatever its collation calls equal."""
        return sa.func.length(value) == 0

    def is_comparable(self, column: Column) -> bool:
        """True: values of every type can be compared."""
        del column
        return True

    def grouped(self, value: sa.ColumnElement[Any], column: Column) -> sa.ColumnElement[Any]:
        """Return the value: values are compared whole."""
        del column
        return value

    def check_order(self, rows: sa.FromClause, value: sa.ColumnElement[Any]) -> None:
        """Do nothing: values are compared whole."""

    def without_case(self, value: sa.ColumnElement[Any]) -> sa.ColumnElement[Any]:
        """Return the text in lower case, as the system understands it."""
        return sa.func.lower(value)

    def prevention(
        self, table: Table, by: Sequence[Compared], same: EqualityRules
    ) -> Prevention | None:
        """Return a unique index, over expressions if NULL equals NULL or text is loose."""
        parts = []
        for each in by:
            written = self._compared(table, each, same, self._plain)
            if self._may_be_null(table, each) and not same.null_distinct:
                parts.append(f"({written} IS NULL)")
                written = f"ifnull({written}, 0){self._collated(table, written)}"
            parts.append(written)
        index = self._constraint(table, by)
        return Prevention(f"CREATE UNIQUE INDEX {index} ({', '.join(parts)})")

    def _compared(
        self, table: Table, each: Compared, same: EqualityRules, quoted: Callable[[str], str]
    ) -> str:
        """Return the expression to index, which compares a column as `same` says."""
        written = each.text(quoted)
        if each.column and self.is_text(table.by_name[each.column]):
            written = f"trim({written})" if same.trim else written
            written = f"lower({written})" if same.ignore_case else written
        return written

    def _may_be_null(self, table: Table, each: Compared) -> bool:
        return each.column is None or table.by_name[each.column].nullable

    def _collated(self, table: Table, written: str) -> str:
        """Return the collation that an expression has by itself, and not within a function."""
        del table, written
        return ""

    def _constraint(self, table: Table, by: Sequence[Compared]) -> str:
        """Return a name for an index of these columns, and the table that it is on."""
        named = [table.name.name, *columns_read(by), "once"]
        wanted = re.sub(r"[^A-Za-z0-9_]+", "_", "_".join(named))[-60:]
        taken = {name.casefold() for name in self._names_beside(table)}
        free = (f"{wanted}_{n}" if n > 1 else wanted for n in count(1))
        name = next(name for name in free if name.casefold() not in taken)
        return f"{self._plain(name)} ON {self._written(table)}"

    def _names_beside(self, table: Table) -> set[str]:
        """Return the names that a new index of a table may not take."""
        return {each.name for each in table.indexes} | set(table.by_name)

    def _written(self, table: Table) -> str:
        return sql.written(self.connection, table.name)

    def row_hash(self, table: Table, rows: sa.FromClause) -> sa.ColumnElement[Any]:
        """Refuse: on such a system only a table that hides its row id needs one."""
        del rows
        raise Refused(
            f"{table.name} has no key, and its columns take every name of the row id, so nothing "
            f"tells equal rows apart.",
            "Rename one of the columns rowid, oid and _rowid_.",
        )

    def locking_read(self, query: sa.Select[Any]) -> sa.Select[Any]:
        """Return the query: a transaction sees one state of the data, or keeps others out."""
        return query

    def can_lock_rows(self, table: Table) -> bool:
        """True: a user who may remove rows may lock them."""
        del table
        return True

    def lock_rows(
        self,
        rows: sa.TableClause,
        condition: sql.Predicate,
        values: Sequence[sa.ColumnElement[Any]],
    ) -> int | None:
        """Do nothing: a session that writes keeps all others out."""
        del rows, condition, values
        return None

    def key_driven(self, statement: sa.Delete | sa.Update) -> sa.Delete | sa.Update:
        """Return the statement: the plain form is planned well."""
        return statement

    def change_at_once(self, updates: Sequence[sa.Update]) -> list[int]:
        """Execute one after the other: the system checks no foreign key itself."""
        return [self.connection.execute(self.key_driven(each)).rowcount for each in updates]

    def remove_copies(self, table: Table, keys: sa.TableClause) -> int:
        """Fail: rows are never identified by a hash here."""
        raise Fault(f"no copies of {table.name} can be counted in {keys}")

    def change_one(
        self, table: Table, condition: sa.ColumnElement[bool], values: dict[Any, Any]
    ) -> int:
        rows = sql.rows_of(table)
        statement = sa.update(rows).where(_any_one(table, condition)).values(values)
        return self.connection.execute(statement).rowcount

    def remove_one(self, table: Table, condition: sa.ColumnElement[bool]) -> int:
        statement = sa.delete(sql.rows_of(table)).where(_any_one(table, condition))
        return self.connection.execute(statement).rowcount

    def create_copy(
        self, name: TableName, table: Table, columns: Sequence[tuple[str, str]]
    ) -> None:
        self.connection.exec_driver_sql(self._copy_statement(name, table, columns))

    def _copy_statement(
        self, name: TableName, table: Table, columns: Sequence[tuple[str, str]]
    ) -> str:
        listed = ", ".join(f"{self._quote(own)} AS {self._quote(new)}" for new, own in columns)
        source = self._name(table.name)
        return f"CREATE TABLE {self._name(name)} AS SELECT {listed} FROM {source} WHERE 1 = 0"

    def savepoint(self, name: str) -> None:
        self.connection.exec_driver_sql(f"SAVEPOINT {name}")

    def release(self, name: str) -> None:
        self.connection.exec_driver_sql(f"RELEASE SAVEPOINT {name}")

    def back_to(self, name: str) -> None:
        self.connection.exec_driver_sql(f"ROLLBACK TO SAVEPOINT {name}")

    def letting_the_system_check(self) -> AbstractContextManager[None]:
        """Do nothing: no table is unseen."""
        return nullcontext()

    def why_not_inserted(self, table: Table) -> str:
        """Return nothing: what a server's tables need is on the server."""
        del table
        return ""

    def reason(self, error: sa.exc.DBAPIError) -> str:
        """Return the first line of the system's own words for an error."""
        return next(iter(str(error.orig).splitlines()), "no reason given")

    def may_be_committed(self, error: BaseException) -> bool:
        """True: the system does not tell."""
        del error
        return True

    def parameter(self, value: Any) -> Any:
        """Return the value: it is bound as it is."""
        return value

    def readable(self, value: sa.ColumnElement[Any], column: Column) -> sa.ColumnElement[Any]:
        """Return the value: the driver loses nothing."""
        del column
        return value

    def typed(self, value: sa.ColumnElement[Any], column: Column) -> sa.ColumnElement[Any]:
        """Return the value: the system converts nothing."""
        del column
        return value

    def converted(
        self, value: sa.ColumnElement[Any], then: Column, now: Column
    ) -> sa.ColumnElement[Any]:
        """Return the value in its present type: the system converts by itself."""
        del then
        return self.typed(value, now)

    def is_as_it_was(
        self,
        value: sa.ColumnElement[Any],
        now: Column,
        stored: sa.ColumnElement[Any],
        then: Column,
    ) -> sql.Predicate:
        """Compare the forms in which values are read; they tell apart what is not the same."""
        del then
        return self.readable(value, now).is_not_distinct_from(self.restated(stored, now))

    def dropping(self, table: Table, constraint: str) -> str:
        del table
        return f"DROP INDEX {self._plain(constraint)}"

    def in_parts(
        self, query: sa.Select[Any], size: int
    ) -> Generator[Sequence[Sequence[Any]], None, None]:
        """Read from the driver's own cursor: a library in between costs as much again.

        The library itself fetches the first row when it executes the query.
        """
        result = self.connection.execute(query.execution_options(stream_results=True))
        cursor: Any = result.cursor
        try:
            first = result.fetchone()
            if first is None:
                return
            part = PartSize(size)
            rows: Sequence[Sequence[Any]] = [tuple(first)]
            while rows:
                yield rows
                part.note(rows)
                rows = self._fetched(cursor, part.rows)
        finally:
            if not self.connection.invalidated:  # else the cursor is gone
                result.close()

    def _fetched(self, cursor: Any, size: int) -> Sequence[Sequence[Any]]:
        """Return the next rows of a cursor of the driver."""
        with self._driver():
            found: Sequence[Sequence[Any]] = cursor.fetchmany(size)
            return found

    @contextmanager
    def _driver(self) -> Iterator[Any]:
        """Yield the driver's connection; its errors become those of any statement."""
        dialect = self.connection.dialect
        kind = dialect.loaded_dbapi.Error
        raw = self.connection.connection
        try:
            yield raw.driver_connection
        except KeyboardInterrupt:
            self.connection.invalidate()
            raise
        except kind as error:
            lost = dialect.is_disconnect(error, raw, None)
            if lost:
                self.connection.invalidate(error)
            raise sa.exc.DBAPIError.instance(
                "rows", None, error, kind, connection_invalidated=lost, dialect=dialect
            ) from error

    def stored(self, rows: Sequence[Sequence[Any]]) -> Sequence[Sequence[Any]]:
        """Return the rows as they are: SQLite has types for all values."""
        return rows

    def restated(self, value: sa.ColumnElement[Any], column: Column) -> sa.ColumnElement[Any]:
        """Return the value: its form depends on no setting of a session."""
        del column
        return value

    def restored(self, value: Any, form: str) -> sa.ColumnElement[Any]:
        """Return the value: the column's type tells how it is written back."""
        del form
        return sa.literal(value)

    def put_back(self, rows: sa.TableClause, names: Sequence[str], query: sa.Select[Any]) -> int:
        """Insert rows that were there before; return their number."""
        insert = sa.insert(rows).from_select(sql.columns_of(rows, names), query)
        return self.connection.execute(insert).rowcount

    def restorable_row_id(self, table: Table) -> str | None:
        """Return None: a restored row gets another physical row id."""
        del table
        return None

    def notes(self) -> tuple[str, ...]:
        """Return no warnings."""
        return ()

    def commit(self) -> None:
        self.connection.commit()

    def roll_back(self) -> None:
        if not self.connection.invalidated:
            self.connection.rollback()

    def _plain(self, name: str) -> str:
        """Return a name as people write it in a statement, in quotes only if it needs them."""
        return str(self.connection.dialect.identifier_preparer.quote(name)).replace("%%", "%")

    def _name(self, name: TableName) -> str:
        """Return a table's name for a statement that goes to the driver."""
        return ".".join(self._quote(part) for part in (name.schema, name.name) if part)

    def _quote(self, name: str) -> str:
        return self.connection.dialect.identifier_preparer.quote_identifier(name)


def refused_by(checks: Iterable[tuple[str, str]]) -> list[tuple[str, sql.Predicate]]:
    """Return the rows that do not meet a check, for each, and how they are told."""
    return [(f"what the check {name} refuses", sql.fails(check)) for name, check in checks]


def _any_one(table: Table, condition: sa.ColumnElement[bool]) -> sql.Predicate:
    """True if a row is the first found that meets the condition, by its physical row id."""
    rows = sql.rows_of(table)
    row_id = sql.columns_of(rows, [column.name for column in table.row_id_columns])
    return sql.among(row_id, sa.select(*row_id).where(condition).limit(1).correlate(None))
