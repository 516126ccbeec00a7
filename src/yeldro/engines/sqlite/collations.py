"""The collation that a value has, which no catalogue of SQLite tells."""

from __future__ import annotations

from typing import TYPE_CHECKING

from yeldro.core.database import sql

if TYPE_CHECKING:
    import sqlalchemy as sa


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
