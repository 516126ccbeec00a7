"""A transaction in which users' rows change: everything is as planned, or nothing happens.

One change set after another is guarded, locked, stored, carried out, counted by the steps and by
the database, and proved. When the receipt is on disk, the transaction is committed.
"""

from __future__ import annotations

from collections.abc import Callable, Iterable, Iterator, Sequence
from contextlib import contextmanager
from dataclasses import replace
from typing import TYPE_CHECKING

from yeldro.core.changes.guard import check_way_back, guard, triggers_fired
from yeldro.core.changes.ledger import check_ledger, check_step, check_uncounted, read_ledger
from yeldro.core.changes.statements import execute_together
from yeldro.core.database.facts import NOTHING, USUAL
from yeldro.core.model.messages.activity import announce
from yeldro.core.model.messages.errors import (
    ROWS_ROLLED_BACK,
    UNCHANGED,
    CountMismatch,
    DatabaseFailure,
    Fault,
    Interrupted,
    ReceiptNotClosed,
    YeldroError,
)
from yeldro.core.model.messages.outcome import note_outcome, noted_outcome
from yeldro.core.model.work.counts import NOTHING_YET, Ledger, Tally, joined
from yeldro.core.model.work.steps import Action, Step, rows_by_table

if TYPE_CHECKING:
    from yeldro.core.changes.change_set import Affected, Change, ChangeSet
    from yeldro.core.changes.limits import Limits
    from yeldro.core.database.facts import ChangeCount, Mode, TableLocks
    from yeldro.core.database.protocol import Database, Session
    from yeldro.core.receipts.writer import ReceiptWriter

    OpenReceipt = Callable[[str], ReceiptWriter]

_DOING = {Action.REMOVE: "removing", Action.ADD: "putting back"}


@contextmanager
def changing(
    database: Database,
    limits: Limits,
    open_receipt: OpenReceipt | None,
    lock_wait: float,
    locks: TableLocks = NOTHING,
    mode: Mode = USUAL,
) -> Iterator[Transaction]:
    """Open a session in which rows change; what is not committed at the end is rolled back.

    Args:
        limits: what no change set may exceed.
        open_receipt: begins a receipt for cleanups that begin with this table; None in a
            rehearsal.
        lock_wait: seconds to wait for other sessions' locks.
        locks: what is locked before the first look at a row.

    Raises:
        Interrupted: somebody stopped the program when all was committed.
        YeldroError: rows may have changed in a table without transactions.
    """
    transaction: Transaction | None = None
    try:
        with database.writing(lock_wait, locks, mode) as session:
            transaction = Transaction(session, limits, open_receipt)
            try:
                yield transaction
            except BaseException as error:
                transaction.give_up(error)
                raise
    except KeyboardInterrupt:
        if transaction is None or not transaction.may_be_committed:
            raise
        raise Interrupted("You interrupted it.", data=noted_outcome()) from None


