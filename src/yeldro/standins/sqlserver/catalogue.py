"""The catalogue views of SQL Server (`sys.…`), filled from what has been declared.

The columns are those that the engine asks for; their meanings stand under "System catalog views" in
the Transact-SQL reference.
"""

from __future__ import annotations

import sqlite3
from collections.abc import Collection, Mapping
from typing import Any

from sqlglot import exp

from yeldro.standins.sqlserver.declared import Declared, DeclaredTable, quoted
from yeldro.standins.sqlserver.reader import read_trigger

_VIEWS = {
    "schemas": "schema_id, name",
    "databases": "database_id, name, snapshot_isolation_state",
    "types": "user_type_id, system_type_id, name",
    "objects": "object_id, schema_id, parent_object_id, name, type, is_ms_shipped",
    "tables": "object_id, schema_id, name, temporal_type, is_memory_optimized, is_external,"
    " is_filetable, is_node, is_edge",
    "columns": "object_id, column_id, name, system_type_id, user_type_id, max_length, precision,"
    " scale, collation_name, is_nullable, is_identity, is_computed, generated_always_type",
    "default_constraints": "object_id, parent_object_id, parent_column_id, definition",
    "computed_columns": "object_id, column_id, definition, is_persisted",
    "indexes": "object_id, index_id, name, is_primary_key, is_unique, is_unique_constraint,"
    " has_filter, is_disabled, is_hypothetical",
    "index_columns": "object_id, index_id, column_id, key_ordinal, is_included_column",
    "foreign_keys": "object_id, name, parent_object_id, referenced_object_id, is_disabled,"
    " is_not_trusted, delete_referential_action_desc",
    "foreign_key_columns": "constraint_object_id, constraint_column_id, parent_object_id,"
    " parent_column_id, referenced_object_id, referenced_column_id",
    "check_constraints": "object_id, name, parent_object_id, is_disabled, is_not_trusted,"
    " definition",
    "triggers": "object_id, name, parent_id, parent_class, is_disabled, is_instead_of_trigger",
    "trigger_events": "object_id, type_desc",
    "sql_modules": "object_id, definition",
    "security_predicates": "object_id, target_object_id",
    "extended_properties": "class, major_id, minor_id, name, value",
    "system_views": "object_id, name",
}
_LOCKS = (
    "request_session_id, resource_type, resource_database_id, resource_associated_entity_id,"
    " request_mode, request_status"
)
SESSION, DATABASE = 51, 5  # their numbers
# Types by their numbers, with their length in bytes, precision and scale.
_TYPES: dict[str, tuple[int, int, int, int]] = {
    "bigint": (127, 8, 19, 0), "binary": (173, 1, 0, 0), "bit": (104, 1, 1, 0),
    "char": (175, 1, 0, 0), "date": (40, 3, 10, 0), "datetime": (61, 8, 23, 3),
    "datetime2": (42, 8, 27, 7), "datetimeoffset": (43, 10, 34, 7), "decimal": (106, 9, 18, 0),
    "float": (62, 8, 53, 0), "int": (56, 4, 10, 0), "money": (60, 8, 19, 4),
    "nchar": (239, 2, 0, 0), "numeric": (108, 9, 18, 0), "nvarchar": (231, 2, 0, 0),
    "real": (59, 4, 24, 0), "smalldatetime": (58, 4, 16, 0), "smallint": (52, 2, 5, 0),
    "smallmoney": (122, 4, 10, 4), "time": (41, 5, 16, 7), "timestamp": (189, 8, 0, 0),
    "tinyint": (48, 1, 3, 0), "uniqueidentifier": (36, 16, 0, 0), "varbinary": (165, 1, 0, 0),
    "varchar": (167, 1, 0, 0), "xml": (241, -1, 0, 0), "sql_variant": (98, 8016, 0, 0),
    "text": (35, 16, 0, 0), "ntext": (99, 16, 0, 0), "image": (34, 16, 0, 0),
}  # fmt: skip
_WIDE = {"nchar", "nvarchar"}
_SIZED = _WIDE | {"binary", "char", "varbinary", "varchar"}
_SCALED = {"datetime2", "datetimeoffset", "time"}
_DBO = 1
_AT = 1000  # numbers of columns, constraints and keys follow that of their table
_COMPUTED = (exp.ComputedColumnConstraint,)


