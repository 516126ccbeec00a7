"""Rows that are equal on chosen columns, and the one of each group that is kept.

NULL counts as equal to NULL. The keep rules, in their order, and then the row identity give one
kept row for every group, always the same.
"""

from __future__ import annotations

from collections.abc import Iterator, Sequence
from dataclasses import dataclass, field
from itertools import groupby
from typing import TYPE_CHECKING, Any

import sqlalchemy as sa

from yeldro.core.database import sql
from yeldro.core.database.catalogue import find_columns, find_table
from yeldro.core.database.compared import Compared, columns_read
from yeldro.core.database.identity import COPIES, ROW_HASH, kept_columns, key_values
from yeldro.core.model.messages.activity import announce
from yeldro.core.model.messages.errors import Refused, UsageError
from yeldro.core.model.tables.equality import EqualityRules
from yeldro.core.model.tables.schema import IdentityKind, Table
from yeldro.core.selection.asked import KeepRule, Selection
from yeldro.core.selection.duplicates.compared import find_compared
from yeldro.core.selection.duplicates.prevention import prevention
from yeldro.core.selection.duplicates.values import (
    equal_on_null,
    group_values,
    in_some_group,
    inexact,
    shown_values,
)

if TYPE_CHECKING:
    from yeldro.core.database.facts import Prevention
    from yeldro.core.database.protocol import Session


@dataclass(frozen=True)
class DuplicateGroup:
    """One group: its number of rows, and the first of them, beginning with the kept one."""

    size: int
    rows: tuple[tuple[Any, ...], ...]

    @property
    def differing(self) -> tuple[frozenset[int], ...]:
        """For each of the rows, the places of the values that are not those of the kept row."""
        return tuple(frozenset(differing_places(row, self.rows[0])) for row in self.rows)


@dataclass(frozen=True)
class DuplicateReport:
    """The duplicates in a table.

    Args:
        by: the columns and expressions on which the rows of a group are equal.
        groups: groups of two rows or more.
        removable: rows that would go: all of every group but one.
        columns: names of the values in each sample row.
        sample: the largest groups.
        ties: groups in which the keep rules prefer no single row, so that row identity decides.
        tied: the values of one such group.
        prevention: what would have kept the duplicates out, None where nothing is known.
        warnings: as sentences.
    """

    table: Table
    by: tuple[str, ...]
    keep: tuple[KeepRule, ...]
    groups: int
    removable: int
    columns: tuple[str, ...]
    sample: tuple[DuplicateGroup, ...]
    ties: int
    tied: tuple[Any, ...] = ()
    prevention: Prevention | None = None
    warnings: tuple[str, ...] = ()


@dataclass(frozen=True)
class Grouping:
    """What rows are grouped by, when they count as equal, and which row of a group is kept.

    Args:
        stays: true for rows that were decided to stay, before any keep rule.
    """

    by: tuple[Compared, ...]
    keep: tuple[KeepRule, ...] = ()
    same: EqualityRules = field(default_factory=EqualityRules)
    stays: sql.Predicate | None = field(default=None, compare=False)

    @property
    def written(self) -> tuple[str, ...]:
        """What rows are grouped by, as people know it."""
        return tuple(each.written for each in self.by)

    @property
    def columns(self) -> tuple[str, ...]:
        """The columns by which groups are formed, each once."""
        return columns_read(self.by)


def differing_places(values: Sequence[Any], kept: Sequence[Any]) -> Iterator[int]:
    """Yield the places of the values that are not those of the kept row."""
    for place, (value, other) in enumerate(zip(values, kept, strict=True)):
        if (type(value), repr(value)) != (type(other), repr(other)):
            yield place


def find_grouping(session: Session, wanted: Selection) -> tuple[Table, Grouping]:
    """Return the table of a selection of duplicates, and how its rows are grouped.

    Raises:
        UsageError: a name does not exist, or an expression cannot be read.
        Refused: the selection does not name a table.
    """
    table = find_table(session.catalogue, wanted.table)
    if table.kind != "table":
        raise Refused(f"{table.name} is a {table.kind}, not a table.", "Name its table.")
    by = find_compared(session, table, wanted.duplicates_by, "‹by›")
    return table, Grouping(by, wanted.keep, wanted.same)


