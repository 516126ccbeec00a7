"""Rows that would be left, or are left, without the row they reference when a step is undone."""

from __future__ import annotations

from collections import Counter
from collections.abc import Callable, Iterator, Sequence
from typing import TYPE_CHECKING, Any

import sqlalchemy as sa

from yeldro.core.database import sql
from yeldro.core.database.references import without_parent
from yeldro.core.model.errors import CountMismatch
from yeldro.core.model.steps import Action

if TYPE_CHECKING:
    from yeldro.core.model.schema import ForeignKey
    from yeldro.core.restore.staged_rows import StagedRows

_AT_ONCE = 1000


def vacated(each: StagedRows, key: ForeignKey) -> sql.Predicate | None:
    """True if what a key references is no more of a staged row once the step is undone.

    None where that cannot be.
    """
    if each.step.action is Action.ADD:
        return sa.true()
    if not each.moves_under(key):
        return None
    changed = [name for name in key.referenced_columns if name in dict(each.named("old"))]
    return sa.or_(*(each.now(name).is_distinct_from(each.coming(name)) for name in changed))


def still_referenced(
    each: StagedRows, key: ForeignKey, others: Sequence[StagedRows]
) -> sql.Predicate | None:
    """True if a staged row is referenced by one that stays, though what it references does not.

    None where no row can be.
    """
    goes = vacated(each, key)
    if goes is None or key.parent_parts:  # then only the system knows, which checks it
        return None
    children = sql.rows_of(each.session.catalogue.table(key.child)).alias("yeldro_child")
    stay = (
        other.is_no_stored_row(children)
        for other in others
        if other.table.name == key.child
        and (other.step.action is Action.ADD or {*key.columns} & dict(other.named("old")).keys())
    )
    mine = each.aliased("yeldro_own")
    pairs = zip(_referencing(each, key, children), key.referenced_columns, strict=True)
    joined = mine.staged.join(children, sa.and_(*(ours == mine.now(name) for ours, name in pairs)))
    query = sa.select(mine.staged.c.yeldro_row).select_from(joined)
    query = query.where(*stay, *sql.in_parts(children, key.child_parts))
    return sa.and_(goes, each.staged.c.yeldro_row.in_(query.correlate(None)))


def prove_step_leaves_none_dangling(each: StagedRows) -> None:
    """No row references what an undone step took away, now that it is undone.

    Raises:
        CountMismatch: one does, so it came meanwhile.
    """
    for key in each.session.catalogue.referencing(each.table.name):
        goes = vacated(each, key)
        if goes is None:
            continue
        child = each.session.catalogue.table(key.child)
        children = sql.rows_of(child)
        gone = sa.select(*map(each.now, key.referenced_columns)).select_from(each.staged)
        hangs = sql.among(_referencing(each, key, children), gone.where(goes).correlate(None))
        alone = without_parent(key, children, each.table)
        query = sa.select(sa.func.count()).select_from(children).where(hangs, alone)
        rows = each.session.connection.execute(each.session.locking_read(query)).scalar_one()
        if rows:
            raise CountMismatch(
                f"{rows:,} rows of {key.child} would be left without their parent rows ({key}).",
                "They came meanwhile; look again with 'yeldro receipt check'.",
            )


def _referencing(
    each: StagedRows, key: ForeignKey, children: sa.FromClause
) -> list[sa.ColumnElement[Any]]:
    """Return the foreign key columns of `children`, as they are compared with the table's own."""
    child = each.session.catalogue.table(key.child)
    return [
        each.session.referencing_value(
            children.c[ours], child.by_name[ours], each.table.by_name[theirs]
        )
        for ours, theirs in zip(key.columns, key.referenced_columns, strict=True)
    ]


def hangs_on(
    each: StagedRows, key: ForeignKey, numbers: sa.Select[Any] | Sequence[int]
) -> Callable[[StagedRows, StagedRows], Iterator[sql.Predicate]]:
    """Return the condition that a staged row references one of those with these numbers."""

    def hangs(mine: StagedRows, parent: StagedRows) -> Iterator[sql.Predicate]:
        yield parent.staged.c.yeldro_row.in_(numbers)
        for name, named in zip(key.columns, key.referenced_columns, strict=True):
            value = each.session.referencing_value(
                mine.coming(name), mine.table.by_name[name], parent.table.by_name[named]
            )
            yield value == parent.coming(named)

    return hangs


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
