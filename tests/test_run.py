"""The count is the key: plans, rehearsals, runs, and putting rows back."""

from __future__ import annotations

import sqlite3
import stat
import time
from collections.abc import Callable
from contextlib import closing
from pathlib import Path
from typing import Any

import pexpect
import pytest
from conftest import PROGRAM, Yeldro, there_and_back
from systems import AnyDatabase, SqliteFile
from test_look import GONE, GONE_SQL
from trials import Trials

from yeldro.core.database.sql import rows_of
from yeldro.core.model.tables.schema import Column, Table, TableName

FOLLOWED = ("buoy", *GONE, "--follow", "visit")
TWICE = (
    "reading",
    "--duplicates-by",
    "sensor_id,taken_at",
    "--keep",
    "fullest",
    "--keep",
    "lowest:id",
)


def test_a_blocked_plan_names_the_foreign_key_the_rows_and_the_option(yeldro, network) -> None:
    found = yeldro("plan", "buoy", *GONE, "--json", db=network.url, code=3)
    visits = network.value(
        f"SELECT count(*) FROM visit WHERE buoy_id IN (SELECT id FROM buoy WHERE {GONE_SQL})"
    )
    (blocked,) = found.one()["blocked"]
    assert blocked["foreign_key"] == "visit.buoy_id → buoy.id"
    assert blocked["rows"] == visits
    assert blocked["remedies"] == ["--follow visit.buoy_id"]
    assert "--follow visit.buoy_id" in found.err
    yeldro("run", "buoy", *GONE, "--expect", "0..", "--yes", db=network.url, code=3)
    yeldro("rehearse", "buoy", *GONE, db=network.url, code=3)


def test_steps_come_children_first_and_tell_their_reason_and_path(yeldro, network) -> None:
    found = yeldro("plan", *FOLLOWED, "--json", db=network.url).one()
    places = {(step["action"], step["table"]): step for step in found["steps"]}
    order = {key: step["n"] for key, step in places.items()}
    assert order["remove", "part_used"] < order["remove", "visit"] < order["remove", "buoy"]
    assert order["remove", "reading"] < order["remove", "sensor"]
    assert order["detach", "alert"] < order["remove", "reading"]
    assert places["remove", "visit"]["because"] == "visit.buoy_id → buoy.id (--follow visit)"
    assert places["remove", "reading"]["path"] == ["buoy", "sensor", "reading"]
    assert found["total"] == sum(s["rows"] for s in found["steps"] if not s["auxiliary"])
    assert found["matched"] == places["remove", "buoy"]["rows"]


def test_a_run_removes_what_was_planned_and_restore_brings_back_every_row(yeldro, network) -> None:
    before = network.contents()
    plan = yeldro("plan", *FOLLOWED, "--json", db=network.url).one()
    done = yeldro("run", *FOLLOWED, "--expect", str(plan["matched"]), "--expect",
                  f"total={plan['total']}", "--yes", "--json", db=network.url).one()  # fmt: skip
    assert done["outcome"] == "committed"
    assert [step["affected"] for step in done["steps"]] == [step["rows"] for step in plan["steps"]]
    assert done["ledger"]["visit"]["removed"] == places(done)["visit"]
    assert network.value(f"SELECT count(*) FROM buoy WHERE {GONE_SQL}") == 0
    assert stat.S_IMODE(Path(done["receipt"]).stat().st_mode) == 0o600

    check = yeldro("receipt", "check", done["receipt"], "--json").json()
    assert (check["verdict"], check["total"]) == ("all gone", plan["total"])
    back = yeldro("restore", done["receipt"], "--yes", "--json").json()
    assert (back["outcome"], back["total"]) == ("committed", plan["total"])
    assert network.contents() == before
    assert yeldro("receipt", "check", "last", "--json").json()["verdict"] == "all back"
    assert yeldro("restore", "last", "--yes", "--json").json()["outcome"] == "nothing_to_do"
    assert network.contents() == before


