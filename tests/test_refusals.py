"""What is refused, with which exit code, in which words; and nothing is changed by it."""

from __future__ import annotations

import os
import sqlite3
import subprocess
import sys
from pathlib import Path

import pytest
from conftest import Yeldro
from systems import AnyDatabase, SqliteFile

REFUSED = [
    (("plan", "bouy", "--all-rows"), 2, "Did you mean buoy"),
    (("plan", "buoy"), 3, "--all-rows"),
    (("plan", "buoy", "--where", " "), 3, "every row"),
    (("plan", "buoy", "--where", "1 = 1 OR 'a' = 'a'"), 3, "uses no column"),
    (("plan", "buoy", "--where", ":x IS NULL", "--param", "x=1"), 3, "uses no column"),
    (("plan", "buoy", "--where", "nmae = 'x'"), 2, "Did you mean name"),
    (("plan", "buoy", "--where", "name = Eddy"), 2, "'single quotes'"),
    (("plan", "buoy", "--where", "id = (SELECT buoy_id FROM snsor)"), 2, "sensor"),
    (("plan", "buoy", "--where", "id = (SELECT s.buoyid FROM sensor AS s)"), 2, "buoy_id"),
    (("plan", "buoy", "--where", "sensor.id = 1"), 2, "no table 'sensor'"),
    (("plan", "buoy", "--where", "id = 1; DELETE FROM buoy"), 2, "2 statements"),
    (("plan", "buoy", "--where", "id = 1) OR (1 = 1"), 2, "cannot be read"),
    (("plan", "buoy", "--where", "id = "), 2, "something is missing"),
    (("plan", "buoy", "--where", "id IN (DELETE FROM buoy RETURNING id)"), 2, "cannot be read"),
    (("plan", "buoy", "--where", "id + 1"), 2, "not a condition"),
    (("plan", "buoy", "--where", "'id = 1'"), 2, "not a condition"),
    (("plan", "buoy", "--where", "SELECT id FROM buoy"), 2, "not a condition"),
    (("plan", "buoy", "--where", "load_extension('x') = id"), 2, "side effects"),
    (("plan", "buoy", "--where", "id > abs(random())"), 2, "another value each time"),
    (("plan", "buoy", "--where", "no_such_function(id)"), 2, "side effects"),
    (("plan", "buoy", "--where", "count(*) = id"), 2, "does not accept"),
    (("plan", "buoy", "--where", "id = ?"), 2, ":name"),
    (("plan", "buoy", "--where", "id = :x"), 2, "--param x=VALUE"),
    (("plan", "buoy", "--where", "id = 1", "--param", "x=1"), 2, "--param x"),
    (("plan", "buoy", "--where", "id = :x", "--param", "x"), 2, "NAME=VALUE"),
    (("plan", "buoy", "--all-rows", "--where", "id = 1"), 2, "--all-rows"),
    (("plan", "buoy", "--limit", "3"), 2, "--order-by"),
    (("plan", "buoy", "--where", "id = :x", "--param", "x=12", "--expect", "3..1"), 2, "1..3"),
    (("plan", "buoy", "--order-by", "id; DROP TABLE buoy", "--limit", "3"), 2, "list of columns"),
    (("plan", "buoy", "--order-by", "lenght", "--limit", "3"), 2, "no column"),
    (("plan", "buoy", "--order-by", "id", "--limit", "0"), 2, "leaves no rows"),
    (("plan", "buoy", "--where", "id = 1", "--keep", "fullest"), 2, "--duplicates-by"),
    (("plan", "buoy", "--duplicates-by", "nmae"), 2, "Did you mean name"),
    (("plan", "buoy", "--duplicates-by", "name", "--keep", "best"), 2, "lowest:COLUMN"),
    (("plan", "buoy", "--duplicates-by", "name", "--keep", "lowest:ids"), 2, "no column 'ids'"),
    (("plan", "buoy", "--matching", "technician"), 2, "No foreign key joins"),
    (("plan", "buoy", "--matching", "sensor"), 2, "sensor:id=buoy_id"),
    (("plan", "buoy", "--matching", "sensor:id"), 2, "Did you mean sensor"),
    (("plan", "buoy", "--missing-in", "sensor:id=nope"), 2, "nope"),
    (("plan", "buoy", "--where", "id = 1", "--follow", "vist"), 2, "visit"),
    (("plan", "buoy", "--where", "id = 1", "--follow", "visit", "--detach", "visit"), 2, "both"),
    (("plan", "buoy", "--where", "id = 1", "--detach", "visit"), 3, "does not accept NULL"),
    (("plan", "buoy", "--where", "id = 1", "--expect", "few"), 2, "not a number of rows"),
    (("plan", "buoy", "--where", "id = 1", "--expect", "9..3"), 2, "3..9"),
    (
        ("plan", "buoy", "--where", "id = 1", "--expect", "1", "--expect", "2"),
        2,
        "two expectations",
    ),
    (("plan", "buoy", "--where", "id = 1", "--expect", "byuo=1"), 2, "Did you mean buoy"),
    (("run", "buoy", "--where", "id = 1", "--yes"), 2, "--expect"),
    (("run", "buoy", "--where", "id = 1", "--expect", "1"), 2, "--yes"),
    (("preview", "buoy", "--where", "id = 1", "--show", "idd"), 2, "Did you mean id"),
    (("duplicates", "buoy", "--by", "name,name"), 2, "twice"),
    (("restore", "nothing", "--yes"), 2, "no receipt called"),
    (("surve",), 2, "Did you mean survey"),
    (("plan",), 2, "No table, file, plan or SQL"),
]


