"""Writing a receipt: every removed or changed row is on disk before the deletion commits."""

from __future__ import annotations

import os
import re
import secrets
import shutil
import sqlite3
from collections.abc import Generator, Iterable, Iterator, Sequence
from contextlib import contextmanager
from dataclasses import dataclass
from datetime import UTC, datetime
from itertools import chain
from pathlib import Path
from typing import TYPE_CHECKING, Any

from yeldro.core.model.messages.errors import ROLLED_BACK, CountMismatch, DatabaseFailure
from yeldro.core.model.messages.machine import sync, user
from yeldro.core.model.work.steps import Action
from yeldro.core.receipts import format as form
from yeldro.core.receipts.format import StoredColumn

if TYPE_CHECKING:
    from yeldro.core.model.tables.schema import TableName
    from yeldro.core.model.work.counts import Ledger, Tally
    from yeldro.core.model.work.given import Given
    from yeldro.core.model.work.steps import Step
    from yeldro.core.receipts.copies import CopyPlace

_ROWS_IN_A_STATEMENT = 100
_CACHED = 8_000  # KiB of pages in memory before they are written
_BYTES_IN_A_CELL = 4  # small numbers take fewer, most values more


@dataclass(frozen=True)
class ReceiptOptions:
    """Where a receipt goes and what it holds.

    Args:
        with_rows: store the removed and changed rows, so that they can be restored.
        copy_to: keep them as tables of the same database instead.
    """

    folder: Path
    with_rows: bool = True
    copy_to: CopyPlace | None = None


