"""Statements of Transact-SQL as SQLite takes them."""

from __future__ import annotations

from collections.abc import Callable
from typing import ClassVar

from sqlglot import exp
from sqlglot.dialects.sqlite import SQLite

from yeldro.standins.sqlserver.declared import in_sqlite, like, type_name

_BIG = 20  # digits; longer whole numbers are decimals
_NO_TYPES = (exp.DataType.Type.TEXT, exp.DataType.Type.UNKNOWN)  # the parser's own casts
_OF_TEXTS = ("yeldro_concat", "yeldro_plus", "yeldro_convert", "nchar")
_FUNCTIONS: dict[type[exp.Expr], str] = {
    exp.Uuid: "newid",
    exp.CurrentTimestamp: "getdate",
    exp.CurrentTimestampLTZ: "sysdatetimeoffset",
    exp.SHA2: "yeldro_sha256",
    exp.Length: "yeldro_len",
}


class _Sqlite(SQLite):
    """SQLite's SQL with names in backquotes: it takes unknown ones in double quotes for texts."""

    class Tokenizer(SQLite.Tokenizer):
        IDENTIFIERS: ClassVar[list[str | tuple[str, str]]] = ["`"]


def written(statement: exp.Expr, of_session: Callable[[str], exp.Expr]) -> str:
    """Return a statement in SQLite's words.

    Args:
        of_session: returns what a name with two at signs stands for.

    Raises:
        ReadError: the stand-in does not have something.
    """

    def translated(node: exp.Expr) -> exp.Expr:
        if isinstance(node, exp.Parameter) and isinstance(node.this, exp.Parameter):
            return of_session(node.this.name.casefold())
        return _translated(node)

    made: exp.Expr = statement.copy()
    if isinstance(statement, exp.Create) and statement.kind == "TABLE":
        made = in_sqlite(statement)
    limit = None
    if isinstance(made, exp.Delete | exp.Update):
        limit = made.args.get("limit")
        made.set("limit", None)
    made = _from_below(made, translated)
    if limit is not None:
        made = _limited(made, limit)
    return made.sql(_Sqlite, identify=True)


def _from_below(node: exp.Expr, translated: Callable[[exp.Expr], exp.Expr]) -> exp.Expr:
    """Return a tree with each part translated, after the parts that it is made of."""
    for part in list(node.iter_expressions()):
        made = _from_below(part, translated)
        if made is not part:
            part.replace(made)
    return translated(node)


def _limited(made: exp.Expr, limit: exp.Expr) -> exp.Expr:
    """Return a DELETE or UPDATE of at most so many rows."""
    rowid = exp.column("rowid", quoted=False)
    some = exp.select(rowid).from_(made.this.copy())
    if made.args.get("where"):
        some = some.where(made.args["where"].this.copy())
    chosen = exp.In(this=rowid.copy(), query=exp.Subquery(this=some.limit(limit.expression)))
    made.set("where", exp.Where(this=chosen))
    return made


def _translated(node: exp.Expr) -> exp.Expr:
    """Return a part of a statement as SQLite takes it."""
    kind = type(node)
    if kind in _FUNCTIONS:
        inner = node.this
        if isinstance(node, exp.Length) and isinstance(inner, exp.Cast):
            inner = inner.this  # the parser's own cast
        return exp.Anonymous(this=_FUNCTIONS[kind], expressions=[inner] if inner else [])
    match node:
        case exp.Table():
            return _table(node)
        case exp.ColumnDef() if node.kind:
            node.set("kind", _declared(node.kind))
        case exp.Convert():
            style = node.args.get("style") or exp.Literal.number(0)
            return _converted(node.this, node.expression, style)
        case exp.Cast() if node.to.this not in _NO_TYPES:
            return _converted(node.to, node.this, exp.Literal.number(0))
        case exp.Collate():
            compared = exp.to_identifier(like(node.expression.name))
            return exp.paren(exp.Collate(this=node.this, expression=compared), copy=False)
        case exp.National():
            return exp.Literal.string(node.this)
        case exp.CurrentSchema():
            return exp.Literal.string("dbo")
        case exp.Concat():
            return exp.Anonymous(this="yeldro_concat", expressions=node.expressions)
        case exp.Add() if _is_text(node.left) or _is_text(node.right):
            return exp.Anonymous(this="yeldro_plus", expressions=[node.left, node.right])
    return node


def _is_text(node: exp.Expr) -> bool:
    """True if a value is a text, or made of one."""
    while isinstance(node, exp.Paren):
        node = node.this
    if isinstance(node, exp.Add):
        return _is_text(node.left) or _is_text(node.right)
    named = getattr(node, "this", "") if isinstance(node, exp.Anonymous) else ""
    of_texts = str(named).casefold() in _OF_TEXTS
    return of_texts or isinstance(node, exp.National) or bool(getattr(node, "is_string", False))


def _declared(declared: exp.DataType) -> exp.DataType:
    """Return the type of a column; a length that is `max` is no number."""
    name = type_name(declared).replace("(max)", "")
    return exp.DataType(this=exp.DataType.Type.USERDEFINED, kind=exp.Var(this=name))


def _converted(declared: exp.Expr, value: exp.Expr, style: exp.Expr) -> exp.Expr:
    name = exp.Literal.string(type_name(declared))  # type: ignore[arg-type]
    return exp.Anonymous(this="yeldro_convert", expressions=[name, value, style])


def _table(node: exp.Table) -> exp.Expr:
    """Return a table without hints, and without the schema that all tables are in."""
    node.set("hints", None)
    node.set("catalog", None)
    if node.db.casefold() == "dbo":
        node.set("db", None)
    name = node.this
    if isinstance(name, exp.Identifier) and name.args.get("temporary"):
        node.set("this", exp.to_identifier(f"#{name.name}", quoted=True))
        node.set("db", exp.to_identifier("temp"))
    return node
