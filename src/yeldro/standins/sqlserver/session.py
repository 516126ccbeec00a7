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
from pathlib import Path
from typing import Any, ClassVar

from sqlglot import exp
from sqlglot.dialects.sqlite import SQLite

from yeldro.standins.sqlserver import wire
from yeldro.standins.sqlserver.reader import ReadError, read

VERSION = "Microsoft SQL Server stand-in of Yeldro - 16.0.1000.6"
_SAVE = re.compile(r"\s*SAVE\s+TRAN(?:SACTION)?\s+(\w+)\s*;?\s*", re.IGNORECASE)
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

_WAITS = 10.0  # seconds for another session; the server itself waits for ever
_NOT_YET = (
    exp.CollateColumnConstraint,
    exp.GeneratedAsIdentityColumnConstraint,
    exp.AutoIncrementColumnConstraint,
    exp.ComputedColumnConstraint,
)
_Done = tuple[bytes, int | None]  # what a statement answers, and the rows that it counts


class _Sqlite(SQLite):
    """SQLite's SQL with names in backquotes: it takes unknown ones in double quotes for texts."""

    class Tokenizer(SQLite.Tokenizer):
        IDENTIFIERS: ClassVar[list[str | tuple[str, str]]] = ["`"]


class Session:
    """The state of one connection.

    Args:
        path: the SQLite file that holds the database.
        database: its name.
    """

    def __init__(self, path: Path, database: str) -> None:
        self.database = database
        self._file = sqlite3.connect(
            path, isolation_level=None, detect_types=sqlite3.PARSE_DECLTYPES, timeout=_WAITS
        )
        self._file.execute("PRAGMA foreign_keys = ON")
        self._depth = self._number = self._rows = 0
        self._file.create_function("rowcount_big", 0, lambda: self._rows)
        self._file.create_function("datalength", 1, _length, deterministic=True)
        self._file.create_function("newid", 0, lambda: str(uuid.uuid4()).upper())
        self._file.create_function("db_name", 0, lambda: self.database)

    def close(self) -> None:
        """Forget the connection; what it did not commit is gone."""
        self._file.close()

    def batch(self, text: str) -> bytes:
        """Carry out a batch; return the answer to it.

        A statement that fails ends the batch; what went before it stays.
        """
        done: list[_Done] = []
        failure = b""
        try:
            saved = _SAVE.fullmatch(text)
            if saved:
                done.append(self._save(saved[1]))
            else:
                for statement in read(text):
                    done.extend(self._carried_out(statement))
        except ReadError as error:
            failure = wire.said(error.number, error.text, 15)
        except sqlite3.Error as error:
            failure = wire.said(*_number(error), 16)
        if failure or not done:
            done.append((failure, None))
        status = [wire.MORE] * (len(done) - 1) + [wire.ERROR if failure else 0]
        return b"".join(
            tokens + wire.done(rows, each)
            for (tokens, rows), each in zip(done, status, strict=True)
        )

    def _carried_out(self, statement: exp.Expr) -> Iterator[_Done]:
        """Carry out one statement; yield what it, or each statement in it, did."""
        match statement:
            case exp.Transaction():
                yield self._begin()
            case exp.Commit():
                yield self._end("COMMIT", wire.Change.COMMIT)
            case exp.Rollback() if statement.this:
                self._file.execute(f"ROLLBACK TO {_quoted(statement.this.name)}")
                yield b"", None
            case exp.Rollback():
                yield self._end("ROLLBACK", wire.Change.ROLLBACK)
            case exp.Set():
                yield self._set(statement)
            case exp.Use():
                yield self._use(statement.this.name)
            case exp.IfBlock():
                for each in self._branch(statement):
                    yield from self._carried_out(each)
            case exp.Query() | exp.DML() | exp.Create() | exp.Drop():
                yield self._executed(statement)
            case _:
                first = statement.sql("tsql").split()[0]
                raise ReadError(102, f"Incorrect syntax near '{first}'.")

    def _set(self, statement: exp.Set) -> _Done:
        """Take a setting; all but the time that is waited for locks change nothing here."""
        for item in statement.expressions:
            setting = item.this
            if isinstance(setting, exp.EQ) and setting.this.name.casefold() == "lock_timeout":
                milliseconds = setting.expression.name
                self._file.execute(f"PRAGMA busy_timeout = {int(milliseconds)}")
        return b"", None

    def _begin(self) -> _Done:
        self._depth += 1
        if self._depth > 1:
            return b"", None
        self._file.execute("BEGIN")
        self._number += 1
        return wire.transaction_changed(wire.Change.BEGIN, self._number), None

    def _end(self, word: str, what: wire.Change) -> _Done:
        if not self._depth:
            number = 3902 if word == "COMMIT" else 3903
            raise ReadError(number, _NO_TRANSACTION.format(word))
        if word == "COMMIT" and self._depth > 1:
            self._depth -= 1
            return b"", None
        self._file.execute(word)
        self._depth = 0
        return wire.transaction_changed(what, self._number), None

    def _save(self, name: str) -> _Done:
        if not self._depth:
            text = "Cannot issue SAVE TRANSACTION when there is no active transaction."
            raise ReadError(628, text)
        self._file.execute(f"SAVEPOINT {_quoted(name)}")
        return b"", None

    def _use(self, name: str) -> _Done:
        if name.casefold() != self.database.casefold():
            raise ReadError(911, f"Database '{name}' does not exist.")
        return wire.database_changed(self.database, self.database), None

    def _branch(self, statement: exp.IfBlock) -> Sequence[exp.Expr]:
        """Return the statements of the branch whose condition holds."""
        condition = exp.select(exp.Case().when(statement.this, "1").else_("0"))
        ((holds,),) = self._file.execute(self._in_sqlite(condition)).fetchall()
        branch = statement.args.get("true" if holds else "false")
        if isinstance(branch, exp.Block):
            return branch.expressions
        return [branch] if branch else []

    def _executed(self, statement: exp.Expr) -> _Done:
        cursor = self._file.execute(self._in_sqlite(statement))
        if cursor.description is None:
            counts = isinstance(statement, exp.DML)
            self._rows = max(cursor.rowcount, 0) if counts else 0
            return b"", self._rows if counts else None
        rows = cursor.fetchall()
        self._rows = len(rows)
        return wire.result([each[0] for each in cursor.description], rows), self._rows

    def _in_sqlite(self, statement: exp.Expr) -> str:
        return statement.copy().transform(self._translated).sql(_Sqlite, identify=True)

    def _translated(self, node: exp.Expr) -> exp.Expr:
        """Return a part of a statement as SQLite takes it."""
        if isinstance(node, exp.Table):
            return _table(node)
        if isinstance(node, _NOT_YET):
            raise ReadError(50000, f"The stand-in has no {node.sql('tsql')} yet.")
        if isinstance(node, exp.ColumnDef) and node.kind:
            written = node.kind.sql("tsql").lower().replace("(max)", "")
            declared = exp.Var(this=written.replace("integer", "int"))
            node.set("kind", exp.DataType(this=exp.DataType.Type.USERDEFINED, kind=declared))
        elif isinstance(node, exp.National):
            return exp.Literal.string(node.this)
        elif isinstance(node, exp.CurrentSchema):
            return exp.Literal.string("dbo")
        elif isinstance(node, exp.Parameter) and isinstance(node.this, exp.Parameter):
            return self._of_session(node.this.name.casefold())
        return node

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


def _table(node: exp.Table) -> exp.Expr:
    """Return a table without hints, and without the schema that all tables are in."""
    node.set("hints", None)
    if node.db.casefold() == "dbo":
        node.set("db", None)
    name = node.this
    if isinstance(name, exp.Identifier) and name.args.get("temporary"):
        node.set("this", exp.to_identifier(f"#{name.name}", quoted=True))
        node.set("db", exp.to_identifier("temp"))
    return node


def _number(error: sqlite3.Error) -> tuple[int, str]:
    """Return the number and text that SQL Server has for an error of SQLite's."""
    for pattern, number, text in _NUMBERS:
        found = re.match(pattern, str(error))
        if found:
            return number, text.format(found[1])
    return 50000, str(error)


def _length(value: Any) -> int | None:
    if value is None or isinstance(value, bytes):
        return None if value is None else len(value)
    return 8 if isinstance(value, int | float) else 2 * len(value)


def _quoted(name: str) -> str:
    return '"' + name.replace('"', '""') + '"'