def places(document: dict) -> dict[str, int]:
    return {step["table"]: step["rows"] for step in document["steps"] if step["action"] == "remove"}


@pytest.mark.parametrize(
    "expectation", ["1", "500..", "..2", "total=3", "reading=1", "region=1..", "visit=..0"]
)
def test_any_wrong_expectation_changes_nothing(yeldro, network, expectation) -> None:
    before = network.contents()
    found = yeldro("run", *FOLLOWED, "--expect", expectation, "--yes", db=network.url, code=4)
    assert "Nothing was changed" in found.err
    assert network.contents() == before
    assert not list(yeldro.receipts.glob("*"))


def test_no_match_is_said_and_is_an_error_only_where_rows_were_expected(yeldro, network) -> None:
    nobody = ("buoy", "--where", "id < 0")
    before = network.contents()
    assert (
        "no row matches" in yeldro("run", *nobody, "--expect", "..5", "--yes", db=network.url).out
    )
    found = yeldro("run", *nobody, "--expect", "0", "--yes", "--json", db=network.url).one()
    assert (found["outcome"], found["receipt"]) == ("nothing_to_do", None)
    yeldro("run", *nobody, "--expect", "1", "--yes", db=network.url, code=4)
    assert network.contents() == before


def test_a_rehearsal_counts_like_a_run_and_leaves_everything(yeldro, network) -> None:
    before = network.contents()
    found = yeldro("rehearse", *FOLLOWED, "--json", db=network.url).one()
    assert found["outcome"] == "rolled_back"
    assert [step["affected"] for step in found["steps"]] == [
        step["rows"] for step in found["steps"]
    ]
    assert network.contents() == before
    assert not yeldro.receipts.exists()


def test_removing_duplicates_leaves_one_row_in_every_group(yeldro, network) -> None:
    before = network.contents()
    groups = network.value(
        "SELECT count(*) FROM (SELECT DISTINCT sensor_id, taken_at FROM reading) AS g"
    )
    surplus = network.value("SELECT count(*) FROM reading") - groups
    assert surplus > 50
    best = network.rows("""SELECT sensor_id, taken_at,
        max(CASE WHEN quality IS NULL THEN 0 ELSE 1 END) FROM reading
        GROUP BY sensor_id, taken_at ORDER BY 1, 2""")
    yeldro("run", *TWICE, "--expect", str(surplus), "--yes", db=network.url)
    assert (
        network.rows("""SELECT sensor_id, taken_at,
        CASE WHEN quality IS NULL THEN 0 ELSE 1 END FROM reading
        ORDER BY 1, 2""")
        == best
    )
    again = yeldro("run", *TWICE, "--expect", "0", "--yes", "--json", db=network.url).one()
    assert again["outcome"] == "nothing_to_do"
    yeldro("restore", "last", "--yes")
    assert network.contents() == before


def test_exact_copies_in_a_table_without_any_key_keep_one_row_each(yeldro, network) -> None:
    before = network.contents()
    copies = ("raw_upload", "--duplicates-by", "received_at,serial,line")
    yeldro("run", *copies, "--expect", "30", "--yes", db=network.url)
    assert network.value("SELECT count(*) FROM raw_upload") == 300
    assert network.value("SELECT count(*) FROM (SELECT DISTINCT * FROM raw_upload) AS g") == 300
    assert yeldro("receipt", "check", "--json").json()["verdict"] == "all gone"
    yeldro("restore", "last", "--yes")
    assert network.contents() == before


