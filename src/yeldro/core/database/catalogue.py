"""Find tables, columns and foreign keys by the names people type."""

from __future__ import annotations

from collections.abc import Iterable
from typing import TYPE_CHECKING

from yeldro.core.model.messages.errors import UnknownName, UsageError
from yeldro.core.model.messages.names import same_name, suggestion

if TYPE_CHECKING:
    from yeldro.core.database.protocol import Catalogue
    from yeldro.core.model.tables.schema import ForeignKey, Table


def find_table(catalogue: Catalogue, typed: str) -> Table:
    """Return the table that `typed` names; schema and case may be left out where that is clear.

    Raises:
        UsageError: there is none, or several schemas hold one, or it has no columns.
    """
    return _with_columns(_table(catalogue, typed))


def _table(catalogue: Catalogue, typed: str) -> Table:
    known = {str(name): name for name in catalogue.table_names()}
    parts = {str(name): name for name in catalogue.part_names()}
    exact = same_name(typed, known)
    if not exact and typed in parts:
        return catalogue.table(parts[typed])
    if exact:
        return catalogue.table(known[exact])
    whole = {f"{schema}.{name}": found for (schema, name), found in catalogue.places().items()}
    alike = same_name(typed, whole)
    if alike:
        return catalogue.table(whole[alike])
    bare: dict[str, list[str]] = {}
    for shown, name in known.items():
        bare.setdefault(name.name, []).append(shown)
    alike = same_name(typed, bare)
    if alike is None:
        raise UnknownName(f"There is no table {typed!r} here.", typed, known)
    if len(bare[alike]) > 1:
        raise UsageError(
            f"Several schemas hold a table {typed!r}.", f"Write {' or '.join(bare[alike])}."
        )
    return catalogue.table(known[bare[alike][0]])


def find_source(catalogue: Catalogue, schema: str, name: str) -> Table:
    """Return the table that a statement names; `schema` is empty if the statement gives none.

    Raises:
        UsageError: there is none, or several schemas hold one, or it has no columns.
    """
    return _with_columns(_source(catalogue, schema, name))


def _source(catalogue: Catalogue, schema: str, name: str) -> Table:
    if schema:
        places = catalogue.places()
        if (schema, name) in places:
            return catalogue.table(places[schema, name])
        wanted = (schema.casefold(), name.casefold())
        alike = [each for each in places if (each[0].casefold(), each[1].casefold()) == wanted]
        if len(alike) == 1:
            return catalogue.table(places[alike[0]])
        known = [f"{each[0]}.{each[1]}" for each in places]
        raise UnknownName(f"There is no table '{schema}.{name}' here.", f"{schema}.{name}", known)
    bare = {each.name: each for each in catalogue.table_names() if not each.schema}
    found = same_name(name, bare)
    if found:
        return catalogue.table(bare[found])
    if "." in name:
        raise UnknownName(f"There is no table {name!r} here.", name, bare)
    return _table(catalogue, name)


def _with_columns(table: Table) -> Table:
    """Return a table; refuse one without columns, whose rows have nothing to compare or to keep."""
    if not table.columns:
        raise UsageError(
            f"{table.name} has no columns, so that nothing of its rows could be shown or kept.",
            f"Give {table.name} a column, or drop it.",
        )
    return table


def find_columns(table: Table, typed: Iterable[str], option: str) -> tuple[str, ...]:
    """Return the table's columns that `typed` names, in that order.

    Raises:
        UsageError: one does not exist, or is named twice.
    """
    found: list[str] = []
    for name in typed:
        column = same_name(name, table.by_name)
        if column is None:
            raise UnknownName(
                f"{option}: there is no column {name!r} in {table.name}.", name, table.by_name
            )
        if column in found:
            raise UsageError(f"{option} names {column!r} twice.", "Name each column once.")
        found.append(column)
    if not found:
        raise UsageError(f"{option} names no column.", suggestion("", table.by_name))
    return tuple(found)


def foreign_keys_called(name: str, known: Iterable[ForeignKey]) -> list[ForeignKey]:
    """Return the foreign keys that `name` means: a child table, `child.column`, or `all`."""
    keys = list(known)
    if name == "all":
        return keys
    wanted = name.casefold()
    exact = [key for key in keys if wanted == key.name.casefold()]
    if exact:
        return exact
    by_table = [
        key for key in keys if wanted in (str(key.child).casefold(), key.child.name.casefold())
    ]
    if by_table:
        return by_table
    return [
        key
        for key in keys
        if any(
            wanted in (f"{key.child}.{column}".casefold(), f"{key.child.name}.{column}".casefold())
            for column in key.columns
        )
    ]
