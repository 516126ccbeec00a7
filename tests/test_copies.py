"""Copies of the rows as tables of the same database, and restoring from them."""

from __future__ import annotations

import pytest
from conftest import Yeldro
from systems import AnyDatabase, MariadbServerDatabase, PostgresqlServerDatabase, SqliteFile
from test_look import GONE
from test_undoing import PORTS

FOLLOWED = ("run", "buoy", *GONE, "--follow", "all", "--expect", "1..", "--yes", "--json")


def without_copies(database: AnyDatabase) -> list[str]:
    return [row for row in database.contents() if "old_" not in row.partition(":")[0]]


def names(database: AnyDatabase) -> set[str]:
    """All tables; those without a row too."""
    if isinstance(database, SqliteFile):
        query = "SELECT name FROM sqlite_master WHERE type = 'table'"
    elif isinstance(database, PostgresqlServerDatabase):
        query = "SELECT tablename::text FROM pg_tables WHERE schemaname = 'public'"
    else:
        query = "SHOW TABLES"
    return {row[0] for row in database.rows(query)}


def test_rows_are_copied_beside_the_originals_and_come_back_from_there(
    yeldro: Yeldro, network: AnyDatabase
) -> None:
    before = without_copies(network)
    buoys = network.rows("SELECT * FROM buoy ORDER BY id")
    done = yeldro(*FOLLOWED, "--copy-to", "old_", db=network.url).one()
    assert "old_buoy" in {name.rpartition(".")[2] for name in done["copies"]}
    left = network.rows("SELECT * FROM buoy ORDER BY id")
    copied = network.rows("SELECT * FROM old_buoy ORDER BY id")
    assert [tuple(row[: len(buoys[0])]) for row in copied] == [
        row for row in buoys if row not in left
    ]
    assert left
    assert copied
    (receipt,) = yeldro.receipts.iterdir()
    assert str(buoys[0][1]).encode() not in receipt.read_bytes()
    refused = yeldro("restore", "last", "--only", "alert", "--where", "id > 0", "--yes", code=2)
    assert "old_alert" in refused.err
    assert "tables of the database" in yeldro("receipt", "export", "--to", "x", code=3).err
    assert yeldro("receipt", "check", "--json").json()["verdict"] == "all gone"
    yeldro("restore", "last", "--yes")
    assert without_copies(network) == before
    again = yeldro(*FOLLOWED, "--copy-to", "old_", db=network.url, code=3)
    assert "left as it is" in again.err
    assert without_copies(network) == before
    yeldro(*FOLLOWED, db=network.url)
    network.script("DROP TABLE old_visit")
    (first,) = yeldro.receipts.glob(f"*{receipt.name}")
    assert "old_visit is not there" in yeldro("restore", str(first), "--yes", code=3).err


def test_nothing_is_left_of_copies_that_are_rolled_back(
    yeldro: Yeldro, network: AnyDatabase
) -> None:
    network.script("CREATE TABLE old_sensor (id INTEGER)")
    before, tables = network.contents(), names(network)
    refused = yeldro(*FOLLOWED, "--copy-to", "old_", db=network.url, code=3)
    assert "old_sensor exists already" in refused.err
    nowhere = yeldro(*FOLLOWED, "--copy-to", "nowhere.", db=network.url, code=5)
    assert "could not be made" in nowhere.err
    assert network.contents() == before
    assert names(network) == tables
    assert not list(yeldro.receipts.glob("*"))


def test_links_that_were_cut_come_back_from_copies(yeldro: Yeldro, made) -> None:
    database = made(PORTS)
    before = without_copies(database)
    yeldro("run", "port", "--where", "id < 3", "--detach", "ship", "--follow", "log", "--expect",
           "2", "--yes", "--copy-to", "old_", db=database.url)  # fmt: skip
    copies = {name for name in names(database) if name.startswith("old_")}
    assert copies == {"old_port", "old_log", "old_ship_detached", "old_ship_detached_2"}
    assert database.value("SELECT count(*) FROM old_log") == 3
    yeldro("restore", "last", "--yes")
    assert without_copies(database) == before
    own, first = yeldro("receipt", "list", "--json").json()
    assert own["copies"] == []
    yeldro("restore", own["id"], "--yes")
    assert database.value("SELECT count(*) FROM port") == 1
    database.script("DELETE FROM old_log WHERE line = 'z'")
    assert "incomplete" in yeldro("restore", first["id"], "--yes", code=5).err


@pytest.mark.parametrize("made", ["postgresql", "mariadb"], indirect=True)
def test_another_schema_takes_the_copies(yeldro: Yeldro, made) -> None:
    database = made("""
        CREATE TABLE port (id INTEGER PRIMARY KEY, name VARCHAR(9), built DATE NOT NULL);
        INSERT INTO port VALUES (1, 'a', '2001-02-03'), (2, 'b', '2001-02-03');
    """)
    schema = "kept"
    if isinstance(database, MariadbServerDatabase):
        schema = f"{database.name}_kept"
    database.script(f"CREATE SCHEMA {schema}")
    try:
        done = yeldro("run", "port", "--where", "id = 1", "--expect", "1", "--yes", "--json",
                      "--copy-to", f"{schema}.", db=database.url).one()  # fmt: skip
        assert done["copies"] == [f"{schema}.port"]
        assert database.value(f"SELECT name FROM {schema}.port") == "a"
        yeldro("restore", "last", "--yes")
        assert database.value("SELECT count(*) FROM port") == 2
    finally:
        if isinstance(database, MariadbServerDatabase):
            database.script(f"DROP SCHEMA {schema}")


def test_what_cannot_go_with_copies_is_said(yeldro: Yeldro, demo: SqliteFile) -> None:
    before = demo.contents()
    words = ("run", "alert", "--where", "id = 1", "--expect", "1", "--yes")
    for more, said in (
        (("--copy-to", "old"), "old_ for tables"),
        (("--copy-to", "_"), "neither a schema nor a prefix"),
        (("--copy-to", "old_", "--without-rows"), "--without-rows does not"),
        (("--copy-to", "old_", "--batch", "5"), "--batch repeats the steps"),
    ):
        assert said in yeldro(*words, *more, db=demo.url, code=2).err
    assert "longer than" in yeldro(*words, "--copy-to", "o" * 70 + "_", db=demo.url, code=3).err
    assert demo.contents() == before
