"""Rows that would have the same unique key once they have moved, and which of them stays.

With one unique key, the row that has it already stays, else the first by key. With several, a row
may compete with other rows for each of them, and a row whose only competitor goes must stay. So
rows are decided in that order, each against the rows that stay.
"""

from __future__ import annotations

from collections.abc import Mapping, Sequence
from dataclasses import dataclass
from typing import TYPE_CHECKING, Any, Self

import sqlalchemy as sa

from yeldro.core.database import sql
from yeldro.core.database.identity import key_columns, key_values
from yeldro.core.model.tables.schema import CandidateKey, Column, Table

if TYPE_CHECKING:
    from yeldro.core.database.protocol import Session

_OPEN, _FIRST, _STAYS, _GOES = 0, 1, 2, 3


@dataclass(frozen=True)
class UniqueConflicts:
    """The rows of a table that compete for a unique key, in a temporary table.

    Args:
        table: the rows' own table.
        keys: its unique keys that can occur twice.
        staged: columns for the row key, for the values of its unique keys once it has moved
            (`then_K_N`), for its place in the order, and for the decision.
    """

    session: Session
    table: Table
    keys: tuple[CandidateKey, ...]
    staged: sa.TableClause

    @classmethod
    def create(cls, session: Session, table: Table, keys: Sequence[CandidateKey]) -> Self:
        """Make an empty one."""
        identity = key_columns(table)
        then = [
            Column(_then(place, n), column.type, collation=column.collation)
            for place, key in enumerate(keys)
            for n, column in enumerate(table.by_name[name] for name in key.columns)
        ]
        marks = [Column("yeldro_place", "bigint"), Column("yeldro_state", "bigint")]
        indexed = [[_then(place, n) for n in range(len(key.columns))]
                   for place, key in enumerate(keys)]  # fmt: skip
        staged = session.create_key_table([*identity, *then, *marks], len(identity), indexed)
        return cls(session, table, tuple(keys), staged)

    def losing(
        self, changes: Mapping[str, sa.ColumnElement[Any]], *leave_out: sql.Predicate
    ) -> sql.Predicate:
        """Decide which rows stay; return the condition for those that cannot.

        Args:
            changes: what the columns of rows that move become.
            leave_out: rows that are removed anyway, so they compete for nothing.
        """
        connection, staged = self.session.connection, self.staged
        connection.execute(sa.delete(staged))
        self._fill(changes, leave_out)
        state = staged.c.yeldro_state
        stays, before = staged.alias("yeldro_stays"), staged.alias("yeldro_before")
        beaten = self._shares_a_key(stays, stays.c.yeldro_state == _STAYS)
        later = self._shares_a_key(
            before,
            before.c.yeldro_state.in_((_OPEN, _FIRST)),  # a statement may see its own changes
            before.c.yeldro_place < staged.c.yeldro_place,
        )
        while sql.count(connection, staged, state == _OPEN):
            connection.execute(_set(staged, _GOES).where(state == _OPEN, beaten))
            connection.execute(_set(staged, _FIRST).where(state == _OPEN, ~later))
            connection.execute(_set(staged, _STAYS).where(state == _FIRST))
        names = [column.name for column in key_columns(self.table)]
        goes = sa.select(*sql.columns_of(staged, names)).where(state == _GOES)
        return sql.among(key_values(self.session, self.table, sql.rows_of(self.table)), goes)

    def _fill(
        self, changes: Mapping[str, sa.ColumnElement[Any]], leave_out: Sequence[sql.Predicate]
    ) -> None:
        rows = sql.rows_of(self.table)
        identity = key_values(self.session, self.table, rows)
        own = [value.label(f"yeldro_{n}") for n, value in enumerate(identity)]
        moves = [
            sa.case((sa.or_(*(changes[name] != rows.c[name] for name in changed)), 1), else_=0)
            for key in self.keys
            for changed in [[name for name in key.columns if name in changes]]
        ]
        moved = sum(moves[1:], start=moves[0])
        then, sizes = [], []
        for place, key in enumerate(self.keys):
            values = [changes.get(name, rows.c[name]) for name in key.columns]
            then += [value.label(_then(place, n)) for n, value in enumerate(values)]
            whole = sa.and_(*(value.is_not(None) for value in values))
            size = sa.func.sum(sa.case((whole, 1), else_=0)).over(partition_by=values)
            sizes.append(size.label(f"yeldro_size_{place}"))
        order = sa.func.row_number().over(order_by=[moved, *identity]).label("yeldro_place")
        state = sa.case((moved == 0, _STAYS), else_=_OPEN).label("yeldro_state")
        stay = (sa.not_(sa.func.coalesce(each, sa.false())) for each in leave_out)
        listed = sa.select(*own, *then, *sizes, order, state).where(*stay).correlate(None)
        found = listed.subquery("yeldro_listed")
        some = sa.or_(*(found.c[size.name] > 1 for size in sizes))
        wanted = [found.c[each.name] for each in (*own, *then, order, state)]
        insert = sa.insert(self.staged).from_select(
            list(self.staged.c), sa.select(*wanted).where(some)
        )
        self.session.connection.execute(insert)
        self.session.key_table_filled(self.staged)

    def _shares_a_key(self, other: sa.FromClause, *conditions: sql.Predicate) -> sql.Predicate:
        """True if a row of `other`, an alias of the same table, has one of a row's keys."""
        same = [
            sa.and_(*(other.c[_then(place, n)] == self.staged.c[_then(place, n)]
                      for n in range(len(key.columns))))
            for place, key in enumerate(self.keys)
        ]  # fmt: skip
        found: list[sa.Select[Any]] = [
            sa.select(sa.literal_column("1"))
            .select_from(other)
            .where(*conditions, one)
            .correlate(self.staged)
            for one in same
        ]
        return sa.or_(*(sa.exists(each) for each in found))


def _then(place: int, n: int) -> str:
    return f"then_{place}_{n}"


def _set(staged: sa.TableClause, state: int) -> sa.Update:
    return sa.update(staged).values({staged.c.yeldro_state: sa.literal_column(str(state))})
