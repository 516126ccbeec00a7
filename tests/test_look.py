"""Looking before anything is removed: survey, preview, duplicates."""

from __future__ import annotations

import csv
import io
import re

import pytest
from conftest import Yeldro
from hypothesis import given
from hypothesis import strategies as st
from rich.cells import cell_len
from rich.console import Console
from rich.text import Text
from systems import AnyDatabase, SqliteFile

from yeldro.demo import tables
from yeldro.report.parts import grid
from yeldro.report.text import cell, visible

GONE = (
    "--where",
    "retired_on < :cutoff",
    "--param",
    "cutoff=2022-01-01",
    "--missing-in",
    "deployment",
)
GONE_SQL = """retired_on < '2022-01-01' AND NOT EXISTS
    (SELECT 1 FROM deployment AS d WHERE d.buoy_id = buoy.id)"""


def test_survey_counts_every_table_and_warns_of_what_slows_or_endangers_a_deletion(
    yeldro: Yeldro, network: AnyDatabase
) -> None:
    found = {
        each["table"]: each for each in yeldro("survey", "--json", db=network.url).json()["tables"]
    }
    assert set(found) == set(tables.network.tables)
    for name, each in found.items():
        assert each["rows"] == network.value(f"SELECT count(*) FROM {name}")
    kind = "all columns" if network.url.startswith("mariadb") else "physical row id"
    assert found["raw_upload"]["identity"]["kind"] == kind
    assert any("no key" in warning for warning in found["raw_upload"]["warnings"])
    unindexed = any("technician_id" in each for each in found["calibration"]["warnings"])
    assert unindexed is not network.url.startswith("mariadb")  # InnoDB makes the index itself
    assert found["part_used"]["identity"]["columns"] == ["buoy_id", "visit_no", "part"]


def test_survey_of_one_table_tells_both_directions_of_its_foreign_keys(
    yeldro: Yeldro, network: AnyDatabase
) -> None:
    found = yeldro("survey", "visit", "--rows", "2", "--json", db=network.url).json()
    actions = {each["foreign_key"]: each["on_delete"] for each in found["references"]}
    undeclared = actions.pop("visit.technician_id → technician.id")
    assert undeclared == ("restrict" if network.url.startswith("mariadb") else "no action")
    assert actions == {"visit.buoy_id → buoy.id": "restrict"}
    assert [each["foreign_key"] for each in found["referenced_by"]] == [
        "part_used.buoy_id,visit_no → visit.buoy_id,visit_no"
    ]
    assert len(found["sample"]) == 2
    text = yeldro("survey", "visit", db=network.url).out
    assert "part_used.buoy_id,visit_no" in text
    assert "restrict" in text


def test_survey_tells_of_triggers_and_of_foreign_keys_that_lead_nowhere(yeldro, file_made) -> None:
    database = file_made("""
        CREATE TABLE mast (id INTEGER PRIMARY KEY, name TEXT);
        CREATE TABLE lamp (id INTEGER PRIMARY KEY, mast TEXT REFERENCES mast(name),
                           hull INTEGER REFERENCES hull(id));
        CREATE TABLE note (said TEXT);
        CREATE TRIGGER "on delete of" AFTER DELETE ON lamp BEGIN INSERT INTO note VALUES ('x'); END;
    """)
    found = yeldro("survey", "--json", db=database.url).json()
    lamp = next(each for each in found["tables"] if each["table"] == "lamp")
    assert lamp["triggers"] == [{"name": "on delete of", "event": "delete"}]
    assert lamp["references"] == []
    assert sum("lamp.mast → mast.name" in note for note in found["notes"]) == 1
    assert sum("lamp.hull → hull.id" in note for note in found["notes"]) == 1


def test_preview_shows_the_rows_their_number_and_one_line_for_each_foreign_key(
    yeldro: Yeldro, network: AnyDatabase
) -> None:
    found = yeldro("preview", "buoy", *GONE, "--rows", "3", "--json", db=network.url).one()
    expected = network.rows(f"SELECT id FROM buoy WHERE {GONE_SQL} ORDER BY id")
    assert found["matched"] == len(expected) > 3
    assert [row["id"] for row in found["rows"]] == [row[0] for row in expected[:3]]
    ripple = {line["foreign_key"]: line for line in found["ripple"]}
    sensors = network.value(
        f"SELECT count(*) FROM sensor WHERE buoy_id IN (SELECT id FROM buoy WHERE {GONE_SQL})"
    )
    assert ripple["sensor.buoy_id → buoy.id"]["rows"] == sensors
    assert ripple["sensor.buoy_id → buoy.id"]["fate"] == "removed"
    assert ripple["visit.buoy_id → buoy.id"]["fate"] == "blocks"
    assert "deployment.buoy_id → buoy.id" not in ripple


