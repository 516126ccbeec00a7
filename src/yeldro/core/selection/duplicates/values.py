"""What rows of one group agree in, and when their values count as equal."""

from __future__ import annotations

import re
from collections.abc import Sequence
from typing import TYPE_CHECKING, Any

import sqlalchemy as sa

from yeldro.core.database import sql
from yeldro.core.database.compared import columns_read
from yeldro.core.model.messages.errors import UsageError
from yeldro.core.model.messages.names import counted
from yeldro.core.model.messages.options import Option

if TYPE_CHECKING:
    from yeldro.core.database.compared import Compared
    from yeldro.core.database.protocol import Session
    from yeldro.core.model.tables.equality import EqualityRules
    from yeldro.core.model.tables.schema import Column, Table

_MOST_COLUMNS = 1000
_INEXACT = re.compile(r"(float|real|double)", re.IGNORECASE)


def group_values(
    session: Session,
    table: Table,
    rows: sa.FromClause,
    by: Sequence[Compared],
    same: EqualityRules,
) -> list[sa.ColumnElement[Any]]:
    """Return what rows of one group agree in; `rows` is the table or holds columns of it.

    Raises:
        UsageError: a column's type has no equality.
    """
    if len(by) > _MOST_COLUMNS:
        raise UsageError(
            f"{len(by):,} columns are to be compared, and {_MOST_COLUMNS:,} is the most.",
            "Name the columns that mean something.",
        )
    values = []
    for each in by:
        value = each.value(rows)
        if each.column:
            column = table.by_name[each.column]
            value = session.grouped(_compared(session, column, value, same), column)
        values.append(value)
    return values


def shown_values(
    session: Session,
    table: Table,
    rows: sa.FromClause,
    by: Sequence[Compared],
    same: EqualityRules,
    grouped: Sequence[sa.ColumnElement[Any]],
) -> list[sa.ColumnElement[Any]]:
    """Return what people are shown of a group: what it is grouped by, or a value behind that.

    Args:
        rows: hold the columns that are read.
        grouped: the values by which the query groups.
    """
    shown = []
    for each, value in zip(by, grouped, strict=True):
        hashed = False
        if each.column:
            column = table.by_name[each.column]
            compared = _compared(session, column, rows.c[column.name], same)
            hashed = session.grouped(compared, column) is not compared
        shown.append(sa.func.min(compared) if hashed else value)
    return shown


def in_some_group(
    rows: sa.FromClause, by: Sequence[Compared], same: EqualityRules
) -> list[sql.Predicate]:
    """Return what must hold of a row so that it can have an equal one."""
    return [each.value(rows).is_not(None) for each in by] if same.null_distinct else []


def equal_on_null(
    session: Session, table: Table, by: Sequence[Compared], same: EqualityRules
) -> str:
    """Return a warning where rows are equal because both lack a value; empty where none are."""
    names = columns_read(by)
    if same.null_distinct or not any(table.by_name[name].nullable for name in names):
        return ""
    rows = sql.rows_of(table)
    lacking = sa.or_(*(each.value(rows).is_(None) for each in by))
    grouped = (
        sa.select(sa.func.count().label("yeldro_size"))
        .select_from(rows)
        .where(lacking)
        .group_by(*group_values(session, table, rows, by, same))
        .having(sa.func.count() > 1)
        .subquery()
    )
    groups, members = session.connection.execute(
        sa.select(sa.func.count(), sa.func.sum(grouped.c.yeldro_size))
    ).one()
    if not groups:
        return ""
    return (
        f"{counted(int(groups), 'group')} of {counted(int(members), 'row')} "
        f"{'is' if groups == 1 else 'are'} equal on NULL: a row that lacks a value counts as equal "
        f"to others that lack it, unless {Option('null_distinct')} is given."
    )


def inexact(table: Table, by: Sequence[Compared]) -> str:
    """Return a warning where floating-point numbers are compared, empty where none are."""
    columns = [each.column for each in by if each.column]
    names = [name for name in columns if _INEXACT.match(table.by_name[name].type)]
    if not names:
        return ""
    return (
        f"{', '.join(names)}: floating-point numbers are equal only to the last bit; values that "
        f"look alike may differ."
    )


def _compared(
    session: Session, column: Column, value: sa.ColumnElement[Any], same: EqualityRules
) -> sa.ColumnElement[Any]:
    if not session.is_comparable(column):
        if not same.as_text:
            raise UsageError(
                f"{column.name} is of type {column.type}, which {session.traits.name} cannot "
                f"compare.",
                "Compare its text with ‹as_text›.",
            )
        return sa.cast(value, sa.Text)
    if session.is_text(column):
        value = sa.func.trim(value) if same.trim else value
        value = session.without_case(value) if same.ignore_case else value
    return value


def largest_groups(
    session: Session,
    table: Table,
    by: Sequence[Compared],
    same: EqualityRules,
    going: sql.Predicate,
    most: int,
) -> tuple[tuple[Any, ...], ...]:
    """Return the groups of which the most rows go: what their rows agree in, and how many go.

    Args:
        going: true for the rows that go.
    """
    rows = sql.rows_of(table)
    values = [
        value.label(f"yeldro_{place}")
        for place, value in enumerate(group_values(session, table, rows, by, same))
    ]
    number = sa.func.count().label("yeldro_size")
    query = sa.select(*values, number).where(going).group_by(*values)
    largest = query.order_by(sa.desc(number), *values).limit(most)
    return tuple(tuple(row) for row in session.connection.execute(largest))
