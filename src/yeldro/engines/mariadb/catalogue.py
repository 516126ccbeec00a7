"""The catalogue of a MariaDB database, read table by table on demand.

A table of the connection's own database is named without it; any other is named with its database.
"""

from __future__ import annotations

import re
from collections import defaultdict
from collections.abc import Iterable, Iterator, Sequence
from dataclasses import replace
from fnmatch import fnmatchcase
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
from yeldro.engines.catalogue_rows import RowsByTable, by_table

if TYPE_CHECKING:
    import sqlalchemy as sa

CONVERTED = {"ascii", "latin1", "ucs2", "utf16", "utf16le", "utf32", "utf8", "utf8mb3", "utf8mb4"}
_KINDS = {"BASE TABLE": "table", "SYSTEM VERSIONED": "system-versioned table"}
_LISTED = """
SELECT TABLE_NAME AS name, TABLE_TYPE AS type, ENGINE AS engine
FROM information_schema.TABLES
WHERE TABLE_SCHEMA = %s AND TABLE_TYPE NOT IN ('SEQUENCE', 'TEMPORARY')
"""
_COLUMNS = """
SELECT TABLE_NAME AS of_table, COLUMN_NAME AS name, COLUMN_TYPE AS type,
       IS_NULLABLE = 'YES' AS nullable,
       COLUMN_DEFAULT AS default_value, EXTRA AS extra, CHARACTER_SET_NAME AS charset,
       COLLATION_NAME AS collation, GENERATION_EXPRESSION AS expression
FROM information_schema.COLUMNS
WHERE TABLE_SCHEMA = %s{which} ORDER BY ORDINAL_POSITION
"""
_INDEXES = """
SELECT TABLE_NAME AS of_table, INDEX_NAME AS name, NON_UNIQUE = 0 AS is_unique,
       COLUMN_NAME AS column_name, SUB_PART AS part, INDEX_TYPE AS type
FROM information_schema.STATISTICS
WHERE TABLE_SCHEMA = %s{which}
ORDER BY INDEX_NAME <> 'PRIMARY', INDEX_NAME, SEQ_IN_INDEX
"""
_LINKS = """
SELECT TABLE_SCHEMA AS child_schema, TABLE_NAME AS child, CONSTRAINT_NAME AS name,
       COLUMN_NAME AS ours, REFERENCED_TABLE_SCHEMA AS parent_schema,
       REFERENCED_TABLE_NAME AS parent, REFERENCED_COLUMN_NAME AS theirs
FROM information_schema.KEY_COLUMN_USAGE
WHERE REFERENCED_TABLE_NAME IS NOT NULL{which}
ORDER BY TABLE_SCHEMA, TABLE_NAME, CONSTRAINT_NAME, ORDINAL_POSITION
"""
_ACTIONS = """
SELECT CONSTRAINT_SCHEMA AS child_schema, TABLE_NAME AS child, CONSTRAINT_NAME AS name,
       DELETE_RULE AS action
FROM information_schema.REFERENTIAL_CONSTRAINTS WHERE 1 = 1{which}
"""
_PARTITIONED = """
SELECT DISTINCT TABLE_SCHEMA AS parts_schema, TABLE_NAME AS name FROM information_schema.PARTITIONS
WHERE PARTITION_NAME IS NOT NULL AND TABLE_SCHEMA <> 'mysql'
"""
_TRIGGERS = """
SELECT EVENT_OBJECT_TABLE AS of_table, TRIGGER_NAME AS name,
       LOWER(EVENT_MANIPULATION) AS event
FROM information_schema.TRIGGERS
WHERE EVENT_OBJECT_SCHEMA = %s{which} ORDER BY TRIGGER_NAME
"""

_CHECKS = """
SELECT TABLE_NAME AS of_table, CONSTRAINT_NAME AS name, CHECK_CLAUSE AS clause
FROM information_schema.CHECK_CONSTRAINTS
WHERE CONSTRAINT_SCHEMA = %s{which} ORDER BY CONSTRAINT_NAME
"""
# Converts a name from its form in the file system.
_DECODED = ("CONVERT(CONVERT(CAST(SUBSTRING_INDEX({}, '/', {}) AS BINARY) USING filename)"
            " USING utf8mb4)")  # fmt: skip
