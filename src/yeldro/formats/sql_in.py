"""Reading DELETE statements as cleanups.

A plain condition stays as it is. A join becomes a subquery that the table's key must be in, so no
join can pick a row twice. A statement that numbers the rows of each group and removes those above
one becomes a removal of duplicates.
"""

from __future__ import annotations

from collections.abc import Mapping, Sequence
from dataclasses import replace
from typing import TYPE_CHECKING, Any

from sqlglot import exp
from sqlglot.errors import ErrorLevel, SqlglotError

from yeldro.core.database.catalogue import find_source
from yeldro.core.model.messages.errors import Fault, Refused, UsageError, YeldroError
from yeldro.core.model.messages.names import same_name
from yeldro.core.model.tables.schema import IdentityKind, Table
from yeldro.core.planning.cleanup import Cleanup
from yeldro.core.selection.asked import KeepRule, Selection
from yeldro.core.selection.conditions.filters import parameters_in
from yeldro.core.selection.conditions.parameters import read_parameters
from yeldro.core.selection.conditions.parsing import with_names
from yeldro.core.selection.selection import resolve
from yeldro.formats.batches_in import plain_statements
from yeldro.formats.statements import Statement, statements

if TYPE_CHECKING:
    from yeldro.core.database.protocol import Database, Session
    from yeldro.core.planning.following.treatment import Choices

_ABOVE_ONE = {(exp.GT, "1"), (exp.GTE, "2"), (exp.NEQ, "1")}


def cleanups_in(
    text: str,
    database: Database,
    *,
    parameters: Mapping[str, Any],
    choices: Choices,
    all_rows: bool,
) -> tuple[Cleanup, ...]:
    """Return the cleanups that a text of DELETE statements describes.

    Args:
        parameters: values for the `:name` parameters in it.
        all_rows: a statement without a condition means every row.

    Raises:
        UsageError: a statement is not understood; its place is named.
        Refused: a statement has no condition.
    """
    with database.reading() as session:
        reader = _Reader(session, all_rows)
        selections = []
        used: set[str] = set()
        if session.traits.sql_dialect == "tsql":
            text = plain_statements(text)
        for statement in statements(text, session.traits.sql_dialect):
            for found in reader.read(statement):
                names = parameters_in(found.where or "")
                used |= names
                values = {name: parameters[name] for name in names if name in parameters}
                selection = read_parameters(replace(found, parameters=values), session)
                reader.try_out(statement, selection)
                selections.append(selection)
    if not selections:
        raise UsageError("There is no DELETE statement in it.", "Write: DELETE FROM … WHERE …;")
    for name in parameters:
        if name not in used:
            raise UsageError(f"‹param› {name} is given, and no statement uses :{name}.")
    return tuple(Cleanup(selection, choices) for selection in selections)


