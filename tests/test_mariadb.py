"""What only MariaDB has: its types, engines, locks, modes, and tables that nothing tells apart."""

from __future__ import annotations

import re
import threading
import time
import uuid
from collections.abc import Iterator
from pathlib import Path

import pymysql
import pytest
import sqlalchemy as sa
from conftest import Yeldro, need, there_and_forth
from servers import mariadb_started
from sqlalchemy.exc import DBAPIError
from systems import MariadbServerDatabase, mariadb_connection, mariadb_url, wait_until_alone
from test_run import interrupt, typing

from yeldro.core.model.tables.schema import Column
from yeldro.engines import open_database
from yeldro.engines.mariadb import values

TYPES = """
    SET sql_mode = 'NO_AUTO_VALUE_ON_ZERO,ALLOW_INVALID_DATES', time_zone = '+05:30';
    CREATE TABLE kinds (
        id bigint unsigned NOT NULL AUTO_INCREMENT PRIMARY KEY, ti tinyint, ui int unsigned,
        bu bigint unsigned, de decimal(30,10), f float, d double, b8 bit(8), b64 bit(64),
        ch char(5), vc varchar(20) CHARACTER SET latin1, vj varchar(20) CHARACTER SET sjis,
        vu varchar(20) CHARACTER SET ucs2, ci varchar(20) COLLATE utf8mb4_general_ci, tx longtext,
        bi binary(4), vb varbinary(10), bl blob, da date, dt datetime, dt6 datetime(6),
        ts timestamp NULL, ts6 timestamp(6) NULL, tm time(3), y year, en enum('calm','rough',''),
        se set('a','b','c'), js json, u uuid, ip inet6, g point, out_of_sight int INVISIBLE,
        twice int GENERATED ALWAYS AS (ti * 2) STORED, more int AS (ti + 1),
        seen timestamp(3) NOT NULL DEFAULT current_timestamp(3)
            ON UPDATE current_timestamp(3), `odd ``name%: x` text);
    INSERT INTO kinds (id, ti, ui, bu, de, f, d, b8, b64, ch, vc, vj, vu, ci, tx, bi, vb, bl, da,
        dt, dt6, ts, ts6, tm, y, en, se, js, u, ip, g, out_of_sight, `odd ``name%: x`) VALUES
    (0, -5, 4294967295, 18446744073709551615, 12345678901234567890.0123456789, 0.1, 1e-300 / 3,
        b'10000001', ~0, 'ab', 'Ä€', _utf8mb4'日本ソ', 'øÿ', 'Abc ', 'it''s 100% \\\\ "q"',
        x'00ff00ff', x'00', x'fffe00', '0000-00-00', '2024-02-31 00:00:00',
        '9999-12-31 23:59:59.999999', '2024-06-01 12:00:00', '2024-10-27 02:30:00.123456',
        '-838:59:59.000', 0, 'rough', 'a,c', '{"a":  1}', 'a0eebc99-9c0b-4ef8-bb6d-6bb9bd380a11',
        '::1', point(1, 2), 7, 'x'),
    (1, NULL, NULL, 9223372036854775808, NULL, 3.4e38, 0, NULL, b'0', '', 'x', 'x', '😀', 'abc', '',
        NULL, '', '', NULL, '0000-00-00 00:00:00', NULL, 0, NULL, '12:00:00.5', 2155, '', '', NULL,
        NULL, NULL, NULL, NULL, NULL),
    (2, 1, 1, 1, 1, 16777217, 0.1, b'0', b'1', 'a', 'y', 'z', 'w', 'ABC', '0', x'01', '1', '1',
        '2024-01-01', '2024-01-01', '2024-01-01', '2024-01-01', '2024-01-01', '0', 1901, 'calm',
        'b', '[]', NULL, NULL, NULL, NULL, '0')
"""


@pytest.fixture
def server() -> Iterator[MariadbServerDatabase]:
    """An empty database of the test's own."""
    need("mariadb")
    database = MariadbServerDatabase(f"yeldro_{uuid.uuid4().hex[:12]}")
    yield database
    database.drop()


@pytest.fixture
def user(server: MariadbServerDatabase) -> Iterator[str]:
    """A user who may connect and make temporary tables, and nothing else."""
    name = f"y_{uuid.uuid4().hex[:8]}"
    server.script(
        f"CREATE USER {name}@'%' IDENTIFIED BY 'hunter22';"
        f"GRANT CREATE TEMPORARY TABLES ON {server.name}.* TO {name}@'%'"
    )
    yield name
    server.script(f"DROP USER {name}@'%'")


def url_of(server: MariadbServerDatabase, user: str) -> str:
    return f"mariadb://{user}:hunter22@{mariadb_url().rpartition('@')[2].rstrip('/')}/{server.name}"


def test_every_type_comes_back_as_it_was(yeldro, server) -> None:
    server.script(TYPES)
    there_and_forth(yeldro, server, "kinds", "--all-rows", "--expect", "3")
    server.script("INSERT INTO kinds (ti) VALUES (1)")
    assert server.value("SELECT max(id) FROM kinds") == 3


def test_text_of_every_character_set_comes_back_byte_by_byte(yeldro, server) -> None:
    sets = server.rows("SELECT CHARACTER_SET_NAME, MAXLEN FROM information_schema.CHARACTER_SETS"
                       " WHERE CHARACTER_SET_NAME <> 'binary' ORDER BY 1")  # fmt: skip
    columns = ", ".join(f"c_{name} varchar(300) CHARACTER SET {name}" for name, _ in sets)
    everything = "unhex('" + bytes(range(256)).hex() + "')"
    values = ", ".join(
        f"CONVERT({everything} USING {name})"
        if most == 1 and name not in ("ascii", "tis620")
        else f"CONVERT(_utf8mb4'Aé日ß ~\\\\ ソ' USING {name})"
        for name, most in sets
    )
    server.script(f"SET sql_mode = ''; CREATE TABLE words (id int PRIMARY KEY, {columns});"
                  f"INSERT INTO words VALUES (1, {values})")  # fmt: skip
    assert len(sets) > 30
    there_and_forth(yeldro, server, "words", "--all-rows", "--expect", "1")