def test_rows_that_stand_in_another_table_are_counted_once_however_often_they_stand_there(
    yeldro, network
) -> None:
    joined = network.value("SELECT count(*) FROM buoy JOIN retired_serial USING (serial)")
    once = network.value(
        "SELECT count(*) FROM buoy WHERE serial IN (SELECT serial FROM retired_serial)"
    )
    assert joined > once
    listed = yeldro("plan", "buoy", "--matching", "retired_serial:serial=serial", "--follow", "all",
                    "--json", db=network.url).one()  # fmt: skip
    assert listed["matched"] == once
    total = network.value("SELECT count(*) FROM buoy")
    others = yeldro("plan", "buoy", "--missing-in", "retired_serial:serial=serial", "--follow",
                    "all", "--json", db=network.url).one()  # fmt: skip
    assert others["matched"] == total - once


def test_order_and_limit_pick_the_first_rows(yeldro, network) -> None:
    oldest = network.rows(
        "SELECT id FROM alert WHERE level = 'danger' ORDER BY raised_at, id LIMIT 5"
    )
    found = yeldro("preview", "alert", "--where", "level = 'danger'", "--order-by", "raised_at",
                   "--limit", "5", "--json", db=network.url).one()  # fmt: skip
    assert found["matched"] == 5
    assert [row["id"] for row in found["rows"]] == [row[0] for row in oldest]
    yeldro("run", "alert", "--where", "level = 'danger'", "--order-by", "raised_at", "--limit", "5",
           "--expect", "5", "--yes", db=network.url)  # fmt: skip
    left = {row[0] for row in network.rows("SELECT id FROM alert")}
    assert not left & {row[0] for row in oldest}


def test_detached_rows_stay_without_their_link_and_get_it_back(yeldro, network) -> None:
    before = network.contents()
    words = ("technician", "--where", "id = 3", "--follow", "visit", "--expect", "1", "--yes")
    held = network.value("SELECT count(*) FROM calibration WHERE technician_id = 3")
    assert held
    rows = network.value("SELECT count(*) FROM calibration")
    yeldro("run", *words, db=network.url)
    assert network.value("SELECT count(*) FROM calibration WHERE technician_id = 3") == 0
    assert network.value("SELECT count(*) FROM calibration") == rows
    yeldro("restore", "last", "--yes")
    assert network.contents() == before


def test_a_trigger_that_changes_other_rows_is_caught_unless_it_is_named(yeldro, file_made) -> None:
    database = file_made("""
        CREATE TABLE mast (id INTEGER PRIMARY KEY);
        CREATE TABLE log (said TEXT);
        INSERT INTO mast VALUES (1), (2), (3);
        CREATE TRIGGER logging AFTER DELETE ON mast BEGIN INSERT INTO log VALUES ('gone'); END;
    """)
    before = database.contents()
    words = ("run", "mast", "--where", "id < 3", "--expect", "2", "--yes")
    found = yeldro(*words, db=database.url, code=4)
    assert "2 rows more than planned" in found.err
    assert "--allow-trigger logging" in found.err
    assert database.contents() == before
    assert not list(yeldro.receipts.glob("*"))
    done = yeldro(*words, "--allow-trigger", "logging", "--json", db=database.url).one()
    assert done["outcome"] == "committed"
    assert done["unplanned"] == {"*": 2}
    assert database.value("SELECT count(*) FROM log") == 2
    notes = yeldro("restore", "last", "--yes", "--json").json()["notes"]
    assert notes == ["triggers changed 2 rows besides, as was allowed; these changes are "
                     "not in the receipt, and are not undone"]  # fmt: skip
    assert database.value("SELECT count(*) FROM log") == 2


def test_a_trigger_that_keeps_rows_is_caught_by_the_tally(yeldro, file_made) -> None:
    database = file_made("""
        CREATE TABLE mast (id INTEGER PRIMARY KEY);
        INSERT INTO mast VALUES (1), (2), (3);
        CREATE TRIGGER keeping BEFORE DELETE ON mast WHEN old.id = 2
            BEGIN SELECT RAISE(IGNORE); END;
    """)
    before = database.contents()
    found = yeldro(
        "run", "mast", "--where", "id < 3", "--expect", "2", "--yes", db=database.url, code=4
    )
    assert "affected 1" in found.err
    assert "rolled back" in found.err
    assert database.contents() == before


