"""What users write as SQL, on its own: the condition that runs means what was written."""

from __future__ import annotations

import sqlite3

import pytest
from conftest import Yeldro
from hypothesis import given
from hypothesis import strategies as st

from yeldro.core.model.messages.errors import UsageError
from yeldro.core.model.work.expectation import Expectations, RowRange
from yeldro.core.planning.cleanup import Cleanup
from yeldro.core.planning.plan import prepare
from yeldro.core.selection.asked import Selection
from yeldro.core.selection.conditions.parameters import Typed, read_parameters
from yeldro.engines import open_database
from yeldro.report.text import cell, visible

CONDITIONS = [
    "name LIKE 'E%' ESCAPE '\\'",
    "name GLOB 'E*' AND NOT id == 3",
    "retired_on ISNULL OR replaces_id NOTNULL",
    "replaces_id IS NOT 3",
    "name || ':' || serial = 'Eddy:SB-1004'",
    "instr(serial, '%') = 0 AND serial <> 'a:b\\:c'",
    "id BETWEEN 3 AND 9 AND id % 2 = 1",
    "id & 1 = 1 AND id << 1 > 6 AND ~id < -5",
    "CASE WHEN retired_on IS NULL THEN id > 5 ELSE id < 50 END",
    "EXISTS (SELECT 1 FROM sensor AS s WHERE s.buoy_id = buoy.id AND s.kind LIKE 'wave%')",
    "id IN (SELECT buoy_id FROM deployment WHERE latitude > 55)",
    "(region_id, id) IN (SELECT region_id, max(id) FROM buoy GROUP BY region_id)",
    "id = (SELECT max(b.id) FROM buoy AS b WHERE b.region_id = buoy.region_id)",
    "id IN (WITH big AS (SELECT id AS n FROM buoy WHERE id > 90) SELECT n FROM big)",
    "strftime('%Y', commissioned_on) = '2016'",
    "date(commissioned_on, '+1 year') < '2018-01-01'",
    "julianday(retired_on) - julianday(commissioned_on) > 1000",
    "ifnull(replaces_id, 0) > coalesce(main_sensor_id, 1) / 3",
    "iif(id > 5, name = 'Eddy', id = 2)",
    "length(name) = 4 AND upper(name) = 'EDDY' COLLATE NOCASE",
    "name COLLATE NOCASE = 'EDDY'",
    "CAST(substr(serial, 4) AS INTEGER) > 1100",
    "[name] = 'Eddy' OR \"name\" = 'Kelp' OR `name` = 'Marl'",
    "name = 'it''s -- no comment' OR id = 1 /* nor this */",
    "rowid = 4",
    "buoy.id = 4",
    "hex(name) = '45646479' AND typeof(id) = 'integer'",
    "id IS TRUE AND id > 1e0 AND id < 1.5e2",
    "round(id / 7.0, 1) = 2.0",
]


@pytest.mark.parametrize("condition", CONDITIONS)
def test_a_condition_matches_the_rows_that_the_database_matches_as_it_is_written(
    demo, condition
) -> None:
    expected = demo.value(f"SELECT count(*) FROM buoy WHERE {condition}")
    with open_database(demo.url).reading() as session:
        prepared = prepare(session, Cleanup(Selection("buoy", where=condition)))
    assert prepared.plan.matched == expected


@pytest.mark.parametrize(
    "condition", ["id > 1 NOT IN (1, 0)", "id = NOT id", "name LIKE 'a' = 1", "+id = '1'"]
)
def test_a_condition_with_two_meanings_is_refused(yeldro, demo, condition) -> None:
    refused = yeldro("plan", "buoy", "--where", condition, db=demo.url, code=2).err
    assert "can be read in more than one way" in refused


def test_a_key_compared_more_loosely_than_it_is_unique_is_not_said_to_be_fixed(
    yeldro, file_made
) -> None:
    database = file_made("CREATE TABLE mast (name TEXT PRIMARY KEY); "
                         "INSERT INTO mast VALUES ('a'), ('A');")  # fmt: skip
    words = ("preview", "mast", "--json", "--where")
    assert yeldro(*words, "name = 'a'", db=database.url).one()["at_most"] == 1
    loosely = yeldro(*words, "name = 'a' COLLATE NOCASE", db=database.url).one()
    assert (loosely["matched"], loosely["at_most"]) == (2, None)