def test_half_of_a_surrogate_pair_is_shown_and_comes_back(yeldro, server) -> None:
    server.script("""
        CREATE TABLE odd (id int PRIMARY KEY, u varchar(9) CHARACTER SET ucs2,
            v varchar(9) CHARACTER SET utf8mb4, w varchar(9) CHARACTER SET utf32);
        CREATE TABLE alike (u varchar(9) CHARACTER SET ucs2, n int);
        INSERT INTO odd VALUES (1, x'D800', x'EDA080', x'0000D800'), (2, 'a', x'61EDBFBF', 'c'),
            (3, 'a', 'b', 'c');
        INSERT INTO alike VALUES (x'D800', 1), (x'D800', 1), ('a', 2);
    """)
    assert "⟨D800⟩" in yeldro("preview", "odd", "--where", "id < 3", db=server.url).out
    yeldro("preview", "odd", "--where", "id < 3", "--json", db=server.url)
    look = (
        "SELECT id, hex(u), hex(v), hex(w) FROM odd UNION ALL SELECT n, hex(u), '', '' FROM alike"
    )
    before = sorted(server.rows(look))
    for words in (("odd", "--where", "id < 3"), ("alike", "--duplicates-by", "u")):
        yeldro("run", *words, "--expect", "1..", "--yes", db=server.url)
        assert sorted(server.rows(look)) != before
        yeldro("restore", "last", "--yes")
        assert sorted(server.rows(look)) == before


def test_a_moment_that_the_clock_shows_twice_comes_back_as_the_same_moment(yeldro, server) -> None:
    server.script("""
        CREATE TABLE watch (id int PRIMARY KEY, at timestamp(2) NULL);
        INSERT INTO watch VALUES (1, from_unixtime(1729992600.25)), (2, from_unixtime(1729989000));
    """)
    there_and_forth(yeldro, server, "watch", "--all-rows", "--expect", "2")
    assert server.value("SELECT unix_timestamp(at) FROM watch WHERE id = 1") == pytest.approx(
        1729992600.25
    )


def test_detaching_leaves_a_column_that_changes_itself_as_it_is(yeldro, server) -> None:
    server.script("""
        CREATE TABLE mast (id int PRIMARY KEY);
        CREATE TABLE lamp (id int PRIMARY KEY, mast_id int REFERENCES mast (id) ON DELETE SET NULL,
            seen timestamp DEFAULT '2020-01-01 00:00:00' ON UPDATE current_timestamp);
        INSERT INTO mast VALUES (1); INSERT INTO lamp (id, mast_id) VALUES (1, 1);
    """)
    yeldro("run", "mast", "--all-rows", "--expect", "total=2", "--yes", db=server.url)
    assert server.value("SELECT count(*) FROM lamp WHERE mast_id IS NULL AND seen < '2021-01-01'")
    yeldro("restore", "last", "--yes")
    assert server.value("SELECT count(*) FROM lamp WHERE mast_id = 1 AND seen < '2021-01-01'") == 1


KEYLESS = """
    CREATE TABLE heap (a varchar(40), b double, c date);
    INSERT INTO heap VALUES ('x', 0.1, NULL), ('x', 0.1, NULL), ('X', 0.1, NULL), ('x ', 0.1, NULL),
        (NULL, NULL, NULL), (NULL, NULL, NULL), (NULL, NULL, NULL), ('y', 2, '2024-01-01');
"""


def test_equal_rows_without_a_key_go_but_for_one_of_each(yeldro, server) -> None:
    """Equal means equal in every byte: 'x', 'X' and 'x ' differ, though MariaDB compares alike."""
    server.script(KEYLESS)
    preview = yeldro("preview", "heap", "--duplicates-by", "a,b,c", "--json", db=server.url).one()
    assert (preview["matched"], len(preview["rows"])) == (5, 5)
    there_and_forth(yeldro, server, "heap", "--duplicates-by", "a,b,c", "--expect", "5")
    server.script("UPDATE heap SET a = concat(a, c) WHERE a = 'y'; DELETE FROM heap WHERE a = 'X'")
    server.script("INSERT INTO heap VALUES ('x', 0.1, NULL), ('x', 0.1, NULL)")
    there_and_forth(yeldro, server, "heap", "--duplicates-by", "a,b,c", "--expect", "3")


def test_some_of_several_equal_rows_are_taken_by_a_limit(yeldro, server) -> None:
    server.script(KEYLESS)
    words = ("heap", "--where", "a IS NULL", "--order-by", "b", "--limit", "2", "--expect", "2")
    done = there_and_forth(yeldro, server, *words)
    assert done["steps"][0]["affected"] == 2


def test_a_table_without_transactions_is_left_alone_unless_that_is_accepted(yeldro, server) -> None:
    server.script("CREATE TABLE `old one` (id int PRIMARY KEY) ENGINE = MyISAM;"
                  "INSERT INTO `old one` VALUES (1), (2), (3)")  # fmt: skip
    words = ("old one", "--where", "id > 1", "--expect", "2")
    refused = yeldro("run", *words, "--yes", db=server.url, code=3).err
    assert "no transactions" in refused
    (advice,) = re.findall("ALTER TABLE .* ENGINE = InnoDB", refused)
    assert "no transactions" in yeldro("rehearse", *words, db=server.url, code=3).err
    assert "no transactions" in yeldro("plan", *words, db=server.url).out
    there_and_forth(yeldro, server, *words, "--no-way-back", "old one")
    server.script(advice)
    assert "no transactions" not in yeldro("plan", *words, db=server.url).out


def test_what_could_not_be_rolled_back_is_said_and_can_be_restored(yeldro, server) -> None:
    """A trigger adds rows elsewhere, so the ledger differs when the rows are gone already."""
    server.script("""
        CREATE TABLE old (id int PRIMARY KEY) ENGINE = MyISAM; CREATE TABLE log (id int);
        INSERT INTO old VALUES (1), (2), (3);
        CREATE TRIGGER noting AFTER DELETE ON old FOR EACH ROW INSERT INTO log VALUES (old.id);
    """)
    before = server.contents()
    words = ("run", "old", "--where", "id > 1", "--expect", "2", "--yes", "--no-way-back", "old")
    found = yeldro(*words, db=server.url, code=4)
    assert "could not be rolled back" in found.err
    assert server.value("SELECT count(*) FROM old") == 1
    assert "no transactions" in yeldro("restore", "last", "--yes", code=3).err
    yeldro("restore", "last", "--yes", "--no-way-back", "old")
    assert server.contents() == before


