"""Questions that show whether a database has the foreign keys and triggers of the plan.

A foreign key or a trigger that the plan does not know could take rows along that no count tells.
The questions are put to each system's own catalogue of tables.
"""

from __future__ import annotations

from collections.abc import Iterator, Sequence
from dataclasses import dataclass
from typing import TYPE_CHECKING

from yeldro.core.model.tables.schema import ForeignKey, ReferentialAction, Table, TableName

if TYPE_CHECKING:
    from yeldro.formats.writing.words import Names

# PostgreSQL's catalogue has letters for actions (pg_constraint), others the standard's words.
_LETTERS = {"cascade": "'c'", "set null": "'n'", "set default": "'d'", "no action": "'a','r'"}
_NO_ACTION = (ReferentialAction.NO_ACTION, ReferentialAction.RESTRICT)
_ACTION = {
    "sqlite": "k.on_delete",
    "postgres": "k.confdeltype",
    "mysql": "r.DELETE_RULE",
}
_LINK = {
    "sqlite": (
        """sqlite_master AS c, pragma_foreign_key_list(c.name) AS k
WHERE c.type = 'table' AND lower(k."table") IN ({parents})""",
        'lower(c.name) = {child} AND lower(k."from") = {column} AND lower(k."table") = {parent}'
        ' AND coalesce(lower(k."to"), {referenced}) = {referenced}',
    ),
    "postgres": (
        """(SELECT conrelid, confrelid, confdeltype, unnest(conkey) AS own, unnest(confkey) AS its
FROM pg_catalog.pg_constraint WHERE contype = 'f' AND conparentid = 0
AND NOT (SELECT relispartition FROM pg_catalog.pg_class WHERE oid = conrelid)) AS k
JOIN pg_catalog.pg_attribute AS m ON m.attrelid = k.conrelid AND m.attnum = k.own
JOIN pg_catalog.pg_attribute AS o ON o.attrelid = k.confrelid AND o.attnum = k.its
WHERE k.confrelid IN ({parents})""",
        "k.conrelid = {child} AND m.attname = {column} AND k.confrelid = {parent}"
        " AND o.attname = {referenced}",
    ),
    "mysql": (
        """information_schema.KEY_COLUMN_USAGE AS k
JOIN information_schema.REFERENTIAL_CONSTRAINTS AS r
ON r.CONSTRAINT_SCHEMA = k.CONSTRAINT_SCHEMA AND r.CONSTRAINT_NAME = k.CONSTRAINT_NAME
AND r.TABLE_NAME = k.TABLE_NAME
WHERE k.REFERENCED_TABLE_SCHEMA = DATABASE() AND k.REFERENCED_TABLE_NAME IN ({parents})""",
        "k.TABLE_SCHEMA = {schema} AND k.TABLE_NAME = {child} AND k.COLUMN_NAME = {column}"
        " AND k.REFERENCED_TABLE_NAME = {parent} AND k.REFERENCED_COLUMN_NAME = {referenced}"
        "",
    ),
    "tsql": (
        """sys.foreign_keys AS k
JOIN sys.foreign_key_columns AS f ON f.constraint_object_id = k.object_id
JOIN sys.columns AS m ON m.object_id = k.parent_object_id AND m.column_id = f.parent_column_id
JOIN sys.columns AS o ON o.object_id = k.referenced_object_id
AND o.column_id = f.referenced_column_id
WHERE k.referenced_object_id IN ({parents})""",
        "k.parent_object_id = {child} AND m.name = {column} AND k.referenced_object_id = {parent}"
        " AND o.name = {referenced}",
    ),
    "oracle": (
        """ALL_CONSTRAINTS k
JOIN ALL_CONSTRAINTS p ON p.OWNER = k.R_OWNER AND p.CONSTRAINT_NAME = k.R_CONSTRAINT_NAME
JOIN ALL_CONS_COLUMNS m ON m.OWNER = k.OWNER AND m.CONSTRAINT_NAME = k.CONSTRAINT_NAME
JOIN ALL_CONS_COLUMNS o ON o.OWNER = p.OWNER AND o.CONSTRAINT_NAME = p.CONSTRAINT_NAME
AND o.POSITION = m.POSITION
WHERE k.CONSTRAINT_TYPE = 'R' AND k.STATUS = 'ENABLED'
AND p.OWNER = SYS_CONTEXT('USERENV', 'CURRENT_SCHEMA') AND p.TABLE_NAME IN ({parents})""",
        "k.TABLE_NAME = {child} AND m.COLUMN_NAME = {column} AND p.TABLE_NAME = {parent}"
        " AND o.COLUMN_NAME = {referenced}",
    ),
}
_TRIGGER = {
    "sqlite": (
        "sqlite_master AS t WHERE t.type = 'trigger' AND lower(t.tbl_name) IN ({tables})",
        "lower(t.tbl_name) = {table} AND lower(t.name) IN ({names})",
    ),
    "postgres": (
        """(SELECT tgrelid AS relation, tgname AS name FROM pg_catalog.pg_trigger
WHERE NOT tgisinternal AND tgenabled IN ('O', 'A') AND tgtype & 28 > 0
UNION ALL SELECT ev_class, rulename FROM pg_catalog.pg_rewrite
WHERE rulename <> '_RETURN' AND ev_enabled IN ('O', 'A')) AS t WHERE t.relation IN ({tables})""",
        "t.relation = {table} AND t.name IN ({names})",
    ),
    "mysql": (
        """information_schema.TRIGGERS AS t
WHERE t.EVENT_OBJECT_SCHEMA = DATABASE() AND t.EVENT_OBJECT_TABLE IN ({tables})""",
        "t.EVENT_OBJECT_TABLE = {table} AND t.TRIGGER_NAME IN ({names})",
    ),
    "tsql": (
        "sys.triggers AS t WHERE t.is_disabled = 0 AND t.parent_id IN ({tables})",
        "t.parent_id = {table} AND t.name IN ({names})",
    ),
    "oracle": (
        """ALL_TRIGGERS t WHERE t.STATUS = 'ENABLED'
AND t.TABLE_OWNER = SYS_CONTEXT('USERENV', 'CURRENT_SCHEMA') AND t.TABLE_NAME IN ({tables})""",
        "t.TABLE_NAME = {table} AND t.TRIGGER_NAME IN ({names})",
    ),
}


