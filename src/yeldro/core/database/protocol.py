"""What the core needs from a database system; each package in `yeldro.engines` provides it.

A session is one object. Its protocol is declared in parts, each with one subject: a function can
say which part it needs, and the author of an engine can go through them one by one.
"""

from __future__ import annotations

from collections.abc import Collection, Generator, Mapping, Sequence
from contextlib import AbstractContextManager
from typing import TYPE_CHECKING, Any, Protocol

from yeldro.core.database.facts import NOTHING, USUAL, Mode, TableLocks

if TYPE_CHECKING:
    from pathlib import Path

    import sqlalchemy as sa

    from yeldro.core.database.compared import Compared
    from yeldro.core.database.facts import (
        ChangeCount,
        Consequences,
        Emptying,
        LastingEffect,
        Partition,
        Prevention,
        RowRefusal,
        Traits,
    )
    from yeldro.core.database.sql import Predicate
    from yeldro.core.model.tables.equality import EqualityRules
    from yeldro.core.model.tables.schema import Column, ForeignKey, Table, TableName


class Catalogue(Protocol):
    """A database's catalogue, each part of it read once and only if it is asked for."""

    def table_names(self) -> tuple[TableName, ...]:
        """Return every table and view of the user's, sorted."""

    def has_table(self, name: TableName) -> bool:
        """True if there is a table of exactly this name, in whichever schema it names."""

    def table(self, name: TableName) -> Table:
        """Return the table of exactly this name."""

    def referencing(self, parent: TableName) -> tuple[ForeignKey, ...]:
        """Return the foreign keys, of any table, that reference `parent`."""

    def places(self) -> Mapping[tuple[str, str], TableName]:
        """Return the tables by schema and name, as a statement writes them apart."""

    def part_names(self) -> tuple[TableName, ...]:
        """Return the partitions, which count as part of their table and are not among its names."""

    def part_of(self, name: TableName) -> Partition | None:
        """Return the table of which this one is a partition, None where it is none."""

    def view_query(self, name: TableName) -> str:
        """Return the SELECT that defines a view, or the statement that created it."""

    def loose_foreign_keys(self) -> tuple[str, ...]:
        """Return declared foreign keys whose parent table or columns do not exist, as text."""


class KeyTables(Protocol):
    """Temporary tables that hold the keys of rows, and rows that were stored."""

    def create_key_table(
        self, columns: Sequence[Column], unique: int, indexed: Sequence[Sequence[str]] = ()
    ) -> sa.TableClause:
        """Make an empty temporary table; the first `unique` of the columns are its key.

        Args:
            indexed: other columns by which its rows are looked up, for each index.
        """

    def insert_rows(
        self, staged: sa.TableClause, rows: Sequence[tuple[int | float | str | bytes | None, ...]]
    ) -> None:
        """Put rows into a temporary table; each has a value for every column, in their order."""

    def opened(self, file: Path) -> str:
        """Return the name under which statements can read an SQLite file; empty if they cannot."""

    def insert_query(self, staged: sa.TableClause, query: str) -> int:
        """Put the rows of a query on an opened file into a temporary table; return their number.

        Args:
            query: as the file's own system reads it.
        """

    def key_table_filled(self, key_table: sa.TableClause) -> None:
        """Note that a temporary table has been filled, so that the planner gets statistics."""

    def add_index(self, key_table: sa.TableClause, columns: Sequence[str]) -> None:
        """Make `columns` of a filled temporary table quick to look up."""

    def note_surplus(
        self,
        keys: sa.TableClause,
        table: Table,
        values: Sequence[sa.ColumnElement[Any]],
        conditions: Sequence[sa.ColumnElement[bool]],
        keep_highest: bool,
    ) -> bool:
        """Put the surplus rows of each group into a key table, if there is a quick way.

        Args:
            keys: its columns are the rows' only key column, and that of the row kept for each.
            values: what the rows of `table` agree in that are in one group.
            conditions: what must hold of a row so that it is in a group.
            keep_highest: the row with the highest key of each group is kept, else the lowest.

        Returns:
            True if it was done; otherwise the caller numbers all rows.
        """

    def staging_type(self, column: Column) -> str:
        """Return the type of a temporary column that holds what `readable` gives."""


