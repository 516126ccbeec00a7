"""The receipt of a run in batches: it grows with every batch, and the run can be resumed."""

from __future__ import annotations

import sqlite3
from collections.abc import Iterable, Sequence
from contextlib import suppress
from dataclasses import dataclass, replace
from pathlib import Path
from typing import TYPE_CHECKING, Any

from yeldro.core.model.messages.errors import CountMismatch
from yeldro.core.model.messages.machine import sync
from yeldro.core.model.tables.schema import TableName
from yeldro.core.model.work.steps import Action, Step
from yeldro.core.receipts import format as form
from yeldro.core.receipts.writer import ReceiptWriter, check_stored, ledger_rows

if TYPE_CHECKING:
    from yeldro.core.model.work.counts import Ledger, Tally
    from yeldro.core.model.work.given import Given


@dataclass(frozen=True)
class Unfinished:
    """A receipt whose batches were not all committed.

    Args:
        wanted: matched rows of the whole run.
        done, batches: matched rows of the committed batches, and the number of these batches.
        unsure: matched rows of a last batch that may or may not be committed.
    """

    path: Path
    wanted: int
    done: int
    batches: int
    unsure: int


class BatchReceipt(ReceiptWriter):
    """A receipt in which the same step of all batches is one step.

    It is ready, committed or discarded batch by batch; at the end of the run it is finished, closed
    or removed.

    Attributes:
        batch: the number of batches so far.
        in_doubt: it is not known if the last of them is committed.
    """

    batch = 0
    in_doubt = False
    _begun = _on_disk = False

    def begin(self, matched: int, steps: Sequence[tuple[Step, TableName]]) -> None:
        """Note every step that a batch can have, with its table; the batches fill them."""
        with self._failures_told():
            self._file.execute("UPDATE receipt SET matched = ?", (matched,))
            for step, table in steps:
                super().add_step(step, table)
            self._file.execute("UPDATE step SET planned = 0, affected = 0")
            self._file.execute("COMMIT")
            self._file.execute("BEGIN")

    @classmethod
    def resume(cls, found: Unfinished, matched_now: int) -> BatchReceipt:
        """Return an unfinished receipt, to which more batches are added.

        Args:
            matched_now: matched rows that are still there; they tell if an unsure batch was
                committed.
        """
        receipt = cls.__new__(cls)
        receipt.path = found.path
        with receipt._failures_told():
            receipt._file = sqlite3.connect(found.path, isolation_level=None)
            receipt._file.execute("PRAGMA synchronous = FULL")
            receipt._file.execute("BEGIN")
            (receipt.id,) = receipt._file.execute("SELECT id FROM receipt").fetchone()
            unsure = receipt._file.execute("SELECT n FROM batch WHERE NOT committed").fetchall()
            for (n,) in unsure:
                if matched_now + found.done + found.unsure == found.wanted:
                    receipt._file.execute("UPDATE batch SET committed = 1 WHERE n = ?", (n,))
                else:
                    receipt._forget(n)
            last = receipt._file.execute("SELECT coalesce(max(n), 0) FROM batch").fetchone()
            receipt.batch = last[0]
        return receipt

    def _forget(self, batch: int) -> None:
        """Take out the rows of a batch that was not committed, the last ones of every step."""
        steps = self._file.execute(
            "SELECT step, rows, rows_table FROM batch_step JOIN step ON n = step WHERE batch = ?",
            (batch,),
        ).fetchall()
        for step, rows, table in steps:
            self._file.execute(
                "UPDATE step SET planned = planned - ?1, affected = affected - ?1 WHERE n = ?2",
                (rows, step),
            )
            if table:
                self._file.execute(
                    f"DELETE FROM rows_{int(step)} WHERE rowid IN"
                    f" (SELECT rowid FROM rows_{int(step)} ORDER BY rowid DESC LIMIT ?)",
                    (rows,),
                )
        self._file.execute("DELETE FROM batch_step WHERE batch = ?", (batch,))
        self._file.execute("DELETE FROM batch WHERE n = ?", (batch,))

    def add_plan(self, table: str, matched: int, rows: int, asked: Sequence[Given] = ()) -> None:
        """Begin the next batch."""
        del table
        self.batch += 1
        self._begun, self._on_disk = True, False
        with self._failures_told():
            if self.batch == 1:
                self._add_asked(asked)
            self._file.execute("INSERT INTO batch VALUES (?, ?, ?, 0)", (self.batch, matched, rows))

    def add_step(self, step: Step, table: TableName) -> None:
        """Add a batch's step to the same step of the others.

        Raises:
            CountMismatch: the others cannot have it, so the database has changed.
        """
        del table
        with self._failures_told():
            n = self._whole(step)
            self._file.execute(
                "UPDATE step SET planned = planned + ?1, affected = affected + ?1 WHERE n = ?2",
                (step.rows, n),
            )
            self._file.execute(
                "INSERT INTO batch_step VALUES (?, ?, ?)", (self.batch, n, step.rows)
            )

    def add_matched(self, step: Step, parts: Iterable[Sequence[Sequence[Any]]]) -> None:
        """Add keys to those of the same step of earlier batches."""
        super().add_matched(replace(step, n=self._whole(step)), parts)

    def add_rows(
        self,
        step: Step,
        columns: Sequence[tuple[str, str, str]],
        parts: Iterable[Sequence[Sequence[Any]]],
        rows: int,
    ) -> None:
        """Add rows to those that the same step of earlier batches stored."""
        with self._failures_told():
            whole = replace(step, n=self._whole(step))
            there = self._file.execute(
                "SELECT rows_table FROM step WHERE n = ?", (whole.n,)
            ).fetchone()
            if there[0] is None:
                super().add_rows(whole, columns, parts, rows)
                return
            inserted = self._insert(f"rows_{whole.n}", len(columns), parts)
        check_stored(step, inserted, rows)

    def add_equal_rows_left(self, step: Step, rows: int) -> None:
        """No two batches have equal rows, so the numbers add up."""
        n = self._whole(step)
        (left,) = self._file.execute(
            "SELECT equal_rows_left FROM step WHERE n = ?", (n,)
        ).fetchone()
        super().add_equal_rows_left(replace(step, n=n), (left or 0) + rows)

    def add_orphans(self, step: Step, foreign_key: str, rows: int) -> None:
        """Add orphans to those of earlier batches."""
        with self._failures_told():
            self._file.execute(
                "INSERT INTO orphan VALUES (?, ?, ?) ON CONFLICT DO UPDATE"
                " SET rows = rows + excluded.rows",
                (self._whole(step), foreign_key, rows),
            )

    def ready(self, tally: Tally, ledger: Ledger) -> None:
        """Put a batch on disk; only after this may it be committed."""
        del tally  # every step's count equals its plan, or there is no batch
        with self._failures_told():
            self._file.executemany(
                "INSERT INTO ledger VALUES (?, ?, ?, ?) ON CONFLICT DO UPDATE SET"
                " removed = removed + excluded.removed, changed = changed + excluded.changed,"
                " added = added + excluded.added",
                ledger_rows(ledger),
            )
            self._finish(form.READY)
            self._file.execute("COMMIT")
            sync(self.path)
            self._file.execute("BEGIN")
        self._on_disk = True

    def committed(self) -> None:
        """Note that the last batch is committed in the database.

        If that cannot be written, the next run finds it out by the rows that are left.
        """
        self._begun = False
        with self._failures_told():
            self._file.execute("UPDATE batch SET committed = 1 WHERE n = ?", (self.batch,))
            self._file.execute("COMMIT")
            self._file.execute("BEGIN")

    def leave(self) -> None:
        """Leave the last batch as it is, if it is not known whether it was committed."""
        self.in_doubt = True

    def discard(self) -> None:
        """Take out the last batch, which was rolled back.

        If that cannot be written, the next run finds it out by the rows that are left.
        """
        if not self._begun:
            return
        with suppress(sqlite3.Error):
            if self._on_disk:
                self._forget(self.batch)
                self._file.execute("COMMIT")
        if self._file.in_transaction:  # SQLite itself may have rolled it back
            self._file.execute("ROLLBACK")
        self._file.execute("BEGIN")
        self.batch -= 1
        self._begun = False

    def close(self) -> None:
        """Leave the receipt as it is: some batches are committed, and more may come.

        What would be written last adds nothing to what is on disk.
        """
        with suppress(sqlite3.Error):
            self._file.execute("COMMIT")
        self._file.close()

    def remove(self) -> None:
        """Remove the receipt of a run of which no batch was committed."""
        super().discard()

    def finished(self) -> None:
        """Note that all batches are committed, and drop the steps that none of them had."""
        self._file.execute("DELETE FROM step WHERE planned = 0")
        self._finish(form.COMMITTED)
        self._file.execute("COMMIT")
        self._file.close()

    def _whole(self, step: Step) -> int:
        """Return the number of the step that a batch's step belongs to."""
        rows = self._file.execute("SELECT n, action, table_schema, table_name, because FROM step")
        known = {
            same_in_all(Step(n, Action(action), str(TableName(name, schema)), 0, because, ())): n
            for n, action, schema, name, because in rows
        }
        found = known.get(same_in_all(step))
        if found is None:
            raise CountMismatch(
                f"This batch would {step.action} {step.rows:,} rows of {step.table} "
                f"({step.because}), and the plan of the whole has no such step.",
                "Somebody changed the data meanwhile; look at the plan again.",
            )
        return int(found)


def same_in_all(step: Step) -> tuple[str, ...]:
    """Return what a step of one batch has in common with that step of the others.

    The rows of a table are removed, or moved, by one step; detached by one for each foreign key.
    """
    return (step.action, step.table, step.because if step.action is Action.DETACH else "")


def find_unfinished(folder: Path, title: str, database: str) -> list[Unfinished]:
    """Return the receipts of unfinished runs of this title and database, newest first."""
    found = []
    for path in sorted(folder.glob(f"*{form.SUFFIX}"), reverse=True):
        try:
            file = sqlite3.connect(f"{path.resolve().as_uri()}?mode=rw", uri=True)
        except sqlite3.Error:
            continue
        try:
            head = file.execute(
                "SELECT matched FROM receipt WHERE title = ? AND database = ? AND outcome = ?",
                (title, database, form.READY),
            ).fetchone()
            batches = file.execute("SELECT matched, committed FROM batch").fetchall()
        except sqlite3.Error:
            continue
        finally:
            file.close()
        if head and batches:
            done = [matched for matched, committed in batches if committed]
            unsure = sum(matched for matched, committed in batches if not committed)
            found.append(Unfinished(path, head[0], sum(done), len(done), unsure))
    return found
