"""The row that a group of duplicates keeps takes values that it lacks from the rows that go.

A value is missing if it is NULL, or empty text where that is asked for. Of several rows that have
one, the first in the order of the keep rules gives it. Values that differ in any bit disagree.
"""

from __future__ import annotations

from collections.abc import Iterable, Iterator, Mapping, Sequence
from contextlib import closing
from dataclasses import dataclass, replace
from typing import TYPE_CHECKING, Any

import sqlalchemy as sa

from yeldro.core.changes.change_set import RowSet
from yeldro.core.database import sql
from yeldro.core.database.catalogue import find_columns
from yeldro.core.database.identity import kept_columns, key_columns, looked_up_in
from yeldro.core.model.messages.activity import announce
from yeldro.core.model.messages.errors import Refused, UsageError
from yeldro.core.model.messages.names import counted
from yeldro.core.model.tables.schema import Column, ForeignKey, TableName
from yeldro.core.selection.duplicates.grouping import Grouping, kept_of_removed

if TYPE_CHECKING:
    from yeldro.core.database.protocol import Session
    from yeldro.core.selection.selection import MatchedRows

ALL = "all"
_PLACE = Column("yeldro_place", "bigint", nullable=False)


@dataclass(frozen=True)
class Filling:
    """What the kept row of a group takes from the rows that go.

    Args:
        columns: names as typed, or `all`.
        empty: empty text is missing too.
        first: where the rows that go disagree, the first of them gives the value.
    """

    columns: tuple[str, ...]
    empty: bool = False
    first: bool = False


