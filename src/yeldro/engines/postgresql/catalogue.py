"""The catalogue of a PostgreSQL database, read table by table on demand.

A table that the search path finds is named without its schema; any other is named with it.
"""

from __future__ import annotations

from collections import defaultdict
from collections.abc import Iterable, Sequence
from functools import cached_property
from typing import TYPE_CHECKING, Any

from yeldro.core.database.facts import Partition
from yeldro.core.model.tables.schema import (
    CandidateKey,
    Column,
    ForeignKey,
    Index,
    Parts,
    ReferentialAction,
    Table,
    TableName,
    Trigger,
)
from yeldro.engines.catalogue_rows import RowsByTable, by_table

if TYPE_CHECKING:
    import sqlalchemy as sa

_KINDS = {
    "r": "table",
    "p": "table",
    "v": "view",
    "m": "materialised view",
    "f": "foreign table",
}
_ACTIONS = {
    "a": ReferentialAction.NO_ACTION,
    "r": ReferentialAction.RESTRICT,
    "c": ReferentialAction.CASCADE,
    "n": ReferentialAction.SET_NULL,
    "d": ReferentialAction.SET_DEFAULT,
}
ROW_ID = Column("ctid", "tid", nullable=False)
TABLE_ID = Column("tableoid", "oid", nullable=False)
_ROW_IDS = {"r": (ROW_ID,), "p": (TABLE_ID, ROW_ID)}
_FILTERED = "row-level security hides rows from this role, and what it hides is not counted"
_LISTED = """
SELECT c.oid, c.relname, c.relkind, c.relispartition, n.nspname,
       c.relhassubclass AND c.relkind = 'r' AS inherited,
       row_security_active(c.oid) AS filtered, pg_table_is_visible(c.oid) AS visible
FROM pg_class AS c JOIN pg_namespace AS n ON n.oid = c.relnamespace
WHERE c.relkind IN ('r', 'p', 'v', 'm', 'f')
  AND n.nspname NOT IN ('pg_catalog', 'information_schema') AND n.nspname NOT LIKE 'pg\\_t%%'
"""
_COLUMNS = """
SELECT a.attrelid AS of_table, a.attnum, a.attname,
       format_type(a.atttypid, a.atttypmod) AS type, a.attnotnull, a.attgenerated,
       pg_get_expr(d.adbin, d.adrelid) AS default_value,
       CASE WHEN a.attcollation <> t.typcollation THEN a.attcollation::regcollation::text END
           AS collation,
       EXISTS (SELECT 1 FROM pg_collation AS n
               WHERE n.oid = a.attcollation AND NOT n.collisdeterministic) AS equates_texts,
       ARRAY(SELECT o.attname::text FROM pg_depend AS u JOIN pg_attribute AS o
                 ON o.attrelid = u.refobjid AND o.attnum = u.refobjsubid
             WHERE a.attgenerated <> '' AND u.classid = 'pg_attrdef'::regclass AND u.objid = d.oid
                 AND u.refclassid = 'pg_class'::regclass AND u.refobjid = a.attrelid
                 AND o.attnum <> a.attnum) AS computed_from
FROM pg_attribute AS a
JOIN pg_type AS t ON t.oid = a.atttypid
LEFT JOIN pg_attrdef AS d ON d.adrelid = a.attrelid AND d.adnum = a.attnum
WHERE a.attrelid {which} AND a.attnum > 0 AND NOT a.attisdropped
ORDER BY a.attnum
"""
_INDEXES = """
SELECT i.indrelid AS of_table, c.relname, i.indkey::int2[] AS attnums, i.indnkeyatts,
       i.indisprimary, i.indisunique, i.indpred IS NOT NULL AS partial
FROM pg_index AS i JOIN pg_class AS c ON c.oid = i.indexrelid
WHERE i.indrelid {which} AND i.indisvalid ORDER BY i.indisprimary DESC, c.relname
"""
_FOREIGN_KEYS = """
SELECT k.conname, k.conrelid, k.confrelid, k.confdeltype, k.condeferrable,
       {changed} AS changed,
       (SELECT array_agg(a.attname::text ORDER BY place) FROM unnest(k.conkey)
            WITH ORDINALITY AS u (attnum, place)
            JOIN pg_attribute AS a ON a.attrelid = k.conrelid AND a.attnum = u.attnum) AS ours,
       (SELECT array_agg(a.attname::text ORDER BY place) FROM unnest(k.confkey)
            WITH ORDINALITY AS u (attnum, place)
            JOIN pg_attribute AS a ON a.attrelid = k.confrelid AND a.attnum = u.attnum) AS theirs
FROM pg_constraint AS k
WHERE k.contype = 'f' AND k.conparentid = 0
ORDER BY k.conrelid, k.conname
"""
_CHANGED = """(SELECT array_agg(a.attname::text ORDER BY a.attnum)
            FROM unnest(k.confdelsetcols) AS u
            JOIN pg_attribute AS a ON a.attrelid = k.conrelid AND a.attnum = u)"""
