"""Removing most rows of a table by writing back those that stay."""

from __future__ import annotations

from collections.abc import Callable
from typing import TYPE_CHECKING

import sqlalchemy as sa

from yeldro.core.database import sql
from yeldro.core.database.facts import Consequences, Emptying
from yeldro.core.model.messages.errors import Fault
from yeldro.engines.sqlite.collations import stored_alike

if TYPE_CHECKING:
    from yeldro.core.database.protocol import Session
    from yeldro.core.model.tables.schema import Table

_COST_OF_WRITING = 4  # measured with two indexes


class SqliteEmptying:
    """The way to remove most rows of a table at once.

    Args:
        free_name: gives a name for a temporary table.
    """

    def __init__(self, session: Session, free_name: Callable[[str], str]) -> None:
        self._session = session
        self._free_name = free_name
        self._connection = session.connection

    def means(self, how: Emptying, table: Table) -> Consequences:
        """Forbid what SQLite does not have, and what hides a row id that could not be kept."""
        if how is Emptying.TRUNCATE:
            return Consequences(("SQLite has no TRUNCATE",))
        if how is Emptying.BY_PARTITION:
            return Consequences(("SQLite has no partitions",))
        if not self._key(table):
            return Consequences(("its columns take every name of the row id",))
        # No foreign key is checked meanwhile.
        return Consequences(beside_others=True, cost_of_writing=_COST_OF_WRITING)

    def truncate(self, table: Table) -> None:
        """Fail: it is refused before."""
        raise Fault(f"{table.name} cannot be truncated")

    def empty_partitions(self, table: Table, goes: sql.Predicate) -> int:
        """Fail: it is refused before."""
        raise Fault(f"{table.name} has no partitions: {goes}")

    def keep_only(self, table: Table, stays: sql.Predicate) -> tuple[int, int, bool]:
        """Set the rows that stay aside as they are stored, with their row ids.

        SQLite empties a table without looking at its rows (sqlite.org/lang_delete.html, the
        truncate optimization), and does not convert what it reads from columns without a type.
        """
        rows = sql.rows_of(table)
        columns = [column.name for column in table.columns]
        own = self._session.restorable_row_id(table)
        names = [*([own] if own else []), *columns]
        name = self._free_name("yeldro_survivors")
        aside = sa.table(name, *(sa.column(f"c{n}") for n in range(len(names))), schema="temp")
        listed = ", ".join(aside.c.keys())
        self._connection.exec_driver_sql(f"CREATE TEMP TABLE {name} ({listed})")
        query = sa.select(*sql.columns_of(rows, names)).where(stays)
        kept = sql.inserted(self._connection, sa.insert(aside).from_select(list(aside.c), query))
        removed = self._connection.execute(sa.delete(rows)).rowcount
        held = dict(zip(names, aside.c, strict=True))
        stored = {column.name for column in table.stored_columns} | ({own} if own else set())
        written = [name for name in names if name in stored]
        back = self._session.put_back(
            rows, written, sa.select(*(held[name] for name in written)).order_by(*list(aside.c)[:1])
        )
        same = [rows.c[name] == held[name] for name in self._key(table)]
        same += [stored_alike(rows.c[name], held[name]) for name in names]
        found = sql.count(self._connection, rows.join(aside, sa.and_(*same)))
        as_before = kept == back == found == sql.count(self._connection, rows)
        self._connection.exec_driver_sql(f"DROP TABLE temp.{name}")
        return removed, kept, as_before

    def _key(self, table: Table) -> tuple[str, ...]:
        """Return the columns by which a row is found: its row id, or the key of its table."""
        own = self._session.restorable_row_id(table)
        if own:
            return (own,)
        return table.key
