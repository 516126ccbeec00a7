"""SQL that a user writes: parsed, validated against the schema, and written anew.

Only the parsed tree reaches the database, so what was checked is what runs.
"""

from __future__ import annotations

import logging
import re
from collections.abc import Callable, Collection, Iterator, Mapping
from dataclasses import dataclass
from itertools import pairwise
from typing import TYPE_CHECKING, Any

import sqlglot
from sqlglot import TokenType, exp
from sqlglot.errors import SqlglotError

from yeldro.core.database.catalogue import find_source
from yeldro.core.database.facts import SqlDialect
from yeldro.core.model.messages.errors import NoSelection, Refused, UnknownName, UsageError
from yeldro.core.model.messages.names import same_name
from yeldro.core.selection.conditions.parsing import (
    conjuncts,
    equalities,
    own_column,
    parse,
    place_of_error,
    pointing,
    read_otherwise,
)

if TYPE_CHECKING:
    from yeldro.core.database.protocol import Session
    from yeldro.core.model.tables.schema import Table, TableName

# The parser logs what it cannot read; users get an error message instead.
logging.getLogger("sqlglot").addHandler(logging.NullHandler())

_OF_RECEIPTS = SqlDialect("sqlite", plus_converts=True)  # which are SQLite files
_BOOLEAN = (
    exp.Predicate,
    exp.Connector,
    exp.Not,
    exp.Boolean,
    exp.Column,
    exp.Func,
    exp.Escape,
    exp.Match,
    exp.Placeholder,
)
_NEVER_THE_SAME = (exp.Rand, exp.Randn, exp.Uuid)
_CLOCK = (exp.CurrentDate, exp.CurrentTime, exp.CurrentTimestamp, exp.CurrentDatetime)
_CLOCK_FUNCTIONS = {"date", "time", "datetime", "julianday", "unixepoch", "strftime", "now"}
_SYNTAX = {"all", "any", "some", "row"}  # written like functions, and part of the language
_FORBIDDEN = (exp.DML, exp.DDL, exp.Command, exp.Into, exp.Lock)


@dataclass(frozen=True)
class Filter:
    """A checked boolean expression over one table.

    Args:
        sql: the expression as it will run, with parameters as `:name` and its own colons escaped.
        parameters: the names of the parameters it uses.
        repeatable: its answer for a row stays the same while other rows are removed.
        fixed: the columns it compares with constants, each with the number of constants.
        tables: the tables and views that its subqueries read.
    """

    sql: str
    parameters: frozenset[str]
    repeatable: bool
    fixed: dict[str, int]
    tables: frozenset[TableName] = frozenset()


def parse_filter(text: str, table: Table, session: Session) -> Filter:
    """Read the boolean expression of `--where`.

    Raises:
        UsageError: it is not exactly one boolean expression, uses an unknown name, or calls a
            function that could write.
        Refused: it is empty, or uses no column of the table.
    """
    tree = parse_one(text, session.traits.sql_dialect, "‹where›")
    body = tree.unnest()
    if not isinstance(body, _BOOLEAN) or isinstance(body, exp.Alias | exp.Query):
        raise UsageError(
            f"‹where› {text!r} is not a condition that is true or false.",
            "Write one condition, such as \"retired_on < '2020-01-01'\".",
        )
    refuse_writing(tree, session)
    looks_at_rows = check_names(tree, table, session, text)
    if not looks_at_rows:
        raise Refused(
            f"‹where› {text!r} uses no column of {table.name}, so it is the same for every row.",
            "Name a column, or say ‹all_rows› if you mean every row.",
        )
    clock = any(tree.find_all(*_CLOCK)) or any(
        call.name.lower() in _CLOCK_FUNCTIONS for call in tree.find_all(exp.Anonymous)
    )
    sql, parameters = bindable(tree, session.traits.sql_dialect)
    return Filter(
        sql=f"({sql})",
        parameters=parameters,
        repeatable=not clock and not any(tree.find_all(exp.Query)),
        fixed=dict(_fixed_columns(body, table)),
        tables=frozenset(_tables(tree, session)),
    )


@dataclass(frozen=True)
class ParsedQuery:
    """A checked query that changes nothing, with the names of the parameters it uses."""

    sql: str
    parameters: frozenset[str]


