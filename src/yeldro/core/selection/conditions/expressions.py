"""Orders and expressions that a user writes: what rows are ordered by, or compared by."""

from __future__ import annotations

import re
from dataclasses import dataclass
from typing import TYPE_CHECKING

import sqlalchemy as sa
from sqlglot import exp
from sqlglot.errors import SqlglotError

from yeldro.core.database.sql import rows_of
from yeldro.core.model.messages.errors import UsageError
from yeldro.core.model.messages.names import same_name, suggestion
from yeldro.core.selection.conditions.filters import (
    bindable,
    check_names,
    parse_one,
    refuse_other_readings,
    refuse_writing,
    unreadable,
)
from yeldro.core.selection.conditions.parsing import parse

if TYPE_CHECKING:
    from yeldro.core.database.protocol import Session
    from yeldro.core.model.tables.schema import Table

_CLOCK = (exp.CurrentDate, exp.CurrentTime, exp.CurrentTimestamp, exp.CurrentDatetime)
_A_CALL = re.compile(r"\w+\(.*\)", re.DOTALL)
_RELATIVE_DAYS = {"today", "tomorrow", "yesterday"}  # PostgreSQL reads them when it casts them
_NOW_ALONE = {"subsec", "subsecond"}  # without a time SQLite takes them for the time now
_OF_THE_MOMENT = {
    "sysdate", "utc_date", "utc_time", "utc_timestamp", "curtime", "localtime", "localtimestamp",
    "last_insert_id", "random_bytes", "randomblob", "current_setting",
}  # fmt: skip


@dataclass(frozen=True)
class Expression:
    """A checked expression over the columns of one table.

    Args:
        written: as the user wrote it.
        columns: the columns that it reads, in the order in which it reads them.
        pieces: the SQL around those columns, one piece more than there are columns.
    """

    written: str
    columns: tuple[str, ...]
    pieces: tuple[str, ...]


def parse_expression(text: str, table: Table, session: Session, option: str) -> Expression:
    """Read an expression that gives one row the same value whenever it is asked for.

    Raises:
        UsageError: it is not exactly one expression over columns of the table, uses an unknown
            name, reads the clock or other rows, or calls a function that could write.
    """
    dialect = session.traits.sql_dialect
    tree = parse_one(text, dialect, option)
    if isinstance(tree.unnest(), exp.Query | exp.Alias | exp.Ordered | exp.Star):
        raise UsageError(
            f"{option} {text!r} is not an expression.", 'Write it as "lower(trim(mail))".'
        )
    refuse_writing(tree, session)
    for inner in tree.find_all(exp.Query, exp.Window):
        raise UsageError(
            f"{option} {text!r} reads other rows: {inner.sql(dialect=dialect)}.",
            "Compare columns of the row itself.",
        )
    for parameter in tree.find_all(exp.Placeholder):
        raise UsageError(
            f"{option} {text!r} holds the parameter :{parameter.name}.", "Write its value."
        )
    if _may_change(tree):
        raise UsageError(
            f"{option} {text!r} depends on when it is read, or on who reads it.",
            "Use columns, values and functions of columns.",
        )
    if not check_names(tree, table, session, text):
        raise UsageError(
            f"{option} {text!r} names no column of {table.name}, so all rows would be equal.",
            suggestion(text, table.by_name),
        )
    columns: list[str] = []

    def marked(node: exp.Expr) -> exp.Expr:
        if not isinstance(node, exp.Column):
            return node
        name = same_name(node.name, table.by_name)
        if name is None:
            raise UsageError(
                f"{option} {text!r} reads {node.name}, which is no column of {table.name}.",
                suggestion(node.name, table.by_name),
            )
        columns.append(name)
        return exp.Var(this=f"\0{len(columns) - 1}\0")

    written = tree.transform(marked).sql(dialect=dialect, comments=False)
    operator = isinstance(tree, exp.Connector | exp.Binary | exp.Predicate)
    call = isinstance(tree, exp.Func) and not operator and _A_CALL.fullmatch(written)
    parts = re.split("\0(\\d+)\0", written if call else f"({written})")
    read = tuple(columns[int(place)] for place in parts[1::2])
    return Expression(text.strip(), read, tuple(parts[::2]))


def _may_change(tree: exp.Expr) -> bool:
    """True if an expression may give the same row another value later, or to another user."""
    if tree.find(*_CLOCK):
        return True
    for text in tree.find_all(exp.Literal):
        if text.is_string and text.name.strip().lower() == "now":
            return True
        if text.name.lower() in _NOW_ALONE and not (text.parent and text.parent.find(exp.Column)):
            return True
        if isinstance(text.parent, exp.Cast) and text.name.strip().lower() in _RELATIVE_DAYS:
            return True
    for call in tree.find_all(exp.Func):
        arguments = list(call.iter_expressions())
        name = call.name.lower() if isinstance(call, exp.Anonymous) else call.sql_name().lower()
        if not arguments or (name == "age" and len(arguments) == 1):
            return True
        if name in _OF_THE_MOMENT:
            return True
    return False


def parse_order(text: str, table: Table, session: Session) -> list[str]:
    """Read a list of columns or expressions with ASC or DESC, as ORDER BY takes it.

    Returns:
        Each item as SQL.

    Raises:
        UsageError: it cannot be read, or uses an unknown name.
        Refused: the system cannot put all rows of the table in that order.
    """
    try:
        refuse_other_readings(text, "the order", session.traits.sql_dialect)
        query = parse(f"SELECT 1 ORDER BY {text}", session.traits.sql_dialect)
        order = query[0].args.get("order") if len(query) == 1 and query[0] else None
    except SqlglotError as error:
        raise unreadable(text, "the order", error) from error
    others = {key for key, value in (query[0].args if query[0] else {}).items() if value}
    if not isinstance(order, exp.Order) or others - {"expressions", "order"}:
        raise UsageError(
            f"The order {text!r} is not a list of columns.", 'Write it as "taken_at DESC, id".'
        )
    items = []
    for item in order.expressions:
        refuse_writing(item, session)
        if not check_names(item, table, session):
            raise UsageError(
                f"The order {text!r} holds {item.sql()!r}, which names no column of {table.name}.",
                suggestion(item.sql(), table.by_name),
            )
        sql, parameters = bindable(item, session.traits.sql_dialect)
        if parameters:
            raise UsageError(f"The order {text!r} holds a parameter.", "Write columns only.")
        value, _ = bindable(item.this, session.traits.sql_dialect)
        session.check_order(rows_of(table), sa.literal_column(value))
        items.append(sql)
    return items