def test_a_receipt_without_rows_keeps_the_counts_and_cannot_restore(yeldro, network) -> None:
    yeldro("run", *FOLLOWED, "--expect", "1..", "--yes", "--without-rows", db=network.url)
    shown = yeldro("receipt", "show", "--json").json()
    assert shown["holds_rows"] is False
    counted = [step["affected"] for step in shown["steps"] if not step["auxiliary"]]
    assert shown["total"] == sum(counted) > 0
    yeldro("restore", "last", "--yes", code=3)
    assert [each["id"] for each in yeldro("receipt", "list", "--json").json()] == [shown["id"]]


def test_a_receipt_can_be_read_with_any_sqlite_tool(yeldro, network) -> None:
    columns = "id, serial, name, CAST(retired_on AS CHAR(10))"
    expected = network.rows(f"SELECT {columns} FROM buoy WHERE {GONE_SQL} ORDER BY id")
    done = yeldro("run", *FOLLOWED, "--expect", "1..", "--yes", "--json", db=network.url).one()
    receipt = sqlite3.connect(done["receipt"])
    assert receipt.execute("SELECT outcome FROM receipt").fetchone() == ("committed",)
    (table,) = receipt.execute(
        "SELECT rows_table FROM step WHERE table_name = 'buoy' AND action = 'remove'"
    ).fetchone()
    assert receipt.execute(f"SELECT {columns} FROM {table} ORDER BY id").fetchall() == expected
    receipt.close()


def test_restore_refuses_and_names_rows_whose_key_is_taken_or_whose_parent_is_gone(
    yeldro, network
) -> None:
    yeldro("run", "alert", "--where", "id <= 3", "--expect", "3", "--yes", db=network.url)
    buoy = network.value("SELECT min(id) FROM buoy")
    network.script(f"INSERT INTO alert VALUES (2, NULL, {buoy}, 'mine', '2025-01-01 00:00')")
    before = network.contents()
    found = yeldro("restore", "last", "--yes", code=3)
    assert "1 key of alert is taken" in found.err
    assert "id 2" in found.err
    assert network.contents() == before
    network.script("DELETE FROM alert WHERE id = 2")
    yeldro("restore", "last", "--yes")

    yeldro(
        "run", "part_used", "--where", "visit_no = 1", "--expect", "1..", "--yes", db=network.url
    )
    network.script(
        "DELETE FROM visit WHERE visit_no = 1 AND buoy_id IN (SELECT min(buoy_id) FROM visit)"
    )
    found = yeldro("restore", "last", "--yes", code=3)
    assert "have no parent row any more" in found.err


def test_restore_fills_in_what_is_missing_where_some_rows_are_back(yeldro, network) -> None:
    before = network.contents()
    row = network.rows("SELECT * FROM alert WHERE id = 2")[0]
    yeldro("run", "alert", "--where", "id <= 3", "--expect", "3", "--yes", db=network.url)
    values = ", ".join("NULL" if value is None else f"'{value}'" for value in row)
    network.script(f"INSERT INTO alert VALUES ({values})")
    assert yeldro("receipt", "check", "--json").json()["verdict"] == "partly back"
    assert yeldro("restore", "last", "--yes", "--json").json()["total"] == 2
    assert network.contents() == before


def test_restore_refuses_another_database(yeldro, demo, file_made) -> None:
    yeldro("run", "alert", "--where", "id <= 3", "--expect", "3", "--yes", db=demo.url)
    other = file_made("CREATE TABLE alert (id INTEGER PRIMARY KEY)")
    receipt = yeldro("receipt", "list", "--json").json()[0]["id"]
    found = yeldro("restore", receipt, "--yes", "--db", other.url, code=3)
    assert str(demo.path) in found.err
    assert str(demo.path) in yeldro("restore", "last", "--yes", "--db", other.url, code=2).err
    assert other.value("SELECT count(*) FROM alert") == 0