def parse_query(text: str, session: Session) -> ParsedQuery:
    """Read a query that changes nothing.

    Raises:
        UsageError: it is not exactly one query, names a table that does not exist, or calls a
            function that could write.
    """
    tree = parse_one(text, session.traits.sql_dialect, "the check")
    if not isinstance(tree.unnest(), exp.Query):
        raise UsageError(
            f"The check {text!r} is not a query.", "Write: select count(*) from TABLE where …"
        )
    refuse_writing(tree, session)
    _tables(tree, session)
    return ParsedQuery(*bindable(tree, session.traits.sql_dialect))


def parse_stored_filter(text: str, columns: Collection[str]) -> str:
    """Read a condition on a receipt's stored rows, which only names their columns.

    Returns:
        The condition in SQLite's SQL.

    Raises:
        UsageError: it is not one condition, names another column, or does more than compare.
    """
    tree = parse_one(text, _OF_RECEIPTS, "‹where›")
    found = list(tree.find_all(exp.Column))
    if not isinstance(tree.unnest(), _BOOLEAN) or not found or tree.find(exp.Query, *_FORBIDDEN):
        raise UsageError(
            f"‹where› {text!r} is not a condition on the stored rows.",
            'Compare their columns, such as "id < 100".',
        )
    for node in tree.find_all(exp.Anonymous, exp.Placeholder):
        raise UsageError(f"{node.sql()} is not known here.", "Compare columns with values.")
    for column in found:
        if column.table or same_name(column.name, columns) is None:
            raise UnknownName(
                f"There is no column {column.sql()} in the stored rows.", column.name, columns
            )
        column.this.set("quoted", True)
    return tree.sql(dialect=_OF_RECEIPTS, comments=False)


def parameters_in(text: str) -> frozenset[str]:
    """Return the names of the `:name` parameters in a piece of SQL; none if it cannot be read."""
    try:
        tokens = sqlglot.tokenize(text)
    except SqlglotError:
        return frozenset()
    pairs = pairwise(tokens)
    return frozenset(
        name.text
        for colon, name in pairs
        if colon.token_type is TokenType.COLON and colon.end + 1 == name.start
    )


def with_literals(text: str, parameters: Mapping[str, Any], session: Session) -> str:
    """Return a piece of SQL in which every `:name` is written out as the value it is bound to.

    For people to read and other programs to run; Yeldro itself binds values.
    """
    tree = parse_one(text, session.traits.sql_dialect, "the SQL", by_user=False)

    def write(node: exp.Expr) -> exp.Expr:
        if not isinstance(node, exp.Placeholder) or node.name not in parameters:
            return node
        value = parameters[node.name]
        if value is None or isinstance(value, bool | int | float):
            return exp.convert(value)
        return exp.Literal.string(str(session.parameter(value)))

    return tree.transform(write).sql(dialect=session.traits.sql_dialect, comments=False)


def parse_one(text: str, dialect: SqlDialect, where_from: str, *, by_user: bool = True) -> exp.Expr:
    if not text.strip():
        raise NoSelection(
            f"{where_from} is empty, which would match every row.",
            "Write a condition, or say ‹all_rows› if you mean every row.",
        )
    try:
        if by_user:
            refuse_other_readings(text, where_from, dialect)
        trees = parse(text, dialect)
        if len(trees) == 1 and isinstance(trees[0], exp.Command):  # it begins like a statement
            trees = parse(f"({text})", dialect)
    except SqlglotError as error:
        raise unreadable(text, where_from, error) from error
    if len(trees) != 1:
        raise UsageError(
            f"{where_from} {text!r} holds {len(trees) or 'no'} statements, not one condition.",
            "Write one condition without a semicolon.",
        )
    return trees[0]


def refuse_other_readings(text: str, where_from: str, dialect: SqlDialect) -> None:
    other = read_otherwise(text, sqlglot.tokenize(text, dialect=dialect), dialect)
    if other:
        raise UsageError(f"{where_from} {text!r} can be read in more than one way: {other}.")