class Transaction:
    """All changes between the opening of a session and its commit.

    Attributes:
        receipt: what holds the rows; None in a rehearsal, and while no rows are to change.
        ledger: what the database counted.
        committed: what is committed, as a sentence; empty before the commit.

    Args:
        limits, open_receipt: as in `changing`.
    """

    def __init__(self, session: Session, limits: Limits, open_receipt: OpenReceipt | None) -> None:
        self.session = session
        self.limits = limits
        self.receipt: ReceiptWriter | None = None
        self.ledger = NOTHING_YET
        self.committed = ""
        self._open_receipt = open_receipt
        self._tallies: list[Tally] = []
        self._carried_out: list[ChangeSet] = []
        self._lasting: list[str] = []
        self._effects: list[str] = []
        self._in_doubt = False
        self._counted: ChangeCount | None = None

    @property
    def may_be_committed(self) -> bool:
        """True once the commit has been sent, unless it was refused."""
        return bool(self.committed) or self._in_doubt

    @property
    def total(self) -> int:
        """Rows gone, changed or added so far."""
        return sum(each.total for each in self._tallies)

    def carry_out(self, change_set: ChangeSet) -> Tally:
        """Guard, lock, store, execute and count a change set.

        Raises:
            Refused: a limit forbids it, a privilege is missing, or it could not be undone.
            CountMismatch: a statement, or the database's own count, gives another number.
            DatabaseFailure: the database or the receipt's disk failed.
        """
        self._keep_limits(change_set.steps)
        lasting = guard(self.session, change_set.touched, change_set.accepted.no_way_back)
        if self._open_receipt is not None:
            self.receipt = self.receipt or self._open_receipt(change_set.named_table)
            self._lasting += lasting.tables
            self._effects += lasting.effects
        change_set.lock()
        tally, ledger = self._execute(change_set, keep=bool(lasting.tables))
        self.limits.check_besides(ledger.unplanned, self.session.catalogue)
        change_set.prove(ledger)
        if self.receipt is not None:
            change_set.store_after(self.receipt, tally)
        self._carried_out.append(change_set)
        self._tallies.append(tally)
        self.ledger = self.ledger.with_more(ledger)
        return tally

    def prove(self) -> None:
        """Look once more, when all change sets are carried out.

        Raises:
            CountMismatch: a row is left without its parent.
        """
        for change_set in self._carried_out:
            change_set.prove_at_the_end()

    def commit(self, done: str) -> None:
        """Put the receipt on disk, and commit.

        Args:
            done: what has happened to the data then, as a sentence.

        Raises:
            DatabaseFailure, Interrupted: the commit's outcome is not known; the receipt is kept.
            ReceiptNotClosed: all is committed, and only the receipt's last line is missing.
        """
        receipt = self.receipt
        if receipt is None:
            self.session.commit()
            return
        receipt.ready(joined(self._tallies), self.ledger)
        self._in_doubt = True  # whatever happens from here on, until something proves the outcome
        note_outcome(_in_doubt(receipt))
        try:
            self.session.commit()
        except BaseException as error:
            if self.session.may_be_committed(error):
                receipt.leave()
                raise _outcome_unknown(error, receipt) from error
            self._in_doubt = False
            note_outcome("")
            raise
        self.committed = f"{done[:-1]}; the receipt is {receipt.path}."
        note_outcome(self.committed)
        try:
            receipt.committed()
        except KeyboardInterrupt as error:
            raise Interrupted(
                "You interrupted it after the commit.",
                f"The receipt {receipt.path} is complete: see ⟨receipt check {receipt.id}⟩.",
                data=done,
            ) from error
        except Exception as error:
            raise ReceiptNotClosed(
                f"The receipt {receipt.path} could not be closed ({error}); it is complete.",
                "Check it with ⟨receipt check⟩.",
                data=done,
            ) from error

    def begin_again(self) -> None:
        """Forget what was carried out: somebody has gone back to a savepoint before it."""
        if self.receipt is not None:
            self.receipt.discard()
        self.receipt, self.ledger = None, NOTHING_YET
        self._tallies, self._carried_out = [], []
        self._counted = self.session.change_count()  # which counts what was undone, too

    def give_up(self, error: BaseException) -> None:
        """Roll everything back; keep the receipt only if rows may have changed for good.

        Raises:
            YeldroError: they may have changed in a table without transactions.
        """
        if self.may_be_committed:
            return
        self.session.roll_back()
        if self.receipt is None:
            return
        if self._lasting and getattr(error, "data", "") != UNCHANGED:
            raise _not_rolled_back(error, self._lasting, self.receipt) from error
        self.receipt.discard()
        if self._effects and getattr(error, "data", "") != UNCHANGED:
            data = f"{ROWS_ROLLED_BACK} What was done by {', '.join(self._effects)} may stay."
            raise _with(error, data, "Look there.") from error

    def _keep_limits(self, steps: Sequence[Step]) -> None:
        rows = rows_by_table(steps)
        self.limits.check_tables(
            {name: number for name, number in rows.items() if number}, self.session.catalogue
        )
        self.limits.check_rows(self.total + sum(rows.values()))

    def _execute(self, change_set: ChangeSet, *, keep: bool) -> tuple[Tally, Ledger]:
        """Execute every change; compare its count with the plan, and all with the database's.

        Args:
            keep: the receipt is put on disk before each change, as it cannot be rolled back.
        """
        session = self.session
        before: ChangeCount | None = None
        done: list[tuple[Change, int]] = []
        moved = 0
        progress = _Progress(change_set.steps)
        for part in change_set.changes(self.receipt):
            before = before or self._counted_before()  # not until the first rows are stored
            if keep and self.receipt is not None:
                self.receipt.keep()
            if not session.traits.counts_changes:
                fired = triggers_fired(change.touched for change in part)
                check_uncounted(session.traits.name, fired, change_set.accepted.triggers)
            progress.begins(part[0])
            for change, affected in zip(part, self._affected(change_set, part), strict=True):
                if change.step.n:
                    check_step(change.step, affected.rows, change.rows.table)
                done.append((change, affected.rows))
                moved += affected.written_again
            progress.ended(part)
        if before is None:
            raise Fault("a change set without a change was to be carried out")
        session.run_deferred()
        if before.total is not None:
            before = replace(before, total=before.total + moved)
        counted = [(change, rows) for change, rows in done if change.step.n]
        tally = _tally(counted)
        self._counted = session.change_count()
        if any(change.emptying for change, _ in done) and before.tables is not None:
            ledger = Ledger(tally.by_table({}))  # the system counts no such rows
        else:
            ledger = read_ledger(before, self._counted, _tally(done))
            ledger = ledger.with_more(self._corrected(change_set, self._counted))
        fired = triggers_fired(change.touched for change, rows in done if change.step.n or rows)
        fired += session.event_triggers()
        check_ledger(ledger, fired, change_set.accepted.triggers)
        return tally, ledger

    def _counted_before(self) -> ChangeCount:
        """Return the count that the next one is compared with."""
        return self.session.change_count().since(self._counted)

    def _affected(self, change_set: ChangeSet, part: Sequence[Change]) -> list[Affected]:
        if part[0].at_once:
            return execute_together(self.session, part)
        return [change_set.carry_out(each) for each in part]

    def _corrected(self, change_set: ChangeSet, before: ChangeCount) -> Ledger:
        """Return the ledger of what was set once more."""
        changed: list[tuple[Change, int]] = []
        for change in change_set.corrections():
            check_way_back(self.session, [change.touched], change_set.accepted.no_way_back)
            rows = change_set.carry_out(change).rows
            if rows:
                self.session.run_deferred()
                changed.append((change, rows))
        if not changed:
            return NOTHING_YET
        self._counted = self.session.change_count()
        ledger = read_ledger(before, self._counted, _tally(changed))
        # A row in which a trigger sets its own values again may count as not changed at all.
        more = {name: rows for name, rows in ledger.unplanned.items() if rows > 0}
        return replace(ledger, unplanned=more)


