"""Random schemas with every kind of foreign key, random rows, and what SQLite itself does."""

from __future__ import annotations

import random
import sqlite3
from collections.abc import Iterator, Sequence
from dataclasses import dataclass, field, replace
from pathlib import Path
from typing import Any

ACTIONS = ("CASCADE", "SET NULL", "SET DEFAULT", "NO ACTION", "RESTRICT")
NAMES = ("mast", "Lamp Post", "order", 'qu"ote', "bÖje", "semi;colon", "per%cent", "co:lon")


def quoted(name: str) -> str:
    return '"' + name.replace('"', '""') + '"'


@dataclass(frozen=True)
class Link:
    """A foreign key from `columns` of table number `child` to a key of table number `parent`.

    Args:
        computed: the columns are generated, each from another of the same row.
    """

    child: int
    columns: tuple[str, ...]
    parent: int
    referenced: tuple[str, ...]
    action: str
    nullable: bool
    computed: bool = False


@dataclass(frozen=True)
class Made:
    """One table: its key columns, its unique columns, and how it is declared.

    Args:
        blind: a text key is compared without case.
        computed: how the first unique column is generated from the key ("STORED", "VIRTUAL"),
            or "" where it is not.
        schema: where it is, for systems that have schemas.
    """

    name: str
    key: tuple[str, ...]
    unique: tuple[str, ...]
    options: str
    text_key: bool
    generated: bool
    blind: bool
    computed: str = ""
    schema: str = ""

    @property
    def written(self) -> str:
        """The name in SQL."""
        return ".".join(quoted(each) for each in (self.schema, self.name) if each)


