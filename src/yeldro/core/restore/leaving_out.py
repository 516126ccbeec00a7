"""Staged rows that are left out of a restore, and every row that hangs on one of them."""

from __future__ import annotations

from collections import Counter
from collections.abc import Iterator, Sequence
from typing import TYPE_CHECKING

import sqlalchemy as sa

from yeldro.core.restore.conflicts import hangs_on

if TYPE_CHECKING:
    from yeldro.core.database import sql
    from yeldro.core.restore.staged_rows import StagedRows

_AT_ONCE = 1000


def leave_out(
    each: StagedRows, rows: sql.Predicate, staged_steps: Sequence[StagedRows]
) -> Counter[StagedRows]:
    """Take staged rows out, and at every depth the rows that would reference them.

    A row whose parent does not come back must not come back under another row that has taken the
    parent's key meanwhile.

    Args:
        rows: which staged rows of `each` are left out.
        staged_steps: all steps of the restore.

    Returns:
        The number of rows left out, by step.
    """
    gone: Counter[StagedRows] = Counter()
    waiting = [(each, numbers) for numbers in _numbers(each, rows)]
    while waiting:
        step, numbers = waiting.pop()
        chosen = step.staged.c.yeldro_row.in_(numbers)
        if not step.count(chosen):
            continue
        hanging = [
            (child, found)
            for child in staged_steps
            for key in child.table.foreign_keys
            if key.parent == step.table.name and child.needs(key) and step.brings(key)
            for found in _numbers(child, child.meets(step, hangs_on(child, key, numbers)))
        ]
        gone[step] += step.take_out(chosen)
        waiting += hanging
    return gone


def _numbers(each: StagedRows, rows: sql.Predicate) -> Iterator[list[int]]:
    """Yield the numbers of the staged rows that meet a condition, a bounded number at a time."""
    number = each.staged.c.yeldro_row
    found = each.session.connection.execute(sa.select(number).where(rows).order_by(number))
    listed = [row[0] for row in found]
    for start in range(0, len(listed), _AT_ONCE):
        yield listed[start : start + _AT_ONCE]
