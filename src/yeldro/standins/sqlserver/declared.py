"""What has been declared in the stand-in's database, and how SQLite is to make it.

SQLite's own catalogue has no identity columns, no names of constraints and other types, so each
statement that makes something is kept as it was written, in a table beside the user's.
"""

from __future__ import annotations

import sqlite3
from collections.abc import Iterator
from dataclasses import dataclass
from functools import lru_cache

import sqlglot
from sqlglot import exp

from yeldro.standins.sqlserver.refusals import ReadError

KEPT = "yeldro_declared"
_TYPE_NAMES = {"integer": "int", "rowversion": "timestamp"}
_UNKNOWN = "sql_variant"
_IDENTITY = (exp.GeneratedAsIdentityColumnConstraint, exp.AutoIncrementColumnConstraint)
_ONE = exp.Literal.number(1)
_REMEMBERED = 500  # tables
COLLATION = "SQL_Latin1_General_CP1_CI_AS"  # of a server, where no other one is chosen
_TEXTS = ("char", "nchar", "ntext", "nvarchar", "sysname", "text", "varchar")
_MAKE = f"CREATE TABLE IF NOT EXISTS main.{KEPT} (kind, name COLLATE NOCASE, of_table, sql)"


@dataclass(frozen=True)
class Key:
    """A primary key, a unique constraint, or an index."""

    name: str
    columns: tuple[str, ...]
    primary: bool = False
    unique: bool = True
    constraint: bool = True
    filtered: bool = False


@dataclass(frozen=True)
class Link:
    """A foreign key; no columns of the parent's are named if it is its primary key."""

    name: str
    columns: tuple[str, ...]
    parent: str
    theirs: tuple[str, ...]
    on_delete: str


@dataclass
class DeclaredTable:
    """A CREATE TABLE, with what was added to the table since."""

    create: exp.Create

    @property
    def name(self) -> str:
        return str(self.create.this.this.name)

    @property
    def columns(self) -> list[exp.ColumnDef]:
        return [each for each in self.create.this.expressions if isinstance(each, exp.ColumnDef)]

    def constraints(self) -> Iterator[tuple[str, exp.Expr, tuple[str, ...]]]:
        """Yield each constraint with its name, empty if it has none, and its own columns."""
        for each in self.create.this.expressions:
            if isinstance(each, exp.ColumnDef):
                for one in each.constraints:
                    if one.kind is not None:
                        yield one.name, one.kind, (each.name,)
            elif isinstance(each, exp.Constraint):
                for part in each.expressions:
                    yield each.this.name, part, _named(part)
            else:
                yield "", each, _named(each)

    def unique_keys(self) -> Iterator[Key]:
        """Yield primary and unique keys, each with a name."""
        for number, (name, each, columns) in enumerate(self.constraints(), 1):
            primary = isinstance(each, exp.PrimaryKey | exp.PrimaryKeyColumnConstraint)
            if primary or isinstance(each, exp.UniqueColumnConstraint):
                kind = "PK" if primary else "UQ"
                yield Key(name or f"{kind}__{self.name}__{number:02}", columns, primary)

    def links(self) -> Iterator[Link]:
        """Yield foreign keys, each with a name."""
        for number, (name, each, columns) in enumerate(self.constraints(), 1):
            reference = each.args["reference"] if isinstance(each, exp.ForeignKey) else each
            if isinstance(reference, exp.Reference):
                schema = reference.this
                parent = schema.this if isinstance(schema, exp.Schema) else schema
                theirs = tuple(part.name for part in schema.args.get("expressions") or ())
                yield Link(
                    name or f"FK__{self.name}__{number:02}", columns, parent.name, theirs,
                    _on_delete(each, reference),
                )  # fmt: skip

    def is_never_null(self, column: exp.ColumnDef) -> bool:
        """True if a column takes no NULL: it says so, or is of the primary key."""
        kinds = [each.kind for each in column.constraints]
        said = [each for each in kinds if isinstance(each, exp.NotNullColumnConstraint)]
        return (
            any(not each.args.get("allow_null") for each in said)
            or column.name.casefold() in {each.casefold() for each in self.primary_key()}
            or column.name == self.identity()
        )

    def type_of(self, column: exp.ColumnDef) -> str:
        """Return the type of a column; that of a computed one comes from its expression."""
        if column.kind:
            return type_name(column.kind)
        computed = column.find(exp.ComputedColumnConstraint)
        return self._type_of_value(computed.this) if computed else _UNKNOWN

    def _type_of_value(self, value: exp.Expr) -> str:
        match value:
            case exp.Paren() | exp.Lower() | exp.Upper():
                return self._type_of_value(value.this)
            case exp.Cast():
                return type_name(value.to)
            case exp.Column():
                named = (
                    each for each in self.columns if each.name.casefold() == value.name.casefold()
                )
                return next(map(self.type_of, named), _UNKNOWN)
        is_text = any(each.is_string or isinstance(each, exp.National) for each in value.walk())
        return "nvarchar(4000)" if is_text else "int"

    def collation_of(self, column: exp.ColumnDef) -> str | None:
        """Return the collation of a column; None if it holds no text."""
        if self.type_of(column).partition("(")[0] not in _TEXTS:
            return None
        said = column.find(exp.CollateColumnConstraint)
        return said.this.name if said else COLLATION

    def primary_key(self) -> tuple[str, ...]:
        """Return the names of its columns, as the key names them."""
        return next((key.columns for key in self.unique_keys() if key.primary), ())

    def identity(self) -> str | None:
        """Return the name of the identity column, if there is one."""
        found = (each.name for each in self.columns if each.find(*_IDENTITY))
        return next(found, None)

    def add(self, part: exp.Expr) -> None:
        """Add a column, behind the others, or a constraint; one without a name gets one."""
        parts = list(self.create.this.expressions)
        if not isinstance(part, exp.ColumnDef | exp.Constraint):
            named = exp.to_identifier(f"added__{self.name}__{len(parts):02}", quoted=True)
            part = exp.Constraint(this=named, expressions=[part])
        place = len(self.columns) if isinstance(part, exp.ColumnDef) else len(parts)
        self.create.this.set("expressions", [*parts[:place], part, *parts[place:]])

    def drop_column(self, name: str) -> None:
        """Drop a column."""
        for each in self.columns:
            if each.name.casefold() == name.casefold():
                each.pop()

    def drop_constraint(self, name: str) -> bool:
        """Drop a constraint that has a name; False if there is none."""
        for each in self.create.this.expressions:
            if isinstance(each, exp.Constraint) and each.name.casefold() == name.casefold():
                each.pop()
                return True
        return False


