"""A removal in batches: each is a consistent commit of its own, with its whole ripple.

The matched rows go in key order. Every batch is planned, counted, stored and proved like a run of
its own. Together they remove exactly the rows that the plan of the whole counted.
"""

from __future__ import annotations

import time
from collections import Counter, defaultdict
from collections.abc import Callable, Sequence
from dataclasses import dataclass, replace
from pathlib import Path
from typing import TYPE_CHECKING, Any

import sqlalchemy as sa

from yeldro.core.database import sql
from yeldro.core.execution import run as running
from yeldro.core.execution.locks import lock_kept_rows, tables_to_lock
from yeldro.core.execution.proofs import prove_no_dangling_references
from yeldro.core.execution.row_storage import become_equal, counted_only, store
from yeldro.core.execution.run import Outcome, Part, RunResult
from yeldro.core.execution.steps import (
    CommitNotice,
    carry_out,
    check_lasting_effects,
    check_means,
)  # fmt: skip
from yeldro.core.model.counts import Ledger, Tally
from yeldro.core.model.errors import (
    CountMismatch,
    DatabaseFailure,
    Interrupted,
    PlanChanged,
    Refused,
    UsageError,
    YeldroError,
)  # fmt: skip
from yeldro.core.model.expectation import Expectations
from yeldro.core.model.options import Option
from yeldro.core.model.schema import IdentityKind, ReferentialAction, TableName
from yeldro.core.model.steps import Action, Step
from yeldro.core.planning.job import Job, JobPlan, Limits
from yeldro.core.planning.plan import Cleanup, Plan, Prepared, check_allowed_triggers, prepare
from yeldro.core.planning.treatment import Fate, Link, Treatment
from yeldro.core.receipts.batch_writer import BatchReceipt, Unfinished, find_unfinished, same_in_all
from yeldro.core.selection.selection import resolve

if TYPE_CHECKING:
    from yeldro.core.database.facts import TableLocks
    from yeldro.core.database.protocol import Database, Session
    from yeldro.core.receipts.writer import ReceiptOptions

_WAITING = (ReferentialAction.NO_ACTION, ReferentialAction.RESTRICT)
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

    @property
    def seconds_left(self) -> float:
        """Seconds that the rest takes at the same speed."""
        return self.seconds * (self.wanted - self.matched) / max(self.matched, 1)


def run_in_batches(
    database: Database,
    job: Job,
    receipt_options: ReceiptOptions,
    lock_wait: float,
    batches: Batches,
    agreed: Plan | None = None,
    watch: Callable[[Progress], None] = lambda _: None,
    should_stop: Callable[[], bool] = lambda: False,
) -> RunResult:
    """Remove the rows of a job's only cleanup, batch by batch.

    The same call resumes a run that was stopped: if the rows of an unfinished receipt and the rows
    that match now add up to what was wanted, the counts are those of the whole.

    Args:
        agreed: the plan that a person has seen; any other plan is refused.
        watch: called after every batch.
        should_stop: called before every batch; if it returns True, the run ends there.

    Raises:
        UsageError: this cannot be done in batches.
        Refused, CountMismatch: as for a run; what is committed stays, and the message says so.
        Interrupted: it was asked to stop.
    """
    (cleanup,) = _checked(job)
    whole, prepared, steps = _plan_whole(database, job, cleanup, receipt_options)
    earlier = next(
        (each for each in find_unfinished(receipt_options.folder, job.title, database.shown)
         if whole.matched + each.done in (each.wanted, each.wanted - each.unsure)), None,
    )  # fmt: skip
    if earlier is None:
        check_allowed_triggers([(cleanup, prepared)])  # a later part may not touch each of them
        running.check_plans(JobPlan(job.title, (whole,)), job)
    if agreed is not None and agreed.rows_by_table != whole.rows_by_table:
        raise PlanChanged(
            "The database has changed since the plan was shown.", "Look at the plan again."
        )
    if not whole.total:
        if earlier is not None:  # it was stopped when all was done but closing the receipt
            BatchReceipt.resume(earlier, whole.matched).committed()
        return running.nothing_to_do(JobPlan(job.title, (whole,)))
    locks = tables_to_lock(database, job)
    receipt = _open_receipt(database, job, receipt_options, whole, steps, earlier)
    before = earlier.wanted - whole.matched if earlier else 0
    work = _Batched(
        database, cleanup, job.limits, receipt_options, lock_wait, locks, whole, steps, receipt,
        before,
    )  # fmt: skip
    try:
        work.carry_out(batches, watch, should_stop)
    except BaseException as error:
        raise work.stopped(error) from error
    with CommitNotice() as notice:
        notice.said = "All batches are committed; the receipt tells what went."
        return work.result(job.title)


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
    receipt.begin(whole, steps)
    return receipt


