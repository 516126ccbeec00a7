"""Putting the rows of a receipt back, and undoing changed links.

The stored rows are first staged in temporary tables, so that every conflict is known before
anything is written.
"""

from __future__ import annotations

from collections import Counter
from collections.abc import Mapping, Sequence
from dataclasses import dataclass, replace
from itertools import count
from pathlib import Path
from typing import TYPE_CHECKING

import sqlalchemy as sa

from yeldro.core.database.facts import Mode, TableLocks
from yeldro.core.execution.ledger import check_ledger, check_step, read_ledger
from yeldro.core.execution.steps import (
    CommitNotice,
    check_lasting_effects,
    check_unseen,
    commit_with,
    triggers_fired,
)
from yeldro.core.model.activity import announce
from yeldro.core.model.counts import Ledger, Tally
from yeldro.core.model.errors import (
    ROLLED_BACK,
    UNCHANGED,
    KeyTaken,
    ParentGone,
    PlanChanged,
    RestoreConflict,
)
from yeldro.core.model.steps import Action, Step
from yeldro.core.planning.job import Limits
from yeldro.core.planning.plan import check_trigger_names
from yeldro.core.receipts.writer import ReceiptOptions, ReceiptWriter
from yeldro.core.restore.comparing.conflicts import (
    Conflict,
    ConflictKind,
)
from yeldro.core.restore.comparing.dangling import leave_out, prove_step_leaves_none_dangling
from yeldro.core.restore.comparing.verification import (
    Difference,
    changed_meanwhile,
    check_differences,
    differences,
    differing_besides,
    mend,
)
from yeldro.core.restore.order import at_once, plan_late_links
from yeldro.core.restore.own_receipt import auxiliary, inverse, orphans, store_after, store_before
from yeldro.core.restore.restore_plan import RestorePlan, plan_restore
from yeldro.core.restore.savepoint_trials import Savepoint, StepRefused, find_refused
from yeldro.core.restore.staged.added_rows import AddedRows
from yeldro.core.restore.staging import EVERYTHING, Scope, stage

if TYPE_CHECKING:
    from yeldro.core.database.facts import ChangeCount
    from yeldro.core.database.protocol import Database, Session
    from yeldro.core.receipts.reader import Receipt
    from yeldro.core.restore.staged.undoing import UndoneRows


@dataclass(frozen=True)
class Acceptances:
    """What the user accepts by name.

    Args:
        triggers: triggers whose changes to other rows are accepted.
        differences: tables whose rows may come back different.
        no_way_back: tables that triggers write to, though nothing can be rolled back there.
    """

    triggers: tuple[str, ...] = ()
    differences: tuple[str, ...] = ()
    no_way_back: tuple[str, ...] = ()


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
    limits = limits or Limits()
    locks = _tables_to_lock(database, receipt)
    with CommitNotice() as notice, database.writing(lock_wait, locks, _STORED_FORMS) as session:
        refused: dict[int, list[int]] = {}
        told: list[str] = []
        while True:
            work = _Restoring(session, receipt, scope, refused, told)
            work.check(agreed, allowed, limits)
            if not work.planned.total:
                return RestoreResult(work.planned, Tally((), ()), Ledger({}))
            writer = ReceiptWriter(
                receipt_options.folder,
                f"restore {receipt.id}: {receipt.title}",
                session.traits.name,
                database.shown,
                receipt.named_table,
                receipt.path,
            )
            before = Savepoint(session, "yeldro_before")
            before.set()
            try:
                found, tally, ledger = work.put_back(allowed, writer, receipt_options)
                limits.check_besides(ledger.unplanned, session.catalogue)
            except StepRefused as failure:
                before.go_back()
                writer.discard()
                told = work.leave_out(failure)
                continue
            except BaseException:
                session.roll_back()
                writer.discard()
                raise
            commit_with(session, writer, "The rows are back and committed.")
            notice.said = "The rows are back and committed."
            return RestoreResult(work.planned, tally, ledger, writer.path, tuple(found))


def _tables_to_lock(database: Database, receipt: Receipt) -> TableLocks:
    """Return the tables whose rows are only counted: two restores must not count at once."""
    counted_only = {step.table for step in receipt.steps if step.equal_rows_left is not None}
    if not counted_only or database.traits.has_single_writer:
        return TableLocks()
    with database.reading() as session:
        known = (session.catalogue.table(name) for name in sorted(counted_only, key=str)
                 if session.catalogue.has_table(name))  # fmt: skip
        return TableLocks(unchanging=tuple(each.name for each in known if each.transactional))


class _Restoring:
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

    def check(self, agreed: int | None, allowed: Acceptances, limits: Limits) -> None:
        """Refuse conflicts, what a limit forbids, and another number of rows than was agreed to."""
        check_trigger_names(allowed.triggers, (each.table for each in self.staged_steps.steps))
        by_table: Counter[str] = Counter()
        for each in self.planned.steps:
            by_table[str(each.step.table)] += each.missing
        limits.check_tables(+by_table, self.session.catalogue)
        limits.check_rows(self.planned.total)
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
                "See 'yeldro receipt check', then restore.",
            )

    def put_back(
        self, allowed: Acceptances, writer: ReceiptWriter, receipt_options: ReceiptOptions
    ) -> tuple[list[Difference], Tally, Ledger]:
        """Write what is missing; return the differences, the tally and the ledger."""
        steps = self.staged_steps.steps
        if receipt_options.with_rows:
            writer.check_space(sum(each.missing * len(each.roles) for each in steps))
        return _put_back(self.session, self.receipt, steps, allowed, writer, receipt_options)

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


