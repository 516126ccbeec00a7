"""A plan as a set of changes: what is stored of its rows, and what must hold when they are gone."""

from __future__ import annotations

from collections.abc import Collection, Iterator, Mapping, Sequence
from dataclasses import dataclass, field
from itertools import groupby
from typing import TYPE_CHECKING

import sqlalchemy as sa

from yeldro.core.changes.change_set import Acceptances, Affected, Change, ChangeSet, Touched
from yeldro.core.changes.statements import execute
from yeldro.core.changes.storing import store
from yeldro.core.database.references import stored_in_parts
from yeldro.core.execution.locks import lock_kept_rows
from yeldro.core.execution.proofs import prove_groups_live, prove_no_dangling_references
from yeldro.core.model.work.steps import Action, Step

if TYPE_CHECKING:
    from yeldro.core.changes.watching import Counted, Watched
    from yeldro.core.database.protocol import Session
    from yeldro.core.model.tables.schema import TableName
    from yeldro.core.model.work.counts import Ledger, Tally
    from yeldro.core.planning.plan import Prepared
    from yeldro.core.receipts.writer import ReceiptOptions, ReceiptWriter


@dataclass
class Removal(ChangeSet):
    """The changes of one plan.

    Args:
        matched: rows of the named table that count as matched in the receipt.
        receipt_options: how the rows are stored; None in a rehearsal.
        changed_by_others: columns that other batches change, by table.
    """

    session: Session
    prepared: Prepared
    accepted: Acceptances
    matched: int
    receipt_options: ReceiptOptions | None = None
    changed_by_others: Mapping[TableName, Collection[str]] = field(default_factory=dict)
    _watched: list[Watched | Counted] = field(default_factory=list)

    @property
    def named_table(self) -> str:
        return self.prepared.plan.table

    @property
    def steps(self) -> Sequence[Step]:
        return self.prepared.plan.steps

    @property
    def touched(self) -> Sequence[Touched]:
        if self.prepared.plan.commits_by_itself:
            table = self.prepared.matched.table
            return [Touched(Action.REMOVE, table, commits_by_itself=True)]
        return [change.touched for change in self.prepared.changes]

    def lock(self) -> None:
        lock_kept_rows(self.session, self.prepared)

    def changes(self, receipt: ReceiptWriter | None) -> Iterator[Sequence[Change]]:
        changes = self.prepared.changes
        if receipt is not None and self.receipt_options is not None:
            plan = self.prepared.plan
            receipt.add_plan(self.named_table, self.matched, plan.total, plan.asked)
            self._watched = store(
                self.session, changes, receipt, self.receipt_options, self.changed_by_others
            )
            if self.receipt_options.with_rows and not self.receipt_options.copy_to:
                self._store_matched(receipt)
        if self.prepared.deferred:
            self.session.defer_checks(self.prepared.deferred)
        for at_once, some in groupby(changes, lambda change: change.at_once):
            if at_once:
                yield list(some)
            else:
                yield from ([change] for change in some)

    def _store_matched(self, receipt: ReceiptWriter) -> None:
        """Store which of the rows that go were matched, where others of their table can go too.

        In batches each one does, as rows of the others are in the same step.
        """
        keys, table = self.prepared.ripple.matched_keys, self.prepared.matched.table
        if keys is None or not table.has_key:
            return
        columns = [self.session.readable(keys.c[name], table.by_name[name]) for name in table.key]
        for change in self.prepared.changes:
            own = change.rows.table.name == table.name and change.step.reached
            if own and change.step.action is Action.REMOVE:
                stored = stored_in_parts(self.session, sa.select(*columns))
                receipt.add_matched(change.step, stored)

    def carry_out(self, change: Change) -> Affected:
        return execute(self.session, change)

    def corrections(self) -> Iterator[Change]:
        """Yield nothing: what a trigger makes of a changed row is stored as it is."""
        return iter(())

    def prove(self, ledger: Ledger) -> None:
        if self.prepared.matched.grouping is not None:
            prove_groups_live(self.session, self.prepared, ledger)

    def store_after(self, receipt: ReceiptWriter, tally: Tally) -> None:
        del tally
        for each in self._watched:
            each.store(receipt)

    def prove_at_the_end(self) -> None:
        if self.session.traits.core_checks_foreign_keys:
            prove_no_dangling_references(self.session, self.prepared)
