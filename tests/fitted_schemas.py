"""Random schemas with what one system has and another has not, and triggers.

PostgreSQL: partitions of one and two levels with foreign keys on, to and from them, tables that
inherit, deferrable keys, schemas with the same table names. MariaDB: several databases, partitioned
tables, tables without transactions, collations as keys, invisible and virtual columns. SQL Server:
identity columns, indexes with a filter, keys without case. On all: triggers that change their own
row or other rows, that add or remove rows, or stop a removal.
"""

from __future__ import annotations

import random
import re
import sqlite3
from collections.abc import Sequence
from dataclasses import dataclass, replace
from pathlib import Path
from typing import Any, Protocol

import psycopg
import pymysql
from on_sqlserver import SqlServerSchema, for_sql_server
from random_schemas import Case, Link, Made, make_case, quoted
from systems import MariadbServerDatabase, PostgresqlServerDatabase, SqlServerDatabase

OWN_ROW = ("stamp", "arrival")  # triggers that change the row they run for
OTHER_ROWS = ("log", "touches", "takes")
TRIGGERS = (*OWN_ROW, *OTHER_ROWS, "keeps")
EVENTS = {"stamp": "UPDATE", "arrival": "INSERT"}  # of all others DELETE
LOG = "CREATE TABLE {} (id INTEGER, mark INTEGER)"


@dataclass(frozen=True)
class Fit:
    """What a table has besides its columns.

    Args:
        parts: into how many partitions it is cut; with three, two of them are one's partitions.
        heir: another table inherits from it.
        triggers: their kinds.
        other: number of the table that its triggers change.
        engine: of a table without transactions.
    """

    parts: int = 0
    heir: bool = False
    triggers: tuple[str, ...] = ()
    other: int = 0
    engine: str = ""


@dataclass(frozen=True)
class Fitted:
    """A case with its fittings.

    Args:
        ends: for every foreign key on which part or heir of its child it is declared, and to which
            of its parent; None for the whole table.
        late: for every foreign key when it is checked.
        in_path: tables of the first schema are found without its name.
        collation: of text keys; of what references them too, but for "one.ci" (PostgreSQL).
    """

    case: Case
    fits: tuple[Fit, ...]
    ends: tuple[tuple[int | None, int | None], ...]
    late: tuple[str, ...]
    in_path: bool
    collation: str

    @property
    def triggers(self) -> set[str]:
        return {kind for fit in self.fits for kind in fit.triggers}

    def declared(self) -> Fitted:
        """Return the same with the user's choices declared, and every key checked at the commit."""
        late = tuple("DEFERRABLE INITIALLY DEFERRED" for _ in self.late)
        return replace(self, case=self.case.as_sqlite_would_treat_it(), late=late)


def fitted(system: str, seed: int) -> Fitted:
    """Return the case with a number, with fittings that a system has."""
    chance = random.Random(f"{system} {seed}")
    sizes = chance.randint(1, 5), chance.randint(0, 7), chance.randint(2, 8)
    case = make_case(chance, *sizes, choose=chance.random() < 0.5)
    plain = chance.random() < 0.4
    number = len(case.tables)
    links = tuple(_suited(system, link) for link in case.links)
    case = replace(case, links=links)
    blurred = chance.random() < 0.3
    if system == "sqlserver":
        case = for_sql_server(case)
    if system == "postgresql":
        case = _without_options(case) if blurred else case.in_standard_sql()
        case = replace(case, tables=_in_schemas(chance, case.tables))
    fits = tuple(
        Fit(
            parts=chance.choice([0, 2, 3]),
            heir=chance.random() < 0.4,
            triggers=() if plain else _triggers(chance),
            other=chance.randrange(number),
            engine=chance.choice(["", "", "MyISAM", "Aria"]),
        )
        for _ in range(number)
    )
    parts = [None, None, 0, 1, 2]
    ends = tuple((chance.choice(parts), chance.choice(parts)) for _ in links)
    late = tuple(
        chance.choice(["", "", "DEFERRABLE", "DEFERRABLE INITIALLY DEFERRED"]) for _ in links
    )
    collation = chance.choice(["utf8mb4_bin", "utf8mb4_general_ci", "utf8mb4_unicode_ci"])
    if system == "mariadb":
        case = _collated(chance, case, collation)
    elif blurred:
        collation = chance.choice(["one.ci", "one.ci everywhere"])
    return Fitted(case, fits, ends, late, chance.random() < 0.5, collation)