@pytest.mark.parametrize("action", ["CASCADE", "SET NULL"])
def test_rows_that_keep_old_versions_are_refused_as_dependents_too(
    yeldro, server, action: str
) -> None:
    server.script(f"""
        CREATE TABLE port (id int PRIMARY KEY); INSERT INTO port VALUES (1), (2);
        CREATE TABLE ship (id int PRIMARY KEY, port_id int,
            FOREIGN KEY (port_id) REFERENCES port (id) ON DELETE {action}) WITH SYSTEM VERSIONING;
        INSERT INTO ship VALUES (1, 1);
    """)
    before = server.contents()
    words = ("port", "--where", "id = 1")
    assert "ship is a system-versioned table" in yeldro("plan", *words, db=server.url).out
    for command in (("rehearse", *words), ("run", *words, "--expect", "1", "--yes")):
        told = yeldro(*command, db=server.url, code=3).err
        assert "Nothing was changed. ship is a system-versioned table" in told
    assert server.contents() == before
    yeldro("run", "port", "--where", "id = 2", "--expect", "1", "--yes", db=server.url)


def test_what_an_accepted_trigger_did_for_good_is_said_when_the_run_fails(yeldro, server) -> None:
    server.script("""
        CREATE TABLE mast (id int PRIMARY KEY); INSERT INTO mast VALUES (1), (2);
        CREATE TABLE log (id int) ENGINE = MyISAM;
        CREATE TRIGGER gone AFTER DELETE ON mast FOR EACH ROW INSERT INTO log VALUES (OLD.id);
    """)
    words = ("run", "mast", "--where", "id = 1", "--expect", "1", "--yes")
    found = yeldro(*words, "--no-way-back", "log", db=server.url, code=4).err
    assert found.startswith("The rows were rolled back. What was done by the trigger gone with log")
    assert server.value("SELECT count(*) FROM mast") == 2
    assert server.value("SELECT count(*) FROM log") == 1
    assert not list(yeldro.receipts.glob("*"))


def test_a_restore_that_could_not_be_rolled_back_says_so(yeldro, server) -> None:
    """A trigger adds rows elsewhere, so the ledger differs when the rows are back already."""
    server.script("""
        CREATE TABLE old (id int PRIMARY KEY) ENGINE = MyISAM; CREATE TABLE log (id int);
        INSERT INTO old VALUES (1), (2), (3);
    """)
    before = server.contents()
    accepted = ("--no-way-back", "old")
    yeldro("run", "old", "--where", "id > 1", "--expect", "2", "--yes", *accepted, db=server.url)
    server.script("CREATE TRIGGER noting AFTER INSERT ON old FOR EACH ROW"
                  " INSERT INTO log VALUES (new.id)")  # fmt: skip
    gone = server.contents()
    refused = yeldro("restore", "last", "--yes", code=3).err
    assert refused.startswith("Nothing was changed. old has no transactions")
    assert server.contents() == gone
    found = yeldro("restore", "last", "--yes", *accepted, code=4).err
    assert "Rows of old may have changed, and could not be rolled back" in found
    assert "Everything was rolled back" not in found
    assert server.contents() == before


@pytest.mark.parametrize("body", [
    "INSERT INTO log VALUES (OLD.id)", "INSERT INTO `log` VALUES (1)", "CALL noted(OLD.id)",
    "INSERT INTO step VALUES (OLD.id)", "INSERT INTO {here} . `log` VALUES (1)",
    """BEGIN SET @x = 'a"b'; INSERT INTO "{here}"."log" VALUES (1); SET @x = 'a"b'; END""",
])  # fmt: skip
def test_a_trigger_that_writes_for_good_is_refused_before_anything_runs(
    yeldro, server, body: str
) -> None:
    """Directly, through a procedure, through another table's trigger, under an odd name."""
    server.script("""
        CREATE TABLE mast (id int PRIMARY KEY); INSERT INTO mast VALUES (1), (2);
        CREATE TABLE log (id int) ENGINE = MyISAM;
        CREATE TABLE step (id int);
        CREATE PROCEDURE noted(n int) INSERT INTO log VALUES (n);
        CREATE TRIGGER step_more AFTER INSERT ON step FOR EACH ROW INSERT INTO log VALUES (1);
    """)
    body = body.format(here=server.name)
    mode = "SET sql_mode = 'ANSI_QUOTES'; " if '"' in body else ""
    server.script(f"{mode}CREATE TRIGGER mast_gone AFTER DELETE ON mast FOR EACH ROW {body}")
    before = server.contents()
    words = ("mast", "--where", "id = 1", "--allow-trigger", "mast_gone")
    for command in (("rehearse", *words), ("run", *words, "--expect", "1", "--yes"),
                    ("run", *words, "--expect", "1", "--yes", "--batch", "1")):  # fmt: skip
        told = yeldro(*command, db=server.url, code=3).err
        assert "mast_gone of mast can write to log" in told
        assert server.contents() == before
    yeldro("run", *words, "--no-way-back", "log", "--expect", "1", "--yes", db=server.url)
    assert server.value("SELECT count(*) FROM log") == 1
    back = body.replace("OLD", "NEW")
    server.script(f"{mode}CREATE TRIGGER mast_back AFTER INSERT ON mast FOR EACH ROW {back}")
    words = ("restore", "last", "--yes", "--allow-trigger", "mast_back")
    assert "mast_back of mast can write to log" in yeldro(*words, code=3).err
    assert server.value("SELECT count(*) FROM log") == 1
    yeldro(*words, "--no-way-back", "log")
    assert server.value("SELECT count(*) FROM mast") == 2


def test_a_table_of_the_same_name_in_another_database_is_another_one(yeldro, server) -> None:
    away = MariadbServerDatabase(f"{server.name}_b")
    try:
        away.script("CREATE TABLE log (id int) ENGINE = MyISAM")
        server.script("""
            CREATE TABLE mast (id int PRIMARY KEY); INSERT INTO mast VALUES (1), (2);
            CREATE TABLE log (id int);
            CREATE TRIGGER mast_gone AFTER DELETE ON mast FOR EACH ROW INSERT INTO log VALUES (1);
        """)
        words = ("run", "mast", "--where", "id = 1", "--allow-trigger", "mast_gone")
        yeldro(*words, "--expect", "1", "--yes", db=server.url)
        assert server.value("SELECT count(*) FROM log") == 1
    finally:
        away.drop()