_ROOTS = """
SELECT oid AS part, pg_partition_root(oid)::oid AS root FROM pg_class WHERE relispartition
    AND relkind IN ('r', 'p', 'f')
"""
_PARTS = """
WITH RECURSIVE parts AS (
    SELECT inhrelid FROM pg_inherits WHERE inhparent = %s
    UNION SELECT i.inhrelid FROM pg_inherits AS i JOIN parts AS p ON p.inhrelid = i.inhparent
)
SELECT inhrelid FROM parts
"""
_FOREIGN_PARTS = f"""
SELECT 1 FROM ({_PARTS}) AS p JOIN pg_class ON oid = inhrelid WHERE relkind = 'f' LIMIT 1
"""
_TRIGGERS = """
SELECT tgrelid AS of_table, tgname AS name, tgtype & 8 > 0 AS on_delete,
       tgtype & 16 > 0 AS on_update, tgtype & 4 > 0 AS on_insert
FROM pg_trigger WHERE NOT tgisinternal AND tgtype & 28 > 0 AND tgrelid {which}
UNION ALL
SELECT ev_class, rulename, ev_type = '4', ev_type = '2', ev_type = '3' FROM pg_rewrite
WHERE ev_class {which} AND rulename <> '_RETURN'
ORDER BY 2
"""
_UNPROVED = """
SELECT conrelid AS of_table, conname, pg_get_expr(conbin, conrelid) AS condition
FROM pg_constraint WHERE contype = 'c' AND NOT convalidated AND conrelid <> 0
ORDER BY conrelid, conname
"""
_TRIGGERS_OF_PARTS = f"""
SELECT DISTINCT tgname AS name, tgtype & 8 > 0 AS on_delete, tgtype & 16 > 0 AS on_update,
       tgtype & 4 > 0 AS on_insert
FROM pg_trigger WHERE NOT tgisinternal AND tgtype & 28 > 0 AND tgrelid IN (
    SELECT inhrelid FROM ({_PARTS}) AS p JOIN pg_class ON oid = inhrelid WHERE relispartition)
ORDER BY 1
"""


