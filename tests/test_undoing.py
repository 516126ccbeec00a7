"""Restores undone by their own receipts, and tables that have changed meanwhile."""

from __future__ import annotations

import pytest
from conftest import Yeldro
from systems import MariadbServerDatabase, SqliteFile, unchecked
from undoing import back_and_forth

from yeldro.engines import open_database

PORTS = """
    CREATE TABLE port (id INTEGER PRIMARY KEY, name VARCHAR(9));
    CREATE TABLE ship (id INTEGER PRIMARY KEY, port_id INTEGER, home_id INTEGER,
                       FOREIGN KEY (port_id) REFERENCES port (id),
                       FOREIGN KEY (home_id) REFERENCES port (id));
    CREATE TABLE log (port_id INTEGER, line VARCHAR(9),
                      FOREIGN KEY (port_id) REFERENCES port (id));
    INSERT INTO port VALUES (1, 'a'), (2, 'b'), (3, NULL);
    INSERT INTO ship VALUES (1, 1, 3), (2, 2, 3), (3, 3, 1);
    INSERT INTO log VALUES (1, 'x'), (1, 'x'), (2, 'z'), (3, 'y');
"""
GONE = ("run", "port", "--where", "id < 3", "--follow", "ship.port_id", "--follow", "log",
        "--detach", "ship.home_id", "--expect", "2", "--yes")  # fmt: skip


@pytest.fixture
def restored(yeldro: Yeldro, made) -> tuple:
    """A database in which rows went and came back, and the receipt of their coming back."""
    database = made(PORTS)
    yeldro(*GONE, db=database.url)
    own = yeldro("restore", "last", "--yes", "--json").json()["own_receipt"]
    return database, own


def test_undoing_a_restore_takes_no_row_that_is_changed_or_needed_since(
    yeldro: Yeldro, restored
) -> None:
    database, own = restored
    assert yeldro("receipt", "check", own, "--json").json()["verdict"] == "all there"
    database.script("UPDATE port SET name = 'new' WHERE id = 1; INSERT INTO ship VALUES (9, 2, 3)")
    before = database.contents()
    refused = yeldro("restore", own, "--yes", code=3).err
    assert "1 row of port was changed since the restore (such as id 1)" in refused
    assert "referenced by rows of ship (ship.port_id" in refused
    assert database.contents() == before
    done = yeldro("restore", own, "--skip-conflicts", "--yes", "--json").json()
    assert any("changed since" in each for each in done["skipped"])
    assert database.rows("SELECT id FROM port ORDER BY id") == [(1,), (2,), (3,)]
    assert database.rows("SELECT id, home_id FROM ship ORDER BY id") == [(3, None), (9, 3)]
    assert database.rows("SELECT port_id FROM log") == [(3,)]
    database.script("UPDATE port SET name = 'a' WHERE id = 1; DELETE FROM ship WHERE id = 9")
    assert yeldro("restore", own, "--yes", "--json").json()["total"] == 2
    assert yeldro("receipt", "check", own, "--json").json()["verdict"] == "all undone"
    again = yeldro("restore", own, "--yes")
    assert "this restore is undone already" in again.out


def test_equal_rows_without_a_key_are_undone_by_their_number(yeldro: Yeldro, restored) -> None:
    database, own = restored
    database.script("INSERT INTO log VALUES (3, 'x'), (3, 'y')")
    yeldro("restore", own, "--only", "log", "--yes")
    assert database.rows("SELECT port_id, line FROM log ORDER BY line") == [
        (3, "x"), (3, "y"), (3, "y")
    ]  # fmt: skip
    gone = yeldro("receipt", "list", "--json").json()[0]["id"]
    yeldro("restore", gone, "--yes")
    assert database.value("SELECT count(*) FROM log WHERE line = 'x'") == 3
    database.script("DELETE FROM log WHERE line = 'z'")
    if isinstance(database, SqliteFile):  # a row id tells which one is gone
        assert yeldro("restore", own, "--only", "log", "--yes", "--json").json()["total"] == 2
    else:
        few = yeldro("restore", own, "--only", "log", "--yes", code=3).err
        assert "only 2 of 3 rows added to log are left" in few


