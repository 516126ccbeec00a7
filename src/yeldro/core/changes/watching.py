"""Rows that a step changes and a trigger may change further: stored whole, before and after."""

from __future__ import annotations

from collections.abc import Collection, Mapping, Sequence
from dataclasses import dataclass
from typing import TYPE_CHECKING, Any

import sqlalchemy as sa

from yeldro.core.database import sql
from yeldro.core.database.identity import column_list
from yeldro.core.database.references import stored_in_parts
from yeldro.core.model.messages.errors import CountMismatch
from yeldro.core.model.messages.names import told_rows
from yeldro.core.model.tables.schema import Column, Table
from yeldro.core.model.work.steps import Action, Step

if TYPE_CHECKING:
    from yeldro.core.changes.change_set import Change
    from yeldro.core.database.protocol import Session
    from yeldro.core.receipts.writer import ReceiptOptions, ReceiptWriter


@dataclass(frozen=True)
class Watched:
    """The rows of a step as they were before it.

    Args:
        staged: a temporary table with the values of `columns`, named by their places.
        columns: (role, name, type): key, old and was.
    """

    session: Session
    table: Table
    step: Step
    staged: sa.TableClause
    columns: tuple[tuple[str, str, str], ...]

    def store(self, receipt: ReceiptWriter) -> None:
        """Put the rows into the receipt, as they were and as they are when all steps are done.

        Raises:
            CountMismatch: a trigger has changed the keys of some rows.
        """
        rows = sql.rows_of(self.table)
        same: list[sql.Predicate] = []
        columns = list(self.columns)
        values: list[sa.ColumnElement[Any]] = [
            self.staged.c[f"c{place}"] for place in range(len(columns))
        ]
        for place, (role, name, declared) in enumerate(self.columns):
            column = column_list(self.table, [name])[0]
            if role == "key":
                staged = self.session.typed(self.staged.c[f"c{place}"], column)
                same.append(rows.c[name] == staged)
            elif role in ("old", "was"):
                columns.append(("new" if role == "old" else "left", name, declared))
                values.append(self.session.readable(rows.c[name], column))
        joined = self.staged.join(rows, sa.and_(*same))
        found = sql.count(self.session.connection, joined)
        if found != self.step.rows:
            raise CountMismatch(
                f"Step {self.step.n} ({self.step.action} {self.table.name}) changed "
                f"{self.step.rows:,} rows, and {found:,} have the key they should have now.",
                f"A trigger may change keys: see ⟨survey {self.table.name}⟩.",
            )
        labelled = [value.label(f"v{place}") for place, value in enumerate(values)]
        query = sa.select(*labelled).select_from(joined).order_by(self.staged.c.yeldro_row)
        receipt.add_rows(self.step, columns, stored_in_parts(self.session, query), self.step.rows)


def changed_by_triggers(change: Change) -> bool:
    """True if a step changes rows, and a trigger may change them further."""
    return change.step.action is not Action.REMOVE and any(
        trigger.event == "update" for trigger in change.rows.table.triggers
    )


def is_watched(change: Change, receipt_options: ReceiptOptions) -> bool:
    """True if only the rows themselves tell what a step makes of them, and a key finds them.

    A trigger may change them further; and a column may hold a value that it was given in another
    form than an expression for it has.
    """
    unsure = changed_by_triggers(change) or change.step.action is Action.FILL
    return receipt_options.copy_to is None and change.rows.table.has_key and unsure


def watch(
    session: Session,
    change: Change,
    new_values: Mapping[str, sa.ColumnElement[Any]],
    changed_by_others: Collection[str],
) -> Watched:
    """Stage the rows that a step is about to change.

    Args:
        new_values: new values by column, by all steps on the table.
        changed_by_others: columns of the table that other batches change.
    """
    table, rows = change.rows.table, change.rows.source
    parts: list[tuple[str, Column, sa.ColumnElement[Any]]] = []
    for name in table.identity.columns:
        parts.append(("key", table.by_name[name], new_values.get(name, rows.c[name])))
    for column in table.stored_columns:
        if column.name in change.values:
            parts.append(("old", column, rows.c[column.name]))
        elif column.name in table.identity.columns:
            continue
        elif column.name in changed_by_others or column.name not in new_values:
            parts.append(("was", column, rows.c[column.name]))
    forms = [session.readable(value, column) for _, column, value in parts]
    found = sa.select(sa.func.row_number().over(), *forms).where(change.rows.condition)
    query = session.locking_read(found.select_from(rows))
    staged = _staged(session, [column for _, column, _ in parts], query)
    columns = tuple((role, column.name, column.type) for role, column, _ in parts)
    return Watched(session, table, change.step, staged, columns)


@dataclass(frozen=True)
class Counted:
    """Changed rows of a table without a key, which only their values identify.

    Args:
        staged: a temporary table with each row's values as they should be when all is done.
        equal: rows of the table that were equal to one of these before.
        rows: the number of rows that change.
    """

    session: Session
    table: Table
    staged: sa.TableClause
    equal: int
    rows: int

    def store(self, receipt: ReceiptWriter) -> None:
        """Verify that the rows are as the receipt describes them, so that a restore finds them.

        Raises:
            CountMismatch: a trigger has changed them further.
        """
        del receipt
        found = _equal_to(self.session, self.table, self.staged) - self.equal
        if found != self.rows:
            lost = max(self.rows - found, 1)
            raise CountMismatch(
                f"A trigger changes {told_rows(lost, self.table.name, 'further', 'further')}, and "
                f"without a key no restore would find them again.",
                f"Give {self.table.name} a key, or run ‹without_rows›.",
            )


def count_changed(session: Session, changes: Sequence[Change]) -> Counted:
    """Stage the rows of a table without a key as they should be after all steps.

    Args:
        changes: the steps that change rows of the table.
    """
    table, rows = changes[0].rows.table, changes[0].rows.source
    values: list[sa.ColumnElement[Any]] = []
    for column in table.stored_columns:
        value: sa.ColumnElement[Any] = rows.c[column.name]
        for change in changes:
            if column.name in change.values:
                value = sa.case((change.rows.condition, change.values[column.name]), else_=value)
        values.append(session.readable(value, column))
    changing = sa.or_(*(change.rows.condition for change in changes))
    found = sa.select(sa.func.row_number().over(), *values).where(changing)
    staged = _staged(session, table.stored_columns, found.select_from(rows))
    equal = _equal_to(session, table, staged)
    return Counted(session, table, staged, equal, sql.count(session.connection, staged))


def _staged(session: Session, columns: Sequence[Column], query: sa.Select[Any]) -> sa.TableClause:
    """Make a temporary table of a query's rows.

    Args:
        query: selects a number for each row and then a value for each of `columns`.
    """
    number = Column("yeldro_row", "bigint", nullable=False, row_id=True)
    declared = [Column(f"c{n}", session.staging_type(each)) for n, each in enumerate(columns)]
    staged = session.create_key_table([number, *declared], 1)
    session.connection.execute(sa.insert(staged).from_select(list(staged.c), query))
    session.key_table_filled(staged)
    return staged


def _equal_to(session: Session, table: Table, staged: sa.TableClause) -> int:
    """Return the number of rows of a table that equal some staged row."""
    rows = sql.rows_of(table)
    ours = (session.readable(rows.c[column.name], column) for column in table.stored_columns)
    theirs = [staged.c[f"c{place}"] for place in range(len(table.stored_columns))]
    wanted = sa.select(*sql.contents(theirs)).correlate(None)
    return sql.count(session.connection, rows, sa.tuple_(*sql.contents(ours)).in_(wanted))