class PostgresqlCatalogue:
    """The catalogue as one connection sees it."""

    def __init__(self, connection: sa.Connection) -> None:
        self._connection = connection
        self._by_oid: dict[int, TableName] = {}
        self._listed: dict[TableName, Any] | None = None
        self._tables: dict[TableName, Table] = {}
        self._keys: tuple[dict[int, list[Any]], dict[int, list[Any]]] | None = None
        self._kinds_of_rows: dict[str, RowsByTable[int]] = {}

    def table_names(self) -> tuple[TableName, ...]:
        """Return tables, views and the like; a partition counts as part of its table."""
        names = (name for name, row in self._list().items() if not row.relispartition)
        return tuple(sorted(names, key=str))

    def has_table(self, name: TableName) -> bool:
        return name in self._list()

    def table(self, name: TableName) -> Table:
        if name not in self._tables:
            self._tables[name] = self._read(name)
        return self._tables[name]

    def referencing(self, parent: TableName) -> tuple[ForeignKey, ...]:
        rows = self._foreign_key_rows()[1][self._list()[parent].oid]
        return tuple(self._foreign_key(row) for row in rows)

    def places(self) -> dict[tuple[str, str], TableName]:
        return {(row.nspname, row.relname): name for name, row in self._list().items()}

    def part_names(self) -> tuple[TableName, ...]:
        names = (name for name, row in self._list().items() if row.relispartition)
        return tuple(sorted(names, key=str))

    def part_of(self, name: TableName) -> Partition | None:
        row = self._list().get(name)
        if row is None or not row.relispartition:
            return None
        return Partition(self._by_oid[self._root(row.oid)], self._parts_of(row.oid))

    def _root(self, oid: int) -> int:
        """Return the outermost table that a partition belongs to, or the table itself."""
        return self._roots.get(oid, oid)

    @cached_property
    def _roots(self) -> dict[int, int]:
        return {row.part: row.root for row in self._rows(_ROOTS)}

    def _parts_of(self, oid: int) -> Parts:
        """Return the tables in which the rows of a partition live: its own, or its parts'."""
        parts = {row.inhrelid for row in self._rows(_PARTS, oid)}
        return Parts(TABLE_ID.name, tuple(sorted({oid, *parts})))

    def counted_under(self) -> dict[str, str]:
        """Return partitions by name, each with the table under which its rows are counted."""
        self._list()
        pairs = ((self._by_oid.get(part), self._by_oid.get(root))
                 for part, root in self._roots.items())  # fmt: skip
        return {str(part): str(root) for part, root in pairs if part and root}

    def view_query(self, name: TableName) -> str:
        oid = self._list()[name].oid
        return str(self._rows("SELECT pg_get_viewdef(%s::oid)", oid)[0][0])

    def loose_foreign_keys(self) -> tuple[str, ...]:
        return ()

    def unproved_checks(self, name: TableName) -> list[tuple[str, str]]:
        """Return the checks that rows of a table may not meet, by name, each as SQL."""
        return [(row.conname, row.condition) for row in self._unproved.get(self.oid_of(name), ())]

    @cached_property
    def _unproved(self) -> dict[int, list[Any]]:
        return by_table(self._rows(_UNPROVED), lambda row: int(row.of_table))

    def name_of(self, oid: int) -> TableName | None:
        """Return the name of the table or partition with this object id."""
        self._list()
        return self._by_oid.get(oid)

    def is_partitioned(self, name: TableName) -> bool:
        """True if the rows of a table live in partitions."""
        return bool(self._list()[name].relkind == "p")

    def oid_of(self, name: TableName) -> int:
        """Return a table's object id."""
        return int(self._list()[name].oid)

    def not_to_remove_from(self, names: Sequence[TableName]) -> list[TableName]:
        """Return those of some tables from which this role may not remove rows."""
        query = (
            "SELECT u.oid FROM unnest(%s::oid[]) AS u (oid)"
            " WHERE NOT has_table_privilege(u.oid, 'DELETE')"
        )
        oids = [self.oid_of(name) for name in names]
        return [self._by_oid[row.oid] for row in self._rows(query, oids)] if oids else []

    def not_to_change(self, name: TableName, columns: Iterable[str]) -> list[str]:
        """Return those of some columns of a table that this role may not change."""
        query = (
            "SELECT u.name FROM unnest(%s::text[]) AS u (name)"
            " WHERE NOT has_column_privilege(%s::oid, u.name, 'UPDATE')"
        )
        return [row.name for row in self._rows(query, list(columns), self.oid_of(name))]

    def _rows(self, statement: str, *values: Any) -> Sequence[sa.Row[Any]]:
        return self._connection.exec_driver_sql(statement, values).all()

    def _of_table(self, statement: str, oid: int) -> Sequence[sa.Row[Any]]:
        """Return the rows of one kind of a table."""
        if statement not in self._kinds_of_rows:
            one = statement.replace("{which}", "= %s")
            every = statement.replace("{which}", "= ANY (%s::oid[])")
            marks = one.count("%s")
            oids = [row.oid for row in self._list().values()]
            self._kinds_of_rows[statement] = RowsByTable(
                lambda table: self._rows(one, *[table] * marks),
                lambda: by_table(self._rows(every, *[oids] * marks), lambda row: row.of_table),
                len(oids),
            )
        return self._kinds_of_rows[statement].of(oid)

    def _list(self) -> dict[TableName, Any]:
        if self._listed is None:
            self._listed = {}
            for row in self._rows(_LISTED):
                name = TableName(row.relname, None if row.visible else row.nspname)
                self._listed[name] = row
                self._by_oid[row.oid] = name
        return self._listed

    def _read(self, name: TableName) -> Table:
        row = self._list()[name]
        kind = _KINDS[row.relkind]
        if (row.relkind == "p" or row.inherited) and self._rows(_FOREIGN_PARTS, row.oid):
            kind = "table with a foreign table among its parts"
        info = self._of_table(_COLUMNS, row.oid)
        names = {each.attnum: each.attname for each in info}
        columns = tuple(
            Column(
                name=each.attname,
                type=each.type,
                nullable=not each.attnotnull,
                default=each.default_value if not each.attgenerated else None,
                generated=bool(each.attgenerated),
                computed_from=frozenset(each.computed_from),
                collation=each.collation,
                equates_texts=each.equates_texts,
            )
            for each in info
        )
        nullable = {column.name for column in columns if column.nullable}
        indexes, keys = [], []
        for index in self._of_table(_INDEXES, row.oid):
            listed = [names.get(number) for number in index.attnums[: index.indnkeyatts]]
            plain = tuple(str(each) for each in listed if each)
            complete = len(plain) == len(listed)
            indexes.append(Index(index.relname, plain if complete else (), bool(index.partial)))
            if index.indisunique and complete and not index.partial:
                holds = not nullable & set(plain)
                keys.append(CandidateKey(plain, index.indisprimary, holds, index.relname))
        return Table(
            name=name,
            columns=columns,
            candidate_keys=tuple(keys),
            foreign_keys=tuple(
                self._foreign_key(each) for each in self._foreign_key_rows()[0][row.oid]
            ),
            triggers=tuple(self._triggers(row)),
            indexes=tuple(indexes),
            row_id_columns=_ROW_IDS.get(row.relkind, ()),
            kind=kind,
            heirs=self._heirs(row.oid) if row.inherited else (),
            notes=(_FILTERED,) if row.filtered else (),
        )

    def _heirs(self, oid: int) -> tuple[TableName, ...]:
        found = (self._by_oid.get(row.inhrelid) for row in self._rows(_PARTS, oid))
        return tuple(sorted((name for name in found if name), key=str))

    def _foreign_key_rows(self) -> tuple[dict[int, list[Any]], dict[int, list[Any]]]:
        """Return the rows of every foreign key, by child and by parent; read in one statement."""
        if self._keys is None:
            self._keys = (defaultdict(list), defaultdict(list))
            version = self._connection.dialect.server_version_info or (0,)
            changed = _CHANGED if version >= (15,) else "NULL::text[]"
            for row in self._rows(_FOREIGN_KEYS.replace("{changed}", changed)):
                self._keys[0][self._root(row.conrelid)].append(row)
                self._keys[1][self._root(row.confrelid)].append(row)
        return self._keys

    def _foreign_key(self, row: Any) -> ForeignKey:
        self._list()
        child, parent = self._root(row.conrelid), self._root(row.confrelid)
        return ForeignKey(
            child=self._by_oid[child],
            columns=tuple(row.ours),
            parent=self._by_oid[parent],
            child_parts=self._parts_of(row.conrelid) if child != row.conrelid else None,
            parent_parts=self._parts_of(row.confrelid) if parent != row.confrelid else None,
            referenced_columns=tuple(row.theirs),
            on_delete=_ACTIONS[row.confdeltype],
            deferrable=row.condeferrable,
            constraint=row.conname,
            named_to_change=tuple(row.changed or ()),
        )

    def oids_of(self, name: TableName) -> set[int]:
        """Return the object ids of a table and of its partitions."""
        oid = self._list()[name].oid
        return {oid, *(row.inhrelid for row in self._rows(_PARTS, oid))}

    def _triggers(self, listed: Any) -> list[Trigger]:
        """Return triggers and rules, also those of partitions, which run for the table's rows.

        A trigger for several events is listed for each.
        """
        rows = list(self._of_table(_TRIGGERS, listed.oid))
        if listed.relkind == "p":
            own = {tuple(row)[1:] for row in rows}
            parts = self._rows(_TRIGGERS_OF_PARTS, listed.oid)
            rows += [row for row in parts if tuple(row) not in own]
            rows.sort(key=lambda row: str(row.name))
        found = []
        for row in rows:
            found += [Trigger(row.name, "delete")] if row.on_delete else []
            found += [Trigger(row.name, "update")] if row.on_update else []
            found += [Trigger(row.name, "insert")] if row.on_insert else []
        return found