def test_an_enums_error_value_is_warned_of_and_the_rest_comes_back(yeldro, server) -> None:
    server.script("""
        CREATE TABLE mast (id int PRIMARY KEY, kind enum('a', 'b'));
        CREATE TABLE lamp (id int PRIMARY KEY, mast_id int,
            FOREIGN KEY (mast_id) REFERENCES mast (id) ON DELETE CASCADE);
        INSERT INTO mast VALUES (1, 'a'), (2, NULL);
        SET sql_mode = ''; INSERT INTO mast VALUES (3, 'x');
        INSERT INTO lamp VALUES (1, 1), (3, 3);
    """)
    told = yeldro("run", "mast", "--all-rows", "--expect", "3", "--yes", db=server.url).out
    assert "1 row of mast holds no value of the enum kind" in " ".join(told.split())
    told = yeldro("restore", "last", "--yes", code=3).err
    assert "1 row of mast is refused by the database" in told
    assert "id 3" in told
    done = yeldro("restore", "last", "--skip-conflicts", "--yes", "--json").json()
    assert any("of lamp" in each for each in done["skipped"]) or len(done["skipped"]) == 1
    assert server.rows("SELECT id FROM mast ORDER BY id") == [(1,), (2,)]
    assert server.rows("SELECT id FROM lamp") == [(1,)]


def test_rows_that_a_trigger_adds_are_counted(yeldro, server) -> None:
    server.script("""
        CREATE TABLE mast (id int PRIMARY KEY); CREATE TABLE log (said int);
        INSERT INTO mast VALUES (1), (2), (3);
        CREATE TRIGGER noting AFTER DELETE ON mast FOR EACH ROW INSERT INTO log VALUES (old.id);
    """)
    before = server.contents()
    words = ("run", "mast", "--where", "id < 3", "--expect", "2", "--yes")
    assert "2 rows more than planned" in yeldro(*words, db=server.url, code=4).err
    assert server.contents() == before
    done = yeldro(*words, "--allow-trigger", "noting", "--json", db=server.url).one()
    assert done["unplanned"] == {"*": 2}


def when_waited_for(server: MariadbServerDatabase, act) -> threading.Thread:
    """Does something in another session as soon as a session of this server waits for a lock."""

    def watch() -> None:
        waiting = (
            "SELECT count(*) FROM information_schema.INNODB_TRX AS t"
            " JOIN information_schema.PROCESSLIST AS p ON p.ID = t.trx_mysql_thread_id"
            " WHERE t.trx_state = 'LOCK WAIT' AND p.DB = DATABASE()"
        )
        until = time.monotonic() + 20
        while server.value(waiting) == 0 and time.monotonic() < until:
            time.sleep(0.15)  # the server looks again only after a tenth of a second of quiet
        act()

    thread = threading.Thread(target=watch, daemon=True)
    thread.start()
    return thread


def test_rows_that_somebody_else_changes_meanwhile_are_left_alone(yeldro, server) -> None:
    server.script("CREATE TABLE mast (id int PRIMARY KEY, n int); INSERT INTO mast VALUES (1, 1)")
    other = server.connect()
    with other.cursor() as cursor:
        cursor.execute("BEGIN")
        cursor.execute("UPDATE mast SET n = 2")
    thread = when_waited_for(server, other.commit)
    words = ("run", "mast", "--where", "n = 1", "--expect", "1", "--yes")
    assert "Somebody changed these rows" in yeldro(*words, db=server.url, code=5).err
    thread.join(timeout=30)
    other.close()
    assert server.rows("SELECT * FROM mast") == [(1, 2)]
    assert not list(yeldro.receipts.glob("*"))


def test_a_child_that_comes_meanwhile_is_never_taken_along_nor_left_hanging(yeldro, server) -> None:
    """Its parent is locked by the insertion, so the run waits, and then sees the child."""
    server.script("""
        CREATE TABLE mast (id int PRIMARY KEY);
        CREATE TABLE lamp (id int PRIMARY KEY, mast_id int REFERENCES mast (id) ON DELETE CASCADE);
        INSERT INTO mast VALUES (1);
    """)
    other = server.connect()
    with other.cursor() as cursor:
        cursor.execute("BEGIN")
        cursor.execute("INSERT INTO lamp VALUES (1, 1)")
    thread = when_waited_for(server, other.commit)
    words = ("run", "mast", "--all-rows", "--expect", "total=1", "--yes")
    assert yeldro(*words, db=server.url, code=5).err
    thread.join(timeout=30)
    other.close()
    assert server.rows("SELECT id, mast_id FROM lamp") == [(1, 1)]
    assert server.rows("SELECT id FROM mast") == [(1,)]


def test_a_parent_that_goes_during_a_restore_leaves_no_row_hanging(yeldro, server) -> None:
    server.script("""
        CREATE TABLE mast (id int PRIMARY KEY);
        CREATE TABLE lamp (id int PRIMARY KEY, mast_id int REFERENCES mast (id) ON DELETE CASCADE);
        INSERT INTO mast VALUES (1), (2); INSERT INTO lamp VALUES (1, 1), (2, 2);
    """)
    yeldro("run", "lamp", "--all-rows", "--expect", "2", "--yes", db=server.url)
    other = server.connect()
    with other.cursor() as cursor:
        cursor.execute("BEGIN")
        cursor.execute("DELETE FROM mast WHERE id = 1")
    thread = when_waited_for(server, other.commit)
    told = yeldro("restore", "last", "--yes", code=5).err
    thread.join(timeout=30)
    other.close()
    assert "Somebody" in told
    assert server.value("SELECT count(*) FROM lamp") == 0


def test_a_lock_is_waited_for_only_so_long(yeldro, server) -> None:
    server.script("CREATE TABLE mast (id int PRIMARY KEY); INSERT INTO mast VALUES (1)")
    other = server.connect()
    with other.cursor() as cursor:
        cursor.execute("BEGIN")
        cursor.execute("SELECT * FROM mast FOR UPDATE")
    words = ("run", "mast", "--all-rows", "--expect", "1", "--yes", "--lock-wait", "1")
    assert "--lock-wait" in yeldro(*words, db=server.url, code=5).err
    other.rollback()
    with other.cursor() as cursor:  # while its condition is tried
        cursor.execute("LOCK TABLES mast WRITE")
    words = ("run", "mast", "--where", "id = 1", "--expect", "1", "--yes", "--lock-wait", "1")
    assert "--lock-wait" in yeldro(*words, db=server.url, code=5).err
    other.close()
    assert server.value("SELECT count(*) FROM mast") == 1


