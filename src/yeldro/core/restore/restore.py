"""Putting the rows of a receipt back, and undoing changed links.

The stored rows are first staged in temporary tables, so that every conflict is known before
anything is written.
"""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass, replace
from pathlib import Path
from typing import TYPE_CHECKING

from yeldro.core.changes.change_set import Acceptances
from yeldro.core.changes.guard import check_trigger_names
from yeldro.core.changes.limits import Limits
from yeldro.core.changes.transaction import changing
from yeldro.core.database.facts import Mode, TableLocks
from yeldro.core.model.messages.errors import (
    ROLLED_BACK,
    UNCHANGED,
    KeyTaken,
    ParentGone,
    PlanChanged,
    Refused,
    RestoreConflict,
)
from yeldro.core.model.work.counts import Ledger, Tally
from yeldro.core.receipts.writer import ReceiptOptions, ReceiptWriter
from yeldro.core.restore.comparing.conflicts import (
    Conflict,
    ConflictKind,
)
from yeldro.core.restore.comparing.dangling import leave_out
from yeldro.core.restore.comparing.verification import Difference, differing_besides
from yeldro.core.restore.restoration import Restoration
from yeldro.core.restore.restore_plan import RestorePlan, plan_restore
from yeldro.core.restore.savepoint_trials import Savepoint, StepRefused
from yeldro.core.restore.staging import EVERYTHING, Scope, stage, wanted_steps

if TYPE_CHECKING:
    from yeldro.core.database.protocol import Database, Session
    from yeldro.core.receipts.reader import Receipt


NOTHING = Acceptances()
_STORED_FORMS = Mode(stored_forms=True)


@dataclass(frozen=True)
class RestoreResult:
    """What a restore did.

    Args:
        receipt: the path of its own receipt, to undo it; None if nothing was done.
        differences: rows that are not as before, which the user accepted.
    """

    plan: RestorePlan
    tally: Tally
    ledger: Ledger
    receipt: Path | None = None
    differences: tuple[Difference, ...] = ()

    @property
    def total(self) -> int:
        """Rows put back or changed back."""
        return self.tally.total


def compare(database: Database, receipt: Receipt, scope: Scope = EVERYTHING) -> RestorePlan:
    """Compare a receipt's rows with the database as it is now; nothing is changed.

    Raises:
        Refused: the receipt holds no rows, or a table or column of it is gone.
    """
    _check_numbers(database, receipt, scope)
    with database.reading(_STORED_FORMS) as session:
        staged_steps = stage(session, receipt, scope)
        planned = plan_restore(receipt, staged_steps, scope)
        differing = tuple(differing_besides(staged_steps.steps))
        return replace(planned, differing=differing, notes=planned.notes + differing)


def restore(
    database: Database,
    receipt: Receipt,
    lock_wait: float,
    agreed: int | None = None,
    allowed: Acceptances = NOTHING,
    scope: Scope = EVERYTHING,
    receipt_options: ReceiptOptions | None = None,
    limits: Limits | None = None,
) -> RestoreResult:
    """Put back what is missing, in one transaction, with a receipt of its own.

    Args:
        lock_wait: seconds to wait for other sessions' locks.
        agreed: the number of rows that a person has agreed to put back; None if nobody was asked.
        allowed: what the user accepts by name.
        receipt_options: where the restore's own receipt goes; by default beside the restored one.
        limits: tables of which no row may come, go or change, and the most rows of one restore.

    Raises:
        Refused: a row's key is taken, its parent is gone, or another number would go back.
        CountMismatch: a count differs from the planned one; everything was rolled back.
        DatabaseFailure: the database or the receipt's disk failed; everything was rolled back.
    """
    receipt_options = receipt_options or ReceiptOptions(receipt.path.parent)
    _check_numbers(database, receipt, scope)
    locks = _tables_to_lock(database, receipt)

    def open_receipt(table: str) -> ReceiptWriter:
        return ReceiptWriter(
            receipt_options.folder,
            f"restore {receipt.id}: {receipt.title}",
            database.traits.name,
            database.shown,
            table,
            receipt.path,
        )

    refused: dict[int, list[int]] = {}
    told: list[str] = []
    with changing(
        database, limits or Limits(), open_receipt, lock_wait, locks, _STORED_FORMS
    ) as transaction:
        while True:
            attempt = _Attempt(transaction.session, receipt, scope, refused, told)
            attempt.check(agreed, allowed)
            if not attempt.planned.total:
                return RestoreResult(attempt.planned, Tally((), ()), Ledger({}))
            before = Savepoint(transaction.session, "yeldro_before")
            before.set()
            try:
                changes = attempt.changes(allowed, with_rows=receipt_options.with_rows)
                tally = transaction.carry_out(changes)
                transaction.prove()
                break
            except StepRefused as failure:
                before.go_back()
                transaction.begin_again()
                told = attempt.leave_out(failure)
        transaction.commit("The rows are back and committed.")
    path = transaction.receipt.path if transaction.receipt else None
    different = tuple(changes.different)
    return RestoreResult(attempt.planned, tally, transaction.ledger, path, different)


