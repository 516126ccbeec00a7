"""Maps of plans and databases: what they say, where it stands, and that nothing in them acts."""

from __future__ import annotations

import re
import subprocess
import sys
from collections.abc import Callable, Mapping
from pathlib import Path
from xml.etree import ElementTree

import lending
import pytest
from conftest import Yeldro
from hypothesis import given
from hypothesis import strategies as st
from systems import AnyDatabase, SqliteFile

from yeldro.core.inspection.key_map import KeyMap, MapKey, MapTable
from yeldro.core.model.tables.schema import ForeignKey, TableName
from yeldro.core.model.work.chains import Fate
from yeldro.report.maps.layout import laid_out
from yeldro.report.maps.picture import svg
from yeldro.report.maps.written import mermaid, tree

SVG = "{http://www.w3.org/2000/svg}"
RETIRED = ["buoy", "--where", "retired_on < '2022-01-01'", "--missing-in", "deployment"]
SCHEMA = """
    CREATE TABLE region (id INTEGER PRIMARY KEY);
    CREATE TABLE buoy (id INTEGER PRIMARY KEY, region_id INTEGER,
        FOREIGN KEY (region_id) REFERENCES region (id) ON DELETE CASCADE);
    CREATE TABLE visit (id INTEGER PRIMARY KEY, buoy_id INTEGER,
        FOREIGN KEY (buoy_id) REFERENCES buoy (id));
    CREATE TABLE alert (id INTEGER PRIMARY KEY, buoy_id INTEGER,
        FOREIGN KEY (buoy_id) REFERENCES buoy (id) ON DELETE SET NULL);
    CREATE TABLE tag (id INTEGER PRIMARY KEY);
    INSERT INTO region VALUES (1), (2);
    INSERT INTO buoy VALUES (1, 1), (2, 1), (3, 2);
    INSERT INTO visit VALUES (1, 1), (2, 3);
    INSERT INTO alert VALUES (1, 2), (2, 2), (3, 3), (4, NULL);
"""


def boxes(text: str) -> dict[str, list[str]]:
    """What stands in the box of each table."""
    root = ElementTree.fromstring(text)
    found = {}
    for group in root.iter(f"{SVG}g"):
        title = group.find(f"{SVG}title")
        if title is not None:
            found[str(title.text)] = [str(each.text) for each in group.iter(f"{SVG}text")]
    return found


def test_a_map_says_what_the_plan_says(yeldro: Yeldro, made: Callable[[str], AnyDatabase]) -> None:
    database = made(SCHEMA)
    words = ("plan", "region", "--where", "id = 1", "--follow", "visit", "--map")
    yeldro(*words, "plan.svg", db=database.url)
    shown = boxes((yeldro.folder / "plan.svg").read_text())
    assert shown == {
        "region": ["region", "4", "1 of 2 rows go"],
        "buoy": ["buoy", "3", "2 of 3 rows go", "region_id → region", "2 removed"],
        "visit": ["visit", "2", "1 of 2 rows go", "buoy_id → buoy", "1 removed"],
        "alert": ["alert", "1", "2 of 4 rows change", "buoy_id → buoy", "2 detached"],
    }
    text = yeldro(*words, "-", db=database.url).out.split("\n\n", 3)[-1]
    assert re.sub(r" +", " ", text) == (
        "region █████░░░░░ 1 of 2 rows go step 4 named\n"
        "└─ buoy ███████░░░ 2 of 3 rows go step 3 by region_id: 2 removed\n"
        " ├─ alert █████░░░░░ 2 of 4 rows change step 1 by buoy_id: 2 detached\n"
        " └─ visit █████░░░░░ 1 of 2 rows go step 2 by buoy_id: 1 removed\n"
        "\n6 rows would go or change. 1 table of this database is not drawn.\n"
        "\nNext: yeldro run region --where 'id = 1' --follow visit --expect total=6\n"
    )


