"""SQL text as syntax trees, and texts that the system would read in another way than the tree."""

from __future__ import annotations

from collections.abc import Iterator, Sequence
from contextlib import contextmanager
from typing import TYPE_CHECKING, Any

import sqlglot
from sqlglot import Token, TokenType, exp
from sqlglot.errors import SqlglotError, TokenError

from yeldro.core.model.messages.errors import UnknownName
from yeldro.core.model.messages.names import same_name

if TYPE_CHECKING:
    from yeldro.core.database.facts import SqlDialect
    from yeldro.core.model.tables.schema import Table

_RUN_BY_THE_SERVER = ("!", "M!", "+")  # beginnings of comments that servers execute or obey
_COMPARISONS = {
    TokenType.EQ, TokenType.NEQ, TokenType.NULLSAFE_EQ, TokenType.GT, TokenType.GTE, TokenType.LT,
    TokenType.LTE, TokenType.LIKE, TokenType.ILIKE, TokenType.GLOB, TokenType.RLIKE,
    TokenType.SIMILAR_TO, TokenType.IN, TokenType.BETWEEN, TokenType.IS, TokenType.ISNULL,
    TokenType.NOTNULL, TokenType.MATCH, TokenType.SOUNDS_LIKE,
}  # fmt: skip
_ENDS_A_COMPARISON = {
    TokenType.AND, TokenType.OR, TokenType.XOR, TokenType.COMMA, TokenType.WHEN, TokenType.THEN,
    TokenType.ELSE, TokenType.SELECT, TokenType.FROM, TokenType.WHERE, TokenType.ON,
    TokenType.USING, TokenType.GROUP_BY, TokenType.HAVING, TokenType.ORDER_BY, TokenType.LIMIT,
    TokenType.UNION, TokenType.EXCEPT, TokenType.INTERSECT,
}  # fmt: skip
_OPENS = {TokenType.L_PAREN, TokenType.L_BRACKET, TokenType.CASE}
_CLOSES = {TokenType.R_PAREN, TokenType.R_BRACKET, TokenType.END}
_ENDS_A_VALUE = {
    TokenType.VAR, TokenType.IDENTIFIER, TokenType.NUMBER, TokenType.STRING, TokenType.R_PAREN,
    TokenType.R_BRACKET, TokenType.NULL, TokenType.TRUE, TokenType.FALSE, TokenType.END,
    TokenType.HEX_STRING, TokenType.BIT_STRING,
}  # fmt: skip


def parse(text: str, dialect: SqlDialect) -> list[exp.Expr]:
    """Return the statements or conditions of a text, with names spelled as the system reads them.

    PostgreSQL reads a name without quotes in lower case, so `Buoy` never means a table "Buoy"
    there (its manual, 4.1.1).

    Raises:
        SqlglotError: the text cannot be read.
    """
    trees = [tree for tree in sqlglot.parse(text, dialect=dialect) if tree is not None]
    if dialect.lowers_names:
        for tree in trees:
            for name in tree.find_all(exp.Identifier):
                if not name.quoted:
                    name.set("this", name.this.lower())
    return trees


def read_otherwise(text: str, tokens: Sequence[Token], dialect: SqlDialect) -> str:
    """Return what the system would read in another way than the parser; empty if nothing.

    Args:
        tokens: those of the text, or of one statement in it.
    """
    for token in tokens:
        if any(comment.startswith(_RUN_BY_THE_SERVER) for comment in token.comments):
            return "some servers execute the comment in it"
        written = text[token.start : token.end + 1]
        if dialect.has_hex_texts and written.lower().startswith("0x"):
            return f"{written} is a number in some places and text in others; write which it is"
    if _chain(tokens):
        return "it compares a comparison; put brackets around the one that comes first"
    signs = (
        token.token_type is TokenType.PLUS
        and (not place or tokens[place - 1].token_type not in _ENDS_A_VALUE)
        for place, token in enumerate(tokens)
    )
    if dialect.plus_converts and any(signs):
        return "a + before a value changes how SQLite compares it; leave it out"
    return ""


def _chain(tokens: Sequence[Token]) -> bool:
    """True if the result of a comparison is compared without brackets: `a > b NOT IN (1, 2)`.

    Systems evaluate such operators in different orders, and readers misread them.
    """
    found, between = [0], [0]
    for place, token in enumerate(tokens):
        kind = token.token_type
        before = tokens[place - 1].token_type if place else None
        if kind in _OPENS:
            found.append(0)
            between.append(0)
        elif kind in _CLOSES and len(found) > 1:
            found.pop()
            between.pop()
        elif kind is TokenType.AND and between[-1]:
            between[-1] -= 1
        elif kind in _ENDS_A_COMPARISON and before is not TokenType.DISTINCT:
            found[-1] = between[-1] = 0
        elif kind is TokenType.NOT and token.text != "!" and _negates_a_side(tokens, place):
            return True
        elif _compares(tokens, place):
            found[-1] += 1
            between[-1] += kind is TokenType.BETWEEN
            if found[-1] > 1:
                return True
    return False


