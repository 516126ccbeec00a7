"""Earlier runs: which of them, parts of them, elsewhere, what is in the way, and for good."""

from __future__ import annotations

import contextlib
import csv
import json
import random
import re
import sqlite3
from pathlib import Path

import pytest
from conftest import Yeldro, there_and_back
from systems import AnyDatabase, SqliteFile
from test_look import GONE

FOLLOWED = ("buoy", *GONE, "--follow", "visit", "--expect", "0..", "--yes")


def test_only_some_tables_go_back_and_the_rest_later(yeldro: Yeldro, network: AnyDatabase) -> None:
    before = network.contents()
    yeldro("run", *FOLLOWED, db=network.url)
    orphaned = yeldro("restore", "last", "--only", "sensor", "--yes", code=3)
    assert "have no parent row" in orphaned.err
    unknown = yeldro("restore", "last", "--only", "sensr", "--yes", code=2)
    assert "Did you mean sensor" in unknown.err
    words = ("--only", "buoy", "--only", "sensor")
    part = yeldro("restore", "last", *words, "--yes", "--json").json()
    assert {step["table"] for step in part["steps"]} == {"buoy", "sensor"}
    assert yeldro("receipt", "check", "--json").json()["verdict"] == "partly back"
    yeldro("restore", "last", "--yes")
    assert network.contents() == before


