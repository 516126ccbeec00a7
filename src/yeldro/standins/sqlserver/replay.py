"""Every refusal of the stand-in, tried on a server: what is refused there, and by which number."""

from __future__ import annotations

from collections.abc import Iterator
from typing import Any

from yeldro.standins.sqlserver.refusals import REFUSALS

_TABLES = ("t", "u")
_LESS_SEVERE = 10  # and below: what is said, not an error


def replay(connection: Any) -> Iterator[str]:
    """Try both examples of each refusal in two tables of two numbers, which are taken back.

    Args:
        connection: of pymssql, to a database in which `t` and `u` do not exist.

    Yields:
        What differs from the stand-in, a line each.
    """
    cursor = connection.cursor()
    for refusal in REFUSALS:
        found = _number(connection, cursor, refusal.fails)
        if found != refusal.number:
            given = "it is taken" if found is None else f"the error is {found}"
            yield f"{refusal.number} ({refusal.section}): {given}: {refusal.fails}"
        found = _number(connection, cursor, refusal.passes)
        if found is not None:
            yield f"{refusal.number} ({refusal.section}): error {found}: {refusal.passes}"


def _number(connection: Any, cursor: Any, statement: str) -> int | None:
    """Return the number of the error of a statement, None if there is none."""
    import pymssql

    try:
        for name in _TABLES:
            cursor.execute(f"CREATE TABLE {name} (a int, b int)")
        cursor.execute(statement)
        if cursor.description:
            cursor.fetchall()
    except pymssql.Error as error:
        return int(error.args[0])
    finally:
        connection.rollback()
    return None
