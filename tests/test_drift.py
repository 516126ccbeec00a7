"""What changes between the agreement and the run leaves the outcome as agreed, or is refused."""

from __future__ import annotations

import random
import sqlite3
from collections.abc import Callable
from typing import Any

import psycopg
import pymssql
import pymysql
from conftest import Yeldro
from systems import AnyDatabase, MariadbServerDatabase, SqliteFile, SqlServerDatabase
from trials import Trials

COLUMNS = {
    "port": ("id", "name", "note"),
    "ship": ("id", "port_id", "name"),
    "crew": ("id", "ship_id", "name"),
}
TABLES = """
    CREATE TABLE port (id INTEGER PRIMARY KEY, name VARCHAR(9), note VARCHAR(9));
    CREATE TABLE ship (id INTEGER PRIMARY KEY, port_id INTEGER DEFAULT 9, name VARCHAR(9),
                       CONSTRAINT ship_port FOREIGN KEY (port_id) REFERENCES port (id)
                       ON DELETE {action});
    CREATE TABLE crew (id INTEGER PRIMARY KEY, ship_id INTEGER, name VARCHAR(9),
                       CONSTRAINT crew_ship FOREIGN KEY (ship_id) REFERENCES ship (id)
                       ON DELETE CASCADE);
"""
CLEAN = "DROP TABLE IF EXISTS crew; DROP TABLE IF EXISTS ship; DROP TABLE IF EXISTS port;"
MERGE = ("port", "--duplicates-by", "name", "--keep", "lowest:id")
ASKED = [
    (*MERGE, "--repoint"),
    (*MERGE, "--repoint", "--fill", "note"),
    (*MERGE, "--detach", "ship"),
    (*MERGE, "--follow", "ship"),
    ("port", "--where", "name = 'a'", "--detach", "ship.port_id"),
    ("port", "--where", "id < 4"),
    ("ship", "--missing-in", "crew"),
    ("port", "--order-by", "note, id", "--limit", "2", "--follow", "all"),
]
TRIGGERS = {
    "sqlite": "CREATE TRIGGER noting AFTER DELETE ON port BEGIN {body}; END",
    "sqlserver": "CREATE TRIGGER noting ON port AFTER DELETE AS {body}",
    "mariadb": "CREATE TRIGGER noting AFTER DELETE ON port FOR EACH ROW {body}",
    "postgresql": "CREATE OR REPLACE FUNCTION noting() RETURNS trigger LANGUAGE plpgsql AS"
    " $$ BEGIN {body}; RETURN NULL; END $$;"
    " CREATE TRIGGER noting AFTER DELETE ON port FOR EACH ROW EXECUTE FUNCTION noting()",
}
Rows = dict[str, dict[int, dict[str, Any]]]


def rows_of(database: AnyDatabase) -> Rows:
    """Every row of the three tables, by its key."""
    found: Rows = {}
    for table, names in COLUMNS.items():
        rows = database.rows(f"SELECT {', '.join(names)} FROM {table}")
        found[table] = {row[0]: dict(zip(names, row, strict=True)) for row in rows}
    return found


def system_of(database: AnyDatabase) -> str:
    if isinstance(database, SqliteFile):
        return "sqlite"
    kinds = {MariadbServerDatabase: "mariadb", SqlServerDatabase: "sqlserver"}
    return kinds.get(type(database), "postgresql")


def filled(draw: random.Random) -> str:
    """The tables with rows; port 9 is the default of a ship."""
    parts = [TABLES.format(action=draw.choice(["SET NULL", "SET DEFAULT", "CASCADE"]))]
    ports = range(1, 8)
    for n in (*ports, 9):
        parts.append(f"INSERT INTO port VALUES ({n}, {text(draw)}, {text(draw)});")
    for n in range(1, 9):
        parts.append(f"INSERT INTO ship VALUES ({n}, {draw.choice(ports)}, {text(draw)});")
    for n in range(1, 6):
        parts.append(f"INSERT INTO crew VALUES ({n}, {draw.randrange(1, 9)}, {text(draw)});")
    return " ".join(parts)


def text(draw: random.Random) -> str:
    return draw.choice(["'a'", "'b'", "'c'", "NULL"])


