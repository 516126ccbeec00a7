"""The columns that SQLite computes a generated column from, found in the CREATE TABLE text."""

from __future__ import annotations

from collections.abc import Collection

import sqlglot
from sqlglot.errors import SqlglotError
from sqlglot.tokenizer_core import Token, TokenType


def computed_from(create: str, generated: str, columns: Collection[str]) -> frozenset[str]:
    """Return the columns of `columns` that the definition of a generated column names.

    Args:
        create: the text of CREATE TABLE.

    Returns:
        All columns if the text cannot be parsed.
    """
    try:
        tokens = sqlglot.tokenize(create, read="sqlite")
    except SqlglotError:
        return frozenset(columns)
    named = {name.lower(): name for name in columns}
    for part in _parts(tokens):
        if part and part[0].text.lower() == generated.lower():
            words = {token.text.lower() for token in part[1:]}
            found = frozenset(named[word] for word in words & named.keys())
            return found - {generated} or frozenset(columns)
    return frozenset(columns)


def _parts(tokens: list[Token]) -> list[list[Token]]:
    """Split at the commas between the outermost parentheses."""
    parts: list[list[Token]] = [[]]
    depth = 0
    for token in tokens:
        if token.token_type is TokenType.R_PAREN:
            depth -= 1
        if depth == 1 and token.token_type is TokenType.COMMA:
            parts.append([])
        elif depth:
            parts[-1].append(token)
        if token.token_type is TokenType.L_PAREN:
            depth += 1
    return parts
