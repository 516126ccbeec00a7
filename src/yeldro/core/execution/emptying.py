"""Removing many rows of one table at once, with the count that a DELETE would have."""

from __future__ import annotations

from typing import TYPE_CHECKING

import sqlalchemy as sa

from yeldro.core.database import sql
from yeldro.core.database.facts import Emptying
from yeldro.core.database.identity import in_keys
from yeldro.core.model.errors import ROLLED_BACK, CountMismatch, DatabaseFailure
from yeldro.core.model.steps import Action
from yeldro.core.planning.emptying import WITHOUT

if TYPE_CHECKING:
    from yeldro.core.database.protocol import Session
    from yeldro.core.planning.plan import Prepared, Work


def empty(session: Session, how: Emptying, work: Work) -> int:
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
        return carry_out(session, work)
    except sa.exc.DBAPIError as error:
        if error.connection_invalidated or session.was_stopped(error):
            raise
        raise DatabaseFailure(
            f"{work.rows.table.name} could not be emptied: {session.reason(error)}.",
            WITHOUT[how],
            data=ROLLED_BACK,
        ) from error


def is_emptied(work: Work, prepared: Prepared) -> bool:
    """True if a step removes the rows of the named table."""
    named = prepared.matched.table.name
    return work.step.action is Action.REMOVE and work.rows.table.name == named


def _truncate(session: Session, work: Work) -> int:
    table = work.rows.table
    session.emptying.truncate(table)
    left = sql.count(session.connection, sql.rows_of(table))
    if left:
        raise CountMismatch(
            f"{left:,} rows are left in {table.name}.",
            "See what adds rows to it, then run it again.",
        )
    return work.step.rows


def _keep_survivors(session: Session, work: Work) -> int:
    table = work.rows.table
    before, kept, as_before = session.emptying.keep_only(table, _stays(session, work))
    if not as_before:
        raise CountMismatch(
            f"{kept:,} rows of {table.name} should stay as they are, and not all did when they "
            f"were written back.",
            WITHOUT[Emptying.KEEP_SURVIVORS],
        )
    return before - kept


def _by_partition(session: Session, work: Work) -> int:
    goes = ~_stays(session, work)
    emptied = session.emptying.empty_partitions(work.rows.table, goes)
    rest = session.key_driven(sa.delete(work.rows.source).where(work.rows.condition))
    return emptied + session.connection.execute(rest).rowcount


def _stays(session: Session, work: Work) -> sql.Predicate:
    """True if a row is not one of the step; never NULL."""
    rows = work.rows
    if rows.keys is not None:
        return ~in_keys(session, rows.table, rows.source, rows.keys)
    return sa.case((rows.condition, 0), else_=1) == 1