def test_what_blocks_cannot_be_missed(yeldro: Yeldro, made: Callable[[str], AnyDatabase]) -> None:
    database = made(SCHEMA)
    words = ("plan", "region", "--where", "id = 1", "--map")
    told = yeldro(*words, "plan.svg", db=database.url, code=3)
    text = (yeldro.folder / "plan.svg").read_text()
    assert "would stay" in told.err
    assert boxes(text)["visit"][-1] == "1 BLOCK"
    assert text.count('class="box stopped"') == 1
    assert text.count('class="way blocks"') == 2  # one in the legend
    assert "Blocked: nothing runs." in text
    assert "1 BLOCK" in yeldro(*words, "-", db=database.url, code=3).out
    yeldro(*words, "plan.mmd", db=database.url, code=3)
    assert re.search(r't\d --x\|"buoy_id: 1 BLOCK"\| t\d', (yeldro.folder / "plan.mmd").read_text())


def test_rows_that_go_anyway_do_not_count_among_those_that_block(
    yeldro: Yeldro, made: Callable[[str], AnyDatabase]
) -> None:
    database = made("""
        CREATE TABLE buoy (id INTEGER PRIMARY KEY);
        CREATE TABLE part (id INTEGER PRIMARY KEY, buoy_id INTEGER, whole_id INTEGER,
            FOREIGN KEY (buoy_id) REFERENCES buoy (id) ON DELETE CASCADE,
            FOREIGN KEY (whole_id) REFERENCES part (id));
        INSERT INTO buoy VALUES (1), (2);
        INSERT INTO part VALUES (1, 1, NULL), (2, 1, 1), (3, 2, 2);
    """)
    words = ("buoy", "--where", "id = 1")
    told = yeldro("plan", *words, "--map", "-", db=database.url, code=3).out
    assert "by whole_id: 1 BLOCK" in told
    shown = yeldro("preview", *words, db=database.url).out
    assert "1 blocks, the others removed on another path" in shown


def test_every_form_is_written_and_the_page_needs_nothing_else(
    yeldro: Yeldro, demo: SqliteFile
) -> None:
    for name in ("m.svg", "m.png", "m.html", "m.mmd"):
        told = yeldro("plan", *RETIRED, "--follow", "visit", "--map", name, "--json", db=demo.url)
        assert told.json()["total"]
        assert f"Drawn: {name}" in told.err
    assert (yeldro.folder / "m.png").read_bytes().startswith(b"\x89PNG\r\n")
    page = (yeldro.folder / "m.html").read_text()
    assert page.count("<svg") == 1
    assert not re.search(
        r"<(script|link|img|iframe)|url\(|https?://(?!www\.w3\.org/2000/svg)", page
    )
    assert (yeldro.folder / "m.mmd").read_text().startswith("flowchart BT\n")


def test_a_database_is_drawn_whole_or_around_a_table(yeldro: Yeldro, demo: SqliteFile) -> None:
    yeldro("survey", "--map", "all.svg", db=demo.url)
    shown = boxes((yeldro.folder / "all.svg").read_text())
    tables = yeldro("survey", "--json", db=demo.url).json()["tables"]
    assert {each["table"] for each in tables} == shown.keys()
    for each in tables:
        rows = each["rows"]
        assert shown[each["table"]][1] == f"{rows:,} row{'s' * (rows != 1)}"
        assert len(shown[each["table"]]) == 2 + len(each["references"])
    yeldro("survey", "technician", "--map", "near.svg", db=demo.url)
    near = boxes((yeldro.folder / "near.svg").read_text())
    assert {"technician", "visit", "buoy"} <= near.keys()
    assert "raw_upload" not in near


