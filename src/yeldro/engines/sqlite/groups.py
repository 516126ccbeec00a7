"""Groups of equal rows of an SQLite table, and the queries that find their surplus rows.

To number the rows of a group, SQLite copies each row through a temporary table; a plain GROUP BY
needs one sort and no copy. An aggregate costs time for every row, and most rows are alone in their
group. So a sample of the table decides which is the cheapest aggregate that will do.
"""

from __future__ import annotations

import json
import math
from collections.abc import Sequence
from dataclasses import dataclass, replace
from itertools import pairwise
from typing import TYPE_CHECKING, Any, NamedTuple

import sqlalchemy as sa

if TYPE_CHECKING:
    from yeldro.core.database import sql

MANY = 50_000  # about so many rows make a sample worth its time
_SAMPLED = 500  # rows in the sample
_GOLDEN = (5**0.5 - 1) / 2  # its multiples, modulo 1, are spread evenly but not at equal distances
_FEW = 0.1  # if at most this share of rows is in groups of three or more, pairs are found first
_CLOSE = 16  # rows are close if their row ids differ by at most this fraction of the range
_TELLING = 20  # so many groups of several rows are enough to judge by
_LARGEST = 1_000_000  # the most rows of a group whose row ids are held in memory
_SUMMED = 10**9  # up to this row id, three times the sum of all fits 64 bits


@dataclass(frozen=True)
class Groups:
    """Groups of rows of a table whose rows have an integer row id.

    Args:
        key: the row id.
        values: what rows of one group agree in.
        conditions: what must hold of a row so that it is in a group.
        keep_highest: the row with the highest row id of a group is kept, else the lowest.
        weight: if pairs are found first, a number above the sum of any two row ids, all positive.
    """

    rows: sa.TableClause
    key: sa.ColumnElement[Any]
    values: tuple[sa.ColumnElement[Any], ...]
    conditions: tuple[sql.Predicate, ...]
    keep_highest: bool
    weight: int | None = None

    def part(self, *conditions: sql.Predicate) -> Groups:
        """Return the groups for which conditions on their values hold."""
        return replace(self, conditions=(*self.conditions, *conditions))

    def surplus(self) -> sa.Select[Any]:
        """Select the row id of every row that is not kept, and that of the row kept for it.

        If pairs are found first, a larger group gives one of its rows, and 0 for the kept row.
        """
        return self._by_array() if self.weight is None else self._by_sum(self.weight)

    def _by_array(self, above: int = 1) -> sa.Select[Any]:
        kept = (sa.func.max if self.keep_highest else sa.func.min)(self.key).label("yeldro_kept")
        keys = sa.func.json_group_array(self.key).label("yeldro_keys")
        grouped = sa.select(kept, keys).where(*self.conditions).group_by(*self.values)
        several = grouped.having(sa.func.count() > above).subquery("yeldro_several")
        each = sa.func.json_each(several.c.yeldro_keys).table_valued("value", name="yeldro_each")
        return (
            sa.select(each.c.value, several.c.yeldro_kept)
            .select_from(several.join(each, sa.true()))
            .where(each.c.value != several.c.yeldro_kept)
            .order_by(each.c.value)
        )

    def _by_sum(self, weight: int) -> sa.Select[Any]:
        """Take two thirds of the time: the sum of a pair and one row id give the other.

        Each row adds the weight to the sum, so that the sum shows if there are one, two or more.
        """
        weighed = sa.func.sum(self.key + sa.literal_column(str(weight)))  # bound: two sums
        one = self.key.label("yeldro_row")  # any row of the group: sqlite.org, lang_select, 2.5
        grouped = sa.select(one, weighed.label("yeldro_sum")).where(*self.conditions)
        grouped = grouped.group_by(*self.values).having(weighed >= 2 * weight)
        several = grouped.subquery("yeldro_several")
        row, is_pair = several.c.yeldro_row, several.c.yeldro_sum < 3 * weight
        ends = row, several.c.yeldro_sum - 2 * weight - row
        lower, higher = sa.func.min(*ends), sa.func.max(*ends)
        gone, kept = (lower, higher) if self.keep_highest else (higher, lower)
        found = sa.select(sa.case((is_pair, gone), else_=row), sa.case((is_pair, kept), else_=0))
        return found.order_by(sa.text("1"))

    def surplus_of_larger(self, one_of_each: sa.Select[Any]) -> sa.Select[Any]:
        """Select the same for groups of three or more, in full.

        Args:
            one_of_each: the row id of one row of each such group.
        """
        first = self.values[0]
        known = sa.select(first).where(self.key.in_(one_of_each)).correlate(None)
        return self.part(first.in_(known) | first.is_(None))._by_array(above=2)

    def sizes(self) -> sa.Select[Any]:
        """Return how many rows each group has."""
        grouped = sa.select(sa.func.count()).select_from(self.rows)
        return grouped.where(*self.conditions).group_by(*self.values)

    def first_value(self, row: int) -> sa.ColumnElement[Any]:
        """Return the first of a row's values."""
        chosen = sa.select(self.values[0]).where(self.key == sa.literal(row))
        return chosen.correlate(None).scalar_subquery()


