"""One session of the stand-in: batches of Transact-SQL, carried out by SQLite.

What is read is refused by the rules of SQL Server (`refusals`); what SQLite then refuses gets the
number that SQL Server has for it.
"""

from __future__ import annotations

import re
import sqlite3
import uuid
from collections.abc import Callable, Collection, Iterator, Sequence
from datetime import date, datetime, time
from decimal import Decimal
from pathlib import Path
from typing import Any

from sqlglot import exp

from yeldro.standins.sqlserver import wire
from yeldro.standins.sqlserver.catalogue import Catalogue
from yeldro.standins.sqlserver.declared import Declared, DeclaredTable
from yeldro.standins.sqlserver.functions import CHECKED, add_functions, stored
from yeldro.standins.sqlserver.reader import ReadError, Save, Setting, Statement, read
from yeldro.standins.sqlserver.translating import type_name, written

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
_NOT_YET = ("rowversion", "timestamp", "xml", "sql_variant", "hierarchyid", "geography", "geometry")
_SCHEMAS = ("", "dbo", "sys", "information_schema", "tempdb")
_Done = tuple[bytes, int | None]  # what a statement answers, and the rows that it counts


class Session:
    """The state of one connection.

    Args:
        path: the SQLite file that holds the database.
        database: its name.
        drawn: the last value of each identity column, which all sessions share; like a real
            server's, it is not taken back with a transaction.
    """

    def __init__(self, path: Path, database: str, drawn: dict[str, int] | None = None) -> None:
        self.database = database
        self._file = sqlite3.connect(
            path, isolation_level=None, detect_types=sqlite3.PARSE_DECLTYPES, timeout=_WAITS
        )
        self._file.execute("PRAGMA foreign_keys = ON")
        self._depth = self._number = self._rows = 0
        self._level = self._started_at = "READ COMMITTED"
        self._is_open = self._aborts = False
        self._identity_insert = ""
        self._refused: ReadError | None = None
        self._drawn = {} if drawn is None else drawn
        self._declared = Declared(self._file)
        self._catalogue = Catalogue(self._file, self._declared, database)
        add_functions(self._file)
        self._file.create_function("rowcount_big", 0, lambda: self._rows)
        self._file.create_function("db_name", 0, lambda: self.database)
        self._file.create_function("xact_state", 0, lambda: int(self._depth > 0))
        self._file.create_function("yeldro_next", 3, self._next)
        self._file.create_function("yeldro_stored", 2, self._stored)

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
        except sqlite3.Error as error:
            own, self._refused = self._refused, None
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

    def _carried_out(self, statement: Statement) -> Iterator[_Done]:
        """Carry out one statement; yield what it, or each statement in it, did."""
        match statement:
            case Save():
                yield self._save(statement.name)
            case Setting():
                self._set(statement.name, statement.value)
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
                self._define(statement)
                yield b"", None
            case exp.Query() | exp.DML():
                self._touch(statement)
                self._check_columns(statement)
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
            self._identity_insert = _bare(value.rpartition(" ")[0]) if is_on else ""
        elif name == "TRANSACTION ISOLATION LEVEL":
            self._level = " ".join(value.upper().split())

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

    def _define(self, statement: exp.Expr) -> None:
        """Make, change, empty or drop a table, index or view, and keep what is declared."""
        self._rows = 0
        match statement:
            case exp.Alter():
                self._alter(statement)
            case exp.TruncateTable():
                self._truncate(statement.expressions[0])
            case exp.Drop():
                for each in statement.args["tables"]:
                    self._drop(statement, each)
            case exp.Create():
                place = statement.this.find(exp.Table)
                name = statement.this.this.name
                self._check_types(statement)
                self._file.execute(self._written(statement))
                if not place.this.args.get("temporary"):
                    if statement.kind == "TABLE":
                        self._check_what_is_stored(DeclaredTable(statement))
                    self._declared.keep(str(statement.kind).lower(), name, place.name, statement)

    def _check_types(self, statement: exp.Create) -> None:
        for column in statement.this.find_all(exp.ColumnDef):
            name = type_name(column.kind).partition("(")[0] if column.kind else ""
            if name in _NOT_YET:
                raise ReadError(50000, f"The stand-in has no columns of the type {name} yet.")

    def _check_what_is_stored(self, table: DeclaredTable) -> None:
        """Make SQLite give each value to the function that converts it to the column's type."""
        name = _quoted(table.name)
        sets, differ = [], []
        for column in table.columns:
            declared = type_name(column.kind) if column.kind else ""
            kind = (
                declared.partition("(")[0].replace("integer", "int").replace("numeric", "decimal")
            )
            if kind in CHECKED:
                declared = declared.replace("integer", "int").replace("numeric", "decimal")
                own = _quoted(column.name)
                sets.append(f"{own} = yeldro_stored('{declared}', {own})")
                differ.append(f"NEW.{own} IS NOT yeldro_stored('{declared}', NEW.{own})")
        for event in ("INSERT", "UPDATE"):
            trigger = f"main.{_quoted(f'yeldro {event} {table.name}')}"
            self._file.execute(f"DROP TRIGGER IF EXISTS {trigger}")
            if sets:
                self._file.execute(
                    f"CREATE TRIGGER {trigger} AFTER {event} ON {name} WHEN {' OR '.join(differ)} "
                    f"BEGIN UPDATE {name} SET {', '.join(sets)} WHERE rowid = NEW.rowid; END"
                )

    def _stored(self, declared: str, value: Any) -> Any:
        """Return a value as a column holds it; note why it cannot, as SQLite does not tell."""
        try:
            return stored(declared, value)
        except ReadError as error:
            self._refused = error
            raise

    def _alter(self, statement: exp.Alter) -> None:
        """Add a column or a constraint, or drop a constraint."""
        table = self._declared_as(statement.this.name)
        for action in statement.args["actions"]:
            if isinstance(action, exp.AddConstraint):
                for each in action.expressions:
                    self._add_constraint(table, each)
            elif isinstance(action, exp.ColumnDef):
                change = f"ALTER TABLE {_quoted(table.name)} ADD COLUMN "
                self._file.execute(change + self._written(action))
                table.add(action.copy())
                self._check_what_is_stored(table)
            elif isinstance(action, exp.Drop) and action.args.get("kind") == "CONSTRAINT":
                name = action.args["tables"][0].name
                if not table.drop_constraint(name):
                    raise ReadError(3728, f"'{name}' is not a constraint.")
                self._file.execute(f"DROP INDEX IF EXISTS main.{_quoted(name)}")
                self._rewrite(table)
            else:
                raise ReadError(50000, f"The stand-in cannot do this yet: {statement.sql('tsql')}")
        self._declared.changed(table)

    def _add_constraint(self, table: DeclaredTable, added: exp.Expr) -> None:
        """Add one; a key becomes an index, the others are written into SQLite's catalogue."""
        before = set(table.unique_keys())
        table.add(added.copy())
        keys = [each for each in table.unique_keys() if each not in before]
        for key in keys:
            columns = ", ".join(map(_quoted, key.columns))
            on = f"{_quoted(table.name)} ({columns})"
            self._file.execute(f"CREATE UNIQUE INDEX main.{_quoted(key.name)} ON {on}")
        if not keys:
            self._rewrite(table)
            check = f"PRAGMA main.foreign_key_check({_quoted(table.name)})"
            if self._file.execute(check).fetchone():
                raise sqlite3.IntegrityError("FOREIGN KEY constraint failed")

    def _rewrite(self, table: DeclaredTable) -> None:
        """Put a table's constraints into SQLite's catalogue (sqlite.org/pragma, writable_schema).

        Those that are indexes, as they were added later, stay out.
        """
        indexes = "SELECT name FROM main.sqlite_master WHERE type = 'index' AND sql IS NOT NULL"
        apart = {name for (name,) in self._file.execute(indexes)}
        made = DeclaredTable(table.create.copy())
        for each in list(made.create.this.expressions):
            if isinstance(each, exp.Constraint) and each.name in apart:
                each.pop()
        change = "UPDATE main.sqlite_master SET sql = ? WHERE type = 'table' AND name = ?"
        self._file.execute("PRAGMA writable_schema = ON")
        self._file.execute(change, (self._written(made.create), table.name))
        self._file.execute("PRAGMA writable_schema = RESET")
        (version,) = self._file.execute("PRAGMA main.schema_version").fetchone()
        self._file.execute(f"PRAGMA main.schema_version = {version + 1}")

    def _truncate(self, place: exp.Table) -> None:
        table = self._declared_as(place.name)
        for _, other in self._declared.tables():
            if any(link.parent.casefold() == table.name.casefold() for link in other.links()):
                raise ReadError(
                    4712,
                    f"Cannot truncate table '{table.name}' because it is being referenced by a "
                    "FOREIGN KEY constraint.",
                )
        self._file.execute(f"DELETE FROM main.{_quoted(table.name)}")
        self._drawn.pop(f"{table.name}.{table.identity()}".casefold(), None)

    def _drop(self, statement: exp.Drop, place: exp.Table) -> None:
        dropped = statement.copy()
        dropped.set("cluster", None)
        dropped.set("tables", [place.copy()])
        if not place.this.args.get("temporary"):
            for _, other in self._declared.tables() if statement.kind == "TABLE" else ():
                parents = {link.parent.casefold() for link in other.links()}
                if (
                    place.name.casefold() in parents
                    and other.name.casefold() != place.name.casefold()
                ):
                    raise ReadError(
                        3726,
                        f"Could not drop object '{place.name}' because it is referenced by a "
                        "FOREIGN KEY constraint.",
                    )
            self._declared.forget(place.name)
        self._file.execute(self._written(dropped))

    def _declared_as(self, name: str) -> DeclaredTable:
        table = self._declared.table(name)
        if table is None:
            raise ReadError(4902, f'Cannot find the object "{name}".')
        return table

    def _check_columns(self, statement: exp.Expr) -> None:
        """Refuse values for columns that the server fills itself.

        Raises:
            ReadError: the statement gives one to an identity column, or to a computed one.
        """
        if not isinstance(statement, exp.Insert | exp.Update):
            return
        place = statement.find(exp.Table)
        table = self._declared.table(place.name) if place is not None else None
        if table is None:
            return
        if isinstance(statement, exp.Insert):
            named = [each.name for each in getattr(statement.this, "expressions", [])]
        else:
            named = [each.this.name for each in statement.expressions]
        given = {name.casefold() for name in named}
        self._check_identity(statement, table, given)
        for column in table.columns:
            if column.name.casefold() in given and column.find(exp.ComputedColumnConstraint):
                raise ReadError(
                    271,
                    f'The column "{column.name}" cannot be modified because it is either a '
                    "computed column or is the result of a UNION operator.",
                )

    def _check_identity(
        self, statement: exp.Expr, table: DeclaredTable, given: Collection[str]
    ) -> None:
        identity = (table.identity() or "").casefold()
        is_on = self._identity_insert.casefold() == table.name.casefold()
        if identity in given and isinstance(statement, exp.Update):
            raise ReadError(8102, f"Cannot update identity column '{identity}'.")
        if identity in given and not is_on:
            raise ReadError(
                544,
                f"Cannot insert explicit value for identity column in table '{table.name}' when "
                "IDENTITY_INSERT is set to OFF.",
            )
        if identity and identity not in given and is_on and isinstance(statement, exp.Insert):
            raise ReadError(
                545,
                f"Explicit value must be specified for identity column in table '{table.name}' "
                "when IDENTITY_INSERT is set to ON.",
            )

    def _next(self, name: str, start: int, step: int) -> int:
        """Return the next value of an identity column."""
        name = name.casefold()
        self._drawn[name] = self._drawn[name] + step if name in self._drawn else start
        return self._drawn[name]

    def _executed(self, statement: exp.Expr) -> _Done:
        cursor = self._file.execute(self._written(statement))
        if cursor.description is None:
            counts = isinstance(statement, exp.DML)
            self._rows = max(cursor.rowcount, 0) if counts else 0
            return b"", self._rows if counts else None
        rows = cursor.fetchall()
        self._rows = len(rows)
        return wire.result([each[0] for each in cursor.description], rows), self._rows

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