def test_a_large_database_is_drawn_around_what_is_affected(
    yeldro: Yeldro, made: Callable[[str], AnyDatabase]
) -> None:
    chain = "".join(
        f"CREATE TABLE t{n} (id INTEGER PRIMARY KEY, up INTEGER, FOREIGN KEY (up) REFERENCES"
        f" t{n - 1} (id) ON DELETE CASCADE);"
        for n in range(1, 70)
    )
    database = made(f"CREATE TABLE t0 (id INTEGER PRIMARY KEY, up INTEGER); {chain}"
                    "INSERT INTO t66 VALUES (1, NULL); INSERT INTO t67 VALUES (1, 1);")  # fmt: skip
    yeldro("plan", "t66", "--all-rows", "--map", "plan.svg", db=database.url)
    text = (yeldro.folder / "plan.svg").read_text()
    assert boxes(text).keys() == {"t65", "t66", "t67", "t68"}
    assert "66 tables of this database are not drawn." in text
    told = yeldro("survey", "--map", "all.svg", db=database.url, code=3)
    assert "'yeldro survey TABLE' with --map FILE" in told.err
    assert not (yeldro.folder / "all.svg").exists()


@pytest.mark.parametrize("name", ["map", "map.jpg", "map.svg.gz"])
def test_a_name_without_a_form_is_refused_before_anything_is_counted(
    yeldro: Yeldro, demo: SqliteFile, name: str
) -> None:
    told = yeldro("plan", *RETIRED, "--map", name, db=demo.url, code=2)
    assert ".svg, .png, .html, .mmd" in told.err
    assert told.out == ""
    assert yeldro("plan", *RETIRED, "--map", "-", "--json", db=demo.url, code=2).json()["error"]
    told = yeldro("survey", "--map", "nowhere/map.svg", db=demo.url, code=5)
    assert "nowhere/map.svg could not be written" in told.err


def test_a_file_that_exists_is_left_as_it_is(yeldro: Yeldro, demo: SqliteFile) -> None:
    file = yeldro.folder / "notes.html"
    file.write_text("my own")
    told = yeldro("plan", *RETIRED, "--map", "notes.html", db=demo.url, code=3)
    assert "notes.html exists already" in told.err
    assert told.out == ""
    assert file.read_text() == "my own"


def test_without_the_library_the_message_says_what_to_install(
    demo: SqliteFile, tmp_path: Path
) -> None:
    program = (
        "import sys; sys.modules['igraph'] = None; from yeldro.cli.main import execute;"
        "sys.exit(execute(sys.argv[1:]))"
    )
    words = [sys.executable, "-c", program, "survey", "--db", demo.url, "--map"]
    told = subprocess.run([*words, "m.svg"], cwd=tmp_path, capture_output=True, text=True,
                          check=False)  # fmt: skip
    assert told.returncode == 2
    assert "pip install 'yeldro[maps]'" in told.stderr
    assert subprocess.run([*words, "m.mmd"], cwd=tmp_path, check=False).returncode == 0


@st.composite
def maps(draw: st.DrawFn, cycles: bool = True) -> KeyMap:
    number = draw(st.integers(1, 14))
    names = [f"t{n}" for n in range(number)]
    ends = st.integers(0, number - 1)
    keys = []
    for child, parent in draw(st.lists(st.tuples(ends, ends), max_size=24)):
        if child <= parent and not cycles:
            continue
        key = ForeignKey(TableName(names[child]), ("up",), TableName(names[parent]), ("id",))
        fate = draw(st.sampled_from([None, *Fate]))
        rows = draw(st.integers(1, 10**7))
        keys.append(MapKey(key, () if fate is None else ((fate, rows),)))
    named = draw(st.sets(st.sampled_from(names), max_size=2))
    tables = tuple(MapTable(name, 5, named=name in named) for name in names)
    return KeyMap("random", tables, tuple(keys), draw(st.sampled_from([None, 12])))


def heights_of(drawn: KeyMap) -> Mapping[str, float]:
    return {table.name: 40.0 + 11 * (number % 4) for number, table in enumerate(drawn.tables)}


