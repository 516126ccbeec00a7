"""Reading receipts: what was asked and done, and the stored rows."""

from __future__ import annotations

import json
import os
import re
import sqlite3
from collections.abc import Callable, Generator, Iterator
from contextlib import contextmanager
from dataclasses import dataclass
from datetime import datetime
from pathlib import Path
from typing import Any, TypeVar

from yeldro.core.database.parts import PartSize
from yeldro.core.model.messages.errors import (
    UNCHANGED,
    DatabaseFailure,
    Fault,
    Refused,
    UnknownName,
    UsageError,
)
from yeldro.core.model.tables.schema import TableName
from yeldro.core.model.work.counts import Changes
from yeldro.core.model.work.given import Given
from yeldro.core.model.work.steps import Action, Reached
from yeldro.core.receipts import format as form
from yeldro.core.receipts.format import StoredColumn


@dataclass(frozen=True)
class ReceiptStep:
    """One step as recorded in a receipt.

    Args:
        auxiliary: the rows were changed only so that a later step could remove them.
        equal_rows_left: rows that stayed and equal those that went, or the changed ones as they
            are now; None if the table has a key, or its system a row id to put rows back under.
        affected: None if the run ended before it was known.
        columns: what is stored of each row; empty if rows are not stored.
        copy: the table of the same database that holds the rows instead of the receipt.
        orphans: rows that had no parent row even before, by foreign key.
        row_key: the columns that tell rows of the table apart; empty if nothing does.
        reached: the foreign keys that led to its rows.
        matched_table: the table with the keys of its rows that were matched; None if all were, or
            none.
    """

    n: int
    action: Action
    table: TableName
    planned: int
    affected: int | None
    because: str
    auxiliary: bool
    equal_rows_left: int | None
    rows_table: str | None
    columns: tuple[StoredColumn, ...]
    orphans: dict[str, int]
    copy: TableName | None = None
    row_key: tuple[str, ...] = ()
    reached: tuple[Reached, ...] = ()
    matched_table: str | None = None

    @property
    def is_kept(self) -> bool:
        """True if its rows are in the receipt, or in a table of the database."""
        return self.rows_table is not None or self.copy is not None


@dataclass(frozen=True)
class Receipt:
    """One run as recorded in its receipt; times are UTC in ISO 8601."""

    path: Path
    id: str
    title: str
    system: str
    database: str
    named_table: str
    matched: int
    user: str
    started: str
    ended: str | None
    outcome: str
    steps: tuple[ReceiptStep, ...]
    ledger: dict[str, Changes]
    asked: tuple[Given, ...] = ()

    @property
    def total(self) -> int:
        """Rows that were to be removed or changed."""
        return sum(step.planned for step in self.steps if not step.auxiliary)

    @property
    def is_of_restore(self) -> bool:
        """True if a restore wrote it: its rows were put back, or linked again."""
        actions = {step.action for step in self.steps}
        return bool(actions) and actions <= {Action.ADD, Action.RELINK}

    @property
    def holds_rows(self) -> bool:
        return any(step.rows_table for step in self.steps)

    @property
    def is_forgotten(self) -> bool:
        """True if rows were stored and have been erased since."""
        return not self.holds_rows and any(step.columns and not step.copy for step in self.steps)

    @property
    def copies(self) -> list[TableName]:
        """The tables of the database that hold the rows instead of the receipt."""
        return [step.copy for step in self.steps if step.copy]


