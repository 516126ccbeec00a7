"""Each system's script frame: how scripts begin, check every count, and end.

Only the first line of a statement is indented: a line break after it may be part of a literal or of
a quoted name.
"""

from __future__ import annotations

from typing import TYPE_CHECKING, ClassVar

from yeldro.core.model.errors import Fault
from yeldro.core.model.names import one_line

if TYPE_CHECKING:
    from yeldro.core.model.expectation import RowRange


class Frame:
    """The script frame of one system; statements are already in its dialect.

    `enforces`: the system itself checks foreign keys after each statement. `since`: the least
    version that has what the statements use. `call`: how a client runs the script.
    """

    name: ClassVar[str]
    since: ClassVar[str]
    call: ClassVar[str]
    begin: ClassVar[tuple[str, ...]]
    deferred: ClassVar[str] = ""
    enforces: ClassVar[bool] = True

    def end(self, checks: int) -> list[str]:
        """Return how the script ends.

        Args:
            checks: how many counts and questions it has checked.
        """
        del checks
        return ["COMMIT;"]

    def set_up(self, statement: str, again: str = "") -> list[str]:
        """Return a statement that makes or fills a temporary table.

        Args:
            again: a statement that is repeated after it until it adds no row.
        """
        if again:
            raise Fault(f"{self.name} follows a table that references itself by one statement")
        return [f"{statement};"]

    def step(self, statement: str, rows: int, what: str) -> list[str]:
        """Return a statement, and the check that it affected so many rows."""
        raise NotImplementedError

    def ask(self, query: str, expected: RowRange, what: str) -> list[str]:
        """Return a check that a query gives one of the expected numbers."""
        raise NotImplementedError


class SqliteFrame(Frame):
    """For the `sqlite3` program.

    A failed check rolls back and drops the key tables, so no later statement can remove a row even
    if a client goes on.
    """

    name = "SQLite"
    since = "3.25"
    call = "sqlite3 FILE < script.sql"
    enforces = False
    begin = (
        ".bail on",
        "PRAGMA foreign_keys = OFF; -- dependent rows are removed by separate statements",
        "PRAGMA ignore_check_constraints = OFF; -- a CHECK constraint compares the counts",
        "BEGIN IMMEDIATE;",
        "CREATE TEMP TABLE yeldro_check (step, expected, found, CHECK (expected = found));",
    )

    def end(self, checks: int) -> list[str]:
        return [*super().end(checks), "DROP TABLE temp.yeldro_check;"]

    def step(self, statement: str, rows: int, what: str) -> list[str]:
        values = f"SELECT '{_quoted(what)}', {rows}, changes();"
        return [f"{statement};", "INSERT OR ROLLBACK INTO temp.yeldro_check", values]

    def ask(self, query: str, expected: RowRange, what: str) -> list[str]:
        within = _within("yeldro_found", expected)
        return [
            "INSERT OR ROLLBACK INTO temp.yeldro_check",
            f"SELECT '{_quoted(what)}', 1, coalesce({within}, 0)",
            f"FROM (SELECT ({query}) AS yeldro_found);",
        ]


class PostgresqlFrame(Frame):
    """For `psql`: a failed check raises an error, so the transaction cannot be committed."""

    name = "PostgreSQL"
    since = "12"
    call = "psql -d DATABASE -f script.sql"
    begin = (
        r"\set ON_ERROR_STOP on",
        "SET client_encoding = 'UTF8';",
        "SET standard_conforming_strings = on;",
        "BEGIN ISOLATION LEVEL REPEATABLE READ;",
    )
    deferred = "SET CONSTRAINTS ALL DEFERRED;"

    def step(self, statement: str, rows: int, what: str) -> list[str]:
        return self._block(
            f"  {statement};",
            "  GET DIAGNOSTICS found = ROW_COUNT;",
            f"  IF found <> {rows} THEN",
            f"    RAISE EXCEPTION '% rows: {_message(what)}, and {_expected(rows)}', found;",
            "  END IF;",
        )

    def ask(self, query: str, expected: RowRange, what: str) -> list[str]:
        return self._block(
            f"  SELECT ({query}) INTO found;",
            f"  IF ({_within('found', expected)}) IS NOT TRUE THEN",
            f"    RAISE EXCEPTION '{_message(what)}: found %', found;",
            "  END IF;",
        )

    def _block(self, *lines: str) -> list[str]:
        """Return a block in dollar quotes that nothing inside can end."""
        mark = "$yeldro$"
        while any(mark in line for line in lines):
            mark = f"{mark[:-1]}_$"
        return [f"DO {mark}", "DECLARE found bigint;", "BEGIN", *lines, "END", f"{mark};"]


