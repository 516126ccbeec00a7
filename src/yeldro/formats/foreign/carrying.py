"""Carries the conditions of a statement over from another system.

Only what is known to mean the same here is carried over. Days and numbers are computed and
compared as written; conditions on text are held against every value that is stored.
"""

from __future__ import annotations

from collections.abc import Iterator, Mapping
from dataclasses import replace
from datetime import date, datetime
from decimal import Decimal
from typing import TYPE_CHECKING, Any

from sqlglot import exp

from yeldro.core.database.catalogue import find_source
from yeldro.core.model.errors import UsageError
from yeldro.core.selection.conditions.parameters import Typed, unquoted_text
from yeldro.formats.foreign.constants import NOT_CONSTANT, Constants
from yeldro.formats.foreign.days import KINDS as DAYS
from yeldro.formats.foreign.days import TURNED, Days
from yeldro.formats.foreign.lists import either, of_array
from yeldro.formats.foreign.scope import Known, Scope
from yeldro.formats.foreign.stored import Stored
from yeldro.formats.foreign.text_conditions import Texts, refuse_marks
from yeldro.formats.foreign.texts import number_of
from yeldro.formats.foreign.unlike import Unlike

if TYPE_CHECKING:
    from yeldro.core.database.protocol import Session
    from yeldro.formats.statements import Statement

_COMPARISONS = (exp.EQ, exp.NEQ, exp.LT, exp.LTE, exp.GT, exp.GTE)
_CLOCKS = {
    "sqlite": "SELECT datetime('now', 'localtime')",
    "postgres": "SELECT localtimestamp(0)",
    "mysql": "SELECT now()",
    "mariadb": "SELECT now()",
}
_ALLOWED = {"this", "expressions", "from_", "joins", "where", "group", "having", "distinct",
            "kind", "with_", "order", "operator_modifiers"}  # fmt: skip