@pytest.mark.parametrize(
    ("condition", "at_most"),
    [
        ("id = 7", 1),
        ("serial = 'SB-1004' AND name <> 'x'", 1),
        ("id IN (1, 2, 3)", 3),
        ("name = 'Eddy'", None),
        ("id = 7 OR id = 8", None),
        ("id = region_id", None),
        ("id > 7", None),
    ],
)
def test_preview_says_whether_the_filter_fixes_a_key(yeldro, network, condition, at_most) -> None:
    found = yeldro("preview", "buoy", "--where", condition, "--json", db=network.url).one()
    assert found["at_most"] == at_most
    assert at_most is None or found["matched"] <= at_most
    text = yeldro("preview", "buoy", "--where", condition, db=network.url).out
    assert ("can match any number of rows" in text) is (at_most is None)


def test_preview_as_csv_holds_the_chosen_columns_and_nothing_else(yeldro, network) -> None:
    out = yeldro("preview", "buoy", "--where", "id < 5", "--show", "id,retired_on", "--csv",
                 db=network.url).out  # fmt: skip
    expected = network.rows(
        "SELECT id, CAST(retired_on AS CHAR(10)) FROM buoy WHERE id < 5 ORDER BY id"
    )
    assert list(csv.reader(io.StringIO(out))) == [
        ["id", "retired_on"],
        *([str(id), day or ""] for id, day in expected),
    ]


def test_duplicates_marks_the_row_that_stays_by_the_rules_in_order(yeldro, made) -> None:
    database = made("""
        CREATE TABLE sample (id INTEGER PRIMARY KEY, spot TEXT, depth REAL, note TEXT);
        INSERT INTO sample VALUES (1, 'a', 1, NULL), (2, 'a', 1, 'clear'), (3, 'a', 1, 'calm'),
            (4, NULL, 2, ''), (5, NULL, 2, 'x'), (6, 'b', 1, 'alone');
    """)
    found = yeldro("duplicates", "sample", "--by", "spot,depth", "--keep", "fullest",
                   "--keep", "highest:id", "--json", db=database.url).json()  # fmt: skip
    assert (found["groups"], found["removable"], found["ties"]) == (2, 3, 0)
    assert [(group["size"], group["kept"]["id"]) for group in found["sample"]] == [(3, 3), (2, 5)]
    assert [row["id"] for row in found["sample"][0]["removable"]] == [2, 1]
    one_rule = yeldro("duplicates", "sample", "--by", "spot,depth", "--keep", "fullest", "--json",
                      db=database.url).json()  # fmt: skip
    assert one_rule["ties"] == 1
    text = yeldro("duplicates", "sample", "--by", "spot,depth", "--keep", "fullest",
                  db=database.url).out  # fmt: skip
    assert text.count("stays") >= 2
    assert "1 group" in text


def test_stored_bytes_cannot_drive_the_terminal_and_survive_as_json(yeldro, file_made) -> None:
    database = file_made("""
        CREATE TABLE "od\x1b[31md" (id INTEGER PRIMARY KEY, "na\nme" TEXT, raw BLOB);
        INSERT INTO "od\x1b[31md" VALUES (1, char(27) || '[2J' || char(155) || char(8238), x'1b00');
        INSERT INTO "od\x1b[31md" VALUES (2, CAST(x'ff1b41' AS TEXT), NULL);
    """)
    name = "od\x1b[31md"
    for words in (("survey",), ("survey", name), ("preview", name, "--where", "id > 0"),
                  ("plan", name, "--where", "id > 0")):  # fmt: skip
        text = yeldro(*words, db=database.url).out
        assert not {"\x1b", "\x9b", "\u202e"} & set(text)
        assert "␛" in text
    found = yeldro("preview", name, "--where", "id = 1", "--json", db=database.url)
    assert found.one()["rows"][0]["na\nme"] == "\x1b[2J\x9b\u202e"
    assert "\x9b" not in found.out
    assert not set(yeldro("plan", "x\x1b[0m", "--all-rows", db=database.url, code=2).err) & {"\x1b"}


def test_looking_changes_no_byte_of_the_file(yeldro: Yeldro, demo: SqliteFile) -> None:
    before = demo.path.read_bytes()
    looks = [
        ("survey",),
        ("preview", "buoy", *GONE),
        ("plan", "buoy", *GONE, "--follow", "all"),
        ("duplicates", "reading", "--by", "sensor_id,taken_at"),
    ]
    for words in looks:
        yeldro(*words, db=demo.url)
    assert demo.path.read_bytes() == before
    assert {each.name for each in demo.path.parent.iterdir()} == {"buoys.db"}


