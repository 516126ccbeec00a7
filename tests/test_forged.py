"""Whatever a receipt, a plan, a review or a file of settings holds, nothing of it is executed."""

from __future__ import annotations

import csv
import json
import random
import re
import sqlite3
from collections.abc import Callable
from pathlib import Path
from typing import Any

import pytest
from conftest import Finished, Yeldro
from systems import AnyDatabase, PostgresqlServerDatabase, SqliteFile
from trials import Trials

from yeldro.formats import plan_file

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


def fields_of(document: Any, path: tuple[Any, ...] = ()) -> list[tuple[Any, ...]]:
    """The way to every value in a JSON document."""
    inside = document.items() if isinstance(document, dict) else enumerate(document)
    found = []
    for name, value in inside:
        found.append((*path, name))
        if isinstance(value, dict | list):
            found += fields_of(value, (*path, name))
    return found


def broken(document: Any, path: tuple[Any, ...], value: Any) -> Any:
    """The same document with another value at one place, or without it."""
    copied = json.loads(json.dumps(document))
    at = copied
    for name in path[:-1]:
        at = at[name]
    if value is GONE:
        del at[path[-1]]
    else:
        at[path[-1]] = value
    return copied


GONE = object()
IN_FILES: list[Any] = [
    GONE, None, -1, 0, 10**30, 1.5, True, "", "x", "'; DROP TABLE port; --", "a" * 5_000,
    "\x1b[2J", "../../x", "all", "port", ["port"], [], {}, [[]], {"x": 1}, {"date": "x"},
    {"date": "2020-13-01"}, [None], "1..", "..1", "2020-01-01", "9" * 5_000,
]  # fmt: skip


def check_said(found: Finished, said: object) -> None:
    assert found.code in (0, 2, 3, 4, 5), said
    assert "Traceback" not in found.err, said
    assert "fault in Yeldro" not in found.err, said
    assert "\x1b[2J" not in found.out + found.err, said


def test_a_plan_with_any_field_broken_and_sealed_anew_is_refused_or_done_as_it_says(
    yeldro: Yeldro, file_made: Callable[[str], SqliteFile], trials: Trials
) -> None:
    database = file_made(TABLES)
    yeldro.environment["YELDRO_DB"] = database.url
    words = ("port", "--where", "id < :most and name <> :name", "--param", "most=3", "--param",
             "name=q", "--follow", "all", "--expect", "2")  # fmt: skip
    yeldro("plan", *words, "-o", "plan.json")
    plan = json.loads((yeldro.folder / "plan.json").read_text())
    before, forged = database.contents(), yeldro.folder / "forged.json"
    every = fields_of(plan)
    for number in trials(60, 3000):
        draw = random.Random(number)
        path, value = draw.choice(every), draw.choice(IN_FILES)
        document = broken(plan, path, value)
        if path[0] != "seal":
            document.pop("seal", None)
            document["seal"] = plan_file._seal(document)
        forged.write_text(json.dumps(document))
        for command in ("check", "rehearse", "run"):
            ended = yeldro(
                command, str(forged), *(["--yes"] if command == "run" else []), code=None
            )
            check_said(ended, (path, value, command, ended))
            if command != "run" or ended.code:
                assert database.contents() == before, (path, value, ended)
        if database.contents() != before:
            assert database.value("SELECT count(*) FROM port") == 1, (path, value)
            yeldro("restore", "last", "--yes")
            assert database.contents() == before


LINES = re.compile(r"^(\w+) = (.+)$", re.MULTILINE)
IN_TOML = [
    "", "-1", "0", "1" * 30, "1.5", "inf", "true", '""', "'x'", '"a' + "b" * 3_000 + '"', "[]",
    "['port']", "{}", "{x = 1}", "[[]]", "[{}]", "2020-01-01", "2020-13-01", "12:00:00",
    '"\\u001b[2J"', '"\'; DROP TABLE port; --"', '"1.."', '"all"', '"today-99999y"', "nan",
    "'../../x'", '"a\\u0000b"', "1..2", "= 1", "'''", "\ud800", "\0",
]  # fmt: skip
PROJECT = """
db = "sea"
receipts = "kept"
protect = ["nobody"]
most_rows = 100
[database.sea]
url = "made.db"
protect = "log"
most_rows = 50
"""
CLEANUP = """
format = 1
title = "Old ports"
expect_total = "1..9"
[param.most]
type = "integer"
about = "the first that stays"
default = 3
[[remove]]
from = "port"
where = "id < :most"
order_by = "name"
limit = 2
follow = ["all"]
expect = 2
[[after]]
about = "none is left"
query = "SELECT count(*) FROM port WHERE id < :most"
expect = 0
[options]
lock_wait = 1
receipts = "kept"
"""


