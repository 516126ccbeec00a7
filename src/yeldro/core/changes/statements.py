"""The statement that makes one change, in the form in which a system carries it out well."""

from __future__ import annotations

from collections.abc import Sequence
from typing import TYPE_CHECKING, Any

import sqlalchemy as sa

from yeldro.core.changes.change_set import Affected
from yeldro.core.changes.emptying import empty
from yeldro.core.database import sql
from yeldro.core.model.messages.errors import Fault
from yeldro.core.model.work.steps import Action

if TYPE_CHECKING:
    from collections.abc import Mapping

    from yeldro.core.changes.change_set import Change, RowSet
    from yeldro.core.database.protocol import Session
    from yeldro.core.model.tables.schema import Table


def execute(session: Session, change: Change) -> Affected:
    """Execute a change; return the rows that it affected."""
    rows = change.rows
    if change.emptying:
        return _emptied(session, change)
    if rows.copies:
        if rows.keys is None:
            raise Fault(f"the rows of {rows.table.name} have no key table")
        return Affected(session.remove_copies(rows.table, rows.keys))
    if change.one_by_one is not None:
        return Affected(_one_by_one(session, change))
    if change.added is not None:
        added = change.added
        return Affected(session.put_back(rows.source, added.names, added.query))
    statement = session.key_driven(statement_of(change))
    if change.step.action is Action.REMOVE and session.unseen_references(rows.table) is None:
        with session.letting_the_system_check():
            return Affected(session.connection.execute(statement).rowcount)
    return Affected(session.connection.execute(statement).rowcount)


def execute_together(session: Session, changes: Sequence[Change]) -> list[Affected]:
    """Execute changes that the system must not check one by one."""
    counts = session.change_at_once([_update_of(each) for each in changes])
    return [Affected(rows) for rows in counts]


def statement_of(change: Change) -> sa.Delete | sa.Update:
    """Return the statement that removes or changes rows, in the plain form."""
    if change.step.action is Action.REMOVE:
        return sa.delete(change.rows.source).where(change.rows.condition)
    return _update_of(change)


def _update_of(change: Change) -> sa.Update:
    rows = change.rows
    update = sa.update(rows.source).where(rows.condition)
    return update.values(_all_values(rows, change.values))


def _all_values(
    rows: RowSet, values: Mapping[str, sa.ColumnElement[Any]]
) -> dict[Any, sa.ColumnElement[Any]]:
    """Return new values, and the columns that would change by themselves, left alone."""
    given: dict[Any, Any] = {rows.source.c[name]: value for name, value in values.items()}
    return given | sql.left_alone(rows.table, rows.source, values)


def _one_by_one(session: Session, change: Change) -> int:
    table: Table = change.rows.table
    affected = 0
    for one in change.one_by_one or ():
        if change.step.action is Action.REMOVE:
            affected += session.remove_one(table, one.condition)
        else:
            values = _all_values(change.rows, one.values)
            affected += session.change_one(table, one.condition, values)
    return affected


def _emptied(session: Session, change: Change) -> Affected:
    if change.emptying is None:
        raise Fault(f"no quicker way was asked for to remove rows of {change.step.table}")
    before = session.change_count()
    rows = empty(session, change.emptying, change)
    counted = rows * before.times.get(change.step.table, 1) + (before.total or 0)
    return Affected(rows, (session.change_count().total or 0) - counted)