WORDS = st.text(st.characters(categories=["L", "N", "P"]), min_size=1, max_size=18)
CELLS = st.lists(WORDS, max_size=8).map(" ".join)


@given(st.integers(1, 6), st.integers(40, 160), st.data())
def test_no_word_is_broken_that_fits_the_terminal(
    columns: int, width: int, data: st.DataObject
) -> None:
    headings = data.draw(st.lists(WORDS, min_size=columns, max_size=columns))
    row = st.lists(CELLS, min_size=columns, max_size=columns)
    rows = data.draw(st.lists(row, min_size=1, max_size=4))
    text = io.StringIO()
    console = Console(file=text, width=width, markup=False, emoji=False, highlight=False)
    console.print(grid(headings, rows, [0]))
    lines = text.getvalue().splitlines()
    assert all(cell_len(line) <= width for line in lines)
    shown = " ".join(lines).split()
    for word in (word for each in rows for text_ in each for word in text_.split()):
        if cell_len(word) <= width - max(width // 3, 8) - 4:
            assert word in shown


@pytest.mark.parametrize("width", [200, 48, 20])
def test_a_table_keeps_the_style_of_each_word_wherever_it_is_broken(width: int) -> None:
    quiet, mixed = (
        Text("all of it is quiet", "dim"),
        Text.assemble("not this, ", ("but that", "bold")),
    )
    table = grid(
        ["a heading", "left", "right"], [["plain words", quiet, "1,234"], ["x", mixed, "2"]]
    )
    console = Console(width=width, force_terminal=True, color_system="standard")
    styled: dict[str, str] = {"bold": "", "dim": ""}
    for text, style, _ in console.render(table):
        for each in styled if style else ():
            styled[each] += f"{text} " if getattr(style, each) else ""
    assert "all of it is quiet" in " ".join(styled["dim"].split())
    assert "but that" in " ".join(styled["bold"].split())
    assert not re.search("plain|not this|1,234", " ".join(styled.values()))


def test_warnings_stand_apart_from_the_tables(yeldro: Yeldro, network: AnyDatabase) -> None:
    lines = yeldro("survey", db=network.url).out.splitlines()
    tables_end = lines.index("", 2)
    assert not any("no key that tells" in line for line in lines[:tables_end])
    assert any(line.startswith("! raw_upload: no key") for line in lines[tables_end:])


@pytest.mark.parametrize(
    ("columns", "weakness"),
    [
        ("code TEXT PRIMARY KEY, depth INTEGER", "(code) is not declared NOT NULL"),
        ("code TEXT PRIMARY KEY, no INTEGER NOT NULL UNIQUE", "(code) is not declared NOT NULL"),
    ],
)
def test_a_primary_key_that_may_be_null_is_explained(
    yeldro: Yeldro, file_made, columns: str, weakness: str
) -> None:
    told = " ".join(
        yeldro("survey", db=file_made(f"CREATE TABLE mooring ({columns})").url).out.split()
    )
    assert f"mooring: its primary key {weakness}" in told
    assert "no primary key" not in told


def test_the_list_of_receipts_says_what_was_asked_and_which_filter_leaves_none(
    yeldro: Yeldro, demo: SqliteFile
) -> None:
    for number in (1, 2, 3):
        words = ("alert", "--where", f"id = {number}", "--expect", "1", "--yes")
        yeldro("run", *words, db=demo.url)
    listed = yeldro("receipt", "list").out
    assert all(f"id = {number}" in listed for number in (1, 2, 3))
    newest = yeldro("receipt", "list", "--limit", "1", "--json").json()
    assert ["id = 3" in each["title"] for each in newest] == [True]
    assert "1 of 3" in yeldro("receipt", "list", "--limit", "1").out
    told = yeldro("receipt", "list", "--table", "alert", "--since", "2099-01-01").out
    assert told.startswith("--since 2099-01-01 leaves none of 3 receipts in ")
    assert yeldro("receipt", "list", "--table", "buoy", "--json").json() == []


@given(st.one_of(st.text(min_size=61), st.binary(min_size=31)))
def test_a_long_value_shows_both_ends_and_its_length(value: str | bytes) -> None:
    shown = cell(value)
    assert len(shown) < 400
    if isinstance(value, bytes):
        assert shown.startswith(f"x'{value[:15].hex()}…")
        assert shown.endswith(f"{value[-15:].hex()}' ({len(value):,} bytes)")
    else:
        assert shown.startswith(visible(value[:30]))
        assert shown.endswith(f"{visible(value[-30:])} ({len(value):,} characters)")


def test_null_is_told_apart_from_text_without_colour() -> None:
    assert [cell(value) for value in (None, "NULL", "", " ")] == ["NULL", "'NULL'", "''", " "]