class ReceiptWriter:
    """A receipt that is being written; it is removed again if nothing was changed.

    Args:
        folder: where receipts are kept; it is made if it does not exist.
        title: what was asked, in one line.
        system, database: the database system, and its URL without a password.
        table: the first table named.
        restored: the receipt whose rows are put back, so that rows can be taken from it.

    Raises:
        DatabaseFailure: the folder or file cannot be written.
    """

    _touched: frozenset[tuple[TableName, bool]] = frozenset()
    _before: frozenset[tuple[TableName, bool]] = frozenset()

    def __init__(
        self,
        folder: Path,
        title: str,
        system: str,
        database: str,
        table: str,
        restored: Path | None = None,
    ) -> None:
        started = datetime.now(UTC)
        self._restored = restored
        self.copies: list[TableName] = []
        self.id = secrets.token_hex(3)
        label = re.sub(r"[^\w-]+", "_", table)[:40]
        self.path = folder / f"{started:%Y%m%d-%H%M%S}-{label}-{self.id}{form.SUFFIX}"
        with _failures_told(folder):
            folder.mkdir(parents=True, exist_ok=True, mode=0o700)
            os.close(os.open(self.path, os.O_CREAT | os.O_EXCL | os.O_WRONLY, 0o600))
        try:
            self._begin(title, system, database, table, started)
        except BaseException:
            self.path.unlink(missing_ok=True)
            raise

    def _begin(self, title: str, system: str, database: str, table: str, started: datetime) -> None:
        with self._failures_told():
            address = f"{self.path.resolve().as_uri()}?mode=rw"
            self._file = sqlite3.connect(address, uri=True, isolation_level=None)
            self._file.execute("PRAGMA synchronous = FULL")
            if self._restored:
                other = f"{self._restored.resolve().as_uri()}?mode=ro"
                self._file.execute("ATTACH ? AS restored", (other,))
            self._file.execute(f"PRAGMA cache_size = -{_CACHED}")
            self._file.executescript(form.TABLES)  # begins the transaction
            self._file.execute(
                "INSERT INTO receipt VALUES (?, ?, ?, ?, ?, ?, ?, ?, ?, NULL, ?)",
                (form.FORMAT, self.id, title, system, database, table, 0,
                 user(), started.isoformat(timespec="microseconds"), form.OPEN),
            )  # fmt: skip
            self._file.execute("COMMIT")
            sync(self.path.parent)
            self._file.execute("BEGIN")

    def add_plan(self, table: str, matched: int, rows: int, asked: Sequence[Given] = ()) -> None:
        """Note a plan that is about to be carried out.

        Args:
            table: the table that was named.
            matched: rows of it that were chosen.
            rows: all rows that go or change.
            asked: what was asked for.
        """
        del rows
        self._before = self._touched
        with self._failures_told():
            self._add_asked(asked)
            self._file.execute("UPDATE receipt SET matched = matched + ?", (matched,))
            self._file.execute(
                "UPDATE receipt SET named_table = named_table || ', ' || ?1"
                " WHERE ', ' || named_table || ', ' NOT LIKE '%, ' || ?1 || ', %'",
                (table,),
            )

    def _add_asked(self, asked: Sequence[Given]) -> None:
        (last,) = self._file.execute("SELECT coalesce(max(remove), 0) FROM asked").fetchone()
        self._file.executemany(
            "INSERT INTO asked VALUES (?, ?, ?, ?)",
            [(last + each.remove, each.field, each.value, each.name) for each in asked],
        )

    def mixes(self, step: Step, table: TableName) -> bool:
        """True if counts alone would not tell rows of a table from those of earlier plans.

        An earlier plan has changed some; or it has removed some, and this step changes others.
        """
        removes = step.action is Action.REMOVE
        return (table, False) in self._before or (not removes and (table, True) in self._before)

    def add_total(self, rows: int) -> None:
        """Note how many rows a restore puts back or changes back."""
        with self._failures_told():
            self._file.execute("UPDATE receipt SET matched = ?", (rows,))

    def add_step(self, step: Step, table: TableName) -> None:
        """Note a step before it is carried out."""
        self._touched |= {(table, step.action is Action.REMOVE)}
        with self._failures_told():
            self._file.execute(
                "INSERT INTO step VALUES (?, ?, ?, ?, ?, NULL, ?, ?, NULL, NULL)",
                (
                    step.n,
                    step.action,
                    table.schema,
                    table.name,
                    step.rows,
                    step.because,
                    step.auxiliary,
                ),
            )
            self._file.executemany(
                "INSERT INTO row_key VALUES (?, ?, ?)",
                [(step.n, place, name) for place, name in enumerate(step.key)],
            )
            self._file.executemany(
                "INSERT INTO reached VALUES (?, ?, ?, ?, ?, ?, ?)",
                [
                    (step.n, each.because, each.parent.schema, each.parent.name, place, *pair)
                    for each in step.reached
                    for place, pair in enumerate(zip(each.columns, each.referenced, strict=True))
                ],
            )

    def add_matched(self, step: Step, parts: Iterable[Sequence[Sequence[Any]]]) -> None:
        """Store the keys of the matched rows of a step that removes others of its table too."""
        name = form.matched_table(step.n)
        with self._failures_told():
            listed = ", ".join(map(form.quoted, step.key))
            self._file.execute(f"CREATE TABLE IF NOT EXISTS {name} ({listed})")
            insert = f"INSERT INTO {name} VALUES ({', '.join('?' * len(step.key))})"
            for part in parts:  # without the forms, which come last
                self._file.executemany(insert, (row[: len(step.key)] for row in part))

    def add_rows(
        self,
        step: Step,
        columns: Sequence[tuple[str, str, str]],
        parts: Iterable[Sequence[Sequence[Any]]],
        rows: int,
    ) -> None:
        """Store the rows that a step is about to remove or change.

        Args:
            columns: (role, name, type) of each value.
            parts: lists of rows as `Session.stored` gives them: with the forms of values that
                SQLite has no type for as one more value, if there are any.
            rows: how many rows there must be.

        Raises:
            CountMismatch: there are more or fewer.
        """
        with self._failures_told():
            name = self._create_rows(step, columns)
            inserted = self._insert(name, len(columns), parts)
        check_stored(step, inserted, rows)

    def add_rows_of(
        self, step: Step, columns: Sequence[tuple[str, str, str]], rows_table: str, rows: int
    ) -> None:
        """Store the very rows that a table of the restored receipt holds.

        Args:
            columns, rows: as in `add_rows`; the rows table has the same columns.

        Raises:
            CountMismatch: there are more or fewer.
        """
        with self._failures_told():
            name = self._create_rows(step, columns)
            insert = f"INSERT INTO {name} SELECT * FROM restored.{rows_table} ORDER BY rowid"
            inserted = self._file.execute(insert).rowcount
        check_stored(step, inserted, rows)

    def _create_rows(self, step: Step, columns: Sequence[tuple[str, str, str]]) -> str:
        """Make the rows table of a step; return its name."""
        stored, name = stored_columns(columns), f"rows_{step.n}"
        declared = ", ".join(form.quoted(column.stored_as) for column in stored)
        self._file.execute(f"CREATE TABLE {name} ({declared}, {form.FORMS})")
        self._file.execute("UPDATE step SET rows_table = ? WHERE n = ?", (name, step.n))
        self._add_columns(step, stored)
        return name

    def _insert(self, name: str, width: int, parts: Iterable[Sequence[Sequence[Any]]]) -> int:
        """Insert rows into a rows table, many by each statement, which takes less time.

        Args:
            width: the number of stored columns; the forms come after them.

        Returns:
            The number of rows inserted.
        """
        inserted = 0
        try:
            for part in parts:
                self._insert_part(name, width, part)
                inserted += len(part)
        finally:
            if isinstance(parts, Generator):
                parts.close()  # else it goes on reading what is about to be rolled back
        return inserted

    def _insert_part(self, name: str, width: int, part: Sequence[Sequence[Any]]) -> None:
        most = self._file.getlimit(sqlite3.SQLITE_LIMIT_VARIABLE_NUMBER)
        values = len(part[0]) if part else width
        row = f"({', '.join('?' * values)}{'' if values > width else ', NULL'})"
        together = max(1, min(_ROWS_IN_A_STATEMENT, most // values))
        insert = f"INSERT INTO {name} VALUES {', '.join([row] * together)}"
        whole = len(part) - len(part) % together
        for start in range(0, whole, together):
            rows = part[start : start + together]
            self._file.execute(insert, list(chain.from_iterable(rows)))
        self._file.executemany(f"INSERT INTO {name} VALUES {row}", part[whole:])

    def add_copy(self, step: Step, name: TableName, columns: Sequence[StoredColumn]) -> None:
        """Note the table that holds the rows of a step instead of the receipt."""
        with self._failures_told():
            self._add_columns(step, columns)
            self._file.execute(
                "INSERT INTO copy VALUES (?, ?, ?)", (step.n, name.schema, name.name)
            )
            self.copies.append(name)

    def _add_columns(self, step: Step, columns: Sequence[StoredColumn]) -> None:
        self._file.executemany(
            "INSERT INTO stored_column VALUES (?, ?, ?, ?, ?, ?)",
            [(step.n, place, each.role, each.name, each.type, each.stored_as)
             for place, each in enumerate(columns)],
        )  # fmt: skip

    def add_equal_rows_left(self, step: Step, rows: int) -> None:
        """Note how many rows stay that equal, or will equal, those of a step without a key."""
        with self._failures_told():
            self._file.execute("UPDATE step SET equal_rows_left = ? WHERE n = ?", (rows, step.n))

    def add_orphans(self, step: Step, foreign_key: str, rows: int) -> None:
        """Note how many of a step's rows had no parent row even before."""
        with self._failures_told():
            self._file.execute("INSERT INTO orphan VALUES (?, ?, ?)", (step.n, foreign_key, rows))

    def check_space(self, cells: int) -> None:
        """Refuse to begin if the disk clearly cannot hold the rows.

        Args:
            cells: the number of values to be stored.

        Raises:
            DatabaseFailure: there is less space than these values need at least.
        """
        needed, free = cells * _BYTES_IN_A_CELL, shutil.disk_usage(self.path.parent).free
        if needed > free:
            raise DatabaseFailure(
                f"The receipt needs about {needed / 1e6:,.1f} MB in {self.path.parent}, and "
                f"{free / 1e6:,.1f} MB are free.",
                "Free some space or name another folder with ‹receipts› FOLDER.",
                data=ROLLED_BACK,
            )

    def keep(self) -> None:
        """Put the stored rows on disk before the first goes, as they cannot be rolled back."""
        with self._failures_told():
            self._finish(form.READY)
            self._file.execute("COMMIT")
            sync(self.path)
            self._file.execute("BEGIN")

    def ready(self, tally: Tally, ledger: Ledger) -> None:
        """Put everything on disk; only after this may the deletion be committed."""
        with self._failures_told():
            self._file.executemany(
                "UPDATE step SET affected = ? WHERE n = ?",
                [(rows, step.n) for step, rows in zip(tally.steps, tally.affected, strict=True)],
            )
            self._file.executemany(
                "INSERT INTO ledger VALUES (?, ?, ?, ?)",
                ledger_rows(ledger),
            )
            self._finish(form.READY)
            self._file.execute("COMMIT")
            sync(self.path)

    def committed(self) -> None:
        """Note that the deletion is committed."""
        self._finish(form.COMMITTED)
        self._file.close()

    def leave(self) -> None:
        """Close a receipt that is ready, if it is not known whether the run was committed."""
        self._file.close()

    def discard(self) -> None:
        """Remove the receipt of a run that changed nothing."""
        self._file.close()
        for path in (self.path, self.path.with_name(self.path.name + "-journal")):
            path.unlink(missing_ok=True)

    def _finish(self, outcome: str) -> None:
        now = datetime.now(UTC).isoformat(timespec="seconds")
        self._file.execute("UPDATE receipt SET outcome = ?, ended = ?", (outcome, now))

    @contextmanager
    def _failures_told(self) -> Iterator[None]:
        with _failures_told(self.path):
            yield


def check_stored(step: Step, stored: int, rows: int) -> None:
    """Refuse a receipt that would not hold exactly the rows of a step.

    Raises:
        CountMismatch: it would hold more or fewer.
    """
    if stored != rows:
        raise CountMismatch(
            f"The receipt would hold {stored:,} rows of step {step.n} ({step.action} "
            f"{step.table}), and {rows:,} were planned.",
            "Somebody changed the data meanwhile; look at the plan again.",
        )


def ledger_rows(ledger: Ledger) -> list[tuple[str, int, int, int]]:
    """Return what a receipt notes of a ledger; what allowed triggers changed is under `*`."""
    if not ledger.counted:
        return []
    rows = [(name, c.removed, c.changed, c.added) for name, c in ledger.tables.items()]
    besides = sum(map(abs, ledger.unplanned.values()))
    return [*rows, (form.BESIDES, 0, besides, 0)] if besides else rows


def stored_columns(columns: Iterable[tuple[str, str, str]]) -> list[StoredColumn]:
    """Return names for the columns of a rows table, all different even if case is ignored."""
    taken = {form.FORMS}
    stored = []
    for role, name, declared in columns:
        wanted = {"value": name, "computed": name, "row id": form.ROW_ID}.get(
            role, f"{role}_{name}"
        )
        unique, number = wanted, 2
        while unique.casefold() in taken:
            unique, number = f"{wanted}_{number}", number + 1
        taken.add(unique.casefold())
        stored.append(StoredColumn(role, name, declared, unique))
    return stored


@contextmanager
def _failures_told(path: Path) -> Iterator[None]:
    try:
        yield
    except (OSError, sqlite3.Error) as error:
        reason = getattr(error, "strerror", None) or str(error)
        raise DatabaseFailure(
            f"The receipt at {path} could not be written: {reason}.",
            "Free some space or name another folder with ‹receipts› FOLDER.",
            data=ROLLED_BACK,
        ) from error