class FilledRows:
    """The kept rows of one cleanup that take values, and what they take.

    Attributes:
        rows: the kept rows that take any value, once `find` has looked for them.
        changes: the new values by column.
        taken: how many rows take a value, by column.
    """

    def __init__(self, session: Session, matched: MatchedRows, wanted: Filling) -> None:
        """Make the temporary tables; some systems allow it only before they look at a row.

        Raises:
            UsageError: the matched rows are no duplicates, or a column cannot be filled.
            Refused: the table has no key.
        """
        if matched.grouping is None:
            raise UsageError(
                "‹fill› gives values to the kept row of duplicates, and no duplicates are chosen.",
                "Add ‹duplicates_by› COLUMNS, or drop ‹fill›.",
            )
        self.session = session
        self.table = matched.table
        self.grouping: Grouping = matched.grouping
        self.wanted = wanted
        if not self.table.has_key:
            raise Refused(
                f"{self.table.name} has no key, so the row that takes values cannot be named.",
                "Give the table a key first, or drop ‹fill›.",
            )
        self.columns = [self.table.by_name[name] for name in self._fillable()]
        identity = key_columns(self.table)
        self._pairs = session.create_key_table(
            [*identity, *kept_columns(self.table), _PLACE],
            len(identity),
            [[each.name for each in kept_columns(self.table)]],
        )
        values = [
            Column(_value(place), each.type, collation=each.collation)
            for place, each in enumerate(self.columns)
        ]
        self._filled = session.create_key_table([*identity, *values], len(identity))
        rows = sql.rows_of(self.table)
        condition = looked_up_in(session, self.table, rows, self._filled)
        self.rows = RowSet(self.table, rows, condition, 0, self._filled)
        self.changes: dict[str, sa.ColumnElement[Any]] = {}
        self.taken: dict[str, int] = {}

    def _fillable(self) -> Sequence[str]:
        """Return the columns to fill.

        Raises:
            UsageError: one is a key column, computed, or what the groups are formed by.
        """
        table = self.table
        every = self.wanted.columns == (ALL,) and ALL not in table.by_name
        names = list(table.by_name) if every else find_columns(table, self.wanted.columns, "‹fill›")
        found = []
        for name in names:
            reason = self._not_filled(name)
            if not reason:
                found.append(name)
            elif not every:
                raise UsageError(f"‹fill› names {name}, and {reason}.", "Leave it out.")
        if not found:
            raise UsageError(
                f"No column of {table.name} can be filled: all are keys, computed, or what rows "
                f"are compared by.",
                "Drop ‹fill›.",
            )
        return found

    def _not_filled(self, name: str) -> str:
        """Return why a column is never filled; empty if it can be."""
        table = self.table
        if table.by_name[name].generated:
            return "the database computes it"
        if name in self.grouping.columns:
            return "rows of a group are compared by it"
        keys = {each for key in table.candidate_keys if key.primary for each in key.columns}
        for key in self.session.catalogue.referencing(table.name):
            keys |= {*key.referenced_columns}
        if name in keys | {*table.identity.columns}:
            return "it is part of a key"
        return ""

    def find(self, going: Mapping[TableName, RowSet]) -> None:
        """Find the kept rows that take a value, and what they take.

        Args:
            going: the rows that go, by table.

        Raises:
            Refused: rows that go disagree, or a value would reference no row that stays.
        """
        removed = going.get(self.table.name)
        if removed is None or not removed.rows:
            return
        announce("filling in", self.table.name)
        pairs = kept_of_removed(self.session, self.table, self.grouping, removed.condition)
        self._put(self._pairs, pairs)
        self._put(self._filled, self._values(removed))
        may_disagree = not self.wanted.first and self._has_larger_groups()
        number, *taken = self._counts()
        for place, column in enumerate(self.columns):
            if taken[place]:
                self.taken[column.name] = taken[place]
                self.changes[column.name] = self._new_value(place, column.name)
                if may_disagree:
                    self._check_agreement(place, column)
        self.rows = replace(self.rows, rows=number)
        for key in self.table.foreign_keys:
            if {*key.columns} & self.changes.keys():
                self._check_parents(key, going)

    def _put(self, keys: sa.TableClause, query: sa.Select[Any]) -> None:
        self.session.connection.execute(sa.insert(keys).from_select(list(keys.c), query))
        self.session.key_table_filled(keys)

    def _values(self, removed: RowSet) -> sa.Select[Any]:
        """Select each kept row that takes a value, with the value that it takes in each column."""
        kept = sql.rows_of(self.table)
        by_kept = sql.columns_of(self._pairs, [each.name for each in kept_columns(self.table)])
        once = sa.select(*by_kept).distinct().subquery("yeldro_once")
        identity = sql.columns_of(kept, self.table.identity.columns)
        is_kept = [ours == theirs for ours, theirs in zip(identity, once.c, strict=True)]
        taken = [
            self._given(place, column, kept).scalar_subquery().label(_value(place))
            for place, column in enumerate(self.columns)
        ]
        stays = sa.not_(sa.func.coalesce(removed.condition, sa.false()))
        listed = sa.select(*identity, *taken).select_from(kept.join(once, sa.and_(*is_kept)))
        found = listed.where(stays).subquery("yeldro_taken")
        some = sa.or_(
            *(sa.not_(_is_null(found.c[_value(place)])) for place in range(len(self.columns)))
        )
        return sa.select(found).where(some)

    def _given(self, place: int, column: Column, kept: sa.TableClause) -> sa.Select[Any]:
        """Select the first value that rows which go have for a kept row that lacks it."""
        pairs = self._pairs.alias(f"yeldro_pairs_{place}")
        own = sql.rows_of(self.table).alias(f"yeldro_own_{place}")
        goes, stays = self._joined(pairs, own, kept)
        return (
            sa.select(own.c[column.name])
            .select_from(pairs.join(own, sa.and_(*goes)))
            .where(*stays, self._is_missing(kept, column), sa.not_(self._is_missing(own, column)))
            .order_by(pairs.c[_PLACE.name])
            .limit(1)
            .correlate(kept)
        )

    def _joined(
        self, pairs: sa.FromClause, own: sa.FromClause, kept: sa.FromClause
    ) -> tuple[list[sql.Predicate], list[sql.Predicate]]:
        """Return what joins a pair with the row that goes, and what with the row that is kept."""
        names = self.table.identity.columns
        theirs = sql.columns_of(pairs, [each.name for each in kept_columns(self.table)])
        goes = [pairs.c[name] == own.c[name] for name in names]
        stays = [each == kept.c[name] for each, name in zip(theirs, names, strict=True)]
        return goes, stays

    def _is_missing(self, rows: sa.FromClause, column: Column) -> sql.Predicate:
        value = rows.c[column.name]
        if self.wanted.empty and self.session.is_text(column):
            return sa.or_(_is_null(value), self.session.is_empty(value))
        return _is_null(value)

    def _counts(self) -> list[int]:
        """Return how many rows take any value, and how many take one in each column."""
        values = (self._filled.c[_value(place)] for place in range(len(self.columns)))
        query = sa.select(sa.func.count(), *map(sa.func.count, values))
        return [int(rows) for rows in self.session.connection.execute(query).one()]

    def _has_larger_groups(self) -> bool:
        """True if several rows go for one that stays, so that they can disagree."""
        kept = sql.columns_of(self._pairs, [each.name for each in kept_columns(self.table)])
        several = sa.select(*kept).group_by(*kept).having(sa.func.count() > 1).limit(1)
        return self.session.connection.execute(several).first() is not None

    def _new_value(self, place: int, name: str) -> sa.ColumnElement[Any]:
        """Return what a column becomes: what its row takes, else what it is."""
        rows, filled = sql.rows_of(self.table), self._filled.alias(f"yeldro_filled_{place}")
        same = (filled.c[each] == rows.c[each] for each in self.table.identity.columns)
        taken = sa.select(filled.c[_value(place)]).where(*same).correlate(rows)
        return sa.func.coalesce(taken.scalar_subquery(), rows.c[name])

    def _check_agreement(self, place: int, column: Column) -> None:
        """Refuse values of which it is not clear which one is right.

        Raises:
            Refused: rows that go from one group have different ones.
        """
        for number, key, values in self._disagreeing(place, column):
            names = self.table.identity.columns
            row = ", ".join(f"{name} {value}" for name, value in zip(names, key, strict=True))
            told = " and ".join(repr(value) for value in values)
            raise Refused(
                f"Rows of {self.table.name} that go disagree in {column.name}, which the row that "
                f"stays lacks, in {counted(number, 'group')}: {row} would take {told}.",
                "Take the first by the keep rules with ‹fill_first›, or leave the column out.",
                column=column.name,
                groups=number,
            )

    def _disagreeing(
        self, place: int, column: Column
    ) -> Iterator[tuple[int, Sequence[Any], Sequence[Any]]]:
        """Yield, at most once, how many rows are given several values; a key, and two values."""
        session, rows = self.session, sql.rows_of(self.table)
        pairs, own = self._pairs.alias("yeldro_pairs"), rows.alias("yeldro_own")
        given = self._filled.alias("yeldro_given")
        goes, stays = self._joined(pairs, own, given)
        contents = session.contents_hash([column], own)
        key = sql.columns_of(given, self.table.identity.columns)
        source = given.join(pairs, sa.and_(*stays)).join(own, sa.and_(*goes))
        present = (
            sa.not_(_is_null(given.c[_value(place)])),
            sa.not_(self._is_missing(own, column)),
        )
        several = (
            sa.select(*key)
            .select_from(source)
            .where(*present)
            .group_by(*key)
            .having(sa.func.min(contents) != sa.func.max(contents))
        )
        number = sql.count(session.connection, several.subquery("yeldro_several"))
        if not number:
            return
        first = session.connection.execute(several.order_by(*key).limit(1)).one()
        of_it = (ours == value for ours, value in zip(key, first, strict=True))
        value = session.readable(own.c[column.name], column)
        values = sa.select(value).select_from(source).where(*present, *of_it)
        with closing(session.connection.execute(values.order_by(pairs.c[_PLACE.name]))) as told:
            yield number, first, _first_two(told.scalars())

    def _check_parents(self, key: ForeignKey, going: Mapping[TableName, RowSet]) -> None:
        """Refuse values that reference no row that stays.

        Raises:
            Refused: some do.
        """
        session, rows = self.session, sql.rows_of(self.table)
        filled = self._filled
        names = [column.name for column in self.columns]
        own = zip(sql.columns_of(rows, self.table.identity.columns), filled.c, strict=False)
        taken = {name: filled.c[_value(names.index(name))]
                 for name in key.columns if name in self.changes}  # fmt: skip
        values = (
            sa.func.coalesce(taken[name], rows.c[name]) if name in taken else rows.c[name]
            for name in key.columns
        )
        then = (
            sa.select(*(value.label(name) for value, name in zip(values, key.columns, strict=True)))
            .select_from(rows.join(filled, sa.and_(*(ours == theirs for ours, theirs in own))))
            .where(sa.or_(*(value.is_not(None) for value in taken.values())))
            .subquery("yeldro_then")
        )
        parent = session.catalogue.table(key.parent)
        parents = sql.rows_of(parent)
        pairs = zip(key.columns, key.referenced_columns, strict=True)
        found = [
            session.referencing_value(
                then.c[ours], self.table.by_name[ours], parent.by_name[theirs]
            )
            == parents.c[theirs]
            for ours, theirs in pairs
        ]
        removed = going.get(key.parent)
        if removed is not None and removed.rows:
            found.append(sa.not_(sa.func.coalesce(removed.condition, sa.false())))
        stands = sa.exists(sa.select(sa.literal(1)).select_from(parents).where(*found))
        whole = (then.c[name].is_not(None) for name in key.columns)
        lost = sql.count(session.connection, then, *whole, sa.not_(stands))
        if lost:
            raise Refused(
                f"{counted(lost, 'row')} of {self.table.name} would take a value in "
                f"{', '.join(key.columns)} that references a row of {key.parent} which goes or is "
                f"not there.",
                "Leave the column out of ‹fill›.",
                column=", ".join(key.columns),
            )


def _first_two(values: Iterable[Any]) -> list[Any]:
    """Return the first value, and the first that is another one."""
    found: list[Any] = []
    for value in values:
        if not found or repr(value) != repr(found[0]):
            found.append(value)
        if len(found) > 1:
            break
    return found


def _is_null(value: sa.ColumnElement[Any]) -> sql.Predicate:
    """True for NULL alone; a composite value whose parts are NULL is one (PostgreSQL, 9.2)."""
    return value.is_not_distinct_from(sa.null())


def _value(place: int) -> str:
    return f"yeldro_value_{place}"