def test_what_has_changed_about_the_table_is_told_before(yeldro: Yeldro, made) -> None:
    database = made(PORTS)
    yeldro("run", "log", "--where", "port_id < 3", "--expect", "3", "--yes", db=database.url)
    database.script("ALTER TABLE log ADD COLUMN grade VARCHAR(9) DEFAULT 'new'")
    found = yeldro("receipt", "check", "--json").json()
    assert found["notes"] == ["log has a column grade since; rows get its default there"]
    yeldro("restore", "last", "--yes")
    assert database.value("SELECT count(*) FROM log WHERE grade = 'new' AND line = 'x'") == 2
    yeldro("run", "log", "--where", "port_id < 3", "--expect", "3", "--yes", db=database.url)
    database.script("""
        DROP TABLE log;
        CREATE TABLE log (port_id INTEGER, line VARCHAR(90), grade VARCHAR(9),
                          must INTEGER NOT NULL)
    """)
    refused = yeldro("restore", "last", "--yes", code=3).err
    assert "log has a column must since, which takes no NULL and has no default" in refused
    shown = yeldro("receipt", "check").out
    assert "log.line was" in shown
    assert "(90) now" in shown
    database.script("ALTER TABLE log DROP COLUMN must; ALTER TABLE log DROP COLUMN grade")
    assert "log.grade is not there any more" in yeldro("restore", "last", "--yes", code=3).err
    assert database.value("SELECT count(*) FROM log") == 0


def test_a_trigger_on_rows_that_come_back_must_be_named(yeldro: Yeldro, made) -> None:
    database = made(f"{PORTS} CREATE TABLE heard (id INTEGER);")
    body = "INSERT INTO heard VALUES (1);"
    if isinstance(database, SqliteFile):
        database.script(f"CREATE TRIGGER hearing AFTER INSERT ON log BEGIN {body} END")
    elif isinstance(database, MariadbServerDatabase):
        database.script(f"CREATE TRIGGER hearing AFTER INSERT ON log FOR EACH ROW {body}")
    else:
        database.script(f"""
            CREATE FUNCTION hear() RETURNS trigger LANGUAGE plpgsql AS
                'BEGIN {body} RETURN NULL; END';
            CREATE TRIGGER hearing AFTER INSERT ON log FOR EACH ROW EXECUTE FUNCTION hear();
        """)
    yeldro("run", "log", "--where", "port_id < 3", "--expect", "3", "--yes", db=database.url)
    refused = yeldro("restore", "last", "--yes", code=4).err
    assert "3 rows more than planned" in refused
    assert "--allow-trigger hearing" in refused
    assert database.value("SELECT count(*) FROM log") == 1
    done = yeldro("restore", "last", "--yes", "--allow-trigger", "hearing", "--json").json()
    assert done["total"] == 3
    assert database.value("SELECT count(*) FROM heard") == 3


def test_rows_that_had_no_parent_even_before_go_and_come_any_number_of_times(
    yeldro: Yeldro, made
) -> None:
    database = made(PORTS)
    yeldro.environment["YELDRO_DB"] = database.url
    database.script(
        f"{unchecked(database)} INSERT INTO ship VALUES (7, 70, 1);INSERT INTO log VALUES (80, 'w')"
    )
    before = database.contents()
    yeldro("run", "ship", "--where", "id IN (1, 7)", "--expect", "2", "--yes")
    yeldro("run", "log", "--where", "port_id = 80", "--expect", "1", "--yes")
    receipts = [each["id"] for each in yeldro("receipt", "list", "--json").json()]
    if database.url.startswith("postgresql"):
        assert "had none before" in yeldro("restore", receipts[1], "--yes", code=3).err
        return
    for receipt in receipts:
        path = receipt
        for _ in range(5):  # back, away, back, away and back
            path = yeldro("restore", path, "--yes", "--json").json()["own_receipt"]
    assert database.contents() == before


def test_links_of_equal_rows_come_back_to_the_rows_they_were_cut_from(yeldro: Yeldro, made) -> None:
    database = made("""
        CREATE TABLE port (id INTEGER PRIMARY KEY);
        CREATE TABLE leg (mark INTEGER, origin INTEGER, goal INTEGER,
                          FOREIGN KEY (origin) REFERENCES port (id),
                          FOREIGN KEY (goal) REFERENCES port (id));
        INSERT INTO port VALUES (1), (2), (3), (4), (5), (6), (7), (8), (9);
        INSERT INTO leg VALUES (0, 8, 1), (0, NULL, 2), (0, 6, 3), (0, 5, NULL), (0, 4, 5),
                               (0, NULL, NULL), (0, 1, 8), (0, 2, 9), (0, 9, 7), (1, 3, 4);
    """)
    whole = database.contents()
    yeldro.environment["YELDRO_DB"] = database.url
    yeldro("run", "port", "--where", "id < 9", "--detach", "all", "--expect", "8", "--yes")
    (path,) = yeldro.receipts.glob("*")
    back_and_forth(open_database(database.url), path, database.contents)
    assert database.contents() == whole
    done = yeldro("run", "port", "--where", "id < 10", "--detach", "all", "--expect", "9", "--yes",
                  "--json").one()  # fmt: skip
    assert database.rows("SELECT mark, origin, goal FROM leg ORDER BY mark DESC")[0] == (
        1, None, None
    )  # fmt: skip
    yeldro("restore", done["receipt"], "--yes")
    assert database.contents() == whole
