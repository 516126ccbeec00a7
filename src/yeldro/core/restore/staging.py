"""Staging the stored rows of a receipt in temporary tables."""

from __future__ import annotations

from collections import defaultdict
from collections.abc import Sequence
from contextlib import closing
from dataclasses import dataclass, field
from typing import TYPE_CHECKING, Any

import sqlalchemy as sa

from yeldro.core.database import sql
from yeldro.core.database.references import fill_staging_table
from yeldro.core.model.messages.activity import announce
from yeldro.core.model.messages.errors import DatabaseFailure, Refused, UnknownName, UsageError
from yeldro.core.model.messages.names import same_name
from yeldro.core.model.tables.schema import Column
from yeldro.core.model.work.steps import Action
from yeldro.core.receipts import format as form
from yeldro.core.receipts.reader import Receipt, formed_rows, native_query, native_rows
from yeldro.core.restore.comparing.key_swaps import reassigned
from yeldro.core.restore.order import in_order
from yeldro.core.restore.staged.added_rows import AddedRows
from yeldro.core.restore.staged.net_changes import net_changes
from yeldro.core.restore.staged.undoing import UndoneRows

if TYPE_CHECKING:
    from yeldro.core.database.protocol import Session
    from yeldro.core.model.tables.schema import TableName
    from yeldro.core.receipts.reader import ReceiptStep

_AT_ONCE = 1000
_OF_WHOLE_ROWS = {"value", "computed", "row id"}
_OF_CHANGED_ROWS = {"key", "old", "new", "then", "was", "left", "row id"}


@dataclass(frozen=True)
class Scope:
    """Which of a receipt's rows to restore.

    Args:
        only: tables, as typed; empty for all.
        skip_conflicts: rows in conflict are left out.
        where: a condition on the stored rows of one table.
    """

    only: tuple[str, ...] = ()
    skip_conflicts: bool = False
    where: str | None = None


EVERYTHING = Scope()


@dataclass(frozen=True)
class StagedSteps:
    """The staged steps of a receipt.

    Args:
        steps: the steps to undo, in order.
        parents: steps that are not undone, and whose rows are parents of rows that are.
    """

    steps: list[UndoneRows]
    parents: list[UndoneRows] = field(default_factory=list)


def stage(session: Session, receipt: Receipt, scope: Scope) -> StagedSteps:
    """Return the receipt's steps last first, so that parents go back before their children."""
    if receipt.outcome == form.OPEN:
        return StagedSteps([])
    if receipt.system != session.traits.name:
        raise Refused(
            f"The rows of this receipt are {receipt.system}'s, and this is {session.traits.name}.",
            "Export them with ⟨receipt export⟩, and load the files there.",
        )
    if receipt.steps and not receipt.holds_rows and not receipt.copies:
        raise Refused(
            "This receipt holds counts and no rows, so nothing can be compared or put back.",
            "Rows are stored unless a run has ‹without_rows›.",
        )
    kept = [step for step in receipt.steps if step.is_kept]
    _check_columns(kept)
    stored = wanted_steps(kept, scope)
    _check_tables(session, stored)
    changing: dict[TableName, set[str]] = defaultdict(set)
    for step in kept:
        changing[step.table].update(each.name for each in step.columns if each.role == "old")
    staged_steps = [
        (AddedRows if step.action is Action.ADD else UndoneRows)(
            session, step, changing[step.table]
        )
        for step in stored
    ]
    for place, each in enumerate(staged_steps, 1):
        announce("reading stored rows of", each.table.name, place, len(staged_steps))
        _fill(each, receipt, scope.where)
    staged_steps = net_changes(staged_steps)[::-1]
    for each in staged_steps:
        if each.holds_whole_rows and each.table.has_key:
            each.reassigned = reassigned(each, staged_steps)
    named = {key.parent for each in staged_steps for key in each.table.foreign_keys}
    parents = [
        UndoneRows(session, step, changing[step.table])
        for step in kept
        if step not in stored and step.action is not Action.ADD and step.table in named
    ]
    for each in parents:
        _fill(each, receipt, None)
    parents = net_changes(parents)
    for each in (*staged_steps, *parents):
        session.key_table_filled(each.staged)
    gone = [each for each in parents if each.step.action is Action.REMOVE]
    return StagedSteps(in_order(staged_steps), gone)


def _check_tables(session: Session, steps: Sequence[ReceiptStep]) -> None:
    """Refuse to put rows back into tables that are not there.

    Raises:
        Refused: some are not; what the receipt knows of them is named.
    """
    columns: dict[str, list[str]] = {}
    for step in steps:
        if not session.catalogue.has_table(step.table):
            columns.setdefault(str(step.table), []).extend(
                f"{each.name} {each.type}".strip()
                for each in step.columns
                if each.role in ("value", "key", "old")
            )
    if columns:
        told = "; ".join(f"{name} ({', '.join(dict.fromkeys(listed))})"
                         for name, listed in columns.items())  # fmt: skip
        raise Refused(
            f"{'The table' if len(columns) == 1 else 'The tables'} {', '.join(columns)} "
            f"{'is' if len(columns) == 1 else 'are'} not in this database.",
            f"Create what is missing first, with the columns that the receipt has: {told}. "
            f"⟨receipt export⟩ writes its rows as files instead.",
            tables=sorted(columns),
        )