@dataclass(frozen=True)
class Case:
    """A schema with rows, and which rows of which table are to go.

    Args:
        rows: for every table, rows as values by column.
        target: number of the table that rows are removed from, those with `mark` below `below`.
        choices: overriding treatment ("follow", "detach") by link number.
    """

    tables: tuple[Made, ...]
    links: tuple[Link, ...]
    rows: tuple[tuple[dict[str, Any], ...], ...]
    target: int
    below: int
    choices: dict[int, str] = field(default_factory=dict)

    def columns(self, number: int) -> dict[str, str]:
        """The columns of a table that hold values of their own, each with its name in `rows`."""
        table = self.tables[number]
        unique = table.unique[1:] if table.computed else table.unique
        found = {name: name for name in (*table.key, *unique, "mark")}
        for link in self.links:
            if link.child == number:
                found |= {_source(name, link): name for name in link.columns}
        return found

    def insert(self, number: int, mark: str) -> str:
        """Return the statement that adds a row, with a mark in the place of every value."""
        names = self.columns(number)
        listed, holes = ", ".join(map(quoted, names)), ", ".join([mark] * len(names))
        return f"INSERT INTO {self.tables[number].written} ({listed}) VALUES ({holes})"

    def values(self, number: int) -> list[list[Any]]:
        """Return the values of every row, as `insert` wants them."""
        names = self.columns(number).values()
        return [[row[name] for name in names] for row in self.rows[number]]

    def declared(self, number: int, inline_keys: bool = True) -> str:
        """Return the CREATE TABLE statement, with the foreign keys or without them."""
        table = self.tables[number]
        kind = "TEXT" if table.text_key else "INTEGER"
        collation = " COLLATE NOCASE" if table.text_key and table.blind else ""
        parts = [f"{quoted(name)} {kind}{collation} NOT NULL" for name in table.key]
        parts += [f"{quoted(name)} INTEGER" for name in table.unique]
        if table.computed:
            own = quoted(table.key[0])
            parts[len(table.key)] += f" GENERATED ALWAYS AS ({own}) {table.computed}"
        parts.append("mark INTEGER NOT NULL")
        for link in self.links:
            if link.child == number:
                parent_text = self.tables[link.parent].text_key
                to_key = link.referenced == self.tables[link.parent].key
                kind = "TEXT" if parent_text and to_key else "INTEGER"
                null = "" if link.nullable else " NOT NULL"
                default = " DEFAULT 'k1'" if kind == "TEXT" else " DEFAULT 1"
                default = default if link.action == "SET DEFAULT" else ""
                own = [_source(name, link) for name in link.columns]
                parts += [f"{quoted(name)} {kind}{null}{default}" for name in own]
                if link.computed:
                    parts += [
                        f"{quoted(name)} {kind} GENERATED ALWAYS AS ({quoted(source)}) STORED"
                        for name, source in zip(link.columns, own, strict=True)
                    ]
        if table.generated:
            parts.append("doubled INTEGER GENERATED ALWAYS AS (mark * 2) STORED")
        if table.key:
            parts.append(f"PRIMARY KEY ({', '.join(map(quoted, table.key))})")
        if table.unique:
            parts.append(f"UNIQUE ({', '.join(map(quoted, table.unique))})")
        if inline_keys:
            parts += [self.foreign_key(link) for link in self.links if link.child == number]
        return f"CREATE TABLE {table.written} ({', '.join(parts)}){table.options}"

    def foreign_key(self, link: Link) -> str:
        """Return the FOREIGN KEY clause."""
        return (
            f"FOREIGN KEY ({', '.join(map(quoted, link.columns))}) REFERENCES "
            f"{self.tables[link.parent].written} "
            f"({', '.join(map(quoted, link.referenced))}) ON DELETE {link.action}"
        )

    def in_standard_sql(self) -> Case:
        """The same case without what only SQLite has: table options, and keys without case."""
        tables = tuple(
            replace(table, options="", blind=False, computed=table.computed and "STORED")
            for table in self.tables
        )
        rows = tuple(
            tuple(
                {name: v.lower() if isinstance(v, str) else v for name, v in row.items()}
                for row in each
            )
            for each in self.rows
        )
        return replace(self, tables=tables, rows=rows)

    def create(self, path: Path) -> None:
        """Make the database; foreign keys are checked for all rows at the end."""
        connection = sqlite3.connect(path, isolation_level=None)
        connection.executescript("PRAGMA journal_mode = OFF; PRAGMA synchronous = OFF; BEGIN;")
        for number in range(len(self.tables)):
            connection.execute(self.declared(number))
            connection.executemany(self.insert(number, "?"), self.values(number))
        connection.execute("COMMIT")
        assert connection.execute("PRAGMA foreign_key_check").fetchall() == []
        connection.close()

    def as_sqlite_would_treat_it(self) -> Case:
        """Return the same case with the user's choices declared, for SQLite to carry out.

        Two rules of Yeldro differ from SQLite's on purpose, since it removes blocking rows that go
        anyway first: restrict is checked at the end, and so is NOT NULL of a column set to NULL.
        """
        chosen = {"follow": "CASCADE", "detach": "SET NULL"}
        links = []
        for number, link in enumerate(self.links):
            action = chosen.get(self.choices.get(number, ""), link.action)
            action = "NO ACTION" if action == "RESTRICT" else action
            sets_null = action == "SET NULL"
            links.append(replace(link, action=action, nullable=link.nullable or sets_null))
        return replace(self, links=tuple(links), choices={})

    def with_changes_last(self) -> Case:
        """The same case with the keys that SQLite acts on last, those that change rows, first.

        SQLite acts key by key; where it first changes a row that it removes after, it can miscount
        and refuse what leaves no row hanging.
        """
        changing = ("SET NULL", "SET DEFAULT")
        links = sorted(self.links, key=lambda link: link.action not in changing)
        return replace(self, links=tuple(links))

    def changed_and_removed(self) -> bool:
        """True if some row is removed on one path and changed on another, by a naive fixpoint.

        SQLite acts key by key; a row that it changes first and removes after can make it count a
        missing parent twice, and refuse what leaves no row hanging, whatever the order of the keys.
        """
        removed = self._removed()
        return bool(removed & set(self._dependents(removed, ("SET NULL", "SET DEFAULT"))))

    def references_itself_loosely(self) -> bool:
        """True if some row references itself by a key equal but for case, now or at the end.

        SQLite compares a row's key with its own foreign key byte by byte, in place of by the key's
        collation, and counts such a row as one without a parent.
        """
        return any(
            [row[name] for name in link.columns] != [row[name] for name in link.referenced]
            and self._compared(row, link.columns, link)
            == self._compared(row, link.referenced, link)
            for rows in (self.rows, self.outcome() or ())
            for link in self.links
            if link.child == link.parent and rows
            for row in rows[link.child]
        )

    def outcome(self) -> tuple[tuple[dict[str, Any], ...], ...] | None:
        """Return the rows that are left, by a naive fixpoint; None where rows stand in the way."""
        removed = self._removed()
        blocking = set(self._dependents(removed, ("NO ACTION", "RESTRICT")))
        if blocking - removed:
            return None
        left = [[dict(row) for row in rows] for rows in self.rows]
        for link in self.links:
            if link.action in ("SET NULL", "SET DEFAULT"):
                one = replace(self, links=(link,))
                for table, place in set(one._dependents(removed, (link.action,))) - removed:
                    default = "k1" if self._is_text(link) else 1
                    value = default if link.action == "SET DEFAULT" else None
                    left[table][place] |= dict.fromkeys(link.columns, value)
        return tuple(
            tuple(row for place, row in enumerate(rows) if (table, place) not in removed)
            for table, rows in enumerate(left)
        )

    def lacks_parents(self, rows: Sequence[Sequence[dict[str, Any]]]) -> bool:
        """True if one of these rows has a foreign key and no parent row among them."""
        for link in self.links:
            parents = {self._compared(row, link.referenced, link) for row in rows[link.parent]}
            for row in rows[link.child]:
                value = self._compared(row, link.columns, link)
                if None not in value and value not in parents:
                    return True
        return False

    def holds_null_where_not_allowed(self, rows: Sequence[Sequence[dict[str, Any]]]) -> bool:
        """True if one of these rows holds NULL in a column that is declared NOT NULL."""
        return any(
            row[name] is None
            for link in self.links
            if not link.nullable
            for row in rows[link.child]
            for name in link.columns
        )

    def _is_text(self, link: Link) -> bool:
        parent = self.tables[link.parent]
        return parent.text_key and link.referenced == parent.key

    def _removed(self) -> set[tuple[int, int]]:
        """Return the rows that go, as (table, place), by a naive fixpoint."""
        removed = {
            (self.target, place)
            for place, row in enumerate(self.rows[self.target])
            if row["mark"] < self.below
        }
        before = 0
        while len(removed) > before:
            before = len(removed)
            removed |= set(self._dependents(removed, ("CASCADE",)))
        return removed

    def _dependents(
        self, removed: set[tuple[int, int]], actions: Sequence[str]
    ) -> Iterator[tuple[int, int]]:
        for link in self.links:
            gone = {
                self._compared(self.rows[table][place], link.referenced, link)
                for table, place in removed
                if table == link.parent and link.action in actions
            }
            for place, row in enumerate(self.rows[link.child]):
                value = self._compared(row, link.columns, link)
                if None not in value and value in gone:
                    yield link.child, place

    def _compared(self, row: dict[str, Any], columns: Sequence[str], link: Link) -> tuple[Any, ...]:
        parent = self.tables[link.parent]
        folded = parent.text_key and parent.blind and link.referenced == parent.key
        return tuple(
            row[name].lower() if folded and row[name] is not None else row[name] for name in columns
        )

    def null_where_not_allowed(self, connection: sqlite3.Connection) -> bool:
        """True if a column that is declared NOT NULL in this case holds NULL in the database."""
        return any(
            connection.execute(
                f"SELECT 1 FROM {quoted(self.tables[link.child].name)} WHERE {quoted(name)} IS NULL"
            ).fetchone()
            for link in self.links
            if not link.nullable
            for name in link.columns
        )


