"""One session on a MariaDB server: its statements, values, locks and counts."""

from __future__ import annotations

import json
from collections.abc import Iterator, Sequence
from contextlib import contextmanager
from dataclasses import replace
from typing import TYPE_CHECKING, Any

import sqlalchemy as sa

from yeldro.core.database import sql
from yeldro.core.database.facts import (
    ChangeCount,
    Mode,
    RowRefusal,
    TableLocks,
    Traits,
)
from yeldro.core.database.identity import COPIES, ROW_HASH
from yeldro.core.model.messages.errors import ROLLED_BACK, DatabaseFailure, Fault, Refused
from yeldro.engines.mariadb import literals, reading, values
from yeldro.engines.mariadb.catalogue import MariadbCatalogue
from yeldro.engines.mariadb.connection import set_up
from yeldro.engines.mariadb.dialect import DIALECT
from yeldro.engines.mariadb.emptying import MariadbEmptying
from yeldro.engines.mariadb.encoding import HalfPairs
from yeldro.engines.mariadb.errors import (
    DEADLOCK,
    LOCK_WAIT,
    leaves_doubt,
    row_refusal,
    tells_of_a_stop,
    told,
)
from yeldro.engines.mariadb.knowledge import MariadbKnowledge

if TYPE_CHECKING:
    from yeldro.core.model.tables.schema import Column, Table, TableName

_COUNTS = """SHOW SESSION STATUS
    WHERE Variable_name IN ('Handler_delete', 'Handler_update', 'Handler_write')"""
_LOOKING = "START TRANSACTION WITH CONSISTENT SNAPSHOT, READ ONLY"


TRAITS = Traits(
    name="MariaDB",
    sql_dialect=DIALECT,
    core_checks_foreign_keys=True,
    has_transactional_ddl=False,
)


