"""The catalogue of a SQL Server database (sys.…), each kind of rows read once.

A table of the user's default schema is named without it; any other is named with its schema.
"""

from __future__ import annotations

import re
from collections.abc import Mapping, Sequence
from functools import cached_property
from itertools import groupby
from typing import TYPE_CHECKING, Any

from yeldro.core.model.tables.schema import (
    CandidateKey,
    Column,
    ForeignKey,
    Index,
    ReferentialAction,
    Table,
    TableName,
    Trigger,
)
from yeldro.engines.catalogue_rows import by_table
from yeldro.engines.sqlserver import values

if TYPE_CHECKING:
    import sqlalchemy as sa

_OBJECTS = """
SELECT o.object_id AS object_id, s.name AS of_schema, o.name AS name, RTRIM(o.type) AS type,
       t.temporal_type AS temporal, t.is_memory_optimized AS in_memory, t.is_external AS elsewhere,
       t.is_filetable AS files, t.is_node AS node, t.is_edge AS edge, p.target_object_id AS secured
FROM sys.objects AS o
JOIN sys.schemas AS s ON s.schema_id = o.schema_id
LEFT JOIN sys.tables AS t ON t.object_id = o.object_id
LEFT JOIN (SELECT DISTINCT target_object_id FROM sys.security_predicates) AS p
  ON p.target_object_id = o.object_id
WHERE o.type IN ('U', 'V') AND o.is_ms_shipped = 0
"""
_COLUMNS = """
SELECT c.object_id AS object_id, c.name AS name, COALESCE(b.name, u.name) AS type,
       c.max_length AS length, c.precision AS precision, c.scale AS scale,
       c.is_nullable AS nullable, c.collation_name AS collation, c.is_identity AS is_identity,
       c.is_computed AS computed, c.generated_always_type AS period,
       d.definition AS default_value, k.definition AS expression, k.is_persisted AS persisted
FROM sys.columns AS c
JOIN sys.types AS u ON u.user_type_id = c.user_type_id
LEFT JOIN sys.types AS b ON b.user_type_id = c.system_type_id
LEFT JOIN sys.default_constraints AS d
  ON d.parent_object_id = c.object_id AND d.parent_column_id = c.column_id
LEFT JOIN sys.computed_columns AS k ON k.object_id = c.object_id AND k.column_id = c.column_id
ORDER BY c.object_id, c.column_id
"""
_INDEXES = """
SELECT i.object_id AS object_id, i.index_id AS index_id, i.name AS name,
       i.is_primary_key AS is_primary, i.is_unique AS is_unique, i.has_filter AS has_filter,
       i.is_disabled AS disabled, c.name AS column_name
FROM sys.indexes AS i
JOIN sys.index_columns AS x ON x.object_id = i.object_id AND x.index_id = i.index_id
JOIN sys.columns AS c ON c.object_id = x.object_id AND c.column_id = x.column_id
WHERE i.is_hypothetical = 0 AND x.is_included_column = 0 AND i.name IS NOT NULL
ORDER BY i.object_id, i.index_id, x.key_ordinal
"""
_LINKS = """
SELECT f.object_id AS number, f.name AS name, f.parent_object_id AS child,
       f.referenced_object_id AS parent, f.delete_referential_action_desc AS action,
       f.is_disabled AS disabled, ours.name AS ours, theirs.name AS theirs
FROM sys.foreign_keys AS f
JOIN sys.foreign_key_columns AS x ON x.constraint_object_id = f.object_id
JOIN sys.columns AS ours
  ON ours.object_id = x.parent_object_id AND ours.column_id = x.parent_column_id
JOIN sys.columns AS theirs
  ON theirs.object_id = x.referenced_object_id AND theirs.column_id = x.referenced_column_id
ORDER BY f.object_id, x.constraint_column_id
"""
_TRIGGERS = """
SELECT t.parent_id AS object_id, t.name AS name, e.type_desc AS event, t.is_disabled AS disabled,
       t.is_instead_of_trigger AS instead
FROM sys.triggers AS t
JOIN sys.trigger_events AS e ON e.object_id = t.object_id
WHERE t.parent_class = 1 ORDER BY t.name
"""
_CHECKS = """
SELECT parent_object_id AS object_id, name AS name, definition AS definition
FROM sys.check_constraints WHERE is_disabled = 1 OR is_not_trusted = 1 ORDER BY name
"""
# A table is locked in one of these modes before any of its rows is changed ("Lock modes").
_LOCKED = """
SELECT resource_associated_entity_id AS object_id FROM sys.dm_tran_locks
WHERE request_session_id = @@SPID AND resource_database_id = DB_ID()
  AND resource_type = 'OBJECT' AND request_mode IN ('IX', 'SIX', 'X', 'BU', 'Sch-M')
"""
# The first is of version 2022, where the second includes it; a permission of no version gives NULL.
_MAY_SEE_LOCKS = """
SELECT COALESCE(HAS_PERMS_BY_NAME(NULL, NULL, 'VIEW SERVER PERFORMANCE STATE'),
                HAS_PERMS_BY_NAME(NULL, NULL, 'VIEW SERVER STATE')) AS may
"""
_FLAGS = {
    "in_memory": "memory-optimized table",
    "elsewhere": "external table",
    "files": "file table",
    "node": "graph table",
    "edge": "graph table",
    "secured": "table with a security policy, which hides rows,",
}
_TEMPORAL = {1: "history table", 2: "system-versioned table"}
_CALLED = re.compile(r"\[((?:[^]]|\]\])+)\]")


