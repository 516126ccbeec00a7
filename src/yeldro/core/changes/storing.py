"""Storing rows that go or change in the receipt: which of their values, and how they are read."""

from __future__ import annotations

from collections.abc import Collection, Iterable, Mapping, Sequence
from typing import TYPE_CHECKING, Any

import sqlalchemy as sa

from yeldro.core.changes.change_set import rows_in
from yeldro.core.changes.watching import (
    Counted,
    Watched,
    changed_by_triggers,
    count_changed,
    is_watched,
    watch,
)
from yeldro.core.database import sql
from yeldro.core.database.identity import column_list, computed_columns
from yeldro.core.database.references import (
    fill_staging_table,
    staging_table,
    stored_in_parts,
    without_parent,
)
from yeldro.core.model.messages.activity import announced
from yeldro.core.model.messages.errors import ROLLED_BACK, Refused
from yeldro.core.model.work.steps import Action
from yeldro.core.receipts.copies import CopyPlace, make_copy
from yeldro.core.receipts.writer import ReceiptOptions, ReceiptWriter, stored_columns

if TYPE_CHECKING:
    from yeldro.core.changes.change_set import Change
    from yeldro.core.database.protocol import Session
    from yeldro.core.model.tables.schema import Column, Table, TableName
    from yeldro.core.receipts.format import StoredColumn

_WIDE = 200  # from so many columns on, a trial shows if a table can hold them
_WIDEST = 1998  # columns of a receipt's table: SQLite's limit of 2,000, less two of its own


def store(
    session: Session,
    changes: Sequence[Change],
    receipt: ReceiptWriter,
    receipt_options: ReceiptOptions,
    changed_by_others: Mapping[TableName, Collection[str]],
) -> list[Watched | Counted]:
    """Note every step in the receipt, and keep the rows it is about to remove or change.

    Args:
        changed_by_others: columns that other batches change, by table: all store the same columns.

    Returns:
        Whole rows that are stored after the steps, when it is known what triggers made of them.
    """
    watched: list[Watched | Counted] = []
    if receipt_options.with_rows and not receipt_options.copy_to:
        widths = ((change.step.rows, len(change.rows.table.stored_columns)) for change in changes)
        receipt.check_space(sum(rows * width for rows, width in widths))
    of_table: dict[TableName, list[Change]] = {}
    for change in changes:
        of_table.setdefault(change.rows.table.name, []).append(change)
    total = sum(change.step.rows for change in changes if not change.step.auxiliary)
    stored = 0
    for change in changes:
        table = change.rows.table
        receipt.add_step(change.step, table.name)
        if not receipt_options.with_rows or change.step.auxiliary:
            continue
        _check_comes_back(session, change)
        if receipt.mixes(change.step, table.name) and counted_only(session, table):
            raise Refused(
                f"{table.name} has no key, and an earlier remove of this run has taken or changed "
                f"rows of it: nothing would tell which of them this one takes, to put them back.",
                f"Give {table.name} a key, run the removes one by one, or use ‹without_rows›.",
                data=ROLLED_BACK,
            )
        new_values = _new_values(of_table[table.name])
        if is_watched(change, receipt_options):
            others = changed_by_others.get(table.name, ())
            watched.append(watch(session, change, new_values, others))
            continue
        earlier = [each for each in of_table[table.name] if each.step.n < change.step.n]
        columns, values = _columns_to_store(session, change, earlier, new_values)
        known = {column.name: column for column in (*table.columns, *table.row_id_columns)}
        forms = [
            session.readable(value, known[name]).label(f"c{place}")
            for place, (value, (_, name, _)) in enumerate(zip(values, columns, strict=True))
        ]
        query = rows_in(session, change.rows, forms)
        if len(columns) >= _WIDE:
            _check_width(session, table, columns, query)
        if receipt_options.copy_to:
            _copy(
                session, change, receipt, receipt_options.copy_to, stored_columns(columns), values
            )
        else:
            held = query if change.rows.copies else session.locking_read(query)
            parts = announced(
                stored_in_parts(session, held), "storing", table.name, rows=stored, total=total
            )
            stored += change.step.rows
            receipt.add_rows(change.step, columns, parts, change.step.rows)
        if counted_only(session, table):
            removed = change.step.action is Action.REMOVE
            left = (
                _equal_rows_left(session, change)
                if removed
                else _equal_after(session, change, new_values)
            )
            receipt.add_equal_rows_left(change.step, left)
        if change.step.action is Action.REMOVE:
            _note_orphans(session, change, receipt)
    if receipt_options.with_rows:
        watched += [count_changed(session, some) for some in _changed_unseen(changes)]
    return watched


def _check_comes_back(session: Session, change: Change) -> None:
    """Refuse to remove rows that could not be inserted again."""
    table = change.rows.table
    why = session.why_not_inserted(table) if change.step.action is Action.REMOVE else ""
    if why:
        raise Refused(
            f"Rows of {table.name} could not be put back: {why}.",
            "Remove them in the program that uses this file, or use ‹without_rows›.",
            data=ROLLED_BACK,
        )


def _note_orphans(session: Session, change: Change, receipt: ReceiptWriter) -> None:
    """Note how many rows that go have no parent row, by foreign key: a restore tells them."""
    rows = change.rows
    for key in rows.table.foreign_keys:
        lost = without_parent(key, rows.source, session.catalogue.table(key.parent))
        orphans = sql.count(session.connection, rows.source, rows.condition, lost)
        if orphans:
            receipt.add_orphans(change.step, key.name, orphans)


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


