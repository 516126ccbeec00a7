"""What a restore would do: rows that are back, rows that are missing, and the conflicts."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass, replace
from typing import TYPE_CHECKING

from yeldro.core.model.messages.errors import Fault
from yeldro.core.model.messages.names import counted
from yeldro.core.model.work.steps import Action
from yeldro.core.receipts import format as form
from yeldro.core.restore.comparing.conflicts import (
    Conflict,
    Restored,
    changed_since,
    compare_step,
    other_parents,
)
from yeldro.core.restore.comparing.dangling import leave_out

if TYPE_CHECKING:
    from yeldro.core.receipts.reader import Receipt
    from yeldro.core.restore.staged.undoing import UndoneRows
    from yeldro.core.restore.staging import Scope, StagedSteps


@dataclass(frozen=True)
class RestorePlan:
    """What a restore would do, and its conflicts.

    Args:
        skipped: the conflicts of rows that are left out, as sentences.
        notes: how the tables have changed since, as sentences.
        differing: columns of rows that are back and have other values than before, as sentences.
    """

    receipt: Receipt
    steps: tuple[Restored, ...]
    conflicts: tuple[Conflict, ...]
    skipped: tuple[str, ...] = ()
    notes: tuple[str, ...] = ()
    differing: tuple[str, ...] = ()

    @property
    def total(self) -> int:
        """Rows to be put back or changed back."""
        return sum(each.missing for each in self.steps)

    @property
    def verdict(self) -> str:
        """`all gone`, `partly back` or `all back`; `never gone` if the run ended before its commit.

        For the receipt of a restore: `all there`, `partly undone` or `all undone`.
        """
        if not self.steps:
            return "never gone"
        verdicts = ("all gone", "partly back", "all back")
        if self.receipt.is_of_restore:
            verdicts = ("all there", "partly undone", "all undone")
        if not sum(each.back for each in self.steps):
            return verdicts[0]
        return verdicts[1 if self.total or self.conflicts or self.differing else 2]


def plan_restore(
    receipt: Receipt, staged_steps: StagedSteps, scope: Scope, told: Sequence[str] = ()
) -> RestorePlan:
    """Return what a restore would do.

    Args:
        told: why rows have been left out already, as sentences.
    """
    skipped: list[str] = list(told)
    while True:
        steps: list[Restored] = []
        conflicts: list[tuple[UndoneRows, Conflict]] = []
        for each in staged_steps.steps:
            found, in_the_way = compare_step(each, staged_steps.steps)
            if each.step.action is not Action.ADD:
                in_the_way += other_parents(each, staged_steps.parents)
            each.missing = found.missing
            whole = found.stored + each.left_out
            steps.append(replace(found, stored=whole, left_out=each.left_out))
            conflicts += [(each, conflict) for conflict in in_the_way]
        can_be_left_out = conflicts and all(found.which is not None for _, found in conflicts)
        if not scope.skip_conflicts or not can_be_left_out:
            break
        # Rows that are left out can be parents of others, so all is compared again.
        for each, conflict in conflicts:
            if conflict.which is None:
                raise Fault("a conflict does not tell which rows it concerns")
            gone = leave_out(each, conflict.which, staged_steps.steps)
            if gone:
                skipped.append(conflict.said)
            skipped += [
                f"{counted(rows, 'row')} of {other.table.name} with the rows they depend on"
                for other, rows in gone.items()
                if other is not each
            ]
    notes = dict.fromkeys(said for each in staged_steps.steps for said in changed_since(each))
    besides = receipt.ledger.get(form.BESIDES)
    if besides:
        notes[
            f"triggers changed {counted(besides.changed, 'row')} besides, as was allowed; these "
            f"changes are not in the receipt, and are not undone"
        ] = None
    in_the_way = [conflict for _, conflict in conflicts]
    return RestorePlan(receipt, tuple(steps), tuple(in_the_way), tuple(skipped), tuple(notes))