@given(st.text(max_size=40))
def test_any_text_as_a_condition_is_refused_or_only_looks(tmp_path_factory, text) -> None:
    path = tmp_path_factory.getbasetemp() / "any.db"
    if not path.exists():
        connection = sqlite3.connect(path)
        connection.execute("CREATE TABLE t (a, b)")
        connection.execute("INSERT INTO t VALUES (1, 2)")
        connection.commit()
        connection.close()
    before = path.read_bytes()
    try:
        with open_database(str(path)).reading() as session:
            prepare(session, Cleanup(Selection("t", where=text)))
    except Exception as error:
        assert getattr(error, "exit_code", 1) in (2, 3), repr(error)
    assert path.read_bytes() == before


@given(st.one_of(st.integers(), st.floats(allow_nan=False), st.text()))
def test_a_parameter_is_a_number_only_where_it_reads_back_as_written(demo, value) -> None:
    text = str(value)
    selection = Selection("t", parameters={"v": Typed(text)})
    with open_database(demo.url).reading() as session:
        (bound,) = read_parameters(selection, session).parameters.values()
    if isinstance(bound, str):
        assert bound == text or f"'{bound}'" == text.replace("''", "'")
    else:
        assert str(bound) == text


@given(st.integers(0, 10**6), st.integers(0, 10**6), st.integers(0, 2 * 10**6))
def test_a_range_holds_its_ends_and_what_lies_between(low, more, number) -> None:
    high = low + more
    assert (number in RowRange.parse(f"{low}..{high}")) == (low <= number <= high)
    assert (number in RowRange.parse(f"{low}..")) == (low <= number)
    assert (number in RowRange.parse(f"..{high}")) == (number <= high)
    assert (number in RowRange.parse(str(low))) == (number == low)


@pytest.mark.parametrize("text", ["", "..", "a", "-1", "1...2", "3..1", "1.5"])
def test_what_is_no_range_is_refused(text) -> None:
    with pytest.raises(UsageError):
        Expectations.parse([text])


@given(st.text())
def test_nothing_shown_can_drive_a_terminal(text) -> None:
    shown = visible(text) + cell(text)
    assert all(ord(each) >= 32 and not 127 <= ord(each) < 160 for each in shown)


COMPUTING = {
    "p": ["id = ALL(arr)", "id = ANY(arr)", "ROW(a, b) = ROW(2, 3)", "a & 2 = 2", "a | 1 = 3",
          "id IN (SELECT g FROM generate_series(1, 1) AS g)", "a # 1 = 3", "~ a = 1", "a ^ 2 = 4",
          "EXISTS (SELECT 1 FROM generate_series(1, 2) g WHERE g = id)",
          "REPLACE(v, 'a', 'b') = 'bbc'",
          "arr @> ARRAY[1]", "v ~* '^A'", "a << 1 = 4", "id IN (SELECT x FROM unnest(arr) AS u(x))",
          "a BETWEEN SYMMETRIC 3 AND 1", "public.t.id = 1", "abs(a) = 2"],
    "m": ["REPLACE(v, 'a', 'b') = 'bbc'", "a & 2 = 2", "a | 1 = 3", "a ^ 1 = 3", "a DIV 2 = 1",
          "a <=> 2", "v REGEXP '^a'", "a XOR 1", "ROW(a, b) = ROW(2, 3)", "~a = 0", "a << 1 = 4"],
    "/": ["replace(v, 'a', 'b') = 'bbc'", "a & 2 = 2", "a | 1 = 3", "(a, b) = (2, 3)", "~a = 1",
          "v GLOB 'a*'", "a << 1 = 4", "a IS 2", "main.t.id = 1"],
}  # fmt: skip


def test_operators_and_functions_that_only_compute_pick_what_the_database_picks(
    yeldro: Yeldro, made
) -> None:
    database = made("CREATE TABLE t (id INTEGER PRIMARY KEY, a INTEGER, b INTEGER, v VARCHAR(9))")
    database.script("INSERT INTO t VALUES (1, -2, 3, 'abc'), (2, 2, 3, 'x'), (3, NULL, 1, 'A')")
    if database.url[0] == "p":
        database.script("ALTER TABLE t ADD arr int[]; UPDATE t SET arr = ARRAY[id, 1]")
    for where in COMPUTING[database.url[0]]:
        rows = database.value(f"SELECT count(*) FROM t WHERE {where}")
        found = yeldro("plan", "t", "--where", where, "--json", db=database.url).one()
        assert found["matched"] == rows, where