class Values(Protocol):
    """How values are compared, read, stored and written back."""

    def referencing_value(
        self, value: sa.ColumnElement[Any], child: Column, parent: Column
    ) -> sa.ColumnElement[Any]:
        """Return `value` of the `child` column, compared as the foreign key compares it."""

    def is_text(self, column: Column) -> bool:
        """True if a column holds text, which case and spaces can tell apart."""

    def is_empty(self, value: sa.ColumnElement[Any]) -> sa.ColumnElement[bool]:
        """True if a value of a text column has no character."""

    def is_comparable(self, column: Column) -> bool:
        """True if the system knows when two values of a column are equal, and which is less."""

    def grouped(self, value: sa.ColumnElement[Any], column: Column) -> sa.ColumnElement[Any]:
        """Return a column's value in the form by which the system groups equal ones without fail.

        Args:
            value: the column, or what is compared in its place.
        """

    def check_order(self, rows: sa.FromClause, value: sa.ColumnElement[Any]) -> None:
        """Make sure that the system can order all rows by a value.

        Raises:
            Refused: it compares only the beginning of some value.
        """

    def without_case(self, value: sa.ColumnElement[Any]) -> sa.ColumnElement[Any]:
        """Return text folded to one case."""

    def row_hash(self, table: Table, rows: sa.FromClause) -> sa.ColumnElement[Any]:
        """Return the hash of a whole row, for tables without a row key."""

    def contents_hash(
        self, columns: Sequence[Column], rows: sa.FromClause
    ) -> sa.ColumnElement[Any]:
        """Return a SHA-256 hash, in digits, of what rows hold in some columns; NULL equals NULL.

        Args:
            rows: hold columns of these names.
        """

    def parameter(self, value: Any) -> Any:
        """Return a parameter's value as it is bound."""

    def readable(self, value: sa.ColumnElement[Any], column: Column) -> sa.ColumnElement[Any]:
        """Return `value` of the column as it is selected so that nothing is lost on the way."""

    def typed(self, value: sa.ColumnElement[Any], column: Column) -> sa.ColumnElement[Any]:
        """Return a value that `readable` gave as one of the column's own type again."""

    def converted(
        self, value: sa.ColumnElement[Any], then: Column, now: Column
    ) -> sa.ColumnElement[Any]:
        """Return a value that `readable` gave for a column's former type as one of its type now."""

    def is_as_it_was(
        self,
        value: sa.ColumnElement[Any],
        now: Column,
        stored: sa.ColumnElement[Any],
        then: Column,
    ) -> sa.ColumnElement[bool]:
        """True if a column holds what `readable` stored once, in the same form, or NULL as then."""

    def in_parts(
        self, query: sa.Select[Any], size: int
    ) -> Generator[Sequence[Sequence[Any]], None, None]:
        """Yield the rows of a query as the driver gives them, at most `size`, fewer if long."""

    def stored(self, rows: Sequence[Sequence[Any]]) -> Sequence[Sequence[Any]]:
        """Return selected rows as a receipt holds them.

        Returns:
            The rows as they are, if SQLite has types for all values. Otherwise each row with one
            more value: a JSON object from position to form for those values that SQLite has no
            type for, None if it has for all.
        """

    def restated(self, value: sa.ColumnElement[Any], column: Column) -> sa.ColumnElement[Any]:
        """Return a staged value as `readable` gives it in this session, whoever stored it."""

    def restored(self, value: Any, form: str) -> sa.ColumnElement[Any]:
        """Return a receipt's value of this form as this system takes it back."""