class Catalogue:
    """The views of one session: tables in a database of their own, called sys.

    Args:
        file: SQLite's connection.
        database: its name, as people know it.
    """

    def __init__(self, file: sqlite3.Connection, declared: Declared, database: str) -> None:
        self._file = file
        self._declared = declared
        self._database = database
        self._version: int | None = None
        file.execute("ATTACH ':memory:' AS sys")
        for view, columns in _VIEWS.items():
            file.execute(f"CREATE TABLE sys.{view} ({columns})")
        file.execute(f"CREATE TABLE sys.dm_tran_locks ({_LOCKS})")

    def forget(self) -> None:
        """Fill the views anew when they are next looked at."""
        self._version = None

    def refresh(self, written: Collection[str]) -> None:
        """Fill the views, if a table has been made, changed or dropped since they were filled.

        Args:
            written: the tables that the session has locked for writing, in lower case.
        """
        self._fill()
        self._file.execute("DELETE FROM sys.dm_tran_locks")
        for number, name in self._file.execute("SELECT object_id, name FROM sys.tables").fetchall():
            if name.casefold() in written:
                self._add("dm_tran_locks", (SESSION, "OBJECT", DATABASE, number, "IX", "GRANT"))

    def _fill(self) -> None:
        (version,) = self._file.execute("PRAGMA main.schema_version").fetchone()
        if version == self._version:
            return
        self._version = version
        for view in _VIEWS:
            self._file.execute(f"DELETE FROM sys.{view}")
        self._add("schemas", (_DBO, "dbo"))
        self._add("databases", (DATABASE, self._database, 1))
        self._add("types", *((each[0], each[0], name) for name, each in _TYPES.items()))
        self._add("types", (256, 231, "sysname"))
        tables = {_AT * n: table for n, table in self._declared.tables()}
        for number, table in tables.items():
            self._table(number, table)
        for number, table in tables.items():
            self._foreign_keys(number, table, tables)
        numbers = {table.name.casefold(): number for number, table in tables.items()}
        for n, name, of_table, text in self._declared.triggers():
            trigger = read_trigger(text)
            instead = trigger is not None and trigger.instead
            row = (_AT * n, name, numbers[of_table.casefold()], 1, 0, instead)
            self._add("triggers", row)
            for event in trigger.events if trigger else ():
                self._add("trigger_events", (_AT * n, event.upper()))
        for n, name, text in self._declared.views():
            self._add("objects", (_AT * n, _DBO, 0, name, "V", 0))
            self._add("sql_modules", (_AT * n, text))
            rows = self._file.execute(f"PRAGMA main.table_info({quoted(name)})").fetchall()
            for place, column, written, *_ in rows:
                self._column(_AT * n, place + 1, column, written or "sql_variant", nullable=True)

    def _table(self, number: int, table: DeclaredTable) -> None:
        self._add("objects", (number, _DBO, 0, table.name, "U", 0))
        self._add("tables", (number, _DBO, table.name, 0, 0, 0, 0, 0, 0))
        keys = list(table.unique_keys())
        for place, column in enumerate(table.columns, 1):
            kinds = [each.kind for each in column.constraints]
            computed = next((each for each in kinds if isinstance(each, _COMPUTED)), None)
            identity = column.name == table.identity()
            self._column(
                number, place, column.name,
                table.type_of(column), table.collation_of(column),
                nullable=not table.is_never_null(column),
                identity=identity, computed=computed is not None,
            )  # fmt: skip
            if computed is not None:
                written = computed.this.sql("tsql", identify=True)
                stored = bool(computed.args["persisted"])
                self._add("computed_columns", (number, place, written, stored))
            for each in kinds:
                if isinstance(each, exp.DefaultColumnConstraint):
                    written = each.this.sql("tsql", identify=True)
                    self._add("default_constraints", (number + 500 + place, number, place, written))
        places = {each.name.casefold(): n for n, each in enumerate(table.columns, 1)}
        indexes = [*keys, *self._declared.indexes(table.name)]
        for n, key in enumerate(indexes, 1):
            unique_constraint = key.constraint and not key.primary
            self._add("indexes", (number, n, key.name, key.primary, key.unique, unique_constraint,
                                  key.filtered, 0, 0))  # fmt: skip
            self._add("index_columns", *((number, n, places[name.casefold()], order, 0)
                                         for order, name in enumerate(key.columns, 1)))  # fmt: skip
        for n, (name, check, _) in enumerate(table.constraints(), 1):
            if isinstance(check, exp.CheckColumnConstraint):
                named, written = (
                    name or f"CK__{table.name}__{n:02}",
                    check.this.sql("tsql", identify=True),
                )
                row = (number + 300 + n, named, number, 0, 0, written)
                self._add("check_constraints", row)

    def _column(
        self, table: int, place: int, name: str, written: str, collation: str | None = None,
        *, nullable: bool, identity: bool = False, computed: bool = False,
    ) -> None:  # fmt: skip
        bare, _, given = written.lower().removesuffix(")").partition("(")
        kind = bare.strip()
        number, length, precision, scale = _TYPES.get(kind) or _TYPES["sql_variant"]
        sizes = [-1 if each.strip() == "max" else int(each) for each in given.split(",") if each]
        if kind in _SIZED:
            size = sizes[0] if sizes else 1
            length = size if size < 0 else size * (2 if kind in _WIDE else 1)
        elif kind in ("decimal", "numeric") and sizes:
            precision, scale = sizes[0], (sizes[1] if len(sizes) > 1 else 0)
        elif kind in _SCALED and sizes:
            scale = sizes[0]
        self._add("columns", (table, place, name, number, number, length, precision, scale,
                              collation, nullable, identity, computed, 0))  # fmt: skip

    def _foreign_keys(
        self, number: int, table: DeclaredTable, tables: Mapping[int, DeclaredTable]
    ) -> None:
        numbers = {each.name.casefold(): n for n, each in tables.items()}
        places = {each.name.casefold(): n for n, each in enumerate(table.columns, 1)}
        for n, link in enumerate(table.links(), 1):
            parent_number = numbers[link.parent.casefold()]
            parent = tables[parent_number]
            theirs = {each.name.casefold(): n for n, each in enumerate(parent.columns, 1)}
            row = (number + n, link.name, number, parent_number, 0, 0, link.on_delete)
            self._add("foreign_keys", row)
            for order, (one, other) in enumerate(
                zip(link.columns, link.theirs or parent.primary_key(), strict=True), 1
            ):
                self._add("foreign_key_columns",
                          (number + n, order, number, places[one.casefold()], parent_number,
                           theirs[other.casefold()]))  # fmt: skip

    def _add(self, view: str, *rows: tuple[Any, ...]) -> None:
        for row in rows:
            marks = ", ".join("?" * len(row))
            self._file.execute(f"INSERT INTO sys.{view} VALUES ({marks})", row)