class _Reader:
    """Turns parsed statements into selections, with one database's catalogue."""

    def __init__(self, session: Session, all_rows: bool) -> None:
        self.session = session
        self.source = session.traits.sql_dialect
        self.all_rows = all_rows

    def read(self, statement: Statement) -> list[Selection]:
        tree = statement.tree
        if isinstance(tree, exp.Transaction | exp.Commit):
            return []  # every run is one transaction of its own
        if isinstance(tree, exp.TruncateTable):
            return self._truncated(statement, tree)
        if not isinstance(tree, exp.Delete):
            article = "an" if tree.key[0] in "aeiou" else "a"
            statement.refuse(
                f"this is {article} {tree.key.upper()} statement, and only DELETE and TRUNCATE say "
                f"which rows go."
            )
        if tree.args.get("returning"):
            statement.refuse(
                "RETURNING is not needed.", "Leave it out; the receipt holds every removed row."
            )
        return [self._deleted(statement, tree)]

    def try_out(self, statement: Statement, selection: Selection) -> None:
        """Resolve the selection in the core and the database, to add the place to a mistake."""
        try:
            resolve(selection, self.session)
        except YeldroError as error:
            error.why = f"Line {statement.line}: {error.why}"
            raise

    def _truncated(self, statement: Statement, tree: exp.TruncateTable) -> list[Selection]:
        if tree.args.get("option") == "CASCADE" or tree.args.get("identity") == "RESTART":
            statement.refuse(
                "this TRUNCATE does more than remove rows of the tables it names.",
                "Write it without CASCADE and RESTART; ‹follow› names what else goes.",
            )
        return [
            Selection(str(self._table(statement, each).name), all_rows=True)
            for each in tree.expressions
        ]

    def _deleted(self, statement: Statement, tree: exp.Delete) -> Selection:
        picked = self._picked(statement, tree)
        if isinstance(picked, Selection):
            return picked
        target, sources, with_ = picked
        table = self._table(statement, target)
        where = tree.args.get("where")
        condition: exp.Expr | None = where.this if where else None
        if condition is None and not sources:
            if not (self.all_rows or tree.args.get("limit")):
                raise Refused(
                    f"Line {statement.line}: this DELETE has no condition, which would match every "
                    f"row of {table.name}.",
                    "Write a condition, or say ‹all_rows› if you mean every row.",
                )
            found = Selection(str(table.name), all_rows=not tree.args.get("limit"))
        else:
            surplus = self._as_duplicates(condition, table, with_) if not sources else None
            if surplus:
                return replace(surplus, only_table=bool(target.args.get("only")))
            if sources or with_ or (target.alias and condition and condition.find(exp.Query)):
                condition = self._key_in(statement, table, target, sources, condition, with_)
            else:
                if condition is None:
                    raise Fault("a DELETE has neither a condition nor a join")
                condition = _without_alias(condition, target)
            found = Selection(str(table.name), where=self._written(statement, condition))
        found = replace(found, only_table=bool(target.args.get("only")))
        return self._limited(statement, tree, target, found)

    def _limited(
        self, statement: Statement, tree: exp.Delete, target: exp.Expr, found: Selection
    ) -> Selection:
        order, limit = tree.args.get("order"), tree.args.get("limit")
        if not order and not limit:
            return found
        number = limit.expression if limit else None
        if not order or not isinstance(number, exp.Literal) or not number.is_int:
            statement.refuse(
                "a limit without an order picks arbitrary rows.",
                f"Write an order without ties, such as ORDER BY "
                f"{', '.join(self._table(statement, target).identity.columns)}, and LIMIT with a "
                f"number.",
            )
        items = [
            self._written(statement, _without_alias(each, target)) for each in order.expressions
        ]
        return replace(found, order_by=", ".join(items), limit=int(number.name), all_rows=False)

    def _picked(
        self, statement: Statement, tree: exp.Delete
    ) -> Selection | tuple[exp.Expr, list[exp.Expr], exp.Expr | None]:
        """Return the table to delete from, what it is joined with, and the WITH queries."""
        named = list(tree.args.get("tables") or [])
        target, using = tree.this, list(tree.args.get("using") or [])
        with_ = tree.args.get("with_")
        if not target and len(named) == 1:
            target, named = named[0], []
        if len(named) > 1:
            statement.refuse(
                "it removes rows of several tables, or does not say of which.",
                "Write one DELETE for each table.",
                named[0],
            )
        if not isinstance(target, exp.Table) or not isinstance(target.this, exp.Identifier):
            statement.refuse("it does not name one table to delete from.")
        joined = [part for each in using for part in _with_joins(each)]
        sources = _with_joins(target)[1:] + joined
        if named or any(_alias(each) == target.name and not target.alias for each in using):
            wanted = named[0].name if named else target.name
            all_sources = _with_joins(target) + joined if named else sources
            first = all_sources[0]
            if _alias(_source(first)).casefold() != wanted.casefold():
                return self._other_target(statement, wanted, all_sources, with_)
            return _source(first), all_sources[1:], with_
        numbered = self._numbered_by_name(target.name, with_)
        if numbered is not None and not sources:
            return self._from_numbered(statement, tree, numbered)
        bare = target.copy()
        bare.set("joins", None)
        return bare, sources, with_

    def _other_target(
        self, statement: Statement, wanted: str, sources: list[exp.Expr], with_: exp.Expr | None
    ) -> tuple[exp.Expr, list[exp.Expr], exp.Expr | None]:
        """Return the same if the rows to delete are not those of the first table of a join.

        Only inner joins can be reordered.
        """
        for place, each in enumerate(sources):
            source = _source(each)
            if _alias(source).casefold() != wanted.casefold():
                continue
            outer = any(isinstance(s, exp.Join) and s.side for s in sources)
            if outer or not isinstance(source, exp.Table):
                break
            # The conditions of inner joins hold for the whole join, so they can come at the end.
            conditions = [
                s.args["on"] for s in sources if isinstance(s, exp.Join) and s.args.get("on")
            ]
            others = [_crossed(s) for n, s in enumerate(sources) if n != place]
            if conditions:
                others[-1].set("on", exp.and_(*conditions))
                others[-1].set("kind", None)
            return source, [*others], with_
        statement.refuse(
            f"{wanted} is not a table of this join that rows can be deleted from.",
            "Write the table to delete from first.",
        )

    def _from_numbered(
        self, statement: Statement, tree: exp.Delete, numbered: exp.Select
    ) -> Selection:
        """Read `DELETE FROM numbered WHERE n > 1`, where `numbered` is a WITH query."""
        where = tree.args.get("where")
        table = self._table(statement, numbered.args["from_"].this)
        found = self._surplus(numbered, table, where.this) if where else None
        if found is None:
            statement.refuse(
                "it deletes from a WITH query that does more than number the rows of one table.",
                "Write it as DELETE FROM table WHERE key IN (SELECT key FROM the query WHERE …).",
            )
        return found

    def _as_duplicates(
        self, condition: exp.Expr | None, table: Table, with_: exp.Expr | None
    ) -> Selection | None:
        """Read `key IN (SELECT key FROM numbered WHERE n > 1)` as a removal of duplicates."""
        body = condition.unnest() if condition is not None else None
        if isinstance(body, exp.Not):
            return self._but_one_of_each(body.this.unnest(), table)
        query = body.args.get("query") if isinstance(body, exp.In) else None
        inner = query.unnest() if query is not None else None
        if not isinstance(inner, exp.Select):
            return None
        if body is None:
            raise Fault("a subquery has no condition around it")
        keys = [each.name for each in _columns(body.this)]
        known = [set(key.columns) for key in table.candidate_keys]
        known.append({column.name for column in table.row_id_columns})
        named = {same_name(key, {*table.by_name, *keys}) or key for key in keys}
        if named not in known and table.identity.kind is not IdentityKind.PHYSICAL:
            return None
        if [each.alias_or_name for each in inner.expressions] != keys:
            return None
        while not inner.args.get("where"):
            nested = _derived(inner)
            if nested is None:
                return None
            inner = nested
        source = inner.args["from_"].this if inner.args.get("from_") else None
        numbered = _derived(inner) or (
            self._numbered_by_name(source.name, with_) if isinstance(source, exp.Table) else None
        )
        if numbered is None or inner.args.get("joins"):
            return None
        over = numbered.args["from_"].this
        if not isinstance(over, exp.Table) or same_name(over.name, [table.name.name]) is None:
            return None
        return self._surplus(numbered, table, inner.args["where"].this)

    def _but_one_of_each(self, body: exp.Expr, table: Table) -> Selection | None:
        """Read `key NOT IN (SELECT min(key) … GROUP BY columns)` as a removal of duplicates."""
        query = body.args.get("query") if isinstance(body, exp.In) else None
        inner = query.unnest() if query is not None else None
        if not isinstance(inner, exp.Select) or len(inner.expressions) != 1:
            return None
        others = {name for name, value in inner.args.items() if value}
        one = inner.expressions[0].unalias()
        group, from_ = inner.args.get("group"), inner.args.get("from_")
        if others - {"expressions", "from_", "group"} or not isinstance(one, exp.Min | exp.Max):
            return None
        key = same_name(one.this.name, table.by_name) if isinstance(one.this, exp.Column) else None
        identity = table.identity
        is_key = identity.columns == (key,) and identity.kind is IdentityKind.PRIMARY_KEY
        over = from_.this if from_ is not None else None
        same = isinstance(over, exp.Table) and same_name(over.name, [table.name.name])
        columns = list(group.expressions) if group is not None else []
        own = isinstance(body.this, exp.Column) and same_name(body.this.name, [key or ""])
        by = self._grouped_by(columns)
        if not (is_key and same and own and by) or key is None:
            return None
        keep = KeepRule("lowest" if isinstance(one, exp.Min) else "highest", key)
        return Selection(str(table.name), duplicates_by=by, keep=(keep,))

    def _grouped_by(self, items: Sequence[exp.Expr]) -> tuple[str, ...]:
        """Return the columns and expressions of a grouping; nothing if it reads other rows."""
        own = self.session.traits.sql_dialect
        if any(each.find(exp.Query) for each in items):
            return ()
        return tuple(
            each.name if isinstance(each, exp.Column) else _unqualified(each.copy()).sql(own)
            for each in items
        )

    def _numbered_by_name(self, name: str, with_: exp.Expr | None) -> exp.Select | None:
        for query in with_.expressions if with_ is not None else ():
            if query.alias == name and isinstance(query.this, exp.Select):
                found: exp.Select = query.this
                return found if isinstance(found.args["from_"].this, exp.Table) else None
        return None

    def _surplus(self, numbered: exp.Select, table: Table, condition: exp.Expr) -> Selection | None:
        """Read a query for rows whose number in their group is above one, and nothing else."""
        narrowed = {"where", "group", "having", "joins", "distinct", "limit", "with_", "qualify"}
        if any(numbered.args.get(name) for name in narrowed):
            return None
        limit = condition.unnest()
        number = limit.args.get("this")
        value = limit.args.get("expression")
        if not isinstance(number, exp.Column) or not isinstance(value, exp.Literal):
            return None
        window = next(
            (each.this for each in numbered.expressions
             if isinstance(each, exp.Alias) and each.alias == number.name), None
        )  # fmt: skip
        if (type(limit), value.name) not in _ABOVE_ONE or not isinstance(window, exp.Window):
            return None
        by = self._grouped_by(window.args.get("partition_by") or [])
        order = window.args.get("order")
        if not isinstance(window.this, exp.RowNumber) or not by:
            return None
        keep: tuple[KeepRule, ...] = ()
        if order:
            own = self.session.traits.sql_dialect
            items = (each.copy() for each in order.expressions)
            written = (_unqualified(each).sql(dialect=own) for each in items)
            keep = (KeepRule("order", ", ".join(written)),)
        return Selection(str(table.name), duplicates_by=by, keep=keep)

    def _key_in(
        self,
        statement: Statement,
        table: Table,
        target: exp.Expr,
        sources: Sequence[exp.Expr],
        condition: exp.Expr | None,
        with_: exp.Expr | None,
    ) -> exp.Expr:
        """Return the statement's join as a subquery that must contain the key of a row."""
        if table.has_key:
            names = list(table.identity.columns)
        elif table.identity.kind is IdentityKind.PHYSICAL and self.source.row_id:
            names = [self.source.row_id]
        else:
            statement.refuse(
                f"{table.name} has no key to tell joined rows by.",
                "Write it without a join, with ‹matching› or ‹missing_in›.",
            )
        alias = _alias(target)
        keys = [exp.column(name, table=alias, quoted=True) for name in names]
        query = exp.select(*keys).from_(target.copy())
        for each in sources:
            query.append("joins", each if isinstance(each, exp.Join) else exp.Join(this=each))
        if condition is not None:
            query = query.where(condition.copy())
        if with_ is not None:
            query.set("with_", with_.copy())
        outer: list[exp.Expr] = [exp.column(name, quoted=True) for name in names]
        row = outer[0] if len(outer) == 1 else exp.Tuple(expressions=outer)
        return exp.In(this=row, query=exp.Subquery(this=query))

    def _table(self, statement: Statement, target: exp.Expr) -> Table:
        schema = target.db if isinstance(target, exp.Table) else ""
        try:
            return find_source(self.session.catalogue, schema, target.name)
        except UsageError as error:
            statement.refuse(error.why, error.next_step, target)

    def _written(self, statement: Statement, tree: exp.Expr) -> str:
        try:
            return with_names(tree).sql(
                dialect=self.session.traits.sql_dialect,
                unsupported_level=ErrorLevel.RAISE,
                comments=False,
            )
        except SqlglotError as error:
            statement.refuse(
                f"this cannot be written in {self.session.traits.name}'s SQL: {error}."
            )


