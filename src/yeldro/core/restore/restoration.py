"""The undoing of a receipt as a set of changes: what is compared, stored, and proved of them."""

from __future__ import annotations

from collections.abc import Iterator, Sequence
from itertools import count
from typing import TYPE_CHECKING

import sqlalchemy as sa

from yeldro.core.changes.change_set import Acceptances, Affected, Change, ChangeSet, Touched
from yeldro.core.changes.statements import execute
from yeldro.core.model.messages.activity import announce
from yeldro.core.model.messages.errors import Fault
from yeldro.core.model.work.steps import Action, Step
from yeldro.core.restore.comparing.dangling import prove_step_leaves_none_dangling
from yeldro.core.restore.comparing.verification import (
    Difference,
    changed_meanwhile,
    check_differences,
    differences,
    settings_anew,
)
from yeldro.core.restore.order import at_once, plan_late_links
from yeldro.core.restore.own_receipt import inverse, orphans, store_after, store_before
from yeldro.core.restore.savepoint_trials import Savepoint, StepRefused, find_refused

if TYPE_CHECKING:
    from yeldro.core.database.protocol import Session
    from yeldro.core.model.work.counts import Ledger, Tally
    from yeldro.core.receipts.reader import Receipt
    from yeldro.core.receipts.writer import ReceiptWriter
    from yeldro.core.restore.staged.undoing import UndoneRows


class Restoration(ChangeSet):
    """The changes that put back what is missing of a receipt.

    Attributes:
        different: rows that are not as before, which the user accepted.

    Args:
        staged_steps: the steps of the receipt, in the order in which they are undone.
        with_rows: the restore's own receipt holds rows.
    """

    def __init__(
        self,
        session: Session,
        receipt: Receipt,
        staged_steps: Sequence[UndoneRows],
        accepted: Acceptances,
        *,
        with_rows: bool,
    ) -> None:
        self.session = session
        self.accepted = accepted
        self.different: list[Difference] = []
        self._receipt = receipt
        self._staged_steps = staged_steps
        self._with_rows = with_rows
        self._meanwhile: dict[tuple[int, str], int] = {}
        if not session.traits.core_checks_foreign_keys:
            plan_late_links(session, staged_steps)
        missing = [each for each in staged_steps if each.missing]
        numbers = count(1)
        self._parts = [
            [(inverse(each, next(numbers), receipt.id), each) for each in some]
            for some in at_once(session, missing)
        ]

    @property
    def _undone(self) -> Iterator[tuple[Step, UndoneRows]]:
        """Each step of the restore with the one that it undoes, in order."""
        return (pair for part in self._parts for pair in part)

    @property
    def named_table(self) -> str:
        return self._receipt.named_table

    @property
    def steps(self) -> Sequence[Step]:
        return [step for step, _ in self._undone]

    @property
    def touched(self) -> Sequence[Touched]:
        found = [
            Touched(Action.RELINK, each.table, tuple(each.late_columns) or _columns_of_links(each))
            for each in self._staged_steps
            if each.missing and (each.late_links or each.late_columns)
        ]
        for step, each in self._undone:
            columns: tuple[str, ...] | None = None
            if step.action is Action.RELINK:
                besides = (name for name, _, _ in each.changed_besides())
                columns = (*(name for name, _ in each.named("old")), *besides)
            found.append(Touched(step.action, each.table, columns))
        return found

    def lock(self) -> None:
        """Lock the parents of rows that come back; note what somebody changed meanwhile."""
        for each in self._staged_steps:
            each.narrow()
            each.lock_parents()
        self._meanwhile = changed_meanwhile(self._staged_steps)

    def changes(self, receipt: ReceiptWriter | None) -> Iterator[Sequence[Change]]:
        if receipt is not None and self._with_rows:
            steps = self._staged_steps
            receipt.check_space(sum(each.missing * len(each.roles) for each in steps))
        for each in self._staged_steps:
            yield from ([change] for change in each.cut_before())
        orphaned = {step: orphans(each) for step, each in self._undone if self._with_rows}
        for part in self._parts:
            for step, each in part:
                if receipt is None:
                    raise Fault("a restore has a receipt of its own")
                store_before(each, step, receipt, self._with_rows)
                for name, rows in orphaned.get(step, {}).items():
                    receipt.add_orphans(step, name, rows)
            yield [each.undone(step, at_once=len(part) > 1) for step, each in part]
        for each in self._staged_steps:
            yield from ([change] for change in each.set_after())

    def carry_out(self, change: Change) -> Affected:
        """Undo one step; if the database refuses rows, find out which.

        Raises:
            StepRefused: the database refuses some rows.
        """
        if not change.step.n:
            return execute(self.session, change)
        place = Savepoint(self.session, "yeldro_step")
        place.set()
        try:
            affected = execute(self.session, change)
        except sa.exc.DBAPIError as error:
            if self.session.row_refusal(error) is None or change.step.action is Action.REMOVE:
                raise
            place.go_back()
            raise self._refused(change.step) or error from error
        place.release()
        return affected

    def _refused(self, step: Step) -> StepRefused | None:
        """Return which rows of a step the database refuses; None if it refuses none alone."""
        each = next(each for own, each in self._undone if own == step)
        refusals = find_refused(each, lambda: execute(self.session, each.undone(step)).rows)
        return StepRefused(refusals) if refusals.rows else None

    def corrections(self) -> Iterator[Change]:
        """Yield what sets rows anew that are not as before; what differs then must be accepted."""
        announce("proving")
        self.different = differences(self._staged_steps, self._meanwhile)
        if self.different:
            yield from settings_anew(self._staged_steps, self._meanwhile)
            self.different = differences(self._staged_steps, self._meanwhile)
        check_differences(self.different, self.accepted.differences)

    def prove(self, ledger: Ledger) -> None:
        """Do nothing: the rows themselves have been compared."""

    def store_after(self, receipt: ReceiptWriter, tally: Tally) -> None:
        receipt.add_total(tally.total)
        for step, each in self._undone if self._with_rows else ():
            store_after(each, step, receipt, self._staged_steps, as_stored=not self.different)

    def prove_at_the_end(self) -> None:
        if self.session.traits.core_checks_foreign_keys:
            for _, each in self._undone:
                prove_step_leaves_none_dangling(each)


def _columns_of_links(each: UndoneRows) -> tuple[str, ...]:
    return tuple(dict.fromkeys(name for key in each.late_links for name in key.columns))
