"""What the core composes, for systems that lack some forms of it: each is written in another one.

A compiler that mixes this in takes any statement of the core. The forms mean the same on every
system; those that have the shorter ones keep them, as they are quicker there.
"""

from __future__ import annotations

from collections.abc import Collection
from typing import Any

import sqlalchemy as sa
from sqlalchemy.exc import CompileError
from sqlalchemy.sql import elements, operators
from sqlalchemy.sql.compiler import SQLCompiler

_ONE, _ZERO = sa.literal_column("1", sa.Integer), sa.literal_column("0", sa.Integer)
_NEVER_NULL = (operators.is_, operators.is_not)
_RANKING = ("row_number", "rank", "dense_rank", "first_value")
_VALUES = (
    elements.BindParameter, elements.Case, elements.Cast, elements.ColumnClause, elements.Label,
    elements.Null, sa.ScalarSelect, elements.TextClause, sa.sql.functions.FunctionElement,
)  # fmt: skip


class PlainForms(SQLCompiler):
    """Writes no lists of values as one value, no window without an order, no predicate as a value.

    Attributes:
        any_order: what a window is ordered by if any order will do.

    Raises:
        CompileError: a statement has a form that is to be composed in another way from the start:
            rows that are locked as they are read, or a recursive query that drops repeated rows.
    """

    any_order = "(SELECT NULL)"

    def visit_binary(self, binary: Any, *args: Any, **kw: Any) -> str:
        left, right = binary.left, binary.right
        if isinstance(left, elements.Tuple):
            around = self.stack[-1]["correlate_froms"] if self.stack else ()
            return str(self.process(_by_columns(left, right, binary.operator, around), **kw))
        return str(super().visit_binary(binary, *args, **kw))  # type: ignore[no-untyped-call]

    def visit_over(self, over: elements.Over[Any], **kw: Any) -> str:
        name = getattr(over.element, "name", "")
        if name in _RANKING and not (over.order_by is not None and len(over.order_by)):
            order: sa.ColumnElement[Any] = sa.literal_column(self.any_order)
            ranking: Any = over.element
            over = sa.over(ranking, partition_by=over.partition_by, order_by=order)
        return str(super().visit_over(over, **kw))  # type: ignore[no-untyped-call]

    def visit_coalesce_func(self, function: sa.sql.functions.coalesce[Any], **kw: Any) -> str:
        values = list(function.clauses)
        if len(values) == 2 and isinstance(values[1], elements.False_):
            return self.process(sa.case((values[0], _ONE), else_=_ZERO), **kw)
        return f"coalesce({', '.join(self.process(as_value(each), **kw) for each in values)})"

    def _label_select_column(self, select: Any, column: Any, *args: Any, **kw: Any) -> str:
        if isinstance(column, elements.Label):
            value = as_value(column.element)
            column = column if value is column.element else value.label(column.name)
        else:
            column = as_value(column)
        labelled = super()._label_select_column  # type: ignore[no-untyped-call,unused-ignore]
        return str(labelled(select, column, *args, **kw))  # type: ignore[no-untyped-call]

    def for_update_clause(self, select: Any, **kw: Any) -> str:
        del kw
        raise CompileError(f"rows cannot be locked as they are read: {select}")

    def visit_cte(self, cte: Any, *args: Any, **kw: Any) -> Any:
        union = getattr(cte.element, "keyword", None)
        if cte.recursive and union is sa.sql.selectable._CompoundSelectKeyword.UNION:
            raise CompileError(f"a recursive query cannot drop repeated rows: {cte.name}")
        return super().visit_cte(cte, *args, **kw)


def as_value(element: sa.ColumnElement[Any]) -> sa.ColumnElement[Any]:
    """Return 1 or 0 for a predicate, NULL where it is neither true nor false, else the element."""
    inner: Any = element
    while isinstance(inner, elements.Grouping):
        inner = inner.element
    if not isinstance(inner.type, sa.Boolean) or isinstance(inner, _VALUES):
        return element
    if isinstance(inner, sa.Exists) or getattr(inner, "operator", None) in _NEVER_NULL:
        return sa.case((inner, _ONE), else_=_ZERO)
    return sa.case((inner, _ONE), (sa.not_(inner), _ZERO))


def _by_columns(
    left: elements.Tuple, right: Any, operator: Any, around: Collection[sa.FromClause]
) -> sa.ColumnElement[bool]:
    """Return a comparison of several values at once as comparisons of single ones.

    Args:
        around: the tables of the statement in which it stands.
    """
    ours = list(left.clauses)
    if operator in (operators.in_op, operators.not_in_op):
        while isinstance(right, elements.Grouping | sa.ScalarSelect):
            right = right.element
        found = _is_in(ours, right, around)
        return found if operator is operators.in_op else sa.not_(found)
    theirs = list(right.clauses)
    if operator is operators.gt:
        later = (
            sa.and_(*(a == b for a, b in zip(ours[:n], theirs[:n], strict=True)), own > other)
            for n, (own, other) in enumerate(zip(ours, theirs, strict=True))
        )
        return elements.Grouping(sa.or_(*later))
    raise CompileError(f"several values are compared at once: {left} {operator} {right}")


def _is_in(
    ours: list[sa.ColumnElement[Any]], rows: Any, around: Collection[sa.FromClause]
) -> sa.ColumnElement[bool]:
    """True if the values stand in the rows of a query that looks at nothing around it."""
    depends = rows._correlate or (rows._auto_correlate and {*rows.get_final_froms()} & {*around})
    if not isinstance(rows, sa.Select) or depends:
        raise CompileError(f"several values are looked for in what depends on them: {rows}")
    names = [f"yeldro_in_{place}" for place in range(len(ours))]
    columns = zip(rows.selected_columns, names, strict=True)
    listed = rows.with_only_columns(
        *(as_value(column).label(name) for column, name in columns), maintain_column_froms=True
    ).subquery("yeldro_in")
    same = (as_value(own) == listed.c[name] for own, name in zip(ours, names, strict=True))
    return sa.exists(sa.select(sa.literal_column("1")).select_from(listed).where(*same))