_REFERENCING = f"""
SELECT {_DECODED.format("FOR_NAME", 1)} AS child_schema, {_DECODED.format("FOR_NAME", -1)} AS child,
       {_DECODED.format("REF_NAME", -1)} AS parent
FROM information_schema.INNODB_SYS_FOREIGN WHERE {_DECODED.format("REF_NAME", 1)} = %s
"""
# Engines that keep rows on another server, which commits by itself or may.
_ELSEWHERE = {"CONNECT", "FEDERATED", "S3", "SPIDER"}
# What a column that is not stored may call, and a stored one may not: the value depends on when, by
# whom and under which settings it is read (mariadb.com/kb/en/generated-columns).
_VARYING_CALLS = """
    benchmark connection_id convert_tz curdate current_date current_role current_time
    current_timestamp current_user curtime database date_format dayname format found_rows
    from_unixtime get_lock is_free_lock is_used_lock last_insert_id load_file localtime
    localtimestamp master_gtid_wait master_pos_wait monthname now rand random_bytes release_lock
    row_count schema session_user sleep sysdate system_user unix_timestamp user utc_date utc_time
    utc_timestamp uuid uuid_short version week
"""
_VARYING = re.compile(rf"@@|\b(?:{'|'.join(_VARYING_CALLS.split())})\b", re.IGNORECASE)
_QUOTED = re.compile(r"`((?:[^`]|``)+)`")
_ON_DELETE = re.compile(r" ON DELETE (CASCADE|SET NULL|SET DEFAULT|NO ACTION|RESTRICT)")
_GRANT = re.compile(r"GRANT (.+) ON `?(.+?)`?\.\* TO ")
_Links = dict[TableName, list[Any]]


