"""The catalogue of an SQLite file, read table by table on demand.

The PRAGMA table-valued functions are read, as they tell what a CREATE statement does not show:
implicit keys, generated columns, collations, actions.
"""

from __future__ import annotations

import re
from collections import defaultdict
from collections.abc import Sequence
from dataclasses import dataclass
from itertools import islice, takewhile
from string import ascii_lowercase, ascii_uppercase
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

if TYPE_CHECKING:
    import sqlalchemy as sa

_TO_LOWER = str.maketrans(ascii_uppercase, ascii_lowercase)
_GENERATED = (2, 3)  # how table_xinfo marks generated columns, virtual and stored
_EXPRESSION = -2  # what index_xinfo calls a column that is an expression
_NAME = r"""(?:"(?:[^"]|"")*"|\[[^]]*\]|`(?:[^`]|``)*`|'(?:[^']|'')*'|[\w$]+)"""
_TRIGGER_EVENT = re.compile(
    rf"\bTRIGGER\s+(?:IF\s+NOT\s+EXISTS\s+)?(?:{_NAME}\s*\.\s*)?{_NAME}\s*"
    r"(?:BEFORE\s+|AFTER\s+|INSTEAD\s+OF\s+)?(DELETE|INSERT|UPDATE)\b",
    re.IGNORECASE,
)


def affinity(declared: str) -> str:
    """Return the type affinity of a declared type (sqlite.org/datatype3.html, 3.1)."""
    name = declared.upper()
    if "INT" in name:
        return "INTEGER"
    if any(part in name for part in ("CHAR", "CLOB", "TEXT")):
        return "TEXT"
    if not name or "BLOB" in name:
        return "BLOB"
    if any(part in name for part in ("REAL", "FLOA", "DOUB")):
        return "REAL"
    return "NUMERIC"


@dataclass(frozen=True)
class _Indexed:
    """The indexes of a table, with its unique column lists and collations.

    Args:
        has_primary: the primary key has an index of its own.
        names: the names of unique indexes made by CREATE INDEX, which can be dropped.
    """

    indexes: tuple[Index, ...]
    unique: tuple[tuple[str, ...], ...]
    collations: dict[str, str]
    has_primary: bool
    names: dict[tuple[str, ...], str]


