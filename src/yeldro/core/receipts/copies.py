"""Copies of rows in tables of the same database, instead of in the receipt."""

from __future__ import annotations

from collections.abc import Collection
from dataclasses import dataclass
from typing import TYPE_CHECKING, Any

import sqlalchemy as sa

from yeldro.core.database import sql
from yeldro.core.model.messages.errors import (
    ROLLED_BACK,
    CountMismatch,
    DatabaseFailure,
    Refused,
    UsageError,
)
from yeldro.core.model.tables.schema import Table, TableName
from yeldro.core.model.work.steps import Action, Step

if TYPE_CHECKING:
    from yeldro.core.database.protocol import Session
    from yeldro.core.receipts.format import StoredColumn

_LONGEST_NAME = 63  # bytes; what every system takes
_ENDINGS = {Action.DETACH: "_detached", Action.REPOINT: "_repointed", Action.FILL: "_filled"}


@dataclass(frozen=True)
class CopyPlace:
    """Where copies go: into another schema, or beside the originals under a prefix."""

    schema: str | None = None
    prefix: str = ""

    @classmethod
    def parse(cls, text: str) -> CopyPlace:
        """Read `SCHEMA.` or a prefix, which ends with an underscore.

        Raises:
            UsageError: it is neither.
        """
        name, ending = text[:-1], text[-1:]
        if not name or ending not in "._":
            raise UsageError(
                f"‹copy_to› {text!r} is neither a schema nor a prefix.",
                "Write archive. for tables of the schema archive, or old_ for tables whose names "
                "begin with old_.",
            )
        return cls(schema=name) if ending == "." else cls(prefix=text)

    def __str__(self) -> str:
        return f"{self.schema}." if self.schema else self.prefix

    def name_for(self, step: Step, table: TableName, taken: Collection[TableName]) -> TableName:
        """Return a name for the copy of a step's rows that this run has not given yet.

        Raises:
            Refused: it would be longer than a system takes.
        """
        wanted = f"{self.prefix}{table.name}{_ENDINGS.get(step.action, '')}"
        found, number = TableName(wanted, self.schema or table.schema), 2
        while found in taken:
            found = TableName(f"{wanted}_{number}", found.schema)
            number += 1
        if len(found.name.encode()) > _LONGEST_NAME:
            raise Refused(
                f"The copy's name {found.name} is longer than {_LONGEST_NAME} bytes.",
                "Name a shorter prefix, or a schema.",
            )
        return found


def make_copy(
    session: Session,
    name: TableName,
    table: Table,
    columns: list[StoredColumn],
    query: sa.Select[Any],
    rows: int,
) -> None:
    """Make a table from the rows of a query.

    Raises:
        Refused: a table of this name exists.
        CountMismatch: it would hold another number than `rows`.
        DatabaseFailure: the system refuses to make it.
    """
    if session.catalogue.has_table(name):
        raise Refused(
            f"The table {name} exists already, and it is left as it is.",
            "Name another schema or prefix with ‹copy_to›.",
        )
    try:
        session.create_copy(name, table, [(each.stored_as, each.name) for each in columns])
    except sa.exc.DBAPIError as error:
        raise DatabaseFailure(
            f"The copy {name} could not be made: {session.reason(error)}.",
            "Name another schema or prefix with ‹copy_to›.",
            data=ROLLED_BACK,
        ) from error
    target = sql.table_clause(name, [each.stored_as for each in columns])
    statement = sa.insert(target).from_select(list(target.c), query)
    copied = sql.inserted(session.connection, statement)
    if copied != rows:
        raise CountMismatch(
            f"{copied:,} rows of {table.name} were copied, and {rows:,} were planned.",
            "Look at the plan again.",
        )
