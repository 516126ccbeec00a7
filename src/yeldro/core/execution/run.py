"""Running a job: each count compared with its plan, a receipt on disk, then the commit."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass, replace
from enum import StrEnum
from pathlib import Path
from typing import TYPE_CHECKING

import sqlalchemy as sa

from yeldro.core.changes.change_set import Acceptances
from yeldro.core.changes.transaction import changing
from yeldro.core.database import sql
from yeldro.core.execution.locks import tables_to_lock
from yeldro.core.execution.removal import Removal
from yeldro.core.model.messages.errors import (
    ROLLED_BACK,
    UNCHANGED,
    BlockedByForeignKey,
    DatabaseFailure,
)
from yeldro.core.model.messages.names import counted
from yeldro.core.model.work.counts import Ledger, Tally, joined
from yeldro.core.planning.cleanup import Cleanup
from yeldro.core.planning.job import (
    Job,
    JobPlan,
    check_alone,
    rows_by_table,
    what_follows,
    with_error_context,
)
from yeldro.core.planning.plan import Plan, Prepared, check_allowed_triggers, prepare
from yeldro.core.planning.warnings import of_privileges
from yeldro.core.receipts.writer import ReceiptOptions, ReceiptWriter
from yeldro.core.selection.conditions.checks import CheckResult, require_checks, run_checks

if TYPE_CHECKING:
    from yeldro.core.changes.transaction import Transaction
    from yeldro.core.database.protocol import Database, Session
    from yeldro.core.execution.approval import Approval
    from yeldro.core.model.tables.schema import TableName


class Outcome(StrEnum):
    """How a run or rehearsal ended."""

    COMMITTED = "committed"
    ROLLED_BACK = "rolled_back"
    NOTHING_TO_DO = "nothing_to_do"


@dataclass(frozen=True)
class CleanupDone:
    """What was done for one cleanup.

    Args:
        constraint_made: the plan's `prevention` was carried out.
    """

    plan: Plan
    tally: Tally
    constraint_made: bool = False


@dataclass(frozen=True)
class RunResult:
    """What a run or a rehearsal did.

    Args:
        receipt: the receipt's path, None if no receipt was written.
        copies: tables of the database that hold the rows instead of the receipt.
    """

    title: str
    parts: tuple[CleanupDone, ...]
    outcome: Outcome
    ledger: Ledger
    receipt: Path | None = None
    after: tuple[CheckResult, ...] = ()
    copies: tuple[TableName, ...] = ()

    @property
    def plans(self) -> tuple[Plan, ...]:
        """The plans that were carried out."""
        return tuple(part.plan for part in self.parts)

    @property
    def tally(self) -> Tally:
        """All cleanups' steps together."""
        return joined(part.tally for part in self.parts)


def plan(database: Database, job: Job, watch: Approval | None = None) -> JobPlan:
    """Return what `job` would do to the database as it is now; nothing is changed.

    Args:
        watch: sees every plan as it is made, while its key tables exist.

    Raises:
        UsageError, Refused, DatabaseFailure: as `yeldro.core.planning.plan.prepare` raises them.
    """
    check_alone(job)
    plans: list[Plan] = []
    done: list[tuple[Cleanup, Prepared]] = []
    for place, cleanup in enumerate(job.cleanups):
        with database.reading() as session, with_error_context(job, place):
            before = sum(len(each.steps) for each in plans)
            prepared = prepare(session, cleanup, steps_before=before)
            done.append((cleanup, prepared))
            if watch:
                watch.check(place, session, prepared)
            touched = [each.touched for each in prepared.changes]
            warnings = (
                *prepared.plan.warnings,
                *of_privileges(session, cleanup, touched),  # which a run's guard refuses
                *job.limits.unknown(session.catalogue),
            )
            plans.append(replace(prepared.plan, warnings=warnings))
    check_allowed_triggers(done)
    return JobPlan(job.title, tuple(plans), what_follows(plans))


