"""One session of the stand-in: batches of Transact-SQL, carried out by SQLite.

What is read is refused by the rules of SQL Server (`refusals`); what SQLite then refuses gets the
number that SQL Server has for it.
"""

from __future__ import annotations

import re
import sqlite3
import uuid
from collections.abc import Callable, Iterator, Sequence
from contextlib import closing
from datetime import date, datetime, time
from decimal import Decimal
from pathlib import Path
from typing import Any

from sqlglot import exp

from yeldro.standins.sqlserver import wire
from yeldro.standins.sqlserver.catalogue import Catalogue
from yeldro.standins.sqlserver.defining import Definitions
from yeldro.standins.sqlserver.functions import add_functions
from yeldro.standins.sqlserver.reader import (
    Check,
    NewTrigger,
    OfDatabase,
    ReadError,
    Save,
    Setting,
    Statement,
    read,
)
from yeldro.standins.sqlserver.translating import written

VERSION = "Microsoft SQL Server stand-in of Yeldro - 16.0.1000.6"
_NO_TRANSACTION = "The {} TRANSACTION request has no corresponding BEGIN TRANSACTION."
# The messages of SQLite, each with the number and text that SQL Server has for it.
_NUMBERS = (
    (r"no such table: (?:\w+\.)?(.+)", 208, "Invalid object name '{}'."),
    (r"no such column: (.+)", 207, "Invalid column name '{}'."),
    (r"table \"?(.+?)\"? already exists", 2714, "There is already an object named '{}'."),
    (r"UNIQUE constraint failed: (.+)", 2627, "Violation of UNIQUE KEY constraint ({})."),
    (r"NOT NULL constraint failed: (.+)", 515, "Cannot insert the value NULL into column '{}'."),
    (r"(FOREIGN KEY) constraint failed", 547, "The statement conflicted with a {} constraint."),
    (r"(CHECK) constraint failed", 547, "The statement conflicted with a {} constraint."),
    (r"database (?:table )?is (locked)", 1222, "Lock request time out period exceeded ({})."),
    (r"(user-defined function) raised exception", 245, "Conversion failed in a {}."),
    (
        r"(too many) terms in compound SELECT",
        8623,
        "The query processor ran out of resources ({}).",
    ),
)
_CONVERTERS: dict[str, Callable[[bytes], Any]] = {
    "bit": lambda value: value != b"0",
    "date": lambda value: date.fromisoformat(value.decode()),
    "time": lambda value: time.fromisoformat(value.decode()),
    "datetime": lambda value: datetime.fromisoformat(value.decode()),
    "datetime2": lambda value: datetime.fromisoformat(value.decode()),
    "datetimeoffset": lambda value: datetime.fromisoformat(value.decode()),
    "decimal": lambda value: Decimal(value.decode()),
    "uniqueidentifier": lambda value: uuid.UUID(value.decode()),
}
for _name, _converter in _CONVERTERS.items():
    sqlite3.register_converter(_name, _converter)

_WAITS = 10.0  # seconds for another session; the server itself waits for ever
_DEEPEST = 32  # triggers that fire one another
_SCHEMAS = ("", "dbo", "sys", "information_schema", "tempdb")
_Done = tuple[bytes, int | None]  # what a statement answers, and the rows that it counts


class Thrown(ReadError):
    """A batch has raised an error itself."""