def _source(name: str, link: Link) -> str:
    """Return the column that holds the values of a foreign key's column."""
    return f"of {name}" if link.computed else name


def random_case(number: int, *, choose: bool = False) -> Case:
    """Return a case of 1 to 8 tables with up to 12 foreign keys between any of them."""
    chance = random.Random(number)
    sizes = chance.randint(1, 8), chance.randint(0, 12), chance.randint(2, 12)
    return make_case(chance, *sizes, choose)


def make_case(chance: random.Random, tables: int, links: int, most_rows: int, choose: bool) -> Case:
    """Return a case of so many tables, foreign keys, and at most so many rows in each table."""
    names = chance.sample(NAMES, tables)
    made = tuple(_table(chance, names[place], place) for place in range(tables))
    drawn = [_link(chance, made, place) for place in range(links)]
    rows, kept = _rows(chance, made, [link for link in drawn if link], most_rows)
    choices = {}
    for place, link in enumerate(kept):
        choice = chance.choice(["", "", "follow", "detach"]) if choose else ""
        if choice == "follow" or (choice and link.nullable and not link.computed):
            choices[place] = choice
    parents = [link.parent for link in kept if rows[link.parent]]
    target = chance.choice(parents or range(tables))
    below = chance.choice([row["mark"] for row in rows[target]] or [0]) + 1
    return Case(made, tuple(kept), rows, target, below, choices)