@pytest.mark.parametrize("name", ["yeldro.toml", "cleanup.toml"])
def test_a_file_with_any_field_broken_is_refused_with_its_line_or_means_what_it_says(
    yeldro: Yeldro, file_made: Callable[[str], SqliteFile], trials: Trials, name: str
) -> None:
    database = file_made(TABLES.replace("log (line", "lost (line").replace("INTO log", "INTO lost"))
    before = database.contents()
    files = {"yeldro.toml": PROJECT, "cleanup.toml": CLEANUP}
    for each, text in files.items():
        (yeldro.folder / each).write_text(text)
    yeldro("rehearse", "cleanup.toml")
    fields = list(LINES.finditer(files[name]))
    for number in trials(60, 2000):
        draw = random.Random(number)
        field, value = draw.choice(fields), draw.choice(IN_TOML)
        start, end = draw.choice([field.span(2), field.span(2), field.span(1), field.span()])
        text = files[name][:start] + value + files[name][end:]
        (yeldro.folder / name).write_bytes(text.encode("utf-8", "surrogatepass"))
        for words in (("check", "cleanup.toml"), ("rehearse", "cleanup.toml"), ("survey",),
                      ("receipt", "list")):  # fmt: skip
            ended = yeldro(*words, code=None)
            check_said(ended, (text, words, ended))
        assert database.contents() == before


def test_a_review_with_any_cell_broken_is_refused_with_its_line_or_decides_as_it_says(
    yeldro: Yeldro, file_made: Callable[[str], SqliteFile], trials: Trials
) -> None:
    database = file_made("""
        CREATE TABLE port (id INTEGER PRIMARY KEY, name TEXT, size REAL);
        INSERT INTO port VALUES (1, 'a', 1), (2, 'a', 2), (3, 'b', 3), (4, 'b', 4), (5, 'c', 5);
    """)
    yeldro.environment["YELDRO_DB"] = database.url
    yeldro("duplicates", "port", "--by", "name", "--keep", "lowest:id", "--review", "whole.csv")
    with (yeldro.folder / "whole.csv").open(encoding="utf-8-sig", newline="") as file:
        whole = list(csv.reader(file))
    before = database.contents()
    for number in trials(60, 2000):
        draw = random.Random(number)
        lines = [list(line) for line in whole]
        line = draw.randrange(len(lines))
        cell = draw.randrange(len(lines[line]))
        value = draw.choice(["", "keep", "remove", "x", "1", "-1", "9" * 400, "²", "\x1b[2J", "\0",
                             "row-1-2", lines[1][0], lines[-1][cell], "a\nb", '"'])  # fmt: skip
        change = draw.choice(["cell", "cell", "cell", "longer", "shorter", "twice", "gone"])
        if change == "cell":
            lines[line][cell] = value
        elif change in ("longer", "shorter"):
            lines[line] = [*lines[line], value] if change == "longer" else lines[line][:cell]
        else:
            lines[line : line + 1] = [lines[line]] * 2 if change == "twice" else []
        with (yeldro.folder / "r.csv").open("w", encoding="utf-8-sig", newline="") as file:
            csv.writer(file).writerows(lines)
        words = ("port", "--duplicates-by", "name", "--decisions", "r.csv")
        ended = yeldro("plan", *words, "--json", code=None)
        said = (change, line, cell, value, ended)
        check_said(ended, said)
        if ended.code == 0:
            goes = sum(each["matched"] for each in ended.json()["removes"])
            removed = [each for each in lines[1:] if each and each[0].strip().lower() == "remove"]
            assert goes == len(removed), said
        assert database.contents() == before