def _put_back(
    session: Session,
    receipt: Receipt,
    staged_steps: Sequence[UndoneRows],
    allowed: Acceptances,
    writer: ReceiptWriter,
    receipt_options: ReceiptOptions,
) -> tuple[list[Difference], Tally, Ledger]:
    """Undo every step, check its count and the ledger, and write the receipt."""
    if not session.traits.core_checks_foreign_keys:
        plan_late_links(session, staged_steps)
    for each in staged_steps:
        each.narrow()
        each.lock_parents()
    steps = [(inverse(each, 0, "").action, each.table) for each in staged_steps if each.missing]
    check_unseen(session, [pair for pair in steps if pair[0] is Action.REMOVE])
    check_lasting_effects(session, steps, allowed.no_way_back)
    meanwhile = changed_meanwhile(staged_steps)
    before = session.change_count()
    done: list[tuple[Step, int]] = []
    told: list[tuple[Step, int]] = []
    late: list[tuple[UndoneRows, int]] = []
    for each in staged_steps:
        if isinstance(each, AddedRows):
            late.append((each, each.cut_links()))
    together = at_once(session, [each for each in staged_steps if each.missing])
    numbers = count(1)
    parts = [[(inverse(each, next(numbers), receipt.id), each) for each in some]
             for some in together]  # fmt: skip
    to_do = [pair for part in parts for pair in part]
    total = sum(step.rows for step, _ in to_do)
    orphaned = {step: orphans(each) for step, each in to_do} if receipt_options.with_rows else {}
    for part in parts:
        for step, each in part:
            told.append((step, store_before(each, step, writer, receipt_options.with_rows)))
            for name, rows in orphaned.get(step, {}).items():
                writer.add_orphans(step, name, rows)
        step, each = part[0]
        doing = "removing" if step.action is Action.REMOVE else "putting back"
        already = sum(rows for _, rows in done)
        announce(doing, each.table.name, step.n, len(to_do), rows=already, total=total)
        done += _undo(session, part)
    for each in staged_steps:
        if not isinstance(each, AddedRows):
            late.append((each, each.set_late_links()))
    session.run_deferred()
    after = session.change_count()
    announce("proving")
    found, mended = _verified(session, staged_steps, meanwhile, after)
    check_differences(found, allowed.differences)
    for step, each in to_do:
        if receipt_options.with_rows:
            store_after(each, step, writer, staged_steps, as_stored=not found)
        if session.traits.core_checks_foreign_keys:
            prove_step_leaves_none_dangling(each)
    writer.add_total(sum(rows for _, rows in done))
    passed = [(auxiliary(each, rows), rows) for each, rows in late if rows]
    ledger = read_ledger(before, after, _tally([*done, *passed])).with_more(mended)
    fired = [(step.action, each.table) for step, each in to_do]
    fired += [(Action.RELINK, each.table) for each, rows in late if rows]
    check_ledger(ledger, triggers_fired(fired), allowed.triggers)
    writer.ready(_tally(told), ledger)
    return found, _tally(done), ledger


def _verified(
    session: Session,
    staged_steps: Sequence[UndoneRows],
    meanwhile: Mapping[tuple[int, str], int],
    after: ChangeCount,
) -> tuple[list[Difference], Ledger]:
    """Compare all rows with the receipt; set those that differ anew, once, and compare again.

    Returns:
        What still differs, and the ledger of what was set anew.
    """
    found = differences(staged_steps, meanwhile)
    if not found:
        return [], Ledger({})
    mended = _mended(session, mend(staged_steps, meanwhile), after)
    return differences(staged_steps, meanwhile), mended


def _mended(
    session: Session, mended: Sequence[tuple[UndoneRows, int]], before: ChangeCount
) -> Ledger:
    """Return the ledger of the rows that were set anew."""
    changed = [(auxiliary(each, rows), rows) for each, rows in mended if rows]
    if not changed:
        return Ledger({})
    session.run_deferred()
    ledger = read_ledger(before, session.change_count(), _tally(changed))
    # A row in which a trigger sets its own values again may count as not changed at all.
    more = {name: rows for name, rows in ledger.unplanned.items() if rows > 0}
    return Ledger(ledger.tables, more)


def _undo(session: Session, part: Sequence[tuple[Step, UndoneRows]]) -> list[tuple[Step, int]]:
    """Undo one step, or several at once; check and return the number of rows of each."""
    if len(part) == 1:
        counts = [_tried(session, part[0][1])]
    else:
        counts = session.change_at_once([each.change_back() for _, each in part])
    for (step, each), rows in zip(part, counts, strict=True):
        check_step(step, rows, each.table)
    return [(step, rows) for (step, _), rows in zip(part, counts, strict=True)]


def _tried(session: Session, each: UndoneRows) -> int:
    """Undo one step; if the database refuses rows, find out which.

    Raises:
        StepRefused: the database refuses some rows.
    """
    before = Savepoint(session, "yeldro_step")
    before.set()
    try:
        rows = each.put_back()
    except sa.exc.DBAPIError as error:
        if session.row_refusal(error) is None or each.step.action is Action.ADD:
            raise
        before.go_back()
        refusals = find_refused(each, each.put_back)
        if not refusals.rows:
            raise
        raise StepRefused(refusals) from error
    before.release()
    return rows


def _tally(done: Sequence[tuple[Step, int]]) -> Tally:
    return Tally(tuple(step for step, _ in done), tuple(rows for _, rows in done))