def _suited(system: str, link: Link) -> Link:
    """What is set to NULL can be NULL; InnoDB knows no SET DEFAULT."""
    if system == "mariadb" and link.action == "SET DEFAULT":
        link = replace(link, action="NO ACTION")
    return replace(link, nullable=True) if link.action == "SET NULL" else link


def _triggers(chance: random.Random) -> tuple[str, ...]:
    kinds = [*TRIGGERS, "log", "stamp"]
    return tuple({chance.choice(kinds) for _ in range(chance.choice([0, 0, 1, 1, 2]))})


def _in_schemas(chance: random.Random, tables: Sequence[Made]) -> tuple[Made, ...]:
    """Return the tables in two schemas, some with the name of one in the other."""
    placed: list[Made] = []
    for table in tables:
        schema = chance.choice(["one", "two"])
        free = [each.name for each in placed if each.schema != schema and each.name not in
                {other.name for other in placed if other.schema == schema}]  # fmt: skip
        name = chance.choice([table.name, *free[:1]])
        placed.append(replace(table, name=name, schema=schema))
    return tuple(placed)


def _without_options(case: Case) -> Case:
    return replace(case, tables=tuple(
        replace(table, options="", computed=table.computed and "STORED") for table in case.tables
    ))  # fmt: skip


def _collated(chance: random.Random, case: Case, collation: str) -> Case:
    """Without SQLite's options; where a collation compares so, links are spelled otherwise."""
    case = _without_options(case)
    if collation.endswith("_bin"):
        return case.in_standard_sql()
    spelled = [[dict(row) for row in rows] for rows in case.rows]
    for link in case.links:
        for row in spelled[link.child]:
            for name in link.columns:
                if isinstance(row[name], str):
                    word = row[name].lower()
                    row[name] = chance.choice([word, word.upper(), f"{word} ", "ḱ" + word[1:]])
    return replace(case, rows=tuple(tuple(rows) for rows in spelled))


class Site(Protocol):
    """A case that has been made in a database.

    Args:
        links: the foreign keys that could be declared, by number, with their names.
        triggers: the names of every table's triggers.
        shown: how each table is called.
    """

    url: str
    links: dict[int, str]
    triggers: dict[str, tuple[str, ...]]
    shown: list[str]

    def delete(self) -> bool:
        """Have the system carry out the plain deletion; False where it refuses."""

    def contents(self, *, stamps: bool = True) -> dict[str, list[str]]:
        """Every row of every table.

        Args:
            stamps: with the column that only triggers write.
        """

    def close(self) -> None: ...


