"""Rows that are equal on chosen columns, and the one of each group that is kept.

NULL counts as equal to NULL. The keep rules, in their order, and then the row identity give one
kept row for every group, always the same.
"""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass
from typing import Any

import sqlalchemy as sa

from yeldro.core import sql
from yeldro.core.catalogue import find_columns, find_table
from yeldro.core.errors import Refused, UsageError
from yeldro.core.expression import parse_order
from yeldro.core.identity import COPIES, PRINT
from yeldro.core.protocol import Session
from yeldro.core.schema import IdentityKind, Table

KEEP_RULES = ("lowest:COLUMN", "highest:COLUMN", "fullest", "order:LIST")


@dataclass(frozen=True)
class KeepRule:
    """What makes a row the one to keep: `lowest:COL`, `highest:COL`, `fullest`, `order:LIST`."""

    kind: str
    argument: str = ""

    @classmethod
    def parse(cls, text: str) -> KeepRule:
        """Reads one rule.

        Raises:
            UsageError: it is none of the known rules.
        """
        kind, colon, argument = text.partition(":")
        wants_argument = kind in ("lowest", "highest", "order")
        if kind not in ("lowest", "highest", "fullest", "order") or wants_argument != bool(
            argument
        ):
            raise UsageError(
                f"--keep {text!r} is not a rule.", f"The rules are {', '.join(KEEP_RULES)}."
            )
        return cls(kind, argument if colon else "")

    def __str__(self) -> str:
        return f"{self.kind}:{self.argument}" if self.argument else self.kind


@dataclass(frozen=True)
class DuplicateGroup:
    """One group: the values its rows share, and the rows, the kept one first."""

    values: tuple[Any, ...]
    size: int
    rows: tuple[tuple[Any, ...], ...]


@dataclass(frozen=True)
class DuplicateReport:
    """What repeats in a table.

    Args:
        by: columns on which the rows of a group are equal.
        groups: groups of two rows or more.
        removable: rows that would go: all of every group but one.
        columns: names of the values in each sample row.
        sample: the largest groups.
        ties: groups in which the keep rules prefer no single row, so that row identity decides.
    """

    table: Table
    by: tuple[str, ...]
    keep: tuple[KeepRule, ...]
    groups: int
    removable: int
    columns: tuple[str, ...]
    sample: tuple[DuplicateGroup, ...]
    ties: int


def surplus_rows(
    table: Table,
    rows: sa.TableClause,
    by: Sequence[str],
    keep: Sequence[KeepRule],
    session: Session,
) -> sql.Predicate:
    """Whether a row is a copy that is not kept: groups are formed over the whole table."""
    numbered = _numbered(table, by, keep, session)
    surplus = sa.select(*sql.columns_of(numbered, table.identity.columns)).where(
        numbered.c.place > 1
    )
    return sql.among(sql.columns_of(rows, table.identity.columns), surplus.correlate(None))


def surplus_copies(
    table: Table, by: Sequence[str], keep: Sequence[KeepRule], session: Session
) -> sa.Subquery:
    """For rows that only their contents tell apart: how many of each print are not kept."""
    numbered = _numbered(table, by, keep, session)
    return count_copies(sa.select(numbered.c[PRINT.name]).where(numbered.c.place > 1))


def count_copies(prints: sa.Select[Any]) -> sa.Subquery:
    """The prints of a query, each with the number of its rows."""
    listed = prints.subquery("yeldro_prints")
    printed = listed.c[PRINT.name]
    query = sa.select(printed, sa.func.count().label(COPIES.name)).group_by(printed)
    return query.subquery("yeldro_going")


