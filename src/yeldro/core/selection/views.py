"""A view as the named table: allowed if it shows the key of exactly one base table."""

from __future__ import annotations

from collections.abc import Iterator, Sequence
from dataclasses import dataclass
from typing import TYPE_CHECKING

from sqlglot import exp
from sqlglot.errors import SqlglotError

from yeldro.core.database.catalogue import find_source
from yeldro.core.model.messages.errors import MissingPrivilege, Refused, UsageError
from yeldro.core.model.messages.names import same_name
from yeldro.core.model.tables.schema import Table
from yeldro.core.selection.conditions.parsing import parse

if TYPE_CHECKING:
    from yeldro.core.database.protocol import Session

_ROWS_LOST = ("distinct", "group", "having", "limit", "offset", "with_", "windows")


Sources = dict[str, tuple[Table, bool]]


@dataclass(frozen=True)
class View:
    """A view and the table whose rows it shows.

    Args:
        key: the view's columns that hold that table's key.
        only: the view shows no rows of tables that inherit from the base table.
    """

    base: Table
    key: tuple[str, ...]
    only: bool


def resolve_view(session: Session, view: Table) -> View:
    """Find the base table of a view.

    Raises:
        Refused: the view groups or combines rows, or shows the key of no table or of several; or
            a trigger or rule decides what a deletion from it does.
    """
    query = _query(session, view)
    own = [trigger.name for trigger in view.triggers if trigger.event == "delete"]
    if own:
        raise Refused(
            f"A deletion from the view {view.name} runs {own[0]}, which may do something else than "
            f"remove rows of its table.",
            "Name the table whose rows should go.",
        )
    sources = _sources(query, session, view)
    shown = _shown_columns(query, sources, view)
    found = []
    for alias, (table, only) in sources.items():
        identity = table.identity
        key = [shown.get((alias, name)) for name in identity.columns]
        if table.has_key and all(key):
            found.append(View(table, tuple(str(name) for name in key), only))
    if len(found) == 1:
        return found[0]
    problem = "shows the keys of several tables" if found else "shows the key of no table"
    names = ", ".join(str(table.name) for table, _ in sources.values())
    raise Refused(
        f"{view.name} is a view that {problem}, so it does not say which rows would go.",
        f"Name the table whose rows should go: {names}.",
    )


def _query(session: Session, view: Table) -> exp.Select:
    text = session.catalogue.view_query(view.name)
    if not text:
        raise MissingPrivilege(
            f"This user may not see the query of the view {view.name}.",
            f"Ask for SHOW VIEW on {view.name}, or name its table.",
        )
    try:
        (tree,) = parse(text, session.traits.sql_dialect)
    except (SqlglotError, ValueError) as error:
        raise Refused(
            f"The query of the view {view.name} cannot be read.", "Name its table."
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


def _sources(query: exp.Select, session: Session, view: Table) -> Sources:
    """Return the tables in FROM and JOIN by alias, and if ONLY stands before them.

    Raises:
        Refused: the catalogue does not have a table, or two aliases are the same.
    """
    found: Sources = {}
    for source in _joined(query.args.get("from_"), query.args.get("joins")):
        alias = source.alias_or_name.casefold()
        if alias in found:
            raise Refused(
                f"The view {view.name} calls two tables {source.alias_or_name}.",
                "Name the table whose rows should go.",
            )
        try:
            table = find_source(session.catalogue, source.db, source.name)
        except UsageError as error:
            name = f"{source.db}.{source.name}" if source.db else source.name
            raise MissingPrivilege(
                f"The view {view.name} shows rows of {name}, and this user sees no such table.",
                "Ask for SELECT and DELETE on it, or connect to its database and name the table.",
            ) from error
        found[alias] = (table, bool(source.args.get("only")))
    return found


def _joined(first: exp.Expr | None, joins: Sequence[exp.Expr] | None) -> Iterator[exp.Table]:
    """Yield the tables of a FROM clause, also those inside brackets."""
    for item in (first, *(joins or [])):
        source = item.this if item is not None else None
        if isinstance(source, exp.Table):
            yield source
            yield from _joined(None, source.args.get("joins"))
        elif isinstance(source, exp.Subquery) and not isinstance(source.this, exp.Select):
            yield from _joined(source, source.args.get("joins"))


def _shown_columns(query: exp.Select, sources: Sources, view: Table) -> dict[tuple[str, str], str]:
    """Return the view's column for each (alias, column) that it shows unchanged."""
    origins: list[tuple[str, str] | None] = []
    for item in query.expressions:
        column = item.unalias()
        if isinstance(column, exp.Star) or column.is_star:
            wanted = column.table.casefold() if isinstance(column, exp.Column) else ""
            for alias, (table, _) in sources.items():
                if wanted in ("", alias):
                    origins += [(alias, name) for name in table.by_name]
        else:
            origins.append(_origin(column, sources))
    if len(origins) != len(view.columns):
        return {}
    pairs = zip(origins, view.columns, strict=True)
    return {origin: column.name for origin, column in pairs if origin is not None}


def _origin(column: exp.Expr, sources: Sources) -> tuple[str, str] | None:
    if not isinstance(column, exp.Column):
        return None
    for alias, (table, _) in sources.items():
        if column.table.casefold() in ("", alias):
            name = same_name(column.name, table.by_name)
            if name:
                return alias, name
    return None
