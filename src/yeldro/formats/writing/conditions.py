"""A user's conditions in another system's SQL, read back before they are believed.

What is written for another system is read again by the rules by which statements of that system
are carried over to this database, and must pick the same rows as the condition did here. What
those rules do not know, or what picks other rows, is refused.
"""

from __future__ import annotations

from collections.abc import Sequence
from datetime import date, datetime
from typing import TYPE_CHECKING, NoReturn

import sqlglot
from sqlglot import exp

from yeldro.core.database import sql
from yeldro.core.database.catalogue import find_source
from yeldro.core.model.errors import Refused, UsageError
from yeldro.formats.foreign.carrying import Carrier, carried
from yeldro.formats.foreign.constants import read_iso
from yeldro.formats.foreign.days import KINDS as DAYS
from yeldro.formats.foreign.scope import Known, Scope
from yeldro.formats.foreign.text_conditions import with_escape
from yeldro.formats.foreign.texts import number_of
from yeldro.formats.foreign.unlike import Unlike
from yeldro.formats.statements import statements

if TYPE_CHECKING:
    from yeldro.core.database.protocol import Session
    from yeldro.core.model.schema import Table
    from yeldro.core.selection.asked import Selection
    from yeldro.formats.writing.translation import Translator

_COMPARISONS = (exp.EQ, exp.NEQ, exp.LT, exp.LTE, exp.GT, exp.GTE, exp.Between, exp.In)
# Functions that systems have by one name or another, which the parser knows; SQLite has fewer.
_EVERYWHERE = (
    exp.And, exp.Or, exp.Exists, exp.Case, exp.If, exp.Cast, exp.Coalesce, exp.Count, exp.Min,
    exp.Max, exp.Sum, exp.Lower, exp.Upper, exp.Trim, exp.Length, exp.Substring, exp.Any,
)  # fmt: skip
_ELSEWHERE = (exp.Left, exp.Right, exp.Concat, exp.Year, exp.Month, exp.Day, exp.Extract)
_HOLD_CONDITIONS = (exp.And, exp.Or, exp.Not, exp.Where, exp.Having)
Compared = tuple["Table", Sequence[str], "Table", Sequence[str]]  # columns that must agree
_NEXT = "Write the condition without it, or the script for this database's own system."


