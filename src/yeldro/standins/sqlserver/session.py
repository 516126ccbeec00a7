"""One session of the stand-in: batches of Transact-SQL, carried out by SQLite.

What is read is refused by the rules of SQL Server (`refusals`); what SQLite then refuses gets the
number that SQL Server has for it.
"""

from __future__ import annotations

import re
import sqlite3
import uuid
from collections.abc import Callable, Iterator, Sequence
from datetime import date, datetime, time
from decimal import Decimal
from typing import Any

from sqlglot import exp

from yeldro.standins.sqlserver import wire
from yeldro.standins.sqlserver.catalogue import DATABASE, SESSION, Catalogue
from yeldro.standins.sqlserver.databases import Databases
from yeldro.standins.sqlserver.declared import quoted
from yeldro.standins.sqlserver.defining import Definitions
from yeldro.standins.sqlserver.firing import Firing
from yeldro.standins.sqlserver.functions import add_functions
from yeldro.standins.sqlserver.reader import (
    Check,
    ManyRows,
    NewTrigger,
    OfDatabase,
    Save,
    Setting,
    Statement,
    read,
    unquoted,
)
from yeldro.standins.sqlserver.refusals import ReadError
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
    "numeric": lambda value: Decimal(value.decode()),
    "uniqueidentifier": lambda value: uuid.UUID(value.decode()),
}
for _name, _converter in _CONVERTERS.items():
    sqlite3.register_converter(_name, _converter)

_ASKED_AFTER = 100_000  # steps of SQLite's
_DEEPEST = 32  # triggers that fire one another
_SCHEMAS = ("", "dbo", "sys", "information_schema", "tempdb")
_Rows = Sequence[Sequence[Any]]
_Done = tuple[bytes, int | None]  # what a statement answers, and the rows that it counts


class Thrown(ReadError):
    """A batch has raised an error itself."""


