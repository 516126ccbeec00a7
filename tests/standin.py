"""Carries out scripts for Oracle, which cannot be installed here, on H2.

H2 has a mode that takes the SQL of Oracle. It runs every statement as it stands, with these
exceptions, which it does not have:

- the procedural frames: blocks of PL/SQL, `SQL%ROWCOUNT`, the variables and settings of sessions
  and clients; they are carried out here, and a setting must be a known one
- `UNISTR`, which is written as `U&'…'`
- a table that references itself: it looks at each row, Oracle at the end of a statement, so such
  keys are looked at here, after each statement
- the catalogue (`ALL_…`), which stands there as tables made from the same schema, and the function
  `SYS_CONTEXT`
"""

from __future__ import annotations

import re
import sqlite3
import uuid
from collections.abc import Iterable, Iterator
from dataclasses import dataclass
from itertools import groupby
from typing import Any

import jaydebeapi
import sqlglot
from sqlglot import exp

_JAR = "/usr/share/java/h2.jar"
_OF_THE_CLIENT = [
    "SET DEFINE OFF", "WHENEVER SQLERROR EXIT FAILURE ROLLBACK",
    "WHENEVER OSERROR EXIT FAILURE ROLLBACK", "SET EXITCOMMIT OFF", "SET AUTOCOMMIT OFF",
    "SET SQLBLANKLINES ON", "VARIABLE yeldro_passed NUMBER", "EXECUTE :yeldro_passed := 0",
]  # fmt: skip
_OF_THE_SESSION = (
    "ALTER SESSION SET NLS_COMP = BINARY",
    "ALTER SESSION SET NLS_SORT = BINARY",
    "SET TRANSACTION ISOLATION LEVEL SERIALIZABLE",
)
_PASSED = "\n  :yeldro_passed := :yeldro_passed + 1;\nEND"
_TYPES = {
    "bool": "NUMERIC(1)", "int": "BIGINT", "date": "TIMESTAMP", "time": "TIMESTAMP",
    "real": "DOUBLE PRECISION", "num": "DECIMAL(20, 4)", "blob": "VARBINARY(2000)",
}  # fmt: skip
_URL = "jdbc:h2:mem:{};MODE=Oracle;DEFAULT_ESCAPE="


class Stopped(Exception):
    """A check of the script did not hold; everything is rolled back."""


@dataclass(frozen=True)
class Key:
    """A foreign key: the columns of the child, each with that of the parent."""

    child: str
    pairs: list[tuple[str, str]]
    parent: str
    action: str


@dataclass(frozen=True)
class Table:
    """A table of an SQLite file: its columns with types and defaults, its key, and its rows."""

    name: str
    columns: list[tuple[str, str, str]]
    primary: list[str]
    rows: list[tuple[Any, ...]]