class RowChanges(Protocol):
    """Statements that change rows, in the form in which the system carries them out best."""

    def defer_checks(self, keys: Sequence[ForeignKey]) -> None:
        """Make the system check these deferrable foreign keys at the commit."""

    def run_deferred(self) -> None:
        """Make the system run the checks and triggers now that it deferred until the commit."""

    def key_driven(self, statement: sa.Delete | sa.Update) -> sa.Delete | sa.Update:
        """Return the statement in the form that looks rows up by the rows of a key table."""

    def change_at_once(self, updates: Sequence[sa.Update]) -> list[int]:
        """Change rows of several tables so that nothing is checked before all of it is done.

        Returns:
            The number of rows that each has changed.
        """

    def remove_copies(self, table: Table, keys: sa.TableClause) -> int:
        """Remove as many rows of each row hash as `keys` says; return the number removed."""

    def change_one(
        self, table: Table, condition: sa.ColumnElement[bool], values: dict[Any, Any]
    ) -> int:
        """Change one of the rows that meet a condition; return the number changed, 0 or 1."""

    def remove_one(self, table: Table, condition: sa.ColumnElement[bool]) -> int:
        """Remove one of the rows that meet a condition; return the number removed, 0 or 1."""

    def create_copy(
        self, name: TableName, table: Table, columns: Sequence[tuple[str, str]]
    ) -> None:
        """Make an empty table that is gone again when the transaction is rolled back.

        Args:
            columns: the new table's names, each with the column of `table` that it is like.
        """

    def put_back(self, rows: sa.TableClause, names: Sequence[str], query: sa.Select[Any]) -> int:
        """Insert rows that were removed, with their keys even where the system generates keys.

        Args:
            names: the columns of `rows` that the columns of `query` go into.

        Returns:
            The number of rows inserted.
        """

    def restorable_row_id(self, table: Table) -> str | None:
        """Return the physical row id if a row can be put back under the one it had."""

    def letting_the_system_check(self) -> AbstractContextManager[None]:
        """Let the system refuse dangling references in unseen tables, while this lasts."""

    def change_count(self) -> ChangeCount:
        """Return the rows changed by this session so far, triggers and cascades included.

        It is asked for before the first change of a cleanup, and after the last.
        """


class RowLocks(Protocol):
    """Rows and tables that other sessions must leave as they are."""

    def locking_read(self, query: sa.Select[Any]) -> sa.Select[Any]:
        """Return the query with row locks: its rows stay as found until the transaction ends."""

    @property
    def locked_tables(self) -> frozenset[TableName]:
        """The tables that were locked before the first look at a row."""

    def can_lock_rows(self, table: Table) -> bool:
        """True if this user may lock single rows of a table; else it is to be locked whole."""

    def lock_rows(
        self,
        rows: sa.TableClause,
        condition: sa.ColumnElement[bool],
        values: Sequence[sa.ColumnElement[Any]],
    ) -> int | None:
        """Keep others from changing or removing rows until the transaction is over.

        Args:
            values: what the rows must have kept of what this transaction has seen of them.

        Returns:
            The number of rows held, None where nobody else can change a row anyway.

        Raises:
            DBAPIError: somebody has changed one of them since this transaction saw it.
        """


class EmptyingTables(Protocol):
    """Ways to remove many rows of a table at once; nobody else can use the table meanwhile."""

    def means(self, how: Emptying, table: Table) -> Consequences:
        """Return what it means to empty a table in this way, or what forbids it."""

    def truncate(self, table: Table) -> None:
        """Empty a table."""

    def keep_only(self, table: Table, stays: Predicate) -> tuple[int, int, bool]:
        """Remove all rows but some: set these aside, empty the table, and write them back.

        Returns:
            The numbers of rows before and afterwards, and if those that stay are all as they were.
        """

    def empty_partitions(self, table: Table, goes: Predicate) -> int:
        """Empty each partition of which all rows go; return the number of these rows."""


