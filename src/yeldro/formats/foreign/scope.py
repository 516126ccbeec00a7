"""What the columns in a statement are: which table's, and of which kind."""

from __future__ import annotations

from dataclasses import dataclass, field
from typing import TYPE_CHECKING

from sqlglot import exp

from yeldro.core.model.errors import Fault
from yeldro.core.model.names import same_name
from yeldro.core.selection.conditions.parameters import kind_of

if TYPE_CHECKING:
    from yeldro.core.model.schema import Column, Table


@dataclass(frozen=True, eq=False)
class Known:
    """A column of a table, or of a query.

    Args:
        kind: as `kind_of` gives it; None where the values are of another type.
        table, column: where its values are stored; None for a value that is computed.
    """

    kind: str | None
    table: Table | None = None
    column: Column | None = None

    @property
    def is_stored(self) -> bool:
        """True if it is a column of a table, whose values can be looked at."""
        return self.table is not None and self.column is not None

    @property
    def stored(self) -> tuple[Table, Column]:
        """The table and the column.

        Raises:
            Fault: its values are computed.
        """
        if self.table is None or self.column is None:
            raise Fault("a computed value is stored in no column")
        return self.table, self.column


@dataclass
class Scope:
    """The tables and queries that a condition can name, and those around it.

    Args:
        sources: the columns by alias.
        around: the scope of the query around.
        named: the WITH queries, by name.
    """

    sources: dict[str, dict[str, Known]] = field(default_factory=dict)
    around: Scope | None = None
    named: dict[str, dict[str, Known]] = field(default_factory=dict)

    def add_table(self, alias: str, table: Table) -> None:
        """Add a table under its alias."""
        self.sources[alias.casefold()] = {
            column.name: Known(kind_of(column), table, column) for column in table.columns
        }

    def find(self, column: exp.Column) -> Known | None:
        """Return what a column is; None if no source has it, or several do."""
        scope: Scope | None = self
        while scope is not None:
            found = [
                columns[name]
                for alias, columns in scope.sources.items()
                if not column.table or column.table.casefold() == alias
                if (name := same_name(column.name, columns))
            ]
            if found:
                return found[0] if len(found) == 1 else None
            scope = scope.around
        return None

    def query(self, name: str) -> dict[str, Known] | None:
        """Return the columns of a WITH query; None if there is none of this name."""
        scope: Scope | None = self
        while scope is not None:
            if name.casefold() in scope.named:
                return scope.named[name.casefold()]
            scope = scope.around
        return None
