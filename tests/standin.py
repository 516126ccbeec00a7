"""Carries out scripts for systems that cannot be installed here, on H2.

H2 has modes that take the SQL of SQL Server and of Oracle. It runs every statement as it stands,
with these exceptions, which it does not have:

- the procedural frames: `IF … THROW`, `@@ROWCOUNT`, blocks of PL/SQL, `SQL%ROWCOUNT`, the variables
  and settings of sessions and clients; they are carried out here, and a setting must be a known one
- `NCHAR`, `UNISTR`, which are written as `CHAR` and `U&'…'`
- a table that references itself: it looks at each row, the real systems at the end of a statement,
  so such keys are looked at here, after each statement
- the catalogues (`sys.…`, `ALL_…`), which stand there as tables made from the same schema, and the
  functions `OBJECT_ID` and `SYS_CONTEXT`
"""

from __future__ import annotations

import re
import sqlite3
import uuid
from collections.abc import Iterator
from typing import Any

import jaydebeapi
import sqlglot
from sqlglot import exp

_JAR = "/usr/share/java/h2.jar"
_BEGUN = [
    "SET XACT_ABORT ON", "SET NOCOUNT ON", "SET QUOTED_IDENTIFIER ON",
    "SET IMPLICIT_TRANSACTIONS OFF", "SET LOCK_TIMEOUT 60000", "SET DATEFORMAT ymd",
    "SET TRANSACTION ISOLATION LEVEL SERIALIZABLE",
    "IF @@TRANCOUNT > 0 THROW 50001, N'A transaction is open. Nothing was changed.', 1",
    "BEGIN TRANSACTION",
]  # fmt: skip
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
    "bool": "{truth}", "int": "BIGINT", "date": "TIMESTAMP", "time": "TIMESTAMP",
    "real": "DOUBLE PRECISION", "num": "DECIMAL(20, 4)", "blob": "VARBINARY(2000)",
}  # fmt: skip
_NUMBERS = {"CASCADE": 1, "SET NULL": 2, "SET DEFAULT": 3}
SYSTEMS = {
    "sqlserver": "jdbc:h2:mem:{};MODE=MSSQLServer;IGNORECASE=TRUE;DEFAULT_ESCAPE=",
    "oracle": "jdbc:h2:mem:{};MODE=Oracle;DEFAULT_ESCAPE=",
}


class Stopped(Exception):
    """A check of the script did not hold; everything is rolled back."""