def check_plans(found: JobPlan, job: Job) -> None:
    """Refuse plans that are blocked, exceed a limit, or have other counts than expected.

    Raises:
        Refused: a foreign key or a limit forbids a plan.
        CountMismatch: an expectation does not hold.
    """
    for place, each in enumerate(found.plans):
        with with_error_context(job, place):
            job.limits.check_tables(each.rows_by_table)
            check_plan(each, job.cleanups[place])
    _check_sum(found.plans, job, UNCHANGED)


def rehearse(
    database: Database, job: Job, lock_wait: float, watch: Approval | None = None
) -> RunResult:
    """Carry out everything in a transaction and roll it back.

    Args:
        lock_wait: seconds to wait for other sessions' locks.
        watch: sees every plan as it is made, before it is carried out.

    Raises:
        Refused: a plan is blocked.
        CountMismatch: a count differs from the planned or expected one.
    """
    locks = tables_to_lock(database, job)
    with changing(database, job.limits, None, lock_wait, locks) as transaction:
        work = _Running(transaction, job, None, watch)
        work.carry_out()
        found = run_checks(transaction.session, job.after)
        transaction.session.roll_back()
    require_checks(found)
    outcome = Outcome.ROLLED_BACK if transaction.total else Outcome.NOTHING_TO_DO
    return RunResult(job.title, tuple(work.parts), outcome, transaction.ledger, after=found)


def run(
    database: Database,
    job: Job,
    receipt_options: ReceiptOptions,
    lock_wait: float,
    agreed: Approval | None = None,
) -> RunResult:
    """Remove the rows if exactly the planned and expected numbers go; else change nothing.

    Args:
        lock_wait: seconds to wait for other sessions' locks.
        agreed: approves every plan before it is carried out.

    Raises:
        Refused: a plan is blocked, or is no longer the approved one.
        CountMismatch: a count differs, or a check fails; everything was rolled back.
        DatabaseFailure: the database or the receipt's disk failed; everything was rolled back.
    """
    locks = tables_to_lock(database, job)

    def open_receipt(table: str) -> ReceiptWriter:
        system, shown = database.traits.name, database.shown
        return ReceiptWriter(receipt_options.folder, job.title, system, shown, table)

    with changing(database, job.limits, open_receipt, lock_wait, locks) as transaction:
        work = _Running(transaction, job, receipt_options, agreed)
        work.carry_out()
        found = run_checks(transaction.session, job.after)
        require_checks(found)
        work.make_constraints(at_once=True)
        transaction.commit("The rows are removed and committed.")
        work.make_constraints(at_once=False)
    receipt = transaction.receipt
    return RunResult(
        job.title,
        tuple(work.parts),
        Outcome.COMMITTED if receipt else Outcome.NOTHING_TO_DO,
        transaction.ledger,
        receipt.path if receipt else None,
        found,
        tuple(receipt.copies) if receipt else (),
    )