class SqlServerCatalogue:
    """The catalogue as one connection sees it."""

    def __init__(self, connection: sa.Connection) -> None:
        self._connection = connection
        self._tables: dict[TableName, Table] = {}

    def table_names(self) -> tuple[TableName, ...]:
        return tuple(sorted(self._objects))

    def has_table(self, name: TableName) -> bool:
        return name in self._objects

    def table(self, name: TableName) -> Table:
        if name not in self._tables:
            self._tables[name] = self._read(name)
        return self._tables[name]

    def referencing(self, parent: TableName) -> tuple[ForeignKey, ...]:
        return tuple(self._by_parent.get(parent, ()))

    def places(self) -> Mapping[tuple[str, str], TableName]:
        return {(self.place_of(name)): name for name in self._objects}

    def part_names(self) -> tuple[TableName, ...]:
        """Return nothing: partitions are not tables here."""
        return ()

    def part_of(self, name: TableName) -> None:
        """Return nothing: partitions are not tables here."""
        del name

    def view_query(self, name: TableName) -> str:
        query = "SELECT definition FROM sys.sql_modules WHERE object_id = %s"
        return str(self.rows(query, self._objects[name].object_id)[0][0])

    def loose_foreign_keys(self) -> tuple[str, ...]:
        """Return nothing: no foreign key can be declared without its parent."""
        return ()

    def locked_for_writing(self) -> list[TableName] | None:
        """Return the tables that this session has locked so; None if the user may not see it."""
        if not self._may_see_locks:
            return None
        locked = {number for (number,) in self.rows(_LOCKED)}
        return [name for name, found in self._objects.items() if found.object_id in locked]

    @cached_property
    def _may_see_locks(self) -> bool:
        return bool(self.rows(_MAY_SEE_LOCKS)[0][0])

    def unproved_checks(self, name: TableName) -> list[tuple[str, str]]:
        """Return the checks that rows may not meet, each by name and as SQL."""
        return [(row.name, row.definition) for row in self._checks.get(self._number(name), ())]

    def has_identity(self, name: TableName) -> bool:
        """True if a column of a table gets its values from the server."""
        return any(row.is_identity for row in self._columns.get(self._number(name), ()))

    def place_of(self, name: TableName) -> tuple[str, str]:
        return name.schema or self._schema, name.name

    def rows(self, statement: str, *given: Any) -> Sequence[sa.Row[Any]]:
        return self._connection.exec_driver_sql(statement, given).all()

    @cached_property
    def sees_all(self) -> bool:
        """True if this user sees every table of the database, and so every foreign key."""
        query = "SELECT HAS_PERMS_BY_NAME(DB_NAME(), 'DATABASE', 'VIEW DEFINITION') AS sees"
        return bool(self.rows(query)[0][0])

    @cached_property
    def _schema(self) -> str:
        return str(self.rows("SELECT SCHEMA_NAME() AS name")[0][0])

    @cached_property
    def _objects(self) -> dict[TableName, Any]:
        return {self._named(row.of_schema, row.name): row for row in self.rows(_OBJECTS)}

    @cached_property
    def _names(self) -> dict[int, TableName]:
        return {row.object_id: name for name, row in self._objects.items()}

    @cached_property
    def _columns(self) -> dict[int, list[Any]]:
        return by_table(self.rows(_COLUMNS), lambda row: int(row.object_id))

    @cached_property
    def _indexes(self) -> dict[int, list[Any]]:
        return by_table(self.rows(_INDEXES), lambda row: int(row.object_id))

    @cached_property
    def _triggers(self) -> dict[int, list[Any]]:
        return by_table(self.rows(_TRIGGERS), lambda row: int(row.object_id))

    @cached_property
    def _checks(self) -> dict[int, list[Any]]:
        return by_table(self.rows(_CHECKS), lambda row: int(row.object_id))

    @cached_property
    def _links(self) -> dict[ForeignKey, bool]:
        """All foreign keys, and whether each is disabled."""
        links = {}
        for _, grouped in groupby(self.rows(_LINKS), lambda row: row.number):
            parts = list(grouped)
            first = parts[0]
            child, parent = self._names.get(first.child), self._names.get(first.parent)
            if child is None or parent is None:
                continue
            links[
                ForeignKey(
                    child=child,
                    columns=tuple(part.ours for part in parts),
                    parent=parent,
                    referenced_columns=tuple(part.theirs for part in parts),
                    on_delete=ReferentialAction(first.action.lower().replace("_", " ")),
                    constraint=first.name,
                )
            ] = bool(first.disabled)
        return links

    @cached_property
    def _by_child(self) -> dict[TableName, list[ForeignKey]]:
        return by_table(self._links, lambda key: key.child)

    @cached_property
    def _by_parent(self) -> dict[TableName, list[ForeignKey]]:
        return by_table(self._links, lambda key: key.parent)

    def _named(self, schema: str, name: str) -> TableName:
        return TableName(name, None if schema == self._schema else schema)

    def _number(self, name: TableName) -> int:
        return int(self._objects[name].object_id)

    def _read(self, name: TableName) -> Table:
        row = self._objects[name]
        columns = tuple(map(_column, self._columns.get(row.object_id, ())))
        nullable = {column.name for column in columns if column.nullable}
        indexes, keys = [], []
        parts = self._indexes.get(row.object_id, ())
        for _, grouped in groupby(parts, lambda part: part.index_id):
            listed = list(grouped)
            first = listed[0]
            named = tuple(part.column_name for part in listed)
            if not first.disabled:
                indexes.append(Index(first.name, named, bool(first.has_filter)))
            if first.is_unique and not first.has_filter and not first.disabled:
                holds = not nullable & set(named)
                keys.append(CandidateKey(named, bool(first.is_primary), holds, first.name))
        fired = [each for each in self._triggers.get(row.object_id, ()) if not each.disabled]
        foreign_keys = tuple(self._by_child.get(name, ()))
        return Table(
            name=name,
            columns=columns,
            candidate_keys=tuple(keys),
            foreign_keys=foreign_keys,
            triggers=tuple(Trigger(each.name, each.event.lower()) for each in fired),
            indexes=tuple(indexes),
            kind=_kind(row, columns, [each.name for each in fired if each.instead]),
            notes=tuple(f"the foreign key {key} is disabled" for key in foreign_keys
                        if self._links[key]),
        )  # fmt: skip


