"""What triggers and rules of a PostgreSQL database can do outside the transaction, or uncounted.

Their texts are searched for names, and what these name in turn: functions, views, the parts of a
table and the tables that depend on it, with their own triggers. At the end may be a foreign table,
a function of dblink, a language that may do anything, or COPY to a file or program. SQL that a
function builds while it runs is not seen; it is named where something of that kind is in reach.
"""

from __future__ import annotations

import re
from collections import defaultdict
from collections.abc import Sequence
from typing import TYPE_CHECKING, Any

from yeldro.core.database.facts import LastingEffect
from yeldro.engines.code_names import is_quoted, names_in, unquoted
from yeldro.engines.reach import Code, CodeInDatabase

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
_EVENT_TRIGGERS = """
SELECT evtname AS name, evtfoid AS function_oid FROM pg_event_trigger
WHERE evtenabled NOT IN ('D', 'R') AND evtevent IN ('ddl_command_start', 'ddl_command_end')
  AND (evttags IS NULL OR evttags && ARRAY['CREATE TABLE', 'CREATE INDEX'])
ORDER BY evtname
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
# What else runs, or is changed, where a table or view is used: a view's query; heirs and
# partitions; tables whose rows go or change with a row's; expressions of columns and constraints.
_BENEATH = """
SELECT c.relname AS name, pg_get_viewdef(c.oid) AS text FROM pg_class AS c
WHERE relkind IN ('v', 'm') AND relnamespace NOT IN (
    'pg_catalog'::regnamespace, 'information_schema'::regnamespace)
UNION ALL
SELECT p.relname, quote_ident(c.relname) FROM pg_inherits
JOIN pg_class AS p ON p.oid = inhparent JOIN pg_class AS c ON c.oid = inhrelid
UNION ALL
SELECT p.relname, quote_ident(c.relname) FROM pg_constraint AS k
JOIN pg_class AS p ON p.oid = k.confrelid JOIN pg_class AS c ON c.oid = k.conrelid
WHERE contype = 'f' AND (confdeltype IN ('c', 'n', 'd') OR confupdtype IN ('c', 'n', 'd'))
UNION ALL
SELECT c.relname, pg_get_expr(adbin, adrelid) FROM pg_attrdef
JOIN pg_class AS c ON c.oid = adrelid
UNION ALL
SELECT c.relname, pg_get_constraintdef(k.oid) FROM pg_constraint AS k
JOIN pg_class AS c ON c.oid = k.conrelid
WHERE contype = 'c' AND connamespace <> 'information_schema'::regnamespace
"""
_COPY_OUT = re.compile(r"\bCOPY\b[^;]*\b(?:PROGRAM\b|TO\s+(?:E?'|\$))", re.IGNORECASE)
_DYNAMIC = re.compile(r"\bEXECUTE\b(?!\s+(?:FUNCTION|PROCEDURE)\b)", re.IGNORECASE)
_COMPILED = ("c", "internal")  # there is no text to search; most only compute
_BUILT_IN = {  # functions of the server whose effects a rollback does not undo
    "lo_export", "pg_cancel_backend", "pg_create_logical_replication_slot",
    "pg_create_physical_replication_slot", "pg_create_restore_point", "pg_drop_replication_slot",
    "pg_logical_emit_message", "pg_promote", "pg_reload_conf", "pg_rotate_logfile", "pg_switch_wal",
    "pg_terminate_backend",
}  # fmt: skip


class TriggerEffects:
    """The triggers, functions and tables of a database, by what they name.

    Args:
        event_triggers: as `event_triggers` returns them.
    """

    def __init__(self, connection: sa.Connection, event_triggers: Sequence[Any]) -> None:
        def rows(statement: str) -> list[Any]:
            return list(connection.exec_driver_sql(statement).all())

        self._triggers = rows(_TRIGGERS)
        self._event_triggers = event_triggers
        functions = rows(_FUNCTIONS)
        lasting = {name: [name] for name in _BUILT_IN}
        lasting |= {row.name: [row.name] for row in rows(_FOREIGN_TABLES)}
        free = any(map(_is_free, functions))
        can_last = free or len(lasting) > len(_BUILT_IN)
        self._of_function = {row.oid: _function(row, can_last=can_last) for row in functions}
        code: dict[str, list[Code]] = defaultdict(list)
        for row in functions:
            code[row.name].append(self._of_function[row.oid])
        for row in self._triggers:
            code[row.table_name].append(self._of_trigger(row))
        for row in rows(_BENEATH):
            code[row.name].append(Code(row.text or ""))
        self._code: CodeInDatabase[str] = CodeInDatabase(code, lasting, _names_in)

    def of(self, oids: set[int], event: str) -> tuple[LastingEffect, ...]:
        """Return what the triggers on some tables reach, and those that temporary tables fire.

        Args:
            oids: the object ids of a table and its partitions.
            event: insert, update or delete.
        """
        fired = [
            row for row in self._triggers if row.table_oid in oids and getattr(row, f"on_{event}")
        ]
        found = {
            LastingEffect(
                row.name,
                reached,
                f"uses {reached}, whose changes may be neither counted nor rolled back",
                "Look at what it does there",
                of_event=row in self._event_triggers,
            ): None
            for row in (*fired, *self._event_triggers)
            for reached in self._code.lasting_effects(self._of_trigger(row))
        }
        return tuple(found)

    def _of_trigger(self, row: Any) -> Code:
        if row.function_oid is None:  # a rule
            return Code(row.text or "")
        return self._of_function.get(row.function_oid, Code(""))


def event_triggers(connection: sa.Connection) -> Sequence[Any]:
    """Return the event triggers that a temporary table fires when it is made."""
    return connection.exec_driver_sql(_EVENT_TRIGGERS).all()


def _is_free(row: Any) -> bool:
    """True if a function may do anything: it is dblink's, or its language can do more than SQL."""
    return row.extension == "dblink" or not (row.trusted or row.language in _COMPILED)


def _function(row: Any, *, can_last: bool) -> Code:
    """Return the code of a function.

    Args:
        can_last: something in the database can act outside the transaction.
    """
    effects = [row.name] if _is_free(row) else []
    if row.language in _COMPILED:
        return Code("", effects=tuple(effects))
    if _COPY_OUT.search(row.text):
        effects.append("COPY")
    if can_last and _DYNAMIC.search(row.text):
        effects.append(f"SQL that {row.name} builds")
    return Code(row.text, effects=tuple(effects))


def _names_in(code: Code) -> set[str]:
    """Return all names in a text, with or without a schema."""
    written = {each for pair in names_in(code.text, '"') for each in pair}
    return {unquoted(each) if is_quoted(each) else each.lower() for each in written}