def surplus_rows(
    table: Table, rows: sa.TableClause, grouping: Grouping, session: Session
) -> sql.Predicate:
    """True if a row is a copy that is not kept: groups are formed over the whole table."""
    numbered = _numbered(table, grouping, session)
    surplus = sa.select(*sql.columns_of(numbered, table.identity.columns)).where(
        numbered.c.place > 1
    )
    return sql.among(sql.columns_of(rows, table.identity.columns), surplus.correlate(None))


def note_surplus(
    session: Session, table: Table, grouping: Grouping, keys: sa.TableClause, names: Sequence[str]
) -> None:
    """Put all rows that are not kept into a key table, with the key of the row kept for each.

    Args:
        keys: has the columns `names`, the key first among them, and those of the kept row's key.
    """
    rows = sql.rows_of(table)
    by_key = _kept_by_key(table, grouping)
    quickly = (
        by_key is not None
        and len(names) == 1
        and session.note_surplus(
            keys,
            table,
            group_values(session, table, rows, grouping.by, grouping.same),
            in_some_group(rows, grouping.by, grouping.same),
            by_key == "highest",
        )
    )
    if not quickly:
        wanted = [*names, *(column.name for column in kept_columns(table))]
        surplus = _surplus_with_kept(session, table, grouping, names)
        session.connection.execute(
            sa.insert(keys).from_select(sql.columns_of(keys, wanted), surplus)
        )
    session.key_table_filled(keys)


def _kept_by_key(table: Table, grouping: Grouping) -> str | None:
    """Return `lowest` or `highest` if a key of one column alone decides which row is kept."""
    if len(table.identity.columns) > 1 or grouping.stays is not None:
        return None
    if not grouping.keep:
        return "lowest"
    first = grouping.keep[0]
    if first.kind not in ("lowest", "highest"):
        return None
    decides = find_columns(table, [first.argument], f"‹keep› {first.kind}")
    return first.kind if decides == table.identity.columns else None


def _surplus_with_kept(
    session: Session, table: Table, grouping: Grouping, names: Sequence[str]
) -> sa.Select[Any]:
    """Select `names` of all rows that are not kept, with the key of the row kept for each.

    The key is first among `names`. This takes one window function less than numbering the rows,
    and gives them in key order, in which an index takes rows fastest.
    """
    rows = sql.rows_of(table)
    window = _window(table, rows, grouping, session)
    listed = [rows.c[name].label(f"yeldro_own_{n}") for n, name in enumerate(names)]
    kept = [
        sa.func.first_value(rows.c[name]).over(**window).label(f"yeldro_kept_{n}")
        for n, name in enumerate(table.identity.columns)
    ]
    query = sa.select(*listed, *kept).where(*in_some_group(rows, grouping.by, grouping.same))
    grouped = query.subquery("yeldro_grouped")
    wanted = [grouped.c[value.name] for value in (*listed, *kept)]
    others = (
        grouped.c[own.name] != grouped.c[stays.name]
        for own, stays in zip(listed, kept, strict=False)
    )
    by_key = (grouped.c[own.name] for own, _ in zip(listed, kept, strict=False))
    return sa.select(*wanted).where(sa.or_(*others)).order_by(*by_key)


def surplus_copies(table: Table, grouping: Grouping, session: Session) -> sa.Subquery:
    """Return how many rows of each row hash are not kept, in a table without a row key."""
    numbered = _numbered(table, grouping, session)
    return count_copies(sa.select(numbered.c[ROW_HASH.name]).where(numbered.c.place > 1))


def count_copies(hashes: sa.Select[Any]) -> sa.Subquery:
    """Return the row hashes of a query, each with the number of its rows."""
    listed = hashes.subquery("yeldro_hashes")
    row_hash = listed.c[ROW_HASH.name]
    query = sa.select(row_hash, sa.func.count().label(COPIES.name)).group_by(row_hash)
    return query.subquery("yeldro_going")


