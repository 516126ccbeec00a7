"""Rows and tables that other sessions must not change until a run is committed.

A decision holds only as long as the rows that it rests on. Rows that a run removes or changes are
locked by that. The row that a group of duplicates keeps is locked before any copy goes. Tables that
decide which rows go are locked before they are read, unless a foreign key secures the decision.
"""

from __future__ import annotations

from collections.abc import Iterator
from dataclasses import replace
from typing import TYPE_CHECKING

import sqlalchemy as sa

from yeldro.core.database import sql
from yeldro.core.database.catalogue import find_table
from yeldro.core.database.facts import TableLocks
from yeldro.core.database.identity import kept_columns
from yeldro.core.database.protocol import Database, Session
from yeldro.core.execution.proofs import tells_kept
from yeldro.core.model.messages.errors import CountMismatch
from yeldro.core.planning.emptying import table_to_lock
from yeldro.core.planning.job import Job, check_alone, with_error_context
from yeldro.core.selection.asked import RelatedTable, Selection
from yeldro.core.selection.duplicates.grouping import kept_rows
from yeldro.core.selection.selection import orphan_key, related_columns

if TYPE_CHECKING:
    from yeldro.core.model.tables.schema import Table, TableName
    from yeldro.core.planning.plan import Prepared


def tables_to_lock(database: Database, job: Job) -> TableLocks:
    """Return the tables to lock before the first row is read.

    Raises:
        UsageError, Refused: a selection uses an unknown name, or cannot be carried out.
    """
    check_alone(job)
    for cleanup in job.cleanups:
        if cleanup.emptying:
            exclusive = table_to_lock(database, cleanup.emptying, cleanup.selection)
            return replace(_that_must_not_change(database, job), exclusive=exclusive)
    return _that_must_not_change(database, job)


def _that_must_not_change(database: Database, job: Job) -> TableLocks:
    """Return the tables that decide which rows go."""
    if database.traits.has_single_writer:
        return TableLocks()
    found: dict[TableName, None] = {}
    with database.reading() as session:
        for place, cleanup in enumerate(job.cleanups):
            with with_error_context(job, place):
                found |= dict.fromkeys(_that_decide(session, cleanup.selection))
    return TableLocks(unchanging=tuple(found))


def _that_decide(session: Session, selection: Selection) -> Iterator[TableName]:
    """Yield the tables whose rows decide which rows go, unless a foreign key secures it."""
    table = find_table(session.catalogue, selection.table)
    if table.kind == "view" and _reads_others(session, table):
        yield table.name
    if selection.where is not None:
        from yeldro.core.selection.conditions.filters import parse_filter

        yield from sorted(parse_filter(selection.where, table, session).tables, key=str)
    for related in selection.matching:
        other = find_table(session.catalogue, related.other)
        if not _is_secured(table, other, related, parents=True):
            yield other.name
    for related in selection.missing_in:
        other = find_table(session.catalogue, related.other)
        if not _is_secured(table, other, related, parents=False):
            yield other.name
    if selection.duplicates_by and not session.can_lock_rows(table):
        yield table.name
    if selection.orphans:
        yield orphan_key(selection.orphans, table).parent


def _reads_others(session: Session, view: Table) -> bool:
    """True if the query of a view names more than one table."""
    from sqlglot import exp

    from yeldro.core.selection.conditions.parsing import parse

    (tree,) = parse(session.catalogue.view_query(view.name), session.traits.sql_dialect)
    query = tree.expression if isinstance(tree, exp.Create) else tree
    return query is None or len(list(query.find_all(exp.Table))) != 1


def _is_secured(table: Table, other: Table, related: RelatedTable, *, parents: bool) -> bool:
    """True if a foreign key keeps the decision valid while rows of `table` go.

    No new row can reference a row that goes; rows that reference it go too, or block it. A parent
    cannot go while a row references it.
    """
    ours, theirs = related_columns(related, table, other)
    pairs = set(zip(ours, theirs, strict=True))
    by_children = any(
        key.parent == table.name
        and set(zip(key.referenced_columns, key.columns, strict=True)) == pairs
        for key in other.foreign_keys
    )
    by_parents = parents and any(
        key.parent == other.name
        and set(zip(key.columns, key.referenced_columns, strict=True)) == pairs
        for key in table.foreign_keys
    )
    return by_children or by_parents


def lock_kept_rows(session: Session, prepared: Prepared) -> None:
    """Lock the row that every group of duplicates keeps, if the group loses rows.

    Raises:
        CountMismatch: such a row is gone.
        DBAPIError: somebody has changed such a row since it was found.
    """
    picked = prepared.ripple.matched_keys
    grouping = prepared.matched.grouping
    if grouping is None or picked is None or prepared.matched.table.name in session.locked_tables:
        return
    table, rows = prepared.matched.table, prepared.matched.rows
    values = [rows.c[name] for name in grouping.columns]
    if tells_kept(prepared):
        names = [column.name for column in kept_columns(table)]
        kept = sa.select(*sql.columns_of(picked, names))
        once = kept.distinct()
        listed = kept if session.traits.joins_repeated_keys else once
        condition = sql.among(sql.columns_of(rows, table.identity.columns), listed)
        expected = sql.count(session.connection, once.subquery("yeldro_kept"))
    else:
        condition = kept_rows(table, rows, grouping, session)
        expected = sql.count(session.connection, rows, condition)
    held = session.lock_rows(rows, condition, values)
    if held is not None and held != expected:
        raise CountMismatch(
            f"{expected:,} rows of {table.name} should be kept, and {held:,} of them are there.",
            "Somebody changed the data meanwhile; look at the duplicates again.",
        )
