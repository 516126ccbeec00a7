"""The hand-written side as a process: statements in one transaction, each count checked.

Standard input is a JSON list: the system, the place of the database, and statements. A statement
that begins with SELECT gives the number of rows that the next one must affect.
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
        cursor.execute(statement)
        if statement.startswith("SELECT"):
            (expected,) = cursor.fetchone()
        elif expected is not None:
            if cursor.rowcount != expected:
                raise SystemExit(f"{cursor.rowcount} rows, not {expected}: {statement}")
            expected = None
    connection.commit()
    connection.close()


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
