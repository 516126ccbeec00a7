"""Rows that are stored and put back take a bounded space in memory, however long they are."""

from __future__ import annotations

import os
import subprocess
from collections.abc import Callable

import pytest
from conftest import PROGRAM, Yeldro
from systems import AnyDatabase

from yeldro.core.database.parts import PartSize

_LONG = 1_000_000  # bytes of a value
_ROWS = 120
VALUE = {
    "sqlite": "randomblob({0})",
    "postgresql": "convert_to(repeat('x', {0}), 'UTF8')",
    "mariadb": "repeat('x', {0})",
}
TYPES = {"sqlite": "BLOB", "postgresql": "BYTEA", "mariadb": "LONGBLOB"}


def peak(yeldro: Yeldro, database: AnyDatabase, *words: str) -> float:
    """The most memory that a command takes, in MB."""
    process = subprocess.Popen(
        [PROGRAM, *words], env=yeldro.environment | {"YELDRO_DB": database.url},
        cwd=yeldro.folder, stdout=subprocess.DEVNULL, stdin=subprocess.DEVNULL,
    )  # fmt: skip
    _, status, used = os.wait4(process.pid, 0)
    process.returncode = os.waitstatus_to_exitcode(status)
    assert process.returncode == 0
    return used.ru_maxrss / 1024


def test_long_rows_are_stored_and_put_back_in_little_memory(
    yeldro: Yeldro, made: Callable[[str], AnyDatabase], request: pytest.FixtureRequest
) -> None:
    system = request.node.callspec.params["made"]
    value = VALUE[system].format(_LONG)
    rows = "".join(f"INSERT INTO doc VALUES ({n}, {value});" for n in range(_ROWS))
    database = made(f"CREATE TABLE doc (id INTEGER PRIMARY KEY, body {TYPES[system]}); {rows}")
    run = ("run", "doc", "--yes", "--quiet", "--expect")
    short = peak(yeldro, database, *run, "1", "--where", "id = 0")
    for words in ((*run, str(_ROWS - 1), "--all-rows"), ("restore", "last", "--yes", "--quiet")):
        assert peak(yeldro, database, *words) - short < _ROWS * _LONG / 1e6 / 2
    assert database.value("SELECT count(*) FROM doc") == _ROWS - 1
    assert database.value("SELECT min(length(body)) FROM doc") == _LONG


def test_fewer_long_rows_are_read_at_a_time_and_more_short_ones() -> None:
    part = PartSize(2000)
    sizes = []
    for length in (*[1] * 12, 3_000_000, 3_000_000, 20, 20, 20):
        sizes.append(part.rows)
        part.note([("x" * length, 7, None)] * part.rows if length < 99 else [(b"x" * length,)])
    growing = [2**n for n in range(11)]
    assert sizes == [*growing, 2000, 2000, 1, 1, 2, 4]