class MariadbFrame(Frame):
    """For the `mariadb` or `mysql` program.

    The end depends on the checks that held, so a client that goes on after an error, or a server
    that reads a CHECK constraint and ignores it (MySQL before 8.0.16), commits nothing either.
    """

    name = "MariaDB/MySQL"
    since = "10.6/8.0"
    call = "mariadb DATABASE < script.sql"
    enforces = False
    begin = (
        "SET NAMES utf8mb4;",
        "SET SESSION sql_mode = 'STRICT_TRANS_TABLES,NO_AUTO_VALUE_ON_ZERO,ALLOW_INVALID_DATES';",
        "SET SESSION foreign_key_checks = 0; -- dependent rows are removed by separate statements",
        "SET SESSION max_sort_length = 1024, sql_auto_is_null = 0"
        " /*M! , check_constraint_checks = 1 */; -- a CHECK constraint compares the counts",
        "CREATE TEMPORARY TABLE yeldro_check (step TEXT, expected BIGINT, found BIGINT,",
        "  CHECK (expected = found));",
        "START TRANSACTION;",
    )

    def end(self, checks: int) -> list[str]:
        held = "SELECT count(*) FROM yeldro_check WHERE expected = found"
        return [
            f"SET @yeldro_end = IF(({held}) = {checks}, 'COMMIT', 'ROLLBACK');",
            "PREPARE yeldro_end FROM @yeldro_end;",
            "EXECUTE yeldro_end;",
            "DEALLOCATE PREPARE yeldro_end;",
            "DROP TEMPORARY TABLE yeldro_check;",
            "SET SESSION foreign_key_checks = 1;",
        ]

    def step(self, statement: str, rows: int, what: str) -> list[str]:
        return [
            f"{statement};",
            f"INSERT INTO yeldro_check VALUES ('{_quoted(what)}', {rows}, ROW_COUNT());",
        ]

    def ask(self, query: str, expected: RowRange, what: str) -> list[str]:
        within = _within("yeldro_found", expected)
        return [
            "INSERT INTO yeldro_check",
            f"SELECT '{_quoted(what)}', 1, COALESCE({within}, 0)",
            f"FROM (SELECT ({query}) AS yeldro_found) AS yeldro_question;",
        ]


class SqlServerFrame(Frame):
    """For SQL Server: one batch, in which the first error rolls back and ends everything."""

    name = "SQL Server"
    since = "2016"
    call = "sqlcmd -b -x -f 65001 -d DATABASE -i script.sql"
    begin = (
        "SET XACT_ABORT ON;",
        "SET NOCOUNT ON;",
        "SET QUOTED_IDENTIFIER ON;",
        "SET DATEFORMAT ymd;",
        "SET TRANSACTION ISOLATION LEVEL SERIALIZABLE;",
        "BEGIN TRANSACTION;",
    )

    def end(self, checks: int) -> list[str]:
        del checks
        return ["COMMIT TRANSACTION;"]

    def set_up(self, statement: str, again: str = "") -> list[str]:
        return [f"{statement};", *([f"WHILE @@ROWCOUNT > 0 {again};"] if again else [])]

    def step(self, statement: str, rows: int, what: str) -> list[str]:
        told = f"N'{_message(what)}, and {_expected(rows)}'"
        return [f"{statement};", f"IF @@ROWCOUNT <> {rows} THROW 50001, {told}, 1;"]

    def ask(self, query: str, expected: RowRange, what: str) -> list[str]:
        within = _within(f"({query})", expected)
        holds = f"CASE WHEN {within} THEN 1 ELSE 0 END = 1"  # NULL does not hold
        return [f"IF NOT ({holds}) THROW 50001, N'{_message(what)}', 1;"]


class OracleFrame(Frame):
    """For Oracle's command-line clients: private temporary tables, and blocks that raise errors."""

    name = "Oracle"
    since = "18c"
    call = "sqlplus USER@DATABASE @script.sql"
    begin = (
        "WHENEVER SQLERROR EXIT FAILURE ROLLBACK",
        "SET AUTOCOMMIT OFF",
        "SET DEFINE OFF",
        "SET SQLBLANKLINES ON",
        "ALTER SESSION SET NLS_COMP = BINARY;",
        "ALTER SESSION SET NLS_SORT = BINARY;",
        "SET TRANSACTION ISOLATION LEVEL SERIALIZABLE;",
    )
    deferred = "SET CONSTRAINTS ALL DEFERRED;"

    def set_up(self, statement: str, again: str = "") -> list[str]:
        if not again:
            return [f"{statement};"]
        return [
            "BEGIN",
            f"  {statement};",
            "  WHILE SQL%ROWCOUNT > 0 LOOP",
            f"    {again};",
            "  END LOOP;",
            "END;",
            "/",
        ]

    def step(self, statement: str, rows: int, what: str) -> list[str]:
        told = f"'{_quoted(what)}, and {_expected(rows)}'"
        return [
            "BEGIN",
            f"  {statement};",
            f"  IF SQL%ROWCOUNT <> {rows} THEN",
            f"    RAISE_APPLICATION_ERROR(-20001, {told});",
            "  END IF;",
            "END;",
            "/",
        ]

    def ask(self, query: str, expected: RowRange, what: str) -> list[str]:
        return [
            "DECLARE found NUMBER;",
            "BEGIN",
            f"  SELECT ({query}) INTO found FROM DUAL;",
            f"  IF found IS NULL OR NOT ({_within('found', expected)}) THEN",
            f"    RAISE_APPLICATION_ERROR(-20001, '{_quoted(what)}');",
            "  END IF;",
            "END;",
            "/",
        ]


def _expected(rows: int) -> str:
    return "1 row was expected" if rows == 1 else f"{rows} rows were expected"


def _within(value: str, expected: RowRange) -> str:
    """Return the condition that a value is one of the expected numbers."""
    if expected.low == expected.high:
        return f"{value} = {expected.low}"
    high = "" if expected.high is None else f" AND {value} <= {expected.high}"
    return f"{value} >= {expected.low}{high}"


def _quoted(text: str) -> str:
    """Return a text inside single quotes."""
    return one_line(text).replace("'", "''")


def _message(text: str) -> str:
    """Return a text inside single quotes in which % stands for a value."""
    return _quoted(text).replace("%", "%%")
