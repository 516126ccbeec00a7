"""Rows that several steps of a receipt changed: their values after the earlier steps."""

from __future__ import annotations

from collections.abc import Mapping, Sequence
from typing import TYPE_CHECKING, Any

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


def back_before(each: StagedRows, earlier: StagedRows) -> sql.Predicate:
    """True if a row is as it was even before an earlier step of the receipt changed it."""
    staged = earlier.staged.alias("yeldro_earlier")
    found_by = dict(earlier.key)
    mine = _same_row(each.old_key, found_by, each, staged)
    columns = each.table.by_name
    as_before = [
        each.session.readable(each.rows.c[name], columns[name]).is_not_distinct_from(staged.c[own])
        if name in columns
        else each.rows.c[name] == staged.c[own]
        for name, own in [*earlier.old_key, *earlier.named("old")]
    ]
    changed = {name for name, _ in earlier.named("old")}
    others = [pair for pair in each.named("value") if pair[0] not in changed]
    row = (
        sa.select(sa.literal(1))
        .select_from(each.rows)
        .where(*as_before, *each.agree(others))
        .correlate(each.staged, staged)
    )
    one = sa.select(sa.literal(1)).select_from(staged).where(*mine, sa.exists(row))
    return sa.exists(one.correlate(each.staged))


def _same_row(
    key: Sequence[tuple[str, str]],
    found_by: Mapping[str, str],
    each: StagedRows,
    staged: sa.FromClause,
) -> list[sql.Predicate]:
    """Return the conditions that staged rows of two steps are the same row.

    Without a key, the row id and the columns that neither step changes are compared.
    """
    return [
        staged.c[found_by[name]].is_not_distinct_from(each.staged.c[own])
        for name, own in key
        if name in found_by
    ]


def back_before_all(each: StagedRows, earlier: Sequence[StagedRows]) -> sql.Predicate:
    """True if a row is as it was before several earlier steps, each of which changed it.

    Args:
        earlier: the steps in order; none of them changes the columns that rows are found by.
    """
    expected: dict[str, sa.ColumnElement[Any]] = {
        name: each.staged.c[staged] for name, staged in each.named("value")
    }
    for place, step in reversed(list(enumerate(earlier))):
        staged = step.staged.alias(f"yeldro_earlier_{place}")
        mine = _same_row(each.key, dict(step.key), each, staged)
        changed = sa.exists(sa.select(sa.literal(1)).select_from(staged).where(*mine)
                            .correlate(each.staged))  # fmt: skip
        for name, old in step.named("old"):
            before = sa.select(staged.c[old]).where(*mine).correlate(each.staged)
            expected[name] = sa.case((changed, before.scalar_subquery()), else_=expected[name])
    columns = each.table.by_name
    same = (
        each.session.readable(each.rows.c[name], columns[name]).is_not_distinct_from(value)
        for name, value in expected.items()
    )
    return each.exists(*each.agree(each.key), *same)
