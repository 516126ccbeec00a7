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
    every, found = warnings(yeldro, database, "depth < 'deep'")
    assert every == "Every row of buoy matches: the condition leaves none out."
    assert found == "depth < 'deep' compares depth, a number, with a text that is no number."
    assert warnings(yeldro, database, "depth < '25'") == []


@pytest.mark.parametrize(
    ("declared", "condition"),
    [("DATE", ("sunk < '2021-01-01'",)), ("TEXT", ("sunk < '2021-01-01'",)),
     ("DATE", ("sunk < :d", "--param", "d=2021-01-01")),
     ("TEXT", ("sunk < :d", "--param", "d=2021-01-01"))],
)  # fmt: skip
def test_days_that_are_stored_in_several_forms(
    yeldro: Yeldro, file_made, declared: str, condition: tuple[str, ...]
) -> None:
    assert "sunk DATE" in SCHEMA
    schema = SCHEMA.replace("'2021-05-01'", "'1.5.2021'").replace("sunk DATE", f"sunk {declared}")
    found = " ".join(warnings(yeldro, file_made(schema), *condition))
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


def test_rows_that_are_equal_because_they_lack_a_value_are_counted(
    yeldro: Yeldro, made: Callable[[str], AnyDatabase]
) -> None:
    database = made("""
        CREATE TABLE person (id INTEGER PRIMARY KEY, mail VARCHAR(20), name VARCHAR(20));
        INSERT INTO person VALUES (1, NULL, 'a'), (2, NULL, 'a'), (3, NULL, 'b'), (4, 'x', 'a'),
            (5, 'x', 'a'), (6, NULL, 'a'), (7, 'y', NULL), (8, 'y', NULL);
    """)
    said = "2 groups of 5 rows are equal on NULL"
    assert said in yeldro("duplicates", "person", "--by", "mail,name", db=database.url).out
    words = ("plan", "person", "--duplicates-by", "mail,name")
    assert said in yeldro(*words, db=database.url).out
    assert "equal on NULL" not in yeldro(*words, "--null-distinct", db=database.url).out
    assert (
        "equal on NULL"
        not in yeldro("plan", "person", "--duplicates-by", "id", db=database.url).out
    )


def test_several_keys_without_an_index_are_one_warning(yeldro: Yeldro, file_made) -> None:
    rows = "WITH RECURSIVE n (i) AS (SELECT 1 UNION ALL SELECT i + 1 FROM n WHERE i < 2000)"
    database = file_made(f"""
        CREATE TABLE buoy (id INTEGER PRIMARY KEY);
        CREATE TABLE mast (id INTEGER PRIMARY KEY, buoy_id REFERENCES buoy ON DELETE CASCADE,
                           old_id REFERENCES buoy ON DELETE CASCADE);
        INSERT INTO buoy VALUES (1), (2); INSERT INTO mast (buoy_id) {rows} SELECT 2 FROM n;
    """)
    (found,) = warnings(yeldro, database, "id = 1")
    assert found.startswith("2 foreign keys have no index, so whole tables are read")
    database.script("CREATE INDEX one ON mast (old_id)")
    (found,) = warnings(yeldro, database, "id = 1")
    assert found.endswith("CREATE INDEX mast_buoy_id ON mast (buoy_id) helps.")


def test_a_wrong_sum_of_several_removes_names_none_of_them(yeldro: Yeldro, demo) -> None:
    (yeldro.folder / "two.toml").write_text("""
        expect_total = 5
        [[remove]]
        from = "alert"
        where = "id < 4"
        [[remove]]
        from = "part_used"
        all_rows = true
    """)
    said = yeldro("rehearse", "two.toml", db=demo.url, code=4).err
    assert "A count is not as expected (rows in all: expected 5, would be" in said
    assert "Remove 2 of 2" not in said


@pytest.mark.parametrize(
    ("words", "said"),
    [
        (
            ("preview", "buoy", "name", "is", "null"),
            'A condition stands in quotes: --where "… name',
        ),
        (("--where", "id = 1", "preview", "buoy"), "Options stand after the command."),
    ],
)
def test_words_that_a_shell_has_split_are_answered_with_how_to_type_them(
    yeldro: Yeldro, words: tuple[str, ...], said: str
) -> None:
    assert said in yeldro(*words, code=2).err


def test_days_in_a_text_column_are_compared_in_the_form_in_which_they_are_stored(
    yeldro: Yeldro, made: Callable[[str], AnyDatabase]
) -> None:
    database = made(SCHEMA.replace("sunk DATE", "sunk VARCHAR(20)"))
    for where, more in (("sunk < '01.01.2016'", ()), ("sunk < :d", ("--param", "d=1/31/2016")),
                        ("sunk > 'soon'", ())):  # fmt: skip
        found = " ".join(warnings(yeldro, database, where, *more))
        assert "sunk holds days as text, such as 2020-01-31" in found, where
        assert "Write the day as the column does" in found
    for where in ("sunk < '2016-01-01'", "sunk >= '2020'", "sunk < '2020-01-31 10:00'"):
        assert "as text" not in " ".join(warnings(yeldro, database, where))
    assert "as text" not in " ".join(warnings(yeldro, database, "name < '01.01.2016'"))
    for typed in ("today-3years", "today - 3y", "Today+1 week"):
        words = ("plan", "buoy", "--where", "sunk < :d", "--param")
        said = yeldro(*words, f"d={typed}", db=database.url, code=2).err
        assert "reads like a relative day, and is none" in said
        yeldro(*words, f"d='{typed}'", db=database.url)


@pytest.mark.parametrize("place", ["before", "behind"])
def test_common_options_stand_before_a_command_or_behind_it(yeldro, demo, place) -> None:
    common = ("--db", demo.url, "--json", "--time-limit=30")
    for words in (("survey", "buoy"), ("plan", "alert", "--all-rows")):
        first, *rest = words
        both = (*common, first, *rest) if place == "before" else (first, *rest, *common)
        assert yeldro(*both).out.startswith("{")
    words = ("receipt", "list", "--json", "--receipts", "here")
    before = ("--json", "--receipts", "here", "receipt", "list")
    assert yeldro(*(before if place == "before" else words)).out.strip() == "[]"