def test_every_kind_of_value_comes_back_as_it_was(yeldro, file_made) -> None:
    database = file_made("""
        CREATE TABLE "Odd ""Things" (
            "key" TEXT COLLATE NOCASE NOT NULL PRIMARY KEY, "order" INTEGER DEFAULT 7, v,
            twice GENERATED ALWAYS AS ("order" * 2) STORED) WITHOUT ROWID;
        INSERT INTO "Odd ""Things" ("key", v) VALUES ('a', NULL), ('b', x'00ff'), ('c', ''),
            ('d', CAST(x'ff41' AS TEXT)), ('e', 1e308 * 10), ('f', -9223372036854775808),
            ('g', 0.1), ('h', '12'), ('i', 12), ('j', 'x' || char(0) || 'y'), ('k', 12.0);
        CREATE TABLE loose (v);
        INSERT INTO loose VALUES (1), ('1'), (NULL), (NULL), (x'31');
        CREATE TABLE exact (n ANY PRIMARY KEY, t TEXT) STRICT;
        INSERT INTO exact VALUES ('01', 'text'), (1, 'number'), (x'01', 'bytes');
    """)
    before = database.contents()
    for table, rows in (('Odd "Things', "11"), ("loose", "5"), ("exact", "3")):
        yeldro("run", table, "--all-rows", "--expect", rows, "--yes", db=database.url)
        assert yeldro("survey", table, "--json", db=database.url).json()["rows"] == 0
        assert database.contents() != before
        yeldro("restore", "last", "--yes")
        assert database.contents() == before


def typing(yeldro: Yeldro, database: AnyDatabase, *words: str) -> pexpect.spawn:
    """Start the program at a terminal."""
    environment = yeldro.environment | {"YELDRO_DB": database.url, "TERM": "xterm"}
    child = pexpect.spawn(str(PROGRAM), list(words), env=environment, encoding="utf-8", timeout=60)
    child.setwinsize(40, 160)
    return child


def ended(child: pexpect.spawn) -> int | None:
    """Wait for the end of a program at a terminal; return its exit code."""
    child.expect(pexpect.EOF)
    child.close()
    return child.exitstatus


def interrupt(child: pexpect.spawn, is_under_way: Callable[[], Any]) -> None:
    """Types Ctrl-C once the statement is under way, and sees that everything is rolled back."""
    ends = time.monotonic() + 60
    while not is_under_way():
        assert time.monotonic() < ends, "it never began"
        time.sleep(0.1)
    time.sleep(0.5)
    child.sendintr()
    child.expect("rolled back")
    assert ended(child) == 130


def is_locked(database: SqliteFile) -> bool:
    """True if somebody else is writing."""
    with closing(sqlite3.connect(database.path, timeout=0)) as connection:
        try:
            connection.execute("BEGIN IMMEDIATE")
        except sqlite3.OperationalError:
            return True
    return False


def test_at_a_terminal_the_total_of_the_plan_above_must_be_typed(yeldro, network) -> None:
    before = network.contents()
    total = yeldro("plan", *FOLLOWED, "--json", db=network.url).one()["total"]
    child = typing(yeldro, network, "run", *FOLLOWED)
    child.expect(rf"This plan removes or changes \x1b\[[\d;]*m{total:,}")
    for _ in range(2):
        child.expect("Type the number of rows to remove or change in all, or q: ")
        child.sendline(str(total - 1))
        child.expect(f"You typed '{total - 1}', and that is not the number of rows")
    child.expect("Look at the numbers above again")
    assert ended(child) == 4
    assert network.contents() == before

    child = typing(yeldro, network, "run", *FOLLOWED)
    child.expect("Type the number")
    child.sendline("q")
    child.expect("Nothing was changed. You left it undecided.")
    assert ended(child) == 130
    assert network.contents() == before

    child = typing(yeldro, network, "run", *FOLLOWED)
    child.expect("Type the number")
    child.sendline("1")
    child.expect("Type it again")
    child.sendline(f"{total:,}")
    child.expect("Committed")
    child.expect("To put these rows back: (yeldro restore .*)\r\n")
    assert ended(child) == 0

    child = typing(yeldro, network, "restore", "last")
    child.expect("Type the number of rows to put back")
    child.sendline(str(total))
    child.expect("Committed")
    child.expect(pexpect.EOF)
    assert network.contents() == before