def test_a_deadlock_is_told_and_rolled_back(yeldro, server) -> None:
    """The other session has changed more rows, so the server gives the run up."""
    server.script("""
        CREATE TABLE mast (id int PRIMARY KEY, n int);
        CREATE TABLE lamp (id int PRIMARY KEY, mast_id int REFERENCES mast (id) ON DELETE CASCADE);
        CREATE TABLE heavy (id int PRIMARY KEY);
        INSERT INTO mast SELECT seq, 1 FROM seq_1_to_9; INSERT INTO lamp VALUES (1, 1);
    """)
    other = server.connect()
    with other.cursor() as cursor:
        cursor.execute("BEGIN")
        cursor.execute("INSERT INTO heavy SELECT seq FROM seq_1_to_5000")
        cursor.execute("SELECT * FROM lamp FOR UPDATE")

    def cross() -> None:
        with other.cursor() as cursor:
            cursor.execute("UPDATE mast SET n = 2")
            cursor.execute("ROLLBACK")

    thread = when_waited_for(server, cross)
    words = ("run", "mast", "--where", "id = 1", "--expect", "total=2", "--yes")
    found = yeldro(*words, db=server.url, code=5)
    thread.join(timeout=30)
    other.close()
    assert "deadlock" in found.err
    assert server.value("SELECT count(*) FROM mast") == 9


def test_a_missing_privilege_is_told_before_anything_runs(yeldro, server, user) -> None:
    server.script(f"""
        CREATE TABLE mast (id int PRIMARY KEY);
        CREATE TABLE lamp (id int PRIMARY KEY, mast_id int REFERENCES mast (id) ON DELETE SET NULL);
        INSERT INTO mast VALUES (1); INSERT INTO lamp VALUES (1, 1);
        GRANT SELECT ON {server.name}.* TO {user};
    """)
    url = url_of(server, user)
    words = ("mast", "--all-rows", "--expect", "1")
    found = yeldro("run", *words, "--yes", db=url, code=3)
    assert "UPDATE (mast_id) on lamp, DELETE on mast" in found.err
    assert "A privilege is missing: DELETE on mast" in yeldro("plan", *words, db=url).out
    server.script(f"GRANT DELETE ON {server.name}.mast TO {user};"
                  f"GRANT UPDATE (mast_id) ON {server.name}.lamp TO {user}")  # fmt: skip
    assert yeldro("run", *words, "--yes", "--json", db=url).one()["outcome"] == "committed"


def test_a_view_alone_is_no_access_to_its_table(yeldro, server, user) -> None:
    """The plan reads and removes rows of the table; the privilege that is missing is named."""
    server.script(f"""
        CREATE TABLE mast (id int PRIMARY KEY); INSERT INTO mast VALUES (1), (2);
        CREATE VIEW first AS SELECT * FROM mast WHERE id = 1;
        GRANT SELECT, DELETE ON {server.name}.first TO {user};
    """)
    url = url_of(server, user)
    words = ("first", "--all-rows", "--expect", "1")
    assert "Ask for SHOW VIEW on first" in yeldro("plan", *words, db=url, code=3).err
    server.script(f"GRANT SHOW VIEW ON {server.name}.first TO {user}")
    refused = yeldro("plan", *words, db=url, code=3).err
    assert f"shows rows of {server.name}.mast, and this user sees no such table" in refused
    server.script(f"GRANT SELECT, DELETE ON {server.name}.* TO {user}")
    yeldro("run", *words, "--yes", db=url)
    assert server.rows("SELECT id FROM mast") == [(2,)]


def test_a_user_who_sees_only_some_tables_may_remove_nothing(yeldro, server, user) -> None:
    """What is hidden could reference the rows, and no server tells who may not see it."""
    server.script(f"""
        CREATE TABLE mast (id int PRIMARY KEY);
        CREATE TABLE lamp (id int PRIMARY KEY, mast_id int REFERENCES mast (id));
        INSERT INTO mast VALUES (1); INSERT INTO lamp VALUES (1, 1);
        GRANT SELECT, DELETE ON {server.name}.mast TO {user};
    """)
    words = ("run", "mast", "--all-rows", "--expect", "1", "--yes")
    assert "does not see every table" in yeldro(*words, db=url_of(server, user), code=3).err
    assert server.value("SELECT count(*) FROM mast") == 1


@pytest.mark.parametrize("action", ["", "ON DELETE CASCADE"])
def test_rows_that_a_table_of_another_database_references_never_lose_it_unseen(
    yeldro, server, user, action: str
) -> None:
    away = MariadbServerDatabase(f"{server.name}_b")
    try:
        server.script(f"""
            CREATE TABLE `mast-é` (id int PRIMARY KEY, up int REFERENCES `mast-é` (id));
            CREATE TABLE pole (id int PRIMARY KEY);
            CREATE TABLE {away.name}.lamp (id int PRIMARY KEY, mast_id int, pole_id int,
                FOREIGN KEY (mast_id) REFERENCES {server.name}.`mast-é` (id) {action},
                FOREIGN KEY (pole_id) REFERENCES {server.name}.pole (id) {action});
            INSERT INTO `mast-é` VALUES (1, NULL), (2, NULL); INSERT INTO pole VALUES (1), (2);
            INSERT INTO {away.name}.lamp VALUES (1, 1, 1);
            GRANT ALL ON {server.name}.* TO {user};
        """)
        url = url_of(server, user)
        before = server.contents()
        words = ("--where", "id = 1", "--expect", "1", "--yes")
        assert "reference one another" in yeldro("run", "mast-é", *words, db=url, code=3).err
        assert "does not see whether" in yeldro("plan", "pole", *words[:2], db=url).out
        assert "Use a user" in yeldro("script", "pole", *words[:2], db=url, code=3).err
        if not action:
            assert "foreign key" in yeldro("run", "pole", *words, db=url, code=5).err
        yeldro("run", "pole", "--where", "id = 2", *words[2:], db=url)
        yeldro("restore", "last", "--yes", db=url)
        assert server.contents() == before
        server.script(f"GRANT PROCESS ON *.* TO {user}")
        for table in ("mast-é", "pole"):
            told = yeldro("run", table, *words, db=url, code=3).err
            assert f"{away.name}.lamp references {table}" in told
        assert server.contents() == before
        assert away.value("SELECT count(*) FROM lamp") == 1
    finally:
        away.drop()


