"""Triggers of an SQLite file by which rows are replaced: SQLite does not count those that go.

A conflict clause in a trigger, or of a table that it fills, removes the rows that are in the way
(sqlite.org, lang_conflict). Neither `changes` nor `total_changes` counts them.
"""

from __future__ import annotations

import re
from collections import defaultdict
from collections.abc import Iterator
from typing import TYPE_CHECKING

from yeldro.core.database.facts import LastingEffect
from yeldro.engines.code_names import names_in, unquoted
from yeldro.engines.reach import Code, CodeInDatabase

if TYPE_CHECKING:
    import sqlalchemy as sa

    from yeldro.core.model.tables.schema import Table

_CODE = "SELECT type, name, tbl_name, sql FROM main.sqlite_master WHERE sql IS NOT NULL"
_REPLACES = re.compile(r"\bOR\s+REPLACE\b|\bREPLACE\s+INTO\b", re.IGNORECASE)
_CLAUSE = re.compile(r"\bON\s+CONFLICT\s+REPLACE\b", re.IGNORECASE)
_BRACKETED = re.compile(r"\[([^]]+)\]")


class TriggerEffects:
    """The triggers and views of a file, by what they name."""

    def __init__(self, connection: sa.Connection) -> None:
        code: dict[str, list[Code]] = defaultdict(list)
        lasting: dict[str, list[str]] = defaultdict(list)
        self._triggers: dict[str, Code] = {}
        for kind, name, table, text in connection.exec_driver_sql(_CODE):
            if kind == "trigger":
                own = Code(text, effects=(name,) if _REPLACES.search(text) else ())
                self._triggers[name] = own
                code[table.casefold()].append(own)
            elif kind == "view":
                code[name.casefold()].append(Code(text))
            elif kind == "table" and _CLAUSE.search(text):
                lasting[name.casefold()].append(name)
        self._code: CodeInDatabase[str] = CodeInDatabase(code, lasting, _names_in)

    def of(self, table: Table, event: str) -> Iterator[LastingEffect]:
        """Yield what triggers of a table reach that replaces rows.

        Args:
            event: insert, update or delete.
        """
        for trigger in table.triggers:
            if trigger.event != event or trigger.name not in self._triggers:
                continue
            for reached in self._code.lasting_effects(self._triggers[trigger.name]):
                how = "" if reached == trigger.name else f" by {reached}"
                yield LastingEffect(
                    trigger.name,
                    reached,
                    f"can replace rows{how}, and SQLite does not count those that go",
                    "Drop it while the rows go",
                )


def _names_in(code: Code) -> set[str]:
    """Return all names in a text, in any quotes; a table's name counts for its triggers."""
    named = {unquoted(each) for pair in names_in(code.text, '"`') for each in pair}
    return {each.casefold() for each in (*named, *_BRACKETED.findall(code.text))}