class SqliteSite:
    """A file."""

    def __init__(self, path: Path, made: Fitted) -> None:
        path.unlink(missing_ok=True)
        self.url, self.path, case = str(path), path, made.case
        self.case = case
        case.create(path)
        self.shown = [table.name for table in case.tables]
        self.links = {n: f"{self.shown[link.child]}.{','.join(link.columns)}"
                      for n, link in enumerate(case.links)}  # fmt: skip
        self.triggers = {
            self.shown[n]: tuple(f"{kind}{n}" for kind in fit.triggers)
            for n, fit in enumerate(made.fits)
        }
        connection = sqlite3.connect(path, isolation_level=None)
        connection.execute(LOG.format("log"))
        for table in case.tables:
            connection.execute(f"ALTER TABLE {table.written} ADD stamp INTEGER DEFAULT 0")
        for number, fit in enumerate(made.fits):
            for kind in fit.triggers:
                connection.execute(self._trigger(kind, number, fit.other))
        connection.close()

    def _trigger(self, kind: str, number: int, other: int) -> str:
        table, others = self.case.tables[number], self.case.tables[other].written
        own = [quoted(name) for name in table.key] or ["rowid"]
        same = " AND ".join(f"{name} = NEW.{name}" for name in own)
        stamped = f"AFTER {{}} ON {{}} BEGIN UPDATE {table.written} SET stamp = 9 WHERE {same}; END"
        written = {
            "stamp": stamped.format("UPDATE", "{}"),
            "arrival": stamped.format("INSERT", "{}"),
            "log": f"AFTER DELETE ON {{}} BEGIN INSERT INTO log VALUES ({number}, OLD.mark); END",
            "touches": f"AFTER DELETE ON {{}} BEGIN UPDATE {others} SET stamp = 5; END",
            "takes": f"AFTER DELETE ON {{}} BEGIN DELETE FROM {others} WHERE mark = 3; END",
            "keeps": "BEFORE DELETE ON {} WHEN OLD.mark = 2 BEGIN SELECT RAISE(IGNORE); END",
        }[kind]
        return f"CREATE TRIGGER {kind}{number} " + written.replace("{}", table.written, 1)

    def delete(self) -> bool:
        connection = sqlite3.connect(self.path, isolation_level=None)
        connection.execute("PRAGMA foreign_keys = ON")
        name = self.case.tables[self.case.target].written
        try:
            connection.execute(f"DELETE FROM {name} WHERE mark < ?", (self.case.below,))
            return True
        except sqlite3.IntegrityError:
            return False
        finally:
            connection.close()

    def contents(self, *, stamps: bool = True) -> dict[str, list[str]]:
        connection = sqlite3.connect(self.path)
        found = {}
        for name in [*self.shown, *(["log"] if stamps else [])]:
            cursor = connection.execute(f"SELECT * FROM {quoted(name)}")
            kept = [place for place, column in enumerate(cursor.description)
                    if stamps or column[0] != "stamp"]  # fmt: skip
            found[name] = sorted(repr([row[place] for place in kept]) for row in cursor)
        connection.close()
        return found

    def close(self) -> None:
        """Nothing is open."""


