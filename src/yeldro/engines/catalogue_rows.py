"""Rows of a system's catalogue by table: a few are read one by one, many at once."""

from __future__ import annotations

from collections.abc import Callable, Hashable, Iterable, Mapping, Sequence
from typing import Any, Generic, TypeVar

_ONE_BY_ONE = 32
_SHARE = 16

Key = TypeVar("Key", bound=Hashable)


class RowsByTable(Generic[Key]):
    """Catalogue rows of one kind, such as columns.

    A statement for each table is quicker for a few tables, one statement for all of them is quicker
    for hundreds. Nobody knows beforehand how far the foreign keys lead.

    Args:
        one: reads the rows of one table.
        all_of_them: reads those of all tables, by table; a table without rows may be missing.
        tables: the number of tables.
    """

    def __init__(
        self,
        one: Callable[[Key], Sequence[Any]],
        all_of_them: Callable[[], Mapping[Key, Sequence[Any]]],
        tables: int,
    ) -> None:
        self._one = one
        self._all_of_them = all_of_them
        self._left = max(_ONE_BY_ONE, tables // _SHARE)
        self._known: Mapping[Key, Sequence[Any]] | None = None

    def of(self, table: Key) -> Sequence[Any]:
        """Return the rows of a table."""
        if self._left:
            self._left -= 1
            return self._one(table)
        if self._known is None:
            self._known = self._all_of_them()
        return self._known.get(table, ())


def by_table(rows: Iterable[Any], table: Callable[[Any], Key]) -> dict[Key, list[Any]]:
    """Return rows by the table that each belongs to, in the order in which they come."""
    found: dict[Key, list[Any]] = {}
    for row in rows:
        found.setdefault(table(row), []).append(row)
    return found