class StandIn:
    """A database like one of Oracle's with the tables and rows of an SQLite file."""

    system = "oracle"

    def __init__(self, copied: sqlite3.Connection) -> None:
        url = _URL.format(uuid.uuid4().hex)
        self.connection = jaydebeapi.connect("org.h2.Driver", url, ["SA", ""], _JAR)
        self.connection.jconn.setAutoCommit(False)
        self.tables: dict[str, list[str]] = {}
        self.own_keys: list[tuple[str, list[tuple[str, str]]]] = []
        self._copy(copied)
        self.connection.commit()

    def close(self) -> None:
        self.connection.close()

    def rows(self, table: str) -> list[tuple[str, ...]]:
        cursor = self.connection.cursor()
        columns = ", ".join(map(self._name, self.tables[table]))
        cursor.execute(f"SELECT {columns} FROM {self._name(table)}")
        return sorted(tuple(map(shown, row)) for row in cursor.fetchall())

    def contents(self) -> dict[str, list[tuple[str, ...]]]:
        return {table: self.rows(table) for table in self.tables}

    def execute(self, statement: str, *values: Any) -> int:
        cursor = self.connection.cursor()
        cursor.execute(statement, values)
        return int(cursor.rowcount)

    def change(self, statement: str) -> None:
        self.execute(statement)
        self.connection.commit()

    def value(self, query: str) -> Any:
        cursor = self.connection.cursor()
        cursor.execute(query)
        return cursor.fetchone()[0]

    def run(self, script: str) -> None:
        """Carry a script out; every error rolls back, as the script's own settings say."""
        try:
            self._oracle(script)
        except BaseException:
            self.connection.rollback()
            raise

    # The data

    def _name(self, name: str) -> str:
        return '"' + folded(name).replace('"', '""') + '"'

    def _type(self, declared: str) -> str:
        """Return the type that a column has there; truth values are numbers."""
        lower = declared.lower()
        return next((kind for word, kind in _TYPES.items() if word in lower), "VARCHAR(4000)")

    def _copy(self, copied: sqlite3.Connection) -> None:
        unique: set[tuple[str, ...]] = set()
        for table in tables_of(copied):
            self.tables[table.name] = [name for name, _, _ in table.columns]
            declared = [
                f"{self._name(name)} {self._type(kind)} DEFAULT {default}"
                for name, kind, default in table.columns
            ]
            unique.add((table.name, *sorted(table.primary)))
            if table.primary:
                declared.append(f"PRIMARY KEY ({', '.join(map(self._name, table.primary))})")
            self.execute(f"CREATE TABLE {self._name(table.name)} ({', '.join(declared)})")
            if table.rows:
                marks = ", ".join("?" * len(table.columns))
                insert = f"INSERT INTO {self._name(table.name)} VALUES ({marks})"
                self.connection.cursor().executemany(insert, table.rows)
        keys = foreign_keys(copied, self.tables)
        self._declare(keys, unique)
        self._catalogue(keys)

    def _declare(self, keys: list[Key], unique: set[tuple[str, ...]]) -> None:
        for key in keys:
            referenced = (key.parent, *sorted(theirs for _, theirs in key.pairs))
            if referenced not in unique:
                unique.add(referenced)
                listed = ", ".join(map(self._name, referenced[1:]))
                self.execute(f"ALTER TABLE {self._name(referenced[0])} ADD UNIQUE ({listed})")
            if key.child == key.parent:
                self.own_keys.append((key.child, key.pairs))
                continue
            ours = ", ".join(self._name(each) for each, _ in key.pairs)
            theirs = ", ".join(self._name(each) for _, each in key.pairs)
            self.execute(f"ALTER TABLE {self._name(key.child)} ADD FOREIGN KEY ({ours})"
                         f" REFERENCES {self._name(key.parent)} ({theirs})"
                         f" ON DELETE {key.action}")  # fmt: skip

    def _catalogue(self, keys: list[Key]) -> None:
        """Make the tables of the system's catalogue, as its manual describes them."""
        for statement in (
            "CREATE TABLE ALL_CONSTRAINTS (OWNER VARCHAR(9), CONSTRAINT_NAME VARCHAR(99),"
            " CONSTRAINT_TYPE VARCHAR(1), TABLE_NAME VARCHAR(99), R_OWNER VARCHAR(9),"
            " R_CONSTRAINT_NAME VARCHAR(99), DELETE_RULE VARCHAR(11), STATUS VARCHAR(9))",
            "CREATE TABLE ALL_CONS_COLUMNS (OWNER VARCHAR(9), CONSTRAINT_NAME VARCHAR(99),"
            " COLUMN_NAME VARCHAR(99), POSITION INT)",
            "CREATE TABLE ALL_TRIGGERS (TABLE_OWNER VARCHAR(9), TABLE_NAME VARCHAR(99),"
            " TRIGGER_NAME VARCHAR(99), STATUS VARCHAR(9))",
        ):
            self.execute(statement)
        for number, key in enumerate(keys):
            name, parent = f"{key.child}_{number}", f"{key.child}_{number}_parent"
            insert = "INSERT INTO ALL_CONSTRAINTS VALUES ('O', ?, ?, ?, ?, ?, ?, 'ENABLED')"
            self.execute(insert, name, "R", folded(key.child), "O", parent, key.action)
            self.execute(insert, parent, "P", folded(key.parent), None, None, None)
            for at, (ours, theirs) in enumerate(key.pairs, 1):
                columns = "INSERT INTO ALL_CONS_COLUMNS VALUES ('O', ?, ?, ?)"
                self.execute(columns, name, folded(ours), at)
                self.execute(columns, parent, folded(theirs), at)

    # The frames

    def _oracle(self, script: str) -> None:
        """Statements and blocks of a command-line client that leaves at the first error."""
        assert max(map(len, script.splitlines())) < 2500
        lines = [line for line in script.splitlines() if not line.startswith("--")]
        assert lines[: len(_OF_THE_CLIENT)] == _OF_THE_CLIENT
        *parts, last = _parts(lines[len(_OF_THE_CLIENT) :])
        passed = sum(self._oracle_part(part) for part in parts)
        end = re.match(r"BEGIN\n  IF :yeldro_passed = (\d+) THEN\n    COMMIT;\n  ELSE\n", last)
        assert end, last
        _hold(passed == int(end[1]), last)
        self.connection.commit()

    def _oracle_part(self, part: str) -> bool:
        """Carry out a statement or a block; True if it is a check that passes."""
        step = re.fullmatch(
            r"BEGIN\n  (.*);\n  IF SQL%ROWCOUNT <> (\d+) THEN\n"
            rf"    RAISE_APPLICATION_ERROR\(-20001, '.*'\);\n  END IF;{re.escape(_PASSED)}",
            part, re.DOTALL,
        )  # fmt: skip
        asked = re.fullmatch(
            r"DECLARE found NUMBER;\nBEGIN\n  SELECT \((.*)\) INTO found FROM DUAL;\n"
            r"  IF found IS NULL OR NOT \((.*)\) THEN\n"
            rf"    RAISE_APPLICATION_ERROR\(-20001, '.*'\);\n  END IF;{re.escape(_PASSED)}",
            part, re.DOTALL,
        )  # fmt: skip
        if step:
            _hold(self._statement(step[1]) == int(step[2]), part)
        elif asked:
            found = self.value(self.as_is(f"SELECT ({asked[1]}) FROM DUAL"))
            _hold(found is not None and found == int(asked[2].removeprefix("found = ")), part)
        else:
            assert part in _OF_THE_SESSION, part
            return False
        return True

    def _statement(self, statement: str) -> int:
        assert statement.startswith(("DELETE FROM", "UPDATE")), statement
        check_rules(statement, "oracle")
        affected = self.execute(self.as_is(statement))
        for table, pairs in self.own_keys:
            same = " AND ".join(f"p.{self._name(b)} = c.{self._name(a)}" for a, b in pairs)
            linked = " AND ".join(f"c.{self._name(a)} IS NOT NULL" for a, _ in pairs)
            name = self._name(table)
            parents = f"EXISTS (SELECT 1 FROM {name} p WHERE {same})"
            lost = self.value(f"SELECT COUNT(*) FROM {name} c WHERE {linked} AND NOT {parents}")
            assert not lost, f"{lost} rows of {table} would lose their parents by {statement}"
        return affected

    def as_is(self, statement: str) -> str:
        """The statement, with what neither system has written in another way."""
        changed = statement.replace("SYS_CONTEXT('USERENV', 'CURRENT_SCHEMA')", "'O'")
        return re.sub(r"UNISTR\((?=')((?:'[^']*')+)\)", r"U&\1", changed)


