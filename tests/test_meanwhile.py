"""Other programs at work on the same rows: an exact tally or a rollback, and nothing else."""

from __future__ import annotations

import random
import sqlite3
import subprocess
import threading
import time
from collections import Counter
from typing import Any

import psycopg
import pymysql
import pytest
from conftest import PROGRAM, Yeldro
from systems import AnyDatabase, MariadbServerDatabase, SqliteFile
from test_faults import filled

from yeldro.core.receipts.reader import receipts_in, stored_rows

pytestmark = pytest.mark.slow

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


class Others(threading.Thread):
    """Adds, changes and removes rows in short transactions, and counts what it has committed."""

    def __init__(self, database: AnyDatabase, seed: int) -> None:
        super().__init__()
        self.database = database
        self.chance = random.Random(seed)
        self.ended = threading.Event()
        self.added: Counter[str] = Counter()
        self.failures = 0
        self.next = 10_000

    def run(self) -> None:
        connection = connected(self.database)
        cursor = connection.cursor()
        while not self.ended.is_set():
            try:
                self.do_something(cursor)
            except FAILURES:
                self.failures += 1
                cursor.execute("ROLLBACK")
            time.sleep(0.04)
        connection.close()

    def do_something(self, cursor: Any) -> None:
        self.next += 1
        mast, lamp = self.chance.randint(1, 300), self.chance.randint(1, 600)
        table, statement = self.chance.choice([
            ("lamp", f"INSERT INTO lamp VALUES ({self.next}, {mast})"),
            ("mast", f"INSERT INTO mast VALUES ({self.next}, 'new')"),
            ("note", f"INSERT INTO note VALUES ({self.next}, {lamp})"),
            ("lamp", f"DELETE FROM lamp WHERE id = {lamp} AND id NOT IN "
                     "(SELECT lamp_id FROM note WHERE lamp_id IS NOT NULL)"),
            ("", f"UPDATE mast SET label = 'changed' WHERE id = {mast}"),
            ("", f"UPDATE lamp SET mast_id = {mast} WHERE id = {lamp}"),
            ("", f"UPDATE note SET lamp_id = NULL WHERE lamp_id = {lamp}"),
        ])  # fmt: skip
        cursor.execute("BEGIN")
        cursor.execute(statement)
        changed = cursor.rowcount
        cursor.execute("COMMIT")
        if table:
            self.added[table] += changed if statement.startswith("INSERT") else -changed


@pytest.mark.parametrize("how", ["whole", "batches"])
def test_rows_that_others_change_meanwhile_are_counted_exactly_or_left(
    yeldro: Yeldro, made, how: str
) -> None:
    database = made(filled())
    others = Others(database, 1)
    others.start()
    codes = Counter()
    try:
        for first in range(1, 300, 75):
            words = ["run", "mast", "--where", f"id BETWEEN {first} AND {first + 74}", "--expect",
                     "75", "--yes", "--quiet", "--lock-wait", "20"]  # fmt: skip
            if how == "batches":
                words += ["--batch", "25", "--pause", "0.05"]
            for _ in range(3):
                done = subprocess.run(
                    [PROGRAM, *words], env=yeldro.environment | {"YELDRO_DB": database.url},
                    capture_output=True, text=True, check=False, timeout=120,
                )  # fmt: skip
                codes[done.returncode] += 1
                assert done.returncode in (0, 3, 4, 5), done
                assert "fault in Yeldro" not in done.stderr
                if not done.returncode:
                    break
    finally:
        others.ended.set()
        others.join()
    assert codes[0]
    removed: Counter[str] = Counter()
    for receipt in receipts_in(yeldro.receipts):
        assert receipt.outcome in ("committed", "ready" if how == "batches" else "committed")
        for step in receipt.steps:
            assert step.rows_table
            stored = sum(1 for _ in stored_rows(receipt.path, step))
            assert stored == step.affected
            if step.action == "remove":
                removed[step.table.name] += stored
    for table, rows in (("mast", 300), ("lamp", 600), ("note", 200)):
        expected = rows + others.added[table] - removed[table]
        assert database.value(f"SELECT count(*) FROM {table}") == expected, (table, codes)
    for child, parent in (("lamp", "mast"), ("note", "lamp")):
        hanging = f"{parent}_id IS NOT NULL AND {parent}_id NOT IN (SELECT id FROM {parent})"
        assert database.value(f"SELECT count(*) FROM {child} WHERE {hanging}") == 0
    assert others.failures < others.next - 10_020


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
    words = ["run", "mast", "--duplicates-by", "label", "--repoint", "--expect", "1", "--expect",
             "note=1", "--yes", "--lock-wait", "20"]  # fmt: skip
    run = subprocess.Popen(
        [PROGRAM, *words], env=yeldro.environment | {"YELDRO_DB": database.url},
        stdout=subprocess.PIPE, stderr=subprocess.PIPE, text=True,
    )  # fmt: skip
    with pytest.raises(subprocess.TimeoutExpired):
        run.communicate(timeout=4)  # it waits for the other's row
    other.execute("COMMIT")
    _, told = run.communicate(timeout=60)
    assert run.returncode in (4, 5), told
    assert sorted(database.rows("SELECT * FROM note")) == [(1, 2, 7), (2, 2, 7)]
    assert database.rows("SELECT * FROM lamp") == [(2, 7)]