@pytest.mark.parametrize("privilege", ["SELECT", "PROCESS"])
def test_keys_lead_from_one_database_to_the_next(yeldro, server, user, privilege) -> None:
    """Where the server tells which tables reference a database, and where all are looked at."""
    second, third = (MariadbServerDatabase(f"{server.name}_{each}") for each in ("b", "ç"))
    try:
        server.script(f"""
            CREATE TABLE mast (id int PRIMARY KEY); INSERT INTO mast VALUES (1), (2);
            CREATE TABLE {second.name}.lamp (id int PRIMARY KEY, mast_id int NOT NULL,
                FOREIGN KEY (mast_id) REFERENCES {server.name}.mast (id) ON DELETE CASCADE);
            INSERT INTO {second.name}.lamp VALUES (1, 1), (2, 1), (3, 2);
            CREATE TABLE `{third.name}`.`bulb-é` (id int PRIMARY KEY, lamp_id int NOT NULL, up int,
                FOREIGN KEY (up) REFERENCES `{third.name}`.`bulb-é` (id) ON DELETE CASCADE,
                FOREIGN KEY (lamp_id) REFERENCES {second.name}.lamp (id) ON DELETE CASCADE);
            INSERT INTO `{third.name}`.`bulb-é` VALUES (1, 1, NULL), (2, 3, 1), (3, 3, NULL);
        """)
        for each in (server, second, third):
            server.script(f"GRANT ALL ON `{each.name}`.* TO {user}")
        server.script(f"GRANT {privilege} ON *.* TO {user}")
        url = url_of(server, user)
        words = ("mast", "--where", "id = 1", "--expect", "1", "--expect", "total=5", "--yes")
        yeldro("run", *words, db=url)
        left = f"SELECT count(*) FROM `{third.name}`.`bulb-é`"
        assert (server.value(left), second.value("SELECT count(*) FROM lamp")) == (1, 1)
        yeldro("restore", "last", "--yes", db=url)
        assert (server.value(left), second.value("SELECT count(*) FROM lamp")) == (3, 3)
    finally:
        third.drop()
        second.drop()


def test_a_password_appears_nowhere(yeldro, server, user) -> None:
    server.script(f"""CREATE TABLE mast (id int PRIMARY KEY); INSERT INTO mast VALUES (1);
        GRANT ALL ON {server.name}.* TO {user}""")
    url = url_of(server, user)
    done = yeldro("run", "mast", "--all-rows", "--expect", "1", "--yes", db=url)
    restored = yeldro("restore", "last", "--yes", db=url)
    assert "1 row as before" in restored.out
    told = (
        done.out
        + done.err
        + restored.out
        + yeldro("receipt", "show").out
        + yeldro("survey", db=url).out
    )
    told += yeldro("survey", db=url.replace("hunter22", "hunter23"), code=5).err
    written = [path.read_bytes() for path in yeldro.receipts.glob("*.sqlite")]
    assert len(written) == 2
    assert b"hunter22" not in told.encode() + b"".join(written)


def test_an_option_file_counts(yeldro, server, user) -> None:
    server.script(f"CREATE TABLE mast (id int PRIMARY KEY); GRANT ALL ON {server.name}.* TO {user}")
    place = mariadb_url().rpartition("@")[2].rstrip("/").partition(":")
    (yeldro.folder / ".my.cnf").write_text(
        f"[client]\nuser = {user}\npassword = hunter22\nhost = {place[0]}\n"
        f"port = {place[2] or 3306}\n"
    )
    yeldro.environment["HOME"] = str(yeldro.folder)
    found = yeldro("survey", "--json", db=f"mariadb:///{server.name}").json()
    assert [each["table"] for each in found["tables"]] == ["mast"]


def test_safe_updates_are_never_switched_off(yeldro, server) -> None:
    server.script("CREATE TABLE mast (id int PRIMARY KEY); INSERT INTO mast VALUES (1)")
    words = ("run", "mast", "--all-rows", "--expect", "1", "--yes")
    safe = f"{server.url}?init_command=SET sql_safe_updates=1"
    assert "sql_safe_updates" in yeldro(*words, db=safe, code=3).err
    assert server.value("SELECT count(*) FROM mast") == 1


def test_a_filter_that_would_write_is_refused_by_name(yeldro, server) -> None:
    server.script("CREATE TABLE mast (id int PRIMARY KEY); INSERT INTO mast VALUES (1)")
    server.script("CREATE FUNCTION sly(n int) RETURNS int DETERMINISTIC BEGIN DELETE FROM mast; "
                  "RETURN n; END")  # fmt: skip
    for call in ("sly(id)", "sleep(9)", "benchmark(9, 9)", "get_lock('x', 9)", "load_file('/x')"):
        found = yeldro("plan", "mast", "--where", f"id = 1 AND {call} = 1", db=server.url, code=2)
        assert "side effects" in found.err
    assert server.value("SELECT count(*) FROM mast") == 1


def test_looking_is_refused_by_the_server_where_it_would_write(server) -> None:
    """The transaction is read-only, whatever got past the parser; key tables are made first."""
    server.script("CREATE TABLE mast (id int PRIMARY KEY); INSERT INTO mast VALUES (1)")
    with open_database(server.url).reading() as session:
        session.create_key_table([Column("id", "int")], 1)
        with pytest.raises(DBAPIError, match="READ ONLY"):
            session.connection.exec_driver_sql("DELETE FROM mast")
    assert server.value("SELECT count(*) FROM mast") == 1


def test_text_is_not_taken_for_a_number(yeldro, server) -> None:
    """MariaDB would take every text that is no number for 0, and match it."""
    server.script("CREATE TABLE mast (id int PRIMARY KEY, serial varchar(9));"
                  "INSERT INTO mast VALUES (1, 'SB-1'), (2, '0')")  # fmt: skip
    for where in ("serial = 0", "serial > 5 OR id = 1", "id < 'many'"):
        words = ("run", "mast", "--where", where, "--expect", "2", "--yes")
        assert "Compare text with text" in yeldro(*words, db=server.url, code=2).err
    assert server.value("SELECT count(*) FROM mast") == 2


def test_tables_of_another_database_are_followed_and_named_with_it(yeldro, server) -> None:
    away = MariadbServerDatabase(f"{server.name}_b")
    try:
        server.script(f"""
            CREATE TABLE Mast (id int PRIMARY KEY);
            CREATE TABLE {away.name}.lamp (id int PRIMARY KEY, mast_id int,
                FOREIGN KEY (mast_id) REFERENCES {server.name}.Mast (id) ON DELETE CASCADE);
            INSERT INTO Mast VALUES (1), (2); INSERT INTO {away.name}.lamp VALUES (1, 1), (2, 2);
        """)
        words = ("mast", "--where", "ID = 1", "--expect", "total=2")
        done = there_and_forth(yeldro, server, *words)
        assert [step["table"] for step in done["steps"]] == [f"{away.name}.lamp", "Mast"]
    finally:
        server.script("DROP DATABASE " + away.name)