class Conditions:
    """Writes the conditions of one database for another system."""

    def __init__(self, session: Session, translator: Translator) -> None:
        self.session = session
        self.translator = translator
        self.target = translator.target
        self.carrier = Carrier(session, self.target.reader, {})
        own = "mysql" if translator.source == "mariadb" else translator.source
        self._own_constants = Carrier(session, own, {}).constants

    def where(self, table: Table, text: str) -> exp.Expr:
        """Return a condition on a table's rows with its values as the target has them.

        Raises:
            Refused: it is not known to pick the same rows there.
        """
        tree = self._parsed(text)
        scope = Scope()
        scope.add_table(table.name.name, table)
        written = self._known_there(self._typed(tree.copy(), scope))
        again = self._read_back(exp.delete(_named(table)).where(written), table)
        here, there = (f"CASE WHEN ({each}) THEN 1 ELSE 0 END" for each in
                       (self._here(tree), self._here(again.args["where"].this)))  # fmt: skip
        rows = sql.written(self.session.connection, table.name)
        query = f"SELECT count(*) FROM {rows} WHERE {here} <> {there}"
        differ = sql.as_written(self.session.connection, query).scalar_one()
        if differ:
            raise Refused(
                f"By the rules of {self.target.frame.name} the condition is other than here for "
                f"{differ:,} rows of {table.name}.",
                _NEXT,
            )
        return written

    def query(self, text: str, table: Table) -> exp.Expr:
        """Return a query of one value with its values as the target has them.

        Args:
            table: any table, for a statement in which the query is read back.

        Raises:
            Refused: it is not known to give the same there.
        """
        tree = self._parsed(text)
        written = self._known_there(self._typed(tree.copy(), Scope()))
        zero = exp.Literal.number(0)
        asked = exp.GTE(this=exp.Subquery(this=written), expression=zero)
        again = self._read_back(exp.delete(_named(table)).where(asked), table)
        found = [
            sql.as_written(self.session.connection, self._here(each)).scalar_one()
            for each in (tree, again.args["where"].this.find(exp.Subquery).this)
        ]
        if found[0] != found[1]:
            raise Refused(
                f"By the rules of {self.target.frame.name} a check gives {found[1]} now, and "
                f"{found[0]} here.",
                _NEXT,
            )
        return written

    def check_order(self, table: Table, order: str) -> None:
        """Refuse an order that the target may see in another way."""
        tree = sqlglot.parse_one(f"SELECT 1 ORDER BY {order}", read=self.translator.source)
        statement = exp.delete(_named(table))
        statement.set("order", tree.args["order"])
        self._read_back(statement, table)

    def check_duplicates(self, table: Table, selection: Selection) -> None:
        """Refuse groups, and a choice of the row that stays, that the target may see otherwise."""
        if not selection.duplicates_by:
            return
        scope = Scope()
        scope.add_table(table.name.name, table)
        ordered = list(table.identity.columns)
        for rule in selection.keep:
            if rule.kind in ("lowest", "highest"):
                ordered.append(rule.argument)
            elif rule.kind == "order":
                self.check_order(table, rule.argument)
            elif rule.kind == "fullest" and self.carrier.stored.blank_texts(table):
                self._refuse(f"{table.name} has texts of blanks alone, which are empty there")
        try:
            for name in selection.duplicates_by:
                self.carrier.check_grouped(exp.column(name, quoted=True), scope)
        except Unlike as found:
            self._refuse(f"{name} {found.problem}", found)
        for name in ordered:
            known = scope.find(exp.column(name, quoted=True))
            if known is None or known.kind not in ("number", "boolean", *DAYS):
                self._refuse(f"which row stays depends on {name}, which each system orders in its "
                             f"own way")  # fmt: skip

    def check_links(self, links: Sequence[Compared]) -> None:
        """Refuse columns that are compared with one another and may be equal otherwise there."""
        pairs = [
            (one, ours, other, theirs)
            for one, our_columns, other, their_columns in links
            for ours, theirs in zip(our_columns, their_columns, strict=True)
        ]
        for one, ours, other, theirs in pairs:
            scope = Scope()
            scope.add_table("ours", one)
            scope.add_table("theirs", other)
            mine = scope.find(exp.column(ours, table="ours", quoted=True))
            its = scope.find(exp.column(theirs, table="theirs", quoted=True))
            if mine is None or its is None or {mine.kind, its.kind} != {"text"}:
                continue
            empty = self.target.dialect == "oracle"
            if not self.carrier.stored.compare_alike(mine, its, empty_is_null=empty):
                self._refuse(
                    f"{one.name}.{ours} and {other.name}.{theirs} hold texts that differ only in "
                    f"case, blanks or accents, which a collation there may pass over"
                )

    def _known_there(self, tree: exp.Expr) -> exp.Expr:
        """Return a condition with the functions of the target, and its escapes in patterns.

        Raises:
            Refused: the target does not have a function.
        """
        tree = tree.transform(self._escaped)
        if self.target.dialect == "sqlite":
            tree = tree.transform(_for_sqlite)
        if self.target.dialect == "tsql":
            tree = tree.transform(_for_sql_server)
        for each in tree.find_all(exp.Func, exp.Interval):
            known = _EVERYWHERE if self.target.dialect == "sqlite" else (*_EVERYWHERE, *_ELSEWHERE)
            if not isinstance(each, known):
                self._refuse(f"{self._here(each)} is not known there")
        return tree

    def _escaped(self, node: exp.Expr) -> exp.Expr:
        if isinstance(node, exp.Like | exp.ILike) and not isinstance(node.parent, exp.Escape):
            pattern = node.expression
            text = str(pattern.this) if isinstance(pattern, exp.Literal) else None
            if text and "[" in text and self.target.dialect == "tsql":
                node.set("expression", exp.Literal.string(text.replace("[", "[[]")))
            return with_escape(node, text, self.translator.source, self.target.dialect)
        return node

    def _parsed(self, text: str) -> exp.Expr:
        return sqlglot.parse_one(text, read=self.translator.source)

    def _here(self, tree: exp.Expr) -> str:
        return tree.sql(dialect=self.translator.source, comments=False)

    def _read_back(self, statement: exp.Expr, table: Table) -> exp.Expr:
        text = self.translator.sql(statement, 0)
        try:
            (read,) = statements(text, self.target.reader, told=True)
            again = carried(read, self.carrier).tree
        except UsageError as error:
            why = error.why.partition(": ")[2] or error.why
            self._refuse(f"of {table.name}: {why.rstrip('.')}", error)
        return self.translator.as_declared(again)

    def _refuse(self, problem: str, error: Exception | None = None) -> NoReturn:
        raise Refused(
            f"For {self.target.frame.name} the condition is not known to pick the same rows: "
            f"{problem}.",
            _NEXT,
        ) from error

    # Values by the columns that they are compared with

    def _typed(self, node: exp.Expr, scope: Scope) -> exp.Expr:
        """Write values by the columns they are compared with, and truth values as conditions."""
        if isinstance(node, exp.Select):
            scope = self._inner(node, scope)
        elif isinstance(node, _COMPARISONS):
            columns = [column for each in _sides(node) for column in each.find_all(exp.Column)]
            found = [known for each in columns if (known := scope.find(each))]
            self._check_clocks(found)
            kinds = {known.kind for known in found}
            for each in _sides(node) if len(kinds) == 1 else ():
                each.replace(self._value(each, kinds.copy().pop()))
        around = node.parent
        while isinstance(around, exp.Paren):
            around = around.parent
        if around is None or isinstance(around, _HOLD_CONDITIONS):
            node = self._as_condition(node, scope)
        for each in list(node.iter_expressions()):
            self._typed(each, scope)
        return node

    def _check_clocks(self, columns: Sequence[Known]) -> None:
        """Refuse moments that are kept by the world's time and compared by a session's own."""
        for known in columns:
            kind = known.column.type.lower() if known.column is not None else ""
            zoned = "with time zone" in kind or kind.startswith("timestamptz")
            if zoned or (self.translator.source == "mariadb" and kind.startswith("timestamp")):
                self._refuse(f"{known.stored[1].name} has a time zone, and which moments it is "
                             f"compared with depends on a setting of each session")  # fmt: skip

    def _inner(self, query: exp.Select, around: Scope) -> Scope:
        scope = Scope(around=around)
        sources = [query.args["from_"].this] if query.args.get("from_") else []
        sources += [each.this for each in query.args.get("joins") or ()]
        for each in sources:
            try:
                found = find_source(self.session.catalogue, each.db, each.name)
                scope.add_table(each.alias_or_name, found)
            except (UsageError, AttributeError):
                scope.sources[each.alias_or_name.casefold()] = {}  # a query
        return scope

    def _value(self, node: exp.Expr, kind: str | None) -> exp.Expr:
        """Return a constant that is compared with a column of this kind; other parts stay."""
        if kind not in DAYS or node.find(exp.Column, exp.Query):
            text = str(node.this) if isinstance(node, exp.Literal) and node.is_string else ""
            is_number = kind == "number" and number_of(text) is not None
            return exp.Literal.number(text.strip()) if is_number else node
        try:
            found = self._own_constants.value(node)
        except Unlike:
            return node
        day = read_iso(found) if isinstance(found, str) else found
        if not isinstance(day, date) or (isinstance(node, exp.Literal) and not self.target.is_far):
            return node
        whole = day.isoformat(" ") if isinstance(day, datetime) else day.isoformat()
        if self.target.dialect == "oracle":
            kind = "TIMESTAMP" if isinstance(day, datetime) else "DATE"
            return exp.Var(this=f"{kind} '{whole}'")
        return exp.Var(this=f"'{whole}'") if self.target.is_far else exp.Literal.string(whole)

    def _as_condition(self, node: exp.Expr, scope: Scope) -> exp.Expr:
        """Return a column that stands as a condition as a comparison, where it must be one."""
        known = scope.find(node) if isinstance(node, exp.Column) else None
        if known is None or not self.target.is_far:
            return node
        if known.kind == "boolean":
            compared: exp.Expr = exp.EQ(this=node.copy(), expression=exp.Literal.number(1))
        else:
            compared = exp.NEQ(this=node.copy(), expression=exp.Literal.number(0))
        if node.parent is not None:
            node.replace(compared)
        return compared


def _for_sqlite(node: exp.Expr) -> exp.Expr:
    """Write the functions that SQLite does not have by those that it has."""
    if isinstance(node, exp.Left):
        start = exp.Literal.number(1)
        return exp.Substring(this=node.this, start=start, length=node.expression)
    if isinstance(node, exp.Right):
        return exp.Substring(this=node.this, start=exp.Neg(this=node.expression))
    return node


def _for_sql_server(node: exp.Expr) -> exp.Expr:
    """Write parts of days by the functions that are named after them."""
    if isinstance(node, exp.Extract):
        named = {"YEAR": exp.Year, "MONTH": exp.Month, "DAY": exp.Day}.get(node.name.upper())
        if named:
            return named(this=node.expression)
    return node


def _named(table: Table) -> exp.Table:
    return exp.table_(table.name.name, db=table.name.schema, quoted=True)


def _sides(node: exp.Expr) -> list[exp.Expr]:
    found = [node.this, node.args.get("expression"), node.args.get("low"), node.args.get("high")]
    return [each for each in (*found, *node.expressions) if isinstance(each, exp.Expr)]
