"""Schemas of many tables: the catalogue is read by sets, and a plan stays exact."""

from __future__ import annotations

import random
import re
from collections import Counter
from collections.abc import Callable
from pathlib import Path

import psycopg
import sqlalchemy as sa
from conftest import Yeldro, need, there_and_back
from servers import free_port, make_postgresql, postgresql_started
from systems import AnyDatabase

from yeldro.engines.catalogue_rows import RowsByTable

_TABLES = 70  # more than are read one by one


def _schema(tables: int, seed: int) -> tuple[str, list[list[int]]]:
    """Return a script of tables that reference one or two earlier ones, and the references."""
    chance = random.Random(seed)
    parents = [[]] + [
        sorted(chance.sample(range(child), min(child, chance.choice((1, 1, 2)))))
        for child in range(1, tables)
    ]
    statements = []
    for table, own in enumerate(parents):
        keys = "".join(f", p{n} INTEGER" for n in range(len(own)))
        keys += "".join(
            f", FOREIGN KEY (p{n}) REFERENCES t{parent} (id)" for n, parent in enumerate(own)
        )
        statements.append(f"CREATE TABLE t{table} (id INTEGER PRIMARY KEY, note VARCHAR(9){keys})")
        for row in (1, 2, 3):
            values = "".join(f", {row if row < 3 or n else 'NULL'}" for n in range(len(own)))
            statements.append(f"INSERT INTO t{table} VALUES ({row}, 'r{row}'{values})")
    return ";\n".join(statements), parents


def _gone(parents: list[list[int]], key: int) -> set[tuple[int, int]]:
    """Return the rows, as table and key, that go with one row of the first table."""
    gone = {(0, key)}
    for table, own in enumerate(parents[1:], start=1):
        for row in (1, 2, 3):
            values = [row if row < 3 or n else None for n in range(len(own))]
            if any((parent, value) in gone for parent, value in zip(own, values, strict=True)):
                gone.add((table, row))
    return gone


def test_a_plan_of_many_tables_is_exact_and_comes_back(
    yeldro: Yeldro, made: Callable[[str], AnyDatabase]
) -> None:
    script, parents = _schema(_TABLES, seed=1)
    database = made(script)
    gone = _gone(parents, key=1)
    words = ("t0", "--where", "id = 1", "--follow", "all")
    plan = yeldro("plan", *words, "--json", db=database.url).json()
    steps = {step["table"]: step["rows"] for step in plan["removes"][0]["steps"]}
    counted: dict[str, int] = {}
    for table, _ in gone:
        counted[f"t{table}"] = counted.get(f"t{table}", 0) + 1
    assert steps == counted
    there_and_back(yeldro, database, *words, "--expect", f"total={len(gone)}")


def test_catalogue_rows_are_read_one_by_one_then_all_at_once() -> None:
    asked: list[str] = []

    def one(table: int) -> list[str]:
        asked.append(f"one {table}")
        return [f"column of {table}"]

    def all_of_them() -> dict[int, list[str]]:
        asked.append("all")
        return {table: [f"column of {table}"] for table in range(999)}

    rows = RowsByTable(one, all_of_them, 1000)
    for table in range(999):
        assert rows.of(table) == [f"column of {table}"]
    assert list(rows.of(999)) == []
    assert asked[-1] == "all"
    assert asked.count("all") == 1
    assert len(asked) < 100


def test_a_plan_that_needs_more_locks_than_the_server_has_says_so(
    yeldro: Yeldro, server_folder: Path
) -> None:
    need("postgresql")
    make_postgresql(server_folder, "small")
    few = "-c max_locks_per_transaction=10 -c max_connections=5 -c max_worker_processes=0"
    with postgresql_started(server_folder, "small", free_port(), few) as url:
        script, _ = _schema(700, seed=3)
        statements = script.split(";\n")
        with psycopg.connect(url, autocommit=True) as connection:
            for start in range(0, len(statements), 40):
                connection.execute("; ".join(statements[start : start + 40]))
        words = ("t0", "--where", "id = 1", "--follow", "all")
        refused = yeldro("plan", *words, db=url, code=5).err
    assert "no room for more locks" in refused
    assert "Raise max_locks_per_transaction" in refused


_OF_THE_CATALOGUE = re.compile(
    r"pg_(?!stat_|temp|catalog.current_)|information_schema|_master|PRAGMA|EXPLAIN"
)
_COUNTERS = "pg_stat_xact"


def test_a_session_asks_the_catalogue_once(yeldro: Yeldro, network: AnyDatabase) -> None:
    """A rehearsal reads it to read values, to lock what decides, and under these locks."""
    connected: list[object] = []
    asked: dict[sa.Connection, Counter[tuple[str, str]]] = {}

    def connect(*given: object) -> None:
        connected.append(given[0])

    def ask(
        connection: sa.Connection, _: object, statement: str, values: object, *__: object
    ) -> None:
        if _OF_THE_CATALOGUE.search(statement) and _COUNTERS not in statement:
            asked.setdefault(connection, Counter())[statement, str(values)] += 1

    sa.event.listen(sa.pool.Pool, "connect", connect)
    sa.event.listen(sa.Engine, "before_cursor_execute", ask)
    try:
        yeldro("rehearse", "buoy", "--where", "name = :n", "--param", "n=Eddy", "--missing-in",
               "deployment", "--follow", "all", db=network.url)  # fmt: skip
    finally:
        sa.event.remove(sa.pool.Pool, "connect", connect)
        sa.event.remove(sa.Engine, "before_cursor_execute", ask)
    most = {"postgresql": 1, "mariadb": 3, "mssql": 3}.get(network.url.partition(":")[0], 2)
    assert len(connected) <= most
    sessions = list(asked.values())
    assert len(sessions) <= 3
    assert sessions[-1].total() > 3
    assert not [one for each in sessions for one, times in each.items() if times > 1]
