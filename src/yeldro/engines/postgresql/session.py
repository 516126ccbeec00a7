"""One session on a PostgreSQL server: its statements, values, locks and counts."""

from __future__ import annotations

import logging
import re
from collections.abc import Sequence
from typing import TYPE_CHECKING, Any

import sqlalchemy as sa
from sqlalchemy.ext.compiler import compiles
from sqlalchemy.types import UserDefinedType

from yeldro.core.database import sql
from yeldro.core.database.facts import (
    ChangeCount,
    Mode,
    RowRefusal,
    SqlDialect,
    TableLocks,
    Traits,
)
from yeldro.core.database.identity import column_list
from yeldro.core.model.messages.errors import CountMismatch, MissingPrivilege, Refused
from yeldro.engines.postgresql.catalogue import ROW_ID, TABLE_ID, PostgresqlCatalogue
from yeldro.engines.postgresql.change_count import change_count
from yeldro.engines.postgresql.emptying import PostgresqlEmptying
from yeldro.engines.postgresql.knowledge import PostgresqlKnowledge

if TYPE_CHECKING:
    from yeldro.core.model.tables.schema import Column, ForeignKey, Table

_STORED_AS_THEY_ARE = {"smallint", "integer", "bigint", "text", "bytea", "character varying"}
_WITHOUT_ORDER = {"json", "xml", "point", "line", "lseg", "box", "path", "polygon", "circle",
                  "jsonpath", "txid_snapshot", "aclitem"}  # fmt: skip
# Settings that decide what names mean, and if triggers fire and keys are checked.
_DECISIVE = ("search_path", "session_replication_role", "row_security")
# postgresql.org/docs/current/datatype-oid.html
_NAMES_OF_NUMBERS = frozenset(
    f"reg{kind}" for kind in ("class", "collation", "config", "dictionary", "namespace", "oper",
                              "operator", "proc", "procedure", "role", "type")
)  # fmt: skip
# Types whose text depends on the time zone of a session.
_IN_TIME_ZONES = {"timestamp with time zone", "tstzrange", "tstzmultirange"}
_INTEGERS = {"smallint", "integer", "bigint"}
_IN_ARRAYS = 20_000_000  # about so many rows at most, as all keys of a group are in one array
# Classes of SQLSTATE: data, integrity, names in values, view checks, raised by a trigger.
_ABOUT_ROWS = ("22", "23", "42704", "42P01", "42883", "44", "P0")
_PRECISION = re.compile(r"\([0-9,]*\)")
_ALIKE = {
    **dict.fromkeys(("smallint", "integer", "bigint", "numeric", "real", "double precision"), "n"),
    **dict.fromkeys(("timestamp without time zone", "timestamp with time zone", "date"), "m"),
}
_OPERATOR, _CONNECTION = "57", "08"  # classes of SQLSTATE
_IN_AN_INDEX = 32  # columns at most
_IN_A_CALL = 90  # arguments of a function, of which there may be 100
_TOO_LONG = "54000"  # program_limit_exceeded: an index row


# Keep the driver's log of lost connections off the user's terminal.
logging.getLogger("psycopg").addHandler(logging.NullHandler())


def _numbered(column: Column) -> _Declared | None:
    """Return the type of the numbers that a column shows as names of the catalogue; else None.

    A name can come to mean another object, and several functions can have it; the number cannot.
    """
    if column.type.removesuffix("[]") not in _NAMES_OF_NUMBERS:
        return None
    return _Declared("oid[]" if column.type.endswith("[]") else "oid")


@compiles(sql.OnlyTable)
def _write_only(element: sql.OnlyTable, compiler: Any, **words: Any) -> str:
    written = str(compiler.visit_table(element, **words))
    return f"ONLY {written}" if words.get("asfrom") else written


TRAITS = Traits(
    name="PostgreSQL",
    sql_dialect=SqlDialect("postgres", lowers_names=True, has_at_operator=True),
    has_inheritance=True,
    own_numbers=_NAMES_OF_NUMBERS,
    indexes_after_filling=True,
    joins_in_deletions=True,
    joins_repeated_keys=True,
)


class _Declared(UserDefinedType[Any]):
    """A type in PostgreSQL's own words, for casts."""

    cache_ok = True

    def __init__(self, words: str) -> None:
        self.words = words

    def get_col_spec(self, **_: Any) -> str:
        return self.words


def _sha256(text: sa.ColumnElement[Any]) -> sa.ColumnElement[Any]:
    return sa.func.encode(sa.func.sha256(sa.func.convert_to(text, "UTF8")), "hex")