@pytest.mark.parametrize(
    ("words", "code", "says"), REFUSED, ids=[" ".join(each[0]) for each in REFUSED]
)
def test_a_mistake_is_told_in_one_paragraph_and_changes_nothing(
    yeldro, network, words, code, says
) -> None:
    before = network.contents()
    found = yeldro(*words, db=network.url, code=code)
    assert says in found.err
    assert found.err.startswith("Nothing was changed.")
    message, *pointed = found.err.splitlines()
    assert not pointed or (len(pointed) == 2 and set(pointed[1].strip()) == {"^"}), message
    assert network.contents() == before


@pytest.mark.parametrize(
    ("name", "content", "says"),
    [
        ("missing.db", None, "There is no file"),
        ("text.db", b"these are not the rows you are looking for", "not an SQLite database"),
        ("cut.db", b"SQLite format 3\0" + b"\x10" * 200, "damaged"),
    ],
)
def test_a_file_that_is_no_database_is_refused(yeldro, tmp_path, name, content, says) -> None:
    path = tmp_path / name
    if content is not None:
        path.write_bytes(content)
    found = yeldro("survey", "--db", str(path), code=5)
    assert says in found.err
    assert path.exists() is (content is not None)


def test_no_database_named_and_an_unknown_system_are_told(yeldro) -> None:
    assert "--db" in yeldro("survey", code=2).err
    assert "no engine" in yeldro("survey", "--db", "oracle://x", code=2).err
    secret = yeldro("survey", "--db", "warehouse://me:hunter22@x/y", code=2)
    assert "hunter22" not in secret.err


def test_an_empty_file_holds_no_tables(yeldro, tmp_path) -> None:
    (tmp_path / "empty.db").touch()
    assert yeldro("survey", "--db", "empty.db", "--json").json()["tables"] == []


def test_a_statement_that_takes_too_long_is_stopped(yeldro, network) -> None:
    before = network.contents()
    slow = "SELECT count(*) FROM reading a, reading b, alert c WHERE a.id <> b.id + c.id"
    words = ("alert", "--where", f"id < ({slow})", "--expect", "1", "--time-limit", "0.5")
    for command in (("run", *words, "--yes"), ("plan", *words)):
        found = yeldro(*command, db=network.url, code=5)
        assert "longer than 0.5 seconds" in found.err
        assert "--time-limit" in found.err
    assert network.contents() == before
    assert not list(yeldro.receipts.glob("*"))
    quick = ("alert", "--where", "id = 1", "--expect", "1", "--time-limit", "20", "--yes")
    yeldro("run", *quick, db=network.url)