def find_duplicates(
    session: Session, typed: str, by: Sequence[str], keep: Sequence[KeepRule], most_groups: int
) -> DuplicateReport:
    """Groups of rows of the table `typed` that are equal on the columns `by`.

    Args:
        most_groups: how many of the largest groups to return row by row.

    Raises:
        UsageError: a name does not exist.
        Refused: what is named is no table.
    """
    table = find_table(session.catalogue, typed)
    if table.kind != "table":
        raise Refused(f"{table.name} is a {table.kind}, not a table.", "Name its table.")
    by = find_columns(table, by, "--by")
    rows = sql.rows_of(table)
    grouped = (
        sa.select(*sql.columns_of(rows, by), sa.func.count().label("size"))
        .group_by(*sql.columns_of(rows, by))
        .having(sa.func.count() > 1)
    )
    totals = grouped.subquery()
    groups, members = session.connection.execute(
        sa.select(sa.func.count(), sa.func.coalesce(sa.func.sum(totals.c.size), 0))
    ).one()
    groups, members = int(groups), int(members)
    largest = session.connection.execute(
        grouped.order_by(sa.desc("size"), *sql.columns_of(rows, by)).limit(most_groups)
    ).all()
    identity = () if table.identity.kind is IdentityKind.ALL_COLUMNS else table.identity.columns
    shown = tuple(dict.fromkeys((*identity, *table.by_name)))
    numbered = _numbered(table, by, keep, session, shown)
    sample = []
    for *values, size in largest:
        same = (
            numbered.c[name].is_not_distinct_from(v) for name, v in zip(by, values, strict=True)
        )
        query = sa.select(*sql.columns_of(numbered, shown)).where(*same)
        members_of = session.connection.execute(query.order_by(numbered.c.place).limit(20)).all()
        sample.append(DuplicateGroup(tuple(values), size, tuple(tuple(row) for row in members_of)))
    return DuplicateReport(
        table=table,
        by=by,
        keep=tuple(keep),
        groups=groups,
        removable=members - groups,
        columns=shown,
        sample=tuple(sample),
        ties=_count_ties(table, by, keep, session) if keep else groups,
    )


def _numbered(
    table: Table,
    by: Sequence[str],
    keep: Sequence[KeepRule],
    session: Session,
    columns: Sequence[str] | None = None,
) -> sa.Subquery:
    """Every row of the table with its `place` in its group; the kept row's place is 1."""
    rows = sql.rows_of(table)
    identity = sql.columns_of(rows, table.identity.columns)
    wanted = sql.columns_of(rows, columns or table.identity.columns)
    if table.identity.kind is IdentityKind.ALL_COLUMNS:
        contents = session.contents_print(table, rows)
        identity.append(contents)
        wanted.append(contents.label(PRINT.name))
    place = sa.func.row_number().over(
        partition_by=sql.columns_of(rows, by),
        order_by=[*_preferences(table, rows, keep, session), *identity],
    )
    return sa.select(*wanted, place.label("place")).subquery("yeldro_numbered")


def _preferences(
    table: Table, rows: sa.TableClause, keep: Sequence[KeepRule], session: Session
) -> list[sa.ColumnElement[Any]]:
    """The keep rules as an order in which the preferred row comes first; NULL always comes last."""
    order: list[sa.ColumnElement[Any]] = []
    for rule in keep:
        if rule.kind == "fullest":
            filled = [
                sa.case((sa.or_(column.is_(None), sa.cast(column, sa.Text) == ""), 0), else_=1)
                for column in sql.columns_of(rows, [each.name for each in table.columns])
            ]
            order.append(sum(filled[1:], start=filled[0]).desc())
        elif rule.kind == "order":
            items = parse_order(rule.argument, table, session)
            order += [sa.literal_column(item) for item in items]
        else:
            (name,) = find_columns(table, [rule.argument], f"--keep {rule.kind}")
            column = rows.c[name]
            order.append(sa.case((column.is_(None), 1), else_=0))
            order.append(column.asc() if rule.kind == "lowest" else column.desc())
    return order


def _count_ties(table: Table, by: Sequence[str], keep: Sequence[KeepRule], session: Session) -> int:
    """Groups in which more than one row comes first by the keep rules alone."""
    rows = sql.rows_of(table)
    rank = sa.func.rank().over(
        partition_by=sql.columns_of(rows, by), order_by=_preferences(table, rows, keep, session)
    )
    ranked = sa.select(*sql.columns_of(rows, by), rank.label("standing")).subquery("yeldro_ranked")
    tied = (
        sa.select(sa.literal(1).label("one"))
        .where(ranked.c.standing == 1)
        .group_by(*sql.columns_of(ranked, by))
        .having(sa.func.count() > 1)
        .subquery()
    )
    return sql.count(session.connection, tied)