class Session:
    """The state of one connection.

    Args:
        folder: where each database is an SQLite file.
        database: the name of the one that is used.
        drawn: the last value of each identity column, which all sessions share; like a real
            server's, it is not taken back with a transaction.
    """

    def __init__(self, folder: Path, database: str, drawn: dict[str, int] | None = None) -> None:
        self.database = database
        self._folder = folder
        self._file = sqlite3.connect(
            path_of(folder, database),
            isolation_level=None,
            detect_types=sqlite3.PARSE_DECLTYPES,
            timeout=_WAITS,
        )
        self._file.execute("PRAGMA foreign_keys = ON")
        self._depth = self._number = self._rows = 0
        self._level = self._started_at = "READ COMMITTED"
        self._is_open = self._aborts = False
        self._nested = 0
        shared = {} if drawn is None else drawn
        self._definitions = Definitions(self._file, database, shared, self._written)
        self._catalogue = Catalogue(self._file, self._definitions.declared, database)
        add_functions(self._file)
        self._file.create_function("schema_id", 0, lambda: 1)
        self._file.create_function("schema_name", 1, lambda number: "dbo" if number == 1 else None)
        self._file.create_function("rowcount_big", 0, lambda: self._rows)
        self._file.create_function("db_name", 0, lambda: self.database)
        self._file.create_function("object_id", 1, self._object_id)
        self._file.create_function("xact_state", 0, lambda: int(self._depth > 0))

    def close(self) -> None:
        """Forget the connection; what it did not commit is gone."""
        self._file.close()

    def batch(self, text: str) -> bytes:
        """Carry out a batch; return the answer to it.

        A statement that fails ends the batch; what went before it stays, unless XACT_ABORT is on.
        """
        done: list[_Done] = []
        failure = b""
        try:
            for statement in read(text):
                done.extend(self._carried_out(statement))
        except ReadError as error:
            failure = wire.said(error.number, error.text, 15)
            if isinstance(error, Thrown) and self._aborts and self._depth:
                failure += self._end("ROLLBACK", wire.Change.ROLLBACK)[0]
        except sqlite3.Error as error:
            own, self._definitions.refused = self._definitions.refused, None
            failure = wire.said(*((own.number, own.text) if own else _number(error)), 16)
            if self._aborts and self._depth:
                failure += self._end("ROLLBACK", wire.Change.ROLLBACK)[0]
        if failure or not done:
            done.append((failure, None))
        status = [wire.MORE] * (len(done) - 1) + [wire.ERROR if failure else 0]
        return b"".join(
            tokens + wire.done(rows, each)
            for (tokens, rows), each in zip(done, status, strict=True)
        )

    def _carried_out(  # noqa: PLR0912  # one branch for each kind of statement
        self, statement: Statement
    ) -> Iterator[_Done]:
        """Carry out one statement; yield what it, or each statement in it, did."""
        match statement:
            case Save():
                yield self._save(statement.name)
            case Setting():
                self._set(statement.name, statement.value)
                yield b"", None
            case Check():
                self._touch(statement.condition)
                ((holds,),) = self._file.execute(self._written(statement.condition)).fetchall()
                if holds:
                    raise Thrown(statement.number, statement.text)
                yield b"", None
            case NewTrigger():
                self._definitions.define_trigger(statement)
                self._catalogue.forget()
                yield b"", None
            case OfDatabase():
                self._make_or_drop(statement)
                yield b"", None
            case exp.Transaction():
                yield self._begin()
            case exp.Commit():
                yield self._end("COMMIT", wire.Change.COMMIT)
            case exp.Rollback() if statement.this:
                self._file.execute(f"ROLLBACK TO {_quoted(statement.this.name)}")
                self._catalogue.forget()
                yield b"", None
            case exp.Rollback():
                yield self._end("ROLLBACK", wire.Change.ROLLBACK)
            case exp.Use():
                yield self._use(statement.this.name)
            case exp.IfBlock():
                for each in self._branch(statement):
                    yield from self._carried_out(each)
            case exp.Create() | exp.Drop() | exp.Alter() | exp.TruncateTable():
                self._touch(statement)
                self._definitions.define(statement)
                self._rows = 0
                yield b"", None
            case exp.Query() | exp.DML():
                self._touch(statement)
                self._definitions.check_columns(statement)
                yield self._executed(statement)
            case _:
                first = statement.sql("tsql").split()[0]
                raise ReadError(102, f"Incorrect syntax near '{first}'.")

    def _set(self, name: str, value: str) -> None:
        """Take a setting; most change nothing here."""
        is_on = value.rpartition(" ")[2].casefold() == "on"
        if name == "LOCK_TIMEOUT":
            self._file.execute(f"PRAGMA busy_timeout = {int(value)}")
        elif name == "XACT_ABORT":
            self._aborts = is_on
        elif name == "IDENTITY_INSERT":
            self._definitions.identity_insert = _bare(value.rpartition(" ")[0]) if is_on else ""
        elif name == "TRANSACTION ISOLATION LEVEL":
            self._level = " ".join(value.upper().split())

    def _make_or_drop(self, statement: OfDatabase) -> None:
        """Make a database, as a copy of another one if that is asked for, or drop one."""
        if self._depth:
            raise ReadError(226, f"{statement.word} DATABASE is not allowed in a transaction.")
        path = path_of(self._folder, statement.name)
        if statement.word == "DROP":
            for each in self._folder.glob(f"{path.name}*"):
                each.unlink()
            return
        if path.exists():
            raise ReadError(1801, f"Database '{statement.name}' already exists.")
        with closing(sqlite3.connect(path)) as made:
            if statement.source:
                with closing(sqlite3.connect(path_of(self._folder, statement.source))) as source:
                    source.backup(made)
            made.execute("PRAGMA journal_mode = WAL")  # who reads stops nobody who writes

    def _begin(self) -> _Done:
        """Begin a transaction; SQLite begins its own when the first table is touched."""
        self._depth += 1
        if self._depth > 1:
            return b"", None
        self._started_at, self._is_open = self._level, False
        self._number += 1
        return wire.transaction_changed(wire.Change.BEGIN, self._number), None

    def _touch(self, statement: exp.Expr) -> None:
        """Begin SQLite's transaction, and fill the catalogue's views, if a statement needs it.

        Raises:
            ReadError: the transaction has not begun at the level of snapshots that it has now.
        """
        tables = list(statement.find_all(exp.Table))
        for each in tables:
            if each.db.casefold() not in _SCHEMAS:
                raise ReadError(208, f"Invalid object name '{each.db}.{each.name}'.")
        if self._depth and not self._is_open and tables:
            if self._level == "SNAPSHOT" != self._started_at:
                raise ReadError(
                    3951,
                    f"Transaction failed in database '{self.database}' because the statement was "
                    "run under snapshot isolation but the transaction did not start in snapshot "
                    "isolation.",
                )
            alone = self._level in ("SERIALIZABLE", "REPEATABLE READ")
            self._file.execute("BEGIN IMMEDIATE" if alone else "BEGIN")
            self._is_open = True
        if any(each.db.casefold() == "sys" for each in tables):
            self._catalogue.refresh()

    def _end(self, word: str, what: wire.Change) -> _Done:
        if not self._depth:
            number = 3902 if word == "COMMIT" else 3903
            raise ReadError(number, _NO_TRANSACTION.format(word))
        if word == "COMMIT" and self._depth > 1:
            self._depth -= 1
            return b"", None
        if self._is_open and self._file.in_transaction:
            self._file.execute(word)
        self._depth, self._is_open = 0, False
        self._catalogue.forget()
        return wire.transaction_changed(what, self._number), None

    def _save(self, name: str) -> _Done:
        if not self._depth:
            text = "Cannot issue SAVE TRANSACTION when there is no active transaction."
            raise ReadError(628, text)
        if not self._is_open:
            self._file.execute("BEGIN IMMEDIATE")
            self._is_open = True
        self._file.execute(f"SAVEPOINT {_quoted(name)}")
        return b"", None

    def _use(self, name: str) -> _Done:
        if name.casefold() != self.database.casefold():
            raise ReadError(911, f"Database '{name}' does not exist.")
        return wire.database_changed(self.database, self.database), None

    def _branch(self, statement: exp.IfBlock) -> Sequence[exp.Expr]:
        """Return the statements of the branch whose condition holds."""
        condition = exp.select(exp.Case().when(statement.this, "1").else_("0"))
        ((holds,),) = self._file.execute(self._written(condition)).fetchall()
        branch = statement.args.get("true" if holds else "false")
        if isinstance(branch, exp.Block):
            return branch.expressions
        return [branch] if branch else []

    def _executed(self, statement: exp.Expr) -> _Done:
        cursor = self._file.execute(self._written(statement))
        if cursor.description is None:
            counts = isinstance(statement, exp.DML)
            changed = max(cursor.rowcount, 0) if counts else 0
            told = self._fire(statement) if counts else b""
            self._rows = changed
            return told, changed if counts else None
        rows = cursor.fetchall()
        self._rows = len(rows)
        return wire.result([each[0] for each in cursor.description], rows), self._rows

    def _fire(self, statement: exp.Expr) -> bytes:
        """Carry out the triggers of the table that a statement has changed; return what they tell.

        Raises:
            ReadError: triggers have fired one another too often.
        """
        place = statement.find(exp.Table)
        event = type(statement).__name__.lower()
        if place is None or place.this.args.get("temporary"):
            return b""
        told, depth = b"", self._depth
        for trigger in self._definitions.fired_by(place.name, event):
            if self._nested >= _DEEPEST:
                raise ReadError(217, "Maximum trigger nesting level exceeded (limit 32).")
            self._nested += 1
            try:
                for each in read(trigger.body):
                    for tokens, rows in self._carried_out(each):
                        told += tokens + wire.done(rows, wire.MORE, within=True)
                if depth and not self._depth:
                    raise ReadError(
                        3609, "The transaction ended in the trigger. The batch has been aborted."
                    )
            finally:
                self._nested -= 1
        return told

    def _object_id(self, name: str) -> int | None:
        query = "SELECT object_id FROM sys.objects WHERE name = ?"
        found = self._file.execute(query, (_bare(name),)).fetchone()
        return int(found[0]) if found else None

    def _written(self, statement: exp.Expr) -> str:
        return written(statement, self._of_session)

    def _of_session(self, name: str) -> exp.Expr:
        """Return what a name with two at signs stands for."""
        known: dict[str, Any] = {
            "version": VERSION,
            "trancount": self._depth,
            "rowcount": self._rows,
            "spid": 51,
        }
        if name not in known:
            raise ReadError(137, f"Must declare the scalar variable '@@{name}'.")
        return exp.convert(known[name])


def path_of(folder: Path, database: str) -> Path:
    """Return the file of a database."""
    return folder / f"{database.casefold()}.db"


def _number(error: sqlite3.Error) -> tuple[int, str]:
    """Return the number and text that SQL Server has for an error of SQLite's."""
    for pattern, number, text in _NUMBERS:
        found = re.match(pattern, str(error))
        if found:
            return number, text.format(found[1])
    return 50000, str(error)


def _bare(name: str) -> str:
    """Return the last part of a name, without its brackets."""
    return name.rpartition(".")[2].strip("[]").replace("]]", "]")


def _quoted(name: str) -> str:
    return '"' + name.replace('"', '""') + '"'