def find_duplicates(
    session: Session,
    wanted: Selection,
    most_groups: int,
    most_rows: int = 20,
    show: Sequence[str] = (),
) -> DuplicateReport:
    """Find groups of rows of a table that are equal on chosen columns.

    Args:
        wanted: the table, and how its rows are grouped, with names as typed.
        most_groups: how many of the largest groups to return row by row.
        most_rows: how many rows of each of them to return, at least 1.
        show: the columns to return, with names as typed; all where it is empty.

    Raises:
        UsageError: a name does not exist, or a column's type has no equality.
        Refused: `wanted` does not name a table.
    """
    table, grouping = find_grouping(session, wanted)
    by = grouping.by
    rows = sql.rows_of(table)
    values = [each.label(f"yeldro_{place}") for place, each in enumerate(
        group_values(session, table, rows, by, grouping.same))]  # fmt: skip
    grouped = (
        sa.select(*values, sa.func.count().label("yeldro_size"))
        .where(*in_some_group(rows, by, grouping.same))
        .group_by(*values)
        .having(sa.func.count() > 1)
    )
    totals = grouped.subquery()
    announce("comparing", table.name)
    groups, members = session.connection.execute(
        sa.select(sa.func.count(), sa.func.coalesce(sa.func.sum(totals.c.yeldro_size), 0))
    ).one()
    groups, members = int(groups), int(members)
    identity = () if table.identity.kind is IdentityKind.ALL_COLUMNS else table.identity.columns
    columns = tuple(dict.fromkeys((*identity, *table.by_name)))
    if show:
        columns = find_columns(table, show, "‹show›")
    announce("reading groups of", table.name)
    largest_first = sa.select(totals).order_by(*_largest_first(totals, values))
    largest = largest_first.limit(most_groups).subquery("yeldro_largest")
    nth = sa.func.row_number().over(order_by=_largest_first(largest, values))
    ranked = sa.select(largest, nth.label("yeldro_nth")).subquery("yeldro_ranked")
    same = (value.element.is_not_distinct_from(ranked.c[value.name]) for value in values)
    place = sa.func.row_number().over(**_window(table, rows, grouping, session))
    members_of = (
        sa.select(ranked.c.yeldro_nth, ranked.c.yeldro_size, place.label("yeldro_place"),
                  *sql.columns_of(rows, columns))
        .select_from(rows.join(ranked, sa.and_(*same)))
        .where(*in_some_group(rows, by, grouping.same))
        .subquery("yeldro_members")
    )  # fmt: skip
    number = members_of.c.yeldro_nth
    query = (
        sa.select(number, members_of.c.yeldro_size, *sql.columns_of(members_of, columns))
        .where(members_of.c.yeldro_place <= most_rows)
        .order_by(number, members_of.c.yeldro_place)
    )
    found = groupby(session.connection.execute(query), lambda row: (row[0], row[1]))
    sample = [
        DuplicateGroup(int(size), tuple(tuple(row)[2:] for row in listed))
        for (_, size), listed in found
    ]
    ties, tied = _ties(table, grouping, session) if grouping.keep else (groups, ())
    warnings = (inexact(table, by), equal_on_null(session, table, by, grouping.same))
    return DuplicateReport(
        table=table,
        by=grouping.written,
        keep=grouping.keep,
        groups=groups,
        removable=members - groups,
        columns=columns,
        sample=tuple(sample),
        ties=ties,
        tied=tied,
        prevention=prevention(session, table, grouping.by, grouping.same),
        warnings=tuple(filter(None, warnings)),
    )


def _largest_first(
    groups: sa.Subquery, values: Sequence[sa.Label[Any]]
) -> list[sa.ColumnElement[Any]]:
    """Return what groups are ordered by: their size, then what their rows agree in."""
    return [groups.c.yeldro_size.desc(), *(groups.c[value.name] for value in values)]


