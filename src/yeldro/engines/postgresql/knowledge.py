"""What a PostgreSQL server knows and forbids, and what cannot be undone there."""

from __future__ import annotations

from collections.abc import Callable, Collection, Iterator, Sequence
from contextlib import contextmanager
from functools import cached_property
from typing import TYPE_CHECKING, Any

import sqlalchemy as sa

from yeldro.core.database import sql
from yeldro.core.database.facts import LastingEffect, Mode, Prevention, Traits
from yeldro.engines.postgresql.catalogue import PostgresqlCatalogue
from yeldro.engines.postgresql.errors import STOPPED
from yeldro.engines.postgresql.trigger_effects import TriggerEffects, event_triggers
from yeldro.engines.postgresql.volatile import VOLATILE
from yeldro.engines.standard import StandardSession, refused_by

if TYPE_CHECKING:
    from yeldro.core.database.compared import Compared
    from yeldro.core.model.tables.equality import EqualityRules
    from yeldro.core.model.tables.schema import Table

_LOCKED = "55P03"  # lock_not_available
# Classes of SQLSTATE: connection, rolled back for others, resources, stopped by an operator.
_NOT_ITS_OWN = ("08", "40", "53", "57")
_NEVER_THE_SAME = {"setseed", "set_config"}
LOOKING = "yeldro_looking"  # an option of statements that may only read