def _with_joins(source: exp.Expr) -> list[exp.Expr]:
    """Return a table, followed by what is joined to it."""
    bare = source.copy()
    joins = bare.args.get("joins") or []
    bare.set("joins", None)
    return [bare, *joins]


def _source(each: exp.Expr) -> exp.Expr:
    found: exp.Expr = each.this if isinstance(each, exp.Join) else each
    return found


def _crossed(each: exp.Expr) -> exp.Join:
    return exp.Join(this=_source(each).copy(), kind="CROSS")


def _alias(source: exp.Expr) -> str:
    return source.alias_or_name


def _columns(node: exp.Expr) -> list[exp.Expr]:
    return list(node.expressions) if isinstance(node, exp.Tuple) else [node.unnest()]


def _derived(query: exp.Select) -> exp.Select | None:
    """Return the only subquery that a query selects from."""
    from_ = query.args.get("from_")
    source = from_.this if from_ else None
    if isinstance(source, exp.Subquery) and isinstance(source.this, exp.Select):
        return source.this
    return None


def _without_alias(node: exp.Expr, target: exp.Expr) -> exp.Expr:
    """Return the expression without the table's alias before its columns."""
    changed = node.copy()
    for column in changed.find_all(exp.Column):
        if column.table and column.table.casefold() == _alias(target).casefold() and target.alias:
            column.set("table", None)
    return changed


def _unqualified(node: exp.Expr) -> exp.Expr:
    for column in node.find_all(exp.Column):
        column.set("table", None)
    return node
