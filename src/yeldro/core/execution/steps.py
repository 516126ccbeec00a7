"""Executing one prepared plan: privileges, each statement's count, the ledger, the commit."""

from __future__ import annotations

from collections.abc import Iterable, Iterator, Sequence
from dataclasses import replace
from itertools import groupby
from typing import TYPE_CHECKING, Any

import sqlalchemy as sa

from yeldro.core.database import sql
from yeldro.core.execution.emptying import empty, is_emptied
from yeldro.core.execution.ledger import check_ledger, check_step, read_ledger
from yeldro.core.execution.proofs import prove_groups_live
from yeldro.core.model.activity import announce
from yeldro.core.model.counts import Ledger, Tally
from yeldro.core.model.errors import (
    DatabaseFailure,
    Fault,
    Interrupted,
    MissingPrivilege,
    NoWayBack,
    ReceiptNotClosed,
    YeldroError,
)
from yeldro.core.model.options import Option
from yeldro.core.model.steps import Action
from yeldro.core.planning.plan import Cleanup, Prepared, Work
from yeldro.core.planning.ripple import missing_privileges

if TYPE_CHECKING:
    from yeldro.core.database.facts import Emptying
    from yeldro.core.database.protocol import Session
    from yeldro.core.model.schema import Table
    from yeldro.core.receipts.writer import ReceiptWriter

_EVENTS = {Action.REMOVE: "delete", Action.ADD: "insert"}


def check_means(
    session: Session, prepared: Prepared, no_way_back: Sequence[str] | None
) -> list[str]:
    """Refuse what this user may not do, and what could not be undone.

    Args:
        no_way_back: tables that the user accepts although nothing can be rolled back there; None
            if everything must be rolled back, as in a rehearsal.

    Returns:
        The tables in which nothing can be rolled back.

    Raises:
        Refused: a privilege is missing, or a table has no transactions and is not named.
    """
    if prepared.plan.commits_by_itself:
        name = prepared.plan.table
        if name not in (no_way_back or ()):
            raise NoWayBack(
                f"Emptying a table commits by itself on {session.traits.name}: what goes from "
                f"{name} cannot be rolled back.",
                f"Accept it with {Option('no_way_back', name).named}, or remove the rows by "
                f"DELETE.",
                name=name,
            )
        return [name]
    missing = missing_privileges(session, prepared.ripple)
    if missing:
        raise MissingPrivilege(
            f"A privilege is missing: {', '.join(missing)}.",
            "Ask for it, or use another user.",
            missing=missing,
        )
    return check_way_back(session, prepared, no_way_back)


def check_way_back(
    session: Session, prepared: Prepared, no_way_back: Sequence[str] | None
) -> list[str]:
    """Refuse what could not be rolled back, and rows that unseen tables may reference.

    Args, Returns, Raises: as in `check_means`.
    """
    steps = [(work.step.action, work.rows.table) for work in prepared.work]
    check_unseen(session, steps)
    tables = {work.rows.table.name: work.rows.table for work in prepared.work}
    check_lasting_effects(session, steps, no_way_back)
    lasting = {str(name): name for name, table in tables.items() if not table.transactional}
    for name, table in lasting.items():
        if no_way_back is None or name not in no_way_back:
            shown = sql.written(session.connection, table)
            remedy = f"Convert it with ALTER TABLE {shown} ENGINE = InnoDB"
            or_accept = f", or accept it with {Option('no_way_back', name).named}"
            raise NoWayBack(
                f"{name} has no transactions: what is removed from it cannot be rolled back.",
                remedy + ("." if no_way_back is None else f"{or_accept}."),
                name=name,
            )
    return list(lasting)


