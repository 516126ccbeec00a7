"""The receipt file: an SQLite database that any SQLite tool can read (docs/receipts.md)."""

from __future__ import annotations

import re
from dataclasses import dataclass

FORMAT = 1
SUFFIX = ".receipt.sqlite"

OPEN, READY, COMMITTED = "open", "ready", "committed"

ROW_ID = "yeldro_row_id"
FORMS = "yeldro_forms"
BESIDES = "*"

TABLES = """
BEGIN;
CREATE TABLE receipt (
    format INTEGER NOT NULL,
    id TEXT NOT NULL,
    title TEXT NOT NULL,
    system TEXT NOT NULL,
    database TEXT NOT NULL,
    named_table TEXT NOT NULL,
    matched INTEGER NOT NULL,
    user TEXT NOT NULL,
    started TEXT NOT NULL,
    ended TEXT,
    outcome TEXT NOT NULL
);
CREATE TABLE step (
    n INTEGER PRIMARY KEY,
    action TEXT NOT NULL,
    table_schema TEXT,
    table_name TEXT NOT NULL,
    planned INTEGER NOT NULL,
    affected INTEGER,
    because TEXT NOT NULL,
    in_passing INTEGER NOT NULL,
    equal_rows_left INTEGER,
    rows_table TEXT
);
CREATE TABLE stored_column (
    step INTEGER NOT NULL REFERENCES step,
    position INTEGER NOT NULL,
    role TEXT NOT NULL,
    name TEXT NOT NULL,
    type TEXT NOT NULL,
    stored_as TEXT NOT NULL,
    PRIMARY KEY (step, position)
);
CREATE TABLE row_key (
    step INTEGER NOT NULL REFERENCES step,
    position INTEGER NOT NULL,
    column_name TEXT NOT NULL,
    PRIMARY KEY (step, position)
);
CREATE TABLE reached (
    step INTEGER NOT NULL REFERENCES step,
    because TEXT NOT NULL,
    parent_schema TEXT,
    parent_name TEXT NOT NULL,
    position INTEGER NOT NULL,
    column_name TEXT NOT NULL,
    referenced TEXT NOT NULL
);
CREATE TABLE asked (
    remove INTEGER NOT NULL,
    field TEXT NOT NULL,
    value TEXT,
    name TEXT NOT NULL
);
CREATE TABLE copy (
    step INTEGER PRIMARY KEY REFERENCES step,
    table_schema TEXT,
    table_name TEXT NOT NULL
);
CREATE TABLE ledger (
    table_name TEXT PRIMARY KEY,
    removed INTEGER NOT NULL,
    changed INTEGER NOT NULL,
    added INTEGER NOT NULL
);
CREATE TABLE batch (
    n INTEGER PRIMARY KEY,
    matched INTEGER NOT NULL,
    rows INTEGER NOT NULL,
    committed INTEGER NOT NULL
);
CREATE TABLE batch_step (
    batch INTEGER NOT NULL REFERENCES batch,
    step INTEGER NOT NULL REFERENCES step,
    rows INTEGER NOT NULL,
    PRIMARY KEY (batch, step)
);
CREATE TABLE orphan (
    step INTEGER NOT NULL REFERENCES step,
    foreign_key TEXT NOT NULL,
    rows INTEGER NOT NULL,
    PRIMARY KEY (step, foreign_key)
);
"""


@dataclass(frozen=True)
class StoredColumn:
    """One column of a rows table: `role` is one of docs/receipts.md."""

    role: str
    name: str
    type: str
    stored_as: str


def matched_table(step: int) -> str:
    """Return the name of the table with the keys of a step's matched rows."""
    return f"matched_{step}"


def quoted(name: str) -> str:
    """Return a name as SQLite reads it back, whatever it is made of."""
    return '"' + name.replace('"', '""') + '"'


# A type as the systems' catalogues write it: words, with numbers, words or texts in one pair of
# brackets. Whatever has this form calls nothing, wherever it stands in a statement.
_WORD = r'(?:[^\W\d][\w$]*|"(?:[^"]|"")+")'
_PART = r"(?:-?\d+|\w+|'(?:[^'\\]|''|\\.)*')"
_TYPE = re.compile(
    rf"{_WORD}(?:\.{_WORD})*(?: {_WORD})*(?:\( ?{_PART}(?: ?, ?{_PART})* ?\))?(?: {_WORD})*"
    r"(?:\[\d*\])*",
    re.DOTALL,
)


def is_type(text: str) -> bool:
    """True if a text has the form of a type, and can stand in a statement as one."""
    return _TYPE.fullmatch(text) is not None
