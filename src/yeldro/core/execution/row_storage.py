"""Storing rows that go or change in the receipt: which of their values, and how they are read."""

from __future__ import annotations

from collections.abc import Iterable, Sequence
from typing import TYPE_CHECKING, Any

import sqlalchemy as sa

from yeldro.core.database import sql
from yeldro.core.database.identity import column_list, computed_columns
from yeldro.core.database.references import (
    fill_staging_table,
    staging_table,
    stored_in_parts,
    without_parent,
)
from yeldro.core.execution.trigger_changes import (
    Counted,
    Watched,
    changed_by_triggers,
    count_changed,
    is_watched,
    watch,
)
from yeldro.core.model.activity import announced
from yeldro.core.model.errors import ROLLED_BACK, Refused
from yeldro.core.model.steps import Action
from yeldro.core.planning.row_sets import rows_in
from yeldro.core.receipts.copies import CopyPlace, make_copy
from yeldro.core.receipts.writer import ReceiptOptions, ReceiptWriter, stored_columns

if TYPE_CHECKING:
    from yeldro.core.database.protocol import Session
    from yeldro.core.model.schema import Column, Table, TableName
    from yeldro.core.planning.plan import Prepared, Work
    from yeldro.core.receipts.format import StoredColumn

_WIDE = 200  # from so many columns on, a trial shows if a table can hold them
_WIDEST = 1998  # columns of a receipt's table: SQLite's limit of 2,000, less two of its own


def store(
    session: Session, prepared: Prepared, receipt: ReceiptWriter, receipt_options: ReceiptOptions
) -> list[Watched | Counted]:
    """Note every step in the receipt, and keep the rows it is about to remove or change.

    Returns:
        Whole rows that are stored after the steps, when it is known what triggers made of them.
    """
    watched: list[Watched | Counted] = []
    if receipt_options.with_rows and not receipt_options.copy_to:
        widths = ((work.step.rows, len(work.rows.table.stored_columns)) for work in prepared.work)
        receipt.check_space(sum(rows * width for rows, width in widths))
    of_table: dict[TableName, list[Work]] = {}
    for work in prepared.work:
        of_table.setdefault(work.rows.table.name, []).append(work)
    total = sum(work.step.rows for work in prepared.work if not work.step.auxiliary)
    stored = 0
    for work in prepared.work:
        table = work.rows.table
        receipt.add_step(work.step, table.name)
        if not receipt_options.with_rows or work.step.auxiliary:
            continue
        if table.name in receipt.changed_before and counted_only(session, table):
            raise Refused(
                f"{table.name} has no key, and an earlier remove of this run has changed rows of "
                f"it: nothing would tell which of them this one takes, to put them back.",
                f"Give {table.name} a key, run the removes one by one, or use ‹without_rows›.",
                data=ROLLED_BACK,
            )
        changes = _changes(of_table[table.name])
        if is_watched(work, receipt_options):
            watched.append(watch(session, work, changes))
            continue
        earlier = [each for each in of_table[table.name] if each.step.n < work.step.n]
        columns, values = _columns_to_store(session, work, earlier, changes)
        known = {column.name: column for column in (*table.columns, *table.row_id_columns)}
        forms = [
            session.readable(value, known[name]).label(f"c{place}")
            for place, (value, (_, name, _)) in enumerate(zip(values, columns, strict=True))
        ]
        query = rows_in(session, work.rows, forms)
        if len(columns) >= _WIDE:
            _check_width(session, table, columns, query)
        if receipt_options.copy_to:
            _copy(session, work, receipt, receipt_options.copy_to, stored_columns(columns), values)
        else:
            held = query if work.rows.copies else session.locking_read(query)
            parts = announced(
                stored_in_parts(session, held), "storing", table.name, rows=stored, total=total
            )
            stored += work.step.rows
            receipt.add_rows(work.step, columns, parts, work.step.rows)
        if counted_only(session, table):
            removed = work.step.action is Action.REMOVE
            left = (
                _equal_rows_left(session, work) if removed else _equal_after(session, work, changes)
            )
            receipt.add_equal_rows_left(work.step, left)
        if work.step.action is Action.REMOVE:
            _note_orphans(session, work, receipt)
    if receipt_options.with_rows:
        watched += [count_changed(session, works) for works in _changed_unseen(prepared)]
    return watched


