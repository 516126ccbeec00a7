"""The stored rows of one step of a receipt in a temporary table, and how to compare them."""

from __future__ import annotations

import copy
from collections.abc import Callable, Collection, Iterable, Sequence
from typing import TYPE_CHECKING, Any

import sqlalchemy as sa

from yeldro.core.database import sql
from yeldro.core.database.references import staging_table
from yeldro.core.model.messages.errors import Refused
from yeldro.core.model.messages.names import same_name
from yeldro.core.model.tables.schema import Column, ForeignKey, Table
from yeldro.core.model.work.steps import Action
from yeldro.core.receipts import format as form

if TYPE_CHECKING:
    from yeldro.core.database.protocol import Session
    from yeldro.core.receipts.reader import ReceiptStep

_AT_ONCE = 1000


class StagedRows:
    """The stored rows of one step in a temporary table, compared with the real one.

    Args:
        changing: columns of the table that some step of the receipt changes. Rows with a row id
            and no key are not found by them, as batches change them in any order.
    """

    def __init__(self, session: Session, step: ReceiptStep, changing: Collection[str]) -> None:
        self.session = session
        self.step = step
        self.changing = changing
        self.table = table_of(session, step)
        self.rows = sql.rows_of(self.table)
        self.row_id = (
            session.restorable_row_id(self.table)
            if any(each.role == "row id" for each in step.columns)
            else None
        )
        short = (form.ROW_ID if each.role == "row id" else f"c{place}"
                 for place, each in enumerate(step.columns))  # fmt: skip
        self.roles = dict(zip(short, step.columns, strict=True))
        columns = {name: (column.name, column.type) for name, column in self.roles.items()}
        late = session.traits.indexes_after_filling
        self.staged = staging_table(session, columns, [] if late else self._looked_up())
        self.stored = 0
        self.left_out = 0
        self.missing = 0
        self.recomputed: set[str] = set()  # generated columns whose stored value is not known
        self.late_links: list[ForeignKey] = []
        self.late_columns: frozenset[str] = frozenset()
        self.part: tuple[int, int] | None = None
        self._besides: list[tuple[str, str, str]] | None = None
        self.reassigned: sql.Predicate = sa.false()

    def _looked_up(self) -> list[list[str]]:
        """Return the staged columns by which rows are looked up, for each index."""
        keys = (self.key, *([self.old_key] if self.changes_key else []))
        return [[staged for _, staged in pairs] for pairs in keys if pairs]

    def filled(self, rows: int) -> None:
        """Note that the staged rows are there."""
        self.stored = rows
        for columns in self._looked_up() if self.session.traits.indexes_after_filling else ():
            self.session.add_index(self.staged, columns)

    @property
    def holds_whole_rows(self) -> bool:
        """True if the rows came or went as a whole, rather than being changed."""
        return self.step.action in (Action.REMOVE, Action.ADD)

    def named(self, role: str) -> list[tuple[str, str]]:
        """Return pairs of a table's column and a staged one, for all columns of a role."""
        return [
            (column.name, stored_as)
            for stored_as, column in self.roles.items()
            if column.role == role
        ]

    @property
    def whole(self) -> list[tuple[str, str]]:
        """The pairs for all stored columns of rows that came or went, generated ones too."""
        return [*self.named("value"), *self.named("computed")]

    @property
    def compared(self) -> list[tuple[str, str]]:
        """The pairs in which a row that came or went must agree to be as it was."""
        return [pair for pair in self.whole if pair[0] not in self.recomputed]

    @property
    def key(self) -> list[tuple[str, str]]:
        """The pairs of columns by which a stored row is found in the table."""
        role = "value" if self.holds_whole_rows else "key"
        pairs = self.named(role)
        if self.table.has_key:
            pairs = [pair for pair in pairs if pair[0] in self.table.identity.columns]
        elif self.row_id:
            steady = (pair for pair in pairs if pair[0] not in self.changing)
            pairs = [(self.row_id, form.ROW_ID), *steady]
        return pairs

    @property
    def old_key(self) -> list[tuple[str, str]]:
        """The same pairs with the values before the step, which may have changed key columns."""
        old = dict(self.named("old"))
        return [(ours, old.get(ours, staged)) for ours, staged in self.key]

    @property
    def told_by_count(self) -> bool:
        """True if equal rows can only be counted, as nothing tells them apart."""
        return not self.table.has_key and self.row_id is None

    def is_ambiguous(self) -> bool:
        """True if the changed rows cannot be found one by one, as several rows are equal now."""
        if not self.told_by_count:
            return False
        if not self.key:  # every column has been changed
            return self.stored > 0
        contents = sql.contents(self.staged.c[staged] for _, staged in self.key)
        groups = sa.select(*(part.label(f"c{n}") for n, part in enumerate(contents))).distinct()
        if sql.count(self.session.connection, groups.subquery()) < self.stored:
            return True
        found = (
            sa.select(sa.literal(1))
            .select_from(self.staged)
            .where(*self.found_by(self.key), *self.agree(self.named("new")))
        )
        changed = sa.exists(found.correlate(self.rows))
        return sql.count(self.session.connection, self.rows, changed) > self.stored

    def equal_rows(self, role: str = "new") -> int:
        """Return the rows of the table that equal a staged one in all that is stored of it.

        Args:
            role: for changed rows, the values after (`new`) or before (`old`) the step.
        """
        pairs = self.compared or [*self.key, *self.named(role)]
        return sql.count(self.session.connection, self.rows, self._equal_in(self.rows, pairs))

    def stored_among(self, equal: int) -> int:
        """Return how many of `equal` identical rows are stored ones."""
        return min(max(equal - (self.step.equal_rows_left or 0), 0), self.stored)

    def _equal_in(self, rows: sa.FromClause, pairs: Sequence[tuple[str, str]]) -> sql.Predicate:
        """True if a row of this table, taken from `rows`, has the same values as a stored one."""
        theirs = sql.contents(
            self.session.readable(rows.c[ours], self.table.by_name[ours]) for ours, _ in pairs
        )
        own_values = sql.contents(
            self.session.restated(self.staged.c[own], self.table.by_name[ours])
            for ours, own in pairs
        )
        staged = sa.select(*own_values)
        return sa.tuple_(*theirs).in_(staged.correlate(None))

    def count(self, *conditions: sql.Predicate) -> int:
        return sql.count(self.session.connection, self.staged, *conditions)

    def is_stored_row(self, rows: sa.FromClause) -> sql.Predicate:
        """True if a row of this table, taken from `rows`, is one of the stored ones."""
        if self.row_id and not self.table.has_key:
            return rows.c[self.row_id].in_(sa.select(self.staged.c[form.ROW_ID]))
        if self.table.has_key:
            mine = sa.select(*(self.typed(staged) for _, staged in self.key))
            return sql.among([rows.c[ours] for ours, _ in self.key], mine)
        return self._equal_in(rows, self.key or self.named("new"))

    def is_no_stored_row(self, rows: sa.FromClause) -> sql.Predicate:
        """Return the opposite of `is_stored_row`, looked up by key if there is one."""
        if not self.table.has_key:
            return ~self.is_stored_row(rows)
        same = (rows.c[ours] == self.typed(staged) for ours, staged in self.key)
        found = sa.select(sa.literal(1)).select_from(self.staged).where(*same)
        return ~sa.exists(found.correlate(rows))

    def take_out(self, condition: sql.Predicate) -> int:
        """Remove the staged rows that meet a condition; return their number."""
        connection = self.session.connection
        number = self.staged.c.yeldro_row
        taken = 0
        while True:
            query = sa.select(number).where(condition).order_by(number).limit(_AT_ONCE)
            rows = [row[0] for row in connection.execute(query)]
            if not rows:
                self.stored -= taken
                return taken
            connection.execute(sa.delete(self.staged).where(number.in_(rows)))
            taken += len(rows)

    def row_numbers(self) -> list[int]:
        """Return the numbers of all staged rows."""
        number = self.staged.c.yeldro_row
        return [
            row[0] for row in self.session.connection.execute(sa.select(number).order_by(number))
        ]

    def brings(self, key: ForeignKey) -> bool:
        """True if the staged rows can be parents by this key once they are back."""
        if self.holds_whole_rows:
            names = {name for name, _ in self.whole}
            return self.step.action is Action.REMOVE and {*key.referenced_columns} <= names
        return self.moves_under(key)

    def found_by(self, key: Sequence[tuple[str, str]]) -> list[sql.Predicate]:
        """Return conditions that a row of the table has a staged row's key, as an index finds it.

        A key may be equal to another form of itself: in another case, with other digits.
        """
        steady = self.table.has_key
        found = [
            self.rows.c[ours] == self.typed(staged)
            for ours, staged in key
            if steady or (column := self.table.by_name.get(ours)) is None or not column.nullable
        ]
        return found if steady else [*found, *self.agree(key)]

    def agree(self, pairs: Iterable[tuple[str, str]]) -> list[sql.Predicate]:
        """Return conditions that a row of the table and a staged row agree in the stored form."""
        columns = ((self.table.by_name.get(ours), ours, staged) for ours, staged in pairs)
        return sql.in_groups(
            [
                self._as_stored(column, staged)
                if column is not None
                else self.rows.c[ours] == self.typed(staged)  # a row id
                for column, ours, staged in columns
            ]
        )

    def _as_stored(self, column: Column, staged: str) -> sql.Predicate:
        """True if a column holds the stored value, compared in its stored form and type."""
        then = Column(column.name, self.roles[staged].type or column.type)
        return self.session.is_as_it_was(
            self.rows.c[column.name], column, self.staged.c[staged], then
        )

    def typed(self, staged: str) -> sa.ColumnElement[Any]:
        """Return a staged value converted to its column's type, to compare or put back."""
        column = self.table.by_name.get(self.roles[staged].name)
        value: sa.ColumnElement[Any] = self.staged.c[staged]
        if column is None:
            return value
        then = self.roles[staged].type
        if then in ("", column.type):
            return self.session.typed(value, column)
        return self.session.converted(value, Column(column.name, then), column)

    def needs(self, key: ForeignKey) -> bool:
        """True if the rows can need a parent by this key once the step is undone.

        For a key of some partitions only the system knows which rows it holds for, and checks it.
        """
        if key.child_parts or key.parent_parts:
            return False
        if self.holds_whole_rows:
            return set(key.columns) <= dict(self.whole).keys()
        return bool(set(key.columns) & dict(self.named("old")).keys())

    @property
    def is_there(self) -> sql.Predicate:
        """True if a row with a staged row's key is there, and does not belong to another step."""
        return sa.and_(self.exists(*self.found_by(self.key)), ~self.reassigned)

    @property
    def as_stored(self) -> sql.Predicate:
        """True if such a row is there, with all stored values: for rows that came or went."""
        there = self.exists(*self.found_by(self.key), *self.agree(self.compared))
        return sa.and_(there, ~self.reassigned)

    def aliased(self, alias: str) -> StagedRows:
        """Return the same rows under an alias."""
        other = copy.copy(self)
        other.staged = self.staged.alias(alias)  # type: ignore[assignment]
        return other

    @property
    def changes_key(self) -> bool:
        """True if the step changed the columns its rows are found by."""
        return bool(dict(self.named("old")).keys() & dict(self.named("key")).keys())

    def moves_under(self, key: ForeignKey) -> bool:
        """True if undoing the step changes columns of rows that stay, which a key references."""
        return key.parent == self.table.name and not {*key.referenced_columns}.isdisjoint(
            dict(self.named("old"))
        )

    def current(self, name: str) -> sa.ColumnElement[Any]:
        """Return the value that a column has before the step is undone."""
        staged = dict([*self.whole, *self.named("key"), *self.named("new")]).get(name)
        return self.typed(staged) if staged else self._in_row(name)

    def _in_row(self, name: str) -> sa.ColumnElement[Any]:
        row = sa.select(self.rows.c[name]).where(*self.found_by(self.key)).limit(1)
        return row.correlate(self.staged).scalar_subquery()

    def restored_value(self, name: str) -> sa.ColumnElement[Any]:
        """Return the value that a column has once the step is undone."""
        staged = dict([*self.whole, *self.named("old")]).get(name)
        return self.typed(staged) if staged else self._in_row(name)

    def matches_some(
        self,
        other: StagedRows,
        condition: Callable[[StagedRows, StagedRows], Iterable[sql.Predicate]],
    ) -> sql.Predicate:
        """True if a staged row matches some staged row of another step, found by one join.

        Args:
            condition: returns the join conditions for aliases of the two.
        """
        mine, theirs = self.aliased("yeldro_own"), other.aliased("yeldro_other")
        joined = mine.staged.join(theirs.staged, sa.and_(*condition(mine, theirs)))
        numbers = sa.select(mine.staged.c.yeldro_row).select_from(joined).correlate(None)
        return self.staged.c.yeldro_row.in_(numbers)

    def exists(self, *conditions: sql.Predicate) -> sql.Predicate:
        query = sa.select(sa.literal(1)).select_from(self.rows).where(*conditions)
        return sa.exists(query.correlate(self.staged))


def table_of(session: Session, step: ReceiptStep) -> Table:
    """Return the table as it is now.

    Raises:
        Refused: a stored column is gone.
    """
    table = session.catalogue.table(step.table)
    for column in step.columns:
        if column.role != "row id" and not same_name(column.name, table.by_name):
            raise Refused(
                f"The column {step.table}.{column.name} is not there any more.",
                "Add it again first.",
            )
        own = table.by_name.get(same_name(column.name, table.by_name) or "")
        if own and own.generated and column.role in ("value", "old"):
            raise Refused(
                f"The database computes the column {step.table}.{column.name} now; when the rows "
                f"went, it did not.",
                "Make it a plain column again first.",
            )
        if column.type and not (own and own.type == column.type) and not form.is_type(column.type):
            raise Refused(
                f"The receipt holds {column.type!r} as the type of {step.table}.{column.name}, "
                f"which is none.",
                "Use a receipt that nobody has changed.",
            )
    return table