def drift(draw: random.Random, system: str) -> str:
    """A statement of somebody else's, between the agreement and the run."""
    table = draw.choice(list(COLUMNS))
    key = draw.randrange(1, 9)
    link = {"port": "", "ship": "port_id", "crew": "ship_id"}[table]
    column = draw.choice(["name", *([link] if link else ["note"])])
    value = str(draw.randrange(1, 8)) if column == link else text(draw)
    body = draw.choice([
        "UPDATE crew SET name = 'z' WHERE id = 1", "DELETE FROM crew WHERE id < 3",
        "UPDATE ship SET name = 'z' WHERE port_id IS NULL",
        "INSERT INTO crew VALUES (90, NULL, 'z')",
    ])  # fmt: skip
    action = draw.choice(["CASCADE", "SET NULL", "NO ACTION"])
    kinds = [
        f"UPDATE {table} SET {column} = {value} WHERE id = {key}",
        f"UPDATE {table} SET {column} = {value} WHERE id = {key}",
        f"DELETE FROM crew WHERE id = {draw.randrange(1, 6)}",
        f"INSERT INTO port VALUES (50, {text(draw)}, {text(draw)})",
        f"INSERT INTO ship VALUES (50, {draw.randrange(1, 8)}, {text(draw)})",
        TRIGGERS[system].format(body=body),
        another_action(system, action),
        another_default(system, draw.randrange(1, 8)),
    ]
    return draw.choice(kinds)


def another_action(system: str, action: str) -> str:
    """Declare another action of the foreign key from ships to ports."""
    if system == "sqlite":
        old = "substr(sql, instr(sql, 'ON DELETE'))"
        new = f"'ON DELETE {action})'"
        return in_catalogue(f"sql = replace(sql, {old}, {new})")
    dropped = "FOREIGN KEY" if system == "mariadb" else "CONSTRAINT"
    return (
        f"ALTER TABLE ship DROP {dropped} ship_port; ALTER TABLE ship ADD CONSTRAINT ship_port"
        f" FOREIGN KEY (port_id) REFERENCES port (id) ON DELETE {action}"
    )


def another_default(system: str, port: int) -> str:
    if system == "sqlite":
        return in_catalogue(f"sql = replace(sql, 'DEFAULT 9', 'DEFAULT {port}')")
    if system == "sqlserver":  # where it has a name that only the server knows
        return "ALTER TABLE ship ADD CHECK (id < 60)"
    return f"ALTER TABLE ship ALTER COLUMN port_id SET DEFAULT {port}"


def in_catalogue(assignment: str) -> str:
    update = f"UPDATE sqlite_master SET {assignment} WHERE name = 'ship'"
    return f"PRAGMA writable_schema = ON; {update}; PRAGMA writable_schema = RESET"


def done(before: Rows, after: Rows) -> Rows:
    """What a run did: rows that went, with no values, and new values of those that stay."""
    found: Rows = {}
    for table, rows in before.items():
        assert after[table].keys() <= rows.keys()
        found[table] = {}
        for key, row in rows.items():
            now = after[table].get(key)
            if now is None:
                found[table][key] = {}
            elif now != row:
                found[table][key] = {name: now[name] for name in now if now[name] != row[name]}
    return found


def with_changes(rows: Rows, changes: Rows) -> Rows:
    """The rows with the same done to them."""
    found = {table: dict(some) for table, some in rows.items()}
    for table, some in changes.items():
        for key, values in some.items():
            if not values:
                found[table].pop(key, None)
            elif key in found[table]:
                found[table][key] = found[table][key] | values
    return found


def test_any_change_in_between_leaves_the_outcome_as_agreed_or_is_refused(
    yeldro: Yeldro, made: Callable[[str], AnyDatabase], trials: Trials
) -> None:
    database = made(CLEAN)
    system = system_of(database)
    committed = refused = 0
    for number in trials(8, 200):
        draw = random.Random(number)
        script, words = f"{CLEAN} {filled(draw)}", draw.choice(ASKED)
        database.script(script)
        before = rows_of(database)
        (yeldro.folder / "plan.json").unlink(missing_ok=True)
        yeldro("plan", *words, "-o", "plan.json", db=database.url, code=None)
        if not (yeldro.folder / "plan.json").exists():
            continue  # it is blocked, or no row matches
        if yeldro("run", "plan.json", "--yes", db=database.url, code=None).code:
            continue
        agreed = done(before, rows_of(database))
        database.script(script)
        for _ in range(draw.randrange(1, 3)):
            try:
                database.script(drift(draw, system))
            except (psycopg.Error, pymssql.Error, pymysql.Error, sqlite3.Error):
                continue  # the system refuses it
        between = rows_of(database)
        found = yeldro("run", "plan.json", "--yes", db=database.url, code=None)
        after = rows_of(database)
        if found.code:
            refused += 1
            assert found.code in (3, 4, 5), found
            assert after == between, found
        else:
            committed += 1
            assert after == with_changes(between, agreed), found
    assert trials.only_one or (committed and refused)
