"""The receipt of a restore itself: each step is the inverse of one in the restored receipt."""

from __future__ import annotations

from collections.abc import Iterator, Sequence
from dataclasses import replace
from typing import TYPE_CHECKING, Any

import sqlalchemy as sa

from yeldro.core.database.identity import computed_columns
from yeldro.core.database.references import stored_in_parts
from yeldro.core.model.work.steps import Action, Step
from yeldro.core.restore.comparing.conflicts import lacks_parent

if TYPE_CHECKING:
    from yeldro.core.receipts.writer import ReceiptWriter
    from yeldro.core.restore.staged.undoing import UndoneRows

_OTHER_WAY = {Action.REMOVE: Action.ADD, Action.ADD: Action.REMOVE}

Columns = list[tuple[str, str, str]]


def inverse(each: UndoneRows, n: int, source: str) -> Step:
    """Return the step that undoes a step of a receipt.

    Args:
        source: the id of the receipt that is restored.
    """
    action = _OTHER_WAY.get(each.step.action, Action.RELINK)
    name = str(each.table.name)
    return Step(n, action, name, each.missing, f"restore of {source}", (name,))


def store_before(each: UndoneRows, step: Step, receipt: ReceiptWriter, with_rows: bool) -> None:
    """Note a step that is about to be undone, and the rows that can only be read before."""
    if step.action is Action.RELINK:
        _store_links(each, step, receipt, with_rows)
        return
    receipt.add_step(step, each.table.name)
    if with_rows and (each.told_by_count or step.action is Action.REMOVE):
        receipt.add_rows(step, *_as_staged(each), step.rows)
        if each.told_by_count:
            stay = each.equal_rows() - (each.missing if step.action is Action.REMOVE else 0)
            receipt.add_equal_rows_left(step, stay)


def orphans(each: UndoneRows) -> dict[str, int]:
    """Return the rows that are about to go and have no parent row even now, by foreign key."""
    if each.step.action is not Action.ADD:
        return {}
    found = {key.name: lacks_parent(each, key) for key in each.table.foreign_keys}
    return {
        name: rows
        for name, orphaned in found.items()
        if orphaned is not None and (rows := each.count(orphaned))
    }


def _store_links(each: UndoneRows, step: Step, receipt: ReceiptWriter, with_rows: bool) -> None:
    """Note links that are about to be set."""
    to_be_set = each.exists(*each.found_by(each.key), *each.agree(each.named("new")))
    rows = step.rows if each.told_by_count else each.count(to_be_set)
    receipt.add_step(replace(step, rows=rows), each.table.name)
    if with_rows:
        columns, expressions = _swapped(each)
        receipt.add_rows(
            step,
            columns,
            stored_in_parts(each.session, sa.select(*expressions).where(to_be_set)),
            rows,
        )
        if each.told_by_count:
            receipt.add_equal_rows_left(step, each.equal_rows("old"))


def store_after(
    each: UndoneRows,
    step: Step,
    receipt: ReceiptWriter,
    others: Sequence[UndoneRows],
    *,
    as_stored: bool,
) -> None:
    """Store added rows as they are now that everything is in place.

    Args:
        others: all steps of the restore.
        as_stored: it is proved that all rows are as the restored receipt holds them.
    """
    if step.action is not Action.ADD or each.told_by_count:
        return
    table = each.table
    computed = computed_columns(table)
    columns = [("value", column.name, column.type) for column in table.stored_columns]
    columns += [("computed", column.name, column.type) for column in computed]
    expressions = [
        each.session.readable(each.rows.c[column.name], column).label(f"c{place}")
        for place, column in enumerate([*table.stored_columns, *computed])
    ]
    alone = all(other is each or other.table.name != table.name for other in others)
    whole = each.stored == each.missing == each.step.affected
    same = columns == [(column.role, column.name, column.type) for column in each.step.columns]
    if as_stored and alone and whole and same and not each.recomputed and each.step.rows_table:
        receipt.add_rows_of(step, columns, each.step.rows_table, step.rows)
        return
    if each.row_id:
        columns.insert(0, ("row id", each.row_id, ""))
        expressions.insert(0, each.rows.c[each.row_id].label("yeldro_id"))
    query = sa.select(*expressions).select_from(each.rows).where(each.is_stored_row(each.rows))
    receipt.add_rows(step, columns, stored_in_parts(each.session, query), step.rows)


def _swapped(each: UndoneRows) -> tuple[Columns, list[sa.ColumnElement[Any]]]:
    """Return a changed row's columns with old and new swapped, and the key it had before."""
    old, new = dict(each.named("old")), dict(each.named("new"))
    was, left = dict(each.named("was")), dict(each.named("left"))
    columns: Columns = []
    expressions: list[sa.ColumnElement[Any]] = []
    for stored_as, column in each.roles.items():
        mine = {"key": old.get(column.name, stored_as), "old": new.get(column.name),
                "new": old.get(column.name), "was": left.get(column.name),
                "left": was.get(column.name)}.get(column.role) or stored_as  # fmt: skip
        value: sa.ColumnElement[Any] = each.staged.c[mine]
        columns.append((column.role, column.name, column.type))
        expressions.append(value.label(f"c{len(columns)}"))
    return columns, expressions


def _as_staged(each: UndoneRows) -> tuple[Columns, Iterator[Sequence[Sequence[Any]]]]:
    """Return the rows as they are staged, with the row ids that they have and will have."""
    roles = {"value", "computed"}
    roles |= {"row id"} if each.row_id and not each.row_ids_taken() else set()
    pairs = [
        (column, own)
        for own, column in each.roles.items()
        if column.role in roles and column.name not in each.recomputed
    ]
    columns = [(column.role, column.name, column.type) for column, _ in pairs]
    query = sa.select(*(each.staged.c[own] for _, own in pairs)).order_by(each.staged.c.yeldro_row)
    return columns, stored_in_parts(each.session, query)
