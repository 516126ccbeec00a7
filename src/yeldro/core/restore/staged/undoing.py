"""The changes that undo one step: rows come or change back; `added_rows` takes rows away."""

from __future__ import annotations

from collections.abc import Collection, Iterable, Iterator, Sequence
from dataclasses import replace
from typing import TYPE_CHECKING, Any

import sqlalchemy as sa

from yeldro.core.changes.change_set import Change, NewRows, OneRow, RowSet
from yeldro.core.database import sql
from yeldro.core.model.messages.errors import ROLLED_BACK, DatabaseFailure
from yeldro.core.model.tables.graph import components
from yeldro.core.model.work.steps import Action, Step
from yeldro.core.receipts import format as form
from yeldro.core.restore.staged.staged_rows import StagedRows

if TYPE_CHECKING:
    from yeldro.core.model.tables.schema import ForeignKey, TableName


class UndoneRows(StagedRows):
    """The stored rows of one step, and the changes that undo it."""

    def narrow(self) -> None:
        """Leave out rows that are in place already."""
        if self.step.action is Action.REMOVE and self.missing < self.stored:
            self.take_out(self.is_there)

    def lock_parents(self) -> None:
        """Lock the parent rows that are needed, if the system does not do that itself.

        Raises:
            DatabaseFailure: somebody has removed one since it was found.
        """
        for key in self.table.foreign_keys:
            if not self.needs(key):
                continue
            parent = self.session.catalogue.table(key.parent)
            parents = sql.rows_of(parent)
            needed = sa.select(*map(self.restored_value, key.columns)).select_from(self.staged)
            condition = sql.among(sql.columns_of(parents, key.referenced_columns), needed)
            query = sa.select(sa.func.count()).select_from(parents).where(condition)
            held = self.session.locking_read(query)
            if held is query:
                continue
            connection = self.session.connection
            if connection.execute(query).scalar_one() != connection.execute(held).scalar_one():
                raise DatabaseFailure(
                    f"Somebody removed rows of {key.parent} that rows of {self.table.name} need.",
                    "See ⟨receipt check⟩, then restore.",
                    data=ROLLED_BACK,
                )

    def undone(self, step: Step, *, at_once: bool = False) -> Change:
        """Return the change that puts back what is missing.

        Args:
            step: what is counted and shown.
            at_once: it is made in one with others.
        """
        if self.step.action is Action.REMOVE:
            rows = RowSet(self.table, self.rows, sa.true(), step.rows)
            return Change(step, rows, added=self._missing_rows())
        if self.is_ambiguous() and not at_once:
            rows = RowSet(self.table, self.rows, sa.true(), step.rows)
            return Change(step, rows, one_by_one=map(self._any_changed, self.row_numbers()))
        return replace(self._changed_back(step), at_once=at_once)

    def _changed_back(self, step: Step) -> Change:
        """Return the change of rows that can each be found.

        Columns that a trigger changed go back too, unless somebody has changed them since.
        """
        now = [pair for pair in self.named("old") if pair[0] not in self.late_columns]
        change = self._set(step, now, *self.agree(self.named("new")))
        more: dict[str, sa.ColumnElement[Any]] = {}
        for name, was, left in self.changed_besides():
            those = (*self.found_by(self.key), *self.agree([(name, left)]))
            before = sa.select(self.typed(was)).where(*those)
            found = sa.exists(
                sa.select(sa.literal(1)).where(*those)
                .select_from(self.staged).correlate(self.rows)
            )  # fmt: skip
            before_that = before.correlate(self.rows).scalar_subquery()
            more[name] = sa.case((found, before_that), else_=self.rows.c[name])
        return replace(change, values=dict(change.values) | more)

    def changed_besides(self) -> list[tuple[str, str, str]]:
        """Return the columns that a trigger changed in the rows of the step: `was` and `left`."""
        if self._besides is None:
            left = dict(self.named("left"))
            self._besides = [
                (name, was, left[name])
                for name, was in self.named("was")
                if self.count(self.staged.c[was].is_distinct_from(self.staged.c[left[name]]))
            ]
        return self._besides

    def other_than(self, name: str, staged: str) -> int:
        """Return how many rows differ in column `name` from their staged value."""
        return self.count(
            self.exists(*self.found_by(self.key)),
            ~self.exists(*self.found_by(self.key), *self.agree([(name, staged)])),
        )

    def set_anew(self, pairs: Sequence[tuple[str, str]]) -> Change:
        """Return the change that sets columns to their staged values where they differ."""
        return self._set(self.in_between, pairs, sa.not_(sa.and_(*self.agree(pairs))))

    @property
    def in_between(self) -> Step:
        """The step for links that are cut or set so that rows can go or come in some order."""
        name = str(self.table.name)
        return Step(0, Action.RELINK, name, 0, "links in between", (name,), auxiliary=True)

    def postpone_links(self, tables: Collection[TableName]) -> None:
        """Note the links to rows of `tables`, which come back later: they are set at the end."""
        self.late_links = [
            key
            for key in self.table.foreign_keys
            if key.parent in tables and self.can_postpone(key)
        ]

    def can_postpone(self, key: ForeignKey) -> bool:
        """True if rows can come back without this link, which is set later.

        Without a row key no link was cut to remove the rows, so they have an order that puts them
        back.
        """
        return self.table.has_key and self.table.can_be_null(key.columns)

    def put_off_columns(self, coming: Collection[TableName], *, going: bool) -> None:
        """Note which columns are changed back after rows have come or gone.

        A row can hold a unique value that a row which comes needs, and a link to that row; or the
        other way round where rows go.

        Args:
            coming: tables whose rows come back.
            going: rows of the same table go.
        """
        changed = {name for name, _ in self.named("old")}
        unique = changed & {name for key in self.table.candidate_keys for name in key.columns}
        links = {name for key in self.table.foreign_keys if going or key.parent in coming
                 for name in key.columns}  # fmt: skip
        late = unique - links if going else (changed & links) - unique
        if unique - links and late < changed and not self.changes_key:
            self.late_columns = frozenset(late)

    def cut_before(self) -> Iterator[Change]:
        """Yield what has to be cut before any row goes: nothing, if rows come or change."""
        return iter(())

    def set_after(self) -> Iterator[Change]:
        """Yield what sets the columns and links that were left out when the rows went back."""
        if not self.holds_whole_rows:
            if self.late_columns:
                late = [pair for pair in self.named("old") if pair[0] in self.late_columns]
                left = [pair for pair in self.named("new") if pair[0] in self.late_columns]
                yield self._set(self.in_between, late, *self.agree(left))
            return
        staged_as = dict(self.named("value"))
        for key in self.late_links:
            pairs = [(name, staged_as[name]) for name in key.columns]
            some = sa.or_(*(self.staged.c[staged].is_not(None) for _, staged in pairs))
            left_out = (self.rows.c[ours].is_(None) for ours, _ in pairs)
            yield self._set(self.in_between, pairs, some, *left_out)

    def row_ids_taken(self) -> int:
        """Return how many stored rows cannot have their row id again, as another row has it."""
        if self.row_id is None or self.step.action is not Action.REMOVE:
            return 0
        return self.count(self.exists(self.rows.c[self.row_id] == self.staged.c[form.ROW_ID]))

    def in_part(self) -> list[sql.Predicate]:
        """Return the condition that narrows the staged rows to those being tried."""
        return [] if self.part is None else [self.staged.c.yeldro_row.between(*self.part)]

    def _missing_rows(self) -> NewRows:
        pairs = self.named("value")
        names = [ours for ours, _ in pairs]
        late = {name for key in self.late_links for name in key.columns}
        selected: list[sa.ColumnElement[Any]] = [
            sa.null() if ours in late else self.typed(staged) for ours, staged in pairs
        ]
        if self.row_id:
            taken = self.exists(self.rows.c[self.row_id] == self.staged.c[form.ROW_ID])
            names.insert(0, self.row_id)
            selected.insert(0, sa.case((taken, sa.null()), else_=self.staged.c[form.ROW_ID]))
        absent = sa.true() if self.told_by_count else ~self.exists(*self.found_by(self.key))
        query = sa.select(*selected).where(absent, *self.in_part())
        return NewRows(names, query.order_by(self.staged.c.yeldro_row))

    def _any_changed(self, number: int) -> OneRow:
        """Return one of the rows that equal a staged one; it does not matter which."""
        this = self.staged.c.yeldro_row == number
        found = sa.select(sa.literal(1)).select_from(self.staged)
        found = found.where(
            this,
            *self.found_by(self.key),
            *self.agree(self.named("new")),
            *self.agree(self.named("then")),
        )
        values: dict[str, sa.ColumnElement[Any]] = {
            ours: sa.select(self.typed(staged)).where(this).scalar_subquery()
            for ours, staged in self.named("old")
        }
        return OneRow(sa.exists(found.correlate(self.rows)), values)

    def _set(
        self, step: Step, pairs: Sequence[tuple[str, str]], *conditions: sql.Predicate
    ) -> Change:
        """Return the change that sets columns of rows to their staged values."""
        values: dict[str, sa.ColumnElement[Any]] = {
            ours: sa.select(self.typed(staged))
            .where(*self.found_by(self.key))
            .correlate(self.rows)
            .scalar_subquery()
            for ours, staged in pairs
        }
        found = sa.select(sa.literal(1)).select_from(self.staged)
        found = found.where(*self.found_by(self.key), *conditions, *self.in_part())
        where: list[sql.Predicate] = [sa.exists(found.correlate(self.rows))]
        if self.table.has_key:
            keys = sa.select(*(self.typed(staged) for _, staged in self.key))
            ours = sql.columns_of(self.rows, [name for name, _ in self.key])
            where.insert(0, sql.among(ours, keys))
        return Change(step, RowSet(self.table, self.rows, sa.and_(*where), step.rows), values)


def by_links(steps: Iterable[UndoneRows], *, lasting: bool) -> list[list[TableName]]:
    """Return the tables of steps, those together that reference one another, children first.

    Args:
        lasting: only links that cannot be set later count.
    """
    tables = {each.table.name: each for each in steps}
    parents = {
        name: [key.parent for key in each.table.foreign_keys
               if key.parent in tables and not (lasting and each.can_postpone(key))]
        for name, each in tables.items()
    }  # fmt: skip
    return components(parents)