def test_at_a_terminal_the_expected_total_need_not_be_typed_again(yeldro, network) -> None:
    total = yeldro("plan", *FOLLOWED, "--json", db=network.url).one()["total"]
    child = typing(yeldro, network, "run", *FOLLOWED, "--expect", f"total={total}")
    child.expect(f"That is the number that you expect: {total:,}. Type yes, or q: ")
    child.sendline("q")
    assert ended(child) == 130
    child = typing(yeldro, network, "run", *FOLLOWED, "--expect", "total=1..")
    child.expect("Type the number of rows to remove or change in all, or q: ")
    child.sendline("q")
    assert ended(child) == 130
    child = typing(yeldro, network, "run", *FOLLOWED, "--expect", f"total={total}")
    child.expect("Type yes, or q: ")
    child.sendline("yes")
    child.expect("Committed")
    assert ended(child) == 0


def test_rows_that_change_while_the_question_stands_are_noticed(yeldro, network) -> None:
    total = yeldro("plan", *FOLLOWED, "--json", db=network.url).one()["total"]
    child = typing(yeldro, network, "run", *FOLLOWED)
    child.expect("Type the number")
    network.script(f"INSERT INTO alert SELECT 9999, NULL, min(id), 'danger', '2025-01-01 00:00' "
                f"FROM buoy WHERE {GONE_SQL}")  # fmt: skip
    before = network.contents()
    child.sendline(str(total))
    child.expect("has changed since the plan was shown")
    child.expect("alert")
    assert ended(child) == 3
    assert network.contents() == before


def test_ctrl_c_in_a_long_statement_stops_it_and_leaves_everything(yeldro, demo) -> None:
    before = demo.contents()
    endless = (
        "id IN (WITH RECURSIVE r (n) AS (SELECT 1 UNION ALL SELECT n + 1 FROM r) SELECT n FROM r)"
    )
    words = ("run", "alert", "--where", endless, "--expect", "1", "--yes")
    child = typing(yeldro, demo, *words)
    interrupt(child, lambda: is_locked(demo))
    assert demo.contents() == before
    assert not list(yeldro.receipts.glob("*"))


def test_a_table_may_have_any_name_that_statements_use_themselves(yeldro, file_made) -> None:
    for name in ("parent", "other", "found", "numbered", "yeldro_keys_1", "main", "temp", "rowid"):
        database = file_made(f"""
            DROP TABLE IF EXISTS child; DROP TABLE IF EXISTS {name};
            CREATE TABLE {name} (id INTEGER PRIMARY KEY, up INTEGER REFERENCES {name}
                ON DELETE CASCADE, note TEXT);
            CREATE TABLE child (id INTEGER PRIMARY KEY, p INTEGER REFERENCES {name});
            INSERT INTO {name} VALUES (1, NULL, 'a'), (2, 1, 'a'), (3, 2, 'b'), (4, 4, 'c'),
                (5, 99, 'd');
            INSERT INTO child VALUES (1, 3), (2, 4);
        """)
        before = database.contents()
        yeldro("run", name, "--where", "id = 1", "--follow", "all", "--expect", "total=4", "--yes",
               db=database.url)  # fmt: skip
        assert database.rows(f"SELECT id FROM {name}") == [(4,), (5,)]
        yeldro("restore", "last", "--yes")
        assert database.contents() == before
        found = yeldro("orphans", name, "--json", db=database.url).json()
        assert [each["rows"] for each in found] == [1]
        rows = yeldro("duplicates", name, "--by", "note", "--json", db=database.url).json()
        assert rows["removable"] == 1