class Carrier:
    """Carries statements over to one database.

    Args:
        source: the dialect in which they are written.
        parameters: the values of `:name` parameters, as they were typed.
    """

    def __init__(self, session: Session, source: str, parameters: Mapping[str, Any]) -> None:
        self.session = session
        self.source = source
        self.dialect = "tsql" if source == "access" else source  # by which it was parsed
        self.own = session.traits.sql_dialect
        self.parameters = parameters
        self.constants = Constants(source, self._clock)
        self.stored = Stored(session)
        self.days = Days(source, self.constants, self.stored)
        self.texts = Texts(source, self._value, self.stored)

    def carried(self, tree: exp.Delete) -> exp.Delete:
        """Return a DELETE statement as it means the same here.

        Raises:
            Unlike: a part of it may mean something else here.
        """
        tree = tree.copy()
        scope = Scope()
        self._with(tree, scope)
        for source in _tables(tree):
            self._add(source, scope)
        for join in _joins(tree):
            self._join(join, scope)
        where = tree.args.get("where")
        if where is not None:
            where.set("this", self._condition(where.this, scope))
        for each in (tree.args.get("order") or exp.Order(expressions=[])).expressions:
            self.check_ordered(each, scope)
        return tree

    def _clock(self) -> datetime:
        found = self.session.connection.exec_driver_sql(_CLOCKS[self.own]).scalar_one()
        return datetime.fromisoformat(found) if isinstance(found, str) else found

    # Sources

    def _add(self, source: exp.Expr, scope: Scope) -> None:
        """Add a table or a query that is selected from."""
        if isinstance(source, exp.Subquery):
            scope.sources[source.alias.casefold()] = self._query(source.this, scope)
            return
        if not isinstance(source, exp.Table) or not isinstance(source.this, exp.Identifier):
            raise Unlike(source, "is no table and no query")
        named = None if source.db else scope.query(source.name)
        if named is not None:
            scope.sources[source.alias_or_name.casefold()] = named
            return
        catalogue = self.session.catalogue
        try:
            found = find_source(catalogue, source.db, source.name)
        except UsageError:
            if not source.db:
                raise
            found = find_source(catalogue, "", source.name)  # a schema of that system
            source.set("db", None)
        source.set("catalog", None)
        scope.add_table(source.alias_or_name, found)

    def _join(self, join: exp.Join, scope: Scope) -> None:
        if join.args.get("using") or join.method or join.side not in ("", "LEFT", "RIGHT"):
            raise Unlike(join, "is a join that is not known here", "Write JOIN … ON.")
        if join.args.get("on"):
            join.set("on", self._condition(join.args["on"], scope))

    def _with(self, tree: exp.Expr, scope: Scope) -> None:
        with_ = tree.args.get("with_")
        if with_ is None:
            return
        if with_.args.get("recursive"):
            raise Unlike(with_, "is recursive", "Use ‹follow› for a tree.")
        for each in with_.expressions:
            scope.named[each.alias.casefold()] = self._query(each.this, scope)

    def _query(self, query: exp.Expr, around: Scope) -> dict[str, Known]:
        """Carry a query over; return its columns."""
        query = query.unnest()
        if isinstance(query, exp.Union):
            found, other = (self._query(each, around) for each in (query.this, query.expression))
            if [each.kind for each in found.values()] != [each.kind for each in other.values()]:
                raise Unlike(query, "joins columns of kinds that are not alike", "Write two.")
            return {name: Known(each.kind) for name, each in found.items()}
        if not isinstance(query, exp.Select):
            raise Unlike(query, "is a query that is not known here", "Write a SELECT.")
        others = {name for name, value in query.args.items() if value} - _ALLOWED
        if others:
            what = sorted(others)[0].strip("_").upper()
            raise Unlike(query, f"has {what}, whose meaning differs", "Leave it out.")
        scope = Scope(around=around)
        self._with(query, scope)
        if query.args.get("from_"):
            self._add(query.args["from_"].this, scope)
        for join in query.args.get("joins") or ():
            self._add(join.this, scope)
        for join in query.args.get("joins") or ():
            self._join(join, scope)
        where, having, group = (query.args.get(name) for name in ("where", "having", "group"))
        if where is not None:
            where.set("this", self._condition(where.this, scope))
        for each in group.expressions if group is not None else ():
            self.check_grouped(each, scope)
        if having is not None:
            having.set("this", self._condition(having.this, scope))
        return dict(self._columns(query, scope))

    def _columns(self, query: exp.Select, scope: Scope) -> Iterator[tuple[str, Known]]:
        for each in query.expressions:
            inner = each.unalias()
            if isinstance(inner, exp.Star) or (
                isinstance(inner, exp.Column) and isinstance(inner.this, exp.Star)
            ):
                for columns in scope.sources.values():
                    yield from columns.items()
            elif isinstance(inner, exp.Window):
                self._window(inner, scope)
                yield each.alias_or_name, Known("number")
            elif isinstance(inner, exp.Literal) and not each.alias:
                yield str(inner.this), Known("number")
            else:
                kind, carried, known = self._side(inner, scope)
                inner.replace(carried)
                yield each.alias_or_name, known or Known(kind)

    def _window(self, window: exp.Window, scope: Scope) -> None:
        if not isinstance(window.this, exp.RowNumber) or window.args.get("spec"):
            raise Unlike(window, "is a window function that is not known here", "row_number()")
        for each in window.args.get("partition_by") or ():
            self.check_grouped(each, scope)
        for each in (window.args.get("order") or exp.Order(expressions=[])).expressions:
            self.check_ordered(each, scope)

    def check_grouped(self, node: exp.Expr, scope: Scope) -> None:
        """Refuse to group by text that the collation there may bring together."""
        known = scope.find(node) if isinstance(node, exp.Column) else None
        if known is None or known.kind is None:
            raise Unlike(node, "is grouped by, and is no column whose type is known",
                         "Group by columns.")  # fmt: skip
        if known.kind != "text" or known.table is None:
            return
        if not self.stored.is_told_apart(known):
            raise Unlike(
                node,
                "is grouped by, and has values that differ only in case, blanks or accents, which "
                "a collation there may pass over",
                "Use ‹duplicates_by›, with ‹ignore_case› or without.",
            )

    def check_ordered(self, node: exp.Expr, scope: Scope) -> None:
        """Refuse to order by what each system orders in its own way."""
        inner = node.this if isinstance(node, exp.Ordered) else node
        known = scope.find(inner) if isinstance(inner, exp.Column) else None
        if known is None or known.kind not in ("number", *DAYS) or known.table is None:
            raise Unlike(node, "orders by what each system orders in its own way",
                         "Order by columns of numbers or days.")  # fmt: skip
        if self.stored.has_null(known):
            raise Unlike(node, "has NULL, which systems put first or last", "Leave NULL out.")
        if known.kind in DAYS:
            self.stored.days_as(known, inner)
        if isinstance(node, exp.Ordered):
            node.set("nulls_first", None)

    # Conditions

    def _condition(self, node: exp.Expr, scope: Scope) -> exp.Expr:
        if isinstance(node, exp.Paren):
            return exp.Paren(this=self._condition(node.this, scope))
        if isinstance(node, exp.And | exp.Or):
            return type(node)(
                this=self._condition(node.this, scope),
                expression=self._condition(node.expression, scope),
            )
        if isinstance(node, exp.Not):
            with self.texts.negated():
                return exp.Not(this=self._condition(node.this, scope))
        if isinstance(node, exp.Exists):
            self._query(node.this, scope)
            return node
        if isinstance(node, exp.Between):
            low = exp.GTE(this=node.this.copy(), expression=node.args["low"])
            high = exp.LTE(this=node.this.copy(), expression=node.args["high"])
            pair = exp.And(this=self._compared(low, scope), expression=self._compared(high, scope))
            return exp.Paren(this=pair)
        if isinstance(node, exp.In):
            return self._among(node, scope)
        if isinstance(node, exp.Is):
            return self._is(node, scope)
        if isinstance(node, exp.Like | exp.ILike | exp.Escape):
            return self.texts.carried(node, scope)
        if isinstance(node, _COMPARISONS):
            return self._compared(node, scope)
        known = scope.find(node) if isinstance(node, exp.Column) else None
        if known is not None and known.kind == "boolean":
            return node
        if isinstance(node, exp.Boolean):
            return exp.EQ(this=exp.Literal.number(1), expression=exp.Literal.number(int(node.this)))
        raise Unlike(node, "is not known here as a condition",
                     "Write it with =, <, IN, LIKE, IS NULL or EXISTS.")  # fmt: skip

    def _is(self, node: exp.Is, scope: Scope) -> exp.Expr:
        known = scope.find(node.this) if isinstance(node.this, exp.Column) else None
        if not isinstance(node.expression, exp.Null) or known is None:
            raise Unlike(node, "is not known here", "Write COLUMN IS NULL.")
        if self.source == "oracle" and known.kind == "text":
            empty = exp.EQ(this=node.this.copy(), expression=exp.Literal.string(""))
            return exp.Paren(this=exp.Or(this=node, expression=empty))  # '' is NULL there
        return node

    def _among(self, node: exp.In, scope: Scope) -> exp.Expr:
        query = node.args.get("query")
        if query is None:
            if self._kind_of(node.this, scope) == "text":
                return self.texts.carried(node, scope)
            each = [
                self._compared(exp.EQ(this=node.this.copy(), expression=each), scope)
                for each in node.expressions
            ]
            if not each:
                raise Unlike(node, "is a list that is not known here", "Write IN (1, 2).")
            return either(each)
        found = list(self._query(query, scope).values())
        sides = node.this.expressions if isinstance(node.this, exp.Tuple) else [node.this]
        if len(found) != len(sides):
            raise Unlike(node, "compares with another number of columns")
        for side, known in zip(sides, found, strict=True):
            own = scope.find(side) if isinstance(side, exp.Column) else None
            if own is None:
                raise Unlike(side, "is no column", "Compare a column with the query.")
            self._alike(node, own, known)
        return node

    def _alike(self, node: exp.Expr, one: Known, other: Known) -> None:
        """Refuse to compare two columns whose values need not compare as they do there."""
        kinds = {one.kind, other.kind}
        if kinds in ({"number"}, {"boolean"}):
            return
        if kinds <= set(DAYS) and one.is_stored and other.is_stored:
            if self.stored.days_as(one, node) == self.stored.days_as(other, node):
                return
        elif kinds == {"text"} and one.is_stored and other.is_stored:
            if self.stored.compare_alike(one, other, empty_is_null=self.source == "oracle"):
                return
            raise Unlike(
                node,
                "compares texts that differ only in case, blanks or accents, which a collation "
                "there may pass over",
                "Use ‹matching› or ‹missing_in›.",
            )
        raise Unlike(node, "compares columns whose types are not alike, or not known here",
                     "Use ‹matching› or ‹missing_in›.")  # fmt: skip

    def _compared(self, node: exp.Expr, scope: Scope) -> exp.Expr:
        """Carry a comparison over, with the column on the left."""
        refuse_marks(node)
        left, right = node.this, node.expression
        if isinstance(right, exp.Any):
            return self._among(exp.In(this=left, expressions=of_array(right)), scope)
        value, other = self._value(right), self._value(left)
        if value is NOT_CONSTANT and other is not NOT_CONSTANT:
            turned = TURNED.get(type(node), type(node))
            return self._compared(turned(this=right, expression=left), scope)
        if value is not NOT_CONSTANT and other is not NOT_CONSTANT:
            if isinstance(value, int | Decimal) and isinstance(other, int | Decimal):
                return node
            raise Unlike(node, "compares no column", "Leave it out.")
        if self._kind_of(left, scope) == "text" and value is not NOT_CONSTANT and not isinstance(
            value, date
        ):  # fmt: skip
            return self.texts.carried(node, scope)
        if value is not NOT_CONSTANT:
            columns = list(left.find_all(exp.Column))
            found = scope.find(columns[0]) if len(columns) == 1 else None
            if found is not None and found.is_stored:
                days = self.days.carried(node, columns[0], found, value)
                if days is not None:
                    return days
        kind, carried, known = self._side(left, scope)
        if value is NOT_CONSTANT:
            other_kind, other_side, other_known = self._side(right, scope)
            if known and other_known:
                if not isinstance(node, exp.EQ | exp.NEQ) and known.kind == "text":
                    raise Unlike(node, "orders text, which each collation does in its own way")
                self._alike(node, known, other_known)
            elif (kind, other_kind) != ("number", "number"):
                raise Unlike(node, "compares values of kinds that are not alike")
            return type(node)(this=carried, expression=other_side)
        return type(node)(this=carried, expression=self._written(node, kind, value, right))

    def _written(self, node: exp.Expr, kind: str | None, value: Any, given: exp.Expr) -> exp.Expr:
        """Return a constant as it is compared with values of a kind."""
        if isinstance(given, exp.Placeholder):
            return given
        if value is None:
            raise Unlike(node, "compares with NULL, which is never true", "Write IS NULL.")
        if kind == "number":
            if self.source == "sqlite" and isinstance(value, str):
                raise Unlike(node, "compares a number with a text", "Write it without quotes.")
            number = number_of(value) if isinstance(value, str) else value
            if isinstance(number, bool) or not isinstance(number, int | Decimal):
                raise Unlike(node, "compares a number with what is none")
            return exp.Literal.number(str(number)) if number >= 0 else exp.Neg(
                this=exp.Literal.number(str(-number)))  # fmt: skip
        if kind == "boolean":
            truth = {"true": 1, "false": 0, "1": 1, "0": 0, "-1": 1, "t": 1, "f": 0}
            found = truth.get(str(value if not isinstance(value, bool) else int(value)).lower())
            if found is None or not isinstance(node, exp.EQ | exp.NEQ):
                raise Unlike(node, "compares a truth value with what is none")
            if self.own == "postgres":
                return exp.Boolean(this=bool(found))
            return exp.Literal.number(found)
        raise Unlike(node, "compares a column of a type that is not known here",
                     "Compare numbers, texts or days.")  # fmt: skip

    def _value(self, node: exp.Expr) -> Any:
        if isinstance(node, exp.Placeholder):
            typed = self.parameters.get(node.name)
            return unquoted_text(typed.text) if isinstance(typed, Typed) else typed
        return self.constants.value(node)

    # Values

    def _kind_of(self, node: exp.Expr, scope: Scope) -> str | None:
        """Return the kind of an expression by its columns, without carrying it over."""
        if isinstance(node, exp.Length):
            return "text"  # it is computed from text, and held against the stored values
        if node.find(exp.Query):
            return None
        kinds = {known.kind if (known := scope.find(each)) else None
                 for each in node.find_all(exp.Column)}  # fmt: skip
        return kinds.pop() if len(kinds) == 1 else None

    def _side(self, node: exp.Expr, scope: Scope) -> tuple[str | None, exp.Expr, Known | None]:
        """Return the kind of an expression, the expression as it is here, and its column."""
        if isinstance(node, exp.Paren):
            kind, inner, known = self._side(node.this, scope)
            return kind, exp.Paren(this=inner), known
        if isinstance(node, exp.Column):
            return self._column(node, scope)
        if isinstance(node, exp.Subquery):
            (known,) = list(self._query(node.this, scope).values())[:1] or [Known(None)]
            return known.kind, node, None if known.table is None else known
        if isinstance(node, exp.AggFunc):
            return self._aggregate(node, scope)
        if isinstance(node, exp.Add | exp.Sub | exp.Mul | exp.Neg):
            parts = [each for each in (node.this, node.args.get("expression")) if each is not None]
            sides = [self._side(each, scope) for each in parts]
            if all(kind == "number" for kind, _, _ in sides):
                carried = node.copy()
                for name, (_, side, _) in zip(("this", "expression"), sides, strict=False):
                    carried.set(name, side)
                return "number", carried, None
        value = self.constants.value(node)
        if isinstance(value, int | Decimal) and not isinstance(value, bool):
            return "number", self._written(node, "number", value, node), None
        raise Unlike(node, "is computed by rules that differ, or is not known here",
                     "Compare columns with values.")  # fmt: skip

    def _aggregate(
        self, node: exp.AggFunc, scope: Scope
    ) -> tuple[str | None, exp.Expr, Known | None]:
        if isinstance(node, exp.Count) and not isinstance(node.this, exp.Distinct):
            return "number", node, None
        if isinstance(node, exp.Min | exp.Max | exp.Sum):
            kind, inner, known = self._side(node.this, scope)
            if kind == "number":
                return kind, type(node)(this=inner), known
            if kind in DAYS and known and not isinstance(node, exp.Sum):
                self.stored.days_as(known, node)
                return kind, type(node)(this=inner), known
        raise Unlike(
            node,
            "is computed from what each system orders or groups in its own way",
            "Take the smallest or largest of numbers or days.",
        )

    def _column(self, node: exp.Column, scope: Scope) -> tuple[str | None, exp.Expr, Known | None]:
        if node.name.upper() in ("ROWNUM", "ROWID", "CTID", "LEVEL") and scope.find(node) is None:
            raise Unlike(
                node,
                "picks rows by where they happen to be stored",
                "Write an order without ties and a limit: ‹order_by› and ‹limit›.",
            )
        refuse_marks(node)
        known = scope.find(node)
        if known is None:
            return None, node, None  # an unknown name is told when the filter is checked
        if known.is_stored and not self.stored.is_of_its_kind(known):
            raise Unlike(
                node,
                "holds values that are not of its type",
                "Compare them as they are stored, and drop ‹dialect›.",
            )
        return known.kind, node, known