def _note_orphans(session: Session, work: Work, receipt: ReceiptWriter) -> None:
    """Note how many rows that go have no parent row, by foreign key: a restore tells them."""
    rows = work.rows
    for key in rows.table.foreign_keys:
        lost = without_parent(key, rows.source, session.catalogue.table(key.parent))
        orphans = sql.count(session.connection, rows.source, rows.condition, lost)
        if orphans:
            receipt.add_orphans(work.step, key.name, orphans)


def _check_width(
    session: Session,
    table: Table,
    columns: Sequence[tuple[str, str, str]],
    query: sa.Select[Any],
) -> None:
    """Refuse rows that a restore could not stage in a temporary table.

    Args:
        query: the rows, as they are stored.

    Raises:
        Refused: a table of the system, or of the receipt, cannot hold such a row.
    """
    why = f"a table of a receipt has {_WIDEST:,} columns at most"
    if len(columns) <= _WIDEST:
        try:
            staged = staging_table(session, {f"c{n}": each[1:] for n, each in enumerate(columns)})
            fill_staging_table(session, staged, query)
        except sa.exc.DBAPIError as error:
            why = session.reason(error)
        else:
            return
    raise Refused(
        f"{table.name} has {len(columns):,} columns to store, and its rows could not be put back: "
        f"{why}.",
        "Run it without keeping rows: ‹without_rows›.",
        data=ROLLED_BACK,
    )


def counted_only(session: Session, table: Table) -> bool:
    """True if a receipt can only count which of several equal rows it holds."""
    return not table.has_key and session.restorable_row_id(table) is None


def become_equal(session: Session, prepared: Prepared, work: Work) -> bool:
    """True if rows of a step are equal to others of their table, once the step is done."""
    rows = work.rows
    name = rows.table.name
    changes = _changes([each for each in prepared.work if each.rows.table.name == name])
    if work.step.action is Action.REMOVE:
        columns, left = list(rows.table.stored_columns), _equal_rows_left(session, work)
    else:
        columns, left = _columns_after(work, changes), _equal_after(session, work, changes)
    values = _contents_after(session, work, columns)
    named = [value.label(f"c{place}") for place, value in enumerate(values)]
    different = sa.select(*named).where(rows.condition).distinct().select_from(rows.source)
    return left > 0 or sql.count(session.connection, different.subquery()) < rows.rows


def _changes(works: Iterable[Work]) -> dict[str, sa.ColumnElement[Any]]:
    """Return the new values by column, of all steps on one table."""
    return {name: value for work in works for name, value in work.changes.items()}


def _changed_unseen(prepared: Prepared) -> Iterable[list[Work]]:
    """Return the steps, by table, in whose rows a trigger may change what finds them again."""
    by_table: dict[TableName, list[Work]] = {}
    for work in prepared.work:
        if changed_by_triggers(work) and not work.rows.table.has_key:
            by_table.setdefault(work.rows.table.name, []).append(work)
    return by_table.values()


def _copy(
    session: Session,
    work: Work,
    receipt: ReceiptWriter,
    place: CopyPlace,
    columns: list[StoredColumn],
    values: list[sa.ColumnElement[Any]],
) -> None:
    """Keep the rows of a step as a table of the database."""
    table = work.rows.table
    name = place.name_for(work.step, table.name, receipt.copies)
    labelled = [value.label(f"c{n}") for n, value in enumerate(values)]
    query = rows_in(session, work.rows, labelled)
    make_copy(session, name, table, columns, query, work.step.rows)
    receipt.add_copy(work.step, name, columns)


