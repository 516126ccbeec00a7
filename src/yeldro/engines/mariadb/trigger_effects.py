"""What triggers of a MariaDB database can do that is not rolled back.

A trigger can write to a table without transactions through a view, a routine, or another table with
triggers of its own. MariaDB lets no trigger build SQL while it runs, so the texts tell it all.
"""

from __future__ import annotations

import re
from collections import defaultdict
from collections.abc import Iterator
from typing import TYPE_CHECKING, Any

from yeldro.engines.code_names import names_in, unquoted
from yeldro.engines.reach import Code, CodeInDatabase

if TYPE_CHECKING:
    from yeldro.core.model.tables.schema import TableName
    from yeldro.engines.mariadb.catalogue import MariadbCatalogue

Place = tuple[str, str]

_TRIGGERS = """
SELECT TRIGGER_NAME AS name, LOWER(EVENT_MANIPULATION) AS event, ACTION_STATEMENT AS body,
       EVENT_OBJECT_SCHEMA AS parts_schema, EVENT_OBJECT_TABLE AS name_of_table
FROM information_schema.TRIGGERS
"""
_ROUTINES = """
SELECT ROUTINE_SCHEMA AS parts_schema, ROUTINE_NAME AS name, ROUTINE_DEFINITION AS body
FROM information_schema.ROUTINES
WHERE ROUTINE_SCHEMA NOT IN ('mysql', 'sys', 'information_schema', 'performance_schema')
"""
_VIEWS = """
SELECT TABLE_SCHEMA AS parts_schema, TABLE_NAME AS name, NULLIF(VIEW_DEFINITION, '') AS body
FROM information_schema.VIEWS WHERE TABLE_SCHEMA NOT IN ('mysql', 'sys')
"""
_TABLES = """
SELECT TABLE_SCHEMA AS parts_schema, TABLE_NAME AS name, ENGINE AS engine, TABLE_TYPE AS type
FROM information_schema.TABLES
WHERE TABLE_TYPE IN ('BASE TABLE', 'SYSTEM VERSIONED', 'SEQUENCE')
  AND TABLE_SCHEMA NOT IN ('sys', 'information_schema')
"""
_DRAWING = """
SELECT TABLE_SCHEMA AS parts_schema, TABLE_NAME AS name, COLUMN_DEFAULT AS body
FROM information_schema.COLUMNS WHERE COLUMN_DEFAULT LIKE '%%nextval%%'
"""
_TO_A_FILE = re.compile(r"\bINTO\s+(?:OUTFILE|DUMPFILE)\b", re.IGNORECASE)


class TriggerEffects:
    """All code of the databases that this user sees, by what it names."""

    def __init__(self, catalogue: MariadbCatalogue) -> None:
        self._catalogue = catalogue
        self._triggers: dict[Place, list[Any]] = defaultdict(list)
        code: dict[Place, list[Code]] = defaultdict(list)
        lasting: dict[Place, list[str]] = defaultdict(list)
        for row in catalogue.rows(_TRIGGERS):
            place = _folded(row.parts_schema, row.name_of_table)
            self._triggers[place].append(row)
            code[place].append(_code(row.body, row.parts_schema))
        for row in (*catalogue.rows(_ROUTINES), *catalogue.rows(_VIEWS)):
            place = _folded(row.parts_schema, row.name)
            if row.body is None:  # this user may not read it
                lasting[place].append(f"{row.parts_schema}.{row.name}")
            else:
                code[place].append(_code(row.body, row.parts_schema))
        has_sequences = False
        for row in catalogue.rows(_TABLES):
            has_sequences |= row.type == "SEQUENCE"
            if row.type == "SEQUENCE" or not catalogue.is_transactional(row.engine):
                named = catalogue.named(row.parts_schema, row.name)
                lasting[_folded(row.parts_schema, row.name)].append(str(named))
        for row in catalogue.rows(_DRAWING) if has_sequences else ():
            code[_folded(row.parts_schema, row.name)].append(_code(row.body, row.parts_schema))
        self._code = CodeInDatabase(code, lasting, _places_in)

    def of(self, name: TableName, event: str) -> Iterator[tuple[str, str]]:
        """Yield each trigger of a table with what it can reach.

        Args:
            event: insert, update or delete.
        """
        for row in self._triggers.get(_folded(*self._catalogue.place_of(name)), ()):
            if row.event == event:
                start = _code(row.body, row.parts_schema)
                for effect in self._code.lasting_effects(start):
                    yield row.name, effect


def _code(text: str, schema: str) -> Code:
    return Code(text, schema, ("a file of the server",) if _TO_A_FILE.search(text) else ())


def _folded(schema: str, name: str) -> Place:
    return schema.casefold(), name.casefold()


def _places_in(code: Code) -> Iterator[Place]:
    """Yield everything that a body may name, by database and name.

    A name without a database is looked for in the body's own; the first of two names can also be a
    package there.
    """
    for schema, name in names_in(code.text, '`"'):
        yield _folded(unquoted(schema) or code.place, unquoted(name))
        if schema:
            yield _folded(code.place, unquoted(schema))
