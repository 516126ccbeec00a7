"""A database before anything is planned: its tables, keys, foreign keys and warnings."""

from __future__ import annotations

from dataclasses import dataclass
from typing import TYPE_CHECKING, Any

import sqlalchemy as sa

from yeldro.core.database import sql
from yeldro.core.database.catalogue import find_columns, find_table
from yeldro.core.model.messages.activity import announce
from yeldro.core.model.tables.schema import ForeignKey, IdentityKind, Table

if TYPE_CHECKING:
    from yeldro.core.database.protocol import Session
    from yeldro.core.model.tables.schema import CandidateKey


@dataclass(frozen=True)
class TableSurvey:
    """One table.

    Args:
        rows: None for views, whose rows are not counted.
        referenced_by: foreign keys of any table that reference this one.
        warnings: as sentences.
    """

    table: Table
    rows: int | None
    referenced_by: tuple[ForeignKey, ...]
    warnings: tuple[str, ...]


@dataclass(frozen=True)
class Survey:
    """A whole database."""

    tables: tuple[TableSurvey, ...]
    notes: tuple[str, ...]


@dataclass(frozen=True)
class TableDetail:
    """One table with a few of its rows."""

    survey: TableSurvey
    columns: tuple[str, ...]
    sample: tuple[tuple[Any, ...], ...]


def survey(session: Session) -> Survey:
    """Return every table of the database."""
    names = session.catalogue.table_names()
    tables = []
    for place, name in enumerate(names, 1):
        announce("counting", name, place, len(names))
        tables.append(_survey_table(session, session.catalogue.table(name)))
    return Survey(tuple(tables), session.notes())


def survey_table(session: Session, typed: str, show: tuple[str, ...], rows: int) -> TableDetail:
    """Return one table, with `rows` sample rows of the columns `show` (of all where it is empty).

    Raises:
        UsageError: the table or a column does not exist.
    """
    table = find_table(session.catalogue, typed)
    columns = find_columns(table, show, "‹show›") if show else tuple(table.by_name)
    source = sql.rows_of(table)
    query = sa.select(*sql.columns_of(source, columns)).limit(rows)
    if table.identity.kind is not IdentityKind.ALL_COLUMNS:
        query = query.order_by(*sql.columns_of(source, table.identity.columns))
    sample = session.connection.execute(query).all()
    return TableDetail(_survey_table(session, table), columns, tuple(tuple(row) for row in sample))


def _survey_table(session: Session, table: Table) -> TableSurvey:
    warnings = list(table.notes)
    rows = None
    if table.kind == "table":
        rows = sql.count(session.connection, sql.rows_of(table))
        primary = next((key for key in table.candidate_keys if key.primary), None)
        if primary and table.identity.kind is not IdentityKind.PRIMARY_KEY:
            warnings.append(f"its primary key ({', '.join(primary.columns)}) {_weakness(primary)}")
        elif table.identity.kind is IdentityKind.PHYSICAL:
            warnings.append("no key that tells its rows apart")
        elif table.identity.kind is IdentityKind.ALL_COLUMNS:
            warnings.append("no key, and no row id: equal rows cannot be told apart")
        elif table.identity.kind is IdentityKind.UNIQUE_KEY:
            warnings.append("no primary key")
    for key in table.foreign_keys:
        if not table.has_index_on(key.columns):
            warnings.append(f"no index on {', '.join(key.columns)}, which references {key.parent}")
    warnings += [f"trigger {trigger.name} on {trigger.event}" for trigger in table.triggers]
    referenced_by = session.catalogue.referencing(table.name) if table.kind == "table" else ()
    return TableSurvey(table, rows, referenced_by, tuple(warnings))


def _weakness(primary: CandidateKey) -> str:
    """Say why a primary key is not what tells rows apart."""
    if primary.identifies:
        return "is generated, so it changes when other columns do"
    return (
        "is not declared NOT NULL, so it may hold NULL in several rows and does not tell them apart"
    )
