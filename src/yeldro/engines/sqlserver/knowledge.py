"""What a SQL Server knows and forbids, and what cannot be undone there."""

from __future__ import annotations

from collections.abc import Collection, Sequence
from contextlib import AbstractContextManager, nullcontext
from typing import TYPE_CHECKING

from yeldro.core.database import sql
from yeldro.core.database.facts import Prevention
from yeldro.engines.sqlserver.catalogue import SqlServerCatalogue
from yeldro.engines.sqlserver.dialect import FREE_OF_SIDE_EFFECTS
from yeldro.engines.standard import StandardSession, refused_by

if TYPE_CHECKING:
    from yeldro.core.database.compared import Compared
    from yeldro.core.database.facts import LastingEffect
    from yeldro.core.model.tables.equality import EqualityRules
    from yeldro.core.model.tables.schema import Table

_NO_SNAPSHOTS = (
    "this database allows no snapshots, so numbers that are read one after another may be of "
    "different moments; ALTER DATABASE … SET ALLOW_SNAPSHOT_ISOLATION ON allows them"
)


class SqlServerKnowledge(StandardSession):
    """What is asked of the server before rows change."""

    catalogue: SqlServerCatalogue
    sees_one_moment = True

    def looking(self) -> AbstractContextManager[None]:
        """Do nothing: what a filter may call cannot write."""
        return nullcontext()

    def unseen_references(self, table: Table) -> tuple[str, ...]:
        """Return nothing: a user who does not see every table opens no session that changes."""
        del table
        return ()

    def lasting_effects(self, table: Table, event: str) -> tuple[LastingEffect, ...]:
        """Return nothing: every enabled trigger must be named, as nobody counts what it does."""
        del table, event
        return ()

    def event_triggers(self) -> tuple[str, ...]:
        """Return nothing: no trigger is fired by a new temporary table."""
        return ()

    def unrestorable(self, table: Table) -> Sequence[tuple[str, sql.Predicate]]:
        """Return the rows that do not meet a check which was made without looking at them."""
        return refused_by(self.catalogue.unproved_checks(table.name))

    def time_zone(self) -> str:
        """Return the server's; sessions have none of their own."""
        query = "SELECT CONVERT(nvarchar(40), SYSDATETIMEOFFSET(), 121) AS now"
        return str(self.connection.exec_driver_sql(query).scalar_one()).rpartition(" ")[2]

    def missing_privileges(
        self, wanted: Sequence[tuple[Table, Collection[str] | None]]
    ) -> list[str]:
        missing = []
        for table, changed in wanted:
            if changed is None:
                if not self._may(table, "DELETE"):
                    missing.append(f"DELETE on {table.name}")
                continue
            denied = [name for name in changed if not self._may(table, "UPDATE", name)]
            if denied:
                missing.append(f"UPDATE ({', '.join(denied)}) on {table.name}")
        return missing

    def _may(self, table: Table, privilege: str, column: str | None = None) -> bool:
        """True if this user has a privilege, on a column if one is given."""
        place = ".".join(map(self._quote, self.catalogue.place_of(table.name)))
        if column is None:
            query = "SELECT HAS_PERMS_BY_NAME(%s, 'OBJECT', %s) AS may"
            return bool(self.catalogue.rows(query, place, privilege)[0][0])
        query = "SELECT HAS_PERMS_BY_NAME(%s, 'OBJECT', %s, %s, 'COLUMN') AS may"
        return bool(self.catalogue.rows(query, place, privilege, column)[0][0])

    def prevention(
        self, table: Table, by: Sequence[Compared], same: EqualityRules
    ) -> Prevention | None:
        """Return a unique index, in which NULL equals NULL, unless it leaves NULL out.

        There is none for expressions, as SQL Server indexes columns only.
        """
        columns = [table.by_name[each.column] for each in by if each.column]
        loose = any(self.is_text(each) and (same.trim or same.ignore_case) for each in columns)
        if len(columns) < len(by) or loose:
            return None
        listed = ", ".join(self._plain(each.name) for each in columns)
        nulls = [self._plain(each.name) for each in columns if each.nullable]
        apart = " AND ".join(f"{name} IS NOT NULL" for name in nulls if same.null_distinct)
        filtered = f" WHERE {apart}" if apart else ""
        return Prevention(f"CREATE UNIQUE INDEX {self._constraint(table, by)} ({listed}){filtered}")

    def is_free_of_side_effects(self, function: str) -> bool:
        """True for built-in functions that compute."""
        return function.lower() in FREE_OF_SIDE_EFFECTS.split()

    def dropping(self, table: Table, constraint: str) -> str:
        query = (
            "SELECT count(*) AS n FROM sys.indexes AS i JOIN sys.objects AS o"
            " ON o.object_id = i.object_id WHERE i.name = %s AND o.name = %s"
            " AND (i.is_unique_constraint = 1 OR i.is_primary_key = 1)"
        )
        if self.catalogue.rows(query, constraint, table.name.name)[0][0]:
            return f"ALTER TABLE {self._written(table)} DROP CONSTRAINT {self._plain(constraint)}"
        return f"DROP INDEX {self._plain(constraint)} ON {self._written(table)}"

    def notes(self) -> tuple[str, ...]:
        """Return notes on what this user does not see, and on numbers of different moments."""
        notes = []
        if not self.catalogue.sees_all:
            notes.append("this user does not see every table, so nothing can be removed")
        if not self.sees_one_moment:
            notes.append(_NO_SNAPSHOTS)
        return tuple(notes)