class StandIn:
    """A database of one of `SYSTEMS` with the tables and rows of an SQLite file."""

    def __init__(self, system: str, copied: sqlite3.Connection) -> None:
        self.system = system
        url = SYSTEMS[system].format(uuid.uuid4().hex)
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
        return sorted(tuple(map(_shown, row)) for row in cursor.fetchall())

    def contents(self) -> dict[str, list[tuple[str, ...]]]:
        return {table: self.rows(table) for table in self.tables}

    def execute(self, statement: str, *values: Any) -> int:
        cursor = self.connection.cursor()
        cursor.execute(statement, values)
        return int(cursor.rowcount)

    def value(self, query: str) -> Any:
        cursor = self.connection.cursor()
        cursor.execute(query)
        return cursor.fetchone()[0]

    def run(self, script: str) -> None:
        """Carry a script out; every error rolls back, as the script's own settings say."""
        try:
            (self._sql_server if self.system == "sqlserver" else self._oracle)(script)
        except BaseException:
            self.connection.rollback()
            raise

    # The data

    def _name(self, name: str) -> str:
        if self.system == "sqlserver":
            return f"[{name.replace(']', ']]')}]"
        return '"' + folded(name).replace('"', '""') + '"'

    def _type(self, declared: str) -> str:
        """Return the type that a column has there; truth values are numbers."""
        lower = declared.lower()
        found = next((kind for word, kind in _TYPES.items() if word in lower), "VARCHAR(4000)")
        return found.format(truth="SMALLINT" if self.system == "sqlserver" else "NUMERIC(1)")

    def _copy(self, copied: sqlite3.Connection) -> None:
        listed = copied.execute("SELECT name FROM sqlite_master WHERE type = 'table'"
                                " AND name NOT LIKE 'sqlite_%'")  # fmt: skip
        keys: list[tuple[Any, ...]] = []
        unique: set[tuple[str, ...]] = set()
        for (table,) in listed.fetchall():
            quoted = '"' + table.replace('"', '""') + '"'
            columns = copied.execute(f"PRAGMA table_info({quoted})").fetchall()
            self.tables[table] = [each[1] for each in columns]
            declared = [
                f"{self._name(each[1])} {self._type(each[2])} DEFAULT {each[4] or 'NULL'}"
                for each in columns
            ]
            primary = [each for each in sorted(columns, key=lambda each: each[5]) if each[5]]
            unique.add((table, *sorted(each[1] for each in primary)))
            if primary:
                listed_columns = ", ".join(self._name(each[1]) for each in primary)
                declared.append(f"PRIMARY KEY ({listed_columns})")
            self.execute(f"CREATE TABLE {self._name(table)} ({', '.join(declared)})")
            marks = ", ".join("?" * len(columns))
            rows = [tuple(map(_whole, row)) for row in copied.execute(f"SELECT * FROM {quoted}")]
            if rows:
                cursor = self.connection.cursor()
                cursor.executemany(f"INSERT INTO {self._name(table)} VALUES ({marks})", rows)
            for each in copied.execute(f"PRAGMA foreign_key_list({quoted})").fetchall():
                keys.append((table, each[0], each[3], each[2], each[4] or primary[0][1], each[6]))
        self._declare(keys, unique)
        self._catalogue(keys)

    def _declare(self, keys: list[tuple[Any, ...]], unique: set[tuple[str, ...]]) -> None:
        for table, number in dict.fromkeys((key[0], key[1]) for key in keys):
            parts = [key for key in keys if key[:2] == (table, number)]
            referenced = (parts[0][3], *sorted(part[4] for part in parts))
            if referenced not in unique:
                unique.add(referenced)
                listed = ", ".join(map(self._name, referenced[1:]))
                self.execute(f"ALTER TABLE {self._name(referenced[0])} ADD UNIQUE ({listed})")
            ours = ", ".join(self._name(part[2]) for part in parts)
            theirs = ", ".join(self._name(part[4]) for part in parts)
            if table == parts[0][3]:
                self.own_keys.append((table, [(part[2], part[4]) for part in parts]))
                continue
            action = parts[0][5] if parts[0][5] != "RESTRICT" else "NO ACTION"
            self.execute(f"ALTER TABLE {self._name(table)} ADD FOREIGN KEY ({ours})"
                         f" REFERENCES {self._name(parts[0][3])} ({theirs})"
                         f" ON DELETE {action}")  # fmt: skip

    def _catalogue(self, keys: list[tuple[Any, ...]]) -> None:
        """Make the tables of the system's catalogue, as its manual describes them."""
        if self.system == "sqlserver":
            numbers = {table: at for at, table in enumerate(self.tables, 1)}
            for statement in (
                "CREATE SCHEMA sys",
                "CREATE TABLE sys.objects (name VARCHAR(99), object_id INT)",
                "CREATE TABLE sys.columns (object_id INT, name VARCHAR(99), column_id INT)",
                "CREATE TABLE sys.foreign_keys (object_id INT, parent_object_id INT,"
                " referenced_object_id INT, delete_referential_action INT)",
                "CREATE TABLE sys.foreign_key_columns (constraint_object_id INT,"
                " parent_column_id INT, referenced_column_id INT)",
                "CREATE TABLE sys.triggers (name VARCHAR(99), parent_id INT, is_disabled INT)",
            ):
                self.execute(statement)
            for table, columns in self.tables.items():
                self.execute("INSERT INTO sys.objects VALUES (?, ?)", table, numbers[table])
                for at, column in enumerate(columns, 1):
                    self.execute(
                        "INSERT INTO sys.columns VALUES (?, ?, ?)", numbers[table], column, at
                    )
            known = list(dict.fromkeys((key[0], key[1]) for key in keys))
            for key in keys:
                number = 1000 + known.index((key[0], key[1]))
                ours, theirs = self.tables[key[0]], self.tables[key[3]]
                if key == next(each for each in keys if each[:2] == key[:2]):
                    row = (number, numbers[key[0]], numbers[key[3]], _NUMBERS.get(key[5], 0))
                    self.execute("INSERT INTO sys.foreign_keys VALUES (?, ?, ?, ?)", *row)
                self.execute("INSERT INTO sys.foreign_key_columns VALUES (?, ?, ?)", number,
                             ours.index(key[2]) + 1, theirs.index(key[4]) + 1)  # fmt: skip
            return
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
        for table, number in dict.fromkeys((key[0], key[1]) for key in keys):
            parts = [key for key in keys if key[:2] == (table, number)]
            name, parent = f"{table}_{number}", f"{table}_{number}_parent"
            rule = parts[0][5] if parts[0][5] != "RESTRICT" else "NO ACTION"
            insert = "INSERT INTO ALL_CONSTRAINTS VALUES ('O', ?, ?, ?, ?, ?, ?, 'ENABLED')"
            self.execute(insert, name, "R", folded(table), "O", parent, rule)
            self.execute(insert, parent, "P", folded(parts[0][3]), None, None, None)
            for at, part in enumerate(parts, 1):
                columns = "INSERT INTO ALL_CONS_COLUMNS VALUES ('O', ?, ?, ?)"
                self.execute(columns, name, folded(part[2]), at)
                self.execute(columns, parent, folded(part[4]), at)

    # The frames

    def _sql_server(self, script: str) -> None:
        """One batch: any failing check ends it, and XACT_ABORT rolls back."""
        statements = _without_comments(script)
        assert statements[: len(_BEGUN)] == _BEGUN
        assert statements[-1] == "COMMIT TRANSACTION"
        affected = -1
        for statement in statements[len(_BEGUN) : -1]:
            counted = re.fullmatch(r"IF @@ROWCOUNT <> (\d+) THROW 50001, N'.*', 1", statement)
            asked = re.fullmatch(r"IF NOT \((.*)\) THROW 50001, N'.*', 1", statement, re.DOTALL)
            if counted:
                _hold(affected == int(counted[1]), statement)
            elif asked:
                query = f"SELECT CASE WHEN {asked[1]} THEN 1 ELSE 0 END"
                _hold(self.value(self.as_is(query)) == 1, statement)
            else:
                affected = self._statement(statement)
        self.connection.commit()

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
        self._check_rules(statement)
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
        changed = re.sub(r"OBJECT_ID\((N'[^']*')\)", _numbered, statement)
        changed = changed.replace("SYS_CONTEXT('USERENV', 'CURRENT_SCHEMA')", "'O'")
        changed = changed.replace("NCHAR(", "CHAR(")
        return re.sub(r"UNISTR\((?=')((?:'[^']*')+)\)", r"U&\1", changed)

    def _check_rules(self, statement: str) -> None:
        """Refuse what the real systems refuse, and these do not."""
        dialect = "tsql" if self.system == "sqlserver" else "oracle"
        tree = sqlglot.parse_one(statement, read=dialect)
        assert not tree.find(exp.Select), f"more than keys: {statement}"
        for each in tree.find_all(exp.Identifier):
            assert each.quoted, f"{each} is not in quotes"
        for each in tree.find_all(exp.In):
            assert len(each.expressions) <= 1000, "more than 1,000 values"


def _whole(value: Any) -> Any:
    """A moment without seconds, with them."""
    short = isinstance(value, str) and re.fullmatch(r"\d{4}-\d\d-\d\d( \d\d:\d\d)?", value)
    return (f"{value}:00" if short[1] else f"{value} 00:00:00") if short else value


def folded(name: str) -> str:
    """The name that Oracle has for a table that was made with this name without quotes."""
    return name.upper() if re.fullmatch(r"[A-Za-z_][A-Za-z0-9_]*", name) else name


def _numbered(found: re.Match[str]) -> str:
    name = found[1].replace("[", "").replace("]", "")
    return f"(SELECT object_id FROM sys.objects WHERE name = {name})"


def _shown(value: Any) -> str:
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


def _without_comments(script: str) -> list[str]:
    lines = [line for line in script.splitlines() if not line.startswith("--")]
    return [part.strip() for part in re.split(r";\n", "\n".join(lines) + "\n") if part.strip()]


def _hold(holds: bool, statement: str) -> None:
    if not holds:
        raise Stopped(statement)