def check_lasting_effects(
    session: Session,
    steps: Iterable[tuple[Action, Table]],
    no_way_back: Sequence[str] | None,
) -> None:
    """Refuse triggers whose effects cannot be rolled back.

    Args:
        steps: what is done to which table.
        no_way_back: as in `check_means`.

    Raises:
        Refused: there is such a trigger, and the user has not accepted it by name.
    """
    for action, table in steps:
        if not table.triggers:
            continue
        event = _EVENTS.get(action, "update")
        for effect in session.lasting_effects(table, event):
            if no_way_back is None or effect.name not in no_way_back:
                accept = f", or accept it with {Option('no_way_back', effect.name).named}"
                raise NoWayBack(
                    f"The trigger {effect.trigger} of {table.name} {effect.said}.",
                    f"{effect.remedy}{accept if no_way_back is not None else ''}.",
                    name=effect.name,
                    trigger=effect.trigger,
                )


def check_unseen(session: Session, steps: Sequence[tuple[Action, Table]]) -> None:
    """Refuse to remove rows that tables could reference which this user does not see.

    Args:
        steps: what is done to which table, in order.

    Raises:
        Refused: there is such a table; or the system's own check, which sees it, cannot be used.
    """
    last = {table.name: place for place, (_, table) in enumerate(steps)}
    for place, (action, table) in enumerate(steps):
        if action is not Action.REMOVE:
            continue
        unseen = session.unseen_references(table)
        if unseen:
            raise MissingPrivilege(
                f"{', '.join(unseen)} references {table.name}, and this user does not see it.",
                "Use a user with SELECT on that database too.",
            )
        referencing = session.catalogue.referencing(table.name)
        in_turn = [key for key in referencing if last.get(key.child, -1) >= place]
        if unseen is None and in_turn:
            raise MissingPrivilege(
                f"This user does not see whether tables of other databases reference "
                f"{table.name}; the server's own check would find out, but not while rows that go "
                f"reference one another ({in_turn[0]}).",
                "Use a user with the privilege PROCESS, or with SELECT on all databases.",
            )


def carry_out(session: Session, prepared: Prepared, cleanup: Cleanup) -> tuple[Tally, Ledger]:
    """Execute every step, and compare its count, the ledger and the proofs with the plan."""
    if prepared.deferred:
        session.defer_checks(prepared.deferred)
    before = session.change_count()
    affected, moved = [], 0
    steps = prepared.work
    total, last = sum(work.step.rows for work in steps), steps[-1].step.n
    announce(_doing(steps[0]), steps[0].step.table, steps[0].step.n, last, total=total)
    for work, rows, more in _carried_out(session, prepared, cleanup.emptying):
        check_step(work.step, rows, work.rows.table)
        affected.append(rows)
        following = steps[len(affected)] if len(affected) < len(steps) else work
        announce(_doing(following), following.step.table, following.step.n, last,
                 rows=sum(affected), total=total)  # fmt: skip
        moved += more
    session.run_deferred()
    tally = Tally(prepared.plan.steps, tuple(affected))
    if cleanup.emptying and before.total is None:  # the system counts no such rows
        ledger = Ledger(tally.by_table({}))
    else:
        if before.total is not None:
            before = replace(before, total=before.total + moved)
        ledger = read_ledger(before, session.change_count(), tally)
        fired = triggers_fired((work.step.action, work.rows.table) for work in prepared.work)
        check_ledger(ledger, fired, cleanup.allowed_triggers)
    if cleanup.selection.duplicates_by:
        prove_groups_live(session, prepared, ledger)
    return tally, ledger


def _carried_out(
    session: Session, prepared: Prepared, emptying: Emptying | None
) -> Iterator[tuple[Work, int, int]]:
    """Execute the steps.

    Yields:
        Each step with the number of rows it affected, and how many more the database counts
        because rows that stay were written again.
    """
    for at_once, some in groupby(prepared.work, lambda work: work.at_once):
        if at_once:
            together = list(some)
            counts = session.change_at_once([_update_of(each) for each in together])
            for work, rows in zip(together, counts, strict=True):
                yield work, rows, 0
            continue
        for work in some:
            if emptying and is_emptied(work, prepared):
                before = session.change_count()
                rows = empty(session, emptying, work)
                counted = rows * before.times.get(work.step.table, 1)
                counted += before.total or 0
                yield work, rows, (session.change_count().total or 0) - counted
            else:
                yield work, _execute(session, work), 0