def _numbered(table: Table, grouping: Grouping, session: Session) -> sa.Subquery:
    """Select every row that can be in a group, with its `place` in it; the kept row's is 1."""
    rows = sql.rows_of(table)
    wanted = sql.columns_of(rows, table.identity.columns)
    if table.identity.kind is IdentityKind.ALL_COLUMNS:
        wanted.append(session.row_hash(table, rows).label(ROW_HASH.name))
    place = sa.func.row_number().over(**_window(table, rows, grouping, session))
    query = sa.select(*wanted, place.label("place"))
    return query.where(*in_some_group(rows, grouping.by, grouping.same)).subquery("yeldro_numbered")


def kept_rows(
    table: Table, rows: sa.TableClause, grouping: Grouping, session: Session
) -> sql.Predicate:
    """True for the row that is kept of every group of two rows and more."""
    window = _window(table, rows, grouping, session)
    size = sa.func.count().over(partition_by=window["partition_by"]).label("yeldro_size")
    place = sa.func.row_number().over(**window).label("yeldro_place")
    identity = key_values(session, table, rows)
    named = [value.label(f"yeldro_{n}") for n, value in enumerate(identity)]
    numbered = (
        sa.select(*named, size, place)
        .where(*in_some_group(rows, grouping.by, grouping.same))
        .subquery("yeldro_sized")
    )
    kept = sa.select(*(numbered.c[value.name] for value in named)).where(
        numbered.c.yeldro_place == 1, numbered.c.yeldro_size > 1
    )
    return sql.among(identity, kept.correlate(None))


def kept_values(
    session: Session,
    table: Table,
    grouping: Grouping,
    columns: Sequence[str],
    removed: sql.Predicate,
) -> tuple[list[sa.ColumnElement[Any]], list[sa.ColumnElement[Any]]]:
    """Return the values of `columns` of removed rows, and those of the row kept for each.

    Args:
        removed: true for rows of the table that are removed.
    """
    going = _beside_kept(session, table, grouping, columns, removed)
    places = range(len(columns))
    return (
        [going.c[f"yeldro_old_{n}"] for n in places],
        [going.c[f"yeldro_new_{n}"] for n in places],
    )


def kept_of_removed(
    session: Session, table: Table, grouping: Grouping, removed: sql.Predicate
) -> sa.Select[Any]:
    """Select the key of each removed row, that of the row kept for it, and its place in the group.

    Args:
        removed: true for rows of the table that are removed.
    """
    going = _beside_kept(session, table, grouping, table.identity.columns, removed)
    places = range(len(table.identity.columns))
    own = [going.c[f"yeldro_old_{n}"] for n in places]
    kept = [going.c[f"yeldro_new_{n}"] for n in places]
    return sa.select(*own, *kept, going.c.yeldro_place).where(going.c.yeldro_place > 1)


def _beside_kept(
    session: Session,
    table: Table,
    grouping: Grouping,
    columns: Sequence[str],
    removed: sql.Predicate,
) -> sa.Subquery:
    """Select `columns` of removed rows, as `yeldro_old_0` and so on; of the rows kept, as new."""
    rows = sql.rows_of(table)
    window = _window(table, rows, grouping, session)
    own = [rows.c[name].label(f"yeldro_old_{n}") for n, name in enumerate(columns)]
    kept = [
        sa.func.first_value(rows.c[name]).over(**window).label(f"yeldro_new_{n}")
        for n, name in enumerate(columns)
    ]
    place = sa.func.row_number().over(**window).label("yeldro_place")
    goes = sa.case((removed, 1), else_=0).label("yeldro_goes")
    listed = sa.select(*own, *kept, place, goes)
    listing = listed.where(*in_some_group(rows, grouping.by, grouping.same)).subquery("yeldro_kept")
    return sa.select(listing).where(listing.c.yeldro_goes == 1).subquery("yeldro_replaced")


def _window(
    table: Table, rows: sa.TableClause, grouping: Grouping, session: Session
) -> dict[str, Any]:
    """Return what groups the rows, and the order of each group's rows, the kept one first."""
    by = group_values(session, table, rows, grouping.by, grouping.same)
    return {"partition_by": by, "order_by": row_order(table, rows, grouping, session)[1]}