@pytest.mark.parametrize("partitions", [
    "HASH (id) PARTITIONS 4", "KEY (id) PARTITIONS 2",
    "LIST (id) (PARTITION a VALUES IN (1, 2), PARTITION b VALUES IN (3, 4, 5, 6))",
    "RANGE (id) SUBPARTITION BY HASH (id) SUBPARTITIONS 2"
    " (PARTITION a VALUES LESS THAN (3), PARTITION b VALUES LESS THAN MAXVALUE)",
])  # fmt: skip
def test_rows_of_partitioned_tables_are_counted_once(yeldro, server, partitions: str) -> None:
    server.script(f"""
        CREATE TABLE mast (id int PRIMARY KEY, g int) PARTITION BY {partitions};
        INSERT INTO mast VALUES (1, 1), (2, 1), (3, 2), (4, 2), (5, 3);
    """)
    there_and_forth(yeldro, server, "mast", "--where", "id < 4", "--expect", "3")
    there_and_forth(yeldro, server, "mast", "--duplicates-by", "g", "--expect", "2")
    there_and_forth(yeldro, server, "mast", "--where", "id < 4", "--batch", "2", "--expect", "3")
    there_and_forth(yeldro, server, "mast", "--all-rows", "--truncate", "--no-way-back", "mast",
                   "--expect", "5")  # fmt: skip
    server.script("CREATE TRIGGER more AFTER DELETE ON mast FOR EACH ROW"
                  " INSERT INTO other VALUES (1); CREATE TABLE other (id int)")  # fmt: skip
    before = server.contents()
    words = ("run", "mast", "--where", "id < 4", "--expect", "3", "--yes")
    assert "more" in yeldro(*words, db=server.url, code=4).err
    assert server.contents() == before


def test_what_keeps_its_history_is_refused_by_name(yeldro, server) -> None:
    server.script("CREATE TABLE past (id int PRIMARY KEY) WITH SYSTEM VERSIONING")
    found = yeldro("plan", "past", "--all-rows", db=server.url, code=3)
    assert "past is a system-versioned table" in found.err


def test_a_deep_tree_goes_whole_though_the_server_would_stop(yeldro, server) -> None:
    """InnoDB itself cascades 15 levels deep at most, and recursion stops at 1,000 by default."""
    server.script("""
        CREATE TABLE mast (id int PRIMARY KEY, above int,
            FOREIGN KEY (above) REFERENCES mast (id) ON DELETE CASCADE);
        INSERT INTO mast SELECT seq, if(seq = 1, NULL, seq - 1) FROM seq_1_to_1500;
    """)
    done = there_and_forth(yeldro, server, "mast", "--where", "id = 1", "--expect", "total=1500")
    assert done["matched"] == 1


def test_ctrl_c_ends_the_statement_and_the_session(yeldro, server) -> None:
    server.script("CREATE TABLE mast (id int PRIMARY KEY);"
                  "INSERT INTO mast SELECT seq FROM seq_1_to_3000")  # fmt: skip
    crossed = "SELECT count(*) FROM mast a, mast b, mast c WHERE a.id <> b.id + c.id"
    child = typing(yeldro, server, "plan", "mast", "--where", f"id < ({crossed})")
    sessions = "SELECT count(*) FROM information_schema.PROCESSLIST WHERE id <> connection_id()"
    interrupt(child, lambda: server.value(f"{sessions} AND info LIKE '%mast%'"))
    wait_until_alone(server)


def test_a_server_that_is_not_there_is_told(yeldro, server) -> None:
    found = yeldro("survey", db="mariadb://root@127.0.0.1:1/none", code=5)
    assert "cannot be reached" in found.err
    with pytest.raises(pymysql.OperationalError):
        mariadb_connection("yeldro_none")
    assert "cannot be reached" in yeldro("survey", db=server.url + "_none", code=5).err
    assert "names no database" in yeldro("survey", db="mariadb://127.0.0.1", code=2).err


WORDS = (
    "a|A|á|a\u0301|ä|ae|æ|ß|ss|ab|aB|ch|CH|İ|i|I|ı|😀|😁|z|Å|aa|ﬁ|fi|Ａ|ｱ|あ|ア|ぁ|ー|アー|かー|日|-"
    "|co-op|coop|Ω|ω|σ|ς|ǆ|dž|ll|ñ|y|ü|\uffff||a |a  | a|a b|a\t|a\u00a0|a\x00|\x00|\n|a\n|a\u200b"
)


def test_a_hash_is_equal_where_a_collation_s_values_are(server) -> None:
    """For every collation by which long values are grouped by their hash."""
    known = server.rows("""
        SELECT full_collation_name, character_set_name
        FROM information_schema.collation_character_set_applicability
        WHERE full_collation_name NOT RLIKE '^(utf8mb3|ucs2|utf16|utf16le|utf32)_uca1400'
    """)
    columns = [
        Column(name, f"text CHARACTER SET {charset}", nullable=True, collation=name)
        for name, charset in known
    ]
    exact = [column for column in columns if values.is_hashed_exactly(column)]
    assert len(exact) > 300
    for some in (exact[n : n + 200] for n in range(0, len(exact), 200)):
        declared = ", ".join(f"`{each.name}` {each.type} COLLATE {each.name}" for each in some)
        server.script(
            f"CREATE OR REPLACE TABLE word (id int AUTO_INCREMENT PRIMARY KEY, {declared})"
        )
        names = ", ".join(f"`{each.name}`" for each in some)
        with server.connect() as connection, connection.cursor() as cursor:
            cursor.execute("SET sql_mode = ''")  # what a character set lacks becomes ?
            for word in WORDS.split("|"):
                insert = f"INSERT INTO word ({names}) VALUES ({', '.join(['%s'] * len(some))})"
                cursor.execute(insert, [word] * len(some))
            connection.commit()
        with open_database(server.url).reading() as session:
            rows = sa.table("word", sa.column("id"), *(sa.column(each.name) for each in some))
            first, second = rows.alias("f"), rows.alias("s")
            for column in some:
                one, two = first.c[column.name], second.c[column.name]
                hashed = session.grouped(one, column) == session.grouped(two, column)
                differ = sa.select(one, two).where(first.c.id < second.c.id, (one == two) != hashed)
                assert session.connection.execute(differ).all() == [], column.name


