"""Duplicates in a table, found without knowing by which columns."""

from __future__ import annotations

import re
from collections.abc import Iterable, Iterator, Sequence
from dataclasses import dataclass, replace
from functools import cached_property
from itertools import combinations
from math import prod
from typing import TYPE_CHECKING, Any

import sqlalchemy as sa

from yeldro.core.database import sql
from yeldro.core.database.catalogue import find_table
from yeldro.core.database.compared import Compared, columns_read, composed, of_columns
from yeldro.core.model.messages.activity import announce
from yeldro.core.model.messages.errors import Refused
from yeldro.core.selection.duplicates.values import group_values

if TYPE_CHECKING:
    from yeldro.core.database.protocol import Session
    from yeldro.core.model.tables.equality import EqualityRules
    from yeldro.core.model.tables.schema import Table

MOST_ROWS = 100_000
_NEARLY = 0.1  # a near-key repeats in at most this share of the rows
_MOST_TEXTS = 20  # columns of text that are tried without case and spaces, each alone
_FEW_COPIES = 3  # or so many rows of each group would go, on average
_MORE_THAN_CHANCE = 4  # equal pairs are so many times as many as unrelated columns would give
_PROMISING = 6  # so many of the columns with the most values are tried together
_NEARLY_ALL = 0.5  # of the pairs of rows are equal on a column
_MOMENT = re.compile(r"(timestamp|datetime)", re.IGNORECASE)
_WHOLE, _MEANING = "whole rows", "all but generated keys and times"
_NUMBER = re.compile(r"(big|small|tiny|medium)?(int|serial)", re.IGNORECASE)


@dataclass(frozen=True)
class Repeat:
    """Columns on which rows are equal, or nearly.

    Args:
        what: why these columns were tried, in a few words.
        by: the columns, or expressions over them.
        groups: groups of two rows or more.
        removable: all rows of those groups but one of each.
        agreeing: groups whose rows are equal in all other columns too, generated keys and times
            left aside; None where there are no others, or it was not counted.
        pairs: pairs of equal rows.
    """

    what: str
    by: tuple[Compared, ...]
    groups: int
    removable: int
    agreeing: int | None = None
    pairs: int = 0

    @property
    def columns(self) -> tuple[str, ...]:
        """The columns or expressions, as they are written."""
        return tuple(each.written for each in self.by)


@dataclass(frozen=True)
class Repeats:
    """What was found in the first `looked_at` of a table's `rows` rows.

    Args:
        left_out: columns whose values the system cannot compare.
        texts: columns that hold text.
    """

    table: Table
    rows: int
    looked_at: int
    found: tuple[Repeat, ...]
    left_out: tuple[str, ...]
    texts: frozenset[str]

    @property
    def likeliest(self) -> Repeat | None:
        """What is most likely to be rows that were entered twice.

        Whole rows come first, then what agrees in the other columns in the most groups. Where
        none does, numbers and days count less than text; then the most rows.
        """
        return min(self.found, key=self._order, default=None)

    def _order(self, found: Repeat) -> tuple[bool, int, bool, int, int]:
        read = columns_read(found.by)
        agreeing = max(e.agreeing or 0 for e in self.found if columns_read(e.by) == read)
        whole = found.what in (_WHOLE, _MEANING)
        weak = not (agreeing or self.texts & {*read})
        return not whole, -agreeing, weak, -found.removable, len(found.by)


