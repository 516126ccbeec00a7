"""Statements as the clients of other systems take them, laid out so that a parser reads them.

Words are overwritten by blanks, and semicolons stand at the ends of statements, so every line and
nearly every column stays where it was.
"""

from __future__ import annotations

from collections.abc import Sequence
from itertools import pairwise

import sqlglot
from sqlglot import Token, TokenType
from sqlglot.errors import SqlglotError

from yeldro.core.model.errors import UsageError

_BEGINS = {"DELETE", "TRUNCATE", "BEGIN", "COMMIT", "ROLLBACK", "SET", "USE", "PRINT", "DECLARE",
           "UPDATE", "INSERT", "EXEC", "EXECUTE", "IF", "SELECT", "GO"}  # fmt: skip
_NEEDLESS = {"LOW_PRIORITY", "QUICK"}


def laid_out(text: str, dialect: str) -> str:
    """Return a text of statements with a semicolon between them, and without needless words.

    Args:
        dialect: in which they are written.
    """
    written = list(text)
    if dialect == "oracle":
        _end_by_slash(text, written)
    try:
        tokens = sqlglot.tokenize(text, read=dialect)
    except SqlglotError:
        return "".join(written)
    _refuse_words(tokens, dialect)
    if dialect == "tsql":
        _without_hints(tokens, written)
        _separate(text, tokens, written)
        _drop_second_from(tokens, written)
    if dialect == "mysql":
        for token, after in pairwise(tokens):
            if after.text.upper() in _NEEDLESS and token.text.upper() in ("DELETE", *_NEEDLESS):
                _blank(after, written)
    return "".join(written)


def _refuse_words(tokens: Sequence[Token], dialect: str) -> None:
    """Refuse what says more than which rows go, or less.

    Raises:
        UsageError: a statement holds such a word.
    """
    for token, after in pairwise(tokens):
        word, deletes = after.text.upper(), token.text.upper() == "DELETE"
        if dialect == "tsql" and word == "TOP" and deletes:
            raise _refused(
                after,
                "TOP without an order picks arbitrary rows",
                "Write an order without ties and a limit: ‹order_by› and ‹limit›.",
            )
        if dialect == "tsql" and word == "OUTPUT":
            raise _refused(
                after,
                "OUTPUT is not needed",
                "Leave it out; the receipt holds every removed row.",
            )
        if dialect == "mysql" and word == "IGNORE" and deletes:
            problem = "IGNORE passes over errors, and nothing is passed over here"
            raise _refused(after, problem, "Leave it out.")


def _refused(token: Token, problem: str, next_step: str) -> UsageError:
    return UsageError(f"Line {token.line}: {problem}.", next_step)


def _without_hints(tokens: Sequence[Token], written: list[str]) -> None:
    """Blank out `OPTION (…)`, which tells how and not what."""
    inside = False
    for place, token in enumerate(tokens):
        after = tokens[place + 1] if place + 1 < len(tokens) else None
        if token.text.upper() == "OPTION" and after and after.token_type is TokenType.L_PAREN:
            inside = True
        if inside:
            _blank(token, written)
        inside = inside and token.token_type is not TokenType.R_PAREN


def _end_by_slash(text: str, written: list[str]) -> None:
    """Turn a slash that stands alone on its line into a semicolon."""
    start = 0
    for line in text.splitlines(keepends=True):
        if line.strip() == "/":
            written[start + line.index("/")] = ";"
        start += len(line)


def _separate(text: str, tokens: Sequence[Token], written: list[str]) -> None:
    """Put a semicolon before a word that begins a statement, where a blank stands."""
    depth, begun = 0, ""
    for place, token in enumerate(tokens):
        word = token.text.upper()
        if token.token_type is TokenType.L_PAREN:
            depth += 1
        elif token.token_type is TokenType.R_PAREN:
            depth -= 1
        elif token.token_type is TokenType.SEMICOLON:
            begun = ""
        elif not begun:
            begun = word
            if word == "GO":
                begun = _ended(token, written)
        elif not depth and word in _BEGINS and token.token_type is not TokenType.IDENTIFIER:
            if word == "GO":
                begun = _ended(token, written) if _alone(text, token) else begun
            elif begun == "WITH":
                begun = word  # the statement that the WITH queries belong to
            elif _can_begin(word, tokens[place - 1]) and text[token.start - 1].isspace():
                written[tokens[place - 1].end] += ";"
                begun = word


def _can_begin(word: str, before: Token) -> bool:
    """True if a word is no part of the statement before it."""
    if word == "SELECT":
        return before.text.upper() not in ("UNION", "ALL", "EXCEPT", "INTERSECT", "AS")
    return not (word == "SET" and before.text.upper() == "UPDATE")


def _alone(text: str, token: Token) -> bool:
    begin = text.rfind("\n", 0, token.start) + 1
    end = text.find("\n", token.end)
    return text[begin : end if end >= 0 else len(text)].strip().upper() == "GO"


def _ended(token: Token, written: list[str]) -> str:
    _blank(token, written)
    written[token.start] = ";"
    return ""


def _drop_second_from(tokens: Sequence[Token], written: list[str]) -> None:
    """Turn `DELETE FROM t FROM …` into `DELETE t FROM …`, which means the same."""
    for place, token in enumerate(tokens):
        if token.text.upper() != "DELETE" or place + 3 >= len(tokens):
            continue
        first, end = tokens[place + 1], place + 2
        while end + 1 < len(tokens) and tokens[end + 1].token_type is TokenType.DOT:
            end += 2
        after = tokens[end + 1] if end + 1 < len(tokens) else None
        is_from = first.token_type is TokenType.FROM
        if is_from and after is not None and after.token_type is TokenType.FROM:
            _blank(first, written)


def _blank(token: Token, written: list[str]) -> None:
    for place in range(token.start, token.end + 1):
        written[place] = " "
