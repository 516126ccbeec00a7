"""Tables that others inherit from: each row is removed from the table in which it lives.

A statement on such a table affects the rows of its heirs too, which have columns, keys and foreign
keys of their own. So one cleanup becomes several, one for each table that holds matched rows.
"""

from __future__ import annotations

from collections.abc import Iterator
from dataclasses import replace
from typing import TYPE_CHECKING

import sqlalchemy as sa

from yeldro.core.database import sql
from yeldro.core.database.catalogue import find_table
from yeldro.core.model.messages.errors import UsageError
from yeldro.core.model.tables.graph import components
from yeldro.core.selection.selection import resolve

if TYPE_CHECKING:
    from yeldro.core.database.protocol import Session
    from yeldro.core.model.tables.schema import Table, TableName
    from yeldro.core.planning.cleanup import Cleanup
    from yeldro.core.planning.job import Job


def split_by_heir(session: Session, job: Job) -> Job:
    """Return the job with a cleanup for each table in which its matched rows live.

    A job that cannot be split is returned as it is, and refused when it is planned.
    """
    if not session.traits.has_inheritance or len(job.cleanups) > 1:
        return job
    (cleanup,) = job.cleanups
    selection = cleanup.selection
    if selection.only_table:
        return job
    table = find_table(session.catalogue, selection.table)
    whole = selection.duplicates_by or selection.limit is not None or selection.orphans
    if not table.heirs or whole or cleanup.emptying or selection.batch is not None:
        return job
    parts = [_only(cleanup, str(name)) for name in _children_first(session, table)]
    found = [part for part in parts if _matches(session, part)] or parts[:1]
    return replace(job, cleanups=tuple(found), expectations=cleanup.expectations, described=True)


def _children_first(session: Session, table: Table) -> Iterator[TableName]:
    """Yield a table and its heirs, each before those that it references."""
    names = (table.name, *table.heirs)
    graph = {
        name: [key.parent for key in session.catalogue.table(name).foreign_keys
               if key.parent in names]
        for name in names
    }  # fmt: skip
    for part in components(graph):
        yield from part


def _only(cleanup: Cleanup, table: str) -> Cleanup:
    selection = replace(cleanup.selection, table=table, only_table=True)
    return replace(cleanup, selection=selection, expectations=type(cleanup.expectations)())


def _matches(session: Session, cleanup: Cleanup) -> bool:
    try:
        matched = resolve(cleanup.selection, session)
    except UsageError as error:
        raise UsageError(
            f"{error.why} The condition must fit {cleanup.selection.table} too, which inherits.",
            "Name its columns without a table before them, or add ‹only_table›.",
        ) from error
    query = matched.select(sa.literal(1)).limit(1)
    return bool(sql.count(session.connection, query.subquery("yeldro_some")))
