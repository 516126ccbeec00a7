"""Rows without a parent row, rows read in chunks, and temporary tables for stored rows."""

from __future__ import annotations

from collections.abc import Iterator, Mapping, Sequence
from concurrent.futures import ThreadPoolExecutor
from contextlib import closing, suppress
from threading import Event, Lock
from typing import TYPE_CHECKING, Any, TypeVar

import sqlalchemy as sa

from yeldro.core.database import sql
from yeldro.core.model.tables.schema import Column

if TYPE_CHECKING:
    from yeldro.core.database.protocol import Session
    from yeldro.core.model.tables.schema import ForeignKey, Table

Part = TypeVar("Part")

_VALUES_AT_ONCE = 20_000
_MOST_ROWS = 2000


def without_parent(key: ForeignKey, rows: sa.TableClause, parent: Table) -> sql.Predicate:
    """True if a row has a foreign key with no NULL in it and no parent row (MATCH SIMPLE)."""
    parents = sql.parents_of(key, parent)
    pairs = zip(key.columns, key.referenced_columns, strict=True)
    has_parent = sa.exists().where(
        *(parents.c[theirs] == rows.c[ours] for ours, theirs in pairs),
        *sql.in_parts(parents, key.parent_parts),
    )
    linked = (rows.c[name].is_not(None) for name in key.columns)
    return sa.and_(*linked, *sql.in_parts(rows, key.child_parts), ~has_parent)


def stored_in_parts(session: Session, query: sa.Select[Any]) -> Iterator[Sequence[Sequence[Any]]]:
    """Yield the rows of a query as a receipt holds them, a bounded number at a time.

    From a server the next rows are read while the ones before are used. Close the iterator if not
    all rows are wanted: nothing else may use the session before that.
    """
    size = max(1, min(_MOST_ROWS, _VALUES_AT_ONCE // len(query.selected_columns)))
    with closing(session.in_parts(query, size)) as read:
        parts = map(session.stored, read)
        yield from parts if session.traits.has_single_writer else _read_ahead(parts)


def _read_ahead(parts: Iterator[Part]) -> Iterator[Part]:
    """Yield the parts; another thread gets the next one meanwhile, but for the first."""
    coming = next(parts, None)
    worker = ThreadPoolExecutor(1)
    reading, is_over = Lock(), Event()

    def read() -> Part | None:
        with reading:
            return None if is_over.is_set() else next(parts, None)

    try:
        while coming is not None:
            waiting = worker.submit(read)
            yield coming
            coming = waiting.result()
    finally:
        # Whoever stops the program must wait until nothing is read. The pool does not know a thread
        # during whose start it is stopped, so waiting for the pool's threads would not do.
        while not is_over.is_set():
            with suppress(KeyboardInterrupt), reading:
                is_over.set()
        worker.shutdown(wait=False)


def staging_table(
    session: Session,
    columns: Mapping[str, tuple[str, str]],
    indexed: Sequence[Sequence[str]] = (),
) -> sa.TableClause:
    """Make an empty temporary table for stored rows, numbered by `yeldro_row`.

    Args:
        columns: its columns, each with the name and declared type of the column it stands for.
        indexed: the columns of each index.
    """
    declared = [Column(short, session.staging_type(Column(*own))) for short, own in columns.items()]
    return session.create_key_table(
        [Column("yeldro_row", "bigint", nullable=False, row_id=True), *declared], 1, indexed
    )


def fill_staging_table(session: Session, staged: sa.TableClause, query: sa.Select[Any]) -> int:
    """Put the rows of a query, in stored form, into a staging table; return their number."""
    rows = query.subquery("yeldro_stored")
    numbered = sa.select(sa.func.row_number().over(), *rows.c)
    names = [column.name for column in staged.c]
    return sql.inserted(session.connection, sa.insert(staged).from_select(names, numbered))
