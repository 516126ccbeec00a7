"""Rows that a restore put back, so that they can be taken away again."""

from __future__ import annotations

from typing import Any

import sqlalchemy as sa

from yeldro.core.database import sql
from yeldro.core.restore.staged.undoing import UndoneRows


class AddedRows(UndoneRows):
    """The rows that one step of a restore added."""

    def lock_parents(self) -> None:
        """Do nothing: rows that go need no parents."""

    def narrow(self) -> None:
        """Leave out what is gone already."""
        if not self.told_by_count and self.missing < self.stored:
            self.take_out(~self.as_stored)

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