def test_a_condition_on_the_stored_rows_puts_back_those_alone(
    yeldro: Yeldro, network: AnyDatabase
) -> None:
    before = network.contents()
    notices = network.rows("SELECT id FROM alert WHERE level = 'notice' ORDER BY id")
    yeldro("run", "alert", "--where", "level = 'notice'", "--expect", "1..", "--yes",
           db=network.url)  # fmt: skip
    middle = notices[len(notices) // 2][0]
    words = ("restore", "last", "--yes", "--only", "alert", "--where")
    part = yeldro(*words, f"id <= {middle} AND level <> 'x;y'", "--json").json()
    assert part["total"] == len([row for row in notices if row[0] <= middle])
    assert network.value("SELECT max(id) FROM alert WHERE level = 'notice'") == middle
    for wrong, said in (("idd = 1", "Did you mean id"), ("1 = 1", "not a condition"),
                        ("id = 1; DROP TABLE x", "2 statements"), ("id = ", "cannot be read"),
                        ("id IN (SELECT n FROM step)", "not a condition"),
                        ("load_extension('x') = id", "not known")):  # fmt: skip
        assert said in yeldro(*words, wrong, code=2).err
    yeldro("restore", "last", "--yes")
    assert network.contents() == before


def test_rows_in_conflict_are_left_out_when_that_is_said(yeldro: Yeldro, made) -> None:
    database = made("""
        CREATE TABLE port (id INTEGER PRIMARY KEY, code VARCHAR(9) UNIQUE);
        CREATE TABLE ship (id INTEGER PRIMARY KEY, port_id INTEGER NOT NULL,
                           FOREIGN KEY (port_id) REFERENCES port (id));
        INSERT INTO port VALUES (1, 'a'), (2, 'b'), (3, 'c');
        INSERT INTO ship VALUES (1, 1), (2, 2), (3, 3);
    """)
    yeldro("run", "port", "--where", "id < 3", "--follow", "ship", "--expect", "2", "--yes",
           db=database.url)  # fmt: skip
    database.script("INSERT INTO port VALUES (9, 'b')")
    refused = yeldro("restore", "last", "--yes", code=3)
    assert "(code) is taken by another row" in refused.err
    done = yeldro("restore", "last", "--skip-conflicts", "--yes", "--json").json()
    assert any("code" in each for each in done["skipped"])
    assert "1 row of ship with the rows they depend on" in done["skipped"]
    assert database.rows("SELECT id, code FROM port ORDER BY id") == [
        (1, "a"), (3, "c"), (9, "b")
    ]  # fmt: skip
    assert database.rows("SELECT id FROM ship ORDER BY id") == [(1,), (3,)]
    again = yeldro("restore", "last", "--skip-conflicts", "--yes").out
    assert "the missing rows were left out" in again
    assert "in place." not in again
    chosen = yeldro("restore", "last", "--only", "port", "--where", "id = 1", "--yes").out
    assert "every chosen row is in place" in chosen


@pytest.mark.parametrize("encoding", ["UTF-8", "UTF-16le", "UTF-16be"])
def test_no_text_comes_back_as_another(yeldro: Yeldro, tmp_path: Path, encoding: str) -> None:
    """Pairs of units of UTF-16, and bytes that no encoding has, in files of each encoding."""
    path = tmp_path / "texts.db"
    chance = random.Random(encoding)
    units = ["0041", "d800", "dc00", "dbff", "dfff", "0000", "ffff", "fffd"]
    texts = ["".join(chance.sample(units, 2)) for _ in range(16)]
    texts += [chance.randbytes(chance.randint(1, 7)).hex() for _ in range(4)]
    with contextlib.closing(sqlite3.connect(path)) as connection:
        connection.executescript(f"PRAGMA encoding = '{encoding}'; CREATE TABLE said"
                                 " (id INTEGER PRIMARY KEY, words TEXT)")  # fmt: skip
        for text in texts:
            connection.execute(f"INSERT INTO said (words) VALUES (CAST(x'{text}' AS TEXT))")
        connection.commit()

        def contents() -> list[tuple[int, str]]:
            return connection.execute("SELECT id, hex(words) FROM said").fetchall()

        before = contents()
        whole = 0
        for number in range(1, len(texts) + 1):
            words = ("run", "said", "--where", f"id = {number}", "--expect", "1", "--yes")
            done = yeldro(*words, db=str(path), code=None)
            if done.code == 3:
                assert encoding != "UTF-8"
                assert "could not be restored" in done.err
            else:
                assert len(contents()) == len(before) - 1
                yeldro("restore", "last", "--yes")
                whole += 1
            assert contents() == before
    assert whole >= 4


# Of each system: the type of a long text, one that no compression shortens, and so many columns
# that rows can no longer come back.
WIDE = {
    "sqlite": ("TEXT", "(SELECT group_concat(hex(randomblob(99)), '') FROM buoy)", 2000),
    "postgresql": (
        "TEXT",
        "(SELECT string_agg(md5(random()::text), '') FROM generate_series(1, 400))",
        900,
    ),
    "mariadb": (
        "LONGTEXT",
        "(SELECT group_concat(sha2(rand(), 512) SEPARATOR '') FROM buoy)",
        1017,
    ),
}


@pytest.mark.parametrize(("columns", "key"), [(32, ""), (33, "PRIMARY KEY"), (0, "")])
def test_whatever_goes_can_come_back_or_does_not_go(
    yeldro: Yeldro, made, columns: int, key: str, request: pytest.FixtureRequest
) -> None:
    """Tables with many columns, one of them long, with and without a key.

    Args:
        columns: their number, 0 for a number that is different on each system.
    """
    system = next(name for name in WIDE if name in request.node.callspec.id)
    long, text, most = WIDE[system]
    more = [f"c{n} INTEGER DEFAULT {n}" for n in range((columns or most) - 2)]
    database: AnyDatabase = made(f"""
        CREATE TABLE buoy (id INTEGER {key}, note {long}{"".join(f", {each}" for each in more)});
        INSERT INTO buoy (id, note) VALUES (1, 'a'), (2, 'b'), (3, 'c');
    """)
    database.script(f"INSERT INTO buoy (id, note) SELECT id + 3, {text} FROM buoy")

    def rows() -> list[tuple[object, ...]]:
        return database.rows("SELECT * FROM buoy ORDER BY id")

    before = rows()
    words = ("run", "buoy", "--where", "id > 2", "--expect", "4", "--yes")
    done = yeldro(*words, db=database.url, code=None)
    if done.code:
        assert not columns
        assert "columns to store" in done.err or "at most" in done.err
        assert rows() == before
        return
    yeldro("restore", "last", "--yes")
    assert rows() == before
    assert "all back" in yeldro("receipt", "check", "last").out


GENERATED = """
    CREATE TABLE port (id INTEGER PRIMARY KEY, berth INTEGER,
        code INTEGER GENERATED ALWAYS AS (berth * 10) STORED UNIQUE);
    CREATE TABLE ship (id INTEGER PRIMARY KEY, port_code INTEGER, half INTEGER,
        twice INTEGER GENERATED ALWAYS AS (half * 2) STORED,
        FOREIGN KEY (port_code) REFERENCES port (code) ON DELETE {action},
        FOREIGN KEY (twice) REFERENCES port (code){own});
    CREATE TABLE mark (code INTEGER NOT NULL, n INTEGER,
        next INTEGER {not_null} GENERATED ALWAYS AS (n + 1) STORED, note INTEGER,
        UNIQUE (next), FOREIGN KEY (code) REFERENCES port (code) ON DELETE CASCADE);
    INSERT INTO port (id, berth) VALUES (1, 1), (2, 2), (3, 3), (4, 4);
    INSERT INTO ship (id, port_code, half) VALUES (1, 10, NULL), (2, 20, 10), (3, 30, 20);
    INSERT INTO mark (code, n, note) VALUES (10, 1, 1), (20, 2, 1), (40, 3, 1), (40, 4, 1);
"""


@pytest.mark.parametrize("action", ["CASCADE", "SET NULL"])
def test_a_foreign_key_may_name_generated_columns(yeldro: Yeldro, made, action: str) -> None:
    database = made("CREATE TABLE spare (id INTEGER)")
    mariadb = database.url.startswith("mariadb")
    not_null = "" if mariadb else "NOT NULL"
    own = " ON DELETE CASCADE" if action == "CASCADE" else ""
    database.script(GENERATED.format(action=action, own=own, not_null=not_null))
    words = ("port", "--where", "id IN (1, 2)", "--follow", "ship.twice", "--expect", "2")
    there_and_back(yeldro, database, *words)
    there_and_back(yeldro, database, "mark", "--duplicates-by", "note", "--expect", "3")
    before = database.contents()
    yeldro("run", *words, "--yes", db=database.url)
    database.script("INSERT INTO port (id, berth) VALUES (9, 1)")
    told = yeldro("restore", "last", "--yes", code=3).err
    assert "1 value" in told
    assert "(code)" in told
    database.script("DELETE FROM port WHERE id = 9")
    if action == "CASCADE":
        told = yeldro("restore", "last", "--only", "ship", "--yes", code=3).err
        assert "have no parent row" in told
    yeldro("restore", "last", "--yes")
    assert database.contents() == before


def test_another_database_takes_the_rows_only_when_it_is_said(
    yeldro: Yeldro, demo: SqliteFile
) -> None:
    other = SqliteFile(yeldro.folder / "other.db")
    other.path.write_bytes(demo.path.read_bytes())
    yeldro("run", *FOLLOWED, db=demo.url)
    yeldro("run", *FOLLOWED, db=other.url)
    first = yeldro("receipt", "list", "--of", demo.url, "--json").json()[0]["id"]
    assert "--into" in yeldro("restore", first, "--yes", db=other.url, code=3).err
    yeldro("restore", first, "--into", other.url, "--yes")
    assert other.value("SELECT count(*) FROM buoy") == 120
    assert demo.value("SELECT count(*) FROM buoy") < 120


def test_receipts_are_listed_by_table_date_and_database(yeldro: Yeldro, demo: SqliteFile) -> None:
    yeldro("run", "alert", "--where", "id = 1", "--expect", "1", "--yes", db=demo.url)
    yeldro("run", *FOLLOWED, db=demo.url)

    def listed(*words: str) -> int:
        return len(yeldro("receipt", "list", *words, "--json").json())

    assert listed() == listed("--table", "alert") == listed("--of", demo.url) == 2
    assert listed("--table", "sensor") == 1
    assert listed("--table", "sensors") == listed("--of", "other.db") == 0
    assert listed("--since", "2099-01-01") == listed("--until", "2001-01-01") == 0
    assert listed("--since", "2001-01-01", "--until", "2099-01-01") == 2


def test_exported_rows_are_those_that_went(yeldro: Yeldro, network: AnyDatabase) -> None:
    serials = {row[0] for row in network.rows("SELECT serial FROM buoy")}
    yeldro("run", *FOLLOWED, db=network.url)
    serials -= {row[0] for row in network.rows("SELECT serial FROM buoy")}
    yeldro("receipt", "export", "last", "--to", "kept")
    (path,) = (yeldro.folder / "kept").glob("*-remove-buoy.csv")
    with path.open(newline="") as file:
        assert {row["serial"] for row in csv.DictReader(file)} == serials
    again = yeldro("receipt", "export", "last", "--to", "kept", code=3)
    assert "left as it is" in again.err
    yeldro("receipt", "export", "last", "--to", "lines", "--lines")
    (path,) = (yeldro.folder / "lines").glob("*-remove-buoy.jsonl")
    assert {json.loads(line)["serial"] for line in path.read_text().splitlines()} == serials


def test_no_table_name_leads_an_export_out_of_its_folder(yeldro: Yeldro, file_made) -> None:
    database = file_made("""
        CREATE TABLE "../../out/of\nhere" (id INTEGER PRIMARY KEY, "a\x1b[31m" TEXT);
        INSERT INTO "../../out/of\nhere" VALUES (1, 'x'), (2, CAST(x'ff41' AS TEXT));
    """)
    yeldro("run", "../../out/of\nhere", "--all-rows", "--expect", "2", "--yes", db=database.url)
    yeldro("receipt", "export", "last", "--to", "kept")
    (path,) = (yeldro.folder / "kept").iterdir()
    assert path.parent == yeldro.folder / "kept"
    assert path.read_text().count("\n") == 3
    yeldro("restore", "last", "--yes")
    assert database.value('SELECT count(*) FROM "../../out/of\nhere"') == 2


def test_forgotten_rows_are_nowhere_in_the_file_and_the_counts_stay(
    yeldro: Yeldro, demo: SqliteFile
) -> None:
    demo.script("UPDATE buoy SET name = 'Very secret name' WHERE id = 4")
    yeldro("run", *FOLLOWED, db=demo.url)
    (path,) = yeldro.receipts.iterdir()
    assert b"Very secret name" in path.read_bytes()
    total = yeldro("receipt", "show", "--json").json()["total"]
    assert "There is no terminal" in yeldro("receipt", "forget", "last", code=2).err
    yeldro("receipt", "forget", "last", "--yes")
    assert b"Very secret name" not in path.read_bytes()
    assert yeldro("receipt", "show", "--json").json()["total"] == total
    assert "holds counts" in yeldro("restore", "last", "--yes", code=3).err
    _outcome(path, "ready")
    assert "is ready" in yeldro("receipt", "forget", "last", "--yes", code=3).err


def _outcome(path: Path, outcome: str) -> None:
    file = sqlite3.connect(path)
    with file:
        file.execute("UPDATE receipt SET outcome = ?", (outcome,))
    file.close()


def test_a_receipt_that_was_cut_short_or_forged_is_never_a_fault(
    yeldro: Yeldro, demo: SqliteFile
) -> None:
    buoys = demo.value("SELECT count(*) FROM buoy")
    tables = demo.rows("SELECT * FROM sqlite_master")
    yeldro("run", *FOLLOWED, db=demo.url)
    cleaned = demo.path.read_bytes()
    left = demo.value("SELECT count(*) FROM buoy")
    (path,) = yeldro.receipts.iterdir()
    whole = path.read_bytes()
    forged = yeldro.folder / "forged.receipt.sqlite"
    for text in (b"", whole[:100], whole[: len(whole) // 2], whole[:5000] + b"\xff" * 3000):
        forged.write_bytes(text)
        yeldro("receipt", "show", str(forged), code=2)
    attacks = [
        "UPDATE step SET rows_table = 'rows_1; DROP TABLE buoy'",
        "UPDATE step SET table_name = 'buoy\"; DROP TABLE buoy; --'",
        "UPDATE step SET table_name = '../x'",
        "UPDATE stored_column SET name = 'id) ; DELETE FROM buoy --' WHERE position = 1",
        "UPDATE stored_column SET stored_as = 'id\"; --'",
        "UPDATE stored_column SET type = 'INTEGER); DROP TABLE buoy; --'",
        "UPDATE step SET action = 'destroy'",
        "UPDATE receipt SET format = 99",
        "UPDATE receipt SET system = 'PostgreSQL'",
        "UPDATE step SET n = n + 9223372036854775000",
        "DROP TABLE stored_column",
        "DELETE FROM receipt",
    ]
    for attack in attacks:
        forged.write_bytes(whole)
        file = sqlite3.connect(forged)
        with file:
            file.execute(attack)
        file.close()
        for words in (("receipt", "check"), ("restore",)):
            done = yeldro(*words, str(forged), *(["--yes"] if words == ("restore",) else []),
                          db=demo.url, code=None)  # fmt: skip
            assert done.code in (0, 2, 3, 4, 5), (attack, done)
            assert "fault in Yeldro" not in done.err, (attack, done.err)
        assert demo.rows("SELECT * FROM sqlite_master") == tables, attack
        assert demo.value("SELECT count(*) FROM buoy") in (left, buoys), attack
        demo.path.write_bytes(cleaned)


def test_rows_that_are_left_out_are_counted_as_stored(yeldro: Yeldro, network: AnyDatabase) -> None:
    yeldro("run", "buoy", "--where", "id = 6", "--follow", "all", "--expect", "1", "--yes",
           db=network.url)  # fmt: skip
    words = ("restore", "last", "--only", "visit", "--skip-conflicts", "--yes")
    told = yeldro(*words, db=network.url).out
    assert re.search(r"remove +visit +(\d+) +0 +0 +\1", told)
    (step,) = yeldro(*words, "--json", db=network.url).json()["steps"]
    assert (step["stored"], step["back"], step["missing"]) == (step["left_out"], 0, 0)
    assert step["stored"] > 0


def test_tables_that_are_not_there_are_named_with_their_columns(
    yeldro: Yeldro, demo: SqliteFile
) -> None:
    yeldro("run", "buoy", "--where", "id = 6", "--follow", "all", "--expect", "1", "--yes",
           db=demo.url)  # fmt: skip
    SqliteFile(yeldro.folder / "empty.db").script("CREATE TABLE visit (id)")
    told = yeldro("restore", "last", "--into", "empty.db", "--yes", db=demo.url, code=3).err
    told = " ".join(told.split())
    assert "buoy_tag" in told
    assert "sensor (id INTEGER, buoy_id INTEGER, kind VARCHAR(20), installed_on DATE)" in told
    told = yeldro("restore", "last", "--into", "none.db", "--yes", db=demo.url, code=5).err
    assert "There is no file" in told
    assert "takes a database that has the tables of the rows" in told


def test_rows_that_went_in_waves_come_back_in_waves(yeldro: Yeldro, made) -> None:
    """Two tables whose rows must always name one of the other: there is no link to set later."""
    database = made("""
        CREATE TABLE mast (id INTEGER PRIMARY KEY, lamp_id INTEGER NOT NULL);
        CREATE TABLE lamp (id INTEGER PRIMARY KEY, mast_id INTEGER NOT NULL,
            FOREIGN KEY (mast_id) REFERENCES mast (id));
        INSERT INTO mast VALUES (1, 1), (2, 1), (3, 2), (4, 3);
        INSERT INTO lamp VALUES (1, 1), (2, 2), (3, 3);
    """)
    if isinstance(database, SqliteFile):
        database.script("""
            PRAGMA writable_schema = ON;
            UPDATE sqlite_schema SET sql = replace(sql, 'NOT NULL)',
                'NOT NULL, FOREIGN KEY (lamp_id) REFERENCES lamp (id))') WHERE name = 'mast';
        """)
    else:
        database.script("ALTER TABLE mast ADD FOREIGN KEY (lamp_id) REFERENCES lamp (id)")
    words = ("mast", "--where", "id > 1", "--follow", "all", "--expect", "3", "--expect", "total=5")
    before = database.contents()
    receipt = yeldro("run", *words, "--yes", "--json", db=database.url).json()["receipt"]
    after = database.contents()
    for state in (before, after, before):
        receipt = yeldro("restore", receipt, "--yes", "--json").json()["own_receipt"]
        assert database.contents() == state