def unreadable(text: str, where_from: str, error: SqlglotError) -> UsageError:
    found = (getattr(error, "errors", None) or [{}])[0]
    place = place_of_error(text, error)
    near = (found.get("highlight") or "").strip()
    reason = (found.get("description") or str(error).splitlines()[0]).rstrip(".")
    reason = "something is missing" if "<class" in reason else reason
    if place and not near:
        near, reason = text[place["column"] - 1 :][:1], "this quote is not closed"
    where = f" near {near!r}" if near else ""
    refusal = UsageError(
        f"{where_from} {'' if place else repr(text) + ' '}cannot be read as SQL{where}: {reason}.",
        "Check quotes and brackets: text stands in 'single quotes', names in \"double quotes\".",
    )
    if place:
        refusal.evidence["place"] = place
    return refusal


def refuse_writing(tree: exp.Expr, session: Session) -> None:
    for node in tree.find_all(*_FORBIDDEN):
        raise UsageError(
            f"It contains a statement ({node.key.upper()}) that does more than read.",
            "Write SQL that only reads and compares.",
        )
    for node in tree.find_all(*_NEVER_THE_SAME):
        raise UsageError(
            f"{node.sql()} gives another value each time, so what it matches cannot be counted.",
            "Choose rows by their columns, or with ‹order_by› and ‹limit›.",
        )
    for call in tree.find_all(exp.Anonymous):
        if call.name.lower() not in _SYNTAX and not session.is_free_of_side_effects(call.name):
            raise UsageError(
                f"The function {call.name} is not known to be free of side effects.",
                "Use columns, operators and the database's own functions that only compute.",
            )
    for node in tree.find_all(exp.Dot):
        if isinstance(node.expression, exp.Func):
            raise UsageError(
                f"{node.sql()} calls a function by its schema, and it is not known to be free of "
                f"side effects.",
                "Use the database's own functions, without a schema before them.",
            )
    volatile = session.volatile_among(*_called_in(tree, session.traits.sql_dialect))
    if volatile:
        raise UsageError(
            f"The {volatile} is not known to be free of side effects.",
            "Use columns, operators and the database's own functions that only compute.",
        )
    if session.traits.sql_dialect.has_at_operator:
        for _ in tree.find_all(exp.Parameter):
            raise UsageError(
                "The operator @ before a value is not understood here.",
                "Write abs(…) in its place; a parameter is written :name.",
            )
    for node in tree.find_all(exp.Parameter, exp.SessionParameter):
        raise UsageError(
            f"{node.sql()} is not a parameter Yeldro knows.", "Write :name, and ‹param› name=value."
        )


def is_fixed(text: str, session: Session) -> bool:
    """True if an expression such as a column default has one value throughout a transaction."""
    try:
        for tree in parse(f"SELECT {text}", session.traits.sql_dialect):
            refuse_writing(tree, session)
    except (SqlglotError, UsageError):
        return False
    return True


def _called_in(tree: exp.Expr, dialect: str) -> tuple[set[str], set[str], set[str]]:
    """Return the functions, operators and types of an expression, by their written names."""
    text = tree.sql(dialect=dialect, comments=False)
    types = {cast.to.sql(dialect=dialect).lower() for cast in tree.find_all(exp.Cast)}
    functions, operators = set(), set()
    tokens = sqlglot.tokenize(text, dialect=dialect)
    for token, after in pairwise(tokens):
        if after.token_type is TokenType.L_PAREN and token.text.isidentifier():
            functions.add(token.text.lower())
        if token.text and not token.text[0].isalnum() and token.text[0] not in "()'\"_.,":
            operators.add(token.text)
    return functions, operators, types


Columns = Callable[[str], bool]


def check_names(tree: exp.Expr, table: Table, session: Session, text: str = "") -> bool:
    """Validate every table and column against the schema; True if one is of `table`."""
    looks_at_rows = False
    _tables(tree, session, text)
    for column in tree.find_all(exp.Column):
        if isinstance(column.this, exp.Star):
            continue
        with pointing(text, column):
            looks_at_rows |= _resolve(column, table, session)
    return looks_at_rows


def _tables(tree: exp.Expr, session: Session, text: str = "") -> list[TableName]:
    """Return the tables and views that a tree names."""
    found = []
    for source in tree.find_all(exp.Table):
        if not _common_table(source) and not isinstance(source.this, exp.Func):
            with pointing(text, source):
                found.append(find_source(session.catalogue, source.db, source.name).name)
    return found