def read_receipt(path: Path) -> Receipt:
    """Read what a receipt says, without its rows.

    Raises:
        UsageError: the file is not a receipt, or has a format that this version does not know.
    """
    with opened(path) as file:
        head = file.execute("SELECT * FROM receipt").fetchone()
        if _number(head["format"]) != form.FORMAT:
            raise UsageError(
                f"The receipt {path} has format {head['format']}, and this version reads "
                f"{form.FORMAT}.",
                "Use the version of Yeldro that wrote it, or a newer one.",
            )
        copies = dict(_copies(file))
        row_keys, reached = _row_keys(file), _reached(file)
        listed = file.execute("SELECT name FROM sqlite_master WHERE name LIKE 'matched_%'")
        matched = {name for (name,) in listed.fetchall()}
        steps = []
        for row in file.execute("SELECT * FROM step ORDER BY n").fetchall():
            columns = file.execute(
                "SELECT role, name, type, stored_as FROM stored_column WHERE step = ?"
                " ORDER BY position",
                (row["n"],),
            ).fetchall()  # a statement that is not finished would keep the file locked
            orphans = file.execute(
                "SELECT foreign_key, rows FROM orphan WHERE step = ?", (row["n"],)
            )
            steps.append(
                ReceiptStep(
                    n=_number(row["n"]),
                    action=Action(row["action"]),
                    table=_table(row["table_name"], row["table_schema"]),
                    planned=_number(row["planned"]),
                    affected=_or_none(_number, row["affected"]),
                    because=_text(row["because"]),
                    auxiliary=bool(_number(row["in_passing"])),
                    equal_rows_left=_or_none(_number, row["equal_rows_left"]),
                    rows_table=f"rows_{_number(row['n'])}" if row["rows_table"] else None,
                    columns=tuple(StoredColumn(*map(_text, column)) for column in columns),
                    orphans={_text(key): _number(rows) for key, rows in orphans.fetchall()},
                    copy=copies.get(row["n"]),
                    row_key=row_keys.get(row["n"], ()),
                    reached=reached.get(row["n"], ()),
                    matched_table=name
                    if (name := form.matched_table(_number(row["n"]))) in matched
                    else None,
                )
            )
        ledger = file.execute("SELECT * FROM ledger").fetchall()
        return Receipt(
            path=path,
            id=_short(head["id"]),
            title=_text(head["title"]),
            system=_text(head["system"]),
            database=_text(head["database"]),
            named_table=_text(head["named_table"]),
            matched=_number(head["matched"]),
            user=_text(head["user"]),
            started=_moment(head["started"]),
            ended=_or_none(_moment, head["ended"]),
            outcome=_one_of(form.OPEN, form.READY, form.COMMITTED)(head["outcome"]),
            steps=tuple(steps),
            ledger={_text(name): Changes(*map(_number, rows)) for name, *rows in ledger},
            asked=tuple(_asked(file)),
        )


def _table_of(file: sqlite3.Connection, name: str, order: str = "rowid") -> list[Any]:
    """Return the rows of a table of the format; older receipts do not have all of them."""
    if not file.execute("SELECT 1 FROM sqlite_master WHERE name = ?", (name,)).fetchone():
        return []
    return file.execute(f"SELECT * FROM {name} ORDER BY {order}").fetchall()


def _row_keys(file: sqlite3.Connection) -> dict[int, tuple[str, ...]]:
    found: dict[int, tuple[str, ...]] = {}
    for step, _, name in _table_of(file, "row_key", "step, position"):
        found[_number(step)] = (*found.get(step, ()), _text(name))
    return found


def _reached(file: sqlite3.Connection) -> dict[int, tuple[Reached, ...]]:
    pairs: dict[tuple[int, str, TableName], list[tuple[str, str]]] = {}
    for step, because, schema, parent, _, ours, theirs in _table_of(file, "reached"):
        key = (_number(step), _text(because), _table(parent, schema))
        pairs.setdefault(key, []).append((_text(ours), _text(theirs)))
    found: dict[int, tuple[Reached, ...]] = {}
    for (step, because, name), columns in pairs.items():
        ours, theirs = zip(*columns, strict=True)
        found[step] = (*found.get(step, ()), Reached(because, name, ours, theirs))
    return found


def _asked(file: sqlite3.Connection) -> Iterator[Given]:
    """Yield what was asked for."""
    for remove, field, value, name in _table_of(file, "asked"):
        yield Given(_number(remove), _text(field), _or_none(_text, value), _text(name))


Value = TypeVar("Value")


def _number(value: Any) -> int:
    """Return a whole number of rows, or of a step.

    Raises:
        ValueError: it is something else, as a file from anywhere can hold.
    """
    if type(value) is not int or value < 0:
        raise ValueError(f"{_shown(value)} is no number of rows")
    return value


