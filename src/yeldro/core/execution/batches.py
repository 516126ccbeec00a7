"""A removal in batches: each is a consistent commit of its own, with its whole ripple.

The matched rows go in key order. Every batch is planned, counted, stored and proved like a run of
its own. Together they remove exactly the rows that the plan of the whole counted.
"""

from __future__ import annotations

import time
from collections import Counter
from collections.abc import Callable, Collection, Mapping, Sequence
from dataclasses import dataclass, replace
from pathlib import Path
from typing import TYPE_CHECKING, Any

import sqlalchemy as sa

from yeldro.core.changes.change_set import Acceptances
from yeldro.core.changes.guard import guard
from yeldro.core.changes.transaction import changing
from yeldro.core.database import sql
from yeldro.core.execution import run as running
from yeldro.core.execution.divisible import (
    changed_by_batches,
    check_divisible,
    check_restorable,
    only_cleanup,
    steps_of_batches,
    touched_by_batches,
)
from yeldro.core.execution.locks import tables_to_lock
from yeldro.core.execution.removal import Removal
from yeldro.core.execution.run import CleanupDone, Outcome, RunResult
from yeldro.core.model.messages.errors import (
    CountMismatch,
    DatabaseFailure,
    Interrupted,
    YeldroError,
)  # fmt: skip
from yeldro.core.model.messages.names import counted
from yeldro.core.model.tables.schema import IdentityKind, TableName
from yeldro.core.model.work.counts import NOTHING_YET, Tally
from yeldro.core.model.work.expectation import Expectations
from yeldro.core.model.work.steps import Action, Step
from yeldro.core.planning.cleanup import Cleanup
from yeldro.core.planning.job import Job, JobPlan
from yeldro.core.planning.plan import Plan, Prepared, check_allowed_triggers, prepare
from yeldro.core.receipts.batch_writer import BatchReceipt, Unfinished, find_unfinished, same_in_all
from yeldro.core.selection.selection import resolve

if TYPE_CHECKING:
    from yeldro.core.changes.limits import Limits
    from yeldro.core.database.facts import TableLocks
    from yeldro.core.database.protocol import Database, Session
    from yeldro.core.execution.approval import Approval
    from yeldro.core.receipts.writer import ReceiptOptions

_FIRST_SIZE = 1000
_LARGEST_STEP = 2.0


@dataclass(frozen=True)
class Batches:
    """How a removal is cut into batches.

    Args:
        size: matched rows of one batch; of the first batch if `seconds` is given.
        pause: seconds to wait between two batches.
        seconds: how long a batch may take; the size is adapted to it.
    """

    size: int = _FIRST_SIZE
    pause: float = 0.0
    seconds: float | None = None


@dataclass(frozen=True)
class Progress:
    """How far a run in batches has come.

    Args:
        matched: matched rows gone so far, of `wanted`.
        seconds: since the first batch began.
    """

    batches: int
    matched: int
    wanted: int
    rows: int
    seconds: float


