"""Rows that are read out of the driver's buffer are those that the driver reads."""

from __future__ import annotations

import random
from collections.abc import Iterator
from typing import Any
from urllib.parse import urlsplit

import pymysql
import pytest
from conftest import need
from pymysql.constants import CLIENT
from pymysql.cursors import SSCursor
from systems import mariadb_connection, mariadb_url
from test_mariadb import TYPES

from yeldro.engines.mariadb import reading
from yeldro.engines.mariadb.connection import connect
from yeldro.engines.mariadb.encoding import ENCODING

ENDS_OF_A_LENGTH = (0, 1, 127, 128, 250, 251, 252, 65_535, 65_536, 262_100, 262_144, 300_000)
SPLIT = 0xFFFFFF  # bytes: from here on a row takes more than one packet
LONG = "SELECT seq, repeat('x', 100) FROM seq_1_to_3000000"


def of_text(text: str) -> str:
    return "'" + text.replace("\\", "\\\\").replace("'", "''") + "'"


def connected(*, wide: bool, charset: str = "utf8mb4") -> Any:
    """Return a connection of the program's own, or one of the driver's with its encoding."""
    need("mariadb")
    if not wide:
        plain = mariadb_connection("mysql")
        plain.encoding = ENCODING
        return plain
    url = urlsplit(mariadb_url())
    options = {"host": url.hostname, "port": url.port or 3306, "user": url.username or "root",
               "password": url.password or "", "database": "mysql", "charset": charset,
               "client_flag": CLIENT.MULTI_STATEMENTS}  # fmt: skip
    return connect(None, None, (), options)


@pytest.fixture
def read() -> Iterator[Any]:
    """A connection whose rows are read out of its buffer."""
    with connected(wide=True) as connection:
        yield connection


def by_the_driver(query: str) -> list[Any]:
    with connected(wide=False) as connection, connection.cursor(SSCursor) as cursor:
        cursor.execute(query)
        return list(cursor.fetchall())


def in_parts(connection: Any, query: str, choose: random.Random) -> list[Any]:
    with connection.cursor(SSCursor) as cursor:
        cursor.execute(query)
        found: list[Any] = []
        while rows := reading.fetched(cursor, most := choose.choice([1, 2, 7, 500, 20_000])):
            assert len(rows) <= most
            found += rows
        assert not reading.fetched(cursor, 10)
        return found


@pytest.mark.parametrize("seed", range(3))
def test_rows_of_any_length_are_the_drivers(read: Any, seed: int) -> None:
    choose = random.Random(seed)

    def value(kind: str) -> str:
        length = choose.choice([*ENDS_OF_A_LENGTH, choose.randrange(2000)])
        of_kind = {
            "text": [f"repeat({of_text(choose.choice('xé漢😀'))}, {length // 4 + 1})", "''",
                     f"repeat('x', {length})", "_utf8mb4 x'EDA080'"],
            "bytes": [f"repeat(x'00', {length})", "x'fe'", "x'ff'", "x''"],
            "number": [str(choose.randrange(-9, 999)), "18446744073709551615"],
            "other": ["0.1e0", "1.50", "DATE'2026-03-04'", "TIME'-12:30:00'", "b'101'"],
        }  # fmt: skip
        return choose.choice([*of_kind[kind], "NULL"])

    for _ in range(10):
        columns = choose.choices(["text", "bytes", "number", "other"], k=choose.randrange(1, 6))
        rows = [", ".join(map(value, columns)) for _ in range(choose.randrange(1, 60))]
        query = " UNION ALL ".join(f"SELECT {row}" for row in rows)
        assert in_parts(read, query, choose) == by_the_driver(query)


def test_thousands_of_rows_follow_each_other(read: Any) -> None:
    query = "SELECT seq, nullif(seq % 3, 0), repeat('ab', seq % 300) FROM seq_1_to_30000"
    assert in_parts(read, query, random.Random(1)) == by_the_driver(query)
    assert in_parts(read, f"{query} LIMIT 0", random.Random(1)) == []


@pytest.mark.parametrize("over", [-1, 0, 1, 100])
def test_a_row_longer_than_a_packet_is_the_drivers(read: Any, over: int) -> None:
    half = SPLIT // 2
    rest = SPLIT - half - 8 + over  # with four bytes in front of each value
    long = f"repeat('x', {half}), repeat('y', {rest})"
    query = f"SELECT 1, 2 UNION ALL SELECT {long} UNION ALL SELECT 3, 4"
    found = in_parts(read, query, random.Random(1))
    assert found == by_the_driver(query)
    assert [len(value) for value in found[1]] == [half, rest]


def test_every_type_is_the_drivers(read: Any) -> None:
    found = []
    for connection in (read, connected(wide=False)):
        with connection.cursor() as cursor:
            cursor.execute(TYPES.replace("CREATE TABLE", "CREATE TEMPORARY TABLE", 1))
            while cursor.nextset():
                pass
            cursor.execute("UPDATE kinds SET seen = 0")
        with connection.cursor(SSCursor) as cursor:
            cursor.execute("SELECT kinds.*, out_of_sight FROM kinds ORDER BY id")
            rows = reading.fetched(cursor, 10) if connection is read else cursor.fetchall()
            found.append(list(rows))
    ours, the_drivers = found
    assert ours == the_drivers
    assert len(ours) == 3


def test_another_encoding_is_followed() -> None:
    with connected(wide=True, charset="latin1") as connection:
        query = "SELECT 'x' UNION ALL SELECT convert(x'80E9' USING latin1)"
        assert in_parts(connection, query, random.Random(1)) == [("x",), ("€é",)]


@pytest.mark.parametrize(
    ("killed", "number", "lives"), [("QUERY", 1317, True), ("CONNECTION", None, False)]
)
def test_an_end_in_the_middle_of_a_result_is_an_error(
    read: Any, killed: str, number: int | None, lives: bool
) -> None:
    cursor = read.cursor(SSCursor)
    cursor.execute(LONG)
    found = list(reading.fetched(cursor, 1000))
    with connected(wide=False) as other, other.cursor() as by:
        by.execute(f"KILL {killed} {read.thread_id()}")
    with pytest.raises(pymysql.Error) as raised:
        found.extend(
            row for rows in iter(lambda: reading.fetched(cursor, 1000), []) for row in rows
        )
    assert [row[0] for row in found] == list(range(1, len(found) + 1))
    assert len(found) < 3_000_000
    assert number is None or raised.value.args[0] == number
    assert read.open == lives
    if lives:
        assert in_parts(read, "SELECT 5", random.Random(1)) == [(5,)]


def test_a_result_that_is_not_read_to_its_end_leaves_nothing_behind(read: Any) -> None:
    with read.cursor(SSCursor) as cursor:
        cursor.execute("SELECT seq, repeat('x', 100) FROM seq_1_to_20000")
        assert len(reading.fetched(cursor, 3)) == 3
    assert in_parts(read, "SELECT 5", random.Random(1)) == [(5,)]
