"""Conditions that are right as SQL, and seldom what is meant."""

from __future__ import annotations

import re
from collections.abc import Iterator
from functools import cached_property
from typing import TYPE_CHECKING, Any

import sqlalchemy as sa
from sqlglot import exp

from yeldro.core.database import sql
from yeldro.core.database.catalogue import find_table
from yeldro.core.selection.conditions.filters import bindable
from yeldro.core.selection.conditions.near_values import near_values
from yeldro.core.selection.conditions.parameters import kind_of
from yeldro.core.selection.conditions.parsing import conjuncts, own_column, parse, with_names

if TYPE_CHECKING:
    from yeldro.core.database.protocol import Session
    from yeldro.core.model.tables.schema import Column, Table
    from yeldro.core.selection.asked import Selection

_COMPARISONS = (exp.EQ, exp.NEQ, exp.LT, exp.LTE, exp.GT, exp.GTE)
_DAYS = ("date", "datetime")
_DAY = "[0-9][0-9][0-9][0-9]-[0-9][0-9]-[0-9][0-9]"
_WHOLE_DAY = re.compile(r"\d{4}-\d\d-\d\d")
_ISO_DAY = re.compile(r"\d{4}(-\d\d(-\d\d.*)?)?$", re.DOTALL)
_SAMPLE = 50
_TIME = "[0-9][0-9]:[0-9][0-9]"


def hints(
    session: Session, selection: Selection, table: Table, explain: bool, matched: bool
) -> list[str]:
    """Return what may be wrong with a filter, as sentences.

    Args:
        explain: somebody reads them before anything is done.
        matched: the filter has matched rows; if not, values near those it asks for are shown.
    """
    found = doubts(session, selection, table) if explain else []
    return found if matched else found + near_values(session, selection, table)


def doubts(session: Session, selection: Selection, table: Table) -> list[str]:
    """Return what a filter says that is seldom meant, as sentences.

    Looks at comparisons of the table's columns with values, and at lists of subqueries. It reads
    the table at most once for each comparison, up to the first row that settles it.
    """
    named = find_table(session.catalogue, selection.table)
    if selection.where is None or named.name != table.name:
        return []  # the columns of a view are not those of its table
    (tree,) = parse(selection.where, session.traits.sql_dialect)
    looking = _Looking(session, selection, table)
    found = [said for node in tree.find_all(*_COMPARISONS) for said in looking.at_comparison(node)]
    found += [said for node in tree.find_all(exp.Not) for said in looking.at_list(node)]
    found += [said for node in tree.find_all(exp.Window) for said in looking.at_window(node)]
    parts = list(conjuncts(tree))
    if len(parts) > 1 and not table.heirs:  # of one alone the number of matched rows tells it
        found += [said for part in parts for said in looking.at_part(part)]
    return list(dict.fromkeys(found))


