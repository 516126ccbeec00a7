"""SQL as expressions: the one place where names of tables and columns become parts of statements.

Identifiers are always quoted by the dialect, and values are always bound.
"""

from __future__ import annotations

import zlib
from collections.abc import Callable, Collection, Iterable, Mapping, Sequence
from itertools import zip_longest
from typing import TYPE_CHECKING, Any

import sqlalchemy as sa
from sqlalchemy.ext.compiler import compiles
from sqlalchemy.sql.elements import quoted_name
from sqlalchemy.sql.functions import FunctionElement

from yeldro.core.model.messages.errors import Fault

if TYPE_CHECKING:
    from yeldro.core.model.tables.schema import ForeignKey, Parts, Table, TableName

_LONGEST_NUMBER = 30  # characters; MariaDB takes a double to have 22 at the most, and some have 23
_CLAUSE = "_rows_of_it"  # kept with the table
_IN_BRACKETS = 100

Predicate = sa.ColumnElement[bool]


def quoted(name: str) -> quoted_name:
    """Return a name that every dialect puts in its own quotes, whatever it is made of."""
    return quoted_name(name, quote=True)


def written(connection: sa.Connection, name: TableName) -> str:
    """Return a table's name as people type it in a statement, in quotes only if it needs them."""
    quote = connection.dialect.identifier_preparer.quote
    parts = [quote(part) for part in (name.schema, name.name) if part]
    return ".".join(parts).replace("%%", "%")


def table_clause(name: TableName, columns: Iterable[str], *, only: bool = False) -> sa.TableClause:
    """Return a table with the named columns, to be selected from, removed from or changed.

    Args:
        only: without the tables that inherit from it.
    """
    return (OnlyTable if only else sa.table)(
        quoted(name.name),
        *(sa.column(quoted(column)) for column in columns),
        schema=quoted(name.schema) if name.schema else None,
    )


def rows_of(table: Table) -> sa.TableClause:
    """Return the rows of a table, with its columns and its physical row id where there is one.

    The same table always gives the same object: parts of a statement fit together only if they
    refer to one object.
    """
    known: sa.TableClause | None = vars(table).get(_CLAUSE)
    if known is None:
        columns = (column.name for column in (*table.columns, *table.row_id_columns))
        known = vars(table)[_CLAUSE] = table_clause(table.name, columns, only=bool(table.heirs))
    return known


def with_heirs(table: Table) -> sa.TableClause:
    """Return the rows of a table and of all that inherit from it, to be looked at."""
    return table_clause(table.name, [column.name for column in table.columns])


class OnlyTable(sa.TableClause):
    """A table without those that inherit from it, as the engine that knows heirs writes it."""

    inherit_cache = True


def columns_of(source: sa.FromClause, names: Sequence[str]) -> list[sa.ColumnElement[Any]]:
    """Return the columns of these names, in this order."""
    return [source.c[name] for name in names]


def among(columns: Sequence[sa.ColumnElement[Any]], rows: sa.Select[Any]) -> Predicate:
    """True if the columns' values stand in `rows`; a NULL among them never does."""
    if len(columns) == 1:
        return columns[0].in_(rows)
    return sa.tuple_(*columns).in_(rows)


def parents_of(key: ForeignKey, parent: Table) -> sa.FromClause:
    """Return the parent table beside the child's rows, under a name of its own for each key."""
    return rows_of(parent).alias(parent_alias(key))


def parent_alias(key: ForeignKey) -> str:
    """Return the name under which `parents_of` looks at the parent table."""
    return f"yeldro_parent_{zlib.crc32(key.name.encode()):08x}"


def in_groups(conditions: Sequence[Predicate]) -> list[Predicate]:
    """Return the same conditions, a hundred at a time in brackets.

    SQLite takes no expression deeper than 1,000, and each AND is a level (sqlite.org/limits.html).
    """
    if len(conditions) <= _IN_BRACKETS:
        return list(conditions)
    return [
        sa.sql.elements.Grouping(sa.and_(*conditions[start : start + _IN_BRACKETS]))
        for start in range(0, len(conditions), _IN_BRACKETS)
    ]


