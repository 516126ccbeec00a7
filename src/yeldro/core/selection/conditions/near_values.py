"""What is stored in place of a value that matches nothing: a sample of the column is searched."""

from __future__ import annotations

import difflib
from bisect import bisect_left
from collections.abc import Iterator, Sequence
from datetime import date
from decimal import Decimal
from typing import TYPE_CHECKING, Any

import sqlalchemy as sa
from sqlglot import exp

from yeldro.core.database import sql
from yeldro.core.database.catalogue import find_table
from yeldro.core.selection.conditions.filters import bindable
from yeldro.core.selection.conditions.parameters import kind_of
from yeldro.core.selection.conditions.parsing import conjuncts, equalities, parse

if TYPE_CHECKING:
    from yeldro.core.database.protocol import Session
    from yeldro.core.model.tables.schema import Column, Table
    from yeldro.core.selection.asked import Selection

_SEARCHED = ("text", "number", "date", "datetime")  # kinds of columns
_SAMPLED = 10_000  # rows
_COMPARED = 2_000  # different values
_NEAR = 3
_LONGEST = 60  # characters of a value that is shown


def near_values(session: Session, selection: Selection, table: Table) -> list[str]:
    """Return, for values that a filter without a match asks for, what is stored near them.

    Looks at parts of the filter that must all hold and compare a column with one value. At most
    10,000 rows of each column are read, without any order, and the sentence says so.
    """
    named = find_table(session.catalogue, selection.table)
    if selection.where is None or named.name != table.name or table.heirs:
        return []  # the columns of a view are not those of its table
    (tree,) = parse(selection.where, session.traits.sql_dialect)
    found = []
    for part, column, wanted in _asked_for(tree, table, selection):
        if _matches_sampled(session, table, part, selection):
            continue
        sample, whole = _sample(session, table, column)
        in_order = kind_of(column) != "text"
        near = _beside(wanted, sample) if in_order else _alike(str(wanted), sample)
        if near:
            rows = "No row" if whole else f"None of {_SAMPLED:,} sampled rows"
            listed = ", ".join(_told(each) for each in near)
            found.append(f"{rows} has {column.name} = {_told(wanted)}; near it: {listed}.")
    return found


def _asked_for(
    tree: exp.Expr, table: Table, selection: Selection
) -> Iterator[tuple[exp.Expr, Column, Any]]:
    """Yield the parts by which a column must equal a value, with the column and the value."""
    for condition in conjuncts(tree):
        for name, other in equalities(condition, table):
            value = _value(other, selection)
            if value is not None and kind_of(table.by_name[name]) in _SEARCHED:
                yield condition, table.by_name[name], value


def _matches_sampled(session: Session, table: Table, part: exp.Expr, selection: Selection) -> bool:
    """True if the database finds a sampled row for which this part of the filter is true."""
    rows = sql.rows_of(table)
    some = sa.select(rows).limit(_SAMPLED).subquery(sql.quoted(table.name.name))
    condition, names = bindable(part, session.traits.sql_dialect)
    bound = sql.bound(condition, names, selection.parameters, session.parameter)
    query: sa.Select[Any] = sa.select(sa.literal_column("1")).select_from(some)
    query = query.where(bound).limit(1)
    return session.connection.execute(query).first() is not None


def _value(node: exp.Expr, selection: Selection) -> Any:
    """Return the value that a literal or a parameter stands for, None if it is neither."""
    if isinstance(node, exp.Placeholder):
        return selection.parameters.get(node.name)
    if isinstance(node, exp.Literal):
        return node.this if node.is_string else node.to_py()
    return None


def _sample(session: Session, table: Table, column: Column) -> tuple[list[Any], bool]:
    """Return different values of a column, and whether every row was looked at."""
    rows = sql.rows_of(table)
    first = sa.select(rows.c[column.name].label("v")).select_from(rows).limit(_SAMPLED)
    some = first.subquery("yeldro_sample")
    query = sa.select(some.c.v, sa.func.count()).group_by(some.c.v).order_by(sa.func.count().desc())
    found = session.connection.execute(query.limit(_COMPARED)).all()
    whole = sum(number for _, number in found) < _SAMPLED and len(found) < _COMPARED
    return [value for value, _ in found], whole


def _beside(wanted: Any, sample: Sequence[Any]) -> list[Any]:
    """Return the numbers or dates right below and above."""
    values: list[Any] = sorted(v for v in sample if isinstance(v, int | float | Decimal))
    if not isinstance(wanted, int | float | Decimal):
        wanted = str(wanted)
        values = sorted(str(v) for v in sample if isinstance(v, str | date))
    place = bisect_left(values, wanted)
    return values[max(place - 1, 0) : place + 1]


def _alike(wanted: str, sample: Sequence[Any]) -> list[str]:
    """Return the texts that look most alike, case and outer spaces passed over."""
    folded: dict[str, str] = {}
    for text in (v for v in sample if isinstance(v, str) and len(v) <= _LONGEST):
        folded.setdefault(text.casefold().strip(), text)
    close = difflib.get_close_matches(wanted.casefold().strip(), folded, _NEAR, 0.6)
    return [folded[each] for each in close]


def _told(value: Any) -> str:
    return repr(value) if isinstance(value, str | float) else str(value)
