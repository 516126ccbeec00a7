"""Making, changing and dropping tables in the stand-in, and what their columns may be given."""

from __future__ import annotations

import sqlite3
from collections.abc import Callable, Collection
from typing import Any

from sqlglot import exp

from yeldro.standins.sqlserver.declared import (
    Declared,
    DeclaredTable,
    column_in_sqlite,
    like,
    quoted,
    type_name,
)
from yeldro.standins.sqlserver.functions import CHECKED, stored
from yeldro.standins.sqlserver.reader import NewTrigger, read_trigger
from yeldro.standins.sqlserver.refusals import ReadError

_NOT_YET = ("timestamp", "xml", "sql_variant", "hierarchyid", "geography", "geometry")

_OF_NULLS = "nulls of "  # the beginning of the name of an index beside a unique key


class Definitions:
    """The tables of one session.

    Args:
        file: SQLite's connection.
        drawn: the last value of each identity column.
        written: returns a statement in SQLite's words.
    """

    def __init__(
        self,
        file: sqlite3.Connection,
        drawn: dict[str, int],
        written: Callable[[exp.Expr], str],
    ) -> None:
        self.declared = Declared(file)
        self.identity_insert = ""
        self.refused: ReadError | None = None
        self._file = file
        self._drawn = drawn
        self._written = written
        file.create_function("yeldro_next", 3, self._next)
        file.create_function("yeldro_stored", 2, self._stored)

    def define(self, statement: exp.Expr) -> None:
        """Make, change, empty or drop a table, index or view, and keep what is declared."""
        match statement:
            case exp.Alter():
                self._alter(statement)
            case exp.TruncateTable():
                self._truncate(statement.expressions[0])
            case exp.Drop() if statement.kind == "TRIGGER":
                for each in statement.args["tables"]:
                    self.declared.forget(each.name)
            case exp.Drop():
                for each in statement.args["tables"]:
                    self._drop(statement, each)
            case exp.Create():
                place = statement.this.find(exp.Table)
                name = statement.this.this.name
                self._check_types(statement)
                self._file.execute(self._written(statement))
                if not place.this.args.get("temporary"):
                    if statement.kind == "TABLE":
                        self._check_paths(DeclaredTable(statement))
                        self._check_what_is_stored(DeclaredTable(statement))
                    self.declared.keep(str(statement.kind).lower(), name, place.name, statement)
                    if statement.kind != "VIEW":
                        self._let_one_null_in(self._table_called(place.name))

    def define_trigger(self, made: NewTrigger) -> None:
        """Keep a trigger; whoever changes rows of its table fires it."""
        table = self._table_called(made.table)
        if self.declared.has("trigger", made.name):
            raise ReadError(2714, f"There is already an object named '{made.name}'.")
        self.declared.keep_text("trigger", made.name, table.name, made.text)

    def with_triggers(self) -> list[DeclaredTable]:
        """Return the tables that have a trigger."""
        names = {of_table for _, _, of_table, _ in self.declared.triggers()}
        return [self._table_called(name) for name in sorted(names)]

    def fired_by(self, table: str, event: str) -> list[NewTrigger]:
        """Return the triggers of a table that an event fires."""
        made = (read_trigger(text) for _, _, _, text in self.declared.triggers())
        return [
            each for each in made
            if each.table.casefold() == table.casefold() and event in each.events
        ]  # fmt: skip

    def check_fired(self, table: str, event: str) -> None:
        """Refuse a statement whose place a trigger takes.

        Raises:
            ReadError: there is one.
        """
        if any(each.instead for each in self.fired_by(table, event)):
            raise ReadError(50000, "The stand-in carries out no INSTEAD OF trigger.")

    def _check_paths(self, table: DeclaredTable) -> None:
        """Refuse a table whose foreign keys lead one deletion to a table twice, or in a circle.

        Raises:
            ReadError: a declared action would be carried out on some table more than once.
        """
        others = [each for _, each in self.declared.tables() if each.name != table.name]
        actions: dict[str, list[tuple[str, bool, str]]] = {}
        for each in (*others, table):
            for link in each.links():
                if link.on_delete != "NO_ACTION":
                    goes = link.on_delete == "CASCADE"
                    child = each.name.casefold()
                    actions.setdefault(link.parent.casefold(), []).append((child, goes, link.name))
        for start in actions:
            met, waiting = {start}, [start]
            while waiting:
                for child, goes, name in actions.get(waiting.pop(), ()):
                    if child in met:
                        raise ReadError(
                            1785,
                            f"Introducing FOREIGN KEY constraint '{name}' on table '{child}' may "
                            "cause cycles or multiple cascade paths. Specify ON DELETE NO ACTION "
                            "or ON UPDATE NO ACTION, or modify other FOREIGN KEY constraints.",
                        )
                    met.add(child)
                    waiting += [child] if goes else []

    def _check_types(self, statement: exp.Create) -> None:
        for column in statement.this.find_all(exp.ColumnDef):
            name = type_name(column.kind).partition("(")[0] if column.kind else ""
            if name and column.find(exp.ComputedColumnConstraint):
                raise ReadError(156, "Incorrect syntax near the keyword 'AS'.")
            if name in _NOT_YET:
                raise ReadError(50000, f"The stand-in has no columns of the type {name} yet.")

    def _check_what_is_stored(self, table: DeclaredTable) -> None:
        """Make SQLite give each value to the function that converts it to the column's type."""
        name = quoted(table.name)
        sets, differ = [], []
        for column in table.columns:
            declared = type_name(column.kind) if column.kind else ""
            kind = declared.partition("(")[0]
            if kind in CHECKED and not column.find(exp.ComputedColumnConstraint):
                own = quoted(column.name)
                sets.append(f"{own} = yeldro_stored('{declared}', {own})")
                differ.append(
                    f"(NEW.{own} COLLATE BINARY) IS NOT yeldro_stored('{declared}', NEW.{own})"
                )
        self._drop_checks(table)
        for event in ("INSERT", "UPDATE") if sets else ():
            trigger = f"main.{quoted(f'yeldro {event} {table.name}')}"
            self._file.execute(
                f"CREATE TRIGGER {trigger} AFTER {event} ON {name} WHEN {' OR '.join(differ)} "
                f"BEGIN UPDATE {name} SET {', '.join(sets)} WHERE rowid = NEW.rowid; END"
            )

    def _drop_checks(self, table: DeclaredTable) -> None:
        for event in ("INSERT", "UPDATE"):
            trigger = f"main.{quoted(f'yeldro {event} {table.name}')}"
            self._file.execute(f"DROP TRIGGER IF EXISTS {trigger}")

    def _stored(self, declared: str, value: Any) -> Any:
        """Return a value as a column holds it; note why it cannot, as SQLite does not tell."""
        try:
            return stored(declared, value)
        except ReadError as error:
            self.refused = error
            raise

    def _alter(self, statement: exp.Alter) -> None:
        """Add a column or a constraint, or drop a constraint."""
        table = DeclaredTable(self._table_called(statement.this.name).create.copy())
        for action in statement.args["actions"]:
            if isinstance(action, exp.AddConstraint):
                for each in action.expressions:
                    self._add_constraint(table, each)
            elif isinstance(action, exp.ColumnDef):
                table.add(action.copy())
                added = action.copy()
                column_in_sqlite(added, table)
                name = quoted(table.name)
                change = f"ALTER TABLE {name} ADD COLUMN "
                self._file.execute(change + self._written(added))
                if not table.is_never_null(action):  # only new rows get the default
                    self._file.execute(f"UPDATE main.{name} SET {quoted(action.name)} = NULL")
                self._check_what_is_stored(table)
            elif isinstance(action, exp.Drop) and action.args.get("kind") == "COLUMN":
                change = f"ALTER TABLE {quoted(table.name)} DROP COLUMN "
                name = action.args["tables"][0].name
                table.drop_column(name)
                self._drop_checks(table)
                self._file.execute(change + quoted(name))
                self._check_what_is_stored(table)
            elif isinstance(action, exp.Drop) and action.args.get("kind") == "CONSTRAINT":
                name = action.args["tables"][0].name
                if not table.drop_constraint(name):
                    raise ReadError(3728, f"'{name}' is not a constraint.")
                for index in (name, _OF_NULLS + name):
                    self._file.execute(f"DROP INDEX IF EXISTS main.{quoted(index)}")
                self._rewrite(table)
            else:
                raise ReadError(50000, f"The stand-in cannot do this yet: {statement.sql('tsql')}")
        self.declared.changed(table)

    def _add_constraint(self, table: DeclaredTable, added: exp.Expr) -> None:
        """Add one; a key becomes an index, the others are written into SQLite's catalogue."""
        before = set(table.unique_keys())
        table.add(added.copy())
        keys = [each for each in table.unique_keys() if each not in before]
        for key in keys:
            columns = ", ".join(map(quoted, key.columns))
            on = f"{quoted(table.name)} ({columns})"
            self._file.execute(f"CREATE UNIQUE INDEX main.{quoted(key.name)} ON {on}")
        self._let_one_null_in(table)
        if not keys:
            self._check_paths(table)
            self._rewrite(table)
            check = f"PRAGMA main.foreign_key_check({quoted(table.name)})"
            if self._file.execute(check).fetchone():
                raise sqlite3.IntegrityError("FOREIGN KEY constraint failed")

    def _let_one_null_in(self, table: DeclaredTable) -> None:
        """Make NULL equal NULL in unique keys and indexes, as SQLite does not do by itself."""
        never = {each.name for each in table.columns if table.is_never_null(each)}
        for key in (*table.unique_keys(), *self.declared.indexes(table.name)):
            nullable = [name for name in key.columns if name not in never]
            if key.unique and nullable and not key.filtered:
                parts = [quoted(name) for name in key.columns if name not in nullable]
                for column in table.columns:
                    if column.name in nullable:
                        collation = table.collation_of(column)
                        compared = f" COLLATE {like(collation)}" if collation else ""
                        name = quoted(column.name)
                        parts += [f"{name} IS NULL", f"ifnull({name}, 0){compared}"]
                index = f"main.{quoted(_OF_NULLS + key.name)}"
                on = f"{quoted(table.name)} ({', '.join(parts)})"
                self._file.execute(f"CREATE UNIQUE INDEX IF NOT EXISTS {index} ON {on}")

    def _rewrite(self, table: DeclaredTable) -> None:
        """Put a table's constraints into SQLite's catalogue (sqlite.org/pragma, writable_schema).

        Those that are indexes, as they were added later, stay out.
        """
        indexes = "SELECT name FROM main.sqlite_master WHERE type = 'index' AND sql IS NOT NULL"
        apart = {name for (name,) in self._file.execute(indexes)}
        made = DeclaredTable(table.create.copy())
        for each in list(made.create.this.expressions):
            if isinstance(each, exp.Constraint) and each.name in apart:
                each.pop()
        change = "UPDATE main.sqlite_master SET sql = ? WHERE type = 'table' AND name = ?"
        self._file.execute("PRAGMA writable_schema = ON")
        self._file.execute(change, (self._written(made.create), table.name))
        self._file.execute("PRAGMA writable_schema = RESET")
        (version,) = self._file.execute("PRAGMA main.schema_version").fetchone()
        self._file.execute(f"PRAGMA main.schema_version = {version + 1}")

    def _truncate(self, place: exp.Table) -> None:
        table = self._table_called(place.name)
        for _, other in self.declared.tables():
            if any(link.parent.casefold() == table.name.casefold() for link in other.links()):
                raise ReadError(
                    4712,
                    f"Cannot truncate table '{table.name}' because it is being referenced by a "
                    "FOREIGN KEY constraint.",
                )
        self._file.execute(f"DELETE FROM main.{quoted(table.name)}")
        self._drawn.pop(f"{table.name}.{table.identity()}".casefold(), None)

    def _drop(self, statement: exp.Drop, place: exp.Table) -> None:
        dropped = statement.copy()
        dropped.set("cluster", None)
        dropped.set("tables", [place.copy()])
        if not place.this.args.get("temporary"):
            for _, other in self.declared.tables() if statement.kind == "TABLE" else ():
                parents = {link.parent.casefold() for link in other.links()}
                if (
                    place.name.casefold() in parents
                    and other.name.casefold() != place.name.casefold()
                ):
                    raise ReadError(
                        3726,
                        f"Could not drop object '{place.name}' because it is referenced by a "
                        "FOREIGN KEY constraint.",
                    )
            self.declared.forget(place.name)
        if statement.kind == "INDEX":
            self._file.execute(f"DROP INDEX IF EXISTS main.{quoted(_OF_NULLS + place.name)}")
        self._file.execute(self._written(dropped))

    def _table_called(self, name: str) -> DeclaredTable:
        table = self.declared.table(name)
        if table is None:
            raise ReadError(4902, f'Cannot find the object "{name}".')
        return table

    def check_columns(self, statement: exp.Expr) -> None:
        """Refuse values for columns that the server fills itself.

        Raises:
            ReadError: the statement gives one to an identity column, or to a computed one.
        """
        if not isinstance(statement, exp.Insert | exp.Update):
            return
        place = statement.find(exp.Table)
        table = self.declared.table(place.name) if place is not None else None
        if table is None:
            return
        if isinstance(statement, exp.Insert):
            named = [each.name for each in getattr(statement.this, "expressions", [])]
        else:
            named = [each.this.name for each in statement.expressions]
        given = {name.casefold() for name in named}
        self._check_identity(statement, table, given)
        for column in table.columns:
            if column.name.casefold() in given and column.find(exp.ComputedColumnConstraint):
                raise ReadError(
                    271,
                    f'The column "{column.name}" cannot be modified because it is either a '
                    "computed column or is the result of a UNION operator.",
                )

    def _check_identity(
        self, statement: exp.Expr, table: DeclaredTable, given: Collection[str]
    ) -> None:
        identity = (table.identity() or "").casefold()
        is_on = self.identity_insert.casefold() == table.name.casefold()
        if identity in given and isinstance(statement, exp.Update):
            raise ReadError(8102, f"Cannot update identity column '{identity}'.")
        if identity in given and not is_on:
            raise ReadError(
                544,
                f"Cannot insert explicit value for identity column in table '{table.name}' when "
                "IDENTITY_INSERT is set to OFF.",
            )
        if identity and identity not in given and is_on and isinstance(statement, exp.Insert):
            raise ReadError(
                545,
                f"Explicit value must be specified for identity column in table '{table.name}' "
                "when IDENTITY_INSERT is set to ON.",
            )

    def _next(self, name: str, start: int, step: int) -> int:
        """Return the next value of an identity column."""
        name = name.casefold()
        self._drawn[name] = self._drawn[name] + step if name in self._drawn else start
        return self._drawn[name]