class _Progress:
    """Announces what is being done, for those who watch."""

    def __init__(self, steps: Sequence[Step]) -> None:
        numbered = [step for step in steps if step.n]
        self.total = sum(step.rows for step in numbered)
        self.last = numbered[-1].n if numbered else 0
        self.rows = 0

    def begins(self, change: Change) -> None:
        step = change.step
        if step.n:
            doing = _DOING.get(step.action, "changing")
            announce(doing, step.table, step.n, self.last, rows=self.rows, total=self.total)

    def ended(self, part: Sequence[Change]) -> None:
        self.rows += sum(change.step.rows for change in part if change.step.n)
        self.begins(part[-1])


def _tally(done: Iterable[tuple[Change, int]]) -> Tally:
    listed = list(done)
    return Tally(tuple(change.step for change, _ in listed), tuple(rows for _, rows in listed))


def _not_rolled_back(
    error: BaseException, lasting: Sequence[str], receipt: ReceiptWriter
) -> YeldroError:
    """Return the error to raise if rows may have changed in tables without transactions."""
    data = (
        f"Rows of {', '.join(lasting)} may have changed, and could not be rolled back; the receipt "
        f"{receipt.path} holds what was to be done."
    )
    next_step = f"See ⟨receipt check {receipt.id}⟩, then ⟨restore {receipt.id}⟩."
    return _with(error, data, next_step)


def _with(error: BaseException, data: str, next_step: str) -> YeldroError:
    """Return an error of the same kind that says what has happened to the data."""
    if isinstance(error, CountMismatch):
        return CountMismatch(error.why, next_step, data=data)
    if isinstance(error, KeyboardInterrupt):
        return Interrupted("The statement was stopped.", next_step, data=data)
    why = error.why if isinstance(error, YeldroError) else str(error).splitlines()[0]
    return DatabaseFailure(why, next_step, data=data)


def _in_doubt(receipt: ReceiptWriter) -> str:
    return f"It is not known if the commit took effect; the receipt {receipt.path} is kept."


def _outcome_unknown(error: BaseException, receipt: ReceiptWriter) -> YeldroError:
    """Return the error to raise if the outcome of a commit is not known."""
    data = _in_doubt(receipt)
    next_step = f"⟨receipt check {receipt.id}⟩ compares it with the database."
    if isinstance(error, KeyboardInterrupt):
        return Interrupted("You interrupted it during the commit.", next_step, data=data)
    words = next(iter(str(getattr(error, "orig", error)).splitlines()), "no reason given")
    why = f"The connection was lost during the commit: {words}."
    return DatabaseFailure(why, next_step, data=data)
