"""The stored rows of a receipt, laid out in temporary tables beside the real ones."""

from __future__ import annotations

from dataclasses import dataclass, field
from typing import TYPE_CHECKING

from yeldro.core.model.errors import Refused, UsageError
from yeldro.core.model.names import same_name, suggestion
from yeldro.core.model.steps import Action
from yeldro.core.receipts import format as form
from yeldro.core.receipts.reader import Receipt, stored_rows
from yeldro.core.restore.added_rows import AddedRows
from yeldro.core.restore.key_swaps import taken_over
from yeldro.core.restore.order import in_order
from yeldro.core.restore.staged_rows import StagedRows

if TYPE_CHECKING:
    from yeldro.core.database.protocol import Session


@dataclass(frozen=True)
class Scope:
    """Which of a receipt's rows are meant.

    Args:
        only: tables, as typed; empty for all.
        where: only stored rows for which this is true; needs one table.
        skip_conflicts: rows that something stands in the way of are left out.
    """

    only: tuple[str, ...] = ()
    skip_conflicts: bool = False
    where: str | None = None


EVERYTHING = Scope()


@dataclass(frozen=True)
class StagedSteps:
    """The stored rows of all steps in question.

    Args:
        steps: those that are undone, in that order.
        parents: steps that are not, and whose rows are parents of those that are.
    """

    steps: list[StagedRows]
    parents: list[StagedRows] = field(default_factory=list)


def stage(session: Session, receipt: Receipt, scope: Scope) -> StagedSteps:
    """The receipt's steps last first, so that parents go back before their children."""
    if receipt.outcome == form.OPEN:
        return StagedSteps([])
    if receipt.system != session.system:
        raise Refused(
            f"The rows of this receipt are {receipt.system}'s, and this is {session.system}.",
            "Export them with 'yeldro receipt export', and load the files there.",
        )
    if receipt.steps and not receipt.holds_rows and not receipt.copies:
        raise Refused(
            "This receipt holds counts and no rows, so nothing can be compared or put back.",
            "Rows are stored unless --without-rows is said.",
        )
    kept = [step for step in reversed(receipt.steps) if step.is_kept]
    stored = kept
    if scope.only:
        known = {str(step.table): None for step in stored}
        for name in scope.only:
            if same_name(name, known) is None:
                raise UsageError(
                    f"--only {name}: this receipt holds no rows of it.", suggestion(name, known)
                )
        wanted = {same_name(name, known) for name in scope.only}
        stored = [step for step in stored if str(step.table) in wanted]
    if scope.where is not None and len({step.table for step in stored}) != 1:
        raise UsageError(
            "--where speaks of the rows of one table.", "Add --only TABLE to say which."
        )
    staged_steps = [
        (AddedRows if step.action is Action.ADD else StagedRows)(session, step) for step in stored
    ]
    for each in staged_steps:
        _fill(each, receipt, scope.where)
    for each in staged_steps:
        if each.holds_whole_rows and each.table.has_key:
            each.taken_over = taken_over(each, staged_steps)
    named = {key.parent for each in staged_steps for key in each.table.foreign_keys}
    parents = [
        StagedRows(session, step)
        for step in kept
        if step not in stored and step.action is Action.REMOVE and step.table in named
    ]
    for each in parents:
        _fill(each, receipt, None)
    return StagedSteps(in_order(staged_steps), parents)


def _fill(each: StagedRows, receipt: Receipt, condition: str | None) -> None:
    """Lay out the stored rows of a step that meet a condition."""
    if each.step.copy:
        if condition is not None:
            raise UsageError(
                f"--where looks at rows that a receipt holds; these are in {each.step.copy}.",
                "Drop --where, or put them back from there by hand.",
            )
        each.fill_from(each.step.copy)
        return
    names = [column.stored_as for column in each.step.columns]
    where = None
    if condition is not None:
        from yeldro.core.selection.filters import parse_stored_filter

        where = parse_stored_filter(condition, names)
    each.fill(stored_rows(receipt.path, each.step, where), all_of_them=where is None)
