"""A receipt is a file from anywhere: whatever a cell of it holds, nothing of it is executed."""

from __future__ import annotations

import random
import sqlite3
from collections.abc import Callable
from pathlib import Path
from typing import Any

from conftest import Yeldro
from systems import AnyDatabase, PostgresqlServerDatabase, SqliteFile
from trials import Trials

TABLES = """
    CREATE TABLE port (id INTEGER PRIMARY KEY, name VARCHAR(9), size DECIMAL(8, 2));
    CREATE TABLE ship (id INTEGER PRIMARY KEY, port_id INTEGER, home_id INTEGER, name VARCHAR(9),
                       FOREIGN KEY (port_id) REFERENCES port (id) ON DELETE CASCADE,
                       FOREIGN KEY (home_id) REFERENCES port (id) ON DELETE SET NULL);
    CREATE TABLE log (line VARCHAR(9), port_id INTEGER,
                      FOREIGN KEY (port_id) REFERENCES port (id) ON DELETE CASCADE);
    INSERT INTO port VALUES (1, 'a', 1.5), (2, 'b', NULL), (3, 'c', 3);
    INSERT INTO ship VALUES (1, 1, 3, 'x'), (2, 2, 1, 'y'), (3, NULL, 2, NULL);
    INSERT INTO log VALUES ('one', 1), ('one', 1), ('two', 3);
"""
CLEAN = "DROP TABLE IF EXISTS log; DROP TABLE IF EXISTS ship; DROP TABLE IF EXISTS port; "
RUN = ("run", "port", "--where", "id < 3", "--expect", "2", "--yes")
HOSTILE: list[Any] = [
    None, -1, 0, 2**62, 1.5, float("inf"), "", "x", "1", b"\xff\0", "'; DROP TABLE port; --",
    "varchar(200))||left(cast(setval('probe',555) as text),0", "integer); DROP TABLE port; --",
    "a" * 10_000, "\x1b[2J", '"', "`; DROP TABLE port; --", "../../x", '{"0": "no such form"}',
    '{"0": "integer", "x": []}', "[]", "port", "remove", "value", "key", "committed", "SQLite",
    "rows_2", "\u2028", "$(touch probe)", "2026-11-30",
]  # fmt: skip


def cells(path: Path) -> list[tuple[str, int, str]]:
    """Every cell of a receipt: its table, row and column."""
    file = sqlite3.connect(path)
    tables = [name for (name,) in file.execute(
        "SELECT name FROM sqlite_master WHERE type = 'table' ORDER BY name")]  # fmt: skip
    found = []
    for table in tables:
        names = [row[1] for row in file.execute(f"PRAGMA table_info({table})")]
        rows = file.execute(f"SELECT rowid FROM {table}").fetchall()
        found += [(table, row, name) for (row,) in rows for name in names]
    file.close()
    return found


def forge(path: Path, whole: bytes, cell: tuple[str, int, str], value: Any) -> bool:
    """Write a receipt with another value in one cell; False if SQLite does not take it."""
    table, row, name = cell
    path.write_bytes(whole)
    file = sqlite3.connect(path)
    try:
        with file:
            file.execute(f'UPDATE {table} SET "{name}" = ? WHERE rowid = ?', (value, row))
    except sqlite3.Error:
        return False
    finally:
        file.close()
    return True


def test_whatever_a_cell_of_a_receipt_holds_nothing_of_it_is_executed(
    yeldro: Yeldro, made: Callable[[str], AnyDatabase], trials: Trials
) -> None:
    database = made(TABLES)
    if isinstance(database, PostgresqlServerDatabase):
        database.script("CREATE SEQUENCE probe")
    done = yeldro(*RUN, "--json", db=database.url).json()
    whole = Path(done["receipt"]).read_bytes()
    every = cells(Path(done["receipt"]))
    forged = yeldro.folder / "forged.receipt.sqlite"
    for number in trials(6, 400):
        draw = random.Random(number)
        cell, value = draw.choice(every), draw.choice(HOSTILE)
        if not forge(forged, whole, cell, value):
            continue
        database.script(CLEAN + TABLES)
        yeldro(*RUN, db=database.url)
        for words in (("receipt", "show", str(forged)), ("receipt", "check", str(forged)),
                      ("receipt", "export", str(forged), str(yeldro.folder / f"out{number}")),
                      ("restore", str(forged), "--yes"), ("restore", str(forged), "--yes",
                                                         "--skip-conflicts")):  # fmt: skip
            found = yeldro(*words, db=database.url, code=None)
            said = (cell, value, words, found)
            assert found.code in (0, 2, 3, 4, 5), said
            assert "Traceback" not in found.err, said
            assert "fault in Yeldro" not in found.err, said
            assert "\x1b[2J" not in found.out + found.err, said
        assert not (yeldro.folder / "probe").exists()
        if isinstance(database, PostgresqlServerDatabase):
            assert not database.value("SELECT is_called FROM probe"), (cell, value)


def test_a_receipt_with_something_else_than_tables_is_refused(
    yeldro: Yeldro, file_made: Callable[[str], SqliteFile]
) -> None:
    """A view in place of rows may never end."""
    database = file_made(TABLES)
    path = Path(yeldro(*RUN, "--json", db=database.url).json()["receipt"])
    whole = path.read_bytes()
    for statement in (
        "DROP TABLE rows_1; CREATE VIEW rows_1 AS WITH RECURSIVE r (n) AS"
        " (SELECT 1 UNION ALL SELECT n FROM r) SELECT n FROM r",
        "CREATE TRIGGER noted AFTER UPDATE ON receipt BEGIN SELECT 1; END",
    ):
        path.write_bytes(whole)
        file = sqlite3.connect(path)
        file.executescript(statement)
        file.close()
        for words in (("receipt", "show"), ("receipt", "check"), ("restore",)):
            told = yeldro(*words, str(path), db=database.url, code=2).err
            assert "is not a receipt that can be read" in told
