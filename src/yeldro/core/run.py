"""Carrying out a plan: each count held against its plan, a receipt on disk, then the commit."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass
from enum import StrEnum
from pathlib import Path
from typing import Any

import sqlalchemy as sa

from yeldro.core import sql
from yeldro.core.errors import (
    UNCHANGED,
    CountMismatch,
    DatabaseFailure,
    Interrupted,
    Refused,
    YeldroError,
)
from yeldro.core.plan import (
    Action,
    Cleanup,
    Plan,
    Prepared,
    Work,
    missing_privileges,
    prepare,
)
from yeldro.core.proofs import prove_groups_live, prove_nothing_hangs
from yeldro.core.protocol import Database, Session
from yeldro.core.receipt import ReceiptWriter
from yeldro.core.storing import store
from yeldro.core.tally import Ledger, Tally, check_ledger, check_step, read_ledger


class Outcome(StrEnum):
    """How a run or rehearsal ended."""

    COMMITTED = "committed"
    ROLLED_BACK = "rolled_back"
    NOTHING_TO_DO = "nothing_to_do"


@dataclass(frozen=True)
class RunResult:
    """What a run or a rehearsal did.

    Args:
        receipt: where the receipt lies, None where none was written.
        constraint_made: whether the plan's `prevention` was carried out.
    """

    plan: Plan
    outcome: Outcome
    tally: Tally
    ledger: Ledger
    receipt: Path | None = None
    constraint_made: bool = False


@dataclass(frozen=True)
class ReceiptWish:
    """Where a receipt goes and what it says was asked.

    Args:
        with_rows: store the removed and changed rows, so that they can be restored.
    """

    folder: Path
    title: str
    with_rows: bool = True


def plan(database: Database, cleanup: Cleanup) -> Plan:
    """What `cleanup` would do to the database as it is now; changes nothing.

    Raises:
        UsageError, Refused, DatabaseFailure: as `yeldro.core.plan.prepare` and the engine tell.
    """
    with database.reading() as session:
        return prepare(session, cleanup).plan


def rehearse(database: Database, cleanup: Cleanup, lock_wait: float) -> RunResult:
    """Carries out everything in a transaction and rolls it back.

    Args:
        lock_wait: seconds to wait for other sessions' locks.

    Raises:
        Refused: the plan is blocked.
        CountMismatch: a count was not as planned or expected.
    """
    with database.writing(lock_wait) as session:
        prepared = prepare(session, cleanup)
        check_plan(prepared.plan, cleanup)
        _check_means(session, prepared, None)
        tally, ledger = _carry_out(session, prepared, cleanup)
        session.roll_back()
    outcome = Outcome.ROLLED_BACK if tally.total else Outcome.NOTHING_TO_DO
    return RunResult(prepared.plan, outcome, tally, ledger)


def run(
    database: Database,
    cleanup: Cleanup,
    wish: ReceiptWish,
    lock_wait: float,
    agreed: Plan | None = None,
) -> RunResult:
    """Removes the rows, if exactly the planned and expected numbers go; else changes nothing.

    Args:
        lock_wait: seconds to wait for other sessions' locks.
        agreed: the plan that a person has seen and agreed to; any other count is refused.

    Raises:
        Refused: the plan is blocked, or its counts are no longer those agreed to.
        CountMismatch: a count was not as planned or expected; rolled back.
        DatabaseFailure: the database or the receipt's disk refused; rolled back.
    """
    with database.writing(lock_wait) as session:
        prepared = prepare(session, cleanup, explain=False)
        found = prepared.plan
        check_plan(found, cleanup)
        if agreed is not None:
            _check_agreed(found, agreed)
        if not found.total:
            if cleanup.add_constraint:
                _make_constraint(session, found.prevention)
                session.commit()
            return nothing_to_do(found, cleanup.add_constraint)
        lasting = _check_means(session, prepared, cleanup.no_way_back)
        receipt = ReceiptWriter(wish.folder, wish.title, session.system, database.shown, found)
        try:
            store(session, prepared, receipt, wish.with_rows)
            if lasting:
                receipt.keep()
            tally, ledger = _carry_out(session, prepared, cleanup)
            if cleanup.add_constraint and session.makes_constraints_at_once:
                _make_constraint(session, found.prevention)
            receipt.ready(tally, ledger)
        except BaseException as error:
            session.roll_back()
            if lasting:
                raise _not_rolled_back(error, lasting, receipt) from error
            receipt.discard()
            raise
        _commit(session, receipt)
        if cleanup.add_constraint and not session.makes_constraints_at_once:
            _add_constraint(session, found.prevention)
    made = cleanup.add_constraint
    return RunResult(found, Outcome.COMMITTED, tally, ledger, receipt.path, made)


def check_plan(found: Plan, cleanup: Cleanup) -> None:
    """Refuses a plan that is blocked or has other counts than expected.

    Raises:
        Refused: a foreign key stands in the way.
        CountMismatch: an expectation does not hold.
    """
    cleanup.expectations.check(found.matched, found.total, found.rows_by_table, UNCHANGED)
    if found.blocked:
        total = sum(each.rows for each in found.blocked)
        reasons = "; ".join(
            f"{each.rows:,} of {each.table} ({each.foreign_key}, {each.reason})"
            for each in found.blocked
        )
        options = [" or ".join(each.remedies) for each in found.blocked if each.remedies]
        next_step = f"Add {' and '.join(options)}; or keep their parents."
        if not options:
            next_step = "No option moves them; deal with the rows that reference them first."
        raise Refused(
            f"Rows that reference those that would go are in the way: {total:,}, namely {reasons}.",
            next_step,
            blocked=found.blocked,
        )


def _check_means(
    session: Session, prepared: Prepared, no_way_back: Sequence[str] | None
) -> list[str]:
    """Refuses what this user may not do, and what could not be undone.

    Args:
        no_way_back: tables of which it is accepted that nothing can be rolled back; None where
            everything is to be rolled back.

    Returns:
        The tables in which nothing can be rolled back.

    Raises:
        Refused: a privilege is missing, or a table has no transactions and is not named.
    """
    missing = missing_privileges(session, prepared.ripple)
    if missing:
        raise Refused(
            f"A privilege is missing: {', '.join(missing)}.", "Ask for it, or use another user."
        )
    tables = {work.rows.table.name: work.rows.table for work in prepared.work}
    lasting = [str(name) for name, table in tables.items() if not table.transactional]
    for name in lasting:
        if no_way_back is None or name not in no_way_back:
            remedy = f"Convert it with ALTER TABLE {name} ENGINE = InnoDB"
            or_accept = f", or accept it with --no-way-back {name}"
            raise Refused(
                f"{name} has no transactions: what is removed from it cannot be rolled back.",
                remedy + ("." if no_way_back is None else f"{or_accept}."),
            )
    return lasting


def _not_rolled_back(
    error: BaseException, lasting: Sequence[str], receipt: ReceiptWriter
) -> YeldroError:
    """A failure while rows went from tables without transactions."""
    data = (
        f"Rows of {', '.join(lasting)} may be gone, and could not be rolled back; the receipt "
        f"{receipt.path} holds all that were meant."
    )
    next_step = f"See 'yeldro receipt check {receipt.id}', then 'yeldro restore {receipt.id}'."
    if isinstance(error, CountMismatch):
        return CountMismatch(error.why, next_step, data=data)
    if isinstance(error, KeyboardInterrupt):
        return Interrupted("The statement was stopped.", next_step, data=data)
    return DatabaseFailure(str(error).splitlines()[0], next_step, data=data)


def _check_agreed(found: Plan, agreed: Plan) -> None:
    if (found.matched, found.rows_by_table) == (agreed.matched, agreed.rows_by_table):
        return
    names = dict.fromkeys([*agreed.rows_by_table, *found.rows_by_table])
    changes = ", ".join(
        f"{name}: {agreed.rows_by_table.get(name, 0):,} → {found.rows_by_table.get(name, 0):,}"
        for name in names
        if agreed.rows_by_table.get(name, 0) != found.rows_by_table.get(name, 0)
    )
    raise Refused(
        f"The database has changed since the plan was shown ({changes or 'other rows match'}).",
        "Look at the new plan and decide again.",
    )


def _carry_out(session: Session, prepared: Prepared, cleanup: Cleanup) -> tuple[Tally, Ledger]:
    """Executes every step and holds its count, the ledger and the promises against the plan."""
    if prepared.deferred:
        session.defer_checks(prepared.deferred)
    before = session.change_count()
    affected = []
    for work in prepared.work:
        rows = _execute(session, work)
        check_step(work.step, rows)
        affected.append(rows)
    tally = Tally(prepared.plan.steps, tuple(affected))
    ledger = read_ledger(before, session.change_count(), tally)
    check_ledger(ledger, _triggers(prepared), cleanup.allowed_triggers)
    if session.checks_when_all_is_done:
        prove_nothing_hangs(session, prepared)
    if cleanup.selection.duplicates_by:
        prove_groups_live(session, prepared, cleanup, ledger)
    return tally, ledger


def _execute(session: Session, work: Work) -> int:
    """Carries out one step; the number of rows it affected."""
    rows = work.rows
    if rows.copies:
        assert rows.keys is not None
        return session.remove_copies(rows.table, rows.keys)
    statement: sa.Delete | sa.Update = sa.delete(rows.source).where(rows.condition)
    if work.step.action is not Action.REMOVE:
        values: dict[Any, Any] = {rows.source.c[name]: v for name, v in work.changes.items()}
        values |= sql.left_alone(rows.table, rows.source, work.changes)
        statement = sa.update(rows.source).where(rows.condition).values(values)
    return session.connection.execute(session.led_by_keys(statement)).rowcount


def _triggers(prepared: Prepared) -> list[str]:
    """The triggers that the steps can fire."""
    events = {Action.REMOVE: "delete", Action.DETACH: "update", Action.REPOINT: "update"}
    return list(
        dict.fromkeys(
            trigger.name
            for work in prepared.work
            for trigger in work.rows.table.triggers
            if trigger.event == events[work.step.action]
        )
    )


def _commit(session: Session, receipt: ReceiptWriter) -> None:
    try:
        session.commit()
    except BaseException:
        session.roll_back()
        receipt.discard()
        raise
    try:
        receipt.committed()
    except Exception as error:
        raise YeldroError(
            f"The receipt {receipt.path} could not be closed ({error}); it is complete.",
            "Check it with 'yeldro receipt check'.",
            data="The rows are removed and committed.",
        ) from error


def _add_constraint(session: Session, statement: str) -> None:
    """Makes a constraint where the system commits on its own when it does."""
    try:
        _make_constraint(session, statement)
    except sa.exc.DBAPIError as error:
        raise DatabaseFailure(
            f"The constraint could not be made: {session.reason(error)}.",
            f"See what came in since with 'yeldro duplicates', then run: {statement};",
            data="The rows are removed and committed.",
        ) from error


def _make_constraint(session: Session, statement: str) -> None:
    session.connection.exec_driver_sql(statement, execution_options={"no_parameters": True})


def nothing_to_do(found: Plan, constraint_made: bool = False) -> RunResult:
    """The result of a run whose plan held no rows."""
    return RunResult(
        found, Outcome.NOTHING_TO_DO, Tally((), ()), Ledger({}), constraint_made=constraint_made
    )
