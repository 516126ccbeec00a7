"""The matched rows of a cleanup, before anything is run."""

from __future__ import annotations

from dataclasses import dataclass
from typing import TYPE_CHECKING, Any

from yeldro.core.database import sql
from yeldro.core.database.catalogue import find_columns, find_table
from yeldro.core.model.tables.schema import IdentityKind, Table
from yeldro.core.planning.cleanup import Cleanup
from yeldro.core.planning.plan import Plan, prepare

if TYPE_CHECKING:
    from yeldro.core.database.protocol import Database, Session

_COLUMNS_SHOWN = 8


@dataclass(frozen=True)
class Preview:
    """The matched rows of a cleanup, and its ripple.

    Args:
        plan: counts and ripple.
        columns: the columns shown.
        hidden: how many columns are not shown.
        rows: the first matched rows in key order.
        view: the view through which they were named; empty if the table itself was.
    """

    plan: Plan
    table: Table
    columns: tuple[str, ...]
    hidden: int
    rows: tuple[tuple[Any, ...], ...]
    view: str = ""


def look_at(database: Database, cleanup: Cleanup, show: tuple[str, ...], rows: int) -> Preview:
    """Open a session and return `preview`."""
    with database.reading() as session:
        return preview(session, cleanup, show, rows)


def preview(session: Session, cleanup: Cleanup, show: tuple[str, ...], rows: int) -> Preview:
    """Return the first `rows` matched rows with the columns `show`, or the first few columns.

    Raises:
        UsageError, Refused: as `yeldro.core.planning.plan.prepare` raises them.
    """
    prepared = prepare(session, cleanup)
    matched = prepared.matched
    table = matched.table
    if show:
        columns = find_columns(table, show, "‹show›")
    else:
        keyed = () if table.identity.kind is IdentityKind.PHYSICAL else table.identity.columns
        columns = tuple(dict.fromkeys((*keyed, *table.by_name)))[:_COLUMNS_SHOWN]
    query = matched.select(*sql.columns_of(matched.rows, columns))
    if matched.limit is None and matched.copies is None:
        query = query.order_by(*sql.columns_of(matched.rows, table.identity.columns)).limit(rows)
    found = session.connection.execute(query).fetchmany(rows)
    named = find_table(session.catalogue, cleanup.selection.table)
    return Preview(
        plan=prepared.plan,
        table=table,
        columns=columns,
        hidden=len(table.columns) - len(columns),
        rows=tuple(tuple(row) for row in found),
        view=str(named.name) if named.kind != "table" else "",
    )