def _check_columns(steps: Sequence[ReceiptStep]) -> None:
    """Refuse a receipt whose columns do not fit together, as nobody but its writer knows more.

    Raises:
        Refused: a step holds other columns than its kind of step does.
    """
    for step in steps:
        names: dict[str, list[str]] = defaultdict(list)
        for column in step.columns:
            names[column.role].append(column.name)
        whole = step.action in (Action.REMOVE, Action.ADD)
        known = _OF_WHOLE_ROWS if whole else _OF_CHANGED_ROWS
        fits = names.keys() <= known and (names["value"] if whole else names["old"])
        pairs = ("old", "new"), ("was", "left")
        same = all(sorted(names[one]) == sorted(names[other]) for one, other in pairs)
        beside = [other for other in steps if other.table == step.table]
        held = {each.name for each in step.columns if each.role == "value"}
        covers = not whole or all(
            each.name in held for other in beside for each in other.columns if each.role == "old"
        )
        if not (fits and same and covers):
            raise Refused(
                f"The columns of step {step.n} ({step.action} {step.table}) in this receipt do not "
                f"fit together.",
                "Use a receipt that nobody has changed.",
            )


def wanted_steps(kept: list[ReceiptStep], scope: Scope) -> list[ReceiptStep]:
    """Return the steps on the tables that are to be restored.

    Raises:
        UsageError: a table is not one of them, or a condition is on several.
    """
    if scope.only:
        known = {str(step.table): None for step in kept}
        for name in scope.only:
            if same_name(name, known) is None:
                raise UnknownName(f"‹only› {name}: this receipt holds no rows of it.", name, known)
        wanted = {same_name(name, known) for name in scope.only}
        kept = [step for step in kept if str(step.table) in wanted]
    if scope.where is not None and len({step.table for step in kept}) != 1:
        raise UsageError("‹where› is a condition on one table.", "Add ‹only› TABLE to say which.")
    return kept


def _fill(each: UndoneRows, receipt: Receipt, condition: str | None) -> None:
    """Stage the stored rows of a step that meet a condition.

    Raises:
        DatabaseFailure: there is no condition, and some rows that the step affected are missing.
    """
    if each.step.copy:
        if condition is not None:
            raise UsageError(
                f"‹where› needs rows that a receipt holds; these are in the copy {each.step.copy}.",
                "Drop ‹where›, or put them back from there by hand.",
            )
        _fill_from_copy(each, each.step.copy)
        return
    names = [column.stored_as for column in each.step.columns]
    where = None
    if condition is not None:
        from yeldro.core.selection.conditions.filters import parse_stored_filter

        try:
            where = parse_stored_filter(condition, names)
        except UnknownName as error:
            step = each.step
            error.why += (
                f" ‹where› is held against all rows of {step.table}, and of those that step "
                f"{step.n} changed the receipt holds only {', '.join(names)}."
                if step.action not in (Action.REMOVE, Action.ADD)
                else ""
            )
            raise
    number = _fill_native(each, receipt, where)
    with closing(formed_rows(receipt.path, each.step, where)) as rows:
        for row in rows:
            number += 1
            values: dict[str, Any] = {"yeldro_row": number}
            for name, (value, kind) in zip(each.roles, row, strict=True):
                values[name] = each.session.restored(value, kind) if kind else value
            each.session.connection.execute(sa.insert(each.staged).values(values))
    _filled(each, number, all_of_them=where is None)


def _fill_native(each: UndoneRows, receipt: Receipt, where: str | None) -> int:
    """Stage the rows whose values all have types of SQLite; return their number."""
    session, staged = each.session, each.staged
    schema = session.opened(receipt.path)
    if schema:
        return session.insert_query(staged, native_query(each.step, where, schema))
    number = 0
    with closing(native_rows(receipt.path, each.step, where, _AT_ONCE)) as parts:
        for part in parts:
            numbered = [(place, *row) for place, row in enumerate(part, number + 1)]
            session.insert_rows(staged, numbered)
            number += len(part)
    return number


def _fill_from_copy(each: UndoneRows, place: TableName) -> None:
    """Stage the rows of a copy in the database.

    Raises:
        Refused: the copy, or a column of it, is not there any more.
        DatabaseFailure: the copy holds another number of rows than the step affected.
    """
    catalogue = each.session.catalogue
    known = catalogue.table(place).by_name if catalogue.has_table(place) else {}
    gone = [column.stored_as for column in each.step.columns if column.stored_as not in known]
    if gone:
        what = f"column {place}.{gone[0]}" if known else f"copy {place}"
        raise Refused(f"The {what} is not there any more.", "Nothing can be restored from it.")
    rows = sql.rows_of(catalogue.table(place))
    values = [
        each.session.readable(rows.c[column.stored_as], Column(column.name, column.type)).label(
            name
        )
        for name, column in each.roles.items()
    ]
    number = fill_staging_table(each.session, each.staged, sa.select(*values))
    _filled(each, number, all_of_them=True)


def _filled(each: UndoneRows, number: int, *, all_of_them: bool) -> None:
    if all_of_them and each.step.affected not in (None, number):
        raise DatabaseFailure(
            f"{'The copy' if each.step.copy else 'The receipt'} holds {number:,} rows of step "
            f"{each.step.n}, and {each.step.affected:,} were affected: it is incomplete.",
            "Nothing can be restored from it safely.",
        )
    each.filled(number)