def test_a_locked_database_is_waited_for_and_its_holder_named(yeldro, demo) -> None:
    yeldro.installed = True
    holder = demo.connect()
    holder.execute("BEGIN IMMEDIATE")
    words = ("run", "alert", "--where", "id = 1", "--expect", "1", "--yes", "--lock-wait", "0.3")
    found = yeldro(*words, db=demo.url, code=5)
    assert "0.3 seconds" in found.err
    assert f"process {os.getpid()}" in found.err
    holder.execute("ROLLBACK")
    holder.close()
    yeldro(*words, db=demo.url)


def test_a_read_only_file_can_be_looked_at_and_not_changed(yeldro, demo) -> None:
    demo.path.chmod(0o444)
    assert yeldro("plan", "alert", "--where", "id = 1", "--json", db=demo.url).one()["matched"] == 1
    found = yeldro(
        "run", "alert", "--where", "id = 1", "--expect", "1", "--yes", db=demo.url, code=3
    )
    assert "read-only" in found.err
    assert demo.value("SELECT count(*) FROM alert WHERE id = 1") == 1


def test_a_receipt_that_cannot_be_written_rolls_everything_back(yeldro, network) -> None:
    (yeldro.folder / "file").touch()
    before = network.contents()
    found = yeldro("run", "alert", "--where", "id = 1", "--expect", "1", "--yes",
                   "--receipts", "file/receipts", db=network.url, code=5)  # fmt: skip
    assert "receipt" in found.err
    assert "rolled back" in found.err
    assert network.contents() == before


def test_a_view_and_a_virtual_table_are_refused_by_name(yeldro, file_made) -> None:
    database = file_made("""
        CREATE TABLE mast (id INTEGER PRIMARY KEY);
        CREATE VIEW tall AS SELECT count(*) AS n FROM mast;
        CREATE VIRTUAL TABLE words USING fts5(said);
    """)
    assert "view" in yeldro("plan", "tall", "--where", "n = 1", db=database.url, code=3).err
    assert "virtual" in yeldro("plan", "words", "--all-rows", db=database.url, code=3).err