def become_equal(session: Session, changes: Sequence[Change], change: Change) -> bool:
    """True if rows of a step are equal to others of their table, once the step is done."""
    rows = change.rows
    name = rows.table.name
    new_values = _new_values([each for each in changes if each.rows.table.name == name])
    if change.step.action is Action.REMOVE:
        columns, left = list(rows.table.stored_columns), _equal_rows_left(session, change)
    else:
        columns, left = (
            _columns_after(change, new_values),
            _equal_after(session, change, new_values),
        )
    values = _contents_after(session, change, columns)
    named = [value.label(f"c{place}") for place, value in enumerate(values)]
    different = sa.select(*named).where(rows.condition).distinct().select_from(rows.source)
    return left > 0 or sql.count(session.connection, different.subquery()) < rows.rows


def _new_values(changes: Iterable[Change]) -> dict[str, sa.ColumnElement[Any]]:
    """Return the new values by column, of all steps on one table."""
    return {name: value for change in changes for name, value in change.values.items()}


def _changed_unseen(changes: Sequence[Change]) -> Iterable[list[Change]]:
    """Return the steps, by table, in whose rows a trigger may change what finds them again."""
    by_table: dict[TableName, list[Change]] = {}
    for change in changes:
        if changed_by_triggers(change) and not change.rows.table.has_key:
            by_table.setdefault(change.rows.table.name, []).append(change)
    return by_table.values()


def _copy(
    session: Session,
    change: Change,
    receipt: ReceiptWriter,
    place: CopyPlace,
    columns: list[StoredColumn],
    values: list[sa.ColumnElement[Any]],
) -> None:
    """Keep the rows of a step as a table of the database."""
    table = change.rows.table
    name = place.name_for(change.step, table.name, receipt.copies)
    labelled = [value.label(f"c{n}") for n, value in enumerate(values)]
    query = rows_in(session, change.rows, labelled)
    make_copy(session, name, table, columns, query, change.step.rows)
    receipt.add_copy(change.step, name, columns)


def _equal_rows_left(session: Session, change: Change) -> int:
    """Return the rows that stay and are equal to rows that go."""
    rows = change.rows
    contents = sql.contents(
        session.readable(rows.source.c[column.name], column) for column in rows.table.stored_columns
    )
    going = sa.select(*contents).where(rows.condition).correlate(None)
    equal = sql.count(session.connection, rows.source, sa.tuple_(*contents).in_(going))
    return equal - rows.rows


def _equal_after(
    session: Session, change: Change, new_values: dict[str, sa.ColumnElement[Any]]
) -> int:
    """Return the number of rows that stay and will equal the changed ones.

    Columns that other steps change are left out of the comparison.

    Args:
        new_values: new values by column, by all steps on this table.
    """
    rows, columns = change.rows, _columns_after(change, new_values)
    now = sql.contents(session.readable(rows.source.c[each.name], each) for each in columns)
    then = _contents_after(session, change, columns)
    changed = sa.select(*then).select_from(rows.source).where(rows.condition).correlate(None)
    return sql.count(session.connection, rows.source, sa.tuple_(*now).in_(changed))


def _contents_after(
    session: Session, change: Change, columns: Sequence[Column]
) -> list[sa.ColumnElement[Any]]:
    """Return what rows are compared by, with the values that the step gives them."""
    rows = change.rows.source
    return sql.contents(
        session.readable(change.values.get(each.name, rows.c[each.name]), each) for each in columns
    )


def _columns_after(change: Change, new_values: dict[str, sa.ColumnElement[Any]]) -> list[Column]:
    """Return the columns whose values are known after a step: all but those others change."""
    return [
        column
        for column in change.rows.table.stored_columns
        if column.name in change.values or column.name not in new_values
    ]


def _value_then(change: Change, earlier: Sequence[Change], column: Column) -> sa.ColumnElement[Any]:
    """Return a column's value when a step comes to it, after earlier steps on the same table."""
    value: sa.ColumnElement[Any] = change.rows.source.c[column.name]
    for other in earlier:
        if column.name in other.values:
            changed = (other.rows.condition, other.values[column.name])
            value = sa.case(changed, else_=value)
    return value


def _columns_to_store(
    session: Session,
    change: Change,
    earlier: Sequence[Change],
    new_values: dict[str, sa.ColumnElement[Any]],
) -> tuple[list[tuple[str, str, str]], list[sa.ColumnElement[Any]]]:
    """Return (role, name, type) of what is stored of each row, and its values.

    A changed row is found again by its key as it will be then, or by all columns that no step
    changes. As rows can agree in those, the columns that other steps change are stored too, with
    their values at that step.

    Args:
        earlier: the earlier steps on this table.
        new_values: new values by column, by all steps on this table.
    """
    table, source = change.rows.table, change.rows.source
    row_id = session.restorable_row_id(table)
    columns: list[tuple[str, str, str]] = []
    expressions: list[sa.ColumnElement[Any]] = []

    def add(role: str, column: Column, expression: sa.ColumnElement[Any] | None = None) -> None:
        columns.append((role, column.name, column.type))
        expressions.append(source.c[column.name] if expression is None else expression)

    if row_id:
        add("row id", column_list(table, [row_id])[0])
    if change.step.action is Action.REMOVE:
        for column in table.stored_columns:
            add("value", column)
        for column in computed_columns(table):
            add("computed", column)
        return columns, expressions
    if table.has_key:
        for name in table.identity.columns:
            add("key", table.by_name[name], new_values.get(name))
    else:
        for column in table.stored_columns:
            if column.name not in new_values:
                add("key", column)
            elif column.name not in change.values and row_id is None:
                add("then", column, _value_then(change, earlier, column))
    for name, value in change.values.items():
        add("old", table.by_name[name])
        add("new", table.by_name[name], value)
    return columns, expressions
