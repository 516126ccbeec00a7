"""What SQL Server refuses, each as data that can be replayed on a real server.

The numbers and their texts are those of "Database engine events and errors"; what is refused stands
in the named section of the Transact-SQL reference. None has been replayed on a real server yet.
"""

from __future__ import annotations

from collections.abc import Callable, Iterator
from dataclasses import dataclass

from sqlglot import exp

Find = Callable[[exp.Expr], Iterator[str]]

_PREDICATES = (
    exp.And, exp.Between, exp.Boolean, exp.EQ, exp.Exists, exp.GT, exp.GTE, exp.In, exp.Is,
    exp.LT, exp.LTE, exp.Like, exp.NEQ, exp.Not, exp.Or,
)  # fmt: skip
_RANKING = (
    exp.DenseRank,
    exp.FirstValue,
    exp.Lag,
    exp.LastValue,
    exp.Lead,
    exp.Rank,
    exp.RowNumber,
)


class ReadError(Exception):
    """SQL Server does not take a statement.

    Args:
        number, text: of its error.
    """

    def __init__(self, number: int, text: str) -> None:
        super().__init__(f"Msg {number}: {text}")
        self.number, self.text = number, text


@dataclass(frozen=True)
class Refusal:
    """Something that the server refuses.

    Args:
        number: of the error.
        text: of the error, with `{}` for what it names.
        section: of the Transact-SQL reference.
        fails, passes: an example that is refused, and one for the same purpose that is not.
        find: yields what the error names, for a part of a statement that is refused; None if that
            shows only when the statement is carried out.
        given: what is made before each of the examples.
        confirmed: it was replayed on a real server.
    """

    number: int
    text: str
    section: str
    fails: str
    passes: str
    find: Find | None = None
    given: tuple[str, ...] = ("CREATE TABLE t (a int, b int)", "CREATE TABLE u (a int, b int)")
    confirmed: bool = False


def _several_values(node: exp.Expr) -> Iterator[str]:
    if isinstance(node, exp.Tuple) and not isinstance(node.parent, exp.Values):
        yield ","


def _recursion(node: exp.Expr) -> Iterator[str]:
    if isinstance(node, exp.CTE):
        union = node.this
        reads = any(table.name == node.alias for table in union.find_all(exp.Table))
        if reads and not (isinstance(union, exp.Union) and not union.args.get("distinct")):
            yield node.alias


def _window_without_order(node: exp.Expr) -> Iterator[str]:
    if isinstance(node, exp.Window) and isinstance(node.this, _RANKING) and not node.args["order"]:
        yield node.this.sql_name().lower()


def _predicate_as_value(node: exp.Expr) -> Iterator[str]:
    if isinstance(node, _PREDICATES) and not _is_condition(node) and not _is_assignment(node):
        yield node.sql("tsql").split()[0]


def _value_as_condition(node: exp.Expr) -> Iterator[str]:
    if (
        isinstance(node, exp.Condition)
        and not isinstance(node, (*_PREDICATES, exp.Paren))
        and _is_condition(node)
    ):
        yield node.sql("tsql").split()[0]


def _is_condition(node: exp.Expr) -> bool:
    """True if a node stands where a condition is expected."""
    while isinstance(node.parent, exp.Paren):
        node = node.parent
    parent, place = node.parent, node.arg_key
    if isinstance(parent, exp.If):
        searched = isinstance(parent.parent, exp.Case) and not parent.parent.this
        return place == "this" and searched
    return (
        isinstance(parent, (exp.And, exp.Or, exp.Not, exp.CheckColumnConstraint))
        or (isinstance(parent, exp.IfBlock) and place == "this")
        or (isinstance(parent, (exp.Where, exp.Having)) and place == "this")
        or (isinstance(parent, exp.Join) and place == "on")
    )


def _is_assignment(node: exp.Expr) -> bool:
    return isinstance(node, exp.EQ) and isinstance(node.parent, (exp.Update, exp.SetItem))


def _order_inside(node: exp.Expr) -> Iterator[str]:
    if isinstance(node, exp.Select) and node.args.get("order") and node.parent is not None:
        inside = isinstance(node.parent, (exp.Subquery, exp.CTE, exp.Exists, exp.In))
        if inside and not (node.args.get("limit") or node.args.get("offset")):
            yield ""


def _no_column_name(node: exp.Expr) -> Iterator[str]:
    if isinstance(node, exp.Subquery) and isinstance(node.parent, (exp.From, exp.Join)):
        select = node.this
        named = node.args.get("alias") and node.args["alias"].args.get("columns")
        for place, each in enumerate(select.selects if not named else (), 1):
            if not each.output_name and not each.is_star:
                yield f"column {place} of '{node.alias}'"


def _several_columns(node: exp.Expr) -> Iterator[str]:
    query = node.args.get("query") if isinstance(node, exp.In) else None
    single = not isinstance(node.this, exp.Tuple)
    if single and isinstance(query, exp.Subquery) and len(query.this.selects) > 1:
        yield ""


