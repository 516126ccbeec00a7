"""Duplicates in a table, found without knowing by which columns."""

from __future__ import annotations

import re
from collections.abc import Iterator, Sequence
from dataclasses import dataclass
from itertools import combinations
from typing import TYPE_CHECKING

import sqlalchemy as sa

from yeldro.core.database import sql
from yeldro.core.database.catalogue import find_table
from yeldro.core.database.compared import of_columns
from yeldro.core.model.activity import announce
from yeldro.core.model.errors import Refused
from yeldro.core.selection.duplicates.values import group_values

if TYPE_CHECKING:
    from yeldro.core.database.protocol import Session
    from yeldro.core.model.equality import EqualityRules
    from yeldro.core.model.schema import Table

MOST_ROWS = 100_000
_NEARLY = 0.1  # a near-key repeats in at most this share of the rows
_PROMISING = 6  # so many of the columns with the most values are tried together
_MOMENT = re.compile(r"(timestamp|datetime)", re.IGNORECASE)
_NUMBER = re.compile(r"(big|small|tiny|medium)?(int|serial)", re.IGNORECASE)


@dataclass(frozen=True)
class Repeat:
    """Columns on which rows are equal.

    Args:
        what: why these columns were tried, in a few words.
        groups: groups of two rows or more.
        removable: all rows of those groups but one of each.
    """

    what: str
    columns: tuple[str, ...]
    groups: int
    removable: int


@dataclass(frozen=True)
class Repeats:
    """What was found in the first `looked_at` of a table's `rows` rows.

    Args:
        left_out: columns whose values the system cannot compare.
    """

    table: Table
    rows: int
    looked_at: int
    found: tuple[Repeat, ...]
    left_out: tuple[str, ...]


def search_repeats(
    session: Session, typed: str, same: EqualityRules, most_rows: int = MOST_ROWS
) -> Repeats:
    """Find exact copies, copies apart from generated keys and times, and near-keys.

    Args:
        most_rows: the most rows to read, the first in the order of the table's key.

    Raises:
        UsageError: the table does not exist.
        Refused: `typed` does not name a table.
    """
    table = find_table(session.catalogue, typed)
    if table.kind != "table":
        raise Refused(f"{table.name} is a {table.kind}, not a table.", "Name its table.")
    return _Search(session, table, same, most_rows).run()


class _Search:
    """One search, on the whole table or on its first rows."""

    def __init__(self, session: Session, table: Table, same: EqualityRules, most_rows: int) -> None:
        self.session = session
        self.table = table
        self.same = same
        self.rows = sql.count(session.connection, sql.rows_of(table))
        self.looked_at = min(self.rows, most_rows)
        self.source: sa.FromClause = sql.rows_of(table)
        if self.rows > most_rows:
            order = sql.columns_of(self.source, table.identity.columns)
            first = sa.select(*sql.columns_of(self.source, list(table.by_name))).order_by(*order)
            self.source = first.limit(most_rows).subquery("yeldro_first")
        comparable = {c.name for c in table.columns if session.is_comparable(c) or same.as_text}
        self.columns = tuple(name for name in table.by_name if name in comparable)
        self.left_out = tuple(name for name in table.by_name if name not in comparable)

    def run(self) -> Repeats:
        found: list[Repeat] = []
        for what, columns in self._tried_whole():
            repeat = self._counted(what, columns)
            if repeat.removable:
                found.append(repeat)
        found += self._near_keys()
        return Repeats(self.table, self.rows, self.looked_at, tuple(found), self.left_out)

    def _tried_whole(self) -> Iterator[tuple[str, tuple[str, ...]]]:
        """Return all columns, and all but those that only tell copies apart."""
        if not self._holds_key(self.columns):
            yield "whole rows", self.columns
        meaning = tuple(name for name in self.columns if not self._is_incidental(name))
        if meaning and meaning != self.columns and not self._holds_key(meaning):
            yield "all but generated keys and times", meaning

    def _near_keys(self) -> list[Repeat]:
        """Return the smallest sets of columns that are nearly unique."""
        announce("searching", self.table.name)
        values = self._distinct()
        names = [name for name in self.columns if values[name] > 1 and not self._holds_key([name])]
        names.sort(key=lambda name: -values[name])
        tried: list[tuple[str, ...]] = [(name,) for name in names]
        for size in (2, 3):
            promising = sorted(names[:_PROMISING], key=self.columns.index)
            tried += list(combinations(promising, size))
        found: list[Repeat] = []
        for place, columns in enumerate(tried, 1):
            announce("searching", self.table.name, place, len(tried))
            known = any(set(each.columns) <= set(columns) for each in found)
            if known or self._holds_key(columns) or len(columns) == len(self.columns):
                continue
            repeat = self._counted("nearly unique", columns)
            if 0 < repeat.removable <= self.looked_at * _NEARLY:
                found.append(repeat)
        return found

    def _counted(self, what: str, columns: Sequence[str]) -> Repeat:
        values = group_values(self.session, self.table, self.source, of_columns(columns), self.same)
        grouped = sa.select(sa.func.count().label("n")).select_from(self.source).group_by(*values)
        groups = grouped.having(sa.func.count() > 1).subquery()
        total = sa.func.coalesce(sa.func.sum(groups.c.n), 0)
        number, members = self.session.connection.execute(
            sa.select(sa.func.count(), total).select_from(groups)
        ).one()
        return Repeat(what, tuple(columns), int(number), int(members) - int(number))

    def _distinct(self) -> dict[str, int]:
        """Return how many values each column has."""
        values = group_values(
            self.session, self.table, self.source, of_columns(self.columns), self.same
        )
        counted = [sa.func.count(sa.distinct(value)) for value in values]
        row = self.session.connection.execute(sa.select(*counted).select_from(self.source)).one()
        return dict(zip(self.columns, map(int, row), strict=True))

    def _holds_key(self, columns: Sequence[str]) -> bool:
        keys = self.table.candidate_keys
        return any(key.identifies and set(key.columns) <= set(columns) for key in keys)

    def _is_incidental(self, name: str) -> bool:
        """True if a column is a numeric key of its table, or a point in time."""
        column = self.table.by_name[name]
        alone = any(key.primary and key.columns == (name,) for key in self.table.candidate_keys)
        return bool(alone and _NUMBER.match(column.type)) or bool(_MOMENT.match(column.type))
