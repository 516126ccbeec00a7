"""A mistake in a filter is shown at its place, and a value that matches nothing with its like."""

from __future__ import annotations

import re
from collections.abc import Callable, Mapping
from pathlib import Path
from typing import Any

import pytest
from conftest import Yeldro
from hypothesis import given
from hypothesis import strategies as st
from systems import AnyDatabase, SqliteFile

from yeldro.core.model.messages.errors import UnknownName, UsageError
from yeldro.core.planning.cleanup import Cleanup
from yeldro.core.planning.plan import prepare
from yeldro.core.selection.asked import Selection
from yeldro.engines import open_database
from yeldro.report.text import pointed

GOOD = st.sampled_from([
    "id > 3", "name = 'it''s (a) name'", "\"name\" LIKE 'E%'", "id IN (1, 2,\n3)", "mass IS NULL",
    "id = (SELECT max(id) FROM buoy)", "mass BETWEEN 1 AND 2", "NOT id = 7",
])  # fmt: skip
WRONG = ("nmae = 'x'", "3 < nmae", "(nmae IS NULL)", "id IN (SELECT id FROM nmae)",
         "buoy.nmae = 1")  # fmt: skip
UNREADABLE = (("id > ) 4", ")"), ("id = 4 AND AND id = 5", "AND"), ("id IN (1, 2", None))
JOINED = st.sampled_from([" AND ", "\n  OR ", " and\n\t", " or "])
SCHEMA = """
    CREATE TABLE buoy (id INTEGER PRIMARY KEY, name VARCHAR(40), mass INTEGER, set_out DATE);
    INSERT INTO buoy VALUES (1, 'Eddy', 10, '2020-01-01'), (2, 'Gyre', 20, '2020-03-01'),
        (3, 'Maelstrom', 30, '2020-05-01'), (4, NULL, NULL, NULL);
"""


@pytest.fixture(scope="module")
def buoys(tmp_path_factory: pytest.TempPathFactory) -> Path:
    database = SqliteFile(tmp_path_factory.mktemp("mistakes") / "buoys.db")
    database.script(SCHEMA)
    return database.path


def refusal(path: Path, where: str) -> UsageError:
    with open_database(str(path)).reading() as session, pytest.raises(UsageError) as found:
        prepare(session, Cleanup(Selection("buoy", where=where)))
    return found.value


def marked(place: Mapping[str, Any]) -> str:
    """The characters above the marks, as a person sees them."""
    line, marks = pointed(place).split("\n")
    start = marks.index("^")
    assert set(marks[start:]) == {"^"}
    return line[start : len(marks)]


@given(st.lists(GOOD, max_size=6), JOINED, st.data())
def test_an_unknown_name_is_marked_where_it_stands(
    buoys: Path, parts: list[str], joined: str, data: st.DataObject
) -> None:
    wrong = data.draw(st.sampled_from(WRONG))
    at = data.draw(st.integers(0, len(parts)))
    where = joined.join([*parts[:at], wrong, *parts[at:]])
    error = refusal(buoys, where)
    assert isinstance(error, UnknownName)
    place = error.evidence["place"]
    assert where.split("\n")[place["line"] - 1] == place["text"]
    assert marked(place) == "nmae"


@given(st.lists(GOOD, max_size=6), JOINED, st.data())
def test_what_cannot_be_read_is_marked_where_it_stands(
    buoys: Path, parts: list[str], joined: str, data: st.DataObject
) -> None:
    wrong, near = data.draw(st.sampled_from(UNREADABLE))
    where = joined.join([*parts, wrong])
    error = refusal(buoys, where)
    assert "cannot be read" in error.why
    place = error.evidence["place"]
    assert where.split("\n")[place["line"] - 1] == place["text"]
    assert near is None or marked(place) == near


@given(st.lists(GOOD, max_size=3), st.sampled_from("'\""))
def test_a_quote_that_is_not_closed_is_marked(buoys: Path, parts: list[str], quote: str) -> None:
    where = " AND ".join([*parts, f"id = {quote}open"])
    error = refusal(buoys, where)
    assert "quote is not closed" in error.why
    assert marked(error.evidence["place"]) == quote
    whole = error.evidence["place"]
    assert where.split("\n")[whole["line"] - 1][whole["column"] - 1 :] == f"{quote}open"


