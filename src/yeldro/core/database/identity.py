"""Telling a row from all others: by key, by physical row id, or by everything it holds.

Where a table has neither a key nor a row id, nobody can tell equal rows apart; a key table then
holds the hash of their contents, in which NULL equals NULL.
"""

from __future__ import annotations

from collections.abc import Iterable, Sequence
from typing import TYPE_CHECKING, Any

import sqlalchemy as sa

from yeldro.core.database import sql
from yeldro.core.model.tables.schema import Column, IdentityKind, Table

if TYPE_CHECKING:
    from yeldro.core.database.protocol import Session

ROW_HASH = Column("yeldro_row_hash", "binary(32)", nullable=False)
COPIES = Column("yeldro_copies", "bigint", nullable=False)


def kept_columns(table: Table) -> list[Column]:
    """Return columns for the key of the row that a group keeps, to stand beside a row that goes."""
    return [
        Column(f"yeldro_kept_{place}", column.type, collation=column.collation)
        for place, column in enumerate(column_list(table, table.identity.columns))
    ]


def key_columns(table: Table) -> list[Column]:
    """Return the columns of a key table that tell the rows of `table` apart."""
    if table.identity.kind is IdentityKind.ALL_COLUMNS:
        return [ROW_HASH]
    return column_list(table, table.identity.columns)


def column_list(table: Table, names: Iterable[str]) -> list[Column]:
    """Return the columns of these names, physical row ids among them."""
    hidden = {column.name: column for column in table.row_id_columns}
    return [table.by_name.get(name) or hidden[name] for name in names]


def computed_columns(table: Table) -> list[Column]:
    """Return the generated columns whose value a row comes back with."""
    return [column for column in table.columns if column.generated and not column.varies]


def key_values(session: Session, table: Table, rows: sa.FromClause) -> list[sa.ColumnElement[Any]]:
    """Return what tells a row of `rows`, which is `table` or an alias of it, from all others."""
    if table.identity.kind is IdentityKind.ALL_COLUMNS:
        return [session.row_hash(table, rows)]
    return sql.columns_of(rows, table.identity.columns)


def keys_in(table: Table, keys: sa.FromClause) -> list[sa.ColumnElement[Any]]:
    """Return the columns of the key table `keys` that tell the rows of `table` apart."""
    return sql.columns_of(keys, [column.name for column in key_columns(table)])


def copies_of_rows(
    session: Session,
    table: Table,
    copies: sa.FromClause,
    values: Sequence[sa.ColumnElement[Any]],
    *conditions: sql.Predicate,
) -> sa.Select[Any]:
    """Return a query for `values` of the first rows of each set of identical ones.

    Args:
        copies: row hashes, each with a number of rows.
    """
    rows = sql.rows_of(table)
    contents = session.row_hash(table, rows)
    named = [value.label(f"yeldro_value_{place}") for place, value in enumerate(values)]
    nth = sa.func.row_number().over(partition_by=copies.c[ROW_HASH.name]).label("yeldro_nth")
    numbered = (
        sa.select(*named, nth, copies.c[COPIES.name])
        .select_from(rows.join(copies, contents == copies.c[ROW_HASH.name]))
        .where(*conditions)
        .subquery("yeldro_numbered_copies")
    )
    chosen = [numbered.c[f"yeldro_value_{place}"] for place in range(len(values))]
    return sa.select(*chosen).where(numbered.c.yeldro_nth <= numbered.c[COPIES.name])


def scanned_in(
    session: Session, table: Table, rows: sa.FromClause, keys: sa.FromClause
) -> sql.Predicate:
    """True if a row is in a key table, as a list that the database can scan."""
    return sql.among(key_values(session, table, rows), sa.select(*keys_in(table, keys)))


def looked_up_in(
    session: Session, table: Table, rows: sa.FromClause, keys: sa.FromClause
) -> sql.Predicate:
    """True if a row is in a key table, looked up for one row at a time."""
    values = key_values(session, table, rows)
    pairs = (key == value for key, value in zip(keys_in(table, keys), values, strict=True))
    return sa.exists(sa.select(sa.literal(1)).select_from(keys).where(*pairs).correlate(rows))
