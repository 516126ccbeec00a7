"""How scripts for SQL Server, Oracle and Access begin, check every count, and end.

They name rows by their keys. None was run on the system itself; docs/sql.md says on what.
"""

from __future__ import annotations

from typing import TYPE_CHECKING

from yeldro.formats.writing.frames import Frame, ascii_only, expected_rows, within

if TYPE_CHECKING:
    from yeldro.core.model.work.expectation import RowRange

_LONGEST = 800  # characters of one line of VBScript, whose limit is about 1,000


class SqlServerFrame(Frame):
    """For SQL Server: one batch, in which the first error rolls back and ends everything."""

    name = "SQL Server"
    since = "2012"
    call = "sqlcmd -b -x -f 65001 -d DATABASE -i script.sql"
    catalogue = "VIEW DEFINITION on the tables"
    ascii = True

    def begin(self) -> list[str]:
        return [
            "SET XACT_ABORT ON;",
            "SET NOCOUNT ON;",
            "SET QUOTED_IDENTIFIER ON;",
            "SET IMPLICIT_TRANSACTIONS OFF;",
            "SET LOCK_TIMEOUT 60000;",
            "SET DATEFORMAT ymd;",
            "SET TRANSACTION ISOLATION LEVEL SERIALIZABLE;",
            "IF @@TRANCOUNT > 0 THROW 50001, N'A transaction is open. Nothing was changed.', 1;",
            "BEGIN TRANSACTION;",
        ]

    def end(self) -> list[str]:
        return ["COMMIT TRANSACTION;"]

    def step(self, statement: str, rows: int, what: str) -> list[str]:
        self.checks += 1
        told = f"N'{_told(what)}, and {expected_rows(rows)}'"
        return [f"{statement};", f"IF @@ROWCOUNT <> {rows} THROW 50001, {told}, 1;"]

    def ask(self, query: str, expected: RowRange, what: str) -> list[str]:
        self.checks += 1
        holds = f"CASE WHEN {within(f'({query})', expected)} THEN 1 ELSE 0 END = 1"
        return [f"IF NOT ({holds}) THROW 50001, N'{_told(what)}', 1;"]  # NULL does not hold


class OracleFrame(Frame):
    """For Oracle's command-line clients: blocks that raise errors and count the passed checks.

    A client that goes on after an error runs the last block too, which commits only if every
    check has passed.
    """

    name = "Oracle"
    since = "12c"
    call = "sqlplus USER@DATABASE @script.sql"
    catalogue = "SELECT on the tables, so that ALL_CONSTRAINTS and ALL_TRIGGERS show them"
    ascii = True
    first = ("SET DEFINE OFF",)  # before anything that may hold an ampersand

    def begin(self) -> list[str]:
        return [
            "WHENEVER SQLERROR EXIT FAILURE ROLLBACK",
            "WHENEVER OSERROR EXIT FAILURE ROLLBACK",
            "SET EXITCOMMIT OFF",
            "SET AUTOCOMMIT OFF",
            "SET SQLBLANKLINES ON",
            "VARIABLE yeldro_passed NUMBER",
            "EXECUTE :yeldro_passed := 0",
            "ALTER SESSION SET NLS_COMP = BINARY;",
            "ALTER SESSION SET NLS_SORT = BINARY;",
            "SET TRANSACTION ISOLATION LEVEL SERIALIZABLE;",
        ]

    def end(self) -> list[str]:
        return [
            "BEGIN",
            f"  IF :yeldro_passed = {self.checks} THEN",
            "    COMMIT;",
            "  ELSE",
            "    ROLLBACK;",
            "    RAISE_APPLICATION_ERROR(-20001, 'A check did not pass; all is rolled back.');",
            "  END IF;",
            "END;",
            "/",
        ]

    def step(self, statement: str, rows: int, what: str) -> list[str]:
        self.checks += 1
        told = f"'{_told(what)}, and {expected_rows(rows)}'"
        return [
            "BEGIN",
            f"  {statement};",
            f"  IF SQL%ROWCOUNT <> {rows} THEN",
            f"    RAISE_APPLICATION_ERROR(-20001, {told});",
            "  END IF;",
            "  :yeldro_passed := :yeldro_passed + 1;",
            "END;",
            "/",
        ]

    def ask(self, query: str, expected: RowRange, what: str) -> list[str]:
        self.checks += 1
        return [
            "DECLARE found NUMBER;",
            "BEGIN",
            f"  SELECT ({query}) INTO found FROM DUAL;",
            f"  IF found IS NULL OR NOT ({within('found', expected)}) THEN",
            f"    RAISE_APPLICATION_ERROR(-20001, '{_told(what)}');",
            "  END IF;",
            "  :yeldro_passed := :yeldro_passed + 1;",
            "END;",
            "/",
        ]


class AccessFrame(Frame):
    """For Access: VBScript that runs the statements by DAO, as Access has no scripts of SQL.

    An error ends the script, and what is not committed is rolled back when the database closes.
    """

    name = "Access"
    since = "2007"
    call = "cscript //nologo script.vbs FILE.accdb"
    comment = "'"
    ascii = True

    def begin(self) -> list[str]:
        return [
            "Option Explicit",
            "Dim engine, space, base, sql",
            'Set engine = CreateObject("DAO.DBEngine.120")',
            "Set space = engine.Workspaces(0)",
            "Set base = space.OpenDatabase(WScript.Arguments(0))",
            "",
            "Sub Change(rows, what)",
            "    base.Execute sql, 128  ' dbFailOnError",
            "    Dim found",
            "    found = base.RecordsAffected",
            "    If found <> rows Then",
            '        Err.Raise vbObjectError + 1, "yeldro", found & " rows: " & what',
            "    End If",
            "End Sub",
            "",
            "Sub Ask(low, high, what)",
            "    Dim found",
            "    found = base.OpenRecordset(sql).Fields(0).Value",
            '    If IsNull(found) Then Err.Raise vbObjectError + 1, "yeldro", what',
            "    If found < low Or found > high Then",
            '        Err.Raise vbObjectError + 1, "yeldro", what & ": found " & found',
            "    End If",
            "End Sub",
            "",
            "space.BeginTrans",
        ]

    def end(self) -> list[str]:
        return ["space.CommitTrans", "base.Close"]

    def step(self, statement: str, rows: int, what: str) -> list[str]:
        self.checks += 1
        told = _in_vbscript(f"{ascii_only(what)}, and {expected_rows(rows)}")
        return [*_assigned(statement), f"Change {rows}, {told}"]

    def ask(self, query: str, expected: RowRange, what: str) -> list[str]:
        self.checks += 1
        high = 2_147_483_647 if expected.high is None else expected.high
        told = _in_vbscript(ascii_only(what))
        return [*_assigned(query), f"Ask {expected.low}, {high}, {told}"]


def _told(what: str) -> str:
    return ascii_only(what).replace("'", "''").replace("%", "%%")


def _assigned(statement: str) -> list[str]:
    """Return the lines that build a statement up, none of which is too long."""
    pieces = [statement[at : at + _LONGEST] for at in range(0, len(statement), _LONGEST)]
    return [f"sql = {'sql & ' if n else ''}{_in_vbscript(piece)}"
            for n, piece in enumerate(pieces)]  # fmt: skip


def _in_vbscript(text: str) -> str:
    """Return a text as VBScript has it, of ASCII alone; other signs are named by their number."""
    written = "".join(
        each.replace('"', '""') if " " <= each <= "~" else f'" & ChrW({ord(each)}) & "'
        for each in text
    )
    return f'"{written}"'