@given(st.text(min_size=1, max_size=300), st.data())
def test_a_mark_fits_the_line_and_nothing_in_it_acts(text: str, data: st.DataObject) -> None:
    line = text.replace("\n", " ")
    start = data.draw(st.integers(0, len(line) - 1))
    length = data.draw(st.integers(1, len(line) - start))
    shown = pointed({"text": line, "column": start + 1, "length": length}, 40)
    above, marks = shown.split("\n")
    assert all(each.isprintable() or each.isspace() for each in above)
    assert len(above.splitlines()) == 1
    assert len(above) <= 40 + 4
    assert len(marks.rstrip()) <= len(above)


def test_the_place_is_shown_at_the_terminal_and_told_in_json(
    yeldro: Yeldro, made: Callable[[str], AnyDatabase]
) -> None:
    database = made(SCHEMA)
    words = ("preview", "buoy", "--where", "id > 1 and nmae = 'Eddy'")
    lines = yeldro(*words, db=database.url, code=2).err.splitlines()
    assert lines[-2:] == ["  id > 1 and nmae = 'Eddy'", "             ^^^^"]
    error = yeldro(*words, "--json", db=database.url, code=2).json()["error"]
    assert error["evidence"]["nearest"][0] == "name"
    assert error["evidence"]["place"] == {
        "line": 1, "column": 12, "length": 4, "text": "id > 1 and nmae = 'Eddy'",
    }  # fmt: skip


NEAR = [  # a condition that matches nothing, and what is told
    ("name = 'Edy'", "No row has name = 'Edy'; near it: 'Eddy'."),
    ("name = ' GYRE'", "No row has name = ' GYRE'; near it: 'Gyre'."),
    ("id > 0 and 'Malstrom' = name", "No row has name = 'Malstrom'; near it: 'Maelstrom'."),
    ("mass = 25", "No row has mass = 25; near it: 20, 30."),
    ("mass = 5", "No row has mass = 5; near it: 10."),
    ("set_out = '2020-02-01'",
     "No row has set_out = '2020-02-01'; near it: '2020-01-01', '2020-03-01'."),
    ("name = 'Eddy' and mass = 20", None),
    ("name = 'xyz'", None),
    ("name = 'Edy' or mass = 11", None),
    ("not name = name", None),
]  # fmt: skip


@pytest.mark.parametrize(("where", "told"), NEAR)
def test_values_near_one_that_matches_nothing_are_told(
    yeldro: Yeldro, made: Callable[[str], AnyDatabase], where: str, told: str | None
) -> None:
    database = made(SCHEMA)
    plan = yeldro("plan", "buoy", "--where", where, "--json", db=database.url).json()["removes"][0]
    assert plan["matched"] == 0
    near = [each for each in plan["warnings"] if "near it" in each]
    assert near == ([told] if told else [])
    shown = yeldro("preview", "buoy", "--where", where, db=database.url).out
    assert (told in shown) if told else ("near it" not in shown)


def test_nothing_is_told_of_a_view_whose_columns_have_other_names(
    yeldro: Yeldro, made: Callable[[str], AnyDatabase]
) -> None:
    view = "CREATE VIEW turned AS SELECT id, set_out AS name, name AS set_out, mass FROM buoy;"
    database = made(SCHEMA.replace("set_out DATE", "set_out VARCHAR(40)") + view)
    words = ("turned", "--where", "name = 'Edy' and id > 0", "--json")
    (plan,) = yeldro("plan", *words, db=database.url).json()["removes"]
    assert plan["matched"] == 0
    assert not any("near it" in each for each in plan["warnings"])


def test_a_sample_is_said_to_be_one(
    yeldro: Yeldro, made: Callable[[str], AnyDatabase], request: pytest.FixtureRequest
) -> None:
    system = request.node.callspec.params["made"]
    numbers = {"postgresql": "generate_series(1, 12000) AS s (n)",
               "mariadb": "(SELECT seq AS n FROM seq_1_to_12000) AS s"}  # fmt: skip
    counting = numbers.get(
        system,
        "(WITH RECURSIVE s (n) AS (SELECT 1 UNION ALL SELECT n + 1 FROM s WHERE n < 12000)"
        " SELECT n FROM s)",
    )
    database = made("CREATE TABLE reading (id INTEGER PRIMARY KEY, value INTEGER);"
                    f"INSERT INTO reading SELECT n, n % 7 FROM {counting};")  # fmt: skip
    told = yeldro("plan", "reading", "--where", "value = :v", "--param", "v=9", db=database.url).out
    assert re.search(r"None of 10,000 sampled rows has value = 9; near it: 6\.", told)
