"""A view as the named table: allowed where it shows the key of exactly one base table."""

from __future__ import annotations

from collections.abc import Iterator, Sequence
from dataclasses import dataclass

import sqlglot
from sqlglot import exp
from sqlglot.errors import SqlglotError

from yeldro.core.database.catalogue import find_table
from yeldro.core.database.protocol import Session
from yeldro.core.model.errors import Refused
from yeldro.core.model.names import same_name
from yeldro.core.model.schema import Table

_ROWS_LOST = ("distinct", "group", "having", "limit", "offset", "with_", "windows")


@dataclass(frozen=True)
class View:
    """A view, the table whose rows it shows, and the view's columns that hold that table's key."""

    base: Table
    key: tuple[str, ...]


def resolve_view(session: Session, view: Table) -> View:
    """Finds the base table of a view.

    Raises:
        Refused: the view groups or combines rows, or shows the key of no table or of several.
    """
    query = _query(session, view)
    sources = _sources(query, session)
    shown = _shown_columns(query, sources, view)
    found = []
    for alias, table in sources.items():
        identity = table.identity
        key = [shown.get((alias, name)) for name in identity.columns]
        if table.has_key and all(key):
            found.append(View(table, tuple(str(name) for name in key)))
    if len(found) == 1:
        return found[0]
    problem = "shows the keys of several tables" if found else "shows the key of no table"
    names = ", ".join(str(table.name) for table in sources.values())
    raise Refused(
        f"{view.name} is a view that {problem}, so it does not say which rows would go.",
        f"Name the table whose rows should go: {names}.",
    )


def _query(session: Session, view: Table) -> exp.Select:
    try:
        tree = sqlglot.parse_one(
            session.catalogue.view_query(view.name), dialect=session.sql_dialect
        )
    except SqlglotError as error:
        raise Refused(
            f"The view {view.name} cannot be read: {error}.", "Name its table."
        ) from error
    query = tree.expression if isinstance(tree, exp.Create) else tree
    if isinstance(query, exp.Select):
        lost = [part for part in _ROWS_LOST if query.args.get(part)]
        if not lost and not any(query.find_all(exp.AggFunc, exp.Window)):
            return query
    raise Refused(
        f"{view.name} is a view that groups or combines rows, so its rows are not rows of a table.",
        "Name the table whose rows should go.",
    )


def _sources(query: exp.Select, session: Session) -> dict[str, Table]:
    """The tables in FROM and JOIN by alias; anything else there is passed over."""
    return {
        table.alias_or_name.casefold(): find_table(session.catalogue, table.name)
        for table in _joined(query.args.get("from_"), query.args.get("joins"))
    }


def _joined(first: exp.Expr | None, joins: Sequence[exp.Expr] | None) -> Iterator[exp.Table]:
    """The tables of a FROM clause, also those that brackets hold together."""
    for item in (first, *(joins or [])):
        source = item.this if item is not None else None
        if isinstance(source, exp.Table):
            yield source
            yield from _joined(None, source.args.get("joins"))
        elif isinstance(source, exp.Subquery) and not isinstance(source.this, exp.Select):
            yield from _joined(source, source.args.get("joins"))


def _shown_columns(
    query: exp.Select, sources: dict[str, Table], view: Table
) -> dict[tuple[str, str], str]:
    """The view's column for each (alias, column) of its tables that it shows as it is."""
    origins: list[tuple[str, str] | None] = []
    for item in query.expressions:
        column = item.unalias()
        if isinstance(column, exp.Star) or column.is_star:
            wanted = column.table.casefold() if isinstance(column, exp.Column) else ""
            for alias, table in sources.items():
                if wanted in ("", alias):
                    origins += [(alias, name) for name in table.by_name]
        else:
            origins.append(_origin(column, sources))
    if len(origins) != len(view.columns):
        return {}
    pairs = zip(origins, view.columns, strict=True)
    return {origin: column.name for origin, column in pairs if origin is not None}


def _origin(column: exp.Expr, sources: dict[str, Table]) -> tuple[str, str] | None:
    if not isinstance(column, exp.Column):
        return None
    for alias, table in sources.items():
        if column.table.casefold() in ("", alias):
            name = same_name(column.name, table.by_name)
            if name:
                return alias, name
    return None
