"""Proofs: what is verified after the last step and before the commit."""

from __future__ import annotations

from collections.abc import Iterator
from typing import TYPE_CHECKING, Any

import sqlalchemy as sa

from yeldro.core.database import sql
from yeldro.core.database.identity import kept_columns
from yeldro.core.database.references import without_parent
from yeldro.core.model.messages.activity import announce
from yeldro.core.model.messages.errors import CountMismatch, Fault
from yeldro.core.planning.following.row_sets import depends_on
from yeldro.core.planning.plan import Prepared
from yeldro.core.selection.duplicates.values import group_values, in_some_group

if TYPE_CHECKING:
    from yeldro.core.database.protocol import Session
    from yeldro.core.model.work.counts import Ledger
    from yeldro.core.planning.following.treatment import Link


def prove_no_dangling_references(session: Session, prepared: Prepared) -> None:
    """Prove that no row left references a row that is gone.

    Raises:
        CountMismatch: some do, so a trigger added or changed rows.
    """
    for link, query in dangling_references(session, prepared):
        announce("proving that no row lost its parent in", link.key.child)
        dangling = session.connection.execute(query).scalar_one()
        if dangling:
            child = link.key.child
            raise CountMismatch(
                f"{dangling:,} rows of {child} would be left without their parent rows "
                f"({link.key}).",
                f"Look at the triggers with ⟨survey {child}⟩.",
            )


def dangling_references(
    session: Session, prepared: Prepared
) -> Iterator[tuple[Link, sa.Select[Any]]]:
    """Yield, for each foreign key in reach, the number of rows whose parent is gone."""
    moved = prepared.ripple.moved_keys
    for link in prepared.ripple.reach.links:
        if link.propagated and not link.only_conflicts and moved and link.key in moved.filled:
            rows = sql.rows_of(session.catalogue.table(link.key.child))
            query = sa.select(sa.func.count()).select_from(rows).where(moved.references(link))
            yield link, session.locking_read(query)
        parents = prepared.ripple.removed.get(link.key.parent)
        if parents is None:
            continue
        child = session.catalogue.table(link.key.child)
        rows = sql.rows_of(child)
        dangling = [depends_on(session, link, child, rows, parents)]
        if any(found.rows.table == parents.table for found in prepared.ripple.repointed):
            dangling.append(
                without_parent(link.key, rows, parents.table)
            )  # another may have its key
        query = sa.select(sa.func.count()).select_from(rows).where(*dangling)
        yield link, session.locking_read(query)


def prove_groups_live(session: Session, prepared: Prepared, ledger: Ledger) -> None:
    """Prove that every group of duplicates that lost rows has one row left.

    If other conditions narrow the selection, a group may have more.

    Raises:
        CountMismatch: a group has no row left, or too many.
    """
    query = lost_groups(session, prepared)
    if query is None:
        return
    removed = prepared.ripple.removed[prepared.matched.table.name].keys
    if removed is not None and tells_kept(prepared) and not ledger.unplanned:
        query = _kept_that_went(prepared, removed)  # as no other rows have gone
    table = prepared.matched.table
    planned = None
    crowded = bool(ledger.unplanned)  # otherwise only the surplus rows went, and none were added
    if not tells_kept(prepared):
        planned = _planned_groups(session, prepared)
        crowded = prepared.matched.all_surplus
    lost = session.connection.execute(query).scalar_one()
    if lost:
        raise CountMismatch(
            f"{lost:,} groups of {table.name} would lose every row.",
            "A kept row depends on a copy that goes: see the ripple with ⟨plan⟩.",
        )
    if crowded:
        _prove_no_group_is_crowded(session, prepared, planned)


def lost_groups(session: Session, prepared: Prepared) -> sa.Select[Any] | None:
    """Return how many groups that lose rows have none left; None if no groups are known."""
    picked = prepared.ripple.matched_keys
    if picked is None:
        return None
    table, rows = prepared.matched.table, prepared.matched.rows
    if tells_kept(prepared):
        kept = [column.name for column in kept_columns(table)]
        stays = sa.select(*sql.columns_of(picked, kept)).distinct()
        standing = sql.among(sql.columns_of(rows, table.identity.columns), stays)
        groups = sa.select(sa.func.count()).select_from(stays.subquery()).scalar_subquery()
        left = sa.select(sa.func.count()).select_from(rows).where(standing).scalar_subquery()
        return sa.select((groups - left).label("yeldro_lost"))
    values = _group_values(session, prepared, rows)
    planned = _group_values(session, prepared, picked)
    named = [value.label(f"yeldro_{place}") for place, value in enumerate(values)]
    # The table's own columns come first: values are compared by their collation.
    either = (
        sa.select(*named, sa.literal(1).label("yeldro_stands"))
        .union_all(sa.select(*planned, sa.literal(0)))
        .subquery("yeldro_either")
    )
    shared = [either.c[value.name] for value in named]
    lost = (
        sa.select(sa.literal(1))
        .select_from(either)
        .group_by(*shared)
        .having(sa.func.max(either.c.yeldro_stands) == 0)
    )
    return sa.select(sa.func.count()).select_from(lost.subquery("yeldro_lost"))


def _kept_that_went(prepared: Prepared, removed: sa.TableClause) -> sa.Select[Any]:
    """Return how many rows that should be kept are among the removed ones."""
    table, picked = prepared.matched.table, prepared.ripple.matched_keys
    if picked is None:
        raise Fault(f"the matched rows of {table.name} have no key table")
    keys = removed.alias("yeldro_removed")
    went = sa.select(*sql.columns_of(keys, table.identity.columns))
    kept = sql.columns_of(picked, [column.name for column in kept_columns(table)])
    return sa.select(sa.func.count()).select_from(picked).where(sql.among(kept, went))


def tells_kept(prepared: Prepared) -> bool:
    """True if the key table of the matched rows tells which row is kept for each."""
    picked, table = prepared.ripple.matched_keys, prepared.matched.table
    kept = {column.name for column in kept_columns(table)}
    return picked is not None and kept <= set(picked.c.keys())


def _planned_groups(session: Session, prepared: Prepared) -> sa.Select[Any]:
    table, picked = prepared.matched.table, prepared.ripple.matched_keys
    if picked is None:
        raise Fault(f"the matched rows of {table.name} have no key table")
    return sa.select(*_group_values(session, prepared, picked))


def _group_values(
    session: Session, prepared: Prepared, rows: sa.FromClause
) -> list[sa.ColumnElement[Any]]:
    """Return what rows of one group agree in."""
    matched, grouping = prepared.matched, prepared.matched.grouping
    if grouping is None:
        raise Fault("groups are looked for, and no duplicates were asked for")
    return group_values(session, matched.table, rows, grouping.by, grouping.same)


def _prove_no_group_is_crowded(
    session: Session, prepared: Prepared, planned: sa.Select[Any] | None
) -> None:
    """Prove that no group, or none of the planned ones, has more than one row left."""
    matched, grouping = prepared.matched, prepared.matched.grouping
    values = _group_values(session, prepared, matched.rows)
    in_one = in_some_group(matched.rows, grouping.by, grouping.same) if grouping else []
    left = sa.select(*values).where(*in_one)
    crowded = left.group_by(*values).having(sa.func.count() > 1)
    found = crowded.intersect(planned) if planned is not None else crowded
    several = sql.count(session.connection, found.subquery())
    if several:
        raise CountMismatch(
            f"{several:,} groups of {matched.table.name} would keep more than one row.",
            "Rows were added meanwhile; run it again.",
        )