def in_parts(rows: sa.FromClause, parts: Parts | None) -> list[Predicate]:
    """Return the condition that a row lives in one of these partitions; none if none are named."""
    return [rows.c[parts.told_by].in_(parts.ids)] if parts else []


def left_alone(
    table: Table, rows: sa.TableClause, changed: Collection[str]
) -> dict[sa.ColumnElement[Any], sa.ColumnElement[Any]]:
    """Return assignments that keep the columns unchanged that the database would update."""
    kept = [each.name for each in table.columns if each.changes_itself and each.name not in changed]
    return {rows.c[name]: rows.c[name] for name in kept}


def contents(
    values: Iterable[sa.ColumnElement[Any]],
) -> list[sa.ColumnElement[Any]]:
    """Return what rows without a key are compared by: text forms in which NULL equals NULL."""
    parts: list[sa.ColumnElement[Any]] = []
    for value in values:
        text = sa.String(_LONGEST_NUMBER) if isinstance(value.type, sa.Double) else sa.Text()
        parts += [value.is_(None), sa.func.coalesce(sa.cast(value, text), "")]
    return parts


def bound(
    text: str, names: Iterable[str], values: Mapping[str, Any], form: Callable[[Any], Any]
) -> sa.TextClause:
    """Return SQL with its `:name` parameters bound to values.

    Args:
        names: the parameters that it uses.
        form: returns a value as the driver takes it.
    """
    binds: list[sa.BindParameter[Any]] = [
        sa.bindparam(name, form(values[name]), sa.types.NullType()) for name in sorted(names)
    ]
    return sa.text(text).bindparams(*binds)


def count(connection: sa.Connection, source: sa.FromClause, *conditions: Predicate) -> int:
    """Return the number of rows of `source` that meet all conditions."""
    query = sa.select(sa.func.count()).select_from(source).where(*conditions)
    return int(connection.execute(query).scalar_one())


def fails(check: str) -> Predicate:
    """Return a condition that rows of a table meet which do not meet one of its own checks.

    Args:
        check: SQL as the catalogue shows it, over columns without their table.
    """
    return sa.literal_column(f"NOT ({check})", sa.Boolean)


def as_written(connection: sa.Connection, statement: str) -> sa.CursorResult[Any]:
    """Execute a statement without parameters, in which a percent sign is one."""
    return connection.exec_driver_sql(statement, execution_options={"no_parameters": True})


def sizes(connection: sa.Connection, tables: Iterable[Table]) -> dict[TableName, int]:
    """Return the number of rows of each table, by statements that need not be composed."""
    written_as = connection.dialect.identifier_preparer.format_table
    found: dict[TableName, int] = {}
    for table in {table.name: table for table in tables}.values():
        if table.heirs:
            found[table.name] = count(connection, rows_of(table))
            continue
        name = written_as(rows_of(table)).replace("%%", "%")
        query = f"SELECT count(*) FROM {name}"
        found[table.name] = int(as_written(connection, query).scalar_one())
    return found


def inserted(connection: sa.Connection, statement: sa.Insert) -> int:
    """Execute an INSERT from a query; return the number of rows inserted."""
    options = {"preserve_rowcount": True}
    rows = int(connection.execute(statement, execution_options=options).rowcount)
    if rows < 0:
        raise Fault(f"the driver does not tell how many rows were inserted: {statement}")
    return rows


class Composed(FunctionElement[Any]):
    """An expression that a user wrote, over columns of whatever holds them.

    Args:
        pieces: the SQL around the columns, one piece more than there are columns.
    """

    inherit_cache = False

    def __init__(self, pieces: Sequence[str], columns: Sequence[sa.ColumnElement[Any]]) -> None:
        super().__init__(*columns)
        self.pieces = tuple(pieces)


@compiles(Composed)
def _composed(element: Composed, compiler: Any, **settings: Any) -> str:
    columns = (compiler.process(each, **settings) for each in element.clauses)
    return woven(map(compiler.escape_literal_column, element.pieces), columns)


def woven(pieces: Iterable[str], columns: Iterable[str]) -> str:
    """Return the SQL of an expression: the columns between its pieces."""
    return "".join(part for pair in zip_longest(pieces, columns, fillvalue="") for part in pair)