def _compares(tokens: Sequence[Token], place: int) -> bool:
    """True if a token is a comparison, not part of another operator and not a function name."""
    token = tokens[place]
    before, after = tokens[:place][-1:], tokens[place + 1 : place + 2]
    if token.token_type in (TokenType.MATCH, TokenType.ISNULL):  # the function of that name
        return not (after and after[0].token_type is TokenType.L_PAREN)
    if token.text == "~":  # before a value it inverts the bits
        return bool(before) and before[0].token_type in _ENDS_A_VALUE
    if token.token_type in (TokenType.LT, TokenType.GT):  # a half of << or >>
        return not any(
            each.token_type is token.token_type
            and 1 in (token.start - each.end, each.start - token.end)
            for each in (*before, *after)
        )
    return token.token_type in _COMPARISONS


def _negates_a_side(tokens: Sequence[Token], place: int) -> bool:
    """True if a NOT stands before a side of an operator, such as `a = NOT b`."""
    after = tokens[place + 1].token_type if place + 1 < len(tokens) else None
    before = tokens[place - 1].token_type if place else None
    infix = after in _COMPARISONS or before is TokenType.IS or after is TokenType.NULL
    starts = before is None or before in _OPENS | _ENDS_A_COMPARISON | {TokenType.NOT}
    return not infix and not starts


def with_names(node: exp.Expr) -> exp.Expr:
    """Return a part of SQL whose parameters are written `:name`, as people write them."""

    def named(part: exp.Expr) -> exp.Expr:
        return exp.Var(this=f":{part.name}") if isinstance(part, exp.Placeholder) else part

    return node.transform(named)


def own_column(node: exp.Expr, table: Table) -> str | None:
    """Return the column of a table that a node names, None if it names none."""
    return same_name(node.name, table.by_name) if isinstance(node, exp.Column) else None


def conjuncts(tree: exp.Expr) -> Iterator[exp.Expr]:
    """Yield the parts of a condition that must all be true."""
    body = tree.unnest()
    for part in body.flatten() if isinstance(body, exp.And) else [body]:
        yield part.unnest()


def equalities(condition: exp.Expr, table: Table) -> Iterator[tuple[str, exp.Expr]]:
    """Yield the columns of a table that a condition `a = b` compares, each with the other side."""
    if isinstance(condition, exp.EQ):
        sides = [condition.left.unnest(), condition.right.unnest()]
        for one, other in (sides, sides[::-1]):
            name = own_column(one, table)
            if name:
                yield name, other


@contextmanager
def pointing(text: str, node: exp.Expr) -> Iterator[None]:
    """Add to the refusal of a name where it stands in what the user wrote."""
    try:
        yield
    except UnknownName as error:
        name = node.this if isinstance(node.this, exp.Identifier) else node
        start, end = name.meta.get("start", 0), name.meta.get("end", -1) + 1
        if name.name in text[start:end]:
            error.evidence["place"] = place_in(text, start, end)
        raise


def place_in(text: str, start: int, end: int) -> dict[str, Any]:
    """Return a place in a text, with the line in which it stands.

    Args:
        start, end: the first character, and the one after the last.
    """
    begins = text.rfind("\n", 0, start) + 1
    line = text[begins:].split("\n", 1)[0]
    return {
        "line": text.count("\n", 0, start) + 1,
        "column": start - begins + 1,
        "length": max(min(end - begins, len(line)) - (start - begins), 1),
        "text": line,
    }


def place_of_error(text: str, error: SqlglotError) -> dict[str, Any] | None:
    """Return where SQL cannot be read; None if the parser does not tell."""
    if isinstance(error, TokenError):
        start = _open_quote(text)
        return None if start is None else place_in(text, start, start + 1)
    (found, *_) = getattr(error, "errors", None) or [{}]
    near = found.get("highlight")
    if not near:
        return None
    lines = text.split("\n")[: found["line"] - 1]
    end = sum(len(line) + 1 for line in lines) + found["col"]
    fits = text[end - len(near) : end] == near
    return place_in(text, end - len(near), end) if fits else None


def _open_quote(text: str) -> int | None:
    """Return the place of a quote that is not closed."""
    opened: int | None = None
    for place, character in enumerate(text):
        if opened is None and character in "'\"":
            opened = place
        elif opened is not None and character == text[opened]:
            opened = None
    return opened
