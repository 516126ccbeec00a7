"""Rows that a restore put back, so that they can be taken away again."""

from __future__ import annotations

from collections.abc import Iterable, Iterator

import sqlalchemy as sa

from yeldro.core.changes.change_set import Change, OneRow, RowSet
from yeldro.core.database import sql
from yeldro.core.model.work.steps import Step
from yeldro.core.restore.staged.undoing import UndoneRows


class AddedRows(UndoneRows):
    """The rows that one step of a restore added."""

    def lock_parents(self) -> None:
        """Do nothing: rows that go need no parents."""

    def narrow(self) -> None:
        """Leave out what is gone already."""
        if not self.told_by_count and self.missing < self.stored:
            self.take_out(~self.as_stored)

    def cut_before(self) -> Iterator[Change]:
        """Yield what cuts the links noted for later, to rows that go before these."""
        for key in self.late_links:
            some = (column.is_not(None) for column in sql.columns_of(self.rows, key.columns))
            linked = sa.and_(self.is_stored_row(self.rows), sa.or_(*some))
            rows = RowSet(self.table, self.rows, linked, 0)
            yield Change(self.in_between, rows, {name: sa.null() for name in key.columns})

    def set_after(self) -> Iterator[Change]:
        """Yield nothing: the rows are gone."""
        return iter(())

    def undone(self, step: Step, *, at_once: bool = False) -> Change:
        """Return the change that takes the rows away."""
        late = {name for key in self.late_links for name in key.columns}
        values = [pair for pair in self.named("value") if pair[0] not in late]
        found = sa.select(sa.literal(1)).select_from(self.staged)
        where: list[sql.Predicate] = [self.is_stored_row(self.rows)]
        one_by_one: Iterable[OneRow] | None = None
        if not self.told_by_count:
            found = found.where(*self.found_by(self.key), *self.agree(values))
            where.insert(0, sa.exists(found.correlate(self.rows)))
        elif self.equal_rows() != self.stored:
            number, agree = self.staged.c.yeldro_row, self.agree(values)
            one_by_one = (
                OneRow(sa.exists(found.where(number == n, *agree).correlate(self.rows)))
                for n in self.row_numbers()
            )
        rows = RowSet(self.table, self.rows, sa.and_(*where), step.rows)
        return Change(step, rows, one_by_one=one_by_one, at_once=at_once)