def _check_numbers(database: Database, receipt: Receipt, scope: Scope) -> None:
    """Refuse to put numbers of one database's catalogue into another database.

    Raises:
        Refused: a column holds them.
    """
    if database.shown == receipt.database:
        return
    for step in wanted_steps([each for each in receipt.steps if each.columns], scope):
        for column in step.columns:
            if column.type.removesuffix("[]") in database.traits.own_numbers:
                raise Refused(
                    f"{step.table}.{column.name} is {column.type}: it holds numbers that mean "
                    f"something in {receipt.database} only.",
                    f"Leave {step.table} out with ‹only›, or put its rows in by hand.",
                    table=str(step.table),
                    column=column.name,
                )


def _tables_to_lock(database: Database, receipt: Receipt) -> TableLocks:
    """Return the tables whose rows are only counted: two restores must not count at once."""
    counted_only = {step.table for step in receipt.steps if step.equal_rows_left is not None}
    if not counted_only or database.traits.has_single_writer:
        return TableLocks()
    with database.reading() as session:
        known = (session.catalogue.table(name) for name in sorted(counted_only, key=str)
                 if session.catalogue.has_table(name))  # fmt: skip
        return TableLocks(unchanging=tuple(each.name for each in known if each.transactional))


class _Attempt:
    """One attempt to put the rows of a receipt back.

    Args:
        refused: staged rows that the database refused before, by the number of their step.
        told: the reasons, as sentences.
    """

    def __init__(
        self,
        session: Session,
        receipt: Receipt,
        scope: Scope,
        refused: dict[int, list[int]],
        told: Sequence[str],
    ) -> None:
        self.session = session
        self.receipt = receipt
        self.scope = scope
        self.refused = refused
        self.staged_steps = stage(session, receipt, scope)
        self.told = list(told)
        gone = sum(
            sum(
                leave_out(
                    each, each.staged.c.yeldro_row.in_(numbers), self.staged_steps.steps
                ).values()
            )
            for each in self.staged_steps.steps
            if (numbers := refused.get(each.step.n))
        )
        self.planned = plan_restore(receipt, self.staged_steps, scope, self.told)
        self.agreed_to = self.planned.total + gone

    def check(self, agreed: int | None, allowed: Acceptances) -> None:
        """Refuse conflicts, and another number of rows than was agreed to."""
        tables = (each.table for each in self.staged_steps.steps)
        check_trigger_names(allowed.triggers, tables, self.session.event_triggers())
        if self.planned.conflicts:
            raise _conflict_error(
                self.planned.conflicts,
                "Change these rows, leave them out with ‹skip_conflicts›, or put all rows into "
                "another database with ‹into› URL.",
                UNCHANGED,
            )
        if agreed not in (None, self.agreed_to):
            raise PlanChanged(
                f"The database has changed: {self.agreed_to:,} rows would go back, not {agreed:,}.",
                "See ⟨receipt check⟩, then restore.",
            )

    def changes(self, allowed: Acceptances, *, with_rows: bool) -> Restoration:
        """Return what puts back all that is missing."""
        steps = self.staged_steps.steps
        return Restoration(self.session, self.receipt, steps, allowed, with_rows=with_rows)

    def leave_out(self, failure: StepRefused) -> list[str]:
        """Note rows that the database refuses, so that the next attempt leaves them out.

        Returns:
            The reasons, as sentences.

        Raises:
            RestoreConflict: the user did not ask to leave rows in conflict out.
        """
        if not self.scope.skip_conflicts:
            raise _conflict_error(
                failure.conflicts,
                "Remove the conflicts, or leave these rows out with ‹skip_conflicts›.",
                ROLLED_BACK,
            )
        self.refused.setdefault(failure.n, []).extend(failure.numbers)
        return [*self.told, *(conflict.said for conflict in failure.conflicts)]


def _conflict_error(conflicts: Sequence[Conflict], next_step: str, data: str) -> RestoreConflict:
    """Return the error for conflicts, of the finest type that fits all of them."""
    kinds = {conflict.kind for conflict in conflicts}
    if kinds == {ConflictKind.KEY_TAKEN}:
        error_type: type[RestoreConflict] = KeyTaken
    else:
        error_type = ParentGone if kinds == {ConflictKind.PARENT_GONE} else RestoreConflict
    said = "; ".join(conflict.said for conflict in conflicts)
    found = [conflict.document() for conflict in conflicts]
    return error_type(f"{said}.", next_step, data=data, conflicts=found)