class MariadbSession(MariadbKnowledge):
    """One connection in one transaction."""

    def __init__(self, connection: sa.Connection, database: str, mode: Mode) -> None:
        super().__init__(connection, TRAITS, mode)
        self.catalogue = MariadbCatalogue(connection, database)
        self.tells_changes = True
        self._has_looked = False
        self._copies: list[TableName] = []

    def setting(self, name: str) -> Any:
        """Return a session variable, None if this server does not have it."""
        row = self.connection.exec_driver_sql(f"SHOW SESSION VARIABLES LIKE '{name}'").first()
        if row is None:
            return None
        return row[1] if row[1] not in ("ON", "OFF") else row[1] == "ON"

    def set(self, name: str, value: float) -> None:
        """Set a session variable."""
        self.connection.exec_driver_sql(f"SET SESSION {name} = {value}")

    def _fetched(self, cursor: Any, size: int) -> Sequence[Sequence[Any]]:
        with self._driver():
            return reading.fetched(cursor, size)

    def look_only(self) -> None:
        """Begin a transaction that cannot change a table of the user's."""
        self.traits = replace(self.traits, needs_key_tables_first=True)
        self.connection.exec_driver_sql(_LOOKING)

    def create_key_table(
        self, columns: Sequence[Column], unique: int, indexed: Sequence[Sequence[str]] = ()
    ) -> sa.TableClause:
        """Make a temporary table, under a name that no table of the user's has.

        Its indexes are made with it: CREATE INDEX commits the transaction, even on such a table.
        """
        name = self._free_name()
        declared = [
            " ".join(
                (
                    self._quote(each.name),
                    values.declared_type(each),
                    "NOT NULL" if place < unique else "NULL",
                )
            )
            for place, each in enumerate(columns)
        ]
        key = ", ".join(self._quote(column.name) for column in columns[:unique])
        hashed = any(values.is_long(column.type) for column in columns[:unique])
        declared.append(f"{'UNIQUE' if hashed else 'PRIMARY'} KEY ({key})")
        types = {column.name: column.type for column in columns}
        for names in indexed:  # on the beginning of long texts
            parts = [f"{self._quote(each)}{'(64)' if values.is_long(types[each]) else ''}"
                     for each in names[:16]]  # fmt: skip
            declared.append(f"KEY ({', '.join(parts)})")
        self._ddl(f"CREATE TEMPORARY TABLE {name} ({', '.join(declared)}) ENGINE = InnoDB")
        return sa.table(name, *(
            sa.column(sql.quoted(each.name), sa.Double() if each.type == "double" else None)
            for each in columns
        ))  # fmt: skip

    def insert_rows(self, staged: sa.TableClause, rows: Sequence[tuple[Any, ...]]) -> None:
        """Write many rows into a statement: the driver's own way takes several times as long."""
        insert = f"INSERT INTO {staged.name} VALUES "
        for some in literals.statements(rows):
            sql.as_written(self.connection, insert + some)

    def add_index(self, key_table: sa.TableClause, columns: Sequence[str]) -> None:
        """Fail: it would commit the transaction."""
        raise Fault(f"an index of {key_table.name} is made too late: {', '.join(columns)}")

    def key_table_filled(self, key_table: sa.TableClause) -> None:
        """Note that the transaction has read rows, so it must not be begun anew."""
        del key_table
        self._has_looked = True

    def row_hash(self, table: Table, rows: sa.FromClause) -> sa.ColumnElement[Any]:
        return sa.func.unhex(self.contents_hash(table.stored_columns, rows))

    def contents_hash(
        self, columns: Sequence[Column], rows: sa.FromClause
    ) -> sa.ColumnElement[Any]:
        """Return the hash of the columns' hashes."""
        parts = [
            sa.func.ifnull(sa.func.sha2(self.readable(rows.c[column.name], column), 256), "-")
            for column in columns
        ]
        return sa.func.sha2(sa.func.concat(*parts), 256)

    def locking_read(self, query: sa.Select[Any]) -> sa.Select[Any]:
        """Return a locking read: it sees what others have committed, or fails if they have."""
        return query.with_for_update()

    def key_driven(self, statement: sa.Delete | sa.Update) -> sa.Delete | sa.Update:
        """Return the form for several tables: with a subquery the plain form reads all rows.

        Without one the plain form takes a third of the time for many rows.
        """
        if isinstance(statement, sa.Delete):
            if not _has_subquery(statement):
                return statement
            return statement.prefix_with(self._as_prefix(statement.table))
        one = sa.select(sa.literal_column("1").label("one")).subquery("yeldro_one")
        return statement.where(one.c.one == 1)

    def remove_copies(self, table: Table, keys: sa.TableClause) -> int:
        """Remove the rows of each hash by a statement with a limit, which can use any index."""
        rows = sql.rows_of(table)
        names = [column.name for column in table.stored_columns]
        removed = 0
        for contents, copies in self.connection.execute(
            sa.select(keys.c[ROW_HASH.name], keys.c[COPIES.name])
        ).all():
            is_this = keys.c[ROW_HASH.name] == contents
            equal = [
                rows.c[name].is_not_distinct_from(
                    sa.select(keys.c[name]).where(is_this).scalar_subquery()
                )
                for name in names
            ]
            statement = sa.delete(rows).where(*equal, self.row_hash(table, rows) == contents)
            limited = statement.with_dialect_options(mariadb_limit=copies)
            removed += self.connection.execute(limited).rowcount
        return removed

    def change_one(
        self, table: Table, condition: sa.ColumnElement[bool], values: dict[Any, Any]
    ) -> int:
        rows = sql.rows_of(table)
        statement = sa.update(rows).where(condition).values(values)
        limited = statement.with_dialect_options(mariadb_limit=1)
        return self.connection.execute(limited).rowcount

    def create_copy(
        self, name: TableName, table: Table, columns: Sequence[tuple[str, str]]
    ) -> None:
        """Make it on another connection, as the server commits when a table is made."""
        with self.connection.engine.connect() as another:
            set_up(another)
            another.exec_driver_sql(self._copy_statement(name, table, columns))
        self._copies.append(name)

    def commit(self) -> None:
        try:
            super().commit()
        except BaseException as error:
            if self.may_be_committed(error):
                self._copies = []
            raise
        self._copies = []

    def roll_back(self) -> None:
        """Drop the tables made for copies, which are empty again."""
        super().roll_back()
        while self._copies and not self.connection.invalidated:
            self.connection.exec_driver_sql(f"DROP TABLE {self._name(self._copies.pop())}")

    def remove_one(self, table: Table, condition: sa.ColumnElement[bool]) -> int:
        statement = sa.delete(sql.rows_of(table)).where(condition)
        limited = statement.with_dialect_options(mariadb_limit=1)
        return self.connection.execute(limited).rowcount

    def lock_tables(self, locks: TableLocks) -> None:
        """Lock tables before the first row is read, so that no late change is missed.

        All rows of a table that must not change are read with locks, and so are the gaps between
        them, so that no row can be added.

        Raises:
            Refused: the table has no transactions, and so no such locks.
        """
        if locks.exclusive and locks.unchanging:
            raise Refused(
                f"{locks.unchanging[0]} decides which rows of {locks.exclusive} go, and while that "
                f"is emptied MariaDB lets nothing else be read.",
                "Choose the rows by their own columns, or drop ‹by_partition›: they go by DELETE "
                "then.",
            )
        if locks.exclusive:
            self._be_alone_in(self.catalogue.table(locks.exclusive))
        for each in locks.unchanging:
            table = self.catalogue.table(each)
            if table.kind == "table" and not table.transactional:
                raise Refused(
                    f"{each} decides which rows go, and has no transactions: nothing keeps it "
                    f"from changing meanwhile.",
                    f"Convert it with ALTER TABLE {self._written(table)} ENGINE = InnoDB, or copy "
                    f"its rows into a table that has them and name that.",
                )
            query = sa.select(sa.func.count()).select_from(sql.rows_of(table))
            self.connection.execute(query.with_for_update(read=True))
        self.locked_tables = frozenset(locks.unchanging)

    def lock_rows(
        self,
        rows: sa.TableClause,
        condition: sql.Predicate,
        values: Sequence[sa.ColumnElement[Any]],
    ) -> int | None:
        """Do a locking read; without snapshot isolation, compare it with what was read before."""
        number = sa.func.count()
        contents = sa.func.bit_xor(sa.func.crc32(sa.func.concat_ws("-", *values)))
        query = sa.select(number, contents).select_from(rows).where(condition)
        if self.tells_changes:
            query = sa.select(number).select_from(rows).where(condition)
        held = self.connection.execute(query.with_for_update(read=True)).one()
        if not self.tells_changes and held != self.connection.execute(query).one():
            raise DatabaseFailure(
                "Somebody changed these rows at the same time.",
                "Look at the rows again, then run it again.",
                data=ROLLED_BACK,
            )
        return int(held[0])

    def _be_alone_in(self, table: Table) -> None:
        """Lock a table alone; all other tables that are read must be named too, by alias."""
        name = self._name(table.name)
        locks = [f"{name} WRITE"]
        for key in table.foreign_keys:
            how = "WRITE" if key.parent == table.name else "READ"
            locks.append(f"{self._name(key.parent)} AS {sql.parent_alias(key)} {how}")
        self.connection.exec_driver_sql(f"LOCK TABLES {', '.join(locks)}")

    @property
    def emptying(self) -> MariadbEmptying:
        return MariadbEmptying(self, self.catalogue)

    @contextmanager
    def letting_the_system_check(self) -> Iterator[None]:
        """Turn InnoDB's own checks on, which see tables that this user does not."""
        self.set("foreign_key_checks", 1)
        try:
            yield
        finally:
            if not self.connection.invalidated:
                self.set("foreign_key_checks", 0)

    def reason(self, error: sa.exc.DBAPIError) -> str:
        return told(error)[1]

    def was_stopped(self, error: sa.exc.DBAPIError) -> bool:
        return tells_of_a_stop(error) or told(error)[0] in (LOCK_WAIT, DEADLOCK)

    def may_be_committed(self, error: BaseException) -> bool:
        return leaves_doubt(error)

    def is_text(self, column: Column) -> bool:
        return values.is_letters(column)

    def grouped(self, value: sa.ColumnElement[Any], column: Column) -> sa.ColumnElement[Any]:
        """Return a hash if sorting would compare only a part of the value."""
        if not values.may_be_cut(column):
            return value
        if values.is_hashed_exactly(column):
            return values.collation_hash(value)
        self._check_length(sa.select(sa.literal_column("1")), value, column.name)
        return value

    def check_order(self, rows: sa.FromClause, value: sa.ColumnElement[Any]) -> None:
        """Check the lengths; numbers and times have no weight string, and are never that long."""
        name = value.name if isinstance(value, sa.ColumnClause) else str(value)
        self._check_length(sa.select(sa.literal_column("1")).select_from(rows), value, name)

    def _check_length(self, rows: sa.Select[Any], value: sa.ColumnElement[Any], name: str) -> None:
        cut = sa.func.length(sa.func.weight_string(value)) > values.SORTED_BYTES
        if self.connection.execute(rows.where(cut).limit(1)).first():
            raise Refused(
                f"MariaDB sorts by the first {values.SORTED_BYTES:,} bytes of a value, and some of "
                f"{name} are longer.",
                "Name another column, or a part of it, such as left(…, 200).",
            )

    def change_count(self) -> ChangeCount:
        """Return the rows changed in total, by triggers too, but not by InnoDB's own cascades."""
        counts = self.connection.exec_driver_sql(_COUNTS).all()
        total = sum(int(value) for _, value in counts)
        return ChangeCount(total=total, times=self.catalogue.counted_twice)

    def readable(self, value: sa.ColumnElement[Any], column: Column) -> sa.ColumnElement[Any]:
        return values.readable(value, column)

    def typed(self, value: sa.ColumnElement[Any], column: Column) -> sa.ColumnElement[Any]:
        return values.typed(value, column)

    def stored(self, rows: Sequence[Sequence[Any]]) -> Sequence[Sequence[Any]]:
        """Return the rows, with text that is not valid UTF-8 as bytes that are marked as text."""
        if not HalfPairs.seen:
            return super().stored(rows)
        return [(*map(_bytes_of_half_pairs, row), _forms_of(row)) for row in rows]

    def restored(self, value: Any, form: str) -> sa.ColumnElement[Any]:
        if form != "text":
            return super().restored(value, form)
        return values.text_of_bytes(sa.literal(value, sa.LargeBinary))

    def staging_type(self, column: Column) -> str:
        return values.staging_type(column)

    def is_as_it_was(
        self,
        value: sa.ColumnElement[Any],
        now: Column,
        stored: sa.ColumnElement[Any],
        then: Column,
    ) -> sql.Predicate:
        if then.type == now.type:
            return super().is_as_it_was(value, now, stored, then)
        return values.is_as_it_was(value, now, stored, then)

    def row_refusal(self, error: sa.exc.DBAPIError) -> RowRefusal | None:
        return row_refusal(error)

    def _as_prefix(self, table: Any) -> str:
        """Return a table's name as text in which the library finds no parameters or formats."""
        written = self.connection.dialect.identifier_preparer.format_table(table)
        return written.replace("%%", "%").replace(":", "\\:")

    def _ddl(self, statement: str) -> None:
        """Make a temporary table, which a read-only transaction does not allow.

        If the system is to check each statement, waves need key tables later on, so not all rows
        are read from one snapshot.
        """
        if not self.traits.needs_key_tables_first:
            self.connection.exec_driver_sql(statement)
            return
        late = "a key table was made after rows had been read"
        if self._has_looked and not self.mode.checked_by_system:
            raise Fault(late)
        self.connection.exec_driver_sql("COMMIT")  # which keeps the rows of temporary tables
        self.connection.exec_driver_sql(statement)
        self.connection.exec_driver_sql(_LOOKING)


def _has_half_pair(value: Any) -> bool:
    return isinstance(value, str) and any("\ud800" <= each <= "\udfff" for each in value)


def _bytes_of_half_pairs(value: Any) -> Any:
    return value.encode("utf-8", "surrogatepass") if _has_half_pair(value) else value


def _forms_of(row: Sequence[Any]) -> str | None:
    forms = {place: "text" for place, value in enumerate(row) if _has_half_pair(value)}
    return json.dumps(forms) if forms else None


def _has_subquery(statement: sa.Delete) -> bool:
    """True if a statement may read another table, or its own once more."""
    return any(
        isinstance(part, sa.SelectBase)
        or (isinstance(part, sa.TextClause) and "select" in part.text.lower())
        for part in sa.sql.visitors.iterate(statement)
    )
