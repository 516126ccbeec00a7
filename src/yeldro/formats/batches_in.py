"""What stands around statements in files for SQL Server: GO, constants, and no semicolons.

A constant is put where it is used, cast to the type that it was declared with, so that it is cut
and rounded as there. Lines stay where they are, as messages name them.
"""

from __future__ import annotations

import re

import sqlglot
from sqlglot import Token, TokenType
from sqlglot.errors import SqlglotError

from yeldro.core.model.messages.errors import UsageError

_VALUE = r"N?'(?:[^']|'')*'|[+-]?\d+(?:\.\d+)?|0x[0-9a-fA-F]*|NULL"
_ONE = rf"(@\w+)\s+(?:AS\s+)?(\w+(?:\s*\([^()]*\))?)\s*=\s*({_VALUE})"
_DECLARE = re.compile(rf"DECLARE\s+{_ONE}(?:\s*,\s*{_ONE})*\s*;?", re.IGNORECASE)
_EACH = re.compile(_ONE, re.IGNORECASE)
_BEGINS = re.compile(r"DECLARE\b", re.IGNORECASE)


def plain_statements(text: str) -> str:
    """Return a text for SQL Server as statements with semicolons between them, without constants.

    Raises:
        UsageError: something else is declared, GO repeats a batch, or TOP says which rows of none.
    """
    declared: dict[str, str] = {}
    start = _begin_of_constants(text)
    while start is not None:
        found = _DECLARE.match(text, start)
        if not found:
            line = text.count("\n", 0, start) + 1
            raise UsageError(
                f"Line {line}: only constants can be declared, as in DECLARE @day date = "
                "'2024-02-01'.",
                "Write the value where it is used.",
            )
        for name, kind, value in _EACH.findall(found[0]):
            declared[name.casefold()] = f"CAST({value} AS {kind})"
        kept = "\n" * found[0].count("\n")
        text = f"{text[:start]}{kept};{text[found.end() :]}"
        start = _begin_of_constants(text)
    return _in_batches(text, declared)


def _begin_of_constants(text: str) -> int | None:
    """Return where the first DECLARE begins that is a word of a statement, None if none is left."""
    for token in _tokens(text):
        if _BEGINS.match(text, token.start) and token.token_type is not TokenType.STRING:
            return int(token.start)
    return None


def _in_batches(text: str, declared: dict[str, str]) -> str:
    written = list(text)
    tokens = _tokens(text)
    lines = [token.line for token in tokens]
    first, depth = "", 0  # of the statement that is read
    for place, token in enumerate(tokens):
        depth += (token.token_type is TokenType.L_PAREN) - (token.token_type is TokenType.R_PAREN)
        begins_line = not place or tokens[place - 1].line < token.line
        if token.text.upper() == "DELETE" == first and begins_line and not depth:
            written[token.start] = f";{written[token.start]}"
        if token.token_type is TokenType.SEMICOLON or token.text.upper() == "GO":
            first = ""
        else:
            first = first or token.text.upper()
        following = tokens[place + 1] if place + 1 < len(tokens) else None
        if token.text.upper() == "GO" and token.token_type is not TokenType.STRING:
            if following is not None and following.line == token.line:
                raise UsageError(
                    f"Line {token.line}: GO with a number repeats a batch.", "Leave the number out."
                )
            if lines.count(token.line) == 1:
                written[token.start : token.end + 1] = ";" + " " * (token.end - token.start)
        elif token.token_type is TokenType.PARAMETER and following is not None:
            value = declared.get(f"@{following.text}".casefold())
            if value is not None:
                written[token.start] = value
                written[following.start : following.end + 1] = [""] * len(following.text)
        elif token.text.upper() == "TOP" and place and tokens[place - 1].text.upper() == "DELETE":
            raise UsageError(
                f"Line {token.line}: DELETE TOP takes any of the rows, and nobody knows which.",
                "Leave it out, and say which with ‹order_by› and ‹limit›.",
            )
    return "".join(written)


def _tokens(text: str) -> list[Token]:
    try:
        return sqlglot.tokenize(text, read="tsql")
    except SqlglotError as error:
        raise UsageError(f"The statements cannot be read: {str(error).splitlines()[0]}") from error