def _checked(job: Job) -> tuple[Cleanup]:
    """Return the job's only cleanup.

    Raises:
        UsageError: there are several, or an option needs all rows at once.
    """
    if len(job.cleanups) != 1 or job.after:
        raise UsageError(
            "Batches are committed one by one, so neither several removes nor checks that roll "
            "everything back can be kept together.",
            "Drop ‹batch›, or run each remove on its own.",
        )
    cleanup = job.cleanups[0]
    if cleanup.selection.limit is not None:
        raise UsageError("‹batch› and ‹limit› both cut the rows.", "Keep one of them.")
    if cleanup.emptying:
        raise UsageError(
            f"‹{cleanup.emptying}› removes all rows at once, and ‹batch› in parts.",
            "Drop one of them.",
        )
    if cleanup.add_constraint:
        raise UsageError(
            "‹add_constraint› needs all rows removed in one run.", "Add it in a run afterwards."
        )
    return (cleanup,)


def _plan_whole(
    database: Database, job: Job, cleanup: Cleanup, receipt_options: ReceiptOptions
) -> tuple[Plan, Prepared, list[tuple[Step, TableName]]]:
    """Plan all batches together; return also every step that a batch can have, with its table."""
    with database.reading() as session:
        prepared = prepare(session, cleanup)
        plan = prepared.plan
        job.limits.check_tables(plan.rows_by_table, session.catalogue)
        job.limits.check_rows(plan.total)
        running.check_plan(plan, _without_expectations(cleanup))
        _check_divisible(prepared)
        steps = _steps_of_batches(prepared)
        check_means(session, prepared, None)  # a batch that fails has to be rolled back
        reached = ((step.action, session.catalogue.table(name)) for step, name in steps)
        check_lasting_effects(session, reached, None)
        if receipt_options.with_rows:
            _check_restorable(session, prepared)
        return plan, prepared, steps


def _steps_of_batches(prepared: Prepared) -> list[tuple[Step, TableName]]:
    """Return the steps of the whole plan, and those that only some batches can need.

    A row that references a row of an earlier batch is detached, though a later batch removes it.
    """
    ripple = prepared.ripple
    steps = [(work.step, work.rows.table.name) for work in prepared.work]
    detaching = [pair for pair in steps if pair[0].action is Action.DETACH]
    for link in ripple.reach.links:
        if link.treatment is Treatment.DETACH and link not in ripple.detached:
            name = str(link.key.child)
            step = Step(0, Action.DETACH, name, 0, link.because, (name,))
            detaching.append((step, link.key.child))
    others = [pair for pair in steps if pair[0].action is not Action.DETACH]
    ordered = enumerate([*detaching, *others], 1)
    return [(replace(step, n=n), table) for n, (step, table) in ordered]


def _check_divisible(prepared: Prepared) -> None:
    if prepared.in_waves:
        raise Refused(
            "Rows on a cycle of foreign keys go in waves, which cannot be cut into batches.",
            "Run it without ‹batch›.",
        )
    held = [
        line
        for line in prepared.plan.ripple
        if line.fate is Fate.REMOVED_ELSEWHERE and line.reason in _WAITING
    ]
    if held:
        raise Refused(
            f"Rows that go reference one another ({held[0].foreign_key}), and a batch would be "
            f"blocked by rows of a later one.",
            f"Add {Option('follow', held[0].name).named}, so that each batch takes its dependents "
            f"along.",
        )


def _check_restorable(session: Session, prepared: Prepared) -> None:
    """Refuse changed rows without a key that a restore could not find after several batches.

    Rows that are equal, or become equal, are only counted. Rows that several batches change are
    stored as each batch found them.
    """
    for work in prepared.work:
        table = work.rows.table
        if counted_only(session, table) and become_equal(session, prepared, work):
            raise Refused(
                f"{table.name} has no key, and some of its rows that go or change equal others: "
                f"after several batches nothing would tell which of them can be put back.",
                f"Give {table.name} a key, or run it without ‹batch›, or with ‹without_rows›.",
            )
    for name, links in _changing(prepared).items():
        table = session.catalogue.table(name)
        goes = name in prepared.ripple.removed and counted_only(session, table)
        if not table.has_key and (goes or len(links) > 1):
            keys = ", ".join(link.key.name for link in links)
            raise Refused(
                f"{name} has no key, and another batch can change or remove a row that one batch "
                f"changed ({keys}): nothing would tell how to put it back.",
                f"Give {name} a key, or run it without ‹batch›, or with ‹without_rows›.",
            )