class MariadbCatalogue:
    """The catalogue as one connection sees it.

    Args:
        database: the connection's own database.
    """

    def __init__(self, connection: sa.Connection, database: str) -> None:
        self._connection = connection
        self._database = database
        self._schemas: dict[str, dict[str, Any]] = {}
        self._tables: dict[TableName, Table] = {}
        self._keys: dict[str, tuple[_Links, _Links]] = {}
        self._actions: dict[tuple[str, str, str], str] = {}
        self._children: dict[str, Sequence[Any]] = {}
        self._engines: dict[str, bool] | None = None
        self._kinds_of_rows: dict[tuple[str, str], RowsByTable[str]] = {}

    def table_names(self) -> tuple[TableName, ...]:
        return tuple(sorted(TableName(name) for name in self._list(self._database)))

    def has_table(self, name: TableName) -> bool:
        schema, bare = self.place_of(name)
        return bare in self._list(schema)

    def table(self, name: TableName) -> Table:
        if name not in self._tables:
            self._tables[name] = self._read(name)
        return self._tables[name]

    def referencing(self, parent: TableName) -> tuple[ForeignKey, ...]:
        links = self._links(self.place_of(parent)[0])[1][parent]
        return tuple(key for key in map(self._link, links) if key)

    def places(self) -> dict[tuple[str, str], TableName]:
        return {(self._database, name.name): name for name in self.table_names()}

    def part_names(self) -> tuple[TableName, ...]:
        """Return nothing: partitions are not tables here."""
        return ()

    def part_of(self, name: TableName) -> None:
        """Return nothing: partitions are not tables here."""
        del name

    def view_query(self, name: TableName) -> str:
        query = """SELECT VIEW_DEFINITION FROM information_schema.VIEWS
            WHERE TABLE_SCHEMA = %s AND TABLE_NAME = %s"""
        return str(self.rows(query, *self.place_of(name))[0][0])

    def loose_foreign_keys(self) -> tuple[str, ...]:
        """Return foreign keys that were declared while checks were off, without a parent."""
        return tuple(
            f"{child}.{','.join(part.ours for part in parts)} → {parts[0].parent}"
            for child, links in self._links(self._database)[0].items()
            for parts in links
            if child.schema is None and self._link(parts) is None
        )

    def checks(self, name: TableName) -> list[tuple[str, str]]:
        """Return the checks of a table, each by name and as SQL."""
        return [(row.name, row.clause) for row in self._of_table(_CHECKS, name)]

    def rows(self, statement: str, *values: Any) -> Sequence[sa.Row[Any]]:
        return self._connection.exec_driver_sql(statement, values).all()

    def _of_table(self, statement: str, name: TableName) -> Sequence[Any]:
        """Return the rows of one kind of a table."""
        schema, bare = self.place_of(name)
        if (statement, schema) not in self._kinds_of_rows:
            column = "EVENT_OBJECT_TABLE" if statement is _TRIGGERS else "TABLE_NAME"
            one = statement.replace("{which}", f" AND {column} = %s")
            every = statement.replace("{which}", "")
            self._kinds_of_rows[statement, schema] = RowsByTable(
                lambda table: self.rows(one, schema, table),
                lambda: by_table(self.rows(every, schema), lambda row: row.of_table),
                len(self._list(schema)),
            )
        return self._kinds_of_rows[statement, schema].of(bare)

    def place_of(self, name: TableName) -> tuple[str, str]:
        return name.schema or self._database, name.name

    def named(self, schema: str, name: str) -> TableName:
        return TableName(name, None if schema == self._database else schema)

    def _list(self, schema: str) -> dict[str, Any]:
        if schema not in self._schemas:
            self._schemas[schema] = {row.name: row for row in self.rows(_LISTED, schema)}
        return self._schemas[schema]

    def _read(self, name: TableName) -> Table:
        schema, bare = self.place_of(name)
        row = self._list(schema)[bare]
        columns = _columns(self._of_table(_COLUMNS, name))
        nullable = {column.name for column in columns if column.nullable}
        indexes, keys = [], []
        for index, grouped in groupby(self._of_table(_INDEXES, name), lambda part: part.name):
            parts = list(grouped)
            whole = all(part.part is None and part.column_name for part in parts)
            listed = tuple(part.column_name for part in parts) if whole else ()
            indexes.append(Index(index, listed))
            if parts[0].is_unique and whole:
                holds = not nullable & set(listed)
                keys.append(CandidateKey(listed, index == "PRIMARY", holds, index))
        links = (self._link(parts) for parts in self._links(schema)[0][name])
        transactional = self.is_transactional(row.engine)
        notes = () if transactional or row.type != "BASE TABLE" else (_no_way_back(row.engine),)
        return Table(
            name=name,
            columns=columns,
            candidate_keys=tuple(keys),
            foreign_keys=tuple(key for key in links if key),
            triggers=tuple(
                Trigger(each.name, each.event) for each in self._of_table(_TRIGGERS, name)
            ),
            indexes=tuple(indexes),
            kind=_KINDS.get(row.type, row.type.lower()),
            transactional=transactional,
            notes=notes,
        )

    def _links(self, schema: str) -> tuple[_Links, _Links]:
        """Return the parts of every foreign key of a schema, by child, and to it, by parent."""
        sees_children = self._grants_everywhere("PROCESS")
        read = schema if sees_children else ""  # everything: nothing else tells who references it
        if read not in self._keys:
            wanted: list[tuple[str, ...]] = [(schema,)] if sees_children else [()]
            if sees_children:
                others = {(row.child_schema, row.child) for row in self._referencing(schema)}
                wanted += [each for each in sorted(others) if each[0] != schema]
            self._keys[read] = (defaultdict(list), defaultdict(list))
            for place in wanted:
                for parts in self._parts(place):
                    first = parts[0]
                    child = self.named(first.child_schema, first.child)
                    self._keys[read][0][child].append(parts)
                    parent = self._spelled(first.parent_schema, first.parent)
                    self._keys[read][1][parent].append(parts)
        return self._keys[read]

    def _parts(self, place: tuple[str, ...]) -> Iterator[list[Any]]:
        """Yield the parts of each foreign key of a table, of all tables of a schema, or of all.

        The server opens every table that it looks at: thousands of them take seconds.
        """
        which = "".join((" AND {} = %s", " AND TABLE_NAME = %s")[: len(place)])
        actions = self.rows(_ACTIONS.format(which=which.format("CONSTRAINT_SCHEMA")), *place)
        self._actions |= {(row.child_schema, row.child, row.name): row.action for row in actions}
        links = self.rows(_LINKS.format(which=which.format("TABLE_SCHEMA")), *place)
        for _, grouped in groupby(links, lambda row: (row.child_schema, row.child, row.name)):
            yield list(grouped)

    def _referencing(self, schema: str) -> Sequence[Any]:
        """Return child and parent of every foreign key to a schema, whoever may see the child."""
        if schema not in self._children:
            self._children[schema] = self.rows(_REFERENCING, schema)
        return self._children[schema]

    def _spelled(self, schema: str, name: str) -> TableName:
        """Return a parent as its own table is spelled; foreign keys may hold it in lower case."""
        known = self._list(schema)
        if name not in known:
            alike = [each for each in known if each.casefold() == name.casefold()]
            name = alike[0] if len(alike) == 1 else name
        return self.named(schema, name)

    def _link(self, parts: Sequence[Any]) -> ForeignKey | None:
        first = parts[0]
        parent = self._spelled(first.parent_schema, first.parent)
        if parent.name not in self._list(first.parent_schema):
            return None
        child = self.named(first.child_schema, first.child)
        action = self._actions.get((first.child_schema, first.child, first.name))
        if action is None:
            action = self._action_as_written(child, first.name)
        return ForeignKey(
            child=child,
            columns=_spelled_as(parts, "ours"),
            parent=parent,
            referenced_columns=_spelled_as(parts, "theirs"),
            on_delete=ReferentialAction(action.lower()),
            constraint=first.name,
        )

    def _action_as_written(self, child: TableName, constraint: str) -> str:
        """Return the action from the CREATE statement, which even users without rights can see."""
        quote = self._connection.dialect.identifier_preparer.quote_identifier
        (row,) = self.rows(f"SHOW CREATE TABLE {'.'.join(map(quote, self.place_of(child)))}")
        for line in str(list(row)[1]).splitlines():
            if line.strip().startswith(f"CONSTRAINT {quote(constraint)} FOREIGN KEY"):
                found = _ON_DELETE.search(line)
                return found[1] if found else "RESTRICT"
        return "RESTRICT"

    def sees_all(self) -> bool:
        """True if this user sees every table of the database, and so every foreign key."""
        for found in self._grants:
            if {"ALL PRIVILEGES", "SELECT"} & set(found[1].split(", ")):
                pattern = found[2].replace("``", "`").replace("\\_", "_").replace("%", "*")
                if found[2] == "*" or fnmatchcase(self._database, pattern):
                    return True
        return False

    def unseen_references(self, name: TableName) -> tuple[str, ...] | None:
        """Return the tables that this user does not see and that reference a table."""
        if self._grants_everywhere("SELECT"):
            return ()
        if not self._grants_everywhere("PROCESS"):
            return None
        schema, bare = self.place_of(name)
        seen = {self.place_of(key.child) for key in self.referencing(name)}
        rows = {
            (row.child_schema, row.child)
            for row in self._referencing(schema)
            if row.parent.casefold() == bare.casefold()
        }
        return tuple(sorted(f"{schema}.{child}" for schema, child in rows - seen))

    @cached_property
    def counted_twice(self) -> dict[str, int]:
        """Partitioned tables, whose rows the server counts for the table and for its partition."""
        return {str(self.named(row.parts_schema, row.name)): 2 for row in self.rows(_PARTITIONED)}

    @cached_property
    def _grants(self) -> list[re.Match[str]]:
        """The privileges of this user, by database."""
        return [found for (grant,) in self.rows("SHOW GRANTS") if (found := _GRANT.match(grant))]

    def _grants_everywhere(self, privilege: str) -> bool:
        """True if this user has a privilege on all databases."""
        for found in self._grants:
            if found[2] == "*":
                given = {each.strip() for each in found[1].split(",")}
                if {"ALL PRIVILEGES", privilege} & given:
                    return True
        return False

    def is_transactional(self, engine: str | None) -> bool:
        if self._engines is None:
            rows = self.rows("SELECT ENGINE, TRANSACTIONS FROM information_schema.ENGINES")
            self._engines = {
                row.ENGINE: row.TRANSACTIONS == "YES" and row.ENGINE not in _ELSEWHERE
                for row in rows
            }
        return self._engines.get(engine or "", False)


