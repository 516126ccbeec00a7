"""Statements of other systems: read exactly, or refused with their place."""

from __future__ import annotations

from collections.abc import Callable
from datetime import date, datetime
from pathlib import Path

import pytest
from conftest import Yeldro
from statements import CARRIED, DELETE, REFUSED, ROWS, filled
from systems import AnyDatabase

from yeldro.core.inspection.preview import look_at
from yeldro.core.model.errors import YeldroError
from yeldro.core.model.options import with_options
from yeldro.core.planning.treatment import Choices
from yeldro.core.selection.conditions.parameters import Typed
from yeldro.engines import open_database
from yeldro.formats.sql_in import DIALECTS, cleanups_in

OWN = {"sqlite": {"sqlite"}, "postgresql": {"postgresql"}, "mariadb": {"mysql", "mariadb"}}


def system_of(database: AnyDatabase) -> str:
    return open_database(database.url).traits.name.lower()


def matched(database: AnyDatabase, dialect: str, text: str) -> set[int]:
    """Return the rows that a statement picks here."""
    statement = text if text.lstrip().upper().startswith(("DELETE", "WITH", "BEGIN", "SET")) else (
        DELETE + text
    )  # fmt: skip
    opened = open_database(database.url)
    cleanups = cleanups_in(statement, opened, dialect, parameters={}, choices=Choices(),
                           all_rows=False)  # fmt: skip
    return {int(row[0]) for each in cleanups for row in look_at(opened, each, ("id",), 100).rows}


def test_what_is_carried_over_picks_the_rows_that_it_means_there(
    made: Callable[[str], AnyDatabase],
) -> None:
    database = made(filled())
    wrong = []
    for dialect, statement, meaning in CARRIED:
        meant = {row.id for row in ROWS if meaning(row)}
        try:
            found: object = matched(database, dialect, statement)
        except YeldroError as error:
            found = with_options(str(error))
        if found != meant:
            wrong.append((dialect, statement, sorted(meant)[:5], found))
    assert not wrong
    assert len({dialect for dialect, _, _ in CARRIED}) == 8


def test_what_cannot_be_carried_over_is_refused_with_its_place(
    made: Callable[[str], AnyDatabase],
) -> None:
    database = made(filled())
    own = OWN[system_of(database)]
    wrong = []
    for dialect, statement, said in REFUSED:
        if dialect in own:
            continue
        try:
            found = str(sorted(matched(database, dialect, statement)))
        except YeldroError as error:
            found = with_options(str(error))
            if found.startswith("Nothing was changed. Line 1") and said in found and (
                error.next_step
            ):  # fmt: skip
                continue
        if said or not _may_be_read(database, dialect, statement):
            wrong.append((dialect, statement, found))
    assert not wrong


def _may_be_read(database: AnyDatabase, dialect: str, statement: str) -> bool:
    """True if a condition on text, which no value here meets either way, picks no row."""
    return matched(database, dialect, statement) == set()


def test_a_condition_on_text_is_held_against_what_is_stored(
    made: Callable[[str], AnyDatabase],
) -> None:
    database = made(
        filled() + "UPDATE customer SET name = 'É1' WHERE id = 1;"
        "UPDATE customer SET name = 'e1' WHERE id = 2;"
        "UPDATE customer SET name = 'N3 ' WHERE id = 3;"
        "UPDATE customer SET email = '' WHERE id = 4;"
    )
    for dialect in ("sqlserver", "access", "mysql"):
        if dialect in OWN[system_of(database)]:
            continue
        like = "name LIKE 'e*'" if dialect == "access" else "name LIKE 'e%'"
        for text in ("name = 'e1'", like, "name = 'N3'", "name IN ('É1', 'N4')"):
            with pytest.raises(YeldroError, match="may or may not be true of"):
                matched(database, dialect, text)
        assert matched(database, dialect, "name = 'N5'") == {
            row.id for row in ROWS if row.name == "N5"
        }
    assert 4 in matched(database, "oracle", "email IS NULL")
    with pytest.raises(YeldroError, match="of '' there"):
        matched(database, "oracle", "email <> 'x'")


def test_days_are_looked_at_as_they_are_stored(file_made) -> None:
    database = file_made(filled() + "UPDATE customer SET created = '11.01.2018' WHERE id = 1;")
    with pytest.raises(YeldroError, match="stored in several forms"):
        matched(database, "sqlserver", "created < '2018-01-01'")
    assert len(matched(database, "sqlserver", "seen < '2018-01-01'")) > 0


@pytest.mark.parametrize("change", ["x = 'six'", "active = 'yes'", "active = 7"])
def test_values_that_are_not_of_their_type_are_not_compared(file_made, change: str) -> None:
    database = file_made(filled() + f"UPDATE customer SET {change} WHERE id = 1;")
    column = change.split(maxsplit=1)[0]
    with pytest.raises(YeldroError, match="not of its type"):
        matched(database, "sqlserver", f"{column} = 1")


