"""Rows that would lose, or have lost, the row they reference when a step is undone."""

from __future__ import annotations

from collections import Counter
from collections.abc import Callable, Iterator, Sequence
from typing import TYPE_CHECKING, Any

import sqlalchemy as sa

from yeldro.core.database import sql
from yeldro.core.database.references import without_parent
from yeldro.core.model.messages.errors import CountMismatch
from yeldro.core.model.work.steps import Action

if TYPE_CHECKING:
    from yeldro.core.model.tables.schema import ForeignKey
    from yeldro.core.restore.staged.staged_rows import StagedRows

_AT_ONCE = 1000


def vacated(each: StagedRows, key: ForeignKey) -> sql.Predicate | None:
    """True if a staged row no longer has the referenced values once the step is undone.

    None if that is impossible.
    """
    if each.step.action is Action.ADD:
        return sa.true()
    if not each.moves_under(key):
        return None
    changed = [name for name in key.referenced_columns if name in dict(each.named("old"))]
    return sa.or_(
        *(each.current(name).is_distinct_from(each.restored_value(name)) for name in changed)
    )


def still_referenced(
    each: StagedRows, key: ForeignKey, others: Sequence[StagedRows]
) -> sql.Predicate | None:
    """True if a row that stays references values that a staged row will no longer have.

    None if no row can.
    """
    goes = vacated(each, key)
    if goes is None or key.parent_parts:  # with parts, only the system knows, and it checks
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
    joined = mine.staged.join(
        children, sa.and_(*(ours == mine.current(name) for ours, name in pairs))
    )
    query = sa.select(mine.staged.c.yeldro_row).select_from(joined)
    query = query.where(*stay, *sql.in_parts(children, key.child_parts))
    return sa.and_(goes, each.staged.c.yeldro_row.in_(query.correlate(None)))


def prove_step_leaves_none_dangling(each: StagedRows) -> None:
    """Prove that no row references what an undone step took away.

    Raises:
        CountMismatch: some rows do, so they were added meanwhile.
    """
    for key in each.session.catalogue.referencing(each.table.name):
        goes = vacated(each, key)
        if goes is None:
            continue
        child = each.session.catalogue.table(key.child)
        children = sql.rows_of(child)
        gone = sa.select(*map(each.current, key.referenced_columns)).select_from(each.staged)
        references = sql.among(_referencing(each, key, children), gone.where(goes).correlate(None))
        orphaned = without_parent(key, children, each.table)
        query = sa.select(sa.func.count()).select_from(children).where(references, orphaned)
        rows = each.session.connection.execute(each.session.locking_read(query)).scalar_one()
        if rows:
            raise CountMismatch(
                f"{rows:,} rows of {key.child} would be left without their parent rows ({key}).",
                "They were added meanwhile; compare again with ⟨receipt check⟩.",
            )


def _referencing(
    each: StagedRows, key: ForeignKey, children: sa.FromClause
) -> list[sa.ColumnElement[Any]]:
    """Return the foreign key columns of `children` in the form in which they are compared."""
    child = each.session.catalogue.table(key.child)
    return [
        each.session.referencing_value(
            children.c[ours], child.by_name[ours], each.table.by_name[theirs]
        )
        for ours, theirs in zip(key.columns, key.referenced_columns, strict=True)
    ]


def references_step(
    each: StagedRows, key: ForeignKey, numbers: sa.Select[Any] | Sequence[int]
) -> Callable[[StagedRows, StagedRows], Iterator[sql.Predicate]]:
    """Return the condition that a staged row references a staged parent with one of the numbers."""

    def references(mine: StagedRows, parent: StagedRows) -> Iterator[sql.Predicate]:
        yield parent.staged.c.yeldro_row.in_(numbers)
        for name, named in zip(key.columns, key.referenced_columns, strict=True):
            value = each.session.referencing_value(
                mine.restored_value(name), mine.table.by_name[name], parent.table.by_name[named]
            )
            yield value == parent.restored_value(named)

    return references


def leave_out(
    each: StagedRows, rows: sql.Predicate, staged_steps: Sequence[StagedRows]
) -> Counter[StagedRows]:
    """Leave staged rows out, and at every depth the rows that reference them.

    A row whose parent does not come back must not come back either: another row may have the
    parent's key now.

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
        children = [
            (child, found)
            for child in staged_steps
            for key in child.table.foreign_keys
            if key.parent == step.table.name and child.needs(key) and step.brings(key)
            for found in _numbers(
                child, child.matches_some(step, references_step(child, key, numbers))
            )
        ]
        taken = step.take_out(chosen)
        step.left_out += taken
        gone[step] += taken
        waiting += children
    return gone


def _numbers(each: StagedRows, rows: sql.Predicate) -> Iterator[list[int]]:
    """Yield the numbers of the staged rows that meet a condition, a bounded number at a time."""
    number = each.staged.c.yeldro_row
    found = each.session.connection.execute(sa.select(number).where(rows).order_by(number))
    listed = [row[0] for row in found]
    for start in range(0, len(listed), _AT_ONCE):
        yield listed[start : start + _AT_ONCE]
