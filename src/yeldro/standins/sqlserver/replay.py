"""Every refusal of the stand-in, tried on a server: what is refused there, and by which number."""

from __future__ import annotations

from collections.abc import Iterator, Sequence
from typing import Any

from yeldro.standins.sqlserver.refusals import REFUSALS

_LESS_SEVERE = 10  # and below: what is said, not an error


def replay(connection: Any) -> Iterator[str]:
    """Try both examples of each refusal; what is made for them is taken back.

    Args:
        connection: of pymssql, to a database in which `t`, `u`, `v` and `w` do not exist.

    Yields:
        What differs from the stand-in, a line each.
    """
    for refusal in REFUSALS:
        found = _number(connection, refusal.given, refusal.fails)
        if found != refusal.number:
            given = "it is taken" if found is None else f"the error is {found}"
            yield f"{refusal.number} ({refusal.section}): {given}: {refusal.fails}"
        found = _number(connection, refusal.given, refusal.passes)
        if found is not None:
            yield f"{refusal.number} ({refusal.section}): error {found}: {refusal.passes}"


def _number(connection: Any, given: Sequence[str], statement: str) -> int | None:
    """Return the number of the error of a statement, None if there is none."""
    import pymssql

    cursor = connection.cursor()
    try:
        for each in given:
            cursor.execute(each)
        cursor.execute(statement)
        if cursor.description:
            cursor.fetchall()
    except pymssql.Error as error:
        return int(error.args[0])
    finally:
        connection.rollback()
    return None
