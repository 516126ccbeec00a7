"""Triggers whose functions can act outside the transaction, or without being counted.

What a function does is not known before it runs. Its text is searched for names: foreign tables,
functions of dblink, languages that may do anything, COPY to a file or program. SQL that it builds
while it runs is not seen.
"""

from __future__ import annotations

import re
from collections import defaultdict
from collections.abc import Iterator
from dataclasses import dataclass
from typing import TYPE_CHECKING, Any

from yeldro.core.database.facts import LastingEffect
from yeldro.engines.code_names import is_quoted, names_in, unquoted

if TYPE_CHECKING:
    import sqlalchemy as sa

_TRIGGERS = """
SELECT t.tgname AS name, t.tgrelid AS table_oid, c.relname AS table_name, p.oid AS function_oid,
       NULL AS text, t.tgtype & 4 > 0 AS on_insert, t.tgtype & 8 > 0 AS on_delete,
       t.tgtype & 16 > 0 AS on_update
FROM pg_trigger AS t JOIN pg_class AS c ON c.oid = t.tgrelid JOIN pg_proc AS p ON p.oid = t.tgfoid
WHERE NOT t.tgisinternal
UNION ALL
SELECT r.rulename, r.ev_class, c.relname, NULL, pg_get_ruledef(r.oid), r.ev_type = '3',
       r.ev_type = '4', r.ev_type = '2'
FROM pg_rewrite AS r JOIN pg_class AS c ON c.oid = r.ev_class WHERE r.rulename <> '_RETURN'
"""
_FUNCTIONS = """
SELECT p.oid, p.proname AS name, coalesce(nullif(p.prosrc, ''), pg_get_function_sqlbody(p.oid), '')
       AS text, l.lanname AS language, l.lanpltrusted AS trusted, e.extname AS extension
FROM pg_proc AS p JOIN pg_language AS l ON l.oid = p.prolang
     LEFT JOIN pg_depend AS d ON d.objid = p.oid AND d.classid = 'pg_proc'::regclass
          AND d.deptype = 'e'
     LEFT JOIN pg_extension AS e ON e.oid = d.refobjid
WHERE p.pronamespace <> 'pg_catalog'::regnamespace
"""
_FOREIGN_TABLES = "SELECT relname AS name FROM pg_class WHERE relkind = 'f'"
_COPY_OUT = re.compile(r"\bCOPY\b[^;]*\b(?:PROGRAM\b|TO\s+(?:E?'|\$))", re.IGNORECASE)
_COMPILED = ("c", "internal")  # there is no text to search; most only compute


@dataclass(frozen=True)
class _Code:
    """A function, or the statement of a rule.

    Args:
        trusted: its language can do no more than SQL.
        extension: the extension it belongs to.
    """

    name: str
    text: str
    language: str = ""
    trusted: bool = True
    extension: str | None = None


class TriggerEffects:
    """The triggers and functions of a database, by what they name."""

    def __init__(self, connection: sa.Connection) -> None:
        def rows(statement: str) -> list[Any]:
            return list(connection.exec_driver_sql(statement).all())

        self._triggers = rows(_TRIGGERS)
        functions = {
            row.oid: _Code(row.name, row.text, row.language, row.trusted, row.extension)
            for row in rows(_FUNCTIONS)
        }
        self._foreign = {row.name for row in rows(_FOREIGN_TABLES)}
        self._code: dict[Any, _Code] = {
            trigger: functions.get(trigger.function_oid, _Code(trigger.name, trigger.text or ""))
            for trigger in self._triggers
        }
        self._runs: dict[str, list[_Code]] = defaultdict(list)
        for function in functions.values():
            self._runs[function.name].append(function)
        for trigger, code in self._code.items():
            self._runs[trigger.table_name].append(code)

    def of(self, oids: set[int], event: str) -> tuple[LastingEffect, ...]:
        """Return what the triggers on some tables name, also through other functions and tables.

        Args:
            oids: the object ids of a table and its partitions.
            event: insert, update or delete.
        """
        found: dict[LastingEffect, None] = {}
        for trigger in self._triggers:
            if trigger.table_oid not in oids or not getattr(trigger, f"on_{event}"):
                continue
            for named in self._named(self._code[trigger]):
                found[
                    LastingEffect(
                        trigger.name,
                        named,
                        f"uses {named}, whose changes may be neither counted nor rolled back",
                        "Look at what it does there",
                    )
                ] = None
        return tuple(found)

    def _named(self, code: _Code) -> Iterator[str]:
        """Return what is named in a function, in those it calls and in triggers of its tables."""
        waiting = [code]
        seen: set[_Code] = set()
        while waiting:
            each = waiting.pop()
            if each in seen:
                continue
            seen.add(each)
            is_compiled = each.language in _COMPILED
            if each.extension == "dblink" or not (each.trusted or is_compiled):
                yield each.name
            if is_compiled:
                continue
            if _COPY_OUT.search(each.text):
                yield "COPY"
            for name in _names_in(each.text):
                if name in self._foreign:
                    yield name
                waiting += self._runs.get(name, ())


def _names_in(text: str) -> set[str]:
    """Return all names in a text, with or without a schema."""
    written = {each for pair in names_in(text, '"') for each in pair}
    return {unquoted(each) if is_quoted(each) else each.lower() for each in written}
