"""Rows that several steps of a receipt changed: their values after the earlier steps."""

from __future__ import annotations

from typing import TYPE_CHECKING

import sqlalchemy as sa

if TYPE_CHECKING:
    from yeldro.core.database import sql
    from yeldro.core.restore.staged_rows import StagedRows


def covered_by(each: StagedRows, later: StagedRows) -> sql.Predicate:
    """True if a later step of the receipt changed or removed a row as this step had left it.

    Then this step can be undone once the later one is.
    """
    staged = later.staged.alias("yeldro_later")
    found_by = dict(later.old_key)
    left = dict(later.named("value" if later.holds_whole_rows else "old"))
    pairs = [(ours, found_by) for ours in each.key] + [(new, left) for new in each.named("new")]
    same = [
        staged.c[theirs[name]].is_not_distinct_from(each.staged.c[own])
        for (name, own), theirs in pairs
        if name in theirs
    ]
    if len(same) < len(pairs):
        return sa.false()
    query = sa.select(sa.literal(1)).select_from(staged).where(*same)
    return sa.exists(query.correlate(each.staged))
