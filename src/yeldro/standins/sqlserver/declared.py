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

KEPT = "yeldro_declared"
_REMEMBERED = 500  # tables
COLLATION = "Latin1_General_BIN2"  # texts are compared by their code points, as SQLite does
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
        primary = {name for key in self.unique_keys() if key.primary for name in key.columns}
        return (
            any(not each.args.get("allow_null") for each in said)
            or column.name in primary
            or column.name == self.identity()
        )

    def identity(self) -> str | None:
        """Return the name of the identity column, if there is one."""
        kind = exp.GeneratedAsIdentityColumnConstraint
        found = (each.name for each in self.columns if each.find(kind))
        return next(found, None)

    def add(self, part: exp.Expr) -> None:
        """Add a column, behind the others, or a constraint."""
        parts = list(self.create.this.expressions)
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
        """Return a table by its name, in any case."""
        query = f"SELECT sql FROM main.{KEPT} WHERE kind = 'table' AND name = ?"
        row = self._file.execute(query, (name,)).fetchone()
        return DeclaredTable(_table(row[0]).create.copy()) if row else None

    def _rows(self, kind: str) -> list[tuple[int, str, str, str]]:
        query = f"SELECT rowid, name, of_table, sql FROM main.{KEPT} WHERE kind = ? ORDER BY rowid"
        return self._file.execute(query, (kind,)).fetchall()


def in_sqlite(create: exp.Create) -> exp.Create:
    """Return a CREATE TABLE as SQLite takes it, but for types and names.

    A value of an identity column comes from a function; a key's columns are never NULL.
    """
    made = create.copy()
    table = DeclaredTable(made)
    in_keys = {
        name.casefold() for key in table.unique_keys() if key.primary for name in key.columns
    }
    for column in table.columns:
        kept = []
        for each in column.constraints:
            kind = each.kind
            if isinstance(kind, exp.CollateColumnConstraint):
                continue
            if isinstance(kind, exp.GeneratedAsIdentityColumnConstraint):
                place = exp.Literal.string(f"{table.name}.{column.name}")
                start, step = kind.args["start"], kind.args["increment"]
                drawn = exp.Anonymous(this="yeldro_next", expressions=[place, start, step])
                kind = exp.DefaultColumnConstraint(this=exp.Paren(this=drawn))
            elif isinstance(kind, exp.DefaultColumnConstraint):
                kind = exp.DefaultColumnConstraint(this=exp.Paren(this=kind.this.copy()))
            elif isinstance(kind, exp.ComputedColumnConstraint):
                kind = exp.ComputedColumnConstraint(
                    this=exp.Paren(this=kind.this.copy()), persisted=kind.args["persisted"]
                )
            kept.append(exp.ColumnConstraint(kind=kind))
        if column.name.casefold() in in_keys:
            kept.insert(0, exp.ColumnConstraint(kind=exp.NotNullColumnConstraint()))
        column.set("constraints", kept)
    return made


@lru_cache(_REMEMBERED)
def _table(text: str) -> DeclaredTable:
    """Return a table that was declared; nobody may change it, as it is kept."""
    create = sqlglot.parse_one(text, dialect="tsql")
    if not isinstance(create, exp.Create):
        raise TypeError(f"what was kept of a table makes none: {text}")
    return DeclaredTable(create)


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
