"""How scripts for SQLite, PostgreSQL, MariaDB and MySQL begin, check every count, and end.

Only the first line of a statement is indented: a line break after it may be part of a literal or of
a quoted name.
"""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass
from typing import TYPE_CHECKING, ClassVar

from yeldro.core.model.messages.names import one_line

if TYPE_CHECKING:
    from yeldro.core.model.work.expectation import RowRange


class Frame:
    """The frame of a script for one system; statements are already in its SQL.

    Attributes:
        enforces: the system itself checks foreign keys after each statement.
        since: the least version that has what the statements use.
        call: how a client runs the script.
        catalogue: what the user must be able to read beside the tables; empty if anybody can.
        ascii: texts are written in ASCII, as its client may not know the encoding of a file.
    """

    name: ClassVar[str]
    since: ClassVar[str]
    call: ClassVar[str]
    catalogue: ClassVar[str] = ""
    comment: ClassVar[str] = "--"
    ascii: ClassVar[bool] = False
    first: ClassVar[tuple[str, ...]] = ()  # before the comments of the head

    def __init__(self, *, enforces: bool) -> None:
        self.enforces = enforces
        self.checks = 0

    def begin(self) -> list[str]:
        raise NotImplementedError

    def end(self) -> list[str]:
        """Return how the script ends, after all its checks."""
        return ["COMMIT;"]

    def set_up(self, statement: str) -> list[str]:
        """Return a statement that makes or fills a temporary table."""
        return [f"{statement};"]

    def step(self, statement: str, rows: int, what: str) -> list[str]:
        """Return a statement, and the check that it affected so many rows."""
        raise NotImplementedError

    def of_themselves(self, lines: list[str]) -> list[str]:
        """Return a step in which rows go that reference themselves."""
        return lines

    def ask(self, query: str, expected: RowRange, what: str) -> list[str]:
        """Return a check that a query gives one of the expected numbers."""
        raise NotImplementedError


@dataclass(frozen=True)
class _Check:
    """A check that a table of the script's own makes: its number, and what must hold."""

    place: int
    condition: str
    what: str


class SqliteFrame(Frame):
    """For the `sqlite3` program.

    A failed check rolls back and drops the key tables, so no later statement can remove a row even
    if a client goes on. Each check is a constraint whose name tells what differs.
    """

    name = "SQLite"
    since = "3.25"
    call = "sqlite3 FILE < script.sql"

    def __init__(self, *, enforces: bool) -> None:
        super().__init__(enforces=enforces)
        self._checks: list[_Check] = []

    def begin(self) -> list[str]:
        keys = "PRAGMA foreign_keys = ON;"
        if not self.enforces:
            keys = "PRAGMA foreign_keys = OFF; -- dependent rows go by statements of their own"
        named = [f'  CONSTRAINT "{each.what}" CHECK (step <> {each.place} OR {each.condition})'
                 for each in self._checks]  # fmt: skip
        return [
            ".bail on",
            keys,
            "PRAGMA ignore_check_constraints = OFF; -- CHECK constraints compare the counts",
            "BEGIN IMMEDIATE;",
            "CREATE TEMP TABLE yeldro_check (step INTEGER, found,",
            ",\n".join(named),
            ");",
        ]

    def end(self) -> list[str]:
        return ["COMMIT;", "DROP TABLE temp.yeldro_check;"]

    def step(self, statement: str, rows: int, what: str) -> list[str]:
        said = f"{what}, and {expected_rows(rows)}"
        place = self._noted(f"found IS {rows}", said)
        told = one_line(said).replace("'", "''")
        return [
            f"{statement};",
            f"SELECT changes() || ' rows: {told}' WHERE changes() IS NOT {rows};",
            f"INSERT OR ROLLBACK INTO temp.yeldro_check SELECT {place}, changes();",
        ]

    def ask(self, query: str, expected: RowRange, what: str) -> list[str]:
        place = self._noted(f"coalesce({within('found', expected)}, 0)", what)
        return [f"INSERT OR ROLLBACK INTO temp.yeldro_check SELECT {place}, ({query});"]

    def _noted(self, condition: str, what: str) -> int:
        """Note a check; return its number."""
        self.checks += 1
        name = one_line(what).replace('"', '""')
        self._checks.append(_Check(self.checks, condition, name))
        return self.checks


