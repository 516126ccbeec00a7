"""The collation that a column has, which no catalogue of SQLite tells."""

from __future__ import annotations

from typing import TYPE_CHECKING

if TYPE_CHECKING:
    import sqlalchemy as sa


def collation_of(connection: sa.Connection, table: str, column: str) -> str:
    """Return the words that give an expression the collation of a column; empty for BINARY.

    A column of a compound query has that of the first part (sqlite.org/datatype3.html, 7.1).

    Args:
        table, column: as they stand in statements.
    """
    inner = f"SELECT {column} FROM {table} WHERE 0 UNION ALL SELECT 'a'"
    query = f"SELECT {column} = 'A', {column} = 'a ' FROM ({inner})"
    blind, padded = connection.exec_driver_sql(query).one()
    return " COLLATE NOCASE" if blind else " COLLATE RTRIM" if padded else ""
