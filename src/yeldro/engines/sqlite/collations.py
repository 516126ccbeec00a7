"""The collation that a value has, which no catalogue of SQLite tells, and values without any."""

from __future__ import annotations

from typing import Any

import sqlalchemy as sa

from yeldro.core.database import sql


def collation_of(connection: sa.Connection, table: str, expression: str) -> str:
    """Return the words that give another expression the same collation; empty for BINARY.

    A column of a compound query has that of the first part (sqlite.org/datatype3.html, 7.1).

    Args:
        table, expression: as they stand in statements.
    """
    inner = f"SELECT {expression} AS tried FROM {table} WHERE 0 UNION ALL SELECT 'a'"
    query = f"SELECT tried = 'A' AS blind, tried = 'a ' AS padded FROM ({inner})"
    found = dict(sql.as_written(connection, query).mappings().one())
    return " COLLATE NOCASE" if found["blind"] else " COLLATE RTRIM" if found["padded"] else ""


def stored_alike(left: sa.ColumnElement[Any], right: sa.ColumnElement[Any]) -> sql.Predicate:
    """True if two values are stored alike: of one kind, and texts the same in every byte."""
    same = sa.collate(left, "BINARY").is_not_distinct_from(right)
    return sa.and_(sa.func.typeof(left) == sa.func.typeof(right), same)
