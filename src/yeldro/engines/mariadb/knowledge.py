"""What a MariaDB server knows and forbids, and what cannot be undone there."""

from __future__ import annotations

from collections.abc import Callable, Collection, Iterator, Sequence
from contextlib import AbstractContextManager, contextmanager, nullcontext
from typing import TYPE_CHECKING

import sqlalchemy as sa

from yeldro.core.database import sql
from yeldro.core.database.compared import composed
from yeldro.core.database.facts import LastingEffect, Prevention
from yeldro.engines.mariadb import values
from yeldro.engines.mariadb.catalogue import MariadbCatalogue
from yeldro.engines.mariadb.dialect import FREE_OF_SIDE_EFFECTS
from yeldro.engines.mariadb.errors import told
from yeldro.engines.mariadb.trigger_effects import TriggerEffects
from yeldro.engines.standard import StandardSession, refused_by

if TYPE_CHECKING:
    from yeldro.core.database.compared import Compared
    from yeldro.core.model.tables.equality import EqualityRules
    from yeldro.core.model.tables.schema import Table


class MariadbKnowledge(StandardSession):
    """What is asked of the server before rows change."""

    catalogue: MariadbCatalogue
    _trigger_effects: TriggerEffects | None = None

    def looking(self) -> AbstractContextManager[None]:
        """Do nothing: what a filter may call cannot write."""
        return nullcontext()

    def unseen_references(self, table: Table) -> tuple[str, ...] | None:
        return self.catalogue.unseen_references(table.name)

    def lasting_effects(self, table: Table, event: str) -> tuple[LastingEffect, ...]:
        """Return what triggers reach that is not rolled back, or that this user cannot read."""
        if not table.triggers:
            return ()
        if self._trigger_effects is None:
            self._trigger_effects = TriggerEffects(self.catalogue)
        return tuple(
            LastingEffect(
                trigger,
                reached,
                f"can write to {reached}, and what it does there cannot be rolled back",
                "Convert it to the engine InnoDB",
            )
            for trigger, reached in self._trigger_effects.of(table.name, event)
        )

    def event_triggers(self) -> tuple[str, ...]:
        """Return nothing: no trigger is fired by a new table."""
        return ()

    def unrestorable(self, table: Table) -> Sequence[tuple[str, sql.Predicate]]:
        """Return an enum's empty error value, and what was written while checks were off."""
        rows = sql.rows_of(table)
        enums = (column.name for column in table.columns if column.type.startswith("enum"))
        return [
            *((f"no value of the enum {name}", rows.c[name] + 0 == 0) for name in enums),
            *refused_by(self.catalogue.checks(table.name)),
        ]

    def making_transactional(self, table: Table) -> str:
        return f"ALTER TABLE {self._written(table)} ENGINE = InnoDB"

    def time_zone(self) -> str:
        query = "SELECT if(@@time_zone = 'SYSTEM', @@system_time_zone, @@time_zone)"
        return str(self.connection.exec_driver_sql(query).scalar_one())

    def missing_privileges(
        self, wanted: Sequence[tuple[Table, Collection[str] | None]]
    ) -> list[str]:
        """Return what the server denies when it is asked to explain such a statement."""
        missing = []
        with self._that_may_ask() as connection:
            for table, changed in wanted:
                try:
                    connection.exec_driver_sql(f"EXPLAIN {self._example(table, changed)}")
                except sa.exc.DBAPIError as error:
                    if told(error)[0] not in (1142, 1143):
                        raise
                    columns = f"UPDATE ({', '.join(changed)})" if changed is not None else "DELETE"
                    missing.append(f"{columns} on {table.name}")
        return missing

    @contextmanager
    def _that_may_ask(self) -> Iterator[sa.Connection]:
        """Give another connection where this one only looks: it is refused even the question."""
        if not self.traits.needs_key_tables_first:
            yield self.connection
            return
        with self.connection.engine.connect() as another:
            yield another

    def _example(self, table: Table, changed: Collection[str] | None) -> str:
        """Return a statement that would change or remove no row, but needs the privilege."""
        name = self._name(table.name)
        if changed is None:
            return f"DELETE FROM {name} WHERE 1 = 0"
        columns = ", ".join(f"{self._quote(each)} = NULL" for each in changed)
        return f"UPDATE {name} SET {columns} WHERE 1 = 0"

    def prevention(
        self, table: Table, by: Sequence[Compared], same: EqualityRules
    ) -> Prevention | None:
        """Return a unique key, on a hash if NULL is to equal NULL or text is compared loosely.

        There is none for expressions, as MariaDB has no index on them.
        """
        columns = [table.by_name[each.column] for each in by if each.column]
        if len(columns) < len(by):
            return None
        name, _, written = self._constraint(table, by).partition(" ON ")
        loose = any(
            (column.nullable and not same.null_distinct)
            or (self.is_text(column) and (same.trim or same.ignore_case))
            for column in columns
        )
        if not loose:
            listed = ", ".join(self._plain(column.name) for column in columns)
            return Prevention(f"ALTER TABLE {written} ADD UNIQUE KEY {name} ({listed})")

        def contents(quoted: Callable[[str], str]) -> str:
            compared = [self._compared(table, each, same, quoted) for each in by]
            return values.hashed(columns, compared, null_is_equal=not same.null_distinct)

        return Prevention(
            f"ALTER TABLE {written} ADD COLUMN {name} binary(32) AS ({contents(self._plain)}) "
            f"STORED INVISIBLE, ADD UNIQUE KEY {name} ({name})",
            (composed(contents),),
        )

    def is_free_of_side_effects(self, function: str) -> bool:
        """True for built-in functions that compute; stored functions may always write."""
        return function.lower() in FREE_OF_SIDE_EFFECTS.split()

    def dropping(self, table: Table, constraint: str) -> str:
        """Return the statement for a key, or for the hidden column that Yeldro made for it."""
        own = self.catalogue.table(table.name).by_name.get(constraint)
        what = "COLUMN" if own and own.generated else "KEY"
        return f"ALTER TABLE {self._written(table)} DROP {what} {self._plain(constraint)}"

    def notes(self) -> tuple[str, ...]:
        """Return notes on foreign keys without a parent, and on a user who sees too little."""
        notes = [f"{key} references what does not exist, and is ignored"
                 for key in self.catalogue.loose_foreign_keys()]  # fmt: skip
        if not self.catalogue.sees_all():
            notes.append("this user does not see every table, so nothing can be removed")
        return tuple(notes)
