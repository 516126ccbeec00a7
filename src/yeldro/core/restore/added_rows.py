"""Rows that a restore put back, so that they can be taken away again."""

from __future__ import annotations

from collections.abc import Sequence
from typing import TYPE_CHECKING, Any

import sqlalchemy as sa

from yeldro.core.database import sql
from yeldro.core.model.names import told_rows
from yeldro.core.restore.conflicts import Conflict, ConflictKind, Restored, sample
from yeldro.core.restore.dangling import still_referenced
from yeldro.core.restore.undoing import UndoneRows

if TYPE_CHECKING:
    from yeldro.core.model.schema import ForeignKey


class AddedRows(UndoneRows):
    """The rows that one step of a restore added, compared with the table they were added to."""

    @property
    def _as_added(self) -> sql.Predicate:
        there = self.exists(*self.agree(self.key), *self.agree(self.named("value")))
        return sa.and_(there, ~self.reassigned)

    def compare(self, others: Sequence[UndoneRows]) -> tuple[Restored, list[Conflict]]:
        """Count what is gone again and what is still there, and find the conflicts."""
        name = str(self.table.name)
        if self.told_by_count:
            still, rows = self.stored_among(self.equal_rows()), 0
            said = f"only {still:,} of {self.stored:,} rows added to {name} are left"
            some = 0 < still < self.stored
            found = [Conflict(ConflictKind.AMBIGUOUS, name, still, said)] if some else []
        else:
            still = self.count(self._as_added)
            changed = sa.and_(self.is_there, ~self._as_added)
            rows = self.count(changed)
            said = f"{told_rows(rows, name, 'was', 'were')} changed since the restore"
            said += sample(self, changed)
            found = [Conflict(ConflictKind.CHANGED, name, rows, said, changed)] if rows else []
        gone = self.stored - still - rows
        for key in self.session.catalogue.referencing(self.table.name):
            found += self._needed(key, others)
        return Restored(self.step, self.stored, gone, still), found

    def _needed(self, key: ForeignKey, others: Sequence[UndoneRows]) -> list[Conflict]:
        """Return the rows that reference those that would go, and neither go nor are relinked."""
        needed = still_referenced(self, key, others)
        if needed is None:
            return []
        if not self.told_by_count:
            needed = sa.and_(needed, self._as_added)
        rows = self.count(needed)
        if not rows:
            return []
        name = str(self.table.name)
        said = f"{told_rows(rows, name, 'is', 'are')} referenced by rows of {key.child} ({key})"
        said += sample(self, needed)
        return [Conflict(ConflictKind.REFERENCED, name, rows, said, needed)]

    def lock_parents(self) -> None:
        """Do nothing: rows that go need no parents."""

    def narrow(self) -> None:
        """Leave out what is gone already."""
        if not self.told_by_count and self.missing < self.stored:
            self.take_out(~self._as_added)

    def cut_links(self) -> int:
        """Cut the links noted for later, to rows that go before these; return their number."""
        changed = 0
        for key in self.late_links:
            columns = sql.columns_of(self.rows, key.columns)
            some = sa.or_(*(column.is_not(None) for column in columns))
            values: dict[Any, Any] = dict.fromkeys(columns, sa.null())
            values |= sql.left_alone(self.table, self.rows, key.columns)
            statement = (
                sa.update(self.rows).where(self.is_stored_row(self.rows), some).values(values)
            )
            led = self.session.key_driven(statement)
            changed += self.session.connection.execute(led).rowcount
        return changed

    def put_back(self) -> int:
        """Take the rows away; return their number."""
        late = {name for key in self.late_links for name in key.columns}
        values = [pair for pair in self.named("value") if pair[0] not in late]
        found = sa.select(sa.literal(1)).select_from(self.staged)
        if not self.told_by_count:
            found = found.where(*self.agree(self.key), *self.agree(values))
            where = [sa.exists(found.correlate(self.rows)), self.is_stored_row(self.rows)]
            statement = self.session.key_driven(sa.delete(self.rows).where(*where))
            if self.session.unseen_references(self.table) is None:
                with self.session.letting_the_system_check():
                    return self.session.connection.execute(statement).rowcount
            return self.session.connection.execute(statement).rowcount
        if self.equal_rows() == self.stored:
            statement = sa.delete(self.rows).where(self.is_stored_row(self.rows))
            return self.session.connection.execute(statement).rowcount
        number = self.staged.c.yeldro_row
        return sum(
            self.session.remove_one(
                self.table,
                sa.exists(found.where(number == n, *self.agree(values)).correlate(self.rows)),
            )
            for n in self.row_numbers()
        )
