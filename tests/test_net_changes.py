"""A restore puts back what was there before all steps of its receipt, once, and within limits."""

from __future__ import annotations

import random
import re
from collections.abc import Callable
from pathlib import Path
from typing import Any

import pytest
from conftest import Yeldro
from systems import AnyDatabase, PostgresqlServerDatabase, SqliteFile, SqlServerDatabase
from test_interleaved import stepped
from trials import Trials
from undoing import back_and_forth

from yeldro.api import cleanup, connect, job
from yeldro.core.model.messages.errors import DatabaseFailure, Refused, YeldroError
from yeldro.core.planning.cleanup import Cleanup
from yeldro.core.receipts.reader import read_receipt
from yeldro.core.restore.restore import restore
from yeldro.engines import open_database

SCHEMA = """
    CREATE TABLE port (id INTEGER PRIMARY KEY, name VARCHAR(9), rank_no INTEGER,
                       note VARCHAR(9));
    CREATE TABLE ship (id INTEGER PRIMARY KEY, name VARCHAR(9), flag VARCHAR(9) UNIQUE,
                       port_id INTEGER REFERENCES port (id),
                       home_id INTEGER REFERENCES port (id),
                       lead_id INTEGER REFERENCES ship (id),
                       berth INTEGER GENERATED ALWAYS AS (coalesce(port_id, 0) * 10 + home_id)
                           STORED);
    CREATE TABLE crew (ship_id INTEGER NOT NULL REFERENCES ship (id), seat INTEGER NOT NULL,
                       port_id INTEGER REFERENCES port (id),
                       place INTEGER GENERATED ALWAYS AS (ship_id * 10 + seat) STORED,
                       PRIMARY KEY (ship_id, seat));
    CREATE TABLE log (ship_id INTEGER REFERENCES ship (id), port_id INTEGER REFERENCES port (id));
"""


def filled(database: AnyDatabase, chance: random.Random, *, logged: bool) -> None:
    """Make ports with ships and crews, many of them alike.

    Args:
        logged: there are rows without a key, too.
    """

    def some(values: Any) -> str:
        chosen = chance.choice([None, *values])
        return "NULL" if chosen is None else repr(chosen)

    ports, ships = range(1, 8), range(1, 13)
    rows = [f"INSERT INTO port VALUES ({n}, {some('ab')}, {some(range(3))}, {some('xy')})"
            for n in ports]  # fmt: skip
    rows += ["INSERT INTO ship (id, name, flag, port_id, home_id, lead_id)"
             f" VALUES ({n}, {some('ab')}, {some([f'f{n}'])}, {some(ports)},"
             f" {some(ports)}, {some(range(1, n))})" for n in ships]  # fmt: skip
    rows += [f"INSERT INTO crew (ship_id, seat, port_id) VALUES ({n}, {seat}, {some(ports)})"
             for n in ships for seat in range(1, chance.randint(1, 4))]  # fmt: skip
    if logged:
        rows += [f"INSERT INTO log VALUES ({some(ships)}, {some(ports)})" for _ in range(12)]
    tables = ("log", "crew", "ship", "port")
    dropped = "; ".join(f"DROP TABLE IF EXISTS {table}" for table in tables)
    database.script(f"{dropped}; {SCHEMA} {'; '.join(rows)}")


OF_SHIPS = ("crew.ship_id", "log.ship_id", "ship.lead_id")
KEYS = {"port": ("ship.port_id", "ship.home_id", "crew.port_id", "log.port_id"), "ship": OF_SHIPS}


def remove(chance: random.Random, *, moves_keys: bool) -> Cleanup:
    """Return one cleanup of a table, which leads to the others by any way.

    Args:
        moves_keys: links that are part of a key may move to another row, too.
    """
    table = chance.choice(["port", "port", "ship", "ship", "crew"])
    if table == "crew":
        return cleanup("crew", where=f"port_id > {chance.randint(1, 6)}")
    keys = dict.fromkeys((*KEYS[table], *OF_SHIPS))
    followed = [key for key in keys if key == "crew.ship_id" or chance.random() < 0.5]
    ways: dict[str, Any] = {"follow": followed, "detach": [k for k in keys if k not in followed]}
    if chance.random() < 0.3:
        divisor = chance.randint(2, 5)
        return cleanup(table, where=f"id % {divisor} = {chance.randrange(divisor)}", **ways)
    if chance.random() < 0.7 and (table == "port" or moves_keys):
        ways = {"repoint": True, "follow": ["crew.ship_id"]}
    if chance.random() < 0.5:
        given = "flag" if table == "ship" else "note"
        ways |= {"fill": chance.choice(["all", given]), "fill_first": True}
    return cleanup(table, duplicates_by=chance.choice(["name", "lower(name)"]),
                   keep=chance.choice(["lowest:id", "highest:id"]), **ways)  # fmt: skip


def test_several_removes_over_the_same_rows_are_undone_as_one(
    made: Callable[[str], AnyDatabase], tmp_path: Path, trials: Trials
) -> None:
    database = made(SCHEMA)
    opened = connect(database.url)
    done = 0
    for case in trials(3, 4000):
        chance = random.Random(case)
        filled(database, chance, logged=case % 3 == 0)
        before = database.contents()
        folder = tmp_path / str(case)
        # PostgreSQL compares keys row by row, and SQL Server changes one table at a time, so rows
        # that take each other's do not all come back.
        moves_keys = not isinstance(database, (PostgresqlServerDatabase, SqlServerDatabase))
        some = (remove(chance, moves_keys=moves_keys) for _ in range(chance.randint(2, 5)))
        removes = job(*some, expect_total="0..999")
        try:
            result = opened.run(removes, receipts=folder)
        except YeldroError:
            assert database.contents() == before
            continue
        if result.receipt is None or database.contents() == before:
            continue
        done += 1
        back_and_forth(open_database(database.url), result.receipt, database.contents)
        assert database.contents() == before
    assert done or trials.only_one, "no case was carried out"