def _with_inside(node: exp.Expr) -> Iterator[str]:
    if isinstance(node, exp.With) and node.parent is not None and node.parent.parent is not None:
        yield "with"


def _order_of_distinct(node: exp.Expr) -> Iterator[str]:
    if isinstance(node, exp.Select) and node.args.get("distinct") and node.args.get("order"):
        listed = {each.alias_or_name for each in node.selects} | {
            each.unalias().sql("tsql") for each in node.selects
        }
        for each in node.args["order"].expressions:
            if each.this.sql("tsql") not in listed and each.this.name not in listed:
                yield each.this.sql("tsql")


def _unread(node: exp.Expr) -> Iterator[str]:
    if isinstance(node, (exp.Command, exp.DPipe, exp.Boolean)):
        yield node.sql().split()[0]


REFUSALS = (
    Refusal(
        4145,
        "An expression of non-boolean type specified in a context where a condition is expected, "
        "near '{}'.",
        "IN",
        "SELECT a FROM t WHERE (a, b) IN (SELECT a, b FROM u)",
        "SELECT a FROM t WHERE EXISTS (SELECT 1 FROM u WHERE u.a = t.a AND u.b = t.b)",
        _several_values,
    ),
    Refusal(
        4145,
        "An expression of non-boolean type specified in a context where a condition is expected, "
        "near '{}'.",
        "Search condition",
        "DELETE FROM t WHERE a",
        "DELETE FROM t WHERE a = 1",
        _value_as_condition,
    ),
    Refusal(
        252,
        "Recursive common table expression '{}' does not contain a top-level UNION ALL operator.",
        "WITH common_table_expression",
        "WITH f (a) AS (SELECT a FROM t UNION SELECT t.a FROM t JOIN f ON t.b = f.a)"
        " SELECT a FROM f",
        "WITH f (a) AS (SELECT a FROM t UNION ALL SELECT t.a FROM t JOIN f ON t.b = f.a)"
        " SELECT a FROM f",
        _recursion,
    ),
    Refusal(
        4112,
        "The function '{}' must have an OVER clause with ORDER BY.",
        "OVER clause",
        "SELECT row_number() OVER (PARTITION BY a) AS n FROM t",
        "SELECT row_number() OVER (PARTITION BY a ORDER BY (SELECT NULL)) AS n FROM t",
        _window_without_order,
    ),
    Refusal(
        102,
        "Incorrect syntax near '{}'.",
        "SELECT clause",
        "SELECT a IS NULL AS b FROM t",
        "SELECT CASE WHEN a IS NULL THEN 1 ELSE 0 END AS b FROM t",
        _predicate_as_value,
    ),
    Refusal(
        102,
        "Incorrect syntax near '{}'.",
        "String concatenation",
        "SELECT a || b AS c FROM t",
        "SELECT a + b AS c FROM t",
        _unread,
    ),
    Refusal(
        1033,
        "The ORDER BY clause is invalid in views, inline functions, derived tables, subqueries, "
        "and common table expressions, unless TOP, OFFSET or FOR XML is also specified.",
        "ORDER BY clause",
        "SELECT q.a FROM (SELECT a FROM t ORDER BY a) AS q",
        "SELECT q.a FROM (SELECT TOP 3 a FROM t ORDER BY a) AS q",
        _order_inside,
    ),
    Refusal(
        8155,
        "No column name was specified for {}.",
        "FROM clause",
        "SELECT q.n FROM (SELECT count(*) FROM t) AS q",
        "SELECT q.n FROM (SELECT count(*) AS n FROM t) AS q",
        _no_column_name,
    ),
    Refusal(
        116,
        "Only one expression can be specified in the select list when the subquery is not "
        "introduced with EXISTS.",
        "Subqueries",
        "SELECT a FROM t WHERE a IN (SELECT a, b FROM u)",
        "SELECT a FROM t WHERE a IN (SELECT a FROM u)",
        _several_columns,
    ),
    Refusal(
        156,
        "Incorrect syntax near the keyword '{}'.",
        "WITH common_table_expression",
        "SELECT a FROM t WHERE a IN (WITH q AS (SELECT a FROM u) SELECT a FROM q)",
        "WITH q AS (SELECT a FROM u) SELECT a FROM t WHERE a IN (SELECT a FROM q)",
        _with_inside,
    ),
    Refusal(
        145,
        "ORDER BY items must appear in the select list if SELECT DISTINCT is specified.",
        "ORDER BY clause",
        "SELECT DISTINCT a FROM t ORDER BY b",
        "SELECT DISTINCT a, b FROM t ORDER BY b",
        _order_of_distinct,
    ),
    # Found when a statement is carried out.
    Refusal(
        1785,
        "Introducing FOREIGN KEY constraint may cause cycles or multiple cascade paths.",
        "CREATE TABLE",
        "CREATE TABLE u (a int REFERENCES t (a) ON DELETE CASCADE,"
        " b int REFERENCES t (a) ON DELETE SET NULL)",
        "CREATE TABLE u (a int REFERENCES t (a) ON DELETE CASCADE, b int REFERENCES t (a))",
        given=("CREATE TABLE t (a int PRIMARY KEY, b int)",),
    ),
    Refusal(
        1785,
        "Introducing FOREIGN KEY constraint may cause cycles or multiple cascade paths.",
        "CREATE TABLE",
        "CREATE TABLE t (a int PRIMARY KEY, b int REFERENCES t (a) ON DELETE SET NULL)",
        "CREATE TABLE t (a int PRIMARY KEY, b int REFERENCES t (a))",
        given=("CREATE TABLE v (a int)",),
    ),
    Refusal(
        544,
        "Cannot insert explicit value for identity column.",
        "SET IDENTITY_INSERT",
        "INSERT INTO t (a, b) VALUES (7, 1)",
        "INSERT INTO t (b) VALUES (1)",
        given=("CREATE TABLE t (a int IDENTITY(1, 1) PRIMARY KEY, b int)",),
    ),
    Refusal(
        8102,
        "Cannot update identity column.",
        "UPDATE",
        "UPDATE t SET a = 2",
        "UPDATE t SET b = 2",
        given=("CREATE TABLE t (a int IDENTITY(1, 1) PRIMARY KEY, b int)",),
    ),
    Refusal(
        271,
        "The column cannot be modified because it is a computed column.",
        "UPDATE",
        "UPDATE t SET b = 2",
        "UPDATE t SET a = 2",
        given=("CREATE TABLE t (a int PRIMARY KEY, b AS (a * 2))",),
    ),
    Refusal(
        2628,
        "String or binary data would be truncated.",
        "INSERT",
        "INSERT INTO t VALUES (N'abc')",
        "INSERT INTO t VALUES (N'ab')",
        given=("CREATE TABLE t (a nvarchar(2))",),
    ),
    Refusal(
        8115,
        "Arithmetic overflow error converting expression.",
        "int, bigint, smallint, and tinyint",
        "INSERT INTO t VALUES (3000000000)",
        "INSERT INTO t VALUES (2000000000)",
        given=("CREATE TABLE t (a int)",),
    ),
    Refusal(
        241,
        "Conversion failed when converting date and/or time from character string.",
        "date",
        "INSERT INTO t VALUES ('2020-13-01')",
        "INSERT INTO t VALUES ('2020-12-01')",
        given=("CREATE TABLE t (a date)",),
    ),
    Refusal(
        2627,
        "Violation of UNIQUE KEY constraint.",
        "CREATE TABLE",
        "INSERT INTO t VALUES (NULL)",
        "INSERT INTO t VALUES (1)",
        given=("CREATE TABLE t (a int NULL UNIQUE)", "INSERT INTO t VALUES (NULL)"),
    ),
    Refusal(
        515,
        "Cannot insert the value NULL.",
        "INSERT",
        "INSERT INTO t (b) VALUES (1)",
        "INSERT INTO t (a) VALUES (1)",
        given=("CREATE TABLE t (a int PRIMARY KEY, b int)",),
    ),
    Refusal(
        547,
        "The statement conflicted with a constraint.",
        "FOREIGN KEY constraints",
        "INSERT INTO u VALUES (1)",
        "INSERT INTO u VALUES (NULL)",
        given=(
            "CREATE TABLE t (a int PRIMARY KEY, b int)",
            "CREATE TABLE u (a int REFERENCES t (a))",
        ),
    ),
    Refusal(
        4712,
        "Cannot truncate a table that a FOREIGN KEY constraint references.",
        "TRUNCATE TABLE",
        "TRUNCATE TABLE t",
        "TRUNCATE TABLE u",
        given=(
            "CREATE TABLE t (a int PRIMARY KEY, b int)",
            "CREATE TABLE u (a int REFERENCES t (a))",
        ),
    ),
    Refusal(
        3726,
        "Could not drop an object that a FOREIGN KEY constraint references.",
        "DROP TABLE",
        "DROP TABLE t",
        "DROP TABLE u",
        given=(
            "CREATE TABLE t (a int PRIMARY KEY, b int)",
            "CREATE TABLE u (a int REFERENCES t (a))",
        ),
    ),
    Refusal(
        3609,
        "The transaction ended in the trigger.",
        "CREATE TRIGGER",
        "INSERT INTO t VALUES (1, 1)",
        "DELETE FROM t",
        given=(
            "CREATE TABLE t (a int PRIMARY KEY, b int)",
            "CREATE TRIGGER w ON t AFTER INSERT AS ROLLBACK TRANSACTION",
        ),
    ),
)
