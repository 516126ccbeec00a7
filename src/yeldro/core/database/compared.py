"""What rows are compared by: columns, or expressions over columns."""

from __future__ import annotations

from collections.abc import Callable, Iterable
from dataclasses import dataclass
from typing import Any

import sqlalchemy as sa

from yeldro.core.database import sql


@dataclass(frozen=True)
class Compared:
    """One column of a table, or one expression over its columns.

    Args:
        written: the column's name, or the expression as somebody wrote it.
        columns: the columns that it reads, in the order in which it reads them.
        pieces: the SQL of an expression around those columns, one piece more than there are
            columns; empty for a column.
    """

    written: str
    columns: tuple[str, ...]
    pieces: tuple[str, ...] = ()

    @property
    def column(self) -> str | None:
        """The column, None for an expression."""
        return None if self.pieces else self.columns[0]

    def value(self, rows: sa.FromClause) -> sa.ColumnElement[Any]:
        """Return its value in `rows`, which hold the columns that it reads."""
        values = sql.columns_of(rows, self.columns)
        return sql.Composed(self.pieces, values) if self.pieces else values[0]

    def text(self, quoted: Callable[[str], str]) -> str:
        """Return it as SQL on the table itself; `quoted` writes the name of a column."""
        if not self.pieces:
            return quoted(self.columns[0])
        return sql.woven(self.pieces, map(quoted, self.columns))


def of_columns(names: Iterable[str]) -> tuple[Compared, ...]:
    """Return what compares columns of these names as they are."""
    return tuple(Compared(name, (name,)) for name in names)


def columns_read(by: Iterable[Compared]) -> tuple[str, ...]:
    """Return the columns that are read, each once."""
    return tuple(dict.fromkeys(name for each in by for name in each.columns))


def composed(
    write: Callable[[Callable[[str], str]], str], quoted: Callable[[str], str] = str
) -> Compared:
    """Return an expression over columns.

    Args:
        write: writes it as SQL; the function that it is given writes the name of a column.
        quoted: writes such a name for people.
    """
    parts = write(lambda name: f"\0{name}\0").split("\0")
    return Compared(write(quoted), tuple(parts[1::2]), tuple(parts[::2]))