class Session:
    """The state of one connection.

    Args:
        databases: those of the server.
        database: the name of the one that is used.
    """

    def __init__(self, databases: Databases, database: str) -> None:
        self.database = database
        self._databases = databases
        self._file = databases.opened(database)
        self._file.execute("PRAGMA foreign_keys = ON")
        self._depth = self._number = self._rows = 0
        self._level = self._started_at = "READ COMMITTED"
        self._is_open = self._aborts = self._is_doomed = False
        self._firing: list[Firing] = []
        self._locked: set[str] = set()  # tables that this transaction writes into
        drawn = databases.drawn(database)
        self._definitions = Definitions(self._file, drawn, self._written)
        self._catalogue = Catalogue(self._file, self._definitions.declared, database)
        add_functions(self._file)
        self._file.create_function("schema_id", 0, lambda: 1)
        self._file.create_function("schema_name", 1, lambda number: "dbo" if number == 1 else None)
        self._file.create_function("rowcount_big", 0, lambda: self._rows)
        self._file.create_function("db_id", 0, lambda: DATABASE)
        self._file.create_function("db_name", 0, lambda: self.database)
        self._file.create_function("object_id", 1, self._object_id)
        self._file.create_function("xact_state", 0, lambda: int(self._depth > 0))

    def close(self) -> None:
        """Forget the connection; what it did not commit is gone."""
        self._file.close()
        self._databases.closed(self.database)

    def stop_when(self, wanted: Callable[[], bool]) -> None:
        """Stop a statement as soon as that is wanted; it is asked now and then."""
        self._file.set_progress_handler(wanted, _ASKED_AFTER)

    def batch(self, text: str) -> bytes:
        """Carry out a batch; return the answer to it, nothing if it was stopped.

        A statement that fails ends the batch; what went before it stays, unless XACT_ABORT is on,
        as it always is within a trigger.
        """
        done: list[_Done] = []
        failure, aborts, stopped = b"", True, False
        try:
            for statement in read(text):
                done.extend(self._carried_out(statement))
        except ReadError as error:
            failure, aborts = wire.said(error.number, error.text, 15), isinstance(error, Thrown)
        except sqlite3.Error as error:
            stopped = error.sqlite_errorcode == sqlite3.SQLITE_INTERRUPT
            own, self._definitions.refused = self._definitions.refused, None
            failure = wire.said(*((own.number, own.text) if own else _number(error)), 16)
        if failure and self._depth and (self._is_doomed or (aborts and self._aborts)):
            failure += self._end("ROLLBACK", wire.Change.ROLLBACK)[0]
        self._is_doomed = False
        if stopped:
            return b""
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
                self._file.execute(f"ROLLBACK TO {quoted(statement.this.name)}")
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
            case ManyRows():
                self._touch(statement.insert)
                self._definitions.check_columns(statement.insert)
                yield self._executed(statement.insert, statement.rows)
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
            self._definitions.identity_insert = unquoted(value.rpartition(" ")[0]) if is_on else ""
        elif name == "TRANSACTION ISOLATION LEVEL":
            self._level = " ".join(value.upper().split())

    def _make_or_drop(self, statement: OfDatabase) -> None:
        """Make a database, as a copy of another one if that is asked for, or drop one."""
        if self._depth:
            raise ReadError(226, f"{statement.word} DATABASE is not allowed in a transaction.")
        if statement.word == "DROP":
            self._databases.drop(statement.name)
        else:
            self._databases.make(statement.name, statement.source)

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
            self._catalogue.refresh(self._locked)

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
        self._locked.clear()
        self._catalogue.forget()
        return wire.transaction_changed(what, self._number), None

    def _save(self, name: str) -> _Done:
        if not self._depth:
            text = "Cannot issue SAVE TRANSACTION when there is no active transaction."
            raise ReadError(628, text)
        if not self._is_open:
            self._file.execute("BEGIN IMMEDIATE")
            self._is_open = True
        self._file.execute(f"SAVEPOINT {quoted(name)}")
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

    def _executed(self, statement: exp.Expr, rows: _Rows = ()) -> _Done:
        place = statement.find(exp.Table)
        if isinstance(statement, exp.DML) and place and not place.this.args.get("temporary"):
            if self._depth:
                self._locked |= self._written_with(statement, place.name)
            return self._fire(statement, place.name, rows)
        return self._carry_out(statement, rows)

    def _written_with(self, statement: exp.Expr, name: str) -> set[str]:
        """Return the tables that are locked for writing by a statement."""
        if isinstance(statement, exp.Delete):
            return self._definitions.declared.written_with(name)
        return {name.casefold()}

    def _carry_out(self, statement: exp.Expr, many: _Rows) -> _Done:
        if many:
            return b"", self._insert(self._written(statement), many)
        cursor = self._file.execute(self._written(statement))
        if cursor.description is None:
            counts = isinstance(statement, exp.DML)
            self._rows = max(cursor.rowcount, 0) if counts else 0
            return b"", self._rows if counts else None
        rows = cursor.fetchall()
        self._rows = len(rows)
        return wire.result([each[0] for each in cursor.description], rows), self._rows

    def _insert(self, statement: str, many: _Rows) -> int:
        """Insert all of the rows, or none."""
        self._file.execute("SAVEPOINT yeldro_rows")
        try:
            self._rows = self._file.executemany(statement, many).rowcount
        except sqlite3.Error:
            if self._file.in_transaction:
                self._file.execute("ROLLBACK TO yeldro_rows")
            raise
        finally:
            if self._file.in_transaction:
                self._file.execute("RELEASE yeldro_rows")
        return self._rows

    def _fire(self, statement: exp.Expr, table: str, many: _Rows) -> _Done:
        """Carry out a change of a table's rows, and the triggers that it fires.

        Raises:
            ReadError: triggers have fired one another too often, or one takes its place.
        """
        firing = Firing(self._file, self._definitions, len(self._firing))
        if not firing.is_needed:
            return self._carry_out(statement, many)
        event = type(statement).__name__.lower()
        self._definitions.check_fired(table, event)
        alone = not self._depth
        if alone:  # it is a transaction of its own, which triggers are within
            self._begin()
            self._file.execute("BEGIN IMMEDIATE")
            self._is_open = self._is_doomed = True
        with firing.watching():
            told, changed = self._carry_out(statement, many)
            depth = self._depth
            for trigger in firing.fired(table, event):
                if self._firing and self._firing[-1].current == trigger:
                    continue  # RECURSIVE_TRIGGERS is off, as it is at first
                if len(self._firing) >= _DEEPEST:
                    raise ReadError(217, "Maximum trigger nesting level exceeded (limit 32).")
                self._firing.append(firing)
                try:
                    for each in read(trigger.body):
                        for tokens, rows in self._carried_out(each):
                            told += tokens + wire.done(rows, wire.MORE, within=True)
                    if depth and not self._depth:
                        raise ReadError(
                            3609,
                            "The transaction ended in the trigger. The batch has been aborted.",
                        )
                except (ReadError, sqlite3.Error):
                    self._is_doomed = True
                    raise
                finally:
                    self._firing.pop()
            self._rows = changed or 0
        if alone:
            self._end("COMMIT", wire.Change.COMMIT)
            self._is_doomed = False
        return told, changed

    def _object_id(self, name: str) -> int | None:
        query = "SELECT object_id FROM sys.objects WHERE name = ?"
        found = self._file.execute(query, (unquoted(name),)).fetchone()
        return int(found[0]) if found else None

    def _written(self, statement: exp.Expr) -> str:
        if self._firing:
            statement = self._firing[-1].renamed(statement)
        return written(statement, self._of_session)

    def _of_session(self, name: str) -> exp.Expr:
        """Return what a name with two at signs stands for."""
        known: dict[str, Any] = {
            "version": VERSION,
            "trancount": self._depth,
            "rowcount": self._rows,
            "spid": SESSION,
        }
        if name not in known:
            raise ReadError(137, f"Must declare the scalar variable '@@{name}'.")
        return exp.convert(known[name])


def _number(error: sqlite3.Error) -> tuple[int, str]:
    """Return the number and text that SQL Server has for an error of SQLite's."""
    for pattern, number, text in _NUMBERS:
        found = re.match(pattern, str(error))
        if found:
            return number, text.format(found[1])
    return 50000, str(error)