def row_order(
    table: Table, rows: sa.TableClause, grouping: Grouping, session: Session
) -> tuple[list[sa.ColumnElement[Any]], list[sa.ColumnElement[Any]]]:
    """Return what the keep rules order by, and the order that the row key makes whole."""
    preferences = _preferences(table, rows, grouping.keep, session)
    if grouping.stays is not None:
        preferences.insert(0, sa.case((grouping.stays, 0), else_=1))
    settled = {rule.argument for rule in grouping.keep if rule.kind in ("lowest", "highest")}
    order = preferences + [rows.c[name] for name in table.identity.columns if name not in settled]
    if table.identity.kind is IdentityKind.ALL_COLUMNS:
        order.append(session.row_hash(table, rows))
    return preferences, order


def _preferences(
    table: Table, rows: sa.TableClause, keep: Sequence[KeepRule], session: Session
) -> list[sa.ColumnElement[Any]]:
    """Return the keep rules as an ORDER BY with the preferred row first and NULL always last."""
    order: list[sa.ColumnElement[Any]] = []
    for rule in keep:
        if rule.kind == "fullest":
            filled = [
                sa.case((sa.or_(column.is_(None), sa.cast(column, sa.Text) == ""), 0), else_=1)
                for column in sql.columns_of(rows, [each.name for each in table.columns])
            ]
            order.append(sum(filled[1:], start=filled[0]).desc())
        elif rule.kind == "referenced":
            order.append(sa.case((_is_referenced(table, rows, session), 0), else_=1))
        elif rule.kind == "order":
            from yeldro.core.selection.conditions.expressions import parse_order

            items = parse_order(rule.argument, table, session)
            order += [sa.literal_column(item) for item in items]
        else:
            (name,) = find_columns(table, [rule.argument], f"‹keep› {rule.kind}")
            column = rows.c[name]
            session.check_order(sql.rows_of(table), column)
            if table.by_name[name].nullable:
                order.append(sa.case((column.is_(None), 1), else_=0))
            order.append(column.asc() if rule.kind == "lowest" else column.desc())
    return order


def _is_referenced(table: Table, rows: sa.TableClause, session: Session) -> sql.Predicate:
    """True if any row of any table references a row."""
    references = []
    for key in session.catalogue.referencing(table.name):
        child = session.catalogue.table(key.child)
        children = sql.rows_of(child).alias("yeldro_child")
        pairs = zip(key.columns, key.referenced_columns, strict=True)
        same: list[sql.Predicate] = [
            session.referencing_value(children.c[ours], child.by_name[ours], table.by_name[theirs])
            == rows.c[theirs]
            for ours, theirs in pairs
        ]
        same += sql.in_parts(children, key.child_parts) + sql.in_parts(rows, key.parent_parts)
        references.append(sa.exists(sa.select(sa.literal(1)).where(*same).correlate(rows)))
    if not references:
        raise UsageError(
            f"‹keep› referenced: no foreign key references {table.name}.", "Drop the rule."
        )
    return sa.or_(*references)


def _ties(table: Table, grouping: Grouping, session: Session) -> tuple[int, tuple[Any, ...]]:
    """Return how many groups have several first rows by the keep rules alone, and one of them."""
    rows = sql.rows_of(table)
    values = group_values(session, table, rows, grouping.by, grouping.same)
    rank = sa.func.rank().over(
        partition_by=values, order_by=_preferences(table, rows, grouping.keep, session)
    )
    named = [value.label(f"yeldro_{place}") for place, value in enumerate(values)]
    ranked = sa.select(
        *named, *sql.columns_of(rows, grouping.columns), rank.label("yeldro_standing")
    )
    ranking = ranked.where(*in_some_group(rows, grouping.by, grouping.same)).subquery()
    shared = [ranking.c[f"yeldro_{place}"] for place in range(len(values))]
    tied = (
        sa.select(*shared)
        .where(ranking.c.yeldro_standing == 1)
        .group_by(*shared)
        .having(sa.func.count() > 1)
    )
    number = sql.count(session.connection, tied.subquery())
    if not number:
        return 0, ()
    told = shown_values(session, table, ranking, grouping.by, grouping.same, shared)
    query = tied.add_columns(*told).order_by(*shared).limit(1)
    return number, tuple(session.connection.execute(query).one())[len(values) :]
