"""Reads Transact-SQL as SQL Server does: what it refuses is an error with its number."""

from __future__ import annotations

import sqlglot
from sqlglot import TokenType, exp
from sqlglot.dialects.tsql import TSQL
from sqlglot.errors import SqlglotError

from yeldro.standins.sqlserver.refusals import REFUSALS

# Words of other systems, which the parser lets pass.
_FOREIGN_WORDS = frozenset(
    {"LIMIT", "NULLS", "TRUE", "FALSE", "ILIKE", "REGEXP", "GLOB", "RECURSIVE"}
)
_NO_WORDS = (TokenType.IDENTIFIER, TokenType.STRING, TokenType.NATIONAL_STRING)


class ReadError(Exception):
    """SQL Server does not take a statement.

    Args:
        number, text: of its error.
    """

    def __init__(self, number: int, text: str) -> None:
        super().__init__(f"Msg {number}: {text}")
        self.number, self.text = number, text


def read(batch: str) -> list[exp.Expr]:
    """Return the statements of a batch.

    Raises:
        ReadError: the server refuses one of them.
    """
    try:
        tokens = TSQL().tokenize(batch)
        for token in tokens:
            if token.token_type not in _NO_WORDS and token.text.upper() in _FOREIGN_WORDS:
                raise ReadError(102, f"Incorrect syntax near '{token.text}'.")
        statements = [each for each in sqlglot.parse(batch, dialect="tsql") if each is not None]
    except SqlglotError as error:
        raise ReadError(102, f"Incorrect syntax ({str(error).splitlines()[0]}).") from error
    for statement in statements:
        _check(statement)
    return statements


def _check(statement: exp.Expr) -> None:
    for node in statement.walk():
        for refusal in REFUSALS:
            for named in refusal.find(node):
                raise ReadError(refusal.number, refusal.text.format(named))