def _kind(row: Any, columns: Sequence[Column], instead: Sequence[str]) -> str:
    """Return "table", or what keeps rows from being changed and put back as in a plain one.

    Args:
        instead: triggers that take the place of a statement; the server counts the rows that it
            would have changed.
    """
    if row.type == "V":
        return "view"
    if row.temporal:
        return _TEMPORAL[row.temporal]
    found = next((kind for flag, kind in _FLAGS.items() if getattr(row, flag)), "")
    lossy = [each for each in columns if not each.generated and not values.is_known(each)]
    if not found and lossy:
        listed = ", ".join(f"{each.name} ({each.type})" for each in lossy)
        return f"table with columns that a receipt cannot hold ({listed})"
    if not found and instead:
        return f"table whose trigger {instead[0]} takes the place of the statements that fire it"
    return found or "table"


def _column(row: Any) -> Column:
    is_version = row.type in ("timestamp", "rowversion")
    expression = row.expression or ""
    return Column(
        name=row.name,
        type=_declared(row),
        nullable=bool(row.nullable),
        default=row.default_value,
        generated=bool(row.computed or row.period or is_version),
        varies=bool(row.period or is_version or (row.computed and not row.persisted)),
        collation=row.collation,
        computed_from=frozenset(
            name.replace("]]", "]") for name in _CALLED.findall(expression)
        ),
        equates_texts=row.collation is not None,
    )  # fmt: skip


def _declared(row: Any) -> str:
    """Return a column's type as it is declared."""
    kind = str(row.type)
    if kind in ("nchar", "nvarchar", "char", "varchar", "binary", "varbinary"):
        size = row.length // 2 if kind.startswith("n") and row.length > 0 else row.length
        return f"{kind}({'max' if size < 0 else size})"
    if kind in ("decimal", "numeric"):
        return f"{kind}({row.precision},{row.scale})"
    if kind in ("datetime2", "datetimeoffset", "time"):
        return f"{kind}({row.scale})"
    if kind == "float" and row.precision != 53:
        return f"float({row.precision})"
    return kind