def _text(value: Any) -> str:
    if not isinstance(value, str):
        raise ValueError(f"{_shown(value)} is no text")
    return value


def _short(value: Any) -> str:
    """Return an id, which people type."""
    if not re.fullmatch(r"[0-9A-Za-z_-]{1,40}", _text(value)):
        raise ValueError(f"{_shown(value)} is no id")
    return str(value)


def _moment(value: Any) -> str:
    datetime.fromisoformat(_text(value))
    return str(value)


def _one_of(*known: str) -> Callable[[Any], str]:
    def checked(value: Any) -> str:
        if value not in known:
            raise ValueError(f"{_shown(value)} is none of {', '.join(known)}")
        return str(value)

    return checked


def _or_none(checked: Callable[[Any], Value], value: Any) -> Value | None:
    return None if value is None else checked(value)


def _table(name: Any, schema: Any) -> TableName:
    return TableName(_text(name), _or_none(_text, schema))


def _shown(value: Any) -> str:
    return repr(value)[:60]


def _copies(file: sqlite3.Connection) -> Iterator[tuple[int, TableName]]:
    """Yield the tables with copies, by step."""
    for step, schema, name in _table_of(file, "copy"):
        yield _number(step), _table(name, schema)


def stored_rows(
    path: Path, step: ReceiptStep, where: str | None = None
) -> Generator[list[tuple[Any, str | None]], None, None]:
    """Yield the rows that a step removed or changed, each value with its form, None if native.

    Args:
        where: only rows for which this checked condition, in SQLite's SQL, is true.
    """
    with opened(path) as file:
        for *values, forms in file.execute(_query(step, where)):
            known = {int(place): kind for place, kind in json.loads(forms or "{}").items()}
            yield [(value, known.get(place)) for place, value in enumerate(values)]


def native_rows(
    path: Path, step: ReceiptStep, where: str | None, most: int
) -> Generator[list[tuple[Any, ...]], None, None]:
    """Yield the rows of a step whose values all have types of SQLite, `most` at a time or fewer."""
    with opened(path) as file:
        file.row_factory = None
        found = file.execute(native_query(step, where))
        part = PartSize(most)
        while rows := found.fetchmany(part.rows):
            yield rows
            part.note(rows)


def native_query(step: ReceiptStep, where: str | None, schema: str = "main") -> str:
    """Return the query for the rows whose values all have types of SQLite.

    Args:
        schema: the name under which a connection has opened the receipt.
    """
    return _query(step, where, f"{form.FORMS} IS NULL", with_forms=False, schema=schema)


def formed_rows(
    path: Path, step: ReceiptStep, where: str | None
) -> Generator[list[tuple[Any, str | None]], None, None]:
    """Yield the other rows of a step, as `stored_rows` does."""
    formed = f"{form.FORMS} IS NOT NULL"
    return stored_rows(path, step, f"({where}) AND {formed}" if where else formed)


def _query(
    step: ReceiptStep,
    where: str | None,
    condition: str = "",
    *,
    with_forms: bool = True,
    schema: str = "main",
) -> str:
    if step.rows_table is None:
        raise Fault(f"the receipt holds no rows of step {step.n}")
    conditions = [f"({each})" for each in (where, condition) if each]
    chosen = f" WHERE {' AND '.join(conditions)}" if conditions else ""
    listed = [form.quoted(column.stored_as) for column in step.columns]
    listed += [form.FORMS] if with_forms else []
    rows = f"{schema}.{step.rows_table}"
    return f"SELECT {', '.join(listed)} FROM {rows}{chosen} ORDER BY rowid"


def receipts_in(folder: Path) -> list[Receipt]:
    """Return the receipts in a folder, newest first; other files are ignored."""
    found = []
    for path in sorted(folder.glob(f"*{form.SUFFIX}"), reverse=True):
        try:
            found.append(read_receipt(path))
        except (UsageError, DatabaseFailure):
            continue
    return sorted(found, key=lambda receipt: (receipt.started, receipt.path.name), reverse=True)