@dataclass(frozen=True)
class Look:
    """What a sample of a table shows about its groups.

    Args:
        groups: with the most varied value first, which sorts fastest; and with a weight if row
            ids allow it and few rows are in groups of three or more.
        middle: about half of the rows have a first value below this; None if no value is known.
        too_large: some group may have more rows than there is memory for their row ids.
    """

    groups: Groups
    middle: sa.ColumnElement[Any] | None
    too_large: bool


def look(connection: sa.Connection, groups: Groups, lowest: int, highest: int) -> Look:
    """Look at a sample of a table.

    Args:
        lowest, highest: row ids of the table.
    """
    arranged, rows = _sampled(connection, groups, lowest, highest)
    span = highest - lowest
    too_large = _may_be_too_large(connection, groups, rows, span)
    known = [row for row in rows if row.is_known]
    if too_large or not known:
        return Look(arranged, None, too_large)
    middle = arranged.first_value(known[len(known) // 2].key)
    summed = lowest > 0 and highest <= _SUMMED
    if summed and _pairs_prevail(connection, arranged, known, span // _CLOSE):
        arranged = replace(arranged, weight=2 * highest + 1)
    return Look(arranged, middle, False)


class _Row(NamedTuple):
    """A row of the sample.

    Args:
        key: its row id.
        is_known: its first value is not NULL.
        times: how many rows of the sample have its first value, itself included.
        alike: how many of them are in its group.
    """

    key: int
    is_known: bool
    times: int
    alike: int


def _sampled(
    connection: sa.Connection, groups: Groups, lowest: int, highest: int
) -> tuple[Groups, list[_Row]]:
    """Select rows from all over the table, at distances that nothing periodic in it agrees with.

    Returns:
        The groups with their values arranged; and the rows in the order of the first value.
    """
    parts = (number * _GOLDEN % 1 for number in range(_SAMPLED))
    places = json.dumps([lowest + int((highest - lowest) * part) for part in parts])
    place = sa.func.json_each(places).table_valued("value", name="yeldro_place")
    later = groups.rows.alias("yeldro_other").c[groups.key.name]
    next_row = sa.select(sa.func.min(later)).where(later >= place.c.value)
    found = groups.key == next_row.correlate(place).scalar_subquery()
    labelled = [value.label(f"yeldro_{n}") for n, value in enumerate(groups.values)]
    sampled = sa.select(groups.key.label("yeldro_key"), *labelled)
    sampled = sampled.select_from(place.join(groups.rows, found)).where(*groups.conditions)
    seen = sampled.distinct().subquery("yeldro_seen")
    counts = [sa.func.count(sa.distinct(seen.c[value.name])) for value in labelled]
    distinct = connection.execute(sa.select(*counts)).one()
    order = sorted(range(len(labelled)), key=lambda n: -distinct[n])
    first, *others = (seen.c[labelled[n].name] for n in order)
    times = sa.func.count().over(partition_by=first)
    alike = sa.func.count().over(partition_by=[first, *others])
    told = sa.select(seen.c.yeldro_key, first.is_not(None), times, alike).order_by(first)
    rows = [_Row(*row) for row in connection.execute(told)]
    return replace(groups, values=tuple(groups.values[n] for n in order)), rows


def _may_be_too_large(
    connection: sa.Connection, groups: Groups, rows: list[_Row], most: int
) -> bool:
    """True if some group may have more rows than there is memory for their row ids.

    Args:
        rows: the sample.
        most: an upper bound of the number of rows; they are counted if the bound is too high.
    """
    alike = max((row.alike for row in rows), default=1)
    bearable = _LARGEST * len(rows) if alike > 1 else math.inf
    if alike * most <= bearable:
        return False
    counted = connection.execute(sa.select(sa.func.count()).select_from(groups.rows))
    return alike * counted.scalar_one() > bearable


def _pairs_prevail(
    connection: sa.Connection, groups: Groups, known: list[_Row], reach: int
) -> bool:
    """True if few rows are in groups of three or more, judged by a small part of the table.

    There are few rows between two first values that each occur once in the sample. First those that
    are close together, as copies often are, are counted; all of them only if that is not enough.

    Args:
        reach: the largest difference of row ids of rows that are close.
    """
    apart = [(one, other) for one, other in pairwise(known) if one.times == other.times == 1]
    if not apart:
        return False
    one, other = apart[len(apart) // 2]
    first, key = groups.values[0], groups.key
    start, end = groups.first_value(one.key), groups.first_value(other.key)
    between = groups.part(first >= start, first < end)
    sizes: Sequence[int] = ()
    for part in (between.part(key >= one.key - reach, key <= one.key + reach), between):
        sizes = connection.execute(part.sizes()).scalars().all()
        if sum(size > 1 for size in sizes) >= _TELLING:
            break
    return sum(size for size in sizes if size > 2) <= _FEW * sum(sizes)
