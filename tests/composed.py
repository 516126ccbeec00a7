"""What the core composes is held against the systems that cannot be reached here.

Each new form of a statement that a test executes on SQLite is written for SQL Server too, and read
as its stand-in reads it. What a user wrote, or SQLite alone is told, is left out.
"""

from __future__ import annotations

import re
from typing import Any

import sqlalchemy as sa
from sqlalchemy.sql import visitors

from yeldro.core.database.sql import Composed
from yeldro.engines.sqlserver.compiler import TransactSql, written_form
from yeldro.standins.sqlserver.reader import read

# Functions and words that the engine of SQLite composes by itself.
_OF_SQLITE = re.compile(
    r"\b(?:json_each|json_group_array|yeldro_\w+\(|typeof|glob|hex|IS NOT 1)\b|= x''"
)
_NAMES = re.compile(r"\[[^]]*\]|\d+")
_VALUES = re.compile(r"__\[POSTCOMPILE_\w+\]|%\(\w+\)s|:\w+|\?")


class _ForReading(TransactSql):
    """Leaves what users wrote out, as it is in the words of the system that they use."""

    def visit_textclause(self, *args: Any, **settings: Any) -> str:
        del args, settings
        return "1 = 1"


def _of_others(part: Any) -> bool:
    """True for what a user composed, and for what is composed only where the system has it."""
    return isinstance(part, Composed) or (isinstance(part, sa.CTE) and part.recursive)


class Composing:
    """Looks at the statements of all connections of this process."""

    def __init__(self) -> None:
        self.dialect = written_form()
        self.dialect.statement_compiler = _ForReading
        self.known: set[Any] = set()
        self.read: set[str] = set()

    def check(self, connection: sa.Connection, statement: Any, *_: Any) -> None:
        """Read a statement before it is executed, if none of its form was read before.

        Raises:
            CompileError, ReadError: SQL Server does not take it.
        """
        if connection.dialect.name != "sqlite" or isinstance(statement, sa.TextClause):
            return
        key = statement._generate_cache_key()
        form = key.key if key else str(statement)
        if form not in self.known:
            self.known.add(form)
            if not any(map(_of_others, visitors.iterate(statement))):
                written = _VALUES.sub("0", str(statement.compile(dialect=self.dialect)))
                structure = _NAMES.sub("n", written)
                if structure not in self.read and not _OF_SQLITE.search(written):
                    self.read.add(structure)
                    read(written)


def check_all() -> None:
    """Let every statement be read from now on."""
    sa.event.listen(sa.Engine, "before_execute", Composing().check)