class PostgresqlSite:
    """Two schemas of a database."""

    def __init__(self, server: PostgresqlServerDatabase, made: Fitted) -> None:
        self.made, self.case = made, made.case
        path = "one,public" if made.in_path else "public"
        self.url = f"{server.url}?options=-csearch_path%3D{path}"
        self.connection = psycopg.connect(server.url, autocommit=True)
        self.close = self.connection.close
        self.execute = self.connection.execute
        self.execute("SET client_min_messages = warning")
        self.execute("DROP SCHEMA IF EXISTS one, two CASCADE; CREATE SCHEMA one; CREATE SCHEMA two")
        self.execute(LOG.format("one.log"))
        if made.collation.startswith("one.ci"):
            collation = "provider = icu, locale = 'und-u-ks-level2', deterministic = false"
            self.execute(f"CREATE COLLATION one.ci ({collation})")
        self.pieces = [self._create(number) for number in range(len(self.case.tables))]
        self.shown = [self._shown(table) for table in self.case.tables]
        for number, rows in enumerate(map(self.case.values, range(len(self.case.tables)))):
            insert = self.case.insert(number, "?").replace("%", "%%").replace("?", "%s")
            for row in rows:
                self.execute(insert, row)
            if self._has_heir(number):
                self._move_to_heir(number)
        self.links: dict[int, str] = {}
        for number, link in enumerate(self.case.links):
            self._link(number, link)
        self.triggers: dict[str, tuple[str, ...]] = {}
        for number in range(len(self.case.tables)):
            self._add_triggers(number)

    def _shown(self, table: Made, ending: str = "") -> str:
        plain = table.schema == "one" and self.made.in_path
        return f"{table.name}{ending}" if plain else f"{table.schema}.{table.name}{ending}"

    def _cut_by(self, number: int) -> str:
        """Return the column by which a table is cut into partitions; "" where it cannot be."""
        table = self.case.tables[number]
        if not self.made.fits[number].parts or table.unique or (table.text_key and table.blind):
            return ""
        return table.key[0] if table.key else "mark"

    def _has_heir(self, number: int) -> bool:
        return self.made.fits[number].heir and not self._cut_by(number)

    def _create(self, number: int) -> list[str]:
        """Make a table; its partitions, or its heir, as they are written."""
        table, by = self.case.tables[number], self._cut_by(number)
        declared = self.case.declared(number, inline_keys=False)
        declared = declared.replace(" COLLATE NOCASE", " COLLATE one.ci")
        if self.made.collation.endswith("everywhere"):
            declared = re.sub(" TEXT(?! COLLATE)", " TEXT COLLATE one.ci", declared)
        parted = f" PARTITION BY RANGE ({quoted(by)})"
        self.execute(declared + parted if by else declared)
        self.execute(f"ALTER TABLE {table.written} ADD stamp INTEGER DEFAULT 0")
        names = [replace(table, name=f"{table.name} {n}").written for n in range(3)]
        if by:
            middle, upper = ("'k4'", "'k6'") if by != "mark" and table.text_key else (
                ("2", "3") if by == "mark" else ("4", "6"))  # fmt: skip
            three = self.made.fits[number].parts == 3
            first = f"CREATE TABLE {names[0]} PARTITION OF {table.written} FOR VALUES"
            self.execute(f"{first} FROM (MINVALUE) TO ({middle})")
            second = f"CREATE TABLE {names[1]} PARTITION OF {table.written} FOR VALUES"
            self.execute(f"{second} FROM ({middle}) TO (MAXVALUE)" + (parted if three else ""))
            if three:
                inner = f"PARTITION OF {names[1]} FOR VALUES"
                self.execute(f"CREATE TABLE {names[2]} {inner} FROM ({middle}) TO ({upper})")
                last = replace(table, name=f"{table.name} 3").written
                self.execute(f"CREATE TABLE {last} {inner} FROM ({upper}) TO (MAXVALUE)")
            return names if three else names[:2]
        if self._has_heir(number):
            unique = "".join(
                f", UNIQUE ({', '.join(map(quoted, key))})"
                for key in (table.key, table.unique)
                if key
            )
            heir = replace(table, name=f"{table.name} 0").written
            self.execute(f"CREATE TABLE {heir} (extra INTEGER DEFAULT 7{unique})"
                         f" INHERITS ({table.written})")  # fmt: skip
            return [heir]
        return []

    def _move_to_heir(self, number: int) -> None:
        """Rows with mark 1 live in the heir, those with mark 2 in both."""
        table, heir = self.case.tables[number], self.pieces[number][0]
        names = ", ".join(map(quoted, self.case.columns(number)))
        self.execute(f"INSERT INTO {heir} ({names}) SELECT {names} FROM ONLY {table.written}"
                     " WHERE mark IN (1, 2)")  # fmt: skip
        self.execute(f"DELETE FROM ONLY {table.written} WHERE mark = 1")

    def _link(self, number: int, link: Link) -> None:
        """Declares a foreign key, for rows that have a parent there; else it is left out."""
        ends = []
        for table, end in zip((link.child, link.parent), self.made.ends[number], strict=True):
            pieces = self.pieces[table]
            whole = self.case.tables[table].written
            ends.append(pieces[end] if end is not None and end < len(pieces) else whole)
        child, parent = ends
        key = self.case.foreign_key(link)
        whole = self.case.tables[link.parent].written
        key = key.replace(f"REFERENCES {whole} ", f"REFERENCES {parent} ")
        declare = f"ALTER TABLE {child} ADD {key} {self.made.late[number]}"
        there = f"SELECT {', '.join(map(quoted, link.referenced))} FROM"
        there += f" ONLY {parent}" if self._has_heir(link.parent) else f" {parent}"
        there += f" WHERE ({', '.join(map(quoted, link.referenced))}) IS NOT NULL"
        ours = ", ".join(map(quoted, link.columns))
        of = ["of " if link.computed else "", *link.columns]
        to_null = ", ".join(f"{quoted(of[0] + name)} = NULL" for name in link.columns)
        try:
            self.execute(declare)
        except psycopg.errors.ObjectInUse:  # from a part to its own whole
            return
        except psycopg.errors.ForeignKeyViolation:
            if not self.made.case.links[number].nullable:
                return
            self.execute(f"UPDATE {child} SET {to_null} WHERE ({ours}) NOT IN ({there})")
            self.execute(declare)
        ending = ""
        if child != self.case.tables[link.child].written and self._has_heir(link.child):
            ending = " 0"
        shown = self._shown(self.case.tables[link.child], ending)
        self.links[number] = f"{shown}.{','.join(link.columns)}"

    def _add_triggers(self, number: int) -> None:
        fit, table = self.made.fits[number], self.case.tables[number]
        on_piece = bool(self.pieces[number]) and fit.other % 2
        on = self.pieces[number][0] if on_piece else table.written
        others = self.case.tables[fit.other].written
        bodies = {
            "stamp": "NEW.stamp := 9; RETURN NEW;",
            "arrival": "NEW.stamp := 9; RETURN NEW;",
            "log": f"INSERT INTO one.log VALUES ({number}, OLD.mark); RETURN NULL;",
            "touches": f"UPDATE {others} SET stamp = 5; RETURN NULL;",
            "takes": f"DELETE FROM {others} WHERE mark = 3; RETURN NULL;",
            "keeps": "IF OLD.mark = 2 THEN RETURN NULL; END IF; RETURN OLD;",
        }
        for kind in fit.triggers:
            self.execute(f"CREATE FUNCTION one.{kind}{number}() RETURNS trigger LANGUAGE plpgsql"
                         f" AS $$ BEGIN {bodies[kind]} END $$")  # fmt: skip
            when = "AFTER" if kind in OTHER_ROWS else "BEFORE"
            # A constraint trigger can wait for the commit.
            waits = kind in OTHER_ROWS and (number + fit.other) % 3 == 0
            self.execute(
                f"CREATE {'CONSTRAINT ' * waits}TRIGGER {kind}{number} {when} "
                f"{EVENTS.get(kind, 'DELETE')} ON {on} "
                f"{'DEFERRABLE INITIALLY DEFERRED ' * waits}"
                f"FOR EACH ROW EXECUTE FUNCTION one.{kind}{number}()"
            )
        heir = on_piece and self._has_heir(number)
        shown = self._shown(table, " 0" if heir else "")
        self.triggers[shown] = tuple(f"{kind}{number}" for kind in fit.triggers)

    def delete(self) -> bool:
        name = self.case.tables[self.case.target].written
        try:
            with self.connection.transaction():
                self.execute(f"DELETE FROM {name} WHERE mark < {self.case.below}")
        except psycopg.errors.IntegrityError:
            return False
        return True

    def contents(self, *, stamps: bool = True) -> dict[str, list[str]]:
        listed = self.execute(
            "SELECT oid::regclass::text FROM pg_class WHERE relkind IN ('r', 'p')"
            " AND relnamespace IN ('one'::regnamespace, 'two'::regnamespace)"
        )
        row = "t::text" if stamps else "(to_jsonb(t) - 'stamp')::text"
        return {
            name: [row for (row,) in self.execute(f"SELECT {row} FROM ONLY {name} AS t ORDER BY 1")]
            for (name,) in listed.fetchall()
            if stamps or name != "one.log"
        }