class SqliteCatalogue:
    """The catalogue of the main database of a connection."""

    def __init__(self, connection: sa.Connection) -> None:
        self._connection = connection
        self._kinds: dict[str, tuple[str, bool, bool]] | None = None
        self._tables: dict[str, Table] = {}
        self._declared: dict[str, list[list[Any]]] | None = None  # foreign keys' rows by child
        self._children: dict[str, set[str]] = defaultdict(set)
        self._loose: list[str] = []
        self._spelled: dict[str, str] | None = None
        self._infos: dict[str, Sequence[sa.Row[Any]]] = {}
        self._indexed: dict[str, _Indexed] = {}
        self._all_triggers: dict[str, list[Trigger]] | None = None

    def table_names(self) -> tuple[TableName, ...]:
        return tuple(TableName(name) for name in sorted(self._listed()))

    def has_table(self, name: TableName) -> bool:
        return name.schema is None and name.name in self._listed()

    def has_spelling(self, name: str) -> bool:
        """True if a table is called `name` in any case: to SQLite that is one name."""
        return _folded(name) in self._spelling()

    def table(self, name: TableName) -> Table:
        if name.name not in self._tables:
            self._tables[name.name] = self._read(name.name)
        return self._tables[name.name]

    def referencing(self, parent: TableName) -> tuple[ForeignKey, ...]:
        self._foreign_key_rows()
        keys = (
            key
            for child in sorted(self._children[_folded(parent.name)])
            for key in self.table(TableName(child)).foreign_keys
        )
        return tuple(key for key in keys if key.parent == parent)

    def places(self) -> dict[tuple[str, str], TableName]:
        return {("main", name.name): name for name in self.table_names()}

    def part_names(self) -> tuple[TableName, ...]:
        """Return nothing: there are no partitions."""
        return ()

    def part_of(self, name: TableName) -> None:
        """Return nothing: there are no partitions."""
        del name

    def view_query(self, name: TableName) -> str:
        return self._create(name.name)

    def loose_foreign_keys(self) -> tuple[str, ...]:
        for name in self._foreign_key_rows():
            self.table(TableName(name))
        return tuple(self._loose)

    def _rows(self, statement: str, *values: Any) -> Sequence[sa.Row[Any]]:
        return self._connection.exec_driver_sql(statement, values).all()

    def _listed(self) -> dict[str, tuple[str, bool, bool]]:
        """Return kind, WITHOUT ROWID and STRICT of every table."""
        if self._kinds is None:
            listed = self._rows(
                "SELECT name, type, wr, strict FROM pragma_table_list"
                " WHERE schema = 'main' AND type <> 'shadow' AND substr(name, 1, 7) <> 'sqlite_'"
            )
            self._kinds = {row.name: (row.type, bool(row.wr), bool(row.strict)) for row in listed}
        return self._kinds

    def _spelling(self) -> dict[str, str]:
        """Return the spelling of each table by its folded name, as SQLite ignores case."""
        if self._spelled is None:
            self._spelled = {_folded(name): name for name in self._listed()}
        return self._spelled

    def _read(self, name: str) -> Table:
        kind, without_rowid, strict = self._listed()[name]
        info = self._info(name)
        indexed = self._indexes(name)
        primary = [row.name for row in sorted(info, key=lambda row: row.pk) if row.pk]
        alias = (
            primary[0]
            if len(primary) == 1 and not indexed.has_primary and not without_rowid
            else None
        )
        columns = tuple(
            Column(
                name=row.name,
                type="" if strict and row.type == "ANY" else row.type,
                nullable=not (
                    row.notnull or row.name == alias or (row.pk and (without_rowid or strict))
                ),
                default=row.dflt_value,
                generated=row.hidden in _GENERATED,
                computed_from=self._computed_from(name, row.name, info)
                if row.hidden in _GENERATED
                else frozenset(),
                collation=indexed.collations.get(row.name),
                row_id=row.name == alias,
            )
            for row in info
            if row.hidden != 1
        )
        nullable = {column.name for column in columns if column.nullable}
        keys = [(tuple(primary), True)] if primary else []
        keys += [(unique, False) for unique in indexed.unique if unique != tuple(primary)]
        free_names = (each for each in ("rowid", "_rowid_", "oid")
                      if each not in {column.name.lower() for column in columns})  # fmt: skip
        return Table(
            name=TableName(name),
            columns=columns,
            candidate_keys=tuple(
                CandidateKey(key, is_primary, not nullable & set(key), indexed.names.get(key, ""))
                for key, is_primary in keys
            ),
            foreign_keys=self._foreign_keys(name),
            triggers=self._triggers(name),
            indexes=indexed.indexes,
            row_id_columns=tuple(
                Column(name, "INTEGER", nullable=False)
                for name in islice(free_names, int(kind == "table" and not without_rowid))
            ),
            kind="virtual table" if kind == "virtual" else kind,
        )

    def _computed_from(
        self, table: str, column: str, info: Sequence[sa.Row[Any]]
    ) -> frozenset[str]:
        from yeldro.engines.sqlite.generated import computed_from

        return computed_from(self._create(table), column, [row.name for row in info])

    def _create(self, name: str) -> str:
        """Return the statement that made a table or view."""
        return str(self._rows("SELECT sql FROM main.sqlite_master WHERE name = ?", name)[0][0])

    def _info(self, name: str) -> Sequence[sa.Row[Any]]:
        """Return the rows of `table_xinfo`, which shows generated columns too."""
        if name not in self._infos:
            self._infos[name] = self._rows(
                'SELECT name, type, "notnull", dflt_value, pk, hidden FROM pragma_table_xinfo(?)',
                name,
            )
        return self._infos[name]

    def _indexes(self, name: str) -> _Indexed:
        if name not in self._indexed:
            self._indexed[name] = self._read_indexes(name)
        return self._indexed[name]

    def _read_indexes(self, name: str) -> _Indexed:
        found: dict[str, list[Any]] = defaultdict(list)
        rows = self._rows(
            'SELECT l.name AS index_name, l."unique" AS is_unique, l.origin, l.partial, x.seqno,'
            " x.cid, x.name AS column_name, x.coll"
            " FROM pragma_index_list(?) AS l, pragma_index_xinfo(l.name) AS x"
            ' WHERE x."key" ORDER BY l.seq, x.seqno',
            name,
        )
        for row in rows:
            found[row.index_name].append(row)
        indexes, unique = [], []
        names: dict[tuple[str, ...], str] = {}
        collations: dict[str, str] = {}
        for index_name, parts in found.items():
            plain = list(takewhile(lambda part: part.cid != _EXPRESSION, parts))
            columns = tuple(part.column_name for part in plain)
            first = parts[0]
            indexes.append(Index(index_name, columns, bool(first.partial)))
            if first.is_unique and not first.partial and len(plain) == len(parts):
                unique.append(columns)
                if first.origin == "c":  # made by a statement of its own
                    names[columns] = index_name
                collations |= {part.column_name: part.coll for part in parts}
        has_primary = any(parts[0].origin == "pk" for parts in found.values())
        return _Indexed(tuple(indexes), tuple(unique), collations, has_primary, names)

    def _foreign_key_rows(self) -> dict[str, list[list[Any]]]:
        """Return the rows of every declared foreign key, by child table; read in one statement."""
        if self._declared is None:
            rows = self._rows(
                'SELECT m.name AS child, f.id, f."table" AS parent, f."from" AS ours,'
                ' f."to" AS theirs, f.on_delete'
                " FROM main.sqlite_master AS m, pragma_foreign_key_list(m.name, 'main') AS f"
                " WHERE m.type = 'table' ORDER BY m.name, f.id DESC, f.seq"
            )
            grouped: dict[tuple[str, int], list[Any]] = defaultdict(list)
            for row in rows:
                grouped[row.child, row.id].append(row)
                self._children[_folded(row.parent)].add(row.child)
            self._declared = defaultdict(list)
            for (child, _), parts in grouped.items():
                self._declared[child].append(parts)
        return self._declared

    def _foreign_keys(self, name: str) -> tuple[ForeignKey, ...]:
        keys = []
        for parts in self._foreign_key_rows().get(name, []):
            columns = tuple(part.ours for part in parts)
            parent = self._spelling().get(_folded(parts[0].parent))
            referenced = parent and self._referenced(parent, [part.theirs for part in parts])
            if not parent or not referenced:
                wanted = ",".join(part.theirs or "its primary key" for part in parts)
                self._loose.append(f"{name}.{','.join(columns)} → {parts[0].parent}.{wanted}")
                continue
            action = ReferentialAction(parts[0].on_delete.lower())
            keys.append(ForeignKey(TableName(name), columns, TableName(parent), referenced, action))
        return tuple(keys)

    def _referenced(self, parent: str, named: list[str | None]) -> tuple[str, ...] | None:
        """Return the parent's columns in its spelling; its primary key if none are named."""
        info = self._info(parent)
        primary = tuple(row.name for row in sorted(info, key=lambda row: row.pk) if row.pk)
        if None in named:
            return primary if len(primary) == len(named) else None
        spelling = {_folded(row.name): row.name for row in info}
        spelled = tuple(spelling.get(_folded(str(column)), "") for column in named)
        unique = {frozenset(primary), *(frozenset(key) for key in self._indexes(parent).unique)}
        return spelled if frozenset(spelled) in unique else None

    def _triggers(self, name: str) -> tuple[Trigger, ...]:
        """Return a table's triggers; those of all tables are read in one statement."""
        if self._all_triggers is None:
            self._all_triggers = defaultdict(list)
            for row in self._rows(
                "SELECT name, tbl_name, sql FROM main.sqlite_master"
                " WHERE type = 'trigger' ORDER BY name"
            ):
                event = _TRIGGER_EVENT.search(row.sql or "")
                trigger = Trigger(row.name, event[1].lower() if event else "delete")
                self._all_triggers[_folded(row.tbl_name)].append(trigger)
        return tuple(self._all_triggers[_folded(name)])


def _folded(name: str) -> str:
    """Return a name as SQLite compares it, without the case of the letters A to Z only."""
    return name.translate(_TO_LOWER)
