"""What is looked at once more when every step is done, and before anything is committed."""

from __future__ import annotations

from typing import Any

import sqlalchemy as sa

from yeldro.core import sql
from yeldro.core.errors import CountMismatch
from yeldro.core.grouping import group_values, in_some_group
from yeldro.core.identity import kept_columns
from yeldro.core.plan import Cleanup, Prepared, duplicate_columns
from yeldro.core.protocol import Session
from yeldro.core.rowset import depends_on
from yeldro.core.tally import Ledger


def prove_nothing_hangs(session: Session, prepared: Prepared) -> None:
    """No row that is left references a row that is gone.

    Raises:
        CountMismatch: one does, so a trigger added or changed rows.
    """
    for link in prepared.ripple.reach.links:
        parents = prepared.ripple.removed.get(link.key.parent)
        if parents is None:
            continue
        child = session.catalogue.table(link.key.child)
        rows = sql.rows_of(child)
        condition = depends_on(session, link, child, rows, parents)
        query = sa.select(sa.func.count()).select_from(rows).where(condition)
        hanging = session.connection.execute(session.held(query)).scalar_one()
        if hanging:
            raise CountMismatch(
                f"{hanging:,} rows of {child.name} would be left without their parent rows "
                f"({link.key}).",
                f"Look at the triggers with 'yeldro survey {child.name}'.",
            )


def prove_groups_live(
    session: Session, prepared: Prepared, cleanup: Cleanup, ledger: Ledger
) -> None:
    """Every group of duplicates that lost rows still has a row; exactly one, if nothing narrows it.

    Raises:
        CountMismatch: a group has none left, or too many.
    """
    picked = prepared.ripple.matched_keys
    if picked is None:
        return
    table = prepared.matched.table
    kept = [column.name for column in kept_columns(table)]
    if set(kept) <= set(picked.c.keys()):
        stays = sa.select(*sql.columns_of(picked, kept)).distinct()
        rows = prepared.matched.rows
        standing = sql.among(sql.columns_of(rows, table.identity.columns), stays)
        groups = sql.count(session.connection, stays.subquery())
        lost = groups - sql.count(session.connection, rows, standing)
        crowded = bool(ledger.unplanned)  # else just the surplus rows went, and none came
        planned = None
    else:
        same = cleanup.selection.same
        by = duplicate_columns(cleanup, table)
        planned = sa.select(*group_values(session, table, picked, by, same))
        left = sa.select(*group_values(session, table, prepared.matched.rows, by, same))
        lost = sql.count(session.connection, planned.except_(left).subquery())
        crowded = cleanup.selection.leaves_no_duplicates
    if lost:
        raise CountMismatch(
            f"{lost:,} groups of {table.name} would lose every row.",
            "A kept row depends on a copy that goes: see the ripple with 'yeldro plan'.",
        )
    if crowded:
        _prove_no_group_is_crowded(session, prepared, cleanup, planned)


def _prove_no_group_is_crowded(
    session: Session, prepared: Prepared, cleanup: Cleanup, planned: sa.Select[Any] | None
) -> None:
    """No group, or none of those planned, has more than one row left."""
    matched, same = prepared.matched, cleanup.selection.same
    by = duplicate_columns(cleanup, matched.table)
    values = group_values(session, matched.table, matched.rows, by, same)
    left = sa.select(*values).where(*in_some_group(matched.rows, by, same))
    crowded = left.group_by(*values).having(sa.func.count() > 1)
    found = crowded.intersect(planned) if planned is not None else crowded
    several = sql.count(session.connection, found.subquery())
    if several:
        raise CountMismatch(
            f"{several:,} groups of {matched.table.name} would keep more than one row.",
            "Rows were added meanwhile; run it again.",
        )
