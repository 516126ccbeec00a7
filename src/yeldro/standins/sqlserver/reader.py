"""Reads Transact-SQL as SQL Server does: what it refuses is an error with its number."""

from __future__ import annotations

import re
from collections.abc import Callable, Iterator
from dataclasses import dataclass
from functools import lru_cache
from typing import Any

import sqlglot
from sqlglot import TokenType, exp
from sqlglot.dialects.tsql import TSQL
from sqlglot.errors import SqlglotError

from yeldro.standins.sqlserver.functions import converted
from yeldro.standins.sqlserver.refusals import REFUSALS, ReadError

# Words of other systems, which the parser lets pass.
_FOREIGN_WORDS = frozenset(
    {"LIMIT", "NULLS", "TRUE", "FALSE", "ILIKE", "REGEXP", "GLOB", "RECURSIVE"}
)
_REMEMBERED = 500  # batches
_NO_WORDS = (TokenType.IDENTIFIER, TokenType.STRING, TokenType.NATIONAL_STRING)
_NO_BYTES = "CAST(N'' AS varbinary(1))"
_BLOCKS = {"IF", "BEGIN", "WHILE", "DECLARE"}  # words that begin what may hold semicolons
_WORDS = re.IGNORECASE | re.DOTALL
_SAVE = re.compile(r"SAVE\s+TRAN(?:SACTION)?\s+(\w+)", _WORDS)
_DATABASE = re.compile(
    r"(CREATE|DROP)\s+DATABASE\s+(?:IF\s+EXISTS\s+)?\[?(\w+)\]?(?:\s+AS\s+COPY\s+OF\s+(\w+))?",
    _WORDS,
)
_SET = re.compile(
    r"SET\s+(TRANSACTION\s+ISOLATION\s+LEVEL|IDENTITY_INSERT|\w+)\s+(.+)", _WORDS
)  # not @names
_NAME = r'(\[(?:[^\]]|\]\])+\]|"(?:[^"]|"")+"|\w+)'
_LAST = re.compile(rf"(?:{_NAME.replace('(', '(?:', 1)}\.)*{_NAME}")
_TRIGGER = re.compile(
    rf"CREATE\s+TRIGGER\s+(?:dbo\.)?{_NAME}\s+ON\s+(?:dbo\.)?{_NAME}\s+"
    r"(AFTER|FOR|INSTEAD\s+OF)\s+"
    r"((?:INSERT|UPDATE|DELETE)(?:\s*,\s*(?:INSERT|UPDATE|DELETE))*)\s+AS\s+(.+)",
    _WORDS,
)
_CHECK = re.compile(r"IF\s+(.+)\s+THROW\s+(\d+)\s*,\s*N'((?:[^']|'')*)'\s*,\s*\d+", _WORDS)
_CONSTANT = (
    r"(?:NULL|N?'(?:[^']|'')*+'|0x[0-9a-f]*+|-?\d++(?:\.\d++)?(?:e[+-]\d++)?"
    r"|CAST\('[^']*+' AS \w++(?:\(\d\))?\))"
)
_ROW = rf"\({_CONSTANT}(?:, {_CONSTANT})*+\)"
_MANY = re.compile(rf"(INSERT INTO [^']+? VALUES ){_ROW}(?:, {_ROW})++", _WORDS)
_ROWS, _CONSTANTS = re.compile(_ROW, _WORDS), re.compile(_CONSTANT, _WORDS)
_CAST = re.compile(r"CAST\('(.*)' AS (.*)\)", _WORDS)
_MOST_ROWS = 1000
_TOP = re.compile(r"(DELETE|UPDATE)\s+TOP\s*\(\s*(\d+)\s*\)", _WORDS)


@dataclass(frozen=True)
class Save:
    """SAVE TRANSACTION, by the name of the savepoint."""

    name: str


@dataclass(frozen=True)
class Setting:
    """SET, by the setting's name in upper case and the value as it is written."""

    name: str
    value: str


@dataclass(frozen=True)
class OfDatabase:
    """DROP DATABASE, or CREATE DATABASE, with AS COPY OF as the server has it in a cloud."""

    word: str
    name: str
    source: str | None


@dataclass(frozen=True)
class NewTrigger:
    """CREATE TRIGGER, fired once by each statement that changes rows of its table.

    Args:
        events: insert, update and delete, as many as fire it.
        body: the statements that it carries out.
        text: the whole statement.
        instead: it takes the place of the statement that fires it.
    """

    name: str
    table: str
    events: tuple[str, ...]
    body: str
    text: str
    instead: bool


@dataclass(frozen=True)
class Check:
    """IF with a condition, and THROW as all that is done then.

    Args:
        condition: a query for 1 if it holds, else 0.
    """

    condition: exp.Expr
    number: int
    text: str


@dataclass(frozen=True)
class ManyRows:
    """INSERT of several rows of constants, which are read without the parser: it is slow.

    Args:
        insert: the statement for one row, with a question mark for each value.
        rows: the values.
    """

    insert: exp.Insert
    rows: tuple[tuple[Any, ...], ...]


Statement = exp.Expr | ManyRows | Check | NewTrigger | Save | Setting | OfDatabase


@lru_cache(_REMEMBERED)
def read(batch: str) -> tuple[Statement, ...]:
    """Return the statements of a batch; nobody may change them, as they are kept.

    Raises:
        ReadError: the server refuses one of them.
    """
    try:
        return tuple(statement for text in _pieces(batch) for statement in _read(text))
    except SqlglotError as error:
        raise ReadError(102, f"Incorrect syntax ({str(error).splitlines()[0]}).") from error