def _doing(work: Work) -> str:
    """Return a step's action for those who watch."""
    return "removing" if work.step.action is Action.REMOVE else "changing"


def _execute(session: Session, work: Work) -> int:
    """Execute one step; return the number of rows it affected."""
    rows = work.rows
    if rows.copies:
        if rows.keys is None:
            raise Fault(f"the rows of {rows.table.name} have no key table")
        return session.remove_copies(rows.table, rows.keys)
    statement = session.key_driven(statement_of(work))
    if work.step.action is Action.REMOVE and session.unseen_references(rows.table) is None:
        with session.letting_the_system_check():
            return session.connection.execute(statement).rowcount
    return session.connection.execute(statement).rowcount


def statement_of(work: Work) -> sa.Delete | sa.Update:
    """Return the statement that carries out one step, in the plain form."""
    rows = work.rows
    if work.step.action is Action.REMOVE:
        return sa.delete(rows.source).where(rows.condition)
    return _update_of(work)


def _update_of(work: Work) -> sa.Update:
    rows = work.rows
    values: dict[Any, Any] = {rows.source.c[name]: v for name, v in work.changes.items()}
    values |= sql.left_alone(rows.table, rows.source, work.changes)
    return sa.update(rows.source).where(rows.condition).values(values)


def triggers_fired(steps: Iterable[tuple[Action, Table]]) -> list[str]:
    """Return the triggers that such steps on such tables can fire."""
    return list(
        dict.fromkeys(
            trigger.name
            for action, table in steps
            for trigger in table.triggers
            if trigger.event == _EVENTS.get(action, "update")
        )
    )


class CommitNotice:
    """Tells a user who interrupts the work after a commit what is committed.

    Attributes:
        said: what is committed, as a sentence; empty before the commit.
    """

    said = ""

    def __enter__(self) -> CommitNotice:
        return self

    def __exit__(self, kind: type[BaseException] | None, error: object, trace: object) -> None:
        if kind is not None and issubclass(kind, KeyboardInterrupt) and self.said:
            raise Interrupted("You stopped it after the commit.", data=self.said)


def commit_with(session: Session, receipt: ReceiptWriter, done: str) -> None:
    """Commit, once the receipt is ready, and close the receipt.

    Args:
        done: what has happened to the data if only the receipt cannot be closed.

    Raises:
        DatabaseFailure, Interrupted: the commit's outcome is not known; the receipt is kept.
    """
    try:
        session.commit()
    except BaseException as error:
        if session.may_be_committed(error):
            receipt.leave()
            raise _in_doubt(
                error,
                f"It is not known if the commit took effect; the receipt {receipt.path} is kept.",
                f"'yeldro receipt check {receipt.id}' compares it with the database.",
            ) from error
        session.roll_back()
        receipt.discard()
        raise
    try:
        receipt.committed()
    except KeyboardInterrupt as error:
        raise Interrupted(
            "You stopped it after the commit.",
            f"The receipt {receipt.path} is complete: see 'yeldro receipt check {receipt.id}'.",
            data=done,
        ) from error
    except Exception as error:
        raise ReceiptNotClosed(
            f"The receipt {receipt.path} could not be closed ({error}); it is complete.",
            "Check it with 'yeldro receipt check'.",
            data=done,
        ) from error


def _in_doubt(error: BaseException, data: str, next_step: str) -> YeldroError:
    """Return the error to raise if the outcome of a commit is not known."""
    if isinstance(error, KeyboardInterrupt):
        return Interrupted("You stopped it during the commit.", next_step, data=data)
    words = next(iter(str(getattr(error, "orig", error)).splitlines()), "no reason given")
    why = f"The connection was lost during the commit: {words}."
    return DatabaseFailure(why, next_step, data=data)
