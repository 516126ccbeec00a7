"""A user's conditions in another system's SQL, read back before they are believed.

What is written for another system is read again by the rules by which statements of that system
are carried over to this database, and must pick the same rows as the condition did here. What
those rules do not know, or what picks other rows, is refused.
"""

from __future__ import annotations

from collections.abc import Sequence
from datetime import datetime
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
from yeldro.formats.foreign.texts import number_of
from yeldro.formats.foreign.unlike import Unlike
from yeldro.formats.statements import statements

if TYPE_CHECKING:
    from yeldro.core.database.protocol import Session
    from yeldro.core.model.schema import Table
    from yeldro.core.selection.selection import Selection
    from yeldro.formats.writing.translation import Translator

_COMPARISONS = (exp.EQ, exp.NEQ, exp.LT, exp.LTE, exp.GT, exp.GTE, exp.Between, exp.In)
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

    def where(self, table: Table, text: str) -> exp.Expr:
        """Return a condition on a table's rows with its values as the target has them.

        Raises:
            Refused: it is not known to pick the same rows there.
        """
        tree = self._parsed(text)
        scope = Scope()
        scope.add_table(table.name.name, table)
        written = self._typed(tree.copy(), scope)
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
        written = self._typed(tree.copy(), Scope())
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
            kinds = {known.kind for each in _sides(node) if (known := _known(each, scope))}
            if len(kinds) == 1:
                for each in _sides(node):
                    if isinstance(each, exp.Literal) and each.is_string:
                        each.replace(self._value(each, kinds.copy().pop()))
        if isinstance(node.parent, _HOLD_CONDITIONS) or node.parent is None:
            node = self._as_condition(node, scope)
        for each in list(node.iter_expressions()):
            self._typed(each, scope)
        return node

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

    def _value(self, literal: exp.Literal, kind: str | None) -> exp.Expr:
        text = str(literal.this)
        if kind == "number" and number_of(text) is not None:
            return exp.Literal.number(text.strip())
        day = read_iso(text) if kind in DAYS else None
        if day is None or not self.target.is_far:
            return literal
        whole = day.isoformat(" ") if isinstance(day, datetime) else day.isoformat()
        if self.target.dialect == "tsql":
            return exp.Var(this=f"'{whole}'")
        return exp.Var(this=f"{'TIMESTAMP' if isinstance(day, datetime) else 'DATE'} '{whole}'")

    def _as_condition(self, node: exp.Expr, scope: Scope) -> exp.Expr:
        """Return a column that stands as a condition as a comparison, where it must be one."""
        known = _known(node, scope) if isinstance(node, exp.Column) else None
        if known is None or not self.target.is_far:
            return node
        if known.kind == "boolean":
            compared: exp.Expr = exp.EQ(this=node.copy(), expression=exp.Literal.number(1))
        else:
            compared = exp.NEQ(this=node.copy(), expression=exp.Literal.number(0))
        if node.parent is not None:
            node.replace(compared)
        return compared


def _named(table: Table) -> exp.Table:
    return exp.table_(table.name.name, db=table.name.schema, quoted=True)


def _sides(node: exp.Expr) -> list[exp.Expr]:
    found = [node.this, node.args.get("expression"), node.args.get("low"), node.args.get("high")]
    return [each for each in (*found, *node.expressions) if isinstance(each, exp.Expr)]


def _known(node: exp.Expr, scope: Scope) -> Known | None:
    return scope.find(node) if isinstance(node, exp.Column) else None