def run_in_batches(
    database: Database,
    job: Job,
    receipt_options: ReceiptOptions,
    lock_wait: float,
    batches: Batches,
    agreed: Approval | None = None,
    watch: Callable[[Progress], None] = lambda _: None,
    should_stop: Callable[[], bool] = lambda: False,
) -> RunResult:
    """Remove the rows of a job's only cleanup, batch by batch.

    The same call resumes a run that was stopped: if the rows of an unfinished receipt and the rows
    that match now add up to what was wanted, the counts are those of the whole.

    Args:
        agreed: approves the plan of all batches before the first one.
        watch: called after every batch.
        should_stop: called before every batch; if it returns True, the run ends there.

    Raises:
        UsageError: this cannot be done in batches.
        Refused, CountMismatch: as for a run; what is committed stays, and the message says so.
        Interrupted: it was asked to stop.
    """
    cleanup = only_cleanup(job)
    whole, prepared, steps = _plan_whole(database, job, cleanup, receipt_options, agreed)
    earlier = next(
        (each for each in find_unfinished(receipt_options.folder, job.title, database.shown)
         if whole.matched + each.done in (each.wanted, each.wanted - each.unsure)), None,
    )  # fmt: skip
    if earlier is None:
        check_allowed_triggers([(cleanup, prepared)])  # a later part may not touch each of them
        running.check_plans(JobPlan(job.title, (whole,)), job)
    if not whole.total:
        if earlier is not None:  # it was stopped when all was done but closing the receipt
            BatchReceipt.resume(earlier, whole.matched).finished()
        return running.nothing_to_do(JobPlan(job.title, (whole,)))
    locks = tables_to_lock(database, job)
    receipt = _open_receipt(database, job, receipt_options, whole, steps, earlier)
    before = earlier.wanted - whole.matched if earlier else 0
    work = _Batched(
        database, cleanup, job.limits, receipt_options, lock_wait, locks, whole, steps, receipt,
        before, {same_in_all(each.step): tuple(each.values) for each in prepared.changes},
        changed_by_batches(prepared),
    )  # fmt: skip
    try:
        work.carry_out(batches, watch, should_stop)
    except BaseException as error:
        raise work.stopped(error) from error
    try:
        return work.result(job.title)
    except KeyboardInterrupt:
        data = "All batches are committed; the receipt tells what went."
        raise Interrupted("You interrupted it after the commit.", data=data) from None


def _open_receipt(
    database: Database,
    job: Job,
    receipt_options: ReceiptOptions,
    whole: Plan,
    steps: Sequence[tuple[Step, TableName]],
    earlier: Unfinished | None,
) -> BatchReceipt:
    """Begin a receipt, or go on with the one of a run that was stopped."""
    if earlier is not None:
        return BatchReceipt.resume(earlier, whole.matched)
    system = database.traits.name
    receipt = BatchReceipt(receipt_options.folder, job.title, system, database.shown, whole.table)
    receipt.begin(whole.matched, steps)
    return receipt


def _plan_whole(
    database: Database,
    job: Job,
    cleanup: Cleanup,
    receipt_options: ReceiptOptions,
    agreed: Approval | None,
) -> tuple[Plan, Prepared, list[tuple[Step, TableName]]]:
    """Plan all batches together; return also every step that a batch can have, with its table."""
    with database.reading() as session:
        prepared = prepare(session, cleanup)
        plan = prepared.plan
        if agreed:
            agreed.check(0, session, prepared)
        job.limits.check_tables(plan.rows_by_table, session.catalogue)
        job.limits.check_rows(plan.total)
        running.check_plan(plan, _without_expectations(cleanup))
        check_divisible(prepared)
        steps = steps_of_batches(prepared)
        touched = touched_by_batches(session, prepared)
        guard(session, touched, None)  # a batch that fails is rolled back
        if receipt_options.with_rows:
            check_restorable(session, prepared)
        return plan, prepared, steps


def _without_expectations(cleanup: Cleanup) -> Cleanup:
    """Return the job without its expectations, which are meant for all batches together."""
    return replace(cleanup, expectations=Expectations())