class _Running:
    """A running job: each cleanup is planned when those before it are done.

    Args:
        receipt_options: how rows are stored; None in a rehearsal.
        agreed: approves every plan before it is carried out.
    """

    def __init__(
        self,
        transaction: Transaction,
        job: Job,
        receipt_options: ReceiptOptions | None,
        agreed: Approval | None,
    ) -> None:
        self.transaction = transaction
        self.session = transaction.session
        self.job = job
        self.receipt_options = receipt_options
        self.agreed = agreed
        self.parts: list[CleanupDone] = []

    def carry_out(self) -> None:
        """Plan and execute the cleanups one after another."""
        done: list[Prepared] = []
        for place, cleanup in enumerate(self.job.cleanups):
            with with_error_context(self.job, place):
                prepared = self._planned(cleanup)
            if place == len(self.job.cleanups) - 1:  # now all counts are known
                plans = [*(part.plan for part in self.parts), prepared.plan]
                rolled_back = bool(self.transaction.total)
                _check_sum(plans, self.job, ROLLED_BACK if rolled_back else UNCHANGED)
            with with_error_context(self.job, place):
                self._carry_out(cleanup, prepared)
            done.append(prepared)
        check_allowed_triggers(list(zip(self.job.cleanups, done, strict=True)))
        self.transaction.prove()

    def _planned(self, cleanup: Cleanup) -> Prepared:
        before = sum(len(part.plan.steps) for part in self.parts)
        explain = self.receipt_options is None
        with self.session.looking():
            prepared = prepare(self.session, cleanup, explain=explain, steps_before=before)
            warnings = prepared.plan.warnings
            if not self.parts:
                warnings = (*warnings, *self.job.limits.unknown(self.session.catalogue))
            prepared = replace(prepared, plan=replace(prepared.plan, warnings=warnings))
        check_plan(prepared.plan, cleanup)
        return prepared

    def _carry_out(self, cleanup: Cleanup, prepared: Prepared) -> None:
        found = prepared.plan
        if self.agreed:
            self.agreed.check(len(self.parts), self.session, prepared)
        tally = Tally((), ())
        if found.total:
            no_way_back = cleanup.no_way_back if self.receipt_options else None
            accepted = Acceptances(cleanup.allowed_triggers, no_way_back)
            tally = self.transaction.carry_out(
                Removal(self.session, prepared, accepted, found.matched, self.receipt_options)
            )
        made = cleanup.add_constraint and self.receipt_options is not None
        self.parts.append(CleanupDone(found, tally, made))

    def make_constraints(self, *, at_once: bool) -> None:
        """Add the constraints that were asked for, in the transaction or after its commit."""
        if self.session.traits.has_transactional_ddl != at_once:
            return
        for part in self.parts:
            wanted = part.plan.prevention if part.constraint_made else None
            if wanted and at_once:
                _make_constraint(self.session, wanted.statement)
            elif wanted:
                _add_constraint(self.session, wanted.statement, self.transaction.receipt)


def check_plan(found: Plan, cleanup: Cleanup) -> None:
    """Refuse a plan that is blocked or has other counts than expected.

    Raises:
        Refused: a foreign key blocks it.
        CountMismatch: an expectation does not hold.
    """
    cleanup.expectations.check(found.matched, found.total, found.rows_by_table, UNCHANGED)
    if found.blocked:
        total = sum(each.rows for each in found.blocked)
        reasons = "; ".join(
            f"{each.rows:,} of {each.table} ({each.foreign_key}, {each.reason})"
            for each in found.blocked
        )
        options = [
            " or ".join(remedy.named for remedy in each.remedies)
            for each in found.blocked
            if each.remedies
        ]
        next_step = f"Add {' and '.join(options)}, or leave out the rows that they reference."
        if not options:
            next_step = "No option helps here; first change or remove the rows that reference them."
        raise BlockedByForeignKey(
            f"{counted(total, 'row references', 'rows reference')} rows that would go, and would "
            f"stay: {reasons}.",
            next_step,
            blocked=[
                {
                    "foreign_key": each.foreign_key,
                    "table": each.table,
                    "rows": each.rows,
                    "remedies": [str(remedy) for remedy in each.remedies],
                }
                for each in found.blocked
            ],
        )


def _check_sum(plans: Sequence[Plan], job: Job, data: str) -> None:
    """Compare all cleanups together with what is expected and allowed.

    Args:
        data: what to say has happened to the data.
    """
    total = sum(each.total for each in plans)
    job.limits.check_rows(total)
    matched = sum(each.matched for each in plans)
    job.expectations.check(matched, total, rows_by_table(plans), data)


def _add_constraint(session: Session, statement: str, receipt: ReceiptWriter | None) -> None:
    """Add a constraint after the commit, on systems that commit by themselves then."""
    try:
        _make_constraint(session, statement)
    except sa.exc.DBAPIError as error:
        raise DatabaseFailure(
            f"The constraint could not be made: {session.reason(error)}.",
            f"Look for new duplicates with ⟨duplicates⟩, then run: {statement};",
            data="The rows are removed and committed"
            + (f"; the receipt {receipt.path} holds them." if receipt else "."),
        ) from error


def _make_constraint(session: Session, statement: str) -> None:
    sql.as_written(session.connection, statement)


def nothing_to_do(found: JobPlan) -> RunResult:
    """Return the result of a run whose plans held no rows."""
    parts = tuple(CleanupDone(plan, Tally((), ())) for plan in found.plans)
    return RunResult(found.title, parts, Outcome.NOTHING_TO_DO, Ledger({}))