def check_rules(statement: str, dialect: str) -> None:
    """Refuse what the system itself refuses, and what carries it out here does not."""
    tree = sqlglot.parse_one(statement, read=dialect)
    assert not tree.find(exp.Select), f"more than keys: {statement}"
    for each in tree.find_all(exp.Identifier):
        assert each.quoted, f"{each} is not in quotes"
    for each in tree.find_all(exp.In):
        assert len(each.expressions) <= 1000, "more than 1,000 values"


def tables_of(copied: sqlite3.Connection) -> Iterator[Table]:
    """Yield the tables of an SQLite file."""
    listed = copied.execute("SELECT name FROM sqlite_master WHERE type = 'table'"
                            " AND name NOT LIKE 'sqlite_%'")  # fmt: skip
    for (name,) in listed.fetchall():
        columns = copied.execute(f"PRAGMA table_info({_quoted(name)})").fetchall()
        declared = [(each[1], each[2], each[4] or "NULL") for each in columns]
        rows = copied.execute(f"SELECT * FROM {_quoted(name)}").fetchall()
        whole_rows = [tuple(map(_whole, row)) for row in rows]
        yield Table(name, declared, _primary(copied, name), whole_rows)


def foreign_keys(copied: sqlite3.Connection, tables: Iterable[str]) -> list[Key]:
    """Return the foreign keys of an SQLite file; RESTRICT is NO ACTION elsewhere."""
    found = []
    for table in tables:
        parts = copied.execute(f"PRAGMA foreign_key_list({_quoted(table)})").fetchall()
        for _, grouped in groupby(sorted(parts), lambda part: part[0]):
            of_key = list(grouped)
            parent, action = of_key[0][2], of_key[0][6]
            primary = _primary(copied, parent)
            pairs = [(part[3], part[4] or primary[part[1]]) for part in of_key]
            action = "NO ACTION" if action == "RESTRICT" else action
            found.append(Key(table, pairs, parent, action))
    return found


def _primary(copied: sqlite3.Connection, table: str) -> list[str]:
    columns = copied.execute(f"PRAGMA table_info({_quoted(table)})").fetchall()
    return [each[1] for each in sorted(columns, key=lambda each: each[5]) if each[5]]


def _quoted(name: str) -> str:
    return '"' + name.replace('"', '""') + '"'


def _whole(value: Any) -> Any:
    """A moment without seconds, with them."""
    short = isinstance(value, str) and re.fullmatch(r"\d{4}-\d\d-\d\d( \d\d:\d\d)?", value)
    return (f"{value}:00" if short[1] else f"{value} 00:00:00") if short else value


def folded(name: str) -> str:
    """The name that Oracle has for a table that was made with this name without quotes."""
    return name.upper() if re.fullmatch(r"[A-Za-z_][A-Za-z0-9_]*", name) else name


def shown(value: Any) -> str:
    return re.sub(r" 00:00:00(\.0+)?$|(?<=\d\d:\d\d:\d\d)\.0+$|\.0$", "", str(value))


def _parts(lines: list[str]) -> Iterator[str]:
    """Statements that end with a semicolon, and blocks that end with a line of a slash."""
    part: list[str] = []
    for line in lines:
        block = bool(part) and part[0].startswith(("BEGIN", "DECLARE"))
        if block and line == "/":
            yield "\n".join(part).removesuffix(";")
            part = []
        elif part or line:
            part.append(line)
            if line.endswith(";") and not part[0].startswith(("BEGIN", "DECLARE")):
                yield "\n".join(part).removesuffix(";")
                part = []
    assert not part, part


def statements_of(script: str) -> list[str]:
    lines = [line for line in script.splitlines() if not line.startswith("--")]
    return [part.strip() for part in re.split(r";\n", "\n".join(lines) + "\n") if part.strip()]


def _hold(holds: bool, statement: str) -> None:
    if not holds:
        raise Stopped(statement)
