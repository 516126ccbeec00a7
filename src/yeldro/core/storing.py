"""Which values of the rows that go or change a receipt holds, and how they are read."""

from __future__ import annotations

from collections.abc import Iterator
from typing import Any

import sqlalchemy as sa

from yeldro.core import sql
from yeldro.core.identity import column_list
from yeldro.core.plan import Action, Prepared, Work
from yeldro.core.protocol import Session
from yeldro.core.receipt import ReceiptWriter
from yeldro.core.rowset import rows_in
from yeldro.core.schema import Column
from yeldro.core.selection import without_parent

_ROWS_AT_ONCE = 1000


def store(session: Session, prepared: Prepared, receipt: ReceiptWriter, with_rows: bool) -> None:
    """Notes every step in the receipt, and the rows it is about to remove or change.

    Args:
        with_rows: store the rows, not only their numbers.
    """
    if with_rows:
        widths = ((work.step.rows, len(work.rows.table.stored_columns)) for work in prepared.work)
        receipt.check_space(sum(rows * width for rows, width in widths))
    for work in prepared.work:
        table = work.rows.table
        receipt.add_step(work.step, table.name)
        if not with_rows or work.step.in_passing:
            continue
        changes = {
            name: value
            for other in prepared.work
            if other.rows.table == table
            for name, value in other.changes.items()
        }
        columns, expressions = _columns_to_store(session, work, changes)
        query = rows_in(session, work.rows, expressions)
        held = query if work.rows.copies else session.held(query)
        receipt.add_rows(work.step, columns, _rows_to_store(session, held))
        if work.step.action is Action.REMOVE:
            if not table.has_key and session.restorable_row_id(table) is None:
                receipt.add_equal_rows_left(work.step, _equal_rows_left(session, work))
            for key in table.foreign_keys:
                parent = session.catalogue.table(key.parent)
                hanging = without_parent(key, work.rows.source, parent)
                rows = sql.count(session.connection, work.rows.source, work.rows.condition, hanging)
                if rows:
                    receipt.add_orphans(work.step, key.name, rows)


def _equal_rows_left(session: Session, work: Work) -> int:
    """Rows that are equal to rows that go, and stay."""
    rows = work.rows
    contents = sql.contents(
        session.readable(rows.source.c[column.name], column) for column in rows.table.stored_columns
    )
    going = sa.select(*contents).where(rows.condition).correlate(None)
    equal = sql.count(session.connection, rows.source, sa.tuple_(*contents).in_(going))
    return equal - rows.rows


def _columns_to_store(
    session: Session, work: Work, changes: dict[str, sa.ColumnElement[Any]]
) -> tuple[list[tuple[str, str, str]], list[sa.ColumnElement[Any]]]:
    """(role, name, type) of what is stored of each row, and the expressions that select it.

    A changed row is found again by its key as it will be then, or by all columns that no step
    changes.

    Args:
        changes: new values by column, by all steps on this table.
    """
    table, source = work.rows.table, work.rows.source
    row_id = session.restorable_row_id(table)
    columns: list[tuple[str, str, str]] = []
    expressions: list[sa.ColumnElement[Any]] = []

    def add(role: str, column: Column, expression: sa.ColumnElement[Any] | None = None) -> None:
        columns.append((role, column.name, column.type))
        value = source.c[column.name] if expression is None else expression
        expressions.append(session.readable(value, column).label(f"c{len(columns)}"))

    if row_id:
        add("row id", column_list(table, [row_id])[0])
    if work.step.action is Action.REMOVE:
        for column in table.stored_columns:
            add("value", column)
        return columns, expressions
    if table.has_key:
        for name in table.identity.columns:
            add("key", table.by_name[name], changes.get(name))
    else:
        for column in table.stored_columns:
            if column.name not in changes:
                add("key", column)
    for name, value in work.changes.items():
        add("old", table.by_name[name])
        add("new", table.by_name[name], value)
    return columns, expressions


def _rows_to_store(session: Session, query: sa.Select[Any]) -> Iterator[list[tuple[Any, ...]]]:
    streamed = session.connection.execute(query.execution_options(stream_results=True))
    return map(session.stored, streamed.partitions(_ROWS_AT_ONCE))