class MariadbSite:
    """Two databases, the first of which is the one that is opened."""

    def __init__(self, servers: Sequence[MariadbServerDatabase], made: Fitted, seed: int) -> None:
        chance = random.Random(seed)
        self.url = servers[0].url
        self.connection = servers[0].connect()
        self.close = self.connection.close
        self.names = [server.name for server in servers]
        self.execute("SET sql_mode = 'ANSI_QUOTES,STRICT_TRANS_TABLES', foreign_key_checks = 0")
        for name in self.names:
            for (table,) in self.execute(f"SHOW TABLES FROM {name}"):
                self.execute(f"DROP TABLE {name}.{quoted(table)}")
        elsewhere = [n for n in range(len(made.case.tables)) if n != made.case.target]
        elsewhere = [n for n in elsewhere if chance.random() < 0.3]
        tables = tuple(
            replace(table, schema=self.names[number in elsewhere])
            for number, table in enumerate(made.case.tables)
        )
        self.case = case = replace(made.case, tables=tables)
        self.shown = [f"{table.schema}.{table.name}" if number in elsewhere else table.name
                      for number, table in enumerate(tables)]  # fmt: skip
        linked = {table for link in case.links for table in (link.child, link.parent)}
        self.lasting = set[int]()
        for number in range(len(tables)):
            self._create(number, made, number in linked, chance)
            insert = case.insert(number, "?").replace("%", "%%").replace("?", "%s")
            for row in case.values(number):
                self.execute(insert, row)
        lasting_log = chance.random() < 0.15
        self.execute(LOG.format("log") + (" ENGINE = MyISAM" if lasting_log else ""))
        self.lasting_log = lasting_log and "log" in made.triggers
        self.execute("SET foreign_key_checks = 1")
        self.links = {n: f"{self.shown[link.child]}.{','.join(link.columns)}"
                      for n, link in enumerate(case.links)}  # fmt: skip
        self.triggers: dict[str, tuple[str, ...]] = {}
        for number, fit in enumerate(made.fits):
            self.triggers[self.shown[number]] = tuple(f"{kind}{number}" for kind in fit.triggers)
            for kind in fit.triggers:
                self.execute(self._trigger(kind, number, fit.other))

    def execute(self, statement: str, values: Any = None) -> Any:
        with self.connection.cursor() as cursor:
            cursor.execute(statement, values)
            return cursor.fetchall()

    def _create(self, number: int, made: Fitted, linked: bool, chance: random.Random) -> None:
        """Make a table; one that no foreign key touches may be cut up, or have another engine."""
        table, fit = self.case.tables[number], made.fits[number]
        declared = self.case.declared(number).replace(" COLLATE NOCASE", "")
        declared = declared.replace(" TEXT", f" VARCHAR(20) COLLATE {made.collation}")
        hidden = chance.choice(["", " INVISIBLE"])
        virtual = chance.choice(["", ", tripled INTEGER AS (mark * 3) VIRTUAL"])
        extra = f"stamp INTEGER{hidden} DEFAULT 0{virtual}, "
        declared = declared.replace("mark INTEGER", f"{extra}mark INTEGER", 1)
        if not linked and fit.engine:
            declared += f" ENGINE = {fit.engine}"
            self.lasting.add(number)
        if not linked and fit.parts and not table.unique:
            if table.key:
                declared += f" PARTITION BY KEY ({quoted(table.key[0])}) PARTITIONS {fit.parts}"
            else:
                declared += (" PARTITION BY RANGE (mark) (PARTITION a VALUES LESS THAN (2),"
                             " PARTITION b VALUES LESS THAN MAXVALUE)")  # fmt: skip
        self.execute(declared)

    def _trigger(self, kind: str, number: int, other: int) -> str:
        table, others = self.case.tables[number], self.case.tables[other].written
        body = {
            "stamp": "SET NEW.stamp = 9",
            "arrival": "SET NEW.stamp = 9",
            "log": f"INSERT INTO {self.names[0]}.log VALUES ({number}, OLD.mark)",
            "touches": f"UPDATE {others} SET stamp = 5",
            "takes": f"DELETE FROM {others} WHERE mark = 3",
            "keeps": "IF OLD.mark = 2 THEN SIGNAL SQLSTATE '45000'; END IF",
        }[kind]
        when = "AFTER" if kind in OTHER_ROWS else "BEFORE"
        return (f"CREATE TRIGGER {table.schema}.{kind}{number} {when} {EVENTS.get(kind, 'DELETE')}"
                f" ON {table.written} FOR EACH ROW {body}")  # fmt: skip

    def delete(self) -> bool:
        name = self.case.tables[self.case.target].written
        try:
            self.execute(f"DELETE FROM {name} WHERE mark < {self.case.below}")
        except (pymysql.IntegrityError, pymysql.OperationalError):
            return False
        return True

    def contents(self, *, stamps: bool = True) -> dict[str, list[str]]:
        found = {}
        for number, table in enumerate(self.case.tables):
            names = [row[0] for row in self.execute(f"SHOW COLUMNS FROM {table.written}")]
            listed = ", ".join(quoted(name) for name in names if stamps or name != "stamp")
            rows = self.execute(f"SELECT {listed} FROM {table.written}".replace("%", "%%"), ())
            found[str(number)] = sorted(map(repr, rows))
        if stamps:
            found["log"] = sorted(map(repr, self.execute("SELECT * FROM log")))
        return found


