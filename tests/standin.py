"""Carries out scripts for systems that cannot be installed here, statement by statement, on SQLite.

It knows only what such scripts may hold, and fails on anything else.
"""

from __future__ import annotations

import re
import sqlite3
from collections.abc import Iterator

import sqlglot
from sqlglot import exp

_BEGUN = ["SET XACT_ABORT ON", "SET NOCOUNT ON", "SET QUOTED_IDENTIFIER ON", "SET DATEFORMAT ymd",
          "SET TRANSACTION ISOLATION LEVEL SERIALIZABLE", "BEGIN TRANSACTION"]  # fmt: skip
_OF_THE_CLIENT = ["WHENEVER SQLERROR EXIT FAILURE ROLLBACK", "SET AUTOCOMMIT OFF", "SET DEFINE OFF",
                  "SET SQLBLANKLINES ON"]  # fmt: skip


class Stopped(Exception):
    """A check of the script did not hold; everything is rolled back."""


def run_sql_server(script: str, connection: sqlite3.Connection) -> None:
    """One batch: any failing check ends it, and XACT_ABORT rolls back."""
    statements = _without_comments(script)
    assert statements[: len(_BEGUN)] == _BEGUN
    assert statements[-1] == "COMMIT TRANSACTION"
    connection.execute("BEGIN")
    affected = -1
    try:
        for statement in statements[len(_BEGUN) : -1]:
            counted = re.fullmatch(r"IF @@ROWCOUNT <> (\d+) THROW 50001, N'.*', 1", statement)
            asked = re.fullmatch(r"IF NOT \((.*)\) THROW 50001, N'.*', 1", statement, re.DOTALL)
            if counted:
                _hold(affected == int(counted[1]), statement)
            elif asked:
                query = _translated(f"SELECT CASE WHEN {asked[1]} THEN 1 ELSE 0 END", "tsql")
                _hold(connection.execute(query).fetchone()[0] == 1, statement)
            else:
                affected = _execute(connection, statement, "tsql")
    except Stopped:
        connection.execute("ROLLBACK")
        raise
    connection.execute("COMMIT")


def run_oracle(script: str, connection: sqlite3.Connection) -> None:
    """Statements and blocks of a command-line client that leaves at the first error."""
    lines = [line for line in script.splitlines() if not line.startswith("--")]
    assert lines[: len(_OF_THE_CLIENT)] == _OF_THE_CLIENT
    del lines[: len(_OF_THE_CLIENT)]
    connection.execute("BEGIN")
    try:
        for part in _parts(lines):
            _oracle_part(part, connection)
    except Stopped:
        connection.execute("ROLLBACK")
        raise
    assert not connection.in_transaction, "the script does not commit"


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


def _oracle_part(part: str, connection: sqlite3.Connection) -> None:
    step = re.fullmatch(
        r"BEGIN\n  (.*);\n  IF SQL%ROWCOUNT <> (\d+) THEN\n"
        r"    RAISE_APPLICATION_ERROR\(-20001, '.*'\);\n  END IF;\nEND",
        part, re.DOTALL,
    )  # fmt: skip
    asked = re.fullmatch(
        r"DECLARE found NUMBER;\nBEGIN\n  SELECT \((.*)\) INTO found FROM DUAL;\n"
        r"  IF found IS NULL OR NOT \((.*)\) THEN\n"
        r"    RAISE_APPLICATION_ERROR\(-20001, '.*'\);\n  END IF;\nEND",
        part, re.DOTALL,
    )  # fmt: skip
    if step:
        _hold(_execute(connection, step[1], "oracle") == int(step[2]), part)
    elif asked:
        found = connection.execute(_translated(f"SELECT ({asked[1]})", "oracle")).fetchone()[0]
        wanted = asked[2].replace(" = ", " == ").replace("AND", "and")
        _hold(found is not None and eval(wanted, {"found": found}), part)
    elif part == "COMMIT":
        connection.execute("COMMIT")
    elif part and not part.startswith(("ALTER SESSION SET NLS_", "SET TRANSACTION ", "SET CONSTR")):
        _execute(connection, part, "oracle")


def _execute(connection: sqlite3.Connection, statement: str, dialect: str) -> int:
    made = re.fullmatch(
        r"SELECT (.*?) INTO (#\w+) FROM \((.*)\) AS yeldro_first \((.*)\) WHERE 1 = 0"
        r" UNION ALL SELECT \1 FROM \(\3\) AS yeldro_first \(\4\) WHERE 1 = 0",
        statement, re.DOTALL,
    )  # fmt: skip
    if made:
        first = f"WITH yeldro_first ({made[4]}) AS ({made[3]})"
        statement = f"{first} SELECT {made[1]} FROM yeldro_first WHERE 1 = 0"
    private = re.match(
        r"CREATE PRIVATE TEMPORARY TABLE (\S+)(?: ON COMMIT DROP DEFINITION AS)? ", statement
    )
    if private:
        statement = statement[private.end() :]
        if statement.startswith("("):
            connection.execute(f'CREATE TEMP TABLE "{private[1]}" {statement}')
            return 0
    if re.fullmatch(r"DROP TABLE IF EXISTS #\w+", statement):
        return 0
    assert made or private or statement.startswith(("INSERT", "DELETE", "UPDATE", "CREATE TABLE #"))
    written = _translated(statement, dialect)
    name = made[2] if made else private[1] if private else None
    if name:
        written = f'CREATE TEMP TABLE "{name}" AS {written}'
    return connection.execute(written).rowcount


def _translated(statement: str, dialect: str) -> str:
    """As SQLite reads it; names of temporary tables in double quotes."""
    readable = statement.replace("ORA$PTT_", "ora_ptt_").replace("VARCHAR(MAX)", "VARCHAR(8000)")
    tree = sqlglot.parse_one(readable, read=dialect)
    for query in tree.find_all(exp.Select):
        has_from = bool(query.args.get("from_"))
        assert has_from or dialect != "oracle" or query is tree, f"no FROM: {query}"
        inner = isinstance(query.parent, exp.Subquery)
        ordered = query.args.get("order") and not query.args.get("limit")
        assert dialect != "tsql" or not (inner and ordered), f"an order in a subquery: {query}"
        if has_from and query.args["from_"].this.name == "DUAL":
            query.set("from_", None)  # SQLite selects from nothing
    for table in tree.find_all(sqlglot.exp.Table):
        if table.this.args.get("temporary"):
            table.this.set("temporary", False)
            table.this.set("this", f"#{table.name.lstrip('#')}")
            table.this.set("quoted", True)
    for column in tree.find_all(sqlglot.exp.Column):
        if column.table.startswith(("#", "yeldro_")) and "#" in statement:
            qualifier = column.args["table"]
            if re.fullmatch(r"#?yeldro_\d+_\d+", column.table):
                qualifier.set("this", f"#{column.table.lstrip('#')}")
                qualifier.set("temporary", False)
                qualifier.set("quoted", True)
    for identifier in tree.find_all(sqlglot.exp.Identifier):
        if identifier.name.startswith("ora_ptt_"):
            identifier.set("this", identifier.name.replace("ora_ptt_", "ORA$PTT_"))
            identifier.set("quoted", True)
    return tree.sql(dialect="sqlite")


def _without_comments(script: str) -> list[str]:
    lines = [line for line in script.splitlines() if not line.startswith("--")]
    return [part.strip() for part in re.split(r";\n", "\n".join(lines) + "\n") if part.strip()]


def _hold(holds: bool, statement: str) -> None:
    if not holds:
        raise Stopped(statement)