class Knowledge(Protocol):
    """What the system knows and forbids, and what cannot be undone."""

    @property
    def emptying(self) -> EmptyingTables:
        """The ways to remove many rows of a table at once."""

    def unseen_references(self, table: Table) -> tuple[str, ...] | None:
        """Return the tables that reference `table` and that this user does not see.

        None where the system does not tell this user whether there are any.
        """

    def lasting_effects(self, table: Table, event: str) -> tuple[LastingEffect, ...]:
        """Return what triggers of a table can do that is not rolled back, as far as their text
        tells.

        Args:
            event: insert, update or delete of rows of `table`.
        """

    def event_triggers(self) -> tuple[str, ...]:
        """Return the triggers that are fired when a temporary table is made."""

    def why_not_inserted(self, table: Table) -> str:
        """Return why no row can be inserted into a table from here; empty if nothing is known."""

    def unrestorable(self, table: Table) -> Sequence[tuple[str, sa.ColumnElement[bool]]]:
        """Return which rows the system may not take back: in words, and as a condition."""

    def missing_privileges(
        self, wanted: Sequence[tuple[Table, Collection[str] | None]]
    ) -> list[str]:
        """Return the privileges that this user lacks.

        Args:
            wanted: tables, each with the columns that would be changed, or None where rows would
                be removed.

        Returns:
            Each privilege and its table, such as `DELETE on reading`.
        """

    def making_transactional(self, table: Table) -> str:
        """Return the statement that gives transactions to a table that has none."""

    def is_free_of_side_effects(self, function: str) -> bool:
        """True if a function known to the database can neither write nor reach outside it."""

    def volatile_among(
        self, functions: Collection[str], operators: Collection[str], types: Collection[str]
    ) -> str:
        """Return one of these, in words, that may have side effects; empty where none may.

        Args:
            functions, operators, types: what an expression calls, uses and casts to.
        """

    def prevention(
        self, table: Table, by: Sequence[Compared], same: EqualityRules
    ) -> Prevention | None:
        """Return what would have kept duplicates out; None where nothing the system has does.

        If it holds expressions, the system has taken it on a trial that leaves nothing.
        """

    def dropping(self, table: Table, constraint: str) -> str:
        """Return the statement that drops a constraint or unique index by name."""

    def notes(self) -> tuple[str, ...]:
        """Return what people should know of this database before they remove rows, as sentences."""


class Errors(Protocol):
    """What an error of the driver means."""

    def reason(self, error: sa.exc.DBAPIError) -> str:
        """Return the system's own words for an error, in one line."""

    def was_stopped(self, error: sa.exc.DBAPIError) -> bool:
        """True if the statement itself is not the reason.

        It was stopped by its time limit or by somebody, or the server has no room for it.
        """

    def may_be_committed(self, error: BaseException) -> bool:
        """True if a commit that ended with this error may have taken effect all the same.

        The server can have committed when its answer is lost on the way.
        """

    def row_refusal(self, error: sa.exc.DBAPIError) -> RowRefusal | None:
        """Return what the database has against a row; None if the error is about something else."""


class Session(KeyTables, Values, RowChanges, RowLocks, Knowledge, Errors, Protocol):
    """One connection to one database, reading or writing, in one transaction."""

    @property
    def connection(self) -> sa.Connection:
        """The connection that the core's statements are executed on."""

    @property
    def catalogue(self) -> Catalogue:
        """The catalogue as this transaction sees it."""

    @property
    def traits(self) -> Traits:
        """What the system is like, in this session's mode."""

    def time_zone(self) -> str:
        """Return the time zone in which the session reads times, in the system's words."""

    def looking(self) -> AbstractContextManager[None]:
        """Make the system refuse statements that would change a user's table, while this lasts."""

    def savepoint(self, name: str) -> None:
        """Name this point of the transaction, to go back to."""

    def release(self, name: str) -> None:
        """Forget a savepoint; what was done since stays."""

    def back_to(self, name: str) -> None:
        """Undo what was done since a savepoint, which stays."""

    def commit(self) -> None:
        """Make the transaction's changes permanent."""

    def roll_back(self) -> None:
        """Undo the transaction's changes."""


class Database(Protocol):
    """A database that can be opened."""

    @property
    def shown(self) -> str:
        """Its URL as people may see it, without a password."""

    def create(self) -> AbstractContextManager[sa.Connection]:
        """Open a plain connection that makes tables and fills them; it is committed at the end."""

    def reading(self, mode: Mode = USUAL) -> AbstractContextManager[Session]:
        """Open a session that cannot change any table of the user's, by the system's own means."""

    @property
    def traits(self) -> Traits:
        """What the system is like."""

    def writing(
        self, lock_wait: float, locks: TableLocks = NOTHING, mode: Mode = USUAL
    ) -> AbstractContextManager[Session]:
        """Open a session in a transaction that other writers wait for; it is rolled back unless
        committed.

        Args:
            lock_wait: seconds to wait for other sessions' locks.
            locks: what is locked before the first look at a row.

        Raises:
            Refused: a table cannot be held.
        """

    def keep_connection(self) -> None:
        """Let sessions use one connection in turn, where the system can, until it is closed."""

    def close(self) -> None:
        """Close the connection that is kept; the next session opens another."""

    def limit_statements(self, seconds: float) -> None:
        """Make every session opened from now on stop a statement that takes longer."""