def _resolve(column: exp.Column, table: Table, session: Session) -> bool:
    """Resolve a column name from the innermost query outwards; True if it is of `table`."""
    qualifier = column.table
    known: list[str] = []
    for select in _enclosing_selects(column):
        for name, columns in _sources(select, session):
            if qualifier and name.casefold() != qualifier.casefold():
                continue
            if columns is None or same_name(column.name, columns):
                return False
            known += columns
        if not qualifier and same_name(column.name, select.named_selects):
            return False
    if not qualifier or qualifier.casefold() == table.name.name.casefold():
        hidden = [column.name for column in table.row_id_columns]
        if same_name(column.name, [*table.by_name, *hidden]):
            return True
        known += table.by_name
    if not known:
        raise UnknownName(
            f"There is no table {qualifier!r} in this condition.",
            qualifier,
            next_step=f"Write {table.name.name}.{column.name}, or name the table in a FROM.",
        )
    error = UnknownName(
        f"There is no column {column.name!r} in {qualifier or table.name}.",
        column.name,
        dict.fromkeys(known),
    )
    error.next_step += " Text stands in 'single quotes', names in \"double quotes\"."
    raise error


def _enclosing_selects(node: exp.Expr) -> Iterator[exp.Select]:
    parent = node.parent
    while parent is not None:
        if isinstance(parent, exp.Select):
            yield parent
        parent = parent.parent


def _sources(select: exp.Select, session: Session) -> Iterator[tuple[str, list[str] | None]]:
    """Return the FROM and JOIN items of a select: name and columns, None if any name may stand."""
    items = [select.args.get("from_"), *(select.args.get("joins") or [])]
    for item in items:
        source = item.this if item is not None else None
        if isinstance(source, exp.Table):
            columns = None
            if isinstance(source.this, exp.Func):
                known = not isinstance(source.this, exp.Anonymous)
                alias = source.args.get("alias")
                columns = (
                    [source.alias, *(each.name for each in alias.columns)]
                    if (known and alias)
                    else None
                )
            elif not _common_table(source):
                columns = list(find_source(session.catalogue, source.db, source.name).by_name)
                columns += ["rowid"]
            yield source.alias_or_name, columns
        elif isinstance(source, exp.Expr):
            named = source.named_selects if isinstance(source, exp.Subquery) else []
            yield source.alias_or_name, list(named) if named and "*" not in named else None


def _common_table(source: exp.Table) -> bool:
    """True if a table name stands for a WITH query that encloses it."""
    parent = source.parent
    while parent is not None:
        names = [cte.alias for cte in getattr(parent, "ctes", [])]
        if not source.db and same_name(source.name, names):
            return True
        parent = parent.parent
    return False


def bindable(tree: exp.Expr, dialect: str) -> tuple[str, frozenset[str]]:
    """Return the tree as SQL for a statement that binds `:name`, and the names it binds."""
    names: set[str] = set()

    def mark(node: exp.Expr) -> exp.Expr:
        if not isinstance(node, exp.Placeholder):
            return node
        if not node.name or not re.fullmatch(r"[A-Za-z_]\w*", node.name):
            raise UsageError(
                "There is a parameter without a name.",
                "Write :name, and ‹param› name=value.",
            )
        names.add(node.name)
        return exp.Var(this=f"\0{node.name}\0")

    sql = tree.transform(mark).sql(dialect=dialect, comments=False)
    escaped = sql.replace(":", "\\:")
    return re.sub("\0([^\0]*)\0", r":\1", escaped), frozenset(names)


def _fixed_columns(body: exp.Expr, table: Table) -> Iterator[tuple[str, int]]:
    """Return the columns that a conjunct compares with constants, and how many constants."""
    for condition in conjuncts(body):
        for column, value in equalities(condition, table):
            if _constant(value):
                yield column, 1
        if isinstance(condition, exp.In) and not condition.args.get("query"):
            name = own_column(condition.this, table)
            if name and all(_constant(value) for value in condition.expressions):
                yield name, len(condition.expressions)


def _constant(node: exp.Expr) -> bool:
    """True if a constant can equal one key only: no collation, type or rounding interferes."""
    if isinstance(node, exp.Neg):
        node = node.this
    if isinstance(node, exp.Literal):
        return node.is_string or "e" not in node.this.lower()
    return isinstance(node, exp.Placeholder)
