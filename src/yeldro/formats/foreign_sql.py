"""SQL that means one thing on another system and something else on this database."""

from __future__ import annotations

from collections.abc import Collection, Iterator

from sqlglot import exp

_ON_BITS = (
    exp.BitwiseAnd, exp.BitwiseOr, exp.BitwiseXor, exp.BitwiseLeftShift, exp.BitwiseRightShift,
)  # fmt: skip
_ESCAPE_BY_BACKSLASH = {"postgres", "mysql", "mariadb"}


def other_meaning(
    tree: exp.Expr, source: str, target: str, text_columns: Collection[str]
) -> tuple[exp.Expr, str, str] | None:
    """Return the first part of a statement that the two systems understand differently.

    Args:
        source: dialect in which it is written.
        target: dialect of the database.
        text_columns: names of columns that hold text, in lower case.

    Returns:
        The part, the problem, and what to write instead; None if there is no problem.
    """
    for found in _different(tree, source, target, text_columns):
        return found
    return None


def _different(
    tree: exp.Expr, source: str, target: str, text_columns: Collection[str]
) -> Iterator[tuple[exp.Expr, str, str]]:
    bits = _bits_by_precedence(tree)
    if bits is not None:
        problem = "has another operator beside it, and their order depends on the system"
        yield bits, problem, "Put the operation that comes first in brackets."
    if source == "tsql":
        for sum_ in tree.find_all(exp.Add):
            if any(_is_text(side, text_columns) for side in (sum_.left, sum_.right)):
                yield sum_, "joins text there and adds numbers here", "Write it with CONCAT."
    if source == "oracle":
        for text in tree.find_all(exp.Literal):
            if text.is_string and not text.this:
                yield text, "is NULL there and an empty text here", "Write IS NULL or IS NOT NULL."
    escapes = source in _ESCAPE_BY_BACKSLASH, target in _ESCAPE_BY_BACKSLASH
    for node in tree.find_all(exp.Like, exp.ILike):
        pattern = node.expression
        fixed = isinstance(pattern, exp.Literal)
        if source == "tsql" and "[" in pattern.sql():
            yield (
                node,
                "has a set of characters in its pattern",
                "Write a LIKE for each character.",
            )
        plain = not isinstance(node.parent, exp.Escape)
        if escapes[0] != escapes[1] and plain and (not fixed or "\\" in pattern.this):
            problem = "uses a backslash, which escapes on only one of the two systems"
            yield node, problem, "Write ESCAPE and another character."


def _is_text(node: exp.Expr, text_columns: Collection[str]) -> bool:
    node = node.unnest()
    if isinstance(node, exp.Column):
        return node.name.casefold() in text_columns
    return isinstance(node, exp.Literal) and bool(node.is_string)


def _bits_by_precedence(tree: exp.Expr) -> exp.Expr | None:
    """Return a bitwise operation with another operator beside it and no brackets.

    Systems evaluate them in different orders.
    """
    for node in tree.find_all(*_ON_BITS):
        sides = [node.args.get("this"), node.args.get("expression")]
        inner = (each for each in sides if isinstance(each, exp.Binary))
        outer = node.parent
        if any(type(each) is not type(node) for each in inner) or (
            isinstance(outer, exp.Add | exp.Sub | exp.Mul | exp.Div | exp.Mod)
        ):
            return node
    return None