def _columns(rows: Sequence[Any]) -> tuple[Column, ...]:
    """Return the columns of a table; what is computed from what varies does so too."""
    columns = [_column(row) for row in rows]
    virtual = {row.name for row in rows if "VIRTUAL" in row.extra.upper()}
    vary = {each.name for each in columns if each.varies or each.type.startswith("timestamp")}
    for _ in virtual:
        vary |= {
            each.name for each in columns if each.name in virtual and each.computed_from & vary
        }
    return tuple(replace(each, varies=each.name in vary & virtual) for each in columns)


def _column(row: Any) -> Column:
    extra = row.extra.upper()
    declared = row.type
    if row.charset and row.charset not in CONVERTED:
        declared = f"{row.type} CHARACTER SET {row.charset}"
    return Column(
        name=row.name,
        type=declared,
        nullable=bool(row.nullable),
        default=None if row.default_value == "NULL" else row.default_value,
        generated="GENERATED" in extra,
        varies="VIRTUAL" in extra and _VARYING.search(row.expression or "") is not None,
        computed_from=frozenset(
            name.replace("``", "`") for name in _QUOTED.findall(row.expression or "")
        ),
        collation=row.collation,
        changes_itself="ON UPDATE" in extra,
    )


def _spelled_as(parts: Iterable[Any], side: str) -> tuple[str, ...]:
    return tuple(getattr(part, side) for part in parts)


def _no_way_back(engine: str | None) -> str:
    return f"its engine {engine} has no transactions, so nothing can be rolled back"