def test_names_that_a_query_gives_lead_to_what_is_stored(
    made: Callable[[str], AnyDatabase],
) -> None:
    database = made(filled())
    text = ("DELETE FROM customer WHERE id IN (SELECT d.k FROM (SELECT c.id AS k, c.name AS n"
            " FROM customer c) d WHERE d.n = 'N1')")  # fmt: skip
    assert matched(database, "oracle", text) == {row.id for row in ROWS if row.name == "N1"}
    with pytest.raises(YeldroError, match="a type there may round up"):
        matched(database, "sqlserver", "seen < '2018-01-01 23:59:59.999'")


def test_a_parameter_is_held_against_what_is_stored_as_it_is_bound(
    made: Callable[[str], AnyDatabase],
) -> None:
    opened = open_database(made(filled()).url)

    def read(condition: str, typed: str) -> set[int]:
        given = {"v": Typed(typed)}
        (found,) = cleanups_in(DELETE + condition, opened, "oracle", parameters=given,
                               choices=Choices(), all_rows=False)  # fmt: skip
        return {int(row[0]) for row in look_at(opened, found, ("id",), 100).rows}

    named = {row.id for row in ROWS if row.name == "N1"}
    assert read("name = :v", "N1") == read("name = :v", "'N1'") == named
    assert read("created < :v", "2018-01-01") == {
        row.id for row in ROWS if row.created < date(2018, 1, 1)
    }
    assert read("seen < :v", "2018-01-01") == {
        row.id for row in ROWS if row.seen < datetime(2018, 1, 1)
    }
    with pytest.raises(YeldroError, match="kinds that are not alike"):
        read("id IN (SELECT id FROM visit UNION SELECT name FROM customer) AND x = :v", "1")


def test_days_of_another_form_are_not_compared_with_a_parameter(file_made) -> None:
    opened = open_database(file_made(filled() + "UPDATE customer SET seen = date(seen)").url)
    with pytest.raises(YeldroError, match="another form than their type"):
        cleanups_in(DELETE + "seen < :v", opened, "oracle", parameters={"v": Typed("2018-01-01")},
                    choices=Choices(), all_rows=False)  # fmt: skip


def test_an_unknown_dialect_names_the_known_ones(yeldro: Yeldro, demo) -> None:
    (yeldro.folder / "a.sql").write_text("DELETE FROM alert WHERE id = 1")
    told = yeldro("plan", "--sql", "a.sql", "--dialect", "db2", db=demo.url, code=2).err
    assert all(name in told for name in DIALECTS)


def test_a_refusal_points_at_the_line_and_column(yeldro: Yeldro, demo, tmp_path: Path) -> None:
    (tmp_path / "in.sql").write_text(
        "DELETE FROM alert WHERE id = 1\nDELETE FROM alert\n  WHERE id / 2 = 1\n"
    )
    told = yeldro("plan", "--sql", "in.sql", "--dialect", "tsql", db=demo.url, code=2).err
    assert "Line 3, column 10: id / 2 is computed by rules that differ" in told


def test_parameters_of_statements_are_read_by_their_columns(
    yeldro: Yeldro, network: AnyDatabase
) -> None:
    (yeldro.folder / "in.sql").write_text(
        "DELETE FROM buoy WHERE retired_on < :day AND name <> :name;"
        "DELETE FROM alert WHERE buoy_id = :number;"
    )
    words = ("preview", "--sql", "in.sql", "--json", "--param", "day=2020-01-01", "--param",
             "name=Eddy", "--param", "number=3")  # fmt: skip
    removes = yeldro(*words, db=network.url).json()["removes"]
    same = "retired_on < '2020-01-01' AND name <> 'Eddy'"
    assert [each["matched"] for each in removes] == [
        network.value(f"SELECT count(*) FROM buoy WHERE {same}"),
        network.value("SELECT count(*) FROM alert WHERE buoy_id = 3"),
    ]


def test_parameters_of_a_saved_query_are_given_on_the_command_line(yeldro: Yeldro, demo) -> None:
    (yeldro.folder / "query.txt").write_text(
        "PARAMETERS [before] DateTime, what Text;\n"
        "DELETE buoy.* FROM buoy WHERE retired_on < [before] AND name <> what;"
    )
    words = ("preview", "--sql", "query.txt", "--dialect", "access", "--json", "--param",
             "before=2020-01-01", "--param", "what=Eddy")  # fmt: skip
    found = yeldro(*words, db=demo.url).one()
    same = "retired_on < '2020-01-01' AND name <> 'Eddy'"
    assert found["matched"] == demo.value(f"SELECT count(*) FROM buoy WHERE {same}") > 0