def search_repeats(
    session: Session, typed: str, same: EqualityRules, most_rows: int = MOST_ROWS
) -> Repeats:
    """Find exact copies, copies apart from generated keys and times, and near-keys.

    Besides: what repeats once case and spaces of text are passed over, and which pairs of columns
    decide all others. The number of queries is bounded, whatever the table is like.

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
        self.texts = frozenset(
            name for name in self.columns if session.is_text(table.by_name[name])
        )
        self._known_pairs: dict[str, int] = {}

    def run(self) -> Repeats:
        found: list[Repeat] = []
        for what, columns in self._tried_whole():
            repeat = self._counted(what, of_columns(columns))
            if repeat.removable and (what == _WHOLE or self._is_more_than_chance(repeat)):
                found.append(repeat)
        near = self._near_keys()
        found += near
        found += self._deciding(near)
        if not (self.same.ignore_case and self.same.trim):
            found += self._loose()
        return Repeats(
            self.table, self.rows, self.looked_at, tuple(found), self.left_out, self.texts
        )

    def _tried_whole(self) -> Iterator[tuple[str, tuple[str, ...]]]:
        """Return all columns, and all but those that only tell copies apart."""
        if not self._holds_key(self.columns):
            yield _WHOLE, self.columns
        meaning = self._meaning
        if meaning and meaning != self.columns and not self._holds_key(meaning):
            yield _MEANING, meaning

    def _near_keys(self) -> list[Repeat]:
        """Return the smallest sets of columns that are nearly unique."""
        announce("searching", self.table.name)
        names = [name for name in self._by_values if not self._holds_key([name])]
        tried: list[tuple[str, ...]] = [(name,) for name in names]
        for size in (2, 3):
            tried += self._sets(names, size)
        found: list[Repeat] = []
        for place, columns in enumerate(tried, 1):
            announce("searching", self.table.name, place, len(tried))
            known = any(set(each.columns) <= set(columns) for each in found)
            if known or self._holds_key(columns) or len(columns) == len(self.columns):
                continue
            repeat = self._counted("nearly unique", of_columns(columns))
            few = repeat.removable <= self.looked_at * _NEARLY
            chosen = len(columns) > 1 and self._has_few_copies(repeat)
            if (few or chosen) and self._is_more_than_chance(repeat):
                found.append(replace(repeat, agreeing=self._agreeing(columns)))
        return found

    def _deciding(self, near: Sequence[Repeat]) -> Iterator[Repeat]:
        """Yield the columns and pairs that decide all others, as far as rows repeat on them.

        Args:
            near: sets of columns that are reported already.
        """
        known = {each.columns for each in near}
        decide = [{*each.columns} for each in near if each.agreeing == each.groups]
        names = [name for name in self._by_values if not self._holds_key([name])]
        for columns in (*self._sets(names, 1), *self._sets(names, 2)):
            above = any(each <= {*columns} for each in decide)
            if above or columns in known or self._holds_key(columns):
                continue
            repeat = self._counted("decide the other columns", of_columns(columns))
            agreeing = self._agreeing(columns) if self._has_few_copies(repeat) else None
            if agreeing and agreeing == repeat.groups:
                decide.append({*columns})
                yield replace(repeat, agreeing=agreeing)

    def _loose(self) -> list[Repeat]:
        """Return the columns on which more rows are equal if case and spaces are passed over."""
        texts = self.texts
        names = [name for name in self._by_values if name in texts or not self._holds_key([name])]
        whole = [self.columns, self._meaning]
        tried = [*whole, *((name,) for name in names if name in texts)]
        tried = [*tried[: _MOST_TEXTS + len(whole)], *self._sets(names, 2)]
        found: list[Repeat] = []
        for place, columns in enumerate(dict.fromkeys(tried), 1):
            announce("searching", self.table.name, place, len(tried))
            near = columns not in whole
            keyed = self._holds_key(name for name in columns if name not in texts)
            below = any({*columns_read(each.by)} < {*columns} for each in found)
            if keyed or not texts & {*columns} or (near and below):
                continue
            loose = tuple(self._loosened(name) if name in texts else of_columns([name])[0]
                          for name in columns)  # fmt: skip
            repeat = self._counted("without case and spaces", loose)
            if near and not (self._has_few_copies(repeat) and self._is_more_than_chance(repeat)):
                continue
            if repeat.removable > self._counted("", of_columns(columns)).removable:
                found.append(repeat)
        return found

    def _has_few_copies(self, found: Repeat) -> bool:
        """True if rows repeat, and not as values of a column do that sorts rows into kinds."""
        few = max(self.looked_at * _NEARLY, found.groups * _FEW_COPIES)
        return 0 < found.removable <= few

    def _is_more_than_chance(self, found: Repeat) -> bool:
        """True if rows are equal on several columns more often than columns without relation are.

        The share of equal pairs is then that of each column, multiplied. One column alone says
        nothing of that.
        """
        if not found.removable or len(found.by) == 1:
            return bool(found.removable)
        every = self.looked_at * (self.looked_at - 1) / 2
        shares = [self._pairs(each) / every for each in found.by]
        if found.what == _MEANING and sum(share < _NEARLY_ALL for share in shares) < 2:
            return True  # the others hold nearly the same everywhere
        return found.pairs > _MORE_THAN_CHANCE * every * prod(shares)

    def _pairs(self, one: Compared) -> int:
        """Return how many pairs of rows are equal on one column or expression."""
        if one.written not in self._known_pairs:
            self._known_pairs[one.written] = self._counted("", (one,)).pairs
        return self._known_pairs[one.written]

    def _loosened(self, name: str) -> Compared:
        """Return an expression for text that passes over its case, and over every space."""
        quote = self.session.connection.dialect.identifier_preparer.quote
        return composed(
            lambda quoted: f"lower(replace({quoted(name)}, ' ', ''))",
            lambda column: quote(column).replace("%%", "%"),
        )

    def _sets(self, names: Sequence[str], size: int) -> list[tuple[str, ...]]:
        """Return the sets of so many columns among those with the most values."""
        promising = sorted(names[:_PROMISING], key=self.columns.index)
        return list(combinations(promising, size))

    @cached_property
    def _by_values(self) -> list[str]:
        """The columns with more than one value, those with the most first."""
        values = self._distinct()
        return sorted((name for name in self.columns if values[name] > 1),
                      key=lambda name: -values[name])  # fmt: skip

    @cached_property
    def _meaning(self) -> tuple[str, ...]:
        """The columns that do more than tell copies apart."""
        return tuple(name for name in self.columns if not self._is_incidental(name))

    def _values(self, by: Sequence[Compared]) -> list[sa.ColumnElement[Any]]:
        return group_values(self.session, self.table, self.source, by, self.same)

    def _agreeing(self, columns: Sequence[str]) -> int | None:
        """Return how many groups of equal rows are equal in all other columns that mean something.

        None if there are no others.
        """
        others = [name for name in self._meaning if name not in columns]
        if not others:
            return None
        shared = [
            value.label(f"yeldro_{n}") for n, value in enumerate(self._values(of_columns(columns)))
        ]
        alike = (
            sa.select(*shared, sa.func.count().label("yeldro_size"))
            .select_from(self.source)
            .group_by(*shared, *self._values(of_columns(others)))
            .subquery("yeldro_alike")
        )
        by = [alike.c[each.name] for each in shared]
        groups = (
            sa.select(sa.literal(1).label("one"))
            .select_from(alike)
            .group_by(*by)
            .having(sa.func.sum(alike.c.yeldro_size) > 1, sa.func.count() == 1)
        )
        return sql.count(self.session.connection, groups.subquery("yeldro_agreeing"))

    def _counted(self, what: str, by: tuple[Compared, ...]) -> Repeat:
        values = self._values(by)
        grouped = sa.select(sa.func.count().label("n")).select_from(self.source).group_by(*values)
        groups = grouped.having(sa.func.count() > 1).subquery()
        n = groups.c.n
        sums = (sa.func.coalesce(sa.func.sum(each), 0) for each in (n, n * (n - 1) / 2))
        number, members, pairs = self.session.connection.execute(
            sa.select(sa.func.count(), *sums).select_from(groups)
        ).one()
        return Repeat(what, by, int(number), int(members) - int(number), pairs=int(pairs))

    def _distinct(self) -> dict[str, int]:
        """Return how many values each column has."""
        values = self._values(of_columns(self.columns))
        counted = [sa.func.count(sa.distinct(value)) for value in values]
        row = self.session.connection.execute(sa.select(*counted).select_from(self.source)).one()
        return dict(zip(self.columns, map(int, row), strict=True))

    def _holds_key(self, columns: Iterable[str]) -> bool:
        named = {*columns}
        keys = self.table.candidate_keys
        return any(key.identifies and {*key.columns} <= named for key in keys)

    def _is_incidental(self, name: str) -> bool:
        """True if a column is a numeric key of its table, or a point in time."""
        column = self.table.by_name[name]
        alone = any(key.primary and key.columns == (name,) for key in self.table.candidate_keys)
        return bool(alone and _NUMBER.match(column.type)) or bool(_MOMENT.match(column.type))