def _pieces(batch: str) -> Iterator[str]:
    """Yield the batch in pieces that end with a semicolon; whole if it may hold blocks.

    Raises:
        ReadError: it has a word of another system.
    """
    if _TRIGGER.match(batch.strip()):
        yield batch.strip()
        return
    if _MANY.fullmatch(batch.strip()):
        yield batch.strip()
        return
    tokens = TSQL().tokenize(batch)
    for token in reversed(tokens):
        if batch[token.start : token.end + 1] == "0x":  # which the parser takes for a name
            batch = f"{batch[: token.start]}{_NO_BYTES}{batch[token.end + 1 :]}"
    tokens = TSQL().tokenize(batch)
    for token in tokens:
        if token.token_type not in _NO_WORDS and token.text.upper() in _FOREIGN_WORDS:
            raise ReadError(102, f"Incorrect syntax near '{token.text}'.")
    if tokens and tokens[0].text.upper() in _BLOCKS and not _CHECK.fullmatch(batch.strip(" ;\n")):
        yield batch.strip()
        return
    start = None  # of a statement, behind the comments before it
    for token in tokens:
        if token.token_type is not TokenType.SEMICOLON:
            start = token.start if start is None else start
        elif start is not None:
            yield batch[start : token.start].strip()
            start = None
    if start is not None:
        yield batch[start:].strip()


def _read(text: str) -> Iterator[Statement]:
    for pattern, made in _FORMS:
        if found := pattern.fullmatch(text):
            yield made(found)
            return
    top = _TOP.match(text)
    if top:
        text = top[1] + text[top.end() :]
    for statement in sqlglot.parse(text, dialect="tsql"):
        if statement is not None:
            _check(statement)
            if top:
                statement.set("limit", exp.Limit(expression=exp.Literal.number(top[2])))
            yield statement


def _thrown_if(found: re.Match[str]) -> Check:
    query = f"SELECT CASE WHEN {found[1]} THEN 1 ELSE 0 END AS holds"
    (condition,) = sqlglot.parse(query, dialect="tsql")
    if condition is None:
        raise ReadError(102, "Incorrect syntax near 'IF'.")
    _check(condition)
    return Check(condition, int(found[2]), found[3].replace("''", "'"))


def _many_rows(found: re.Match[str]) -> ManyRows:
    """Return an INSERT whose rows are constants.

    Raises:
        ReadError: there are too many rows, or one has more values than another.
    """
    head, listed = found[1], found[0].removeprefix(found[1])
    rows = tuple(tuple(map(_constant, _CONSTANTS.findall(row))) for row in _ROWS.findall(listed))
    if len(rows) > _MOST_ROWS:
        raise ReadError(10738, f"The number of row value expressions is more than {_MOST_ROWS}.")
    if len(set(map(len, rows))) > 1:
        raise ReadError(10709, "The number of columns for each row must be the same.")
    (insert,) = _read(f"{head}({', '.join('?' * len(rows[0]))})")
    if not isinstance(insert, exp.Insert):
        raise ReadError(102, "Incorrect syntax near 'VALUES'.")
    return ManyRows(insert, rows)


def _constant(text: str) -> Any:
    """Return the value of a constant."""
    word = text.upper()
    cast = _CAST.fullmatch(text)
    if cast:
        try:
            return converted(cast[2].lower(), cast[1], 0)
        except ValueError as error:
            raise ReadError(241, f"Conversion failed when converting to {cast[2]}.") from error
    if word == "NULL":
        return None
    if word.startswith("0X"):
        return bytes.fromhex(text[2:])
    if text.endswith("'"):
        return text.removeprefix("N").removeprefix("n")[1:-1].replace("''", "'")
    return float(text) if set(word) & set(".E") else int(text)


def read_trigger(text: str) -> NewTrigger:
    """Return the trigger that a statement makes.

    Raises:
        ReadError: it makes none.
    """
    found = _TRIGGER.fullmatch(text)
    if not found:
        raise ReadError(102, "Incorrect syntax near 'TRIGGER'.")
    return _trigger(found)


def _trigger(found: re.Match[str]) -> NewTrigger:
    body = re.sub(r"^BEGIN\b(.*)\bEND\s*;?\s*$", r"\1", found[5].strip(), flags=_WORDS)
    events = tuple(each.strip().lower() for each in found[4].split(","))
    instead = found[3].upper().startswith("INSTEAD")
    return NewTrigger(unquoted(found[1]), unquoted(found[2]), events, body, found[0], instead)


def unquoted(name: str) -> str:
    """Return a name without its schema, brackets and quotes."""
    whole = _LAST.fullmatch(name.strip())
    name = whole[1] if whole else name
    if name.startswith("["):
        return name[1:-1].replace("]]", "]")
    return name[1:-1].replace('""', '"') if name.startswith('"') else name


def _check(statement: exp.Expr) -> None:
    for node in statement.walk():
        for refusal in REFUSALS:
            for named in refusal.find(node) if refusal.find else ():
                raise ReadError(refusal.number, refusal.text.format(named))


# What the parser does not know, or reads slowly.
_FORMS: tuple[tuple[re.Pattern[str], Callable[[re.Match[str]], Statement]], ...] = (
    (_SAVE, lambda found: Save(found[1])),
    (_TRIGGER, _trigger),
    (_CHECK, _thrown_if),
    (_DATABASE, lambda found: OfDatabase(found[1].upper(), found[2], found[3])),
    (_SET, lambda found: Setting(" ".join(found[1].upper().split()), found[2])),
    (_MANY, _many_rows),
)