class PostgresqlKnowledge(StandardSession):
    """What is asked of the server before rows change."""

    catalogue: PostgresqlCatalogue

    def __init__(self, connection: sa.Connection, traits: Traits, mode: Mode) -> None:
        super().__init__(connection, traits, mode)
        self._trigger_effects: TriggerEffects | None = None

    def was_stopped(self, error: sa.exc.DBAPIError) -> bool:
        state = getattr(error.orig, "sqlstate", None) or ""
        return state in (STOPPED, _LOCKED) or state.startswith(_NOT_ITS_OWN)

    @contextmanager
    def looking(self) -> Iterator[None]:
        """Execute every statement in a read-only savepoint."""
        before = self.connection.get_execution_options().get(LOOKING)
        self.connection.execution_options(**{LOOKING: True})
        try:
            yield
        finally:
            self.connection.execution_options(**{LOOKING: before})

    def unseen_references(self, table: Table) -> tuple[str, ...] | None:
        """Return nothing: everybody sees the whole catalogue."""
        del table
        return ()

    def unrestorable(self, table: Table) -> Sequence[tuple[str, sql.Predicate]]:
        """Return the rows that do not meet a check which was declared NOT VALID."""
        return refused_by(self.catalogue.unproved_checks(table.name))

    def time_zone(self) -> str:
        """Return what the server reports whenever it is set."""
        raw: Any = self.connection.connection.driver_connection
        return str(raw.info.parameter_status("TimeZone"))

    def missing_privileges(
        self, wanted: Sequence[tuple[Table, Collection[str] | None]]
    ) -> list[str]:
        """Return what the server's has_…_privilege functions deny."""
        removed = [table.name for table, changed in wanted if changed is None]
        missing = [f"DELETE on {name}" for name in self.catalogue.not_to_remove_from(removed)]
        for table, changed in wanted:
            denied = self.catalogue.not_to_change(table.name, changed) if changed else []
            if denied:
                missing.append(f"UPDATE ({', '.join(denied)}) on {table.name}")
        return missing

    def prevention(
        self, table: Table, by: Sequence[Compared], same: EqualityRules
    ) -> Prevention | None:
        """Return a unique index; since PostgreSQL 15 NULL can equal NULL in it."""
        parts = ", ".join(self._compared(table, each, same, self._plain) for each in by)
        null = any(self._may_be_null(table, each) for each in by) and not same.null_distinct
        ending = f"({parts}){' NULLS NOT DISTINCT' if null else ''}"
        tried = not self.mode.plain and self._accepts(table, ending)  # no script holds a trial
        if not tried and not self.mode.plain and "(" in parts:
            return None
        statement = f"CREATE UNIQUE INDEX {self._constraint(table, by)} {ending}"
        return Prevention(statement, tried=tried and not self.catalogue.is_partitioned(table.name))

    def _accepts(self, table: Table, ending: str) -> bool:
        """True if the server makes such an index, on an empty temporary table that is dropped.

        It takes only expressions that give one value for good (its manual, 38.7).
        """
        name = self._free_name("yeldro_trial")
        self._ddl("SAVEPOINT yeldro_trial")
        made = f"CREATE TEMP TABLE {name} (LIKE {self._written(table)}) ON COMMIT DROP"
        try:
            self._ddl(made.replace("%", "%%"))
            self._ddl(f"CREATE UNIQUE INDEX ON pg_temp.{name} {ending}".replace("%", "%%"))
        except sa.exc.DBAPIError as error:
            if self.was_stopped(error) or error.connection_invalidated:
                raise
            return False
        finally:
            self._ddl("ROLLBACK TO SAVEPOINT yeldro_trial")
        return True

    def _compared(
        self, table: Table, each: Compared, same: EqualityRules, quoted: Callable[[str], str]
    ) -> str:
        if each.column and not self.is_comparable(table.by_name[each.column]):
            return f"({quoted(each.column)}::text)"
        return super()._compared(table, each, same, quoted)

    def _names_beside(self, table: Table) -> set[str]:
        """Return the names of all relations of the schema, which must differ."""
        rows = self.connection.exec_driver_sql(
            "SELECT relname FROM pg_class WHERE relnamespace ="
            " (SELECT relnamespace FROM pg_class WHERE oid = %s::oid)",
            (self.catalogue.oid_of(table.name),),
        )
        return super()._names_beside(table) | {str(name) for (name,) in rows}

    def volatile_among(
        self, functions: Collection[str], operators: Collection[str], types: Collection[str]
    ) -> str:
        """Return one whose function, also that of an operator or cast, is declared volatile."""
        values = {"functions": [*functions], "operators": [*operators], "types": [*types]}
        found = self.connection.exec_driver_sql(VOLATILE, values).scalars().first()
        return str(found or "")

    def is_free_of_side_effects(self, function: str) -> bool:
        """True if every function of that name is immutable or stable, so it cannot write."""
        rows = self.connection.exec_driver_sql(
            "SELECT bool_and(provolatile <> 'v') FROM pg_proc WHERE proname = %s",
            (function.lower(),),
        )
        return function.lower() not in _NEVER_THE_SAME and bool(rows.scalar())

    def event_triggers(self) -> tuple[str, ...]:
        return tuple(row.name for row in self._event_triggers)

    @cached_property
    def _event_triggers(self) -> Sequence[Any]:
        return event_triggers(self.connection)

    def lasting_effects(self, table: Table, event: str) -> tuple[LastingEffect, ...]:
        """Return what triggers reach that a rollback may not undo."""
        if not (table.triggers or self._event_triggers):
            return ()
        if self._trigger_effects is None:
            self._trigger_effects = TriggerEffects(self.connection, self._event_triggers)
        return self._trigger_effects.of(self.catalogue.oids_of(table.name), event)

    def dropping(self, table: Table, constraint: str) -> str:
        query = "SELECT count(*) FROM pg_constraint WHERE conrelid = %s::oid AND conname = %s::text"
        values = (self.catalogue.oid_of(table.name), constraint)
        if self.connection.exec_driver_sql(query, values).scalar_one():
            name = self._plain(constraint)
            return f"ALTER TABLE {self._written(table)} DROP CONSTRAINT {name}"
        schema = f"{self._plain(table.name.schema)}." if table.name.schema else ""
        return f"DROP INDEX {schema}{self._plain(constraint)}"

    def _ddl(self, statement: str) -> None:
        """Execute a statement on temporary tables, which `looking` does not forbid."""
        before = self.connection.get_execution_options().get(LOOKING)
        self.connection.execution_options(**{LOOKING: False})
        try:
            self.connection.exec_driver_sql(statement)
        finally:
            self.connection.execution_options(**{LOOKING: before})
