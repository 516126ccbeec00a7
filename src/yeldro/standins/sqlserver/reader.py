"""Reads Transact-SQL as SQL Server does: what it refuses is an error with its number."""

from __future__ import annotations

import re
from collections.abc import Iterator
from dataclasses import dataclass
from functools import lru_cache

import sqlglot
from sqlglot import TokenType, exp
from sqlglot.dialects.tsql import TSQL
from sqlglot.errors import SqlglotError

from yeldro.standins.sqlserver.refusals import REFUSALS

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
_TRIGGER = re.compile(
    r"CREATE\s+TRIGGER\s+(?:dbo\.)?\[?(\w+)\]?\s+ON\s+(?:dbo\.)?\[?(\w+)\]?\s+(?:AFTER|FOR)\s+"
    r"((?:INSERT|UPDATE|DELETE)(?:\s*,\s*(?:INSERT|UPDATE|DELETE))*)\s+AS\s+(.+)",
    _WORDS,
)
_CHECK = re.compile(r"IF\s+(.+)\s+THROW\s+(\d+)\s*,\s*N'((?:[^']|'')*)'\s*,\s*\d+", _WORDS)
_TOP = re.compile(r"(DELETE|UPDATE)\s+TOP\s*\(\s*(\d+)\s*\)", _WORDS)


class ReadError(Exception):
    """SQL Server does not take a statement.

    Args:
        number, text: of its error.
    """

    def __init__(self, number: int, text: str) -> None:
        super().__init__(f"Msg {number}: {text}")
        self.number, self.text = number, text


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
    """CREATE DATABASE, of which the new one may be a copy, or DROP DATABASE."""

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
    """

    name: str
    table: str
    events: tuple[str, ...]
    body: str
    text: str


@dataclass(frozen=True)
class Check:
    """IF with a condition, and THROW as all that is done then.

    Args:
        condition: a query for 1 if it holds, else 0.
    """

    condition: exp.Expr
    number: int
    text: str


Statement = exp.Expr | Check | NewTrigger | Save | Setting | OfDatabase


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
    saved, setting, top = _SAVE.fullmatch(text), _SET.fullmatch(text), _TOP.match(text)
    if saved:
        yield Save(saved[1])
        return
    trigger = read_trigger(text)
    if trigger:
        yield trigger
        return
    check = _CHECK.fullmatch(text)
    if check:
        query = f"SELECT CASE WHEN {check[1]} THEN 1 ELSE 0 END AS holds"
        (condition,) = _read(query)
        if isinstance(condition, exp.Expr):
            yield Check(condition, int(check[2]), check[3].replace("''", "'"))
        return
    whole = _DATABASE.fullmatch(text)
    if whole:
        yield OfDatabase(whole[1].upper(), whole[2], whole[3])
        return
    if setting:
        yield Setting(" ".join(setting[1].upper().split()), setting[2])
        return
    if top:
        text = top[1] + text[top.end() :]
    for statement in sqlglot.parse(text, dialect="tsql"):
        if statement is not None:
            _check(statement)
            if top:
                statement.set("limit", exp.Limit(expression=exp.Literal.number(top[2])))
            yield statement


def read_trigger(text: str) -> NewTrigger | None:
    """Return the trigger that a statement makes, None if it makes none.

    Raises:
        ReadError: it looks at the rows that were changed, which the stand-in does not keep.
    """
    found = _TRIGGER.fullmatch(text)
    if not found:
        return None
    body = re.sub(r"^BEGIN\b(.*)\bEND\s*;?\s*$", r"\1", found[4].strip(), flags=_WORDS)
    if re.search(r"\b(inserted|deleted)\b", body, re.IGNORECASE):
        raise ReadError(50000, "The stand-in has no tables inserted and deleted yet.")
    events = tuple(each.strip().lower() for each in found[3].split(","))
    return NewTrigger(found[1], found[2], events, body, text)


def _check(statement: exp.Expr) -> None:
    for node in statement.walk():
        for refusal in REFUSALS:
            for named in refusal.find(node) if refusal.find else ():
                raise ReadError(refusal.number, refusal.text.format(named))