def carried(statement: Statement, carrier: Carrier) -> Statement:
    """Return a statement of another system as it means the same here.

    Raises:
        UsageError: a part of it may mean something else here; its place is named.
    """
    if not isinstance(statement.tree, exp.Delete):
        return statement
    try:
        return replace(statement, tree=carrier.carried(statement.tree))
    except Unlike as found:
        part = found.node.sql(carrier.dialect)
        placed: exp.Expr | None = found.node
        while placed is not None and placed.find(exp.Identifier) is None:
            placed = placed.parent
        statement.refuse(f"{part} {found.problem}.", found.next_step, placed)


def _tables(tree: exp.Delete) -> Iterator[exp.Expr]:
    """Yield what a DELETE selects from; a name that only says which of them loses rows is left."""
    sources = _sources(tree)
    named = {each.alias.casefold() for each in sources if each.alias}
    named |= {join.this.alias.casefold() for join in _joins(tree) if join.this.alias}
    for each in sources:
        if each.alias or each.name.casefold() not in named:
            yield each
    for join in _joins(tree):
        yield join.this


def _sources(tree: exp.Delete) -> list[exp.Expr]:
    using = list(tree.args.get("using") or ())
    if tree.this:
        return [tree.this, *using]
    return [*(tree.args.get("tables") or ()), *using]


def _joins(tree: exp.Delete) -> list[exp.Join]:
    return [join for each in _sources(tree) for join in each.args.get("joins") or ()]