@pytest.mark.parametrize("kind", ["geometry", "linestring", "blob", "varbinary(9000)", "json"])
def test_long_values_that_are_no_text_are_grouped_to_their_ends(yeldro, server, kind) -> None:
    value = {"geometry": "st_geomfromtext(concat('LINESTRING(', repeat('0 0,', 100), n, ' 1)'))",
             "json": "concat('[', repeat('0,', 900), n, ']')"}  # fmt: skip
    made = value.get("geometry" if kind == "linestring" else kind, "concat(repeat('x', 2000), n)")
    server.script(f"""
        CREATE TABLE shape (id int PRIMARY KEY, v {kind});
        INSERT INTO shape SELECT seq, {made.replace(" n", " seq MOD 3")} FROM seq_1_to_9;
    """)
    words = ("run", "shape", "--duplicates-by", "v", "--expect", "6", "--yes")
    yeldro(*words, db=server.url)
    assert server.rows("SELECT id FROM shape ORDER BY id") == [(1,), (2,), (3,)]


def test_what_sessions_begin_with_changes_nothing(yeldro, server) -> None:
    """Settings that cut results, compare otherwise, or take checks away."""
    server.script("""
        CREATE TABLE mast (id int AUTO_INCREMENT PRIMARY KEY, g int, t text);
        CREATE TABLE lamp (id int PRIMARY KEY, mast_id int REFERENCES mast (id) ON DELETE CASCADE);
        INSERT INTO mast (g, t) SELECT seq MOD 3, concat(repeat('x', 30), seq) FROM seq_1_to_20;
        INSERT INTO lamp SELECT seq, seq FROM seq_1_to_20;
    """)
    settings = ("sql_select_limit = 2, sql_auto_is_null = 1, max_sort_length = 64, autocommit = 0,"
                " check_constraint_checks = 0, foreign_key_checks = 0, group_concat_max_len = 4,"
                " tx_isolation = 'READ-UNCOMMITTED', default_storage_engine = 'MyISAM',"
                " collation_connection = utf8mb4_bin, div_precision_increment = 0,"
                " sql_mode = 'ANSI_QUOTES,NO_BACKSLASH_ESCAPES,PIPES_AS_CONCAT,IGNORE_SPACE,"
                "HIGH_NOT_PRECEDENCE,PAD_CHAR_TO_FULL_LENGTH,TIME_ROUND_FRACTIONAL'")  # fmt: skip
    url = f"{server.url}?init_command=SET {settings}"
    before = server.contents()
    for words in (
        ("mast", "--where", "id > 3", "--expect", "total=34"),
        ("mast", "--duplicates-by", "g", "--keep", "lowest:t", "--expect", "total=34"),
    ):
        yeldro("run", *words, "--yes", db=url)
        yeldro("restore", "last", "--yes")
        assert server.contents() == before
    words = ("plan", "mast", "--duplicates-by", "t", "--json")
    assert yeldro(*words, db=url).one()["matched"] == 0
    assert len(yeldro("preview", "mast", "--all-rows", "--json", db=url).one()["rows"]) > 2
    assert yeldro("plan", "mast", "--where", "id IS NULL", "--json", db=url).one()["matched"] == 0


def test_a_log_in_a_table_is_not_taken_for_changed_rows(
    yeldro: Yeldro,
    server_folder: Path,
) -> None:
    need("mariadb")
    slow = ("--log-output=TABLE", "--slow-query-log", "--long-query-time=0")
    with mariadb_started(server_folder, *slow) as server:
        url = f"{server}test"
        root = pymysql.connect(host="127.0.0.1", port=sa.make_url(url).port or 0, user="root")
        with root, root.cursor() as cursor:
            cursor.execute("CREATE DATABASE test")
            cursor.execute("CREATE TABLE test.buoy (id int PRIMARY KEY)")
            cursor.execute("INSERT INTO test.buoy VALUES (1), (2)")
            root.commit()
            words = ["run", "buoy", "--yes", "--expect", "1", "--db", url, "--where"]
            yeldro(*words, "id = 1")
            cursor.execute("SET GLOBAL general_log = 1")
            refused = yeldro(*words, "id = 2", code=3)
            assert "general_log is on, and log_output has TABLE" in refused.err
            cursor.execute("SET GLOBAL log_output = 'FILE'")
            yeldro(*words, "id = 2")
            cursor.execute("SELECT count(*) FROM test.buoy")
            assert cursor.fetchone() == (0,)


def test_a_trigger_that_a_later_batch_fires_is_refused_before_the_first(yeldro, server) -> None:
    server.script("""
        CREATE TABLE mast (id int PRIMARY KEY); INSERT INTO mast VALUES (1), (2), (3);
        CREATE TABLE lamp (id int PRIMARY KEY, mast_id int,
            FOREIGN KEY (mast_id) REFERENCES mast (id) ON DELETE CASCADE);
        INSERT INTO lamp VALUES (1, 3); CREATE TABLE log (id int) ENGINE = MyISAM;
        CREATE TRIGGER lamp_gone AFTER DELETE ON lamp FOR EACH ROW INSERT INTO log VALUES (OLD.id);
    """)
    words = ("run", "mast", "--all-rows", "--expect", "3", "--yes", "--batch", "1",
             "--allow-trigger", "lamp_gone")  # fmt: skip
    refused = yeldro(*words, db=server.url, code=3).err
    assert "lamp_gone of lamp can write to log" in refused
    assert server.value("SELECT count(*) FROM mast") == 3


def test_a_later_remove_that_fills_commits_nothing_of_an_earlier_one(yeldro, server) -> None:
    """An index made within the transaction would commit it, even one of a temporary table."""
    server.script("""
        CREATE TABLE mast (id int PRIMARY KEY, g int, note int);
        INSERT INTO mast VALUES (1, 1, NULL), (2, 1, 5), (3, 2, NULL);
    """)
    before = server.contents()
    (yeldro.folder / "two.toml").write_text("""
        [[remove]]
        from = "mast"
        where = "id = 3"
        expect = 1
        [[remove]]
        from = "mast"
        duplicates_by = ["g"]
        keep = ["lowest:id"]
        fill = ["note"]
        expect = 7
    """)
    assert "Remove 2 of 2" in yeldro("run", "two.toml", "--yes", db=server.url, code=4).err
    assert server.contents() == before