def _table(chance: random.Random, name: str, place: int) -> Made:
    key = tuple(f"k{place}{each}" for each in range(chance.choice([0, 1, 1, 1, 2])))
    unique = chance.choice([(), ("u",), ("u", "É")])
    options = chance.choice(["", "", " WITHOUT ROWID" if key else "", " STRICT"])
    text_key, generated = chance.random() < 0.5, chance.random() < 0.2
    computed = chance.choice(["", "STORED", "VIRTUAL"]) if key and unique and not text_key else ""
    return Made(name, key, unique, options, text_key, generated, not options, computed)


def _link(chance: random.Random, tables: Sequence[Made], place: int) -> Link | None:
    child, parent = chance.randrange(len(tables)), chance.randrange(len(tables))
    keys = [key for key in (tables[parent].key, tables[parent].unique) if key]
    if not keys:
        return None
    referenced = chance.choice(keys)
    columns = tuple(f"f{place} {each}" for each in range(len(referenced)))
    action = chance.choice([*ACTIONS, "CASCADE", "CASCADE", "CASCADE"])
    nullable, computed = chance.random() < 0.75, chance.random() < 0.2
    computed = computed and not action.startswith("SET")
    return Link(child, columns, parent, referenced, action, nullable, computed)


def _rows(
    chance: random.Random, tables: Sequence[Made], links: list[Link], most_rows: int
) -> tuple[tuple[tuple[dict[str, Any], ...], ...], list[Link]]:
    """Rows with distinct keys, then links that lead to rows that are there, or hold a NULL."""
    rows: list[list[dict[str, Any]]] = []
    for table in tables:
        made = []
        for number in range(1, chance.randint(0, most_rows) + 1):
            key = f"{'kK'[number % 2]}{number}" if table.text_key else number
            row: dict[str, Any] = dict.fromkeys(table.key[:1], key)
            row |= dict.fromkeys(table.key[1:], "k1" if table.text_key else 1)
            row |= dict.fromkeys(table.unique, number)
            free = table.unique[1:] if table.computed else table.unique
            if free and chance.random() < 0.2:
                row[chance.choice(free)] = None
            row["mark"] = chance.randint(0, 3)
            made.append(row)
        rows.append(made)
    kept = []
    for link in links:
        parents = [
            [row[name] for name in link.referenced]
            for row in rows[link.parent]
            if None not in [row[name] for name in link.referenced]
        ]
        kept.append(replace(link, nullable=link.nullable or not parents))
        for row in rows[link.child]:
            values = list(chance.choice(parents)) if parents else [None] * len(link.columns)
            if kept[-1].nullable and chance.random() < 0.3:
                values[chance.randrange(len(values))] = None
            if isinstance(values[0], str) and tables[link.parent].blind:
                values[0] = chance.choice([values[0].upper(), values[0].lower()])
            row |= dict(zip(link.columns, values, strict=True))
    return tuple(tuple(each) for each in rows), kept


def rows_by_table(path: Path) -> dict[str, list[tuple[Any, ...]]]:
    """Every table's rows in an order of their own."""
    connection = sqlite3.connect(path)
    try:
        listed = connection.execute("SELECT name FROM sqlite_master WHERE type = 'table'")
        names = [row[0] for row in listed]
        return {
            name: sorted(connection.execute(f"SELECT * FROM {quoted(name)}").fetchall(), key=repr)
            for name in names
        }
    finally:
        connection.close()
