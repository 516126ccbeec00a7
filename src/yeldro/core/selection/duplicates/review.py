"""Groups of duplicates row by row, for a person to decide which rows stay."""

from __future__ import annotations

from collections.abc import Iterator, Sequence
from contextlib import closing
from dataclasses import dataclass, replace
from typing import TYPE_CHECKING, Any

import sqlalchemy as sa

from yeldro.core.database import sql
from yeldro.core.model.messages.activity import announce
from yeldro.core.selection.duplicates.decisions import check_reviewable, key_hash
from yeldro.core.selection.duplicates.grouping import (
    Grouping,
    differing_places,
    find_grouping,
    row_order,
)
from yeldro.core.selection.duplicates.values import group_values, in_some_group

if TYPE_CHECKING:
    from yeldro.core.database.protocol import Session
    from yeldro.core.model.tables.schema import Table
    from yeldro.core.selection.asked import Selection

_AT_ONCE = 1000


@dataclass(frozen=True)
class ReviewedRow:
    """A row of a group.

    Args:
        group: the number of its group, from 1.
        first: the keep rules and the row key put it first.
        tied: the keep rules do not say which row of the group stays.
        differing: the columns whose values are not those of the group's first row.
        referencing: how many rows reference it, by foreign key, where any do.
        key, seen: SHA-256 hashes, in digits, of its key and of the whole row.
        values: its columns, in the order of the table.
    """

    group: int
    first: bool
    tied: bool
    differing: tuple[str, ...]
    referencing: dict[str, int]
    key: str
    seen: str
    values: tuple[Any, ...]

    @property
    def stays(self) -> bool | None:
        """What the keep rules decide; None if they leave it open."""
        return None if self.tied else self.first


@dataclass(frozen=True)
class WrittenReview:
    """A review that stands in a file.

    Args:
        tied: groups of which the keep rules leave it open which row stays.
    """

    table: Table
    by: tuple[str, ...]
    path: str
    groups: int = 0
    rows: int = 0
    tied: int = 0


@dataclass(frozen=True)
class Review:
    """The groups of a table, row by row.

    Args:
        by: the columns and expressions on which the rows of a group are equal.
        columns: the names of each row's values.
        rows: group by group, the first row of each foremost.
    """

    table: Table
    by: tuple[str, ...]
    columns: tuple[str, ...]
    rows: Iterator[ReviewedRow]


def review(session: Session, wanted: Selection) -> Review:
    """Return all groups of two rows and more, row by row, in flat memory.

    Args:
        wanted: the table, and how its rows are grouped, with names as typed.

    Raises:
        UsageError: a name does not exist.
        Refused: `wanted` names no table with a key.
    """
    table, grouping = find_grouping(session, wanted)
    check_reviewable(table)
    columns = tuple(table.by_name)
    return Review(table, grouping.written, columns, _rows(session, table, grouping, columns))


def _rows(
    session: Session, table: Table, grouping: Grouping, columns: Sequence[str]
) -> Iterator[ReviewedRow]:
    announce("comparing", table.name)
    links = session.catalogue.referencing(table.name)
    query = _query(session, table, grouping, columns)
    number = 0
    kept: ReviewedRow | None = None
    waits = False  # for the second row, which tells whether the keep rules prefer the first
    with closing(session.in_parts(query, _AT_ONCE)) as parts:
        for place, standing, key, seen, *rest in (row for part in parts for row in part):
            values = tuple(rest[len(links) :])
            counts = zip(links, rest, strict=False)
            row = ReviewedRow(
                group=number + (place == 1),
                first=place == 1,
                tied=kept is not None and kept.tied,
                differing=(),
                referencing={link.name: int(count) for link, count in counts if count},
                key=str(key),
                seen=str(seen),
                values=values,
            )
            if place == 1 or kept is None:
                kept, number, waits = replace(row, tied=False), number + 1, True
                continue
            if waits:
                kept, waits = replace(kept, tied=not grouping.keep or standing == 1), False
                yield kept
            differing = tuple(columns[n] for n in differing_places(values, kept.values))
            yield replace(row, tied=kept.tied, differing=differing)


def _query(
    session: Session, table: Table, grouping: Grouping, columns: Sequence[str]
) -> sa.Select[Any]:
    """Select every row of every group of two and more, with its place in it."""
    rows = sql.rows_of(table)
    values = group_values(session, table, rows, grouping.by, grouping.same)
    preferences, order = row_order(table, rows, grouping, session)
    standing: sa.ColumnElement[Any] = sa.literal(1)
    if preferences:
        standing = sa.func.rank().over(partition_by=values, order_by=preferences)
    inner = (
        sa.select(
            sa.func.dense_rank().over(order_by=values).label("yeldro_group"),
            sa.func.row_number().over(partition_by=values, order_by=order).label("yeldro_place"),
            standing.label("yeldro_standing"),
            sa.func.count().over(partition_by=values).label("yeldro_size"),
            *sql.columns_of(rows, columns),
        )
        .where(*in_some_group(rows, grouping.by, grouping.same))
        .subquery("yeldro_reviewed")
    )
    source: sa.FromClause = inner
    counts = []
    for n, key in enumerate(session.catalogue.referencing(table.name)):
        declared = session.catalogue.table(key.child)
        child = sql.rows_of(declared).alias(f"yeldro_child_{n}")
        referencing = (
            sa.select(*sql.columns_of(child, key.columns), sa.func.count().label("yeldro_number"))
            .where(*sql.in_parts(child, key.child_parts))
            .group_by(*sql.columns_of(child, key.columns))
            .subquery(f"yeldro_referencing_{n}")
        )
        pairs = zip(key.columns, key.referenced_columns, strict=True)
        same = [
            session.referencing_value(
                referencing.c[ours], declared.by_name[ours], table.by_name[theirs]
            )
            == inner.c[theirs]
            for ours, theirs in pairs
        ]
        source = source.outerjoin(referencing, sa.and_(*same))
        counts.append(sa.func.coalesce(referencing.c.yeldro_number, 0))
    wanted = (inner.c.yeldro_place, inner.c.yeldro_standing, key_hash(session, table, inner),
              session.contents_hash(table.stored_columns, inner))  # fmt: skip
    return (
        sa.select(*wanted, *counts, *sql.columns_of(inner, columns))
        .select_from(source)
        .where(inner.c.yeldro_size > 1)
        .order_by(inner.c.yeldro_group, inner.c.yeldro_place)
    )
