"""Emptying a table by TRUNCATE: what forbids it, and what to know beforehand."""

from __future__ import annotations

from typing import TYPE_CHECKING

import sqlalchemy as sa

from yeldro.core.database import sql
from yeldro.core.database.catalogue import find_table
from yeldro.core.model.errors import (
    ROLLED_BACK,
    CountMismatch,
    DatabaseFailure,
    Refused,
    UsageError,
)
from yeldro.core.selection.selection import Selection

if TYPE_CHECKING:
    from yeldro.core.database.facts import Truncation
    from yeldro.core.database.protocol import Database, Session
    from yeldro.core.model.schema import Table, TableName


def check_selection(selection: Selection) -> None:
    """Refuse a selection that TRUNCATE cannot carry out, as it has no conditions.

    Raises:
        UsageError: the selection is not simply every row of a table.
    """
    only = selection.only_table
    if selection != Selection(selection.table, all_rows=True, only_table=only):
        raise UsageError(
            "‹truncate› empties the whole table, and other options choose rows.",
            "Give ‹all_rows› and nothing that narrows it, or drop ‹truncate›.",
        )


def check_truncation(session: Session, table: Table, typed: str) -> Truncation:
    """Return how the system empties a table.

    Raises:
        Refused: foreign keys, triggers, replication or the system forbid it; they are named.
    """
    if session.catalogue.part_of(find_table(session.catalogue, typed).name):
        raise Refused(
            f"{typed} is a partition of another table, and is not truncated on its own.",
            "Drop ‹truncate›: ‹all_rows› alone removes the same rows by DELETE.",
        )
    found = session.truncation(table)
    obstacles = [
        f"the foreign key {key} references it"
        for key in session.catalogue.referencing(table.name)
        if key.child != table.name
    ]
    obstacles += [
        f"its trigger {trigger.name} would not run"
        for trigger in table.triggers
        if trigger.event == "delete"
    ]
    obstacles += found.forbidden
    if obstacles:
        raise Refused(
            f"{table.name} cannot be truncated: {'; '.join(obstacles)}.",
            "Drop ‹truncate›: ‹all_rows› alone removes the same rows by DELETE.",
        )
    return found


def table_to_lock(database: Database, selection: Selection) -> TableName:
    """Return the table that nobody else may use while it is counted and emptied."""
    check_selection(selection)
    with database.reading() as session:
        table = find_table(session.catalogue, str(selection.table))
        check_truncation(session, table, selection.table)
        return table.name


def truncate(session: Session, table: Table, planned: int) -> int:
    """Empty a table in which nobody else can change a row.

    Returns:
        The number of rows that went.

    Raises:
        CountMismatch: there are still rows in it.
        DatabaseFailure: the system refused.
    """
    try:
        session.truncate(table)
    except sa.exc.DBAPIError as error:
        raise DatabaseFailure(
            f"{table.name} could not be truncated: {session.reason(error)}.",
            "Drop ‹truncate›: ‹all_rows› alone removes the same rows by DELETE.",
            data=ROLLED_BACK,
        ) from error
    left = sql.count(session.connection, sql.rows_of(table))
    if left:
        raise CountMismatch(
            f"{left:,} rows are left in {table.name}.",
            "See what adds rows to it, then run it again.",
        )
    return planned
