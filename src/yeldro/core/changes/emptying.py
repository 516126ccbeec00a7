"""Removing many rows of one table at once, with the count that a DELETE would have."""

from __future__ import annotations

from typing import TYPE_CHECKING

import sqlalchemy as sa

from yeldro.core.database import sql
from yeldro.core.database.facts import Emptying
from yeldro.core.database.identity import looked_up_in
from yeldro.core.model.messages.errors import ROLLED_BACK, CountMismatch, DatabaseFailure

if TYPE_CHECKING:
    from yeldro.core.changes.change_set import Change
    from yeldro.core.database.protocol import Session

WITHOUT = {
    Emptying.TRUNCATE: "Drop ‹truncate›: ‹all_rows› alone removes the same rows by DELETE.",
    Emptying.KEEP_SURVIVORS: "Drop ‹keep_survivors›: the same rows go by DELETE then.",
    Emptying.BY_PARTITION: "Drop ‹by_partition›: the same rows go by DELETE then.",
}


def empty(session: Session, how: Emptying, change: Change) -> int:
    """Carry out a step in a quicker way than DELETE; nobody else can change a row of the table.

    Returns:
        The number of rows that went.

    Raises:
        CountMismatch: other rows than planned are left.
        DatabaseFailure: the system refused.
    """
    carry_out = {
        Emptying.TRUNCATE: _truncate,
        Emptying.KEEP_SURVIVORS: _keep_survivors,
        Emptying.BY_PARTITION: _by_partition,
    }[how]
    try:
        return carry_out(session, change)
    except sa.exc.DBAPIError as error:
        if error.connection_invalidated or session.was_stopped(error):
            raise
        raise DatabaseFailure(
            f"{change.rows.table.name} could not be emptied: {session.reason(error)}.",
            WITHOUT[how],
            data=ROLLED_BACK,
        ) from error


def _truncate(session: Session, change: Change) -> int:
    table = change.rows.table
    session.emptying.truncate(table)
    left = sql.count(session.connection, sql.rows_of(table))
    if left:
        raise CountMismatch(
            f"{left:,} rows are left in {table.name}.",
            "See what adds rows to it, then run it again.",
        )
    return change.step.rows


def _keep_survivors(session: Session, change: Change) -> int:
    table = change.rows.table
    before, kept, as_before = session.emptying.keep_only(table, _stays(session, change))
    if not as_before:
        raise CountMismatch(
            f"{kept:,} rows of {table.name} should stay as they are, and not all did when they "
            f"were written back.",
            WITHOUT[Emptying.KEEP_SURVIVORS],
        )
    return before - kept


def _by_partition(session: Session, change: Change) -> int:
    goes = ~_stays(session, change)
    emptied = session.emptying.empty_partitions(change.rows.table, goes)
    rest = session.key_driven(sa.delete(change.rows.source).where(change.rows.condition))
    return emptied + session.connection.execute(rest).rowcount


def _stays(session: Session, change: Change) -> sql.Predicate:
    """True if a row is not one of the step; never NULL."""
    rows = change.rows
    if rows.keys is not None:
        return ~looked_up_in(session, rows.table, rows.source, rows.keys)
    return sa.case((rows.condition, 0), else_=1) == 1