class _Looking:
    """Looks at the parts of one filter."""

    def __init__(self, session: Session, selection: Selection, table: Table) -> None:
        self.session = session
        self.selection = selection
        self.table = table
        self.dialect = session.traits.sql_dialect
        self._samples: dict[str, list[str]] = {}

    def at_comparison(self, node: exp.Expr) -> Iterator[str]:
        """Yield what is wrong with the kinds of the two sides of a comparison."""
        sides = [node.this.unnest(), node.expression.unnest()]
        written = with_names(node).sql(dialect=self.dialect)
        if any(isinstance(each, exp.Null) for each in sides):
            yield f"{written} is true of no row, NULL or not; write IS NULL."
            return
        for one, other in (sides, sides[::-1]):
            column = self._column(one)
            if column is None:
                continue
            kind = kind_of(column)
            if kind in _DAYS and _is_number(other):
                yield (f"{written} compares the days of {column.name} with a number; a day stands "
                       "in quotes: '2021-01-31'.")  # fmt: skip
            if kind == "number" and self._is_word(other):
                yield f"{written} compares {column.name}, a number, with a text that is no number."
            if kind in (None, "text"):
                yield from self._no_such_day(column, other, written)
            if self.dialect.keeps_days_as_texts and (
                kind in _DAYS or _looks_like_a_day(self._value(other))
            ):
                yield from self._mixed(column)

    def at_list(self, node: exp.Expr) -> Iterator[str]:
        """Yield that a NOT IN is true of no row, since its list holds NULL."""
        inner = node.this.unnest()
        query = inner.args.get("query") if isinstance(inner, exp.In) else None
        select = query.unnest() if query is not None else None
        if not isinstance(select, exp.Select) or len(select.expressions) != 1:
            return
        if self._is_correlated(select) or select.find(exp.Placeholder):
            return
        listed = select.copy()
        value = exp.alias_(select.expressions[0].unalias().copy(), "yeldro_value", quoted=True)
        listed.expressions[0].replace(value)
        query = exp.select("1").from_(listed.subquery("yeldro_list"))
        missing = exp.Is(this=exp.column("yeldro_value", quoted=True), expression=exp.Null())
        text = query.where(missing).limit(1).sql(dialect=self.dialect, comments=False)
        if sql.as_written(self.session.connection, text).first() is not None:
            column = select.expressions[0].unalias().sql(dialect=self.dialect)
            yield (f"NOT IN is true of no row, as its list holds NULL; add WHERE {column} IS NOT "
                   "NULL inside it.")  # fmt: skip

    def at_window(self, node: exp.Expr) -> Iterator[str]:
        """Yield that rows are numbered in groups which are not read as duplicates."""
        groups = node.args.get("partition_by") or ()
        computed = [each for each in groups if not isinstance(each, exp.Column)]
        if isinstance(node.this, exp.RowNumber) and computed:
            named = with_names(computed[0]).sql(dialect=self.dialect)
            yield (
                f"Rows are numbered in groups of {named}, which is no column, so this is a "
                f"condition like any other: that a row of each group stays is not proved."
            )

    def at_part(self, part: exp.Expr) -> Iterator[str]:
        """Yield that a part of the filter holds for every row of the table, or for none."""
        columns = list(part.find_all(exp.Column))
        plain = isinstance(part, (*_COMPARISONS, exp.Between, exp.In, exp.Like, exp.Is))
        if not plain or part.find(exp.Query) or not columns or self._column(columns[0]) is None:
            return
        condition, names = bindable(part, self.dialect)
        told = with_names(part).sql(dialect=self.dialect)
        if not self._has_rows:
            return
        if not self._some(condition, names):
            yield f"No row of {self.table.name} fulfils {told}."
        elif not self._some(f"CASE WHEN {condition} THEN 0 ELSE 1 END = 1", names):
            yield f"Every row of {self.table.name} fulfils {told}."

    @cached_property
    def _has_rows(self) -> bool:
        return self._some("1 = 1", frozenset())

    def _some(self, condition: str, names: frozenset[str]) -> bool:
        """True if some row of the table meets a condition."""
        bound = sql.bound(condition, names, self.selection.parameters, self.session.parameter)
        query: sa.Select[Any] = sa.select(sa.literal_column("1"))
        query = query.select_from(sql.rows_of(self.table)).where(bound).limit(1)
        return self.session.connection.execute(query).first() is not None

    def _column(self, node: exp.Expr) -> Column | None:
        if not isinstance(node, exp.Column) or node.find_ancestor(exp.Select):
            return None
        name = own_column(node, self.table)
        return self.table.by_name[name] if name else None

    def _is_word(self, node: exp.Expr) -> bool:
        """True for a text in quotes that is no number."""
        if not isinstance(node, exp.Literal) or not node.is_string:
            return False
        try:
            float(str(node.this).strip())
        except ValueError:
            return True
        return False

    def _no_such_day(self, column: Column, other: exp.Expr, written: str) -> Iterator[str]:
        """Yield that a column holds days as text, and is compared with another text."""
        value = self._value(other)
        number = _is_number(other)
        if not number and (not isinstance(value, str) or _ISO_DAY.match(value)):
            return
        days = [each for each in self._stored(column) if _WHOLE_DAY.match(each)]
        if not days or len(days) < len(self._stored(column)):
            return
        yield (
            f"{written}: {column.name} holds days as text, such as {days[0]}, and texts are "
            f"compared character by character. "
            + ("A day stands in quotes: '2018-01-31'." if number else
               f"Write the day as the column does, and not as {value}.")
        )  # fmt: skip

    def _value(self, node: exp.Expr) -> Any:
        """Return the value of a text in quotes, or of a parameter; else None."""
        if isinstance(node, exp.Placeholder):
            return self.selection.parameters.get(node.name)
        return str(node.this) if isinstance(node, exp.Literal) and node.is_string else None

    def _stored(self, column: Column) -> list[str]:
        """Return the first few values of a column, as text."""
        if column.name not in self._samples:
            own = sql.rows_of(self.table).c[column.name]
            query = sa.select(own).where(own.is_not(None)).limit(_SAMPLE)
            found = self.session.connection.execute(query).scalars()
            self._samples[column.name] = [str(each) for each in found]
        return self._samples[column.name]

    def _mixed(self, column: Column) -> Iterator[str]:
        """Yield that days are stored in several forms, which SQLite compares as they are."""
        name = self.session.connection.dialect.identifier_preparer.quote_identifier(column.name)
        table = sql.written(self.session.connection, self.table.name)
        found: Any = sql.as_written(
            self.session.connection,
            f"SELECT coalesce(sum({name} GLOB '{_DAY}'), 0),"
            f" coalesce(sum({name} GLOB '{_DAY}[ T]{_TIME}*'), 0), count({name}) FROM {table}",
        ).one()
        days, moments, every = found
        if every not in (days, moments):
            yield (
                f"{column.name} holds days in several forms: {days:,} as 2018-01-31, "
                f"{moments:,} with a time, {every - days - moments:,} in others; SQLite compares "
                f"them as they are written."
            )

    def _is_correlated(self, select: exp.Select) -> bool:
        """True if a subquery names the table of the filter, or could."""
        own = {self.table.name.name.casefold()}
        sources = {each.alias_or_name.casefold() for each in select.find_all(exp.Table)}
        return any(
            (column.table and column.table.casefold() not in sources)
            or (not column.table and len(sources) != 1)
            for column in select.find_all(exp.Column)
        ) or (bool(own & sources) and any(not each.table for each in select.find_all(exp.Column)))


def _is_number(node: exp.Expr) -> bool:
    """True for a number, or a sum of numbers such as 2021-01-01."""
    if isinstance(node, exp.Literal):
        return not node.is_string
    parts = list(node.find_all(exp.Literal))
    if not isinstance(node, exp.Binary) or not parts or node.find(exp.Column, exp.Func):
        return False
    return not any(each.is_string for each in parts)


def _looks_like_a_day(value: Any) -> bool:
    """True for a day, and for a text that begins as one does."""
    text = str(value)
    return len(text) >= 10 and text[:4].isdigit() and text[4:8:3] == "--"