LOG = """
    CREATE TABLE port (id INTEGER PRIMARY KEY);
    CREATE TABLE log (line VARCHAR(9), port_id INTEGER REFERENCES port (id));
    INSERT INTO port VALUES (1), (2), (3);
    INSERT INTO log VALUES ('a', 1), ('a', 1), ('b', 2), ('c', 3);
"""


def test_rows_without_a_key_that_two_removes_meet_come_back_or_do_not_go(
    made: Callable[[str], AnyDatabase], tmp_path: Path
) -> None:
    database = made(LOG)
    before = database.contents()
    removes = job(cleanup("port", where="id = 1", detach="all"), cleanup("log", where="line < 'c'"),
                  expect_total="0..9")  # fmt: skip
    opened = connect(database.url)
    if isinstance(database, SqliteFile):  # a row id tells them apart
        opened.restore(opened.run(removes, receipts=tmp_path).receipt)
    else:
        with pytest.raises(Refused, match="log has no key, and an earlier remove of this run"):
            opened.run(removes, receipts=tmp_path)
    assert database.contents() == before


def test_two_restores_at_once_put_rows_without_a_key_back_once(
    made: Callable[[str], AnyDatabase], tmp_path: Path
) -> None:
    database = made(LOG)
    before = database.contents()
    done = connect(database.url).run(cleanup("log", where="line < 'c'", expect=3),
                                     receipts=tmp_path)  # fmt: skip
    receipt, others = read_receipt(done.receipt), []

    def at_once(statement: str) -> None:
        if "INTO log" in re.sub(r'["`\[]', "", statement) and not others:
            others.append("begun")
            try:
                others.append(restore(open_database(database.url), receipt, 0.2).total)
            except DatabaseFailure as error:
                others.append(error.why)

    with stepped(at_once):
        assert restore(open_database(database.url), receipt, 5).total == 3
    assert len(others) == 2
    assert "lock" in str(others[1]), others
    assert database.contents() == before


def test_limits_hold_for_a_restore(yeldro: Yeldro, made: Callable[[str], AnyDatabase]) -> None:
    yeldro.environment["YELDRO_DB"] = made(LOG).url
    yeldro("run", "log", "--where", "line < 'c'", "--expect", "3", "--yes")
    project = yeldro.folder / "yeldro.toml"
    project.write_text('protect = ["log"]\n')
    assert "log is protected by" in yeldro("restore", "last", "--yes", code=3).err
    project.write_text("most_rows = 2\n")
    assert "allows 2 in one run" in yeldro("restore", "last", "--yes", code=3).err
    yeldro("restore", "last", "--yes", "--allow-more")


LOUD = {
    "/": "CREATE TRIGGER loud AFTER DELETE ON sign BEGIN DELETE FROM port WHERE id = 3; END",
    "m": "CREATE TRIGGER loud AFTER DELETE ON sign FOR EACH ROW DELETE FROM port WHERE id = 3",
    "p": """CREATE FUNCTION loud() RETURNS trigger LANGUAGE plpgsql AS
                'BEGIN DELETE FROM port WHERE id = 3; RETURN NULL; END';
            CREATE TRIGGER loud AFTER DELETE ON sign FOR EACH ROW EXECUTE FUNCTION loud()""",
}


def test_an_allowed_trigger_takes_no_row_of_a_protected_table(
    yeldro: Yeldro, made: Callable[[str], AnyDatabase]
) -> None:
    database = made(
        "CREATE TABLE port (id INTEGER PRIMARY KEY); INSERT INTO port VALUES (2), (3);"
        "CREATE TABLE sign (id INTEGER PRIMARY KEY); INSERT INTO sign VALUES (1), (2)"
    )
    database.script(LOUD[database.url[0]])
    before = database.contents()
    yeldro.environment["YELDRO_DB"] = database.url
    words = ("run", "sign", "--where", "id = 1", "--expect", "1", "--yes", "--allow-trigger",
             "loud")  # fmt: skip
    project = yeldro.folder / "yeldro.toml"
    project.write_text('protect = ["port"]\n')
    for more in ((), ("--batch", "1")):
        assert "port" in yeldro(*words, *more, code=3).err
        assert database.contents() == before
    project.write_text("")
    yeldro(*words)
    assert database.value("SELECT count(*) FROM port") == 1


def test_a_clause_of_a_table_takes_no_row_out_of_the_way(
    yeldro: Yeldro, file_made: Callable[[str], SqliteFile]
) -> None:
    """SQLite would remove the row with the same berth, and count nothing."""
    database = file_made("""
        CREATE TABLE port (id INTEGER PRIMARY KEY);
        CREATE TABLE ship (id INTEGER PRIMARY KEY, port_id INTEGER DEFAULT 9 UNIQUE ON CONFLICT
            REPLACE REFERENCES port (id) ON DELETE SET DEFAULT);
        INSERT INTO port VALUES (1), (9);
        INSERT INTO ship VALUES (1, 1), (2, 9);
    """)
    before = database.contents()
    yeldro.environment["YELDRO_DB"] = database.url
    words = ("run", "port", "--where", "id = 1", "--expect", "1", "--yes")
    assert "UNIQUE constraint failed" in yeldro(*words, code=5).err
    assert database.contents() == before