class Declared:
    """Everything that is declared in one database, as one session sees it."""

    def __init__(self, file: sqlite3.Connection) -> None:
        self._file = file
        file.execute(_MAKE)

    def keep(self, kind: str, name: str, of_table: str, statement: exp.Expr) -> None:
        """Note what a statement has made."""
        self.keep_text(kind, name, of_table, statement.sql("tsql"))

    def keep_text(self, kind: str, name: str, of_table: str, text: str) -> None:
        """Note what a statement has made, as it is written."""
        row = (kind, name, of_table, text)
        self._file.execute(f"INSERT INTO main.{KEPT} VALUES (?, ?, ?, ?)", row)

    def changed(self, table: DeclaredTable) -> None:
        """Note what a table is now."""
        change = f"UPDATE main.{KEPT} SET sql = ? WHERE kind = 'table' AND name = ?"
        self._file.execute(change, (table.create.sql("tsql"), table.name))

    def forget(self, name: str) -> None:
        """Forget something that has been dropped, and the indexes of a table."""
        self._file.execute(f"DELETE FROM main.{KEPT} WHERE ? IN (name, of_table)", (name,))

    def tables(self) -> list[tuple[int, DeclaredTable]]:
        """Return all tables, each with a number of its own."""
        return [(number, _table(text)) for number, _, _, text in self._rows("table")]

    def written_with(self, name: str) -> set[str]:
        """Return a table and those that declared actions reach from it, in lower case.

        The server locks them all before the first row of the table is removed: what is done there
        is part of the same statement.
        """
        found, waiting = {name.casefold()}, [name.casefold()]
        tables = [table for _, table in self.tables()]
        while waiting:
            parent = waiting.pop()
            fresh = {
                each.name.casefold()
                for each in tables
                for link in each.links()
                if link.parent.casefold() == parent and link.on_delete != "NO_ACTION"
            } - found
            found |= fresh
            waiting += fresh
        return found

    def views(self) -> list[tuple[int, str, str]]:
        """Return the views: number, name, and the statement that made each."""
        return [(number, name, text) for number, name, _, text in self._rows("view")]

    def triggers(self) -> list[tuple[int, str, str, str]]:
        """Return the triggers: number, name, table, and the statement that made each."""
        return self._rows("trigger")

    def has(self, kind: str, name: str) -> bool:
        """True if something of this kind and name has been made."""
        return any(each.casefold() == name.casefold() for _, each, _, _ in self._rows(kind))

    def indexes(self, table: str) -> list[Key]:
        """Return the indexes of a table that are no constraints."""
        found = []
        for _, name, of_table, text in self._rows("index"):
            if of_table.casefold() == table.casefold():
                create = sqlglot.parse_one(text, dialect="tsql")
                params = create.this.args["params"]
                columns = tuple(each.name for each in params.args["columns"])
                unique, filtered = bool(create.args.get("unique")), bool(params.args.get("where"))
                found.append(Key(name, columns, False, unique, False, filtered))
        return found

    def table(self, name: str) -> DeclaredTable | None:
        """Return a table by its name, in any case; nobody may change it, as it is kept."""
        query = f"SELECT sql FROM main.{KEPT} WHERE kind = 'table' AND name = ?"
        row = self._file.execute(query, (name,)).fetchone()
        return _table(row[0]) if row else None

    def _rows(self, kind: str) -> list[tuple[int, str, str, str]]:
        query = f"SELECT rowid, name, of_table, sql FROM main.{KEPT} WHERE kind = ? ORDER BY rowid"
        return self._file.execute(query, (kind,)).fetchall()


