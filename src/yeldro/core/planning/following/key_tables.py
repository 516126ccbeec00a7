"""The temporary key tables of one ripple: their columns, and what goes into them."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass, field
from typing import TYPE_CHECKING, Any

import sqlalchemy as sa

from yeldro.core.database import sql
from yeldro.core.database.identity import (
    COPIES,
    column_list,
    kept_columns,
    key_columns,
    key_values,
    scanned_in,
)
from yeldro.core.model.tables.schema import Column, IdentityKind, Table, TableName

if TYPE_CHECKING:
    from yeldro.core.database.protocol import Session
    from yeldro.core.planning.following.treatment import Link, Reach
    from yeldro.core.selection.selection import MatchedRows

WAVE = "yeldro_wave"


@dataclass
class KeyTables:
    """Key tables by table and use, each made when it is first needed.

    Args:
        start: the matched rows of the named table.
        extra: further columns of the named table for its key table.
        tells_kept: the named table's key table holds, for each row, the key of the row kept for it.
    """

    session: Session
    start: MatchedRows
    reach: Reach
    extra: tuple[str, ...]
    tells_kept: bool = False
    made: dict[tuple[TableName, str], sa.TableClause] = field(default_factory=dict)

    def table_for(self, table: Table, use: str = "", wave: bool = False) -> sa.TableClause:
        """Return the key table of a table, empty if it is new: its row key and referenced columns.

        Args:
            use: tells several key tables of one table apart.
            wave: with a column for the wave in which a row was found.
        """
        if (table.name, use) in self.made:
            return self.made[table.name, use]
        identity = key_columns(table)
        links = self.reach.links_to(table.name)
        wanted = [name for link in links for name in link.key.referenced_columns]
        wanted += [parts.told_by for link in links if (parts := link.key.parent_parts)]
        columns = list(identity)
        if table.name == self.start.table.name:
            wanted += () if self.tells_kept else self.extra
            if self.start.copies is not None:
                columns.append(COPIES)
                wanted = [column.name for column in table.stored_columns]
        taken = {column.name for column in columns}
        columns += column_list(table, [name for name in dict.fromkeys(wanted) if name not in taken])
        if table.name == self.start.table.name and self.tells_kept:
            columns += kept_columns(table)
        if wave:
            columns.append(Column(WAVE, "integer", nullable=False))
        indexed = [[WAVE]] if wave else []
        keys = self.session.create_key_table(columns, len(identity), indexed)
        self.made[table.name, use] = keys
        return keys

    def table_of_detached(self, link: Link) -> sa.TableClause:
        """Return the key table of the rows that a link detaches, empty if it is new."""
        use = f"detached by {link.key.name}"
        if (link.key.child, use) not in self.made:
            identity = key_columns(self.session.catalogue.table(link.key.child))
            keys = self.session.create_key_table(identity, len(identity))
            self.made[link.key.child, use] = keys
        return self.made[link.key.child, use]

    def values(
        self, table: Table, rows: sa.FromClause, keys: sa.TableClause
    ) -> dict[str, sa.ColumnElement[Any]]:
        """Return the values for a key table's columns, without the columns it adds itself."""
        names = [column.name for column in key_columns(table)]
        values = dict(zip(names, key_values(self.session, table, rows), strict=True))
        marks = {WAVE, COPIES.name, *(column.name for column in kept_columns(table))}
        more = [name for name in keys.c.keys() if name not in (*names, *marks)]  # noqa: SIM118
        return values | {name: rows.c[name] for name in more}

    def insert(self, keys: sa.TableClause, names: Sequence[str], rows: sa.Select[Any]) -> int:
        """Add the rows of a query to a key table; return their number."""
        insert = sa.insert(keys).from_select(sql.columns_of(keys, names), rows)
        added = sql.inserted(self.session.connection, insert)
        if added:
            self.session.key_table_filled(keys)
        return added

    def count(self, table: Table, keys: sa.FromClause, held: int) -> int:
        """Return the number of rows that `held` entries of a key table stand for."""
        if table.identity.kind is not IdentityKind.ALL_COLUMNS:
            return held
        rows = sql.rows_of(table)
        return sql.count(self.session.connection, rows, scanned_in(self.session, table, rows, keys))


def once(table: Table, query: sa.Select[Any]) -> sa.Select[Any]:
    """Return the query without repetitions if identical rows share an entry in a key table."""
    return query.distinct() if table.identity.kind is IdentityKind.ALL_COLUMNS else query
