"""Finding what rows of a group agree in: columns and expressions, by what people type."""

from __future__ import annotations

import re
from collections.abc import Sequence
from typing import TYPE_CHECKING

import sqlalchemy as sa

from yeldro.core.database import sql
from yeldro.core.database.catalogue import find_columns
from yeldro.core.database.compared import Compared, of_columns
from yeldro.core.model.messages.errors import UsageError
from yeldro.core.model.messages.names import same_name, suggestion

if TYPE_CHECKING:
    from yeldro.core.database.protocol import Session
    from yeldro.core.model.tables.schema import Table

_A_NAME = re.compile(r'[\w$."]+')


def find_compared(
    session: Session, table: Table, typed: Sequence[str], option: str
) -> tuple[Compared, ...]:
    """Return what `typed` says of a table: names of columns, and expressions over columns.

    Raises:
        UsageError: a column does not exist, an expression cannot be read or gives no value that
            can be compared, or something is named twice.
    """
    found: list[Compared] = []
    for text in typed:
        if not text.strip():
            raise UsageError(
                f"{option} holds a part that is empty.",
                "Write a column or an expression between two commas.",
            )
        if same_name(text, table.by_name) or _A_NAME.fullmatch(text):
            each = of_columns(find_columns(table, [text], option))[0]
        else:
            each = _expression(session, table, text, option)
        if any((each.columns, each.pieces) == (other.columns, other.pieces) for other in found):
            raise UsageError(f"{option} names {each.written!r} twice.", "Name each one once.")
        found.append(each)
    if not found:
        raise UsageError(f"{option} names no column.", suggestion("", table.by_name))
    return tuple(found)


def _expression(session: Session, table: Table, text: str, option: str) -> Compared:
    from yeldro.core.selection.conditions.expressions import parse_expression

    parsed = parse_expression(text, table, session, option)
    found = Compared(parsed.written, parsed.columns, parsed.pieces)
    rows = sql.rows_of(table)
    value = found.value(rows)
    # A WHERE takes no aggregate, and no function that gives several rows; GROUP BY would.
    query = sa.select(sa.literal(1)).where(value.is_(None)).group_by(value).limit(0)
    try:
        session.connection.execute(query.select_from(rows))
    except sa.exc.DBAPIError as error:
        if session.was_stopped(error) or error.connection_invalidated:
            raise
        raise UsageError(
            f"{option}: the database cannot compare rows by {text!r}: {session.reason(error)}.",
            "Write an expression that gives one value for each row.",
        ) from error
    session.check_order(rows, value)
    return found
