"""One session on a SQL Server: its statements, values and locks."""

from __future__ import annotations

from collections.abc import Sequence
from typing import TYPE_CHECKING, Any

import sqlalchemy as sa

from yeldro.core.database import sql
from yeldro.core.database.facts import ChangeCount, Mode, RowRefusal, TableLocks, Traits
from yeldro.core.database.identity import COPIES, ROW_HASH
from yeldro.core.model.messages.errors import CountMismatch, Refused
from yeldro.core.model.tables.schema import TableName
from yeldro.engines.sqlserver import errors, values
from yeldro.engines.sqlserver.catalogue import SqlServerCatalogue
from yeldro.engines.sqlserver.compiler import ROWS_AT_ONCE, last_number
from yeldro.engines.sqlserver.dialect import DIALECT
from yeldro.engines.sqlserver.emptying import SqlServerEmptying
from yeldro.engines.sqlserver.knowledge import SqlServerKnowledge
from yeldro.engines.sqlserver.literals import literal

if TYPE_CHECKING:
    from yeldro.core.model.tables.schema import Column, Table

TRAITS = Traits(
    name="SQL Server",
    sql_dialect=DIALECT,
    indexes_after_filling=True,
    recurses_by_union=False,
    counts_changes=False,
)


class SqlServerSession(SqlServerKnowledge):
    """One connection in one transaction."""

    catalogue: SqlServerCatalogue

    def __init__(self, connection: sa.Connection, mode: Mode) -> None:
        super().__init__(connection, TRAITS, mode)
        self.catalogue = SqlServerCatalogue(connection)

    def create_key_table(
        self, columns: Sequence[Column], unique: int, indexed: Sequence[Sequence[str]] = ()
    ) -> sa.TableClause:
        """Make a temporary table; texts keep the collation by which their column compares."""
        name = self._free_name("#yeldro_keys")
        declared = [
            " ".join(
                (
                    self._quote(each.name),
                    _temporary_type(each),
                    "NOT NULL" if place < unique else "NULL",
                )
            )
            for place, each in enumerate(columns)
        ]
        key = ", ".join(self._quote(each.name) for each in columns[:unique])
        self._execute(f"CREATE TABLE {name} ({', '.join(declared)}, PRIMARY KEY ({key}))")
        del indexed  # as in `add_index`
        return sa.table(name, *(sa.column(sql.quoted(each.name)) for each in columns))

    def add_index(self, key_table: sa.TableClause, columns: Sequence[str]) -> None:
        """Do nothing: a snapshot allows no index, and it only saves time."""

    def insert_rows(self, staged: sa.TableClause, rows: Sequence[tuple[Any, ...]]) -> None:
        """Write many rows into a statement."""
        for start in range(0, len(rows), ROWS_AT_ONCE):
            some = rows[start : start + ROWS_AT_ONCE]
            listed = ", ".join(f"({', '.join(map(literal, row))})" for row in some)
            sql.as_written(self.connection, f"INSERT INTO {staged.name} VALUES {listed}").close()

    def row_hash(self, table: Table, rows: sa.FromClause) -> sa.ColumnElement[Any]:
        return _sha256(self._hashes(table.stored_columns, rows))

    def contents_hash(
        self, columns: Sequence[Column], rows: sa.FromClause
    ) -> sa.ColumnElement[Any]:
        """Return the hash of the columns' hashes."""
        return _digits(_sha256(self._hashes(columns, rows)))

    def _hashes(self, columns: Sequence[Column], rows: sa.FromClause) -> sa.ColumnElement[Any]:
        """Return the hashes of several columns, one after another."""
        parts = [
            sa.func.coalesce(_digits(_sha256(values.as_text(rows.c[each.name], each))), "-")
            for each in columns
        ]
        first = values.converted(values.TEXT, parts[0])
        return sa.func.concat(first, "", *parts[1:])

    def remove_copies(self, table: Table, keys: sa.TableClause) -> int:
        """Remove the rows of each hash by a statement with a limit."""
        removed = 0
        listed = self.connection.execute(sa.select(keys.c[ROW_HASH.name], keys.c[COPIES.name]))
        for contents, copies in listed.all():
            is_this = self.row_hash(table, sql.rows_of(table)) == sa.literal(contents)
            removed += self._limited(sa.delete(sql.rows_of(table)).where(is_this), copies)
        return removed

    def change_one(
        self, table: Table, condition: sa.ColumnElement[bool], values: dict[Any, Any]
    ) -> int:
        return self._limited(sa.update(sql.rows_of(table)).where(condition).values(values), 1)

    def remove_one(self, table: Table, condition: sa.ColumnElement[bool]) -> int:
        return self._limited(sa.delete(sql.rows_of(table)).where(condition), 1)

    def _limited(self, statement: sa.Delete | sa.Update, rows: int) -> int:
        """Execute a statement for at most so many rows; return the number changed."""
        compiled = statement.compile(dialect=self.connection.dialect)
        word, _, rest = str(compiled).partition(" ")
        rest = rest.removeprefix("FROM ")
        text = f"{word} TOP ({rows}) {'FROM ' if word == 'DELETE' else ''}{rest}"
        counted = f"{text}; SELECT ROWCOUNT_BIG() AS yeldro_rows"
        return last_number(self.connection.exec_driver_sql(counted, compiled.construct_params()))

    def change_at_once(self, updates: Sequence[sa.Update]) -> list[int]:
        """Execute the only one.

        Raises:
            Refused: there are several, and the server checks each foreign key by itself.
        """
        if len(updates) > 1:
            raise Refused(
                "Rows of several tables would have to change in one statement, as their foreign "
                "keys lead in a circle, and SQL Server checks each statement by itself.",
                "Detach the rows of one of the tables first.",
            )
        return [self.connection.execute(each).rowcount for each in updates]

    def create_copy(
        self, name: TableName, table: Table, columns: Sequence[tuple[str, str]]
    ) -> None:
        listed = ", ".join(
            f"{self._quote(new)} {_temporary_type(table.by_name[own])} NULL" for new, own in columns
        )
        self._execute(f"CREATE TABLE {self._name(name)} ({listed})")

    def savepoint(self, name: str) -> None:
        """Name this point; until it is released an error undoes its own statement alone."""
        self._execute("SET XACT_ABORT OFF")
        self._execute(f"SAVE TRANSACTION {name}")

    def release(self, name: str) -> None:
        """Let an error undo everything again; the server forgets no savepoint."""
        del name
        self._execute("SET XACT_ABORT ON")

    def back_to(self, name: str) -> None:
        self._execute(f"ROLLBACK TRANSACTION {name}")

    def commit(self) -> None:
        """Commit, if the server has not ended the transaction meanwhile.

        Raises:
            CountMismatch: it has, or a trigger has begun another one within it.
        """
        depth = self.connection.exec_driver_sql("SELECT @@TRANCOUNT AS depth").scalar_one()
        if depth != 1:
            raise CountMismatch(
                f"The transaction that Yeldro began is not the one that is open now (its depth is "
                f"{depth}, not 1): a trigger has ended it, or begun another.",
                "Look at the triggers with ⟨survey⟩.",
            )
        super().commit()

    def put_back(self, rows: sa.TableClause, names: Sequence[str], query: sa.Select[Any]) -> int:
        """Insert rows; an identity column gets the values that it had."""
        insert = sa.insert(rows).from_select(sql.columns_of(rows, names), query)
        name = TableName(str(rows.name), str(rows.schema) if rows.schema else None)
        if not self.catalogue.has_identity(name):
            return self.connection.execute(insert).rowcount
        table = self._name(name)
        self._execute(f"SET IDENTITY_INSERT {table} ON")
        try:
            return self.connection.execute(insert).rowcount
        finally:
            if not self.connection.invalidated:
                self._execute(f"SET IDENTITY_INSERT {table} OFF")

    @property
    def emptying(self) -> SqlServerEmptying:
        return SqlServerEmptying(self)

    def lock_tables(self, locks: TableLocks) -> None:
        """Lock tables before the first row is read, so that no late change is missed."""
        for each in (locks.exclusive, *locks.unchanging):
            if each is not None:
                how = "TABLOCKX" if each == locks.exclusive else "TABLOCK"
                name = self._name(each)
                self._execute(f"SELECT TOP (1) 1 AS held FROM {name} WITH ({how}, HOLDLOCK)")
        self.locked_tables = frozenset(locks.unchanging)

    def lock_rows(
        self,
        rows: sa.TableClause,
        condition: sql.Predicate,
        values: Sequence[sa.ColumnElement[Any]],
    ) -> int:
        """Read the rows: in a serializable transaction what has been read stays as it is."""
        del values
        return sql.count(self.connection, rows, condition)

    def change_count(self) -> ChangeCount:
        """Return no number: the server tells a user none but a statement's own."""
        locked = self.catalogue.locked_for_writing()
        return ChangeCount(locked=None if locked is None else frozenset(map(str, locked)))

    def is_text(self, column: Column) -> bool:
        return values.is_letters(column)

    def is_empty(self, value: sa.ColumnElement[Any]) -> sql.Predicate:
        """True if the text has no bytes: LEN leaves blanks at the end out."""
        return sa.func.datalength(value) == 0

    def is_comparable(self, column: Column) -> bool:
        return values.is_known(column)

    def readable(self, value: sa.ColumnElement[Any], column: Column) -> sa.ColumnElement[Any]:
        return values.readable(value, column)

    def typed(self, value: sa.ColumnElement[Any], column: Column) -> sa.ColumnElement[Any]:
        return values.typed(value, column)

    def staging_type(self, column: Column) -> str:
        return values.staging_type(column)

    def is_as_it_was(
        self,
        value: sa.ColumnElement[Any],
        now: Column,
        stored: sa.ColumnElement[Any],
        then: Column,
    ) -> sql.Predicate:
        """Compare texts to their last blank; `=` leaves blanks at the end out."""
        found = values.readable(value, now)
        kinds = {values.staging_type(now), values.staging_type(then)}
        if kinds == {values.TEXT}:
            return values.same(found, stored)
        if len(kinds) > 1:
            return values.same(values.as_text(value, now), values.as_text(stored, then))
        return found.is_not_distinct_from(stored)

    def reason(self, error: sa.exc.DBAPIError) -> str:
        return errors.told(error)[1]

    def was_stopped(self, error: sa.exc.DBAPIError) -> bool:
        return errors.was_stopped(error)

    def may_be_committed(self, error: BaseException) -> bool:
        return errors.leaves_doubt(error)

    def row_refusal(self, error: sa.exc.DBAPIError) -> RowRefusal | None:
        return errors.row_refusal(error)

    def _execute(self, statement: str) -> None:
        """Execute a statement whose rows nobody reads; in names percent signs are doubled."""
        self.connection.exec_driver_sql(statement).close()


def _temporary_type(column: Column) -> str:
    """Return a type for a temporary column, whose default collation is another database's."""
    declared = {"double": "float"}.get(column.type, column.type)
    if values.is_letters(column):
        return f"{declared} COLLATE {column.collation or values.EXACT}"
    return declared


def _sha256(value: sa.ColumnElement[Any]) -> sa.ColumnElement[Any]:
    return sa.func.hashbytes(sa.literal_column("'SHA2_256'"), value)


def _digits(value: sa.ColumnElement[Any]) -> sa.ColumnElement[Any]:
    """Return bytes as text, in lower case as Python writes it."""
    return sa.func.lower(values.converted("varchar(64)", value, 2))
