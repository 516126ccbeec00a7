"""What is stored in the columns that a statement compares, so that nothing is guessed."""

from __future__ import annotations

from typing import TYPE_CHECKING, Any

import sqlalchemy as sa
from sqlglot import exp

from yeldro.core.database import sql
from yeldro.core.selection.conditions.parameters import kind_of
from yeldro.formats.foreign.scope import Known
from yeldro.formats.foreign.unlike import Unlike

if TYPE_CHECKING:
    from yeldro.core.database.protocol import Session
    from yeldro.core.model.schema import Table

MOST_VALUES = 200_000
_DAY = "[0-9][0-9][0-9][0-9]-[0-9][0-9]-[0-9][0-9]"
_TIME = "[0-9][0-9]:[0-9][0-9]:[0-9][0-9]"


class Stored:
    """Asks one database what its columns hold."""

    def __init__(self, session: Session) -> None:
        self.session = session
        self.dialect = session.traits.sql_dialect
        self._folds_names = self.dialect in ("mysql", "mariadb")
        self._held: dict[Known, bool] = {}
        self._forms: dict[Known, str] = {}

    def texts(self, known: Known, said: str) -> list[tuple[str | None, bool | None]]:
        """Return each value of a text column, with what this database says of it.

        Args:
            said: a condition on the column, in this database's SQL.

        Returns:
            One more than `MOST_VALUES` at most.
        """
        name = self._name(known)
        value = f"CAST({name} AS BINARY)" if self._folds_names else name
        query = (
            f"SELECT DISTINCT {value}, CASE WHEN {said} THEN 1 WHEN NOT ({said}) THEN 0 END "
            f"FROM {self._table(known)}"
        )
        with self._run(query) as found:
            rows = found.fetchmany(MOST_VALUES + 1)
        return [
            (_as_text(value), None if here is None else bool(here))
            for value, here in map(tuple, rows)
        ]

    def is_told_apart(self, known: Known) -> bool:
        """True if a text column's values stay apart under any collation."""
        name = self._name(known)
        exact = f"BINARY {name}" if self._folds_names else name
        told, merged, odd = self._row(
            f"SELECT count(DISTINCT {exact}), count(DISTINCT {_loose(name)}),"
            f" coalesce(sum(CASE WHEN {self._odd(name)} THEN 1 ELSE 0 END), 0)"
            f" FROM {self._table(known)}"
        )
        return bool(told == merged and not odd)

    def compare_alike(self, one: Known, other: Known, *, empty_is_null: bool) -> bool:
        """True if the same values of two text columns are equal under any collation."""
        ours, theirs = f"a.{self._name(one)}", f"b.{self._name(other)}"
        exact = f"{ours} = {theirs}"
        if self._folds_names:
            exact += f" AND BINARY {ours} = BINARY {theirs}"
        queries = [
            f"SELECT count(*) FROM {self._table(one)} AS a JOIN {self._table(other)} AS b"
            f" ON {_loose(ours)} = {_loose(theirs)} WHERE NOT ({exact})"
        ]
        for known in (one, other):
            name, table = self._name(known), self._table(known)
            queries.append(f"SELECT count(*) FROM {table} WHERE {self._odd(name)}")
            if empty_is_null:
                queries.append(f"SELECT count(*) FROM {table} WHERE {name} = ''")
        return not any(self._row(query)[0] for query in queries)

    def is_of_its_kind(self, known: Known) -> bool:
        """True if a column holds only numbers, or truth values, as its type says.

        SQLite stores what it is given, whatever a column's type.
        """
        if self.dialect != "sqlite" or known.kind not in ("number", "boolean"):
            return True
        name = self._name(known)
        wrong = f"typeof({name}) IN ('text', 'blob')"
        if known.kind == "boolean":
            wrong = f"{name} NOT IN (0, 1)"
        if known not in self._held:
            query = f"SELECT count(*) FROM {self._table(known)} WHERE {wrong}"
            self._held[known] = not self._row(query)[0]
        return self._held[known]

    def blank_texts(self, table: Table) -> bool:
        """True if a row has a text of blanks alone, which is empty under some collations."""
        texts = [
            self._name(Known("text", table, column))
            for column in table.columns
            if kind_of(column) == "text"
        ]
        blank = [f"({name} <> '' AND trim({name}) = '')" for name in texts] or ["1 = 0"]
        named = sql.written(self.session.connection, table.name)
        return bool(self._row(f"SELECT count(*) FROM {named} WHERE {' OR '.join(blank)}")[0])

    def has_null(self, known: Known) -> bool:
        """True if a column holds NULL."""
        query = f"SELECT count(*) FROM {self._table(known)} WHERE {self._name(known)} IS NULL"
        return bool(self._row(query)[0])

    def days_as(self, known: Known, node: exp.Expr) -> str:
        """Return `date` or `datetime`: how the days of a column are stored.

        SQLite stores what it is given, so every value is looked at.

        Raises:
            Unlike: some are stored in another form.
        """
        if self.dialect != "sqlite":
            return str(known.kind)
        if known not in self._forms:
            self._forms[known] = self._form_of_days(known)
        if self._forms[known]:
            return self._forms[known]
        raise Unlike(
            node,
            "is about days that are stored in several forms, or in another than 2018-01-31 or "
            "2018-01-31 12:00:00",
            "Compare them as they are stored, and drop ‹dialect›.",
        )

    def _form_of_days(self, known: Known) -> str:
        """Return the form of all days in a column; empty if there are several, or another one."""
        name = self._name(known)
        days, moments, every = self._row(
            f"SELECT coalesce(sum({name} GLOB '{_DAY}'), 0),"
            f" coalesce(sum({name} GLOB '{_DAY} {_TIME}'), 0), count({name})"
            f" FROM {self._table(known)}"
        )
        if every == days:
            return "date"
        return "datetime" if every == moments else ""

    def _odd(self, name: str) -> str:
        """Return a condition that finds text with more than the characters of ASCII."""
        if self.dialect == "sqlite":
            return f"{name} GLOB '*[^ -~]*'"
        return f"{name} {'~' if self.dialect == 'postgres' else 'REGEXP'} '[^ -~]'"

    def _name(self, known: Known) -> str:
        preparer = self.session.connection.dialect.identifier_preparer
        return str(preparer.quote_identifier(known.stored[1].name))

    def _table(self, known: Known) -> str:
        return sql.written(self.session.connection, known.stored[0].name)

    def _row(self, query: str) -> Any:
        with self._run(query) as found:
            return found.one()

    def _run(self, query: str) -> sa.CursorResult[Any]:
        return sql.as_written(self.session.connection, query)


def _loose(name: str) -> str:
    return f"lower(trim({name}))"


def _as_text(value: Any) -> str | None:
    if isinstance(value, bytes):
        return value.decode("utf-8", "surrogateescape")
    return value if value is None else str(value)