@dataclass(frozen=True)
class SchemaQuestion:
    """A query, the number that it must give, and what is wrong if it gives another."""

    query: str
    expected: int
    otherwise: str


def schema_questions(
    system: str,
    names: Names,
    keys: Sequence[ForeignKey],
    removed: Sequence[Table],
    touched: Sequence[Table],
    *,
    actions: bool,
) -> Iterator[SchemaQuestion]:
    """Yield what must be so in a database before a plan's first statement.

    Args:
        system: whose catalogue is asked, one of `_LINK`; nothing is asked of any other.
        keys: the foreign keys to the tables of which rows go.
        removed: these tables.
        touched: these, and the tables of which rows change.
        actions: the keys' actions must be the same; needless where nothing is left for them to do.
    """
    if system not in _LINK:
        return
    asking = _Asking(system, names, actions)
    if removed:
        yield from asking.about_keys(removed, keys)
    if touched:
        yield asking.about_triggers(touched)


class _Asking:
    """Writes the questions for one system."""

    def __init__(self, system: str, names: Names, actions: bool) -> None:
        self.system, self.names, self.actions = system, names, actions

    def about_keys(
        self, parents: Sequence[Table], keys: Sequence[ForeignKey]
    ) -> Iterator[SchemaQuestion]:
        source, same = _LINK[self.system]
        if self.actions:
            same += f" AND {_ACTION[self.system]} IN ({{action}})"
        keys = [key for key in keys if not key.child_parts and not key.parent_parts]
        known = [same.format(**each) for key in keys for each in self._parts(key)]
        otherwise = f"the foreign keys to {_some(parents)} are not those of the plan"
        from_ = source.format(parents=", ".join(self._table(each.name) for each in parents))
        counted = f"SELECT COUNT(*) FROM {from_}"
        if not known:
            yield SchemaQuestion(counted, 0, otherwise)
            return
        either = "\n OR ".join(known)
        yield SchemaQuestion(f"{counted}\n AND NOT ({either})", 0, otherwise)
        yield SchemaQuestion(counted, len(known), otherwise)

    def about_triggers(self, tables: Sequence[Table]) -> SchemaQuestion:
        source, same = _TRIGGER[self.system]
        known = []
        for each in tables:
            names = sorted({trigger.name for trigger in each.triggers})
            if names:
                listed = ", ".join(self._name(name) for name in names)
                known.append(same.format(table=self._table(each.name), names=listed))
        from_ = source.format(tables=", ".join(self._table(each.name) for each in tables))
        query = f"SELECT COUNT(*) FROM {from_}"
        if known:
            either = "\n OR ".join(known)
            query += f"\n AND NOT ({either})"
        return SchemaQuestion(
            query, 0, f"there are triggers of {_some(tables)} that the plan does not know"
        )

    def _parts(self, key: ForeignKey) -> Iterator[dict[str, str]]:
        """Yield what a question says of each column of a foreign key."""
        action = "no action" if key.on_delete in _NO_ACTION else str(key.on_delete)
        listed = _LETTERS[action] if self.system == "postgres" else f"'{action.upper()}'"
        if self.system != "postgres" and action == "no action":
            listed += ", 'RESTRICT'"
        for ours, theirs in zip(key.columns, key.referenced_columns, strict=True):
            yield {
                "child": self._table(key.child),
                "schema": self._quoted(key.child.schema) if key.child.schema else "DATABASE()",
                "column": self._name(ours),
                "parent": self._table(key.parent),
                "referenced": self._name(theirs),
                "action": listed,
            }

    def _table(self, name: TableName) -> str:
        """Return what the catalogue has for a table: its number, or its name."""
        own = self.names.folded(name.name)
        whole = [each for each in (name.schema, own) if each]
        if self.system == "postgres":
            quoted = ".".join('"' + each.replace('"', '""') + '"' for each in whole)
            return f"{self._quoted(quoted)}::regclass"
        if self.system == "tsql":
            quoted = ".".join(f"[{each.replace(']', ']]')}]" for each in whole)
            return f"OBJECT_ID({self._quoted(quoted)})"
        return self._name(name.name)

    def _name(self, name: str) -> str:
        own = self.names.folded(name)
        return self._quoted(_lower(own) if self.system == "sqlite" else own)

    def _quoted(self, text: str) -> str:
        text = text.replace("'", "''")
        if self.system == "mysql":
            text = text.replace("\\", "\\\\")
        return f"N'{text}'" if self.system == "tsql" else f"'{text}'"


def _some(tables: Sequence[Table]) -> str:
    """Return the names of tables for a message, of which systems take no long ones."""
    names = ", ".join(str(each.name) for each in tables[:4])
    return f"{names} and {len(tables) - 4} more" if len(tables) > 4 else names


def _lower(name: str) -> str:
    """Return a name as SQLite's lower() gives it: without the case of the letters A to Z."""
    return "".join(each.lower() if "A" <= each <= "Z" else each for each in name)