def in_sqlite(create: exp.Create) -> exp.Create:
    """Return a CREATE TABLE as SQLite takes it, but for types and names.

    A value of an identity column comes from a function; a key's columns are never NULL.
    """
    made = create.copy()
    table = DeclaredTable(made)
    for column in table.columns:
        column_in_sqlite(column, table)
    return made


def column_in_sqlite(column: exp.ColumnDef, table: DeclaredTable) -> None:
    """Change a column of a table into one that SQLite takes, but for its type."""
    in_key = {name.casefold() for name in table.primary_key()}
    collation = table.collation_of(column)
    kept = []
    for each in column.constraints:
        kind = each.kind
        if isinstance(kind, exp.CollateColumnConstraint):
            continue
        if isinstance(kind, _IDENTITY):
            place = exp.Literal.string(f"{table.name}.{column.name}")
            start, step = (kind.args.get(each) or _ONE for each in ("start", "increment"))
            drawn = exp.Anonymous(this="yeldro_next", expressions=[place, start, step])
            kind = exp.DefaultColumnConstraint(this=exp.Paren(this=drawn))
        elif isinstance(kind, exp.DefaultColumnConstraint):
            kind = exp.DefaultColumnConstraint(this=exp.Paren(this=kind.this.copy()))
        elif isinstance(kind, exp.ComputedColumnConstraint):
            kind = exp.ComputedColumnConstraint(
                this=exp.Paren(this=kind.this.copy()), persisted=kind.args["persisted"]
            )
        kept.append(exp.ColumnConstraint(kind=kind))
    if column.name.casefold() in in_key:
        kept.insert(0, exp.ColumnConstraint(kind=exp.NotNullColumnConstraint()))
    if collation is not None:
        compared = exp.CollateColumnConstraint(this=exp.to_identifier(like(collation)))
        kept.append(exp.ColumnConstraint(kind=compared))
    column.set("constraints", kept)


def like(collation: str) -> str:
    """Return the name by which SQLite knows how texts of a collation are compared.

    Raises:
        ReadError: the stand-in does not know it.
    """
    name = collation.casefold()
    if "_ci_as" in name:
        return "yeldro_blind"
    if name.endswith(("_bin", "_bin2")) or "_cs_as" in name:
        return "yeldro_exact"
    raise ReadError(448, f"Invalid collation '{collation}': the stand-in does not have it.")


@lru_cache(_REMEMBERED)
def _table(text: str) -> DeclaredTable:
    """Return a table that was declared; nobody may change it, as it is kept."""
    create = sqlglot.parse_one(text, dialect="tsql")
    if not isinstance(create, exp.Create):
        raise TypeError(f"what was kept of a table makes none: {text}")
    return DeclaredTable(create)


def quoted(name: str) -> str:
    """Return a name in quotes, for SQLite."""
    return '"' + name.replace('"', '""') + '"'


def type_name(declared: exp.DataType) -> str:
    """Return a type as the catalogue of SQL Server names it, with its size."""
    bare, bracket, size = declared.sql("tsql").lower().partition("(")
    return _TYPE_NAMES.get(bare, bare) + bracket + size


def _named(part: exp.Expr) -> tuple[str, ...]:
    """Return the columns that a constraint of a table names."""
    holder = part.this if isinstance(part, exp.UniqueColumnConstraint) else part
    return tuple(each.name for each in holder.args.get("expressions") or ())


def _on_delete(key: exp.Expr, reference: exp.Reference) -> str:
    """Return the declared action, in the words of the catalogue."""
    options = [*(key.args.get("options") or ()), *(reference.args.get("options") or ())]
    written = " ".join(str(each) for each in options).upper()
    for action in ("CASCADE", "SET NULL", "SET DEFAULT"):
        if f"ON DELETE {action}" in written:
            return action.replace(" ", "_")
    return "NO_ACTION"
