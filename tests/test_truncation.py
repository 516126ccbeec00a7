"""Emptying a table by TRUNCATE: what is asked and said before, and what forbids it."""

from __future__ import annotations

import json
import threading
import time
from typing import Any

import pexpect
import psycopg
import pytest
from conftest import PROGRAM, Yeldro
from systems import AnyDatabase, MariadbServerDatabase, SqliteFile

FLAT = """
    CREATE TABLE port (id INTEGER PRIMARY KEY);
    CREATE TABLE cable (id {counted} PRIMARY KEY, name VARCHAR(20), port_id INTEGER, at_id INTEGER,
                        FOREIGN KEY (port_id) REFERENCES port (id),
                        FOREIGN KEY (at_id) REFERENCES cable (id));
    INSERT INTO port VALUES (1), (2);
    INSERT INTO cable (name, port_id, at_id) VALUES ('a', 1, 1), ('b', NULL, 1), ('c', 2, 2);
"""
WORDS = ("run", "cable", "--all-rows", "--truncate")
COUNTED = {"postgresql": "SERIAL", "mariadb": "INTEGER AUTO_INCREMENT"}


pytestmark = pytest.mark.parametrize("made", ["postgresql", "mariadb"], indirect=True)


@pytest.fixture
def flat(request: pytest.FixtureRequest, made: Any) -> AnyDatabase:
    """A table that nothing references."""
    system = request.node.callspec.params["made"]
    return made(FLAT.replace("{counted}", COUNTED[system]))


def commits_by_itself(database: AnyDatabase) -> bool:
    return database.url.startswith("mariadb")


def accepted(database: AnyDatabase) -> list[str]:
    return ["--no-way-back", "cable"] if commits_by_itself(database) else []


def test_a_truncated_table_comes_back_from_the_receipt(yeldro: Yeldro, flat) -> None:
    before = flat.contents()
    words = (*WORDS, *accepted(flat), "--yes", "--expect")
    assert "expected 4, would be 3" in yeldro(*words, "4", db=flat.url, code=4).err
    assert flat.contents() == before
    done = yeldro(*words, "3", "--json", db=flat.url).one()
    assert done["outcome"] == "committed"
    assert flat.value("SELECT count(*) FROM cable") == 0
    said = json.dumps(done)
    assert ("id begins at 1 again" if commits_by_itself(flat) else "id continues") in said
    assert yeldro("receipt", "check", "--json").json()["verdict"] == "all gone"
    yeldro("restore", "last", "--yes")
    assert flat.contents() == before
    flat.script("INSERT INTO cable (name) VALUES ('next')")
    assert flat.value("SELECT id FROM cable WHERE name = 'next'") == 4


def test_what_cannot_be_rolled_back_is_asked_for_apart(yeldro: Yeldro, flat) -> None:
    before = flat.contents()
    if commits_by_itself(flat):
        refused = yeldro(*WORDS, "--yes", "--expect", "3", db=flat.url, code=3)
        assert "commits by itself" in refused.err
        assert "--no-way-back cable" in refused.err
        assert flat.contents() == before
    for typed in (("3", "cabel"), ("3", "cable")):
        child = pexpect.spawn(str(PROGRAM), list(WORDS), env=yeldro.environment |
                              {"YELDRO_DB": flat.url}, cwd=yeldro.folder, timeout=60)  # fmt: skip
        child.expect("Type the number")
        child.sendline(typed[0])
        if commits_by_itself(flat):
            child.expect("This cannot be rolled back. Type the table's name")
            assert flat.contents() == before
            for _ in range(1 if typed[1] == "cable" else 3):
                child.sendline(typed[1])
        child.expect(pexpect.EOF)
        child.close()
        if child.exitstatus == 0:
            break
        assert child.exitstatus == 4
        assert flat.contents() == before
    assert child.exitstatus == 0
    assert flat.value("SELECT count(*) FROM cable") == 0


def test_what_forbids_it_is_named(yeldro: Yeldro, flat) -> None:
    words = (*WORDS, *accepted(flat), "--yes", "--expect", "3")
    flat.script("CREATE TABLE plug (id INTEGER PRIMARY KEY, cable_id INTEGER,"
                " FOREIGN KEY (cable_id) REFERENCES cable (id))")  # fmt: skip
    before = flat.contents()
    refused = yeldro(*words, db=flat.url, code=3).err
    assert "plug.cable_id" in refused
    assert "--all-rows alone" in refused
    flat.script("DROP TABLE plug")
    if commits_by_itself(flat):
        flat.script("CREATE TRIGGER noted AFTER DELETE ON cable FOR EACH ROW SET @n = 1")
        named = ["its trigger noted would not run"]
    else:
        flat.script("""
            CREATE FUNCTION nothing() RETURNS trigger LANGUAGE plpgsql AS
                'BEGIN RETURN NULL; END';
            CREATE TRIGGER noted AFTER DELETE ON cable FOR EACH ROW EXECUTE FUNCTION nothing();
            CREATE TRIGGER emptied AFTER TRUNCATE ON cable EXECUTE FUNCTION nothing();
            CREATE PUBLICATION cables_out FOR TABLE cable WITH (publish = 'insert');
        """)
        named = ["its trigger noted would not run", "emptied runs on TRUNCATE",
                 "cables_out does not tell its subscribers"]  # fmt: skip
    refused = yeldro(*words, db=flat.url, code=3).err
    assert all(each in refused for each in named), refused
    assert flat.value("SELECT count(*) FROM cable") == 3
    assert [row for row in flat.contents() if "plug" not in row] == [
        row for row in before if "plug" not in row
    ]
    assert not list(yeldro.receipts.glob("*"))


def test_a_row_that_comes_meanwhile_is_counted_or_waits(yeldro: Yeldro, flat) -> None:
    """A row that another program has not committed yet is never emptied away unseen."""
    connection: Any = (
        flat.connect()
        if isinstance(flat, MariadbServerDatabase)
        else psycopg.connect(flat.url, autocommit=True)
    )
    cursor = connection.cursor()
    cursor.execute("BEGIN")
    cursor.execute("INSERT INTO cable (name) VALUES ('late')")
    words = (*WORDS, *accepted(flat), "--yes", "--expect", "3")
    waited = yeldro(*words, "--lock-wait", "1", db=flat.url, code=5)
    assert "lock" in waited.err.lower()

    def commit() -> None:
        time.sleep(2.5)
        cursor.execute("COMMIT")

    later = threading.Thread(target=commit)
    later.start()
    refused = yeldro(*words, db=flat.url, code=4)
    later.join()
    connection.close()
    assert "would be 4" in refused.err
    assert flat.value("SELECT count(*) FROM cable") == 4


def test_only_the_whole_table_and_only_where_the_system_can(
    yeldro: Yeldro, demo: SqliteFile, flat
) -> None:
    some = yeldro("run", "cable", "--where", "id > 1", "--truncate", "--yes", "--expect", "2",
                  db=flat.url, code=2)  # fmt: skip
    assert "--all-rows" in some.err
    parts = yeldro(*WORDS, "--batch", "2", "--yes", "--expect", "3", db=flat.url, code=2)
    assert "Drop one of them" in parts.err
    none = yeldro("run", "alert", "--all-rows", "--truncate", "--yes", "--expect", "1..",
                  db=demo.url, code=3)  # fmt: skip
    assert "SQLite has no TRUNCATE" in none.err
    assert flat.value("SELECT count(*) FROM cable") == 3
