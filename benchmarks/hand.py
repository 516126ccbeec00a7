"""The hand-written side as a process: statements in one transaction, each count checked.

Standard input is a JSON list: the system, the place of the database, and statements. A statement
that begins with SELECT gives the number of rows that the next one must affect. REPEAT before a
statement means: execute and commit it until it affects no row, and then compare the sum.
"""

from __future__ import annotations

import json
import sys
from typing import Any


def main() -> None:
    system, place, statements = json.load(sys.stdin)
    connection = connect(system, place)
    cursor = connection.cursor()
    expected = None
    for statement in statements:
        if statement.startswith("REPEAT "):
            affected = repeated(system, connection, cursor, statement.removeprefix("REPEAT "))
        else:
            cursor.execute(statement)
            affected = cursor.rowcount
        if statement.startswith("SELECT"):
            (expected,) = cursor.fetchone()
        elif expected is not None:
            if affected != expected:
                raise SystemExit(f"{affected} rows, not {expected}: {statement}")
            expected = None
    connection.commit()
    connection.close()


def repeated(system: str, connection: Any, cursor: Any, statement: str) -> int:
    """Execute and commit a statement until it affects no row; return the sum of the rows."""
    rows = 0
    while True:
        cursor.execute(statement)
        if cursor.rowcount <= 0:
            return rows
        rows += cursor.rowcount
        connection.commit()
        if system == "sqlite":
            cursor.execute("BEGIN IMMEDIATE")


def connect(system: str, place: str) -> Any:
    """Return a plain connection of the system's driver."""
    if system == "sqlite":
        import sqlite3

        connection = sqlite3.connect(place, isolation_level=None)
        connection.execute("BEGIN IMMEDIATE")
        return connection
    if system == "postgresql":
        import psycopg

        return psycopg.connect(place)
    import pymysql

    connection = pymysql.connect(read_default_file="~/.my.cnf", **json.loads(place))
    connection.cursor().execute("SET SESSION sql_mode = CONCAT(@@sql_mode, ',PIPES_AS_CONCAT')")
    return connection


if __name__ == "__main__":
    main()