@given(maps())
def test_no_box_lies_on_another_and_no_line_goes_through_one(drawn: KeyMap) -> None:
    width, heights = 120.0, heights_of(drawn)
    placed = laid_out(drawn, width, heights)
    spans = {name: (x, y, x + width, y + heights[name]) for name, (x, y) in placed.corners.items()}
    for name, (left, top, right, bottom) in spans.items():
        assert left >= -0.01
        assert right <= placed.width + 0.01
        assert bottom <= placed.height + 0.01
        for other, (a, b, c, d) in spans.items():
            assert other == name or right <= a or c <= left or bottom <= b or d <= top
        for points in placed.ways.values():
            for x, y in points:
                assert not (left < x < right and top <= y <= bottom)
    for points in placed.ways.values():  # one after the other, on the way from child to parent
        heights_on_the_way = [y for _, y in points]
        assert heights_on_the_way in (
            sorted(heights_on_the_way),
            sorted(heights_on_the_way, reverse=True),
        )


@given(maps(cycles=False))
def test_parents_stand_above_their_children(drawn: KeyMap) -> None:
    heights = heights_of(drawn)
    placed = laid_out(drawn, 120, heights)
    for each in drawn.keys:
        parent, child = placed.corners[each.parent][1], placed.corners[each.child][1]
        assert parent + heights[each.parent] < child


HOSTILE = st.text(
    st.sampled_from("<>&\"'`[](){}|;#\n\r\t\x1b\u202e-→=:/\\ab é") | st.characters(), min_size=1,
    max_size=12,
)  # fmt: skip


@given(HOSTILE, HOSTILE, HOSTILE)
def test_names_are_text_in_every_form(table: str, column: str, title: str) -> None:
    names = [TableName(table), TableName(f"{table}2")]
    key = ForeignKey(names[1], (column,), names[0], ("id",))
    tables = tuple(MapTable(str(name), 3) for name in names)
    drawn = KeyMap(title, tables, (MapKey(key, ((Fate.BLOCKS, 3),)),), 3)
    root = ElementTree.fromstring(svg(drawn))
    assert {each.tag for each in root.iter()} == {
        SVG + tag for tag in ("svg", "style", "rect", "text", "g", "title", "path")
    }
    flow = mermaid(drawn).splitlines()
    assert len(flow) == 1 + 2 + 1 + 1
    for line in flow[1:3]:
        assert re.fullmatch(r'    t\d\["[\w .,:→#;<>-]*"\]', line)
        assert set(re.findall(r"<[^>]*>?", line)) <= {"<br>"}
    shown = tree(drawn)
    assert not any(ord(each) < 32 and each != "\n" for each in shown)


@given(maps())
def test_the_tree_names_every_table_of_a_database_once_and_every_key(drawn: KeyMap) -> None:
    drawn = KeyMap(drawn.title, drawn.tables, drawn.keys, None)
    named = {table.name for table in drawn.tables if table.named}
    lines = tree(drawn).splitlines()
    found = [re.sub(r"^[│├└─ ]*", "", line).split()[0] for line in lines]
    first = [name for name, line in zip(found, lines, strict=True) if "see above" not in line]
    if not named:
        assert sorted(first) == sorted(table.name for table in drawn.tables)
    for each in drawn.keys:
        if each.parent in first:
            assert each.child in found


def test_what_moves_and_what_goes_through_one_foreign_key_are_told_apart(yeldro, made) -> None:
    """Rows that would occur twice go, and the others move; a view is called one."""
    database = made(lending.script())
    words = ("member", "--duplicates-by", "name,born", "--keep", "lowest:id", "--repoint")
    (plan,) = yeldro("plan", *words, "--follow", "reservation", "--json", db=database.url).json()[
        "removes"
    ]
    rows = {(step["action"], step["table"]): step["rows"] for step in plan["steps"]}
    told = yeldro("plan", *words, "--follow", "reservation", "--map", "-", db=database.url).out
    moved, gone = rows["repoint", "reservation"], rows["remove", "reservation"]
    assert f"by member_id: {gone} removed, {moved} repointed" in told
    told = yeldro("preview", *words, "--follow", "reservation", db=database.url).out
    assert f"{moved} repointed, the others removed on another path" in told
    told = yeldro("survey", "--map", "-", db=database.url).out
    assert "12 tables, 1 view" in told
    assert re.search(r"overdue +view\n", told)
