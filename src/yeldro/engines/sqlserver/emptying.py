"""Emptying a table at once, which SQL Server can roll back."""

from __future__ import annotations

from typing import TYPE_CHECKING

from yeldro.core.database import sql
from yeldro.core.database.facts import Consequences, Emptying
from yeldro.core.model.messages.errors import Fault

if TYPE_CHECKING:
    from yeldro.core.database.protocol import Session
    from yeldro.core.model.tables.schema import Table


class SqlServerEmptying:
    """TRUNCATE, where nothing references the table."""

    def __init__(self, session: Session) -> None:
        self._session = session

    def means(self, how: Emptying, table: Table) -> Consequences:
        """Forbid what other tables would notice, and what is not made for this system."""
        if how is not Emptying.TRUNCATE:
            return Consequences(("this way is not made for SQL Server yet",))
        referencing = self._session.catalogue.referencing(table.name)
        forbidden = tuple(f"{key} references it" for key in referencing)
        return Consequences(forbidden, notes=("An identity column begins at its seed again.",))

    def truncate(self, table: Table) -> None:
        """Empty a table."""
        connection = self._session.connection
        name = connection.dialect.identifier_preparer.format_table(sql.rows_of(table))
        connection.exec_driver_sql(f"TRUNCATE TABLE {name}")

    def keep_only(self, table: Table, stays: sql.Predicate) -> tuple[int, int, bool]:
        """Fail: it is refused before."""
        raise Fault(f"the rows of {table.name} that stay cannot be set aside: {stays}")

    def empty_partitions(self, table: Table, goes: sql.Predicate) -> int:
        """Fail: it is refused before."""
        raise Fault(f"no partition of {table.name} can be emptied: {goes}")