def _equal_rows_left(session: Session, work: Work) -> int:
    """Return the rows that stay and are equal to rows that go."""
    rows = work.rows
    contents = sql.contents(
        session.readable(rows.source.c[column.name], column) for column in rows.table.stored_columns
    )
    going = sa.select(*contents).where(rows.condition).correlate(None)
    equal = sql.count(session.connection, rows.source, sa.tuple_(*contents).in_(going))
    return equal - rows.rows


def _equal_after(session: Session, work: Work, changes: dict[str, sa.ColumnElement[Any]]) -> int:
    """Return the number of rows that stay and will equal the changed ones.

    Columns that other steps change are left out of the comparison.

    Args:
        changes: new values by column, by all steps on this table.
    """
    rows, columns = work.rows, _columns_after(work, changes)
    now = sql.contents(session.readable(rows.source.c[each.name], each) for each in columns)
    then = _contents_after(session, work, columns)
    changed = sa.select(*then).select_from(rows.source).where(rows.condition).correlate(None)
    return sql.count(session.connection, rows.source, sa.tuple_(*now).in_(changed))


def _contents_after(
    session: Session, work: Work, columns: Sequence[Column]
) -> list[sa.ColumnElement[Any]]:
    """Return what rows are compared by, with the values that the step gives them."""
    rows = work.rows.source
    return sql.contents(
        session.readable(work.changes.get(each.name, rows.c[each.name]), each) for each in columns
    )


def _columns_after(work: Work, changes: dict[str, sa.ColumnElement[Any]]) -> list[Column]:
    """Return the columns whose values are known after a step: all but those others change."""
    return [
        column
        for column in work.rows.table.stored_columns
        if column.name in work.changes or column.name not in changes
    ]


def _value_then(work: Work, earlier: Sequence[Work], column: Column) -> sa.ColumnElement[Any]:
    """Return a column's value when a step comes to it, after earlier steps on the same table."""
    value: sa.ColumnElement[Any] = work.rows.source.c[column.name]
    for other in earlier:
        if column.name in other.changes:
            changed = (other.rows.condition, other.changes[column.name])
            value = sa.case(changed, else_=value)
    return value


def _columns_to_store(
    session: Session,
    work: Work,
    earlier: Sequence[Work],
    changes: dict[str, sa.ColumnElement[Any]],
) -> tuple[list[tuple[str, str, str]], list[sa.ColumnElement[Any]]]:
    """Return (role, name, type) of what is stored of each row, and its values.

    A changed row is found again by its key as it will be then, or by all columns that no step
    changes. As rows can agree in those, the columns that other steps change are stored too, with
    their values at that step.

    Args:
        earlier: the earlier steps on this table.
        changes: new values by column, by all steps on this table.
    """
    table, source = work.rows.table, work.rows.source
    row_id = session.restorable_row_id(table)
    columns: list[tuple[str, str, str]] = []
    expressions: list[sa.ColumnElement[Any]] = []

    def add(role: str, column: Column, expression: sa.ColumnElement[Any] | None = None) -> None:
        columns.append((role, column.name, column.type))
        expressions.append(source.c[column.name] if expression is None else expression)

    if row_id:
        add("row id", column_list(table, [row_id])[0])
    if work.step.action is Action.REMOVE:
        for column in table.stored_columns:
            add("value", column)
        for column in computed_columns(session, table):
            add("computed", column)
        return columns, expressions
    if table.has_key:
        for name in table.identity.columns:
            add("key", table.by_name[name], changes.get(name))
    else:
        for column in table.stored_columns:
            if column.name not in changes:
                add("key", column)
            elif column.name not in work.changes and row_id is None:
                add("then", column, _value_then(work, earlier, column))
    for name, value in work.changes.items():
        add("old", table.by_name[name])
        add("new", table.by_name[name], value)
    return columns, expressions
