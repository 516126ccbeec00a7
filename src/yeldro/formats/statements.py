"""SQL text split into statements, each with its position."""

from __future__ import annotations

from collections.abc import Iterator, Sequence
from dataclasses import dataclass
from itertools import pairwise
from typing import TYPE_CHECKING, Any, NoReturn

import sqlglot
from sqlglot import Token, TokenType, exp
from sqlglot.errors import SqlglotError

from yeldro.core.model.messages.errors import UsageError
from yeldro.core.selection.conditions.parsing import parse, read_otherwise

if TYPE_CHECKING:
    from yeldro.core.database.facts import SqlDialect


@dataclass(frozen=True)
class Statement:
    """One statement and where it begins."""

    tree: exp.Expr
    line: int
    column: int

    def refuse(self, problem: str, next_step: str = "", node: exp.Expr | None = None) -> NoReturn:
        line, column = self.line, self.column
        for part in node.find_all(exp.Identifier) if node is not None else ():
            if "line" in part.meta:
                line += part.meta["line"] - 1
                column = part.meta["col"]
                break
        raise UsageError(f"Line {line}, column {column}: {problem}", next_step)


def statements(text: str, dialect: SqlDialect) -> Iterator[Statement]:
    """Parse each statement of a text on its own, in the language of the connected system."""
    try:
        tokens = sqlglot.tokenize(text, read=dialect)
    except SqlglotError as error:
        raise UsageError(f"The statements cannot be read: {str(error).splitlines()[0]}") from error
    text = _without_idle_words(text, tokens, dialect)
    for part in _split(tokens):
        first = part[0]
        other = read_otherwise(text, part, dialect)
        if other:
            raise UsageError(f"Line {first.line}: {other}.", "Write it in another way.")
        written = _without_stars(text, part)
        column = first.start - text.rfind("\n", 0, first.start)
        try:
            trees = parse(written, dialect)
        except (SqlglotError, ValueError) as error:
            place: dict[str, Any] = (getattr(error, "errors", None) or [{}])[0]
            line = first.line + (place.get("line") or 1) - 1
            near = (place.get("highlight") or "").strip()
            raise UsageError(
                f"Line {line}: this is not understood{f' near {near!r}' if near else ''}.",
                "Write one DELETE with one condition, in the SQL of this database.",
            ) from error
        for tree in trees[:1]:
            yield Statement(tree, first.line, column)


def _without_idle_words(text: str, tokens: Sequence[Token], dialect: SqlDialect) -> str:
    """Return statements without words that say when the system does it, and not to which rows.

    Raises:
        UsageError: a DELETE passes over errors.
    """
    written, after_delete = list(text), False
    for token in tokens:
        word = token.text.upper()
        if after_delete and word in dialect.idle_words:
            written[token.start : token.end + 1] = " " * (token.end + 1 - token.start)
        elif after_delete and word in dialect.lenient_words:
            raise UsageError(
                f"Line {token.line}: {word} passes over errors, and nothing is passed over here.",
                "Leave it out.",
            )
        else:
            after_delete = word == "DELETE"
    return "".join(written)


def _without_stars(text: str, tokens: Sequence[Token]) -> str:
    """Return a statement without the `.*` that may stand between a table's name and FROM."""
    start = tokens[0].start
    written = list(text[start : tokens[-1].end + 1])
    for token, after in pairwise(tokens):
        if token.token_type is TokenType.FROM:
            break
        if token.token_type is TokenType.DOT and after.token_type is TokenType.STAR:
            for place in (token.start, after.start):
                written[place - start] = " "
    return "".join(written)


def _split(tokens: Sequence[Token]) -> Iterator[list[Token]]:
    part: list[Token] = []
    for token in tokens:
        if token.token_type is TokenType.SEMICOLON:
            if part:
                yield part
            part = []
        else:
            part.append(token)
    if part:
        yield part