class PostgresqlFrame(Frame):
    """For `psql`: a failed check raises an error, so the transaction cannot be committed."""

    name = "PostgreSQL"
    since = "12"
    call = "psql -d DATABASE -f script.sql"

    def begin(self) -> list[str]:
        return [
            r"\set ON_ERROR_STOP on",
            "SET client_encoding = 'UTF8';",
            "SET standard_conforming_strings = on;",
            "BEGIN ISOLATION LEVEL REPEATABLE READ;",
        ]

    def step(self, statement: str, rows: int, what: str) -> list[str]:
        return self._block(
            f"  {statement};",
            "  GET DIAGNOSTICS found = ROW_COUNT;",
            f"  IF found <> {rows} THEN",
            f"    RAISE EXCEPTION '% rows: {message(what)}, and {expected_rows(rows)}', found;",
            "  END IF;",
        )

    def ask(self, query: str, expected: RowRange, what: str) -> list[str]:
        return self._block(
            f"  SELECT ({query}) INTO found;",
            f"  IF ({within('found', expected)}) IS NOT TRUE THEN",
            f"    RAISE EXCEPTION '{message(what)}: found %', found;",
            "  END IF;",
        )

    def _block(self, *lines: str) -> list[str]:
        """Return a block in dollar quotes that nothing inside can end."""
        self.checks += 1
        mark = "$yeldro$"
        while any(mark in line for line in lines):
            mark = f"{mark[:-1]}_$"
        return [f"DO {mark}", "DECLARE found numeric;", "BEGIN", *lines, "END", f"{mark};"]


class MariadbFrame(Frame):
    """For the `mariadb` program.

    A failed check stops the client, and the server rolls back. The end depends on the number of
    checks that hold, so a client that goes on after errors (`--force`, `source`), or a server
    that reads a CHECK constraint and ignores it (MySQL before 8.0.16), commits nothing either.
    """

    name = "MariaDB"
    since = "10.6"
    call = "mariadb DATABASE < script.sql"

    def begin(self) -> list[str]:
        keys = f"SET SESSION foreign_key_checks = {int(self.enforces)};"
        if not self.enforces:
            keys += " -- dependent rows go by statements of their own"
        return [
            "SET NAMES utf8mb4;",
            "SET SESSION sql_mode ="
            " 'STRICT_TRANS_TABLES,NO_AUTO_VALUE_ON_ZERO,ALLOW_INVALID_DATES';",
            keys,
            "SET SESSION max_sort_length = 1024, sql_auto_is_null = 0"
            " /*M! , check_constraint_checks = 1 */; -- a CHECK constraint compares the counts",
            "CREATE TEMPORARY TABLE yeldro_check (step TEXT, expected BIGINT, found BIGINT,",
            "  CHECK (expected = found)) CHARACTER SET utf8mb4;",
            "START TRANSACTION;",
        ]

    def end(self) -> list[str]:
        held = "SELECT count(*) FROM yeldro_check WHERE expected = found"
        return [
            f"SET @yeldro_end = IF(({held}) = {self.checks}, 'COMMIT', 'ROLLBACK');",
            "PREPARE yeldro_end FROM @yeldro_end;",
            "EXECUTE yeldro_end;",
            "DEALLOCATE PREPARE yeldro_end;",
            "DROP TEMPORARY TABLE yeldro_check;",
            "SET SESSION foreign_key_checks = 1;",
        ]

    def of_themselves(self, lines: list[str]) -> list[str]:
        """Return a step without InnoDB's own check, which refuses a row that references itself."""
        return ["SET SESSION foreign_key_checks = 0;", *lines,
                "SET SESSION foreign_key_checks = 1;"]  # fmt: skip

    def step(self, statement: str, rows: int, what: str) -> list[str]:
        self.checks += 1
        return [
            f"{statement};",
            f"INSERT INTO yeldro_check VALUES ('{_unescaped(what)}', {rows}, ROW_COUNT());",
        ]

    def ask(self, query: str, expected: RowRange, what: str) -> list[str]:
        self.checks += 1
        return [
            "INSERT INTO yeldro_check",
            f"SELECT '{_unescaped(what)}', 1, COALESCE({within('yeldro_found', expected)}, 0)",
            f"FROM (SELECT ({query}) AS yeldro_found) AS yeldro_question;",
        ]


class MysqlFrame(MariadbFrame):
    """For the `mysql` program."""

    name = "MySQL"
    since = "8.0"
    call = "mysql DATABASE < script.sql"


def expected_rows(rows: int) -> str:
    return "1 row was expected" if rows == 1 else f"{rows} rows were expected"


def within(value: str, expected: RowRange) -> str:
    """Return the condition that a value is one of the expected numbers."""
    if expected.low == expected.high:
        return f"{value} = {expected.low}"
    high = "" if expected.high is None else f" AND {value} <= {expected.high}"
    return f"{value} >= {expected.low}{high}"


def quoted(text: str) -> str:
    """Return a text inside single quotes."""
    return one_line(text).replace("'", "''")


def message(text: str) -> str:
    """Return a text inside single quotes in which % stands for a value."""
    return quoted(text).replace("%", "%%")


def _unescaped(text: str) -> str:
    """Return a text inside single quotes in which a backslash escapes."""
    return quoted(text).replace("\\", "\\\\")


def ascii_only(text: str) -> str:
    """Return a text for a file whose encoding its reader may not know."""
    plain = one_line(text).replace("→", "->").encode("ascii", "replace").decode()
    return plain.rstrip("- ")  # Oracle's client joins a line that ends with a hyphen to the next


def as_comments(lines: Sequence[str], sign: str) -> list[str]:
    return [f"{sign} {line}" for line in lines]
