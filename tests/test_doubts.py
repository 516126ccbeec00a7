"""Warnings about conditions that are right as SQL, and seldom what is meant."""

from __future__ import annotations

import re
from collections.abc import Callable

import pexpect
import pytest
from conftest import PROGRAM, Yeldro
from systems import AnyDatabase

SCHEMA = """
    CREATE TABLE buoy (id INTEGER PRIMARY KEY, name VARCHAR(20), depth INTEGER, sunk DATE);
    CREATE TABLE gone (old INTEGER);
    INSERT INTO buoy VALUES (1, 'Eddy', 10, '2020-01-31'), (2, 'Anvil', 20, NULL),
        (3, 'Marl', 30, '2021-05-01');
    INSERT INTO gone VALUES (1), (NULL);
"""


def warnings(yeldro: Yeldro, database: AnyDatabase, where: str, *more: str) -> list[str]:
    found = yeldro("plan", "buoy", "--where", where, *more, "--json", db=database.url).one()
    shown = yeldro("preview", "buoy", "--where", where, *more, db=database.url).out
    for warning in found["warnings"]:
        assert warning.split(";", maxsplit=1)[0] in re.sub(r"\s+", " ", shown)
    return list(found["warnings"])


@pytest.mark.parametrize(
    ("where", "said"),
    [
        ("depth = NULL", "depth = NULL is true of no row, NULL or not; write IS NULL."),
        ("name <> 'x' AND NOT (sunk = NULL)", "sunk = NULL is true of no row"),
        ("id NOT IN (SELECT old FROM gone)", "NOT IN is true of no row, as its list holds NULL"),
        (
            "id IN (SELECT id FROM (SELECT id, row_number() OVER (PARTITION BY lower(name)"
            " ORDER BY id) AS n FROM buoy) AS f WHERE n > 1)",
            "Rows are numbered in groups of LOWER(name), which is no column",
        ),
        ("depth > 5 AND id = 1", "Every row of buoy fulfils depth > 5."),
        ("depth > 50 AND id = 1", "No row of buoy fulfils depth > 50."),
        ("name LIKE 'Z%' AND id = 1", "No row of buoy fulfils name LIKE 'Z%'."),
    ],
)
def test_what_is_seldom_meant_is_told(
    yeldro: Yeldro, made: Callable[[str], AnyDatabase], where: str, said: str
) -> None:
    assert any(each.startswith(said) for each in warnings(yeldro, made(SCHEMA), where))


@pytest.mark.parametrize(
    "where",
    [
        "depth IS NULL",
        "id NOT IN (SELECT old FROM gone WHERE old IS NOT NULL)",
        "id NOT IN (SELECT old FROM gone WHERE gone.old = buoy.id)",
        "id IN (SELECT old FROM gone)",
        "depth > 10 AND id > 1",
        "sunk < '2021-01-01' AND depth < 30",
        "depth = 10",
    ],
)
def test_what_may_well_be_meant_is_not_doubted(
    yeldro: Yeldro, made: Callable[[str], AnyDatabase], where: str
) -> None:
    found = warnings(yeldro, made(SCHEMA), where)
    assert not any("fulfils" in each or "true of no row" in each for each in found)


def test_days_and_numbers_compared_with_something_else(yeldro: Yeldro, file_made) -> None:
    database = file_made(SCHEMA)
    (found,) = warnings(yeldro, database, "sunk > 2021-01-01")
    assert found.startswith("sunk > 2021 - 01 - 01 compares the days of sunk with a number")
    (found,) = warnings(yeldro, database, "depth < 'deep'")
    assert found == "depth < 'deep' compares the numbers of depth with a text that is none."
    assert warnings(yeldro, database, "depth < '25'") == []


def test_days_that_are_stored_in_several_forms(yeldro: Yeldro, file_made) -> None:
    database = file_made(SCHEMA.replace("'2021-05-01'", "'1.5.2021'"))
    (found,) = warnings(yeldro, database, "sunk < '2021-01-01'")
    assert "several forms: 1 as 2018-01-31, 0 with a time, 1 in others" in found


def test_a_parameter_is_looked_at_with_its_value(
    yeldro: Yeldro, made: Callable[[str], AnyDatabase]
) -> None:
    words = ("--param", "day=1990-01-01")
    (found,) = warnings(yeldro, made(SCHEMA), "sunk < :day AND id < 3", *words)[:1]
    assert found.startswith("No row of buoy fulfils sunk < :day")


def test_a_doubt_is_told_before_a_run_asks(yeldro: Yeldro, file_made) -> None:
    words = ["run", "buoy", "--where", "sunk > 2021-01-01", "--db", file_made(SCHEMA).url]
    child = pexpect.spawn(str(PROGRAM), words, env=yeldro.environment, encoding="utf-8", timeout=60)
    child.expect("Type the number of rows")
    assert "a day stands in quotes" in child.before
    child.close(force=True)