class _Batched:
    """The state of a run in batches."""

    def __init__(
        self,
        database: Database,
        cleanup: Cleanup,
        limits: Limits,
        receipt_options: ReceiptOptions,
        lock_wait: float,
        locks: TableLocks,
        whole: Plan,
        steps: list[tuple[Step, TableName]],
        receipt: BatchReceipt,
        before: int,
        changed_columns: Mapping[tuple[str, ...], Sequence[str]],
        changed_by_all: Mapping[TableName, Collection[str]],
    ) -> None:
        self.database = database
        self.cleanup = cleanup
        self.limits = limits
        self.receipt_options = receipt_options
        self.lock_wait = lock_wait
        self.locks = locks
        self.whole = whole
        self.steps = steps
        self.left = Counter(
            {step.table: step.rows for step, _ in steps if step.action is Action.REMOVE}
        )
        self.receipt = receipt
        self.before = before
        self.changed_columns = changed_columns
        self.changed_by_all = changed_by_all
        self.wanted = whole.matched
        self.matched = self.rows = 0
        self.ledger = NOTHING_YET
        self.affected: Counter[tuple[str, ...]] = Counter()
        self.after_key: tuple[int, ...] = ()
        self.under_way = False

    def carry_out(
        self,
        batches: Batches,
        watch: Callable[[Progress], None],
        should_stop: Callable[[], bool],
    ) -> None:
        """Run batch after batch until as many rows are gone as the whole plan counted."""
        began = time.monotonic()
        size = batches.size
        while self.matched < self.wanted:
            if should_stop():
                raise Interrupted("You asked it to stop.")
            started = time.monotonic()
            self.under_way = True
            self._one(min(size, self.wanted - self.matched))
            self.under_way = False
            took = time.monotonic() - started
            if batches.seconds is not None:
                aim = 0.8 * batches.seconds / max(took, 0.001)
                size = max(1, int(size * min(max(aim, 0.1), _LARGEST_STEP)))
            watch(Progress(self.receipt.batch, self.matched + self.before,
                           self.wanted + self.before, self.rows,
                           time.monotonic() - began))  # fmt: skip
            if batches.pause and self.matched < self.wanted:
                _wait(batches.pause, should_stop)

    def _one(self, size: int) -> None:
        """Plan, carry out and commit one batch."""
        selection = replace(self.cleanup.selection, batch=size, after_key=self.after_key)
        cleanup = replace(self.cleanup, selection=selection)
        accepted = Acceptances(cleanup.allowed_triggers, None)
        with changing(
            self.database, self.limits, lambda _: self.receipt, self.lock_wait, self.locks
        ) as transaction:
            session = transaction.session
            with session.looking():
                prepared = self._of_all_columns(prepare(session, cleanup, explain=False))
            running.check_plan(prepared.plan, _without_expectations(cleanup))
            if prepared.plan.matched != size:
                raise CountMismatch(
                    f"{size:,} rows were to go in this batch, and {prepared.plan.matched:,} match.",
                    "Somebody changed the data meanwhile; look at the plan again.",
                )
            last = self._last_key(session, prepared)
            taken = self._taken(session, prepared)
            removal = Removal(
                session, prepared, accepted, taken, self.receipt_options, self.changed_by_all
            )
            tally = transaction.carry_out(removal)
            transaction.prove()
            try:
                transaction.commit("The batch is committed.")
            finally:
                if transaction.committed:
                    self.after_key = last
                    self.matched += taken
                    self.rows += tally.total
                    for step, rows in zip(tally.steps, tally.affected, strict=True):
                        self.affected[same_in_all(step)] += rows
                    self.ledger = self.ledger.with_more(transaction.ledger)

    def _of_all_columns(self, prepared: Prepared) -> Prepared:
        """Return a batch that stores the same columns of each step as the others.

        Rows can move by several foreign keys, of which a batch may need only some.
        """
        changes = []
        for change in prepared.changes:
            names = self.changed_columns.get(same_in_all(change.step), ())
            as_they_are = {name: change.rows.source.c[name] for name in names}
            in_order = {name: change.values.get(name, as_they_are[name]) for name in names}
            changes.append(replace(change, values=in_order | dict(change.values)))
        return replace(prepared, changes=tuple(changes))

    def _taken(self, session: Session, prepared: Prepared) -> int:
        """Return how many matched rows of the whole a batch removes, its dependents among them.

        Raises:
            CountMismatch: a batch would remove more of a table than was planned for all.
        """
        for step in prepared.plan.steps:
            if step.action is Action.REMOVE:
                self.left[step.table] -= step.rows
        beyond = [name for name, rows in self.left.items() if rows < 0]
        if beyond:
            raise CountMismatch(
                f"This batch would remove more rows of {', '.join(beyond)} than were planned for "
                f"all batches together.",
                "Somebody changed the data meanwhile; look at the plan again.",
            )
        removed = prepared.ripple.removed.get(prepared.matched.table.name)
        if removed is None or removed.rows == prepared.plan.matched:
            return prepared.plan.matched
        whole = resolve(self.cleanup.selection, session)
        query = whole.select(sa.literal(1)).where(removed.condition)
        return sql.count(session.connection, query.subquery("yeldro_taken"))

    def _last_key(self, session: Session, prepared: Prepared) -> tuple[int, ...]:
        """Return the last key of a batch if keys are whole numbers; else nothing.

        Without it, the next batch searches the whole table again.
        """
        matched = prepared.matched
        names = matched.table.identity.columns
        keys = sql.columns_of(matched.rows, names)
        if matched.table.identity.kind is IdentityKind.PHYSICAL or not names:
            return ()
        picked: sa.Select[Any] = matched.select(*keys)
        found = picked.subquery("yeldro_batch")
        order = [found.c[name].desc() for name in names]
        row = session.connection.execute(
            sa.select(*(found.c[name] for name in names)).order_by(*order).limit(1)
        ).first()
        whole = row is not None and all(type(value) is int for value in row)
        return tuple(row) if row is not None and whole else ()

    def stopped(self, error: BaseException) -> BaseException:
        """Return the error to raise when a run ends before all batches are done."""
        in_doubt = self.receipt.in_doubt
        done = self.receipt.batch - in_doubt
        if not self.receipt.batch:
            self.receipt.remove()
            return error
        path: Path = self.receipt.path
        self.receipt.close()
        after = "The batch after them was rolled back." if self.under_way else ""
        if in_doubt:
            after = "If the next batch is committed is not known; the receipt holds its rows too."
        data = (
            f"{counted(done, 'batch is', 'batches are')} committed: {self.matched + self.before:,} "
            f"of {self.wanted + self.before:,} matched rows are gone, and the receipt {path} holds "
            f"them. {after}".rstrip()
        )
        next_step = "The same command again finishes the rest; ⟨restore⟩ puts these back."
        if isinstance(error, KeyboardInterrupt):
            return Interrupted("You interrupted it.", next_step, data=data)
        if isinstance(error, YeldroError):
            kind: Any = type(error)
            return kind(error.why, next_step, data=data)  # type: ignore[no-any-return]
        return DatabaseFailure(str(error).splitlines()[0], next_step, data=data)

    def result(self, title: str) -> RunResult:
        """Return what was done, as one run."""
        self.receipt.finished()
        missing = {name: rows for name, rows in self.left.items() if rows}
        if missing:
            told = ", ".join(f"{rows:,} of {name}" for name, rows in missing.items())
            raise CountMismatch(
                f"Fewer dependent rows went than were planned: {told} were gone before their batch "
                f"came. An allowed trigger or another session removed them.",
                f"⟨receipt show {self.receipt.id}⟩ tells what went.",
                data=f"All batches are committed, {self.receipt.batch:,} of them: "
                f"{self.matched + self.before:,} matched rows are gone, and the receipt "
                f"{self.receipt.path} holds what the batches removed.",
                missing=missing,
            )
        done = [(step, self.affected[same_in_all(step)]) for step, _ in self.steps]
        some = [(replace(step, rows=rows), rows) for step, rows in done if rows]
        steps = tuple(step for step, _ in some)
        whole = replace(self.whole, steps=steps, total=self.rows)
        part = CleanupDone(whole, Tally(steps, tuple(rows for _, rows in some)))
        return RunResult(title, (part,), Outcome.COMMITTED, self.ledger, self.receipt.path)


def _wait(seconds: float, should_stop: Callable[[], bool]) -> None:
    """Wait, but return as soon as it should stop."""
    end = time.monotonic() + seconds
    while time.monotonic() < end and not should_stop():
        time.sleep(min(0.1, max(0.0, end - time.monotonic())))