# Words of Yeldro's own and of its statements; none may be read as anything but a name.
WORDS = ("wave", "twice", "a) SELECT b", "it's -- 50%:x", "no action", "--detach", "matched",
         "references the columns that would change", "yeldro_keys_1 {} \\ (c) VALUES", "rôle ☃",
         "removed on another path", "mast → lamp")  # fmt: skip


def test_names_are_never_read_as_words(yeldro, made, trials: Trials) -> None:
    """Some of the words on each system, all of them together."""
    database = made("CREATE TABLE x (id INTEGER)")
    quote = "`{}`" if database.url.startswith("mariadb") else '"{}"'
    first = "/pm".index(database.url[0])
    word = WORDS[0]
    for number in trials(2, 12):
        last, place = word, (3 * number + first) % len(WORDS)
        word = WORDS[place]
        name, key, link, note = map(quote.format, (word, WORDS[place - 1], word, WORDS[place - 2]))
        database.script(f"""
            DROP TABLE IF EXISTS {quote.format(last)};
            DROP TABLE IF EXISTS parent;
            CREATE TABLE parent ({key} INTEGER PRIMARY KEY, {note} INTEGER);
            CREATE TABLE {name} ({key} INTEGER PRIMARY KEY, {link} INTEGER, {note} INTEGER,
                FOREIGN KEY ({link}) REFERENCES parent ({key}) ON DELETE CASCADE);
            INSERT INTO parent VALUES (1, 7), (2, 7), (3, 8);
            INSERT INTO {name} VALUES (1, 1, 1), (2, 2, 1), (3, 3, 1);
        """)
        words = ("parent", "--where", f"{note} = 7", "--expect", "total=4")
        there_and_back(yeldro, database, *words, *(["--batch", "1"] if place % 2 else []))
        before = database.contents()
        yeldro("run", "parent", "--duplicates-by", WORDS[place - 2], "--repoint", "--expect",
               "total=2", "--yes", db=database.url)  # fmt: skip
        yeldro("restore", "last", "--yes")
        assert database.contents() == before


def test_a_remedy_names_a_table_as_it_is_called_whatever_that_is(yeldro, made) -> None:
    database = made("CREATE TABLE x (id INTEGER)")
    quote = "`{}`" if database.url.startswith("mariadb") else '"{}"'
    name = quote.format("mast → lamp")
    database.script(f"""
        CREATE TABLE {name} (id INTEGER PRIMARY KEY, up INTEGER,
            FOREIGN KEY (up) REFERENCES {name} (id));
        INSERT INTO {name} VALUES (1, NULL); INSERT INTO {name} VALUES (2, 1), (3, 2);
    """)
    words = ("run", "mast → lamp", "--all-rows", "--batch", "1", "--expect", "3", "--yes")
    told = yeldro(*words, db=database.url, code=3).err
    assert "--follow 'mast → lamp.up'" in told
    yeldro(*words, "--follow", "mast → lamp.up", db=database.url)
    assert database.rows(f"SELECT id FROM {name}") == []


def test_parts_of_a_statement_fit_together_however_many_tables_there_are() -> None:
    table = Table(TableName("first"), (Column("id"),))
    rows = rows_of(table)
    for number in range(10_000):
        rows_of(Table(TableName(f"other_{number}"), (Column("id"),)))
    assert rows_of(table) is rows


def test_ctrl_c_at_the_question_leaves_everything(yeldro, network) -> None:
    before = network.contents()
    child = typing(yeldro, network, "run", *FOLLOWED)
    child.expect("Type the number")
    for _ in range(20):  # a key that comes before the line editor waits for one is lost to it
        child.sendintr()
        if child.expect([pexpect.EOF, pexpect.TIMEOUT], timeout=10) == 0:
            break
    child.close()
    assert child.exitstatus == 130
    assert network.contents() == before