def test_a_broken_receipt_is_told(yeldro: Yeldro, network, tmp_path: Path) -> None:
    yeldro("run", "alert", "--where", "id = 1", "--expect", "1", "--yes", db=network.url)
    (path,) = yeldro.receipts.glob("*.sqlite")
    whole = path.read_bytes()
    for name, broken in (("cut", whole[: len(whole) // 2]), ("text", b"no receipt"), ("none", b"")):
        (tmp_path / name).write_bytes(broken)
        assert "not a receipt" in yeldro("restore", name, "--yes", code=2).err
    newer = sqlite3.connect(path)
    newer.execute("UPDATE receipt SET format = 99")
    newer.commit()
    newer.close()
    assert "format 99" in yeldro("restore", str(path), "--yes", code=2).err
    assert network.value("SELECT count(*) FROM alert WHERE id = 1") == 0


def test_a_connection_string_is_not_repeated(yeldro: Yeldro) -> None:
    for text in ("host=x dbname=y password=hidden", "Server=x;Database=y;Pwd=hidden",
                 "password=hidden"):  # fmt: skip
        told = yeldro("survey", "--db", text, code=2).err
        assert "hidden" not in told
        assert "postgresql://" in told


def test_a_name_that_no_trigger_has_is_told(yeldro: Yeldro, network: AnyDatabase) -> None:
    words = ("alert", "--where", "id = 1", "--allow-trigger", "notify")
    told = yeldro("rehearse", *words, db=network.url, code=2).err
    assert "no table that this touches has a trigger of that name" in told
    yeldro("run", *words[:3], "--expect", "1", "--yes", db=network.url)
    assert "notify" in yeldro("restore", "last", "--yes", *words[3:], code=2).err


def test_a_trigger_may_belong_to_any_of_several_removes(yeldro: Yeldro, file_made) -> None:
    database = file_made("""
        CREATE TABLE mast (id INTEGER PRIMARY KEY); CREATE TABLE lamp (id INTEGER PRIMARY KEY);
        CREATE TABLE log (said TEXT); INSERT INTO mast VALUES (1); INSERT INTO lamp VALUES (1);
        CREATE TRIGGER logging AFTER DELETE ON mast BEGIN INSERT INTO log VALUES ('gone'); END;
    """)
    (yeldro.folder / "two.sql").write_text("DELETE FROM mast WHERE id = 1;"
                                           "DELETE FROM lamp WHERE id = 1")  # fmt: skip
    words = ("run", "--sql", "two.sql", "--expect", "total=2", "--yes")
    before = database.contents()
    told = yeldro(*words, "--allow-trigger", "loging", db=database.url, code=4).err
    assert "add --allow-trigger logging" in told
    assert database.contents() == before
    yeldro(*words, "--allow-trigger", "logging", db=database.url)
    assert database.value("SELECT count(*) FROM log") == 1


def test_a_table_whose_name_has_a_colon_can_be_matched(yeldro: Yeldro, made) -> None:
    database = made("CREATE TABLE mast (id INTEGER PRIMARY KEY, n INTEGER)")
    quote = "`{}`" if database.url.startswith("mariadb") else '"{}"'
    database.script(f"""
        CREATE TABLE {quote.format("a:b")} (id INTEGER PRIMARY KEY, mast_id INTEGER,
            FOREIGN KEY (mast_id) REFERENCES mast (id) ON DELETE CASCADE);
        INSERT INTO mast VALUES (1, 1), (2, 2); INSERT INTO {quote.format("a:b")} VALUES (1, 1);
    """)
    for typed in ("a:b", "a:b:id=mast_id"):
        found = yeldro("plan", "mast", "--matching", typed, "--json", db=database.url).one()
        assert found["matched"] == 1


def test_what_receipts_say_of_filters_and_forgotten_rows(yeldro: Yeldro, demo: SqliteFile) -> None:
    yeldro("run", "alert", "--where", "id = 1", "--expect", "1", "--yes", db=demo.url)
    told = yeldro("receipt", "list", "--table", "buoy").out
    assert told.startswith("--table buoy leaves none of 1 receipt in ")
    yeldro("receipt", "forget", "last", "--yes")
    assert "forgotten" in yeldro("receipt", "show", "last").out
    assert "forgotten" in yeldro("receipt", "list").out
    connection = demo.connect()
    connection.execute("BEGIN EXCLUSIVE")
    told = yeldro("preview", "alert", "--where", "id = 2", db=demo.url, code=5).err
    assert "--lock-wait" not in told
    connection.close()


def test_duplicates_that_nothing_tells_apart_are_refused(yeldro, file_made) -> None:
    """A table without a key, of which every name of the row id is a column of its own."""
    database = file_made("""
        CREATE TABLE heap (rowid TEXT, _rowid_ TEXT, oid TEXT, v INTEGER);
        INSERT INTO heap VALUES ('a', 'b', 'c', 1), ('a', 'b', 'c', 2), ('a', 'b', 'c', 2);
    """)
    refused = yeldro("plan", "heap", "--duplicates-by", "v", db=database.url, code=3).err
    assert "nothing tells equal rows apart" in refused
    yeldro("run", "heap", "--where", "v = 2", "--expect", "2", "--yes", db=database.url)
    assert database.value("SELECT count(*) FROM heap") == 1


UNCHECKED = {
    "postgresql": """
        CREATE TABLE mast (id int PRIMARY KEY, "a%b" int);
        INSERT INTO mast VALUES (1, 1), (2, -1), (3, NULL);
        ALTER TABLE mast ADD CONSTRAINT above CHECK ("a%b" > 0) NOT VALID;
    """,
    "mariadb": """
        CREATE TABLE mast (id int PRIMARY KEY, `a%b` int, CONSTRAINT above CHECK (`a%b` > 0));
        SET check_constraint_checks = 0; INSERT INTO mast VALUES (1, 1), (2, -1), (3, NULL);
    """,
}


@pytest.mark.parametrize("made", UNCHECKED, indirect=True)
def test_rows_that_do_not_meet_a_check_of_their_table_are_warned_of(yeldro, made, request) -> None:
    database = made(UNCHECKED[request.node.callspec.params["made"]])
    words = ("run", "mast", "--all-rows", "--expect", "3", "--yes")
    told = " ".join(yeldro(*words, db=database.url).out.split())
    assert "1 row of mast holds what the check above refuses" in told
    assert "id 2" in yeldro("restore", "last", "--yes", db=database.url, code=3).err
    yeldro("restore", "last", "--skip-conflicts", "--yes", db=database.url)
    assert database.rows("SELECT id FROM mast ORDER BY id") == [(1,), (3,)]


@pytest.mark.parametrize(
    "needs",
    [
        "CREATE TABLE k (id INTEGER PRIMARY KEY, v TEXT CHECK (shout(v) = v))",
        "CREATE TABLE k (id INTEGER PRIMARY KEY, v TEXT, s TEXT AS (shout(v)) STORED)",
        "CREATE TABLE k (id INTEGER PRIMARY KEY, v TEXT); CREATE TRIGGER t AFTER INSERT ON k"
        " BEGIN SELECT shout(new.v); END",
    ],
)
def test_rows_that_only_another_program_could_insert_do_not_go(
    yeldro: Yeldro, tmp_path: Path, needs: str
) -> None:
    """The file's program defines a function that its checks, columns or triggers call."""
    path = tmp_path / "own.db"
    with sqlite3.connect(path) as file:
        file.create_function("shout", 1, lambda text: text.upper(), deterministic=True)
        file.executescript(f"{needs}; INSERT INTO k (id, v) VALUES (1, 'A'), (2, 'B')")
    database = SqliteFile(path)
    before = database.value("SELECT group_concat(id || v) FROM k")
    words = ("k", "--where", "id = 1")
    run = ("run", *words, "--expect", "1", "--yes")
    refused = yeldro(*run, db=database.url, code=3).err
    assert "shout" in refused
    assert "--without-rows" in refused
    assert database.value("SELECT group_concat(id || v) FROM k") == before
    yeldro(*run, "--without-rows", db=database.url)


def test_what_only_another_program_defines_is_said(yeldro: Yeldro, tmp_path: Path) -> None:
    path = tmp_path / "own.db"
    with sqlite3.connect(path) as file:
        file.create_collation("nordic", lambda a, b: (a > b) - (a < b))
        file.execute("CREATE TABLE a (id INTEGER PRIMARY KEY, name TEXT COLLATE nordic UNIQUE)")
        file.execute("INSERT INTO a VALUES (1, 'x'), (2, 'y')")
    words = ("duplicates", "a", "--by", "name")
    done = yeldro(*words, db=str(path), code=5)
    assert "nordic. Only the program that uses this file defines it" in done.err


def test_a_half_written_file_is_not_called_a_matter_of_permissions(
    yeldro: Yeldro, tmp_path: Path
) -> None:
    path = tmp_path / "half.db"
    killed = f"""
import os, sqlite3
file = sqlite3.connect({str(path)!r}, isolation_level=None)
file.execute("PRAGMA cache_size = 5")
file.execute("CREATE TABLE t (id INTEGER PRIMARY KEY, x TEXT)")
file.executemany("INSERT INTO t VALUES (?, ?)", [(n, "x" * 500) for n in range(999)])
file.execute("BEGIN")
file.execute("UPDATE t SET x = 'y' || x")
os._exit(1)
"""
    subprocess.run([sys.executable, "-c", killed], check=False)
    assert path.with_name("half.db-journal").exists()
    said = yeldro("survey", db=str(path), code=5).err
    assert "A program ended while it was writing" in said
    run = ("run", "t", "--where", "x LIKE 'x%'", "--expect", "999", "--yes")
    assert "999" in yeldro(*run, db=str(path)).out  # what it had not committed is undone first