class SqlServerSite(SqlServerSchema):
    """One database."""

    def __init__(self, database: SqlServerDatabase, made: Fitted, seed: int) -> None:
        self._chance = random.Random(seed)
        super().__init__(database, made.case)
        self.shown = [table.name for table in self.case.tables]
        self.links = {n: f"{self.shown[link.child]}.{','.join(link.columns)}"
                      for n, link in enumerate(self.case.links)}  # fmt: skip
        self.execute(LOG.format("log"))
        for number, table in enumerate(self.case.tables):
            if self._chance.random() < 0.3:
                self.execute(f"CREATE UNIQUE INDEX few{number} ON {table.written} (mark)"
                             " WHERE mark > 900")  # fmt: skip
        self.triggers: dict[str, tuple[str, ...]] = {}
        for number, fit in enumerate(made.fits):
            table = self.case.tables[number]
            kinds = fit.triggers if table.key else set(fit.triggers) - {*OWN_ROW}
            self.triggers[table.name] = tuple(f"{kind}{number}" for kind in kinds)
            for kind in kinds:
                self.execute(self._trigger(kind, number, fit.other))

    def create(self, number: int, statement: str) -> None:
        """Make a table; its key may get its values from the server."""
        table = self.case.tables[number]
        statement = statement.replace("mark INTEGER", "stamp INTEGER DEFAULT 0, mark INTEGER", 1)
        self._identity = len(table.key) == 1 and not table.text_key and self._chance.random() < 0.5
        if self._identity:
            own = quoted(table.key[0])
            statement = statement.replace(f"{own} INTEGER", f"{own} INTEGER IDENTITY(1, 1)", 1)
        super().create(number, statement)

    def insert(self, number: int, statement: str) -> None:
        if self._identity:
            name = self.case.tables[number].written
            statement = (f"SET IDENTITY_INSERT {name} ON; {statement};"
                         f" SET IDENTITY_INSERT {name} OFF")  # fmt: skip
        super().insert(number, statement)

    def _trigger(self, kind: str, number: int, other: int) -> str:
        table, others = self.case.tables[number], self.case.tables[other].written
        own = table.written
        same = " AND ".join(f"i.{quoted(name)} = {own}.{quoted(name)}" for name in table.key)
        seen = f"EXISTS (SELECT 1 FROM inserted AS i WHERE {same})"
        stamped = f"UPDATE {own} SET stamp = 9 WHERE {seen}"
        body = {
            "stamp": stamped,
            "arrival": stamped,
            "log": f"INSERT INTO log SELECT {number}, mark FROM deleted",
            "touches": f"UPDATE {others} SET stamp = 5",
            "takes": f"DELETE FROM {others} WHERE mark = 3",
            "keeps": "IF EXISTS (SELECT 1 FROM deleted WHERE mark = 2) THROW 50002, N'kept', 1",
        }[kind]
        event = EVENTS.get(kind, "DELETE")
        return f"CREATE TRIGGER {kind}{number} ON {table.written} AFTER {event} AS {body}"

    def contents(self, *, stamps: bool = True) -> dict[str, list[str]]:
        found = {}
        for table in [*self.shown, *(["log"] if stamps else [])]:
            names = [
                name
                for (name,) in self.execute(
                    f"SELECT name FROM sys.columns WHERE object_id = OBJECT_ID(N'{table}')"
                )
            ]
            listed = ", ".join(quoted(name) for name in names if stamps or name != "stamp")
            rows = self.execute(f"SELECT {listed} FROM {quoted(table)}")
            found[table] = sorted(map(repr, rows))
        return found