class PostgresqlSession(PostgresqlKnowledge):
    """One connection in one transaction."""

    catalogue: PostgresqlCatalogue

    def __init__(self, connection: sa.Connection, mode: Mode) -> None:
        super().__init__(connection, TRAITS, mode)
        self.catalogue = PostgresqlCatalogue(connection)
        self.has_committed = False
        self._settings: dict[str, Any] = {}

    def commit(self) -> None:
        self.has_committed = True
        super().commit()

    def may_be_committed(self, error: BaseException) -> bool:
        """True unless the server gives a reason other than an operator's request to stop."""
        state = getattr(getattr(error, "orig", None), "sqlstate", None) or _OPERATOR
        return state.startswith((_OPERATOR, _CONNECTION))

    def defer_checks(self, keys: Sequence[ForeignKey]) -> None:
        del keys
        self._ddl("SET CONSTRAINTS ALL DEFERRED")

    def run_deferred(self) -> None:
        """Run deferred triggers now, so that their changes are counted; then defer again."""
        self._ddl("SET CONSTRAINTS ALL IMMEDIATE")
        self._ddl("SET CONSTRAINTS ALL DEFERRED")

    def create_key_table(
        self, columns: Sequence[Column], unique: int, indexed: Sequence[Sequence[str]] = ()
    ) -> sa.TableClause:
        """Make a temporary table; system columns get other names, as tables cannot use theirs."""
        name = self._free_name()
        kept = [_key_column(column) for column in columns]
        declared = [
            f"{self._quote(stored.name)} {column.type}"
            + (f" COLLATE {column.collation}" if column.collation else "")
            for column, stored in zip(columns, kept, strict=True)
        ]
        key = ", ".join(self._quote(stored.name) for stored in kept[:unique])
        self._ddl(
            f"CREATE TEMP TABLE {name} ({', '.join(declared)}, PRIMARY KEY ({key})) ON COMMIT DROP"
        )
        made = sa.table(name, *kept, schema="pg_temp")
        for names in indexed:
            self.add_index(made, names)
        return made

    def note_surplus(
        self,
        keys: sa.TableClause,
        table: Table,
        values: Sequence[sa.ColumnElement[Any]],
        conditions: Sequence[sql.Predicate],
        keep_highest: bool,
    ) -> bool:
        """Use a GROUP BY, for which the server need not sort, if the key is an integer."""
        (column,) = column_list(table, table.identity.columns)
        if self.mode.plain or column.type not in _INTEGERS:
            return False
        rows = sql.rows_of(table)
        key = rows.c[column.name]
        ends = sa.select(sa.func.min(key), sa.func.max(key)).select_from(rows)
        lowest, highest = self.connection.execute(ends).one()
        if highest is None or highest - lowest > _IN_ARRAYS:
            return False
        each = sa.func.unnest(sa.func.array_agg(key)).label("yeldro_key")
        kept = (sa.func.max if keep_highest else sa.func.min)(key).label("yeldro_kept")
        grouped = sa.select(each, kept).where(*conditions).group_by(*values)
        several = grouped.having(sa.func.count() > 1).subquery("yeldro_several")
        found = sa.select(several).where(several.c.yeldro_key != several.c.yeldro_kept)
        insert = sa.insert(keys).from_select(list(keys.c), found.order_by(several.c.yeldro_key))
        self.connection.execute(insert)
        return True

    def insert_rows(self, staged: sa.TableClause, rows: Sequence[tuple[Any, ...]]) -> None:
        """Use COPY, which takes a fraction of the time of INSERT."""
        names = ", ".join(self._quote(column.name) for column in staged.c)
        statement = f"COPY pg_temp.{staged.name} ({names}) FROM STDIN"
        with self._driver() as raw, raw.cursor() as cursor, cursor.copy(statement) as copy:
            for row in rows:
                copy.write_row(row)

    def add_index(self, key_table: sa.TableClause, columns: Sequence[str]) -> None:
        """Make an index, unless values are too long for one; it only saves time."""
        listed = ", ".join(self._quote(key_table.c[name].name) for name in columns[:_IN_AN_INDEX])
        self._ddl("SAVEPOINT yeldro_index")
        try:
            self._ddl(f"CREATE INDEX ON pg_temp.{key_table.name} ({listed})")
        except sa.exc.DBAPIError as error:
            if getattr(error.orig, "sqlstate", "") != _TOO_LONG:
                raise
            self._ddl("ROLLBACK TO SAVEPOINT yeldro_index")
        self._ddl("RELEASE SAVEPOINT yeldro_index")

    def key_table_filled(self, key_table: sa.TableClause) -> None:
        """Give the planner statistics."""
        self._ddl(f"ANALYZE pg_temp.{key_table.name}")

    def referencing_value(
        self, value: sa.ColumnElement[Any], child: Column, parent: Column
    ) -> sa.ColumnElement[Any]:
        """Return the value with the parent's collation, by which PostgreSQL compares both sides."""
        if child.collation != parent.collation and parent.collation:
            return _collated(value, parent.collation)
        return value

    @property
    def emptying(self) -> PostgresqlEmptying:
        return PostgresqlEmptying(self, self.catalogue, self._free_name)

    def lock_tables(self, locks: TableLocks) -> None:
        """Lock tables before the first row is read, so that no late change is missed.

        Raises:
            Refused: this role may not lock one, or the server cannot.
        """
        if locks.exclusive:
            name = self._name(locks.exclusive)
            self.connection.exec_driver_sql(f"LOCK TABLE {name} IN ACCESS EXCLUSIVE MODE")
        for each in locks.unchanging:
            try:
                self.connection.exec_driver_sql(
                    f"LOCK TABLE {self._name(each)} IN SHARE ROW EXCLUSIVE MODE"
                )
            except sa.exc.ProgrammingError as error:
                raise MissingPrivilege(
                    f"Nobody else may change {each} meanwhile, as its rows decide what is done, "
                    f"and this role may not lock it: {self.reason(error)}.",
                    f"Ask for UPDATE or DELETE on {each}; or copy its rows into a table of your "
                    f"own and name that.",
                ) from error
        self.locked_tables = frozenset(locks.unchanging)

    def count_rows(self) -> None:
        """Make the server count the rows that this transaction changes; note its settings.

        Raises:
            Refused: it does not, and this role may not change that.
        """
        self._settings = self._decisive()
        if self.connection.exec_driver_sql("SHOW track_counts").scalar_one() == "on":
            return
        try:
            self.connection.exec_driver_sql("SET LOCAL track_counts = on")
        except sa.exc.ProgrammingError as error:
            raise Refused(
                "The setting track_counts is off, so the server does not count changed rows, and "
                "nothing could be proved.",
                "A superuser can turn it on: ALTER DATABASE … SET track_counts = on.",
            ) from error

    def can_lock_rows(self, table: Table) -> bool:
        """True if this role has UPDATE on some column, which FOR SHARE needs."""
        query = "SELECT has_any_column_privilege(%s::oid, 'UPDATE')"
        oid = self.catalogue.oid_of(table.name)
        return bool(self.connection.exec_driver_sql(query, (oid,)).scalar_one())

    def lock_rows(
        self,
        rows: sa.TableClause,
        condition: sql.Predicate,
        values: Sequence[sa.ColumnElement[Any]],
    ) -> int | None:
        """Lock with FOR SHARE, which prevents any change, and fails if somebody has made one."""
        del values
        query: sa.Select[Any] = sa.select(sa.literal_column("1").label("one"))
        query = query.select_from(rows).where(condition)
        held = query.with_for_update(read=True, of=rows).subquery("yeldro_held")
        return sql.count(self.connection, held)

    def change_at_once(self, updates: Sequence[sa.Update]) -> list[int]:
        """Use one statement, as keys are checked at its end (postgresql.org/docs, 7.8.4)."""
        if len(updates) == 1:
            return super().change_at_once(updates)
        changed = [
            each.returning(sa.literal_column("1").label("one")).cte(f"yeldro_changed_{place}")
            for place, each in enumerate(updates)
        ]
        counts = [
            sa.select(sa.func.count()).select_from(each).scalar_subquery() for each in changed
        ]
        return [int(rows) for rows in self.connection.execute(sa.select(*counts)).one()]

    def is_comparable(self, column: Column) -> bool:
        """True if the type has an order; types without one cannot be grouped either."""
        return column.type.partition("(")[0] not in _WITHOUT_ORDER

    def parameter(self, value: Any) -> Any:
        """Return a literal without a type, which takes the type of what it is compared with."""
        return None if value is None else str(value)

    def _decisive(self) -> dict[str, Any]:
        listed = ", ".join(f"pg_catalog.current_setting('{name}')" for name in _DECISIVE)
        values = self.connection.exec_driver_sql(f"SELECT {listed}").one()
        return dict(zip(_DECISIVE, values, strict=True))

    def change_count(self) -> ChangeCount:
        """Return the server's own count, as long as its settings are those of the beginning.

        Raises:
            CountMismatch: a trigger has changed what names mean, or if triggers fire.
        """
        for name, value in self._decisive().items():
            if value != self._settings[name]:
                raise CountMismatch(
                    f"A trigger has set {name} to {value}, and what is counted then is not sure.",
                    f"Let it set {name} back, or put SET {name} into its function's declaration.",
                )
        return change_count(self.connection, self.catalogue)

    def contents_hash(
        self, columns: Sequence[Column], rows: sa.FromClause
    ) -> sa.ColumnElement[Any]:
        """Return the hash of the columns' hashes; functions take at most 100 arguments."""
        parts = [
            sa.func.coalesce(_sha256(sa.cast(rows.c[column.name], sa.Text)), "-")
            for column in columns
        ]
        whole: sa.ColumnElement[Any] = parts[0]
        for start in range(0, len(parts), _IN_A_CALL):
            some = sa.func.concat(*parts[start : start + _IN_A_CALL])
            whole = sa.func.concat(whole, some) if start else some
        return _sha256(whole)

    def readable(self, value: sa.ColumnElement[Any], column: Column) -> sa.ColumnElement[Any]:
        """Return PostgreSQL's own text form, or the value if SQLite can hold it as it is."""
        if self.staging_type(column) != "text":
            return value
        if (number := _numbered(column)) is not None:
            value = sa.cast(value, number)
        text = sa.cast(value, sa.Text)
        return _collated(text, '"C"') if column.equates_texts else text

    def typed(self, value: sa.ColumnElement[Any], column: Column) -> sa.ColumnElement[Any]:
        if column.equates_texts and column.collation:
            return _collated(sa.cast(value, _Declared(column.type)), column.collation)
        if self.staging_type(column) != "text" or column.type == "text":
            return value
        if (number := _numbered(column)) is not None:
            value = sa.cast(value, number)
        return sa.cast(value, _Declared(column.type))

    def restated(self, value: sa.ColumnElement[Any], column: Column) -> sa.ColumnElement[Any]:
        """Write moments anew in the time zone of this session."""
        if _PRECISION.sub("", column.type).removesuffix("[]") not in _IN_TIME_ZONES:
            return value
        return self.readable(self.typed(value, column), column)

    def staging_type(self, column: Column) -> str:
        bare = column.type.partition("(")[0]
        return bare if bare in _STORED_AS_THEY_ARE else "text"

    def converted(
        self, value: sa.ColumnElement[Any], then: Column, now: Column
    ) -> sa.ColumnElement[Any]:
        """Cast numbers and times directly, and everything else through its text form."""
        typed = self.typed(value, then)
        if self._are_alike(then, now):
            return sa.cast(typed, _Declared(now.type))
        if self.staging_type(now) == self.staging_type(then):
            return self.typed(value, now)
        return sa.cast(sa.cast(typed, sa.Text), _Declared(now.type))

    def is_as_it_was(
        self,
        value: sa.ColumnElement[Any],
        now: Column,
        stored: sa.ColumnElement[Any],
        then: Column,
    ) -> sql.Predicate:
        """Compare numbers and times in their former type, and everything else by its text."""
        if then.type == now.type:
            return super().is_as_it_was(value, now, stored, then)
        if self._are_alike(then, now):
            was = self.readable(sa.cast(value, _Declared(then.type)), then)
            return was.is_not_distinct_from(self.restated(stored, then))
        if _numbered(then) is not None:
            stored = self.typed(stored, then)
        return sa.cast(value, sa.Text).is_not_distinct_from(sa.cast(stored, sa.Text))

    def _are_alike(self, then: Column, now: Column) -> bool:
        kinds = [_ALIKE.get(_PRECISION.sub("", each.type)) for each in (then, now)]
        return kinds[0] is not None and kinds[0] == kinds[1]

    def row_refusal(self, error: sa.exc.DBAPIError) -> RowRefusal | None:
        """Return a broken constraint, a value that does not fit, or what a trigger raises."""
        state = getattr(error.orig, "sqlstate", None) or ""
        if not state.startswith(_ABOUT_ROWS):
            return None
        told = getattr(error.orig, "diag", None)
        reason = (told and told.message_primary) or self.reason(error)
        detail = (told and told.message_detail) or ""
        constraint = (told and told.constraint_name) or ""
        return RowRefusal(f"{reason}{f' ({detail})' if detail else ''}", constraint)

    def put_back(self, rows: sa.TableClause, names: Sequence[str], query: sa.Select[Any]) -> int:
        """Insert rows; identity columns get the values they had."""
        prepared = query.compile(dialect=self.connection.dialect)
        table = self.connection.dialect.identifier_preparer.format_table(rows)
        head = f"INSERT INTO {table} ({', '.join(map(self._quote, names))})"
        statement = f"{head} OVERRIDING SYSTEM VALUE {prepared}"
        return self.connection.exec_driver_sql(statement, prepared.params).rowcount


def _key_column(column: Column) -> sa.ColumnClause[Any]:
    kept: sa.ColumnClause[Any] = sa.column(sql.quoted(column.name))
    if column in (ROW_ID, TABLE_ID):
        kept = sa.column(sql.quoted(f"yeldro_{column.name}"))
        kept.key = column.name
    return kept


def _collated(value: sa.ColumnElement[Any], collation: str) -> sa.ColumnElement[Any]:
    """Return a value with a collation, which is given as SQL and may be qualified."""
    return value.op("COLLATE")(sa.literal_column(collation))
