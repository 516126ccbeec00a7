"""Sets of rows as conditions, and the rows of child tables that reference them."""

from __future__ import annotations

from collections.abc import Mapping
from typing import TYPE_CHECKING, Any

import sqlalchemy as sa

from yeldro.core.database import sql
from yeldro.core.database.identity import looked_up_in
from yeldro.core.model.messages.errors import Fault

if TYPE_CHECKING:
    from yeldro.core.changes.change_set import RowSet
    from yeldro.core.database.protocol import Session
    from yeldro.core.model.tables.schema import Table, TableName
    from yeldro.core.planning.following.treatment import Link


def depends_on(
    session: Session, link: Link, child: Table, rows: sa.TableClause, parents: RowSet
) -> sql.Predicate:
    """True if a child row references one of the removed `parents`."""
    if parents.keys is None:
        raise Fault(f"the rows of {parents.table.name} have no key table")
    return references(session, link, child, rows, parents.table, parents.keys)


def references(
    session: Session,
    link: Link,
    child: Table,
    rows: sa.TableClause,
    parent: Table,
    keys: sa.TableClause,
    *conditions: sql.Predicate,
) -> sql.Predicate:
    """True if a child row references an entry of a parent's key table that meets `conditions`."""
    within = sql.in_parts(keys, link.key.parent_parts)
    referenced = sa.select(*sql.columns_of(keys, link.key.referenced_columns))
    referenced = referenced.where(*conditions, *within)
    depends = sql.among(compared(session, link, child, rows, parent), referenced)
    return sa.and_(depends, *sql.in_parts(rows, link.key.child_parts))


def compared(
    session: Session, link: Link, child: Table, rows: sa.FromClause, parent: Table
) -> list[sa.ColumnElement[Any]]:
    """Return a child's foreign key columns in the form in which they are compared."""
    pairs = zip(link.key.columns, link.key.referenced_columns, strict=True)
    return [
        session.referencing_value(rows.c[ours], child.by_name[ours], parent.by_name[theirs])
        for ours, theirs in pairs
    ]


def that_stay(
    session: Session, table: Table, condition: sql.Predicate, removed: Mapping[TableName, RowSet]
) -> sql.Predicate:
    """Return the condition, narrowed to rows that are removed on no path."""
    return sa.and_(condition, *(~goes for goes in that_go(session, table, removed)))


def that_go(
    session: Session, table: Table, removed: Mapping[TableName, RowSet]
) -> list[sql.Predicate]:
    """Return the condition that a row of a table is removed; empty if none is."""
    found = removed.get(table.name)
    if found is None or not found.rows:
        return []
    if found.keys is None:
        raise Fault(f"the rows of {table.name} have no key table")
    return [looked_up_in(session, table, sql.rows_of(table), found.keys)]
