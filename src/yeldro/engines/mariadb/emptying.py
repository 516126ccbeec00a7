"""Emptying a table or its partitions at once, which commits by itself."""

from __future__ import annotations

from typing import TYPE_CHECKING

import sqlalchemy as sa

from yeldro.core.database import sql
from yeldro.core.database.facts import Consequences, Emptying
from yeldro.core.model.messages.errors import UNCHANGED, DatabaseFailure, Fault, Refused

if TYPE_CHECKING:
    from yeldro.core.database.protocol import Session
    from yeldro.core.model.tables.schema import Table
    from yeldro.engines.mariadb.catalogue import MariadbCatalogue

_COUNTERS = """
SELECT COLUMN_NAME FROM information_schema.COLUMNS
WHERE TABLE_SCHEMA = %s AND TABLE_NAME = %s AND EXTRA LIKE '%%auto_increment%%'
"""
_PARTITIONS = """
SELECT DISTINCT PARTITION_NAME FROM information_schema.PARTITIONS
WHERE TABLE_SCHEMA = %s AND TABLE_NAME = %s AND PARTITION_NAME IS NOT NULL ORDER BY 1
"""
_COMMITS = (
    "TRUNCATE commits by itself: nothing can be rolled back, and the receipt is on disk before."
)


class MariadbEmptying:
    """Ways to remove many rows of a table at once; none can be rolled back."""

    def __init__(self, session: Session, catalogue: MariadbCatalogue) -> None:
        self._session = session
        self._catalogue = catalogue
        self._connection = session.connection

    def means(self, how: Emptying, table: Table) -> Consequences:
        """Note that the server commits before and after, and resets counters."""
        if how is Emptying.KEEP_SURVIVORS:
            return Consequences(("MariaDB would commit when it is emptied, and the rest later",))
        notes = [_COMMITS]
        if how is Emptying.BY_PARTITION:
            forbidden = () if self._partitions(table) else ("it has no partitions",)
            return Consequences(forbidden, commits_by_itself=True, notes=tuple(notes))
        place = self._catalogue.place_of(table.name)
        counters = self._connection.exec_driver_sql(_COUNTERS, place)
        notes += [f"The counter of {name} begins at 1 again." for (name,) in counters]
        return Consequences(commits_by_itself=True, notes=tuple(notes))

    def truncate(self, table: Table) -> None:
        """Empty a table; the server does that completely or not at all.

        Raises:
            DatabaseFailure: nothing was done.
        """
        rows = sql.rows_of(table)
        name = self._connection.dialect.identifier_preparer.format_table(rows)
        try:
            self._connection.exec_driver_sql(f"TRUNCATE TABLE {name}")
        except sa.exc.DBAPIError as error:
            if error.connection_invalidated or not sql.count(self._connection, rows):
                raise
            raise DatabaseFailure(
                f"{table.name} could not be truncated: {self._session.reason(error)}.",
                "Drop ‹truncate›: ‹all_rows› alone removes the same rows by DELETE.",
                data=UNCHANGED,
            ) from error

    def keep_only(self, table: Table, stays: sql.Predicate) -> tuple[int, int, bool]:
        """Fail: it is refused before."""
        raise Fault(f"the rows of {table.name} that stay cannot be set aside: {stays}")

    def empty_partitions(self, table: Table, goes: sql.Predicate) -> int:
        """Empty the partitions by one statement, which must take all rows that go.

        Raises:
            Refused: rows go from a partition in which others stay; nothing was done.
        """
        rows = sql.rows_of(table)
        quote = self._connection.dialect.identifier_preparer.quote_identifier
        emptied, going = [], 0
        for name in self._partitions(table):
            counts = sa.select(sa.func.count(), sa.func.sum(sa.case((goes, 1), else_=0)))
            counts = counts.select_from(rows).with_hint(rows, f"PARTITION ({quote(name)})")
            present, gone = self._connection.execute(counts).one()
            if gone and present > gone:
                raise Refused(
                    f"{gone:,} of the {present:,} rows in the partition {name} of {table.name} go, "
                    f"and emptying the others would be committed before these.",
                    "Choose whole partitions, or drop ‹by_partition›: the rows go by DELETE then.",
                    data=UNCHANGED,
                )
            if gone:
                emptied.append(quote(name))
                going += present
        if emptied:
            written = self._connection.dialect.identifier_preparer.format_table(rows)
            self._connection.exec_driver_sql(
                f"ALTER TABLE {written} TRUNCATE PARTITION {', '.join(emptied)}"
            )
        return going

    def _partitions(self, table: Table) -> list[str]:
        """Return the outermost partitions of a table."""
        place = self._catalogue.place_of(table.name)
        return [name for (name,) in self._connection.exec_driver_sql(_PARTITIONS, place)]
