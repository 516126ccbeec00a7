"""Other programs at work on the same rows: an exact tally or a rollback, and nothing else."""

from __future__ import annotations

import sqlite3
from typing import Any

import psycopg
import pymysql
from conftest import Yeldro
from systems import AnyDatabase, MariadbServerDatabase, SqliteFile

FAILURES = (psycopg.Error, pymysql.MySQLError, sqlite3.Error)


def connected(database: AnyDatabase) -> Any:
    """Another program's connection, which begins its transactions itself."""
    if isinstance(database, MariadbServerDatabase):
        return database.connect()
    if not isinstance(database, SqliteFile):
        return psycopg.connect(database.url, autocommit=True)
    connection = sqlite3.connect(database.path, isolation_level=None, timeout=20)
    connection.execute("PRAGMA foreign_keys = ON")
    return connection


def test_a_row_that_comes_to_reference_a_key_while_it_moves_stops_the_run(
    yeldro: Yeldro, made
) -> None:
    database = made("""
        CREATE TABLE mast (id INTEGER PRIMARY KEY, label VARCHAR(9));
        CREATE TABLE lamp (mast_id INTEGER, no INTEGER, PRIMARY KEY (mast_id, no),
            FOREIGN KEY (mast_id) REFERENCES mast (id));
        CREATE TABLE note (id INTEGER PRIMARY KEY, mast_id INTEGER, no INTEGER,
            FOREIGN KEY (mast_id, no) REFERENCES lamp (mast_id, no));
        INSERT INTO mast VALUES (1, 'a'), (2, 'a');
        INSERT INTO lamp VALUES (2, 7);
        INSERT INTO note VALUES (1, 2, 7);
    """)
    other = connected(database).cursor()
    other.execute("BEGIN")
    other.execute("INSERT INTO note VALUES (2, 2, 7)")
    words = ("run", "mast", "--duplicates-by", "label", "--repoint", "--expect", "1", "--expect",
             "note=1", "--yes", "--lock-wait", "1")  # fmt: skip
    waited = yeldro(*words, db=database.url, code=5).err
    assert "rolled back" in waited or waited.startswith("Nothing was changed.")
    other.execute("COMMIT")
    yeldro(*words, db=database.url, code=4)
    assert sorted(database.rows("SELECT * FROM note")) == [(1, 2, 7), (2, 2, 7)]
    assert database.rows("SELECT * FROM lamp") == [(2, 7)]