def _changing(prepared: Prepared) -> dict[TableName, list[Link]]:
    """Return the foreign keys for which rows of a table can change, if any row depends on one."""
    depended = {line.name for line in prepared.plan.ripple if line.rows}
    changing: dict[TableName, list[Link]] = defaultdict(list)
    for link in prepared.ripple.reach.links:
        if link.treatment in (Treatment.DETACH, Treatment.REPOINT):
            changing[link.key.child].append(link)
    return {
        name: links
        for name, links in changing.items()
        if any(link.key.name in depended for link in links)
    }


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
        self.in_doubt = False
        self.wanted = whole.matched
        self.matched = self.rows = 0
        self.ledger = Ledger({})
        self.affected: Counter[tuple[str, ...]] = Counter()
        self.after_key: tuple[int, ...] = ()

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
            self._one(min(size, self.wanted - self.matched))
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
        """Plan, store, remove, prove and commit one batch."""
        selection = replace(self.cleanup.selection, batch=size, after_key=self.after_key)
        cleanup = replace(self.cleanup, selection=selection)
        with self.database.writing(self.lock_wait, self.locks) as session:
            with session.looking():
                prepared = prepare(session, cleanup, explain=False)
            running.check_plan(prepared.plan, _without_expectations(cleanup))
            if prepared.plan.matched != size:
                raise CountMismatch(
                    f"{size:,} rows were to go in this batch, and {prepared.plan.matched:,} match.",
                    "Somebody changed the data meanwhile; look at the plan again.",
                )
            check_means(session, prepared, None)
            last = self._last_key(session, prepared)
            taken = self._taken(session, prepared)
            self.receipt.add_plan(replace(prepared.plan, matched=taken))
            on_disk = False
            try:
                lock_kept_rows(session, prepared)
                watched = store(session, prepared, self.receipt, self.receipt_options)
                tally, ledger = carry_out(session, prepared, cleanup)
                self.limits.check_besides(ledger.unplanned, session.catalogue)
                for each in watched:
                    each.store(self.receipt)
                if session.traits.core_checks_foreign_keys:
                    prove_no_dangling_references(session, prepared)
                self.receipt.ready(tally, ledger)
                on_disk = True
                session.commit()
            except BaseException as error:
                self.in_doubt = on_disk and session.may_be_committed(error)
                session.roll_back()
                if not self.in_doubt:
                    self.receipt.batch_given_up(on_disk=on_disk)
                raise
        self.in_doubt = True  # until the receipt says so too
        self.receipt.batch_committed()
        self.in_doubt = False
        for step, rows in zip(tally.steps, tally.affected, strict=True):
            self.affected[same_in_all(step)] += rows
        self.after_key = last
        self.matched += taken
        self.rows += tally.total
        self.ledger = self.ledger.with_more(ledger)

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
        done = self.receipt.batch - self.in_doubt
        if not self.receipt.batch:
            self.receipt.discard()
            return error
        path: Path = self.receipt.path
        self.receipt.leave()
        after = "The batch after them was rolled back."
        if self.in_doubt:
            after = "If the next batch is committed is not known; the receipt holds its rows too."
        data = (
            f"{done:,} batches are committed: {self.matched + self.before:,} of "
            f"{self.wanted + self.before:,} matched rows are gone, and the receipt {path} holds "
            f"them. {after}"
        )
        next_step = "The same command again finishes the rest; 'yeldro restore' puts these back."
        if isinstance(error, KeyboardInterrupt):
            return Interrupted("You stopped it.", next_step, data=data)
        if isinstance(error, YeldroError):
            kind: Any = type(error)
            return kind(error.why, next_step, data=data)  # type: ignore[no-any-return]
        return DatabaseFailure(str(error).splitlines()[0], next_step, data=data)

    def result(self, title: str) -> RunResult:
        """Return what was done, as one run."""
        self.receipt.committed()
        missing = {name: rows for name, rows in self.left.items() if rows}
        if missing:
            told = ", ".join(f"{rows:,} of {name}" for name, rows in missing.items())
            raise CountMismatch(
                f"Fewer dependent rows went than were planned: {told} were gone before their batch "
                f"came. An allowed trigger or another session removed them.",
                f"'yeldro receipt show {self.receipt.id}' tells what went.",
                data=f"All {self.receipt.batch:,} batches are committed: "
                f"{self.matched + self.before:,} matched rows are gone, and the receipt "
                f"{self.receipt.path} holds what the batches removed.",
                missing=missing,
            )
        done = [(step, self.affected[same_in_all(step)]) for step, _ in self.steps]
        some = [(replace(step, rows=rows), rows) for step, rows in done if rows]
        steps = tuple(step for step, _ in some)
        whole = replace(self.whole, steps=steps, total=self.rows)
        part = Part(whole, Tally(steps, tuple(rows for _, rows in some)))
        return RunResult(title, (part,), Outcome.COMMITTED, self.ledger, self.receipt.path)


def _wait(seconds: float, should_stop: Callable[[], bool]) -> None:
    """Wait, but return as soon as it should stop."""
    end = time.monotonic() + seconds
    while time.monotonic() < end and not should_stop():
        time.sleep(min(0.1, max(0.0, end - time.monotonic())))
