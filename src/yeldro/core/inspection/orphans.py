"""Rows that have a foreign key and no parent row."""

from __future__ import annotations

from dataclasses import dataclass
from typing import TYPE_CHECKING, Any

import sqlalchemy as sa

from yeldro.core.database import sql
from yeldro.core.database.catalogue import find_table
from yeldro.core.database.references import without_parent
from yeldro.core.model.messages.activity import announce

if TYPE_CHECKING:
    from yeldro.core.database.protocol import Session
    from yeldro.core.model.tables.schema import ForeignKey


@dataclass(frozen=True)
class Orphans:
    """The rows of one foreign key's child table that have no parent row.

    Args:
        columns, sample: a few of these rows: their row key and the foreign key's columns.
    """

    foreign_key: ForeignKey
    rows: int
    columns: tuple[str, ...]
    sample: tuple[tuple[Any, ...], ...]


def find_orphans(session: Session, typed: str | None, most_rows: int) -> tuple[Orphans, ...]:
    """Return the foreign keys of the table `typed`, or of all tables, with their orphans.

    Args:
        most_rows: how many rows to return for each foreign key.

    Raises:
        UsageError: the table does not exist.
    """
    if typed is None:
        tables = [session.catalogue.table(name) for name in session.catalogue.table_names()]
    else:
        tables = [find_table(session.catalogue, typed)]
    found: list[Orphans] = []
    keys = sum(len(table.foreign_keys) for table in tables)
    for table in tables:
        rows = sql.rows_of(table)
        for key in table.foreign_keys:
            announce("searching", table.name, len(found) + 1, keys)
            orphaned = without_parent(key, rows, session.catalogue.table(key.parent))
            number = sql.count(session.connection, rows, orphaned)
            columns = tuple(dict.fromkeys((*table.identity.columns, *key.columns)))
            query = sa.select(*sql.columns_of(rows, columns)).where(orphaned).limit(most_rows)
            sample = session.connection.execute(query).all() if number else []
            found.append(Orphans(key, number, columns, tuple(tuple(row) for row in sample)))
    return tuple(found)