def forget_rows(receipt: Receipt) -> int:
    """Drop the stored rows of a receipt for good, and keep its counts.

    Returns:
        The number of rows that were stored.

    Raises:
        Refused: it is not known yet if the run was committed.
        DatabaseFailure: the file cannot be written.
    """
    if receipt.outcome != form.COMMITTED:
        raise Refused(
            f"The receipt {receipt.id} is {receipt.outcome}: its rows may be all that is left.",
            "See ⟨receipt check⟩ first.",
        )
    try:
        file = sqlite3.connect(f"{receipt.path.resolve().as_uri()}?mode=rw", uri=True)
        try:
            file.execute("PRAGMA secure_delete = ON")
            rows = 0
            for step in receipt.steps:
                if step.rows_table:
                    rows += file.execute(f"SELECT count(*) FROM {step.rows_table}").fetchone()[0]
                    file.execute(f"DROP TABLE {step.rows_table}")
                if step.matched_table:
                    file.execute(f"DROP TABLE {step.matched_table}")
            file.execute("UPDATE step SET rows_table = NULL")
            file.commit()
            file.execute("VACUUM")
        finally:
            file.close()
    except sqlite3.Error as error:
        raise DatabaseFailure(
            f"The receipt {receipt.path} cannot be changed ({error}).", "Check its permissions."
        ) from error
    return rows


def find_receipt(folder: Path, typed: str, database: str | None = None) -> Receipt:
    """Return the receipt that `typed` means: a path, a short id, a file name, or `last`.

    `last` is the newest receipt of a run; the receipt of a restore is named by its id.

    Args:
        database: the URL of the database whose last receipt is meant; None for any.

    Raises:
        UsageError: no receipt, or more than one, has this id.
    """
    if Path(typed).is_file():
        return read_receipt(Path(typed))
    known = receipts_in(folder)
    runs = [receipt for receipt in known if not receipt.is_of_restore]
    of_it = [receipt for receipt in runs if database in (None, receipt.database)]
    if typed == "last" and of_it:
        return of_it[0]
    if typed == "last" and runs:
        raise UsageError(
            f"There is no receipt of a run on {database} in {folder}; the last one there is of "
            f"{runs[0].database}.",
            f"See ⟨receipt list⟩; that one is called {runs[0].id}.",
        )
    found = [receipt for receipt in known if typed in (receipt.id, receipt.path.name)]
    found = found or [receipt for receipt in known if typed and receipt.id.startswith(typed)]
    if len(found) == 1:
        return found[0]
    names = [receipt.id for receipt in known]
    raise UnknownName(
        f"{'Several receipts begin' if found else 'There is no receipt'} "
        f"{'with' if found else 'called'} {typed!r} in {folder}.",
        typed,
        names,
        "See ⟨receipt list⟩, or name another folder with ‹receipts› FOLDER.",
    )


@contextmanager
def opened(path: Path) -> Iterator[sqlite3.Connection]:
    """Open a receipt file to be read.

    The file is opened for writing if that is allowed, so that SQLite can roll back what a killed
    run left half-written.
    """
    mode = "rw" if os.access(path, os.W_OK) else "ro"
    try:
        file = sqlite3.connect(f"{path.resolve().as_uri()}?mode={mode}", uri=True)
        file.execute("PRAGMA query_only = ON")
        file.row_factory = sqlite3.Row
        try:
            _check_objects(file)
            yield file
        finally:
            file.close()
    except (sqlite3.Error, TypeError, KeyError, ValueError, IndexError, AttributeError) as error:
        raise UsageError(
            f"The file {path} is not a receipt that can be read ({error}).",
            "See ⟨receipt list⟩.",
            data=UNCHANGED,
        ) from error


def _check_objects(file: sqlite3.Connection) -> None:
    """Refuse a file in which a name of the format is not a plain table: a view may never end.

    Raises:
        ValueError: there is something else.
    """
    other = file.execute(
        "SELECT type, name FROM sqlite_master WHERE type NOT IN ('table', 'index')"
        " OR sql LIKE 'CREATE VIRTUAL%' LIMIT 1"
    ).fetchone()
    if other:
        raise ValueError(f"it has a {other[0]} {_shown(other[1])}")
