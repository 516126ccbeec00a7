"""Duplicates decided at the terminal: each key is on disk at once, in the review itself."""

from __future__ import annotations

import os
import random
import re
from collections.abc import Callable
from pathlib import Path
from typing import Any

import pexpect
import pytest
from conftest import PROGRAM, Yeldro, there_and_back
from hypothesis import given
from hypothesis import strategies as st
from systems import AnyDatabase, SqliteFile
from test_decisions import DECISION, GROUP, lines_of, reviewed, write

from yeldro.core.model.messages.errors import UsageError
from yeldro.formats.review_file import _cell, value_of
from yeldro.formats.review_on_disk import ReviewOnDisk

PLACES = """
    CREATE TABLE place (id INTEGER PRIMARY KEY, name VARCHAR(20), note VARCHAR(200), depth INTEGER);
    CREATE TABLE visit (id INTEGER PRIMARY KEY, place_id INTEGER NOT NULL,
        FOREIGN KEY (place_id) REFERENCES place (id));
    INSERT INTO place VALUES (1, 'bank', 'a, "b"', 5), (2, 'bank', NULL, 6), (3, 'bar', '=1+1', 7),
        (4, 'bar', 'two
lines', 8), (5, 'bar', 'Ünï', NULL), (6, 'cove', 'x', 1), (7, 'cove', 'x', 3), (8, 'reef', 'y', 2),
        (9, 'reef', 'y', 1), (10, 'shoal', '', 1), (11, 'shoal', '', 4), (12, 'spit', 'z', 9);
    INSERT INTO visit VALUES (1, 2), (2, 2), (3, 4);
"""
WORDS = ("duplicates", "place", "--by", "name", "--decide")
END = "leave\r\n"
STYLE = re.compile(r"\x1b\[[0-9;]*[A-Za-z]")


def shown(child: Any) -> str:
    """What has been shown since the last key, without its styles, and with one space for many."""
    return " ".join(STYLE.sub("", child.before).split())


def asking(yeldro: Yeldro, db: str, *words: str, columns: int = 120) -> Any:
    child = pexpect.spawn(str(PROGRAM), [*WORDS, *words], cwd=yeldro.folder, encoding="utf-8",
                          env=yeldro.environment | {"YELDRO_DB": db, "COLUMNS": str(columns)},
                          dimensions=(40, columns), timeout=30)  # fmt: skip
    child.expect(END)
    return child


def press(child: Any, keys: str) -> str:
    """Press keys one after the other; return what is shown after the last."""
    for key in keys:
        child.send(key)
        child.expect([END, pexpect.EOF])
    return shown(child)


def decisions(path: Path) -> dict[int, str]:
    return {int(line["id"]): line[DECISION].strip() for line in lines_of(path)}


def test_groups_are_decided_one_by_one_and_taken_up_again(
    yeldro: Yeldro, made: Callable[[str], AnyDatabase]
) -> None:
    database = made(PLACES)
    before = database.contents()
    path = yeldro.folder / "place-review.csv"
    child = asking(yeldro, database.url)
    assert "group 1 of 5, 5 open" in shown(child)
    assert decisions(path) == dict.fromkeys(range(1, 12), "")
    for told in ("≠ note", "≠ depth", "← visit.place_id", "name"):
        assert told in shown(child)
    assert (
        shown(child).index("≠ depth") < shown(child).index("←") < shown(child).index(" name bank")
    )
    press(child, "2")
    assert decisions(path) == dict.fromkeys(range(1, 12), "") | {1: "remove", 2: "keep"}
    assert "group 3 of 5, 4 open" in press(child, "s")  # bar stays open
    press(child, "a")  # cove: no duplicates
    assert "group 2 of 5, 3 open" in press(child, "pp")  # from reef back to bar
    os.kill(child.pid, 9)  # nothing is lost but what was not decided
    child.close()
    told = {1: "remove", 2: "keep", 6: "keep", 7: "keep"}
    assert decisions(path) == dict.fromkeys(range(1, 12), "") | told
    child = asking(yeldro, database.url)
    assert "group 2 of 5, 3 open" in shown(child)
    assert "group 4 of 5, 2 open" in press(child, "3")
    assert "group 3 of 5, 3 open" in press(child, "po")  # cove is open again
    child.sendintr()  # as good as q
    child.expect(pexpect.EOF)
    ending = shown(child)
    assert "2 groups of 5 decided: 3 would go, 2 stay" in ending
    assert "3 groups are open, and would stay whole" in ending
    assert "yeldro plan place --duplicates-by name --decisions place-review.csv" in ending
    assert "yeldro duplicates place --by name --decide" in ending
    assert decisions(path) == dict.fromkeys(range(1, 12), "") | {
        1: "remove", 2: "keep", 3: "remove", 4: "remove", 5: "keep",
    }  # fmt: skip
    assert database.contents() == before
    words = ("place", "--duplicates-by", "name", "--decisions", "place-review.csv", "--repoint")
    yeldro("run", *words, "--expect", "3", "--yes", db=database.url)
    left = [row[0] for row in database.rows("SELECT id FROM place ORDER BY id")]
    assert left == [2, 5, 6, 7, 8, 9, 10, 11, 12]
    yeldro("restore", "last", "--yes")
    assert database.contents() == before


def test_a_rule_decides_the_rest_and_leaves_ties_open(
    yeldro: Yeldro, made: Callable[[str], AnyDatabase]
) -> None:
    database = made(PLACES)
    path = yeldro.folder / "r.csv"
    child = asking(yeldro, database.url, "--review", "r.csv")
    press(child, "1")
    for typed, told in (("lowest", "is not a rule"), ("highest:deep", "no column 'deep'")):
        child.send("r")
        child.expect("or nothing: ")
        child.sendline(typed)
        child.expect(r"Press any\s+key")
        assert told in shown(child)
        press(child, " ")
    child.send("r")
    child.expect("or nothing: ")
    child.sendline("referenced")
    child.expect(END)
    assert "group 3 of 5, 3 open" in shown(child)  # bar has one row that is referenced
    assert decisions(path) == dict.fromkeys(range(1, 12), "") | {
        1: "keep", 2: "remove", 3: "remove", 4: "keep", 5: "remove",
    }  # fmt: skip
    child.send("r")
    child.expect("or nothing: ")
    child.sendline("highest:depth")
    child.expect(pexpect.EOF)
    assert "5 groups of 5 decided: 6 would go, 5 stay" in shown(child)
    assert {n for n, word in decisions(path).items() if word == "keep"} == {1, 4, 7, 8, 11}


def test_a_large_group_is_shown_in_parts_on_a_narrow_terminal(
    yeldro: Yeldro, made: Callable[[str], AnyDatabase]
) -> None:
    rows = ", ".join(f"({n}, 'bank', 'n{n}', {n})" for n in range(1, 24))
    database = made(PLACES.partition("INSERT")[0] + f"INSERT INTO place VALUES {rows}")
    child = asking(yeldro, database.url, columns=80)
    assert "rows 1 to 3 of 23" in shown(child)
    assert "rows 7 to 9 of 23" in press(child, "mm")
    press(child, "9")  # no such row is shown
    child.send("2")
    child.expect(pexpect.EOF)
    told = decisions(yeldro.folder / "place-review.csv")
    assert [n for n, word in told.items() if word == "keep"] == [8]
    assert list(told.values()).count("remove") == 22


def test_a_review_that_a_spreadsheet_has_saved_is_taken_up(
    yeldro: Yeldro, made: Callable[[str], AnyDatabase]
) -> None:
    """With semicolons, in another order, and with the columns moved and some left out."""
    database = made(PLACES)
    lines = reviewed(yeldro, database, "place", "name")
    for line in lines:
        del line["yeldro:differs"], line["note"]
        line[DECISION] = {"2": "Keep", "1": "remove"}.get(line["id"], "")
    lines = [dict(reversed(line.items())) for line in reversed(lines)]
    write(yeldro.folder / "r.csv", lines, ";")
    child = asking(yeldro, database.url, "--review", "r.csv")
    assert "4 open" in shown(child)
    child.send("r")
    child.expect("or nothing: ")
    child.sendline("lowest:id")
    child.expect(pexpect.EOF)
    found = decisions(yeldro.folder / "r.csv")
    assert {n for n, word in found.items() if word == "keep"} == {2, 3, 6, 8, 10}
    words = ("plan", "place", "--duplicates-by", "name", "--decisions", "r.csv", "--repoint",
             "--json")  # fmt: skip
    assert yeldro(*words, db=database.url).json()["removes"][0]["matched"] == 6


def test_where_nobody_can_answer_and_what_is_no_review_is_refused(
    yeldro: Yeldro, made: Callable[[str], AnyDatabase]
) -> None:
    database = made(PLACES)
    for words in (WORDS, (*WORDS, "--json")):
        assert "there is none" in yeldro(*words, db=database.url, code=2).err
    assert not list(yeldro.folder.glob("*.csv"))
    (yeldro.folder / "other.csv").write_text("a,b\n1,2\n")
    lines = reviewed(yeldro, database, "place", "name")
    write(yeldro.folder / "far.csv", [
        {name: each[name] for name in each if name.startswith("yeldro:")} | {"berth": "1"}
        for each in lines
    ])  # fmt: skip
    for name, told in (("other.csv", "so it is no review"), ("r.xlsx", "is a workbook"),
                       ("far.csv", "is a review of another table")):  # fmt: skip
        child = pexpect.spawn(str(PROGRAM), [*WORDS, "--review", name], cwd=yeldro.folder,
                              env=yeldro.environment | {"YELDRO_DB": database.url},
                              encoding="utf-8", dimensions=(40, 120), timeout=30)  # fmt: skip
        child.expect(pexpect.EOF)
        assert told in shown(child)


def test_what_another_program_changed_meanwhile_is_not_written_over(
    yeldro: Yeldro, made: Callable[[str], AnyDatabase]
) -> None:
    database = made(PLACES)
    lines = reviewed(yeldro, database, "place", "name")
    path = yeldro.folder / "r.csv"
    with ReviewOnDisk(str(path)) as review:
        review.decide(1, ["keep", "remove", "remove"])
        group = next(line[GROUP] for line in lines if line["id"] == "6")
        for line in lines:
            line[DECISION] = "keep" if line[GROUP] == group else ""
        write(path, lines)
        held = path.read_bytes()
        with pytest.raises(UsageError, match="changed by another program"):
            review.decide(2, ["keep", "remove"])
    assert path.read_bytes() == held


def test_a_thousand_groups_are_decided_filled_repointed_and_come_back(
    yeldro: Yeldro, made: Callable[[str], AnyDatabase]
) -> None:
    """Half of them in a spreadsheet, some by hand at the terminal, and the rest by a rule."""
    chance = random.Random(5)
    people, visits = [], []
    for group in range(1000):
        for place in range(2 + group % 3):
            number = len(people) + 1
            name = f"Name {group}" if place else f" name {group} "
            rating = chance.choice(["NULL", str(place)])
            people.append(f"({number}, '{name}', {rating}, {group if place else 'NULL'})")
            visits.append(f"({number}, {number})")
    database = made(
        "CREATE TABLE person (id INTEGER PRIMARY KEY, name VARCHAR(40), rating INTEGER,"
        " fee INTEGER); CREATE TABLE visit (id INTEGER PRIMARY KEY, person_id INTEGER NOT NULL,"
        " FOREIGN KEY (person_id) REFERENCES person (id));"
    )
    for table, rows in (("person", people), ("visit", visits)):
        for start in range(0, len(rows), 1000):  # of which SQL Server takes no more
            some = ", ".join(rows[start : start + 1000])
            database.script(f"INSERT INTO {table} VALUES {some}")
    before = database.contents()
    by = "lower(trim(name))"
    lines = reviewed(yeldro, database, "person", by)
    assert len({line[GROUP] for line in lines}) == 1000
    firsts = {line[GROUP]: line for line in reversed(lines)}
    for line in lines:
        if int(line[GROUP]) <= 500:
            line[DECISION] = "keep" if line is firsts[line[GROUP]] else "remove"
    write(yeldro.folder / "r.csv", lines)
    words = ["duplicates", "person", "--by", by, "--decide", "--review", "r.csv"]
    child = pexpect.spawn(str(PROGRAM), words, cwd=yeldro.folder, encoding="utf-8",
                          env=yeldro.environment | {"YELDRO_DB": database.url},
                          dimensions=(40, 120), timeout=60)  # fmt: skip
    child.expect(END)
    assert "500 open" in shown(child)
    assert "497 open" in press(child, "2a1")
    child.send("r")
    child.expect("or nothing: ")
    child.sendline("highest:id")
    child.expect(pexpect.EOF)
    assert "1,000 groups of 1,000 decided" in shown(child)
    decided = decisions(yeldro.folder / "r.csv")
    going = {n for n, word in decided.items() if word == "remove"}
    run_words = ("person", "--duplicates-by", by, "--decisions", "r.csv", "--repoint", "--fill",
                 "all", "--fill-first", "--expect", str(len(going)))  # fmt: skip
    done = there_and_back(yeldro, database, *run_words)
    assert database.contents() == before
    steps = {step["action"]: step["affected"] for step in done["removes"][0]["steps"]}
    assert steps["remove"] == len(going)
    assert steps["repoint"] == len(going)
    yeldro("run", *run_words, "--yes", db=database.url)
    left = database.rows("SELECT id, rating, fee FROM person ORDER BY id")
    assert {row[0] for row in left} == {n for n, word in decided.items() if word == "keep"}
    assert sum(fee is None for _, _, fee in left) <= 1  # of the group that keeps all
    assert not database.value(
        "SELECT count(*) FROM visit WHERE person_id NOT IN (SELECT id FROM person)"
    )


def test_values_are_shown_as_they_are_and_whole_on_request(
    yeldro: Yeldro, file_made: Callable[[str], SqliteFile]
) -> None:
    """Without the apostrophe that guards a spreadsheet, and NULL, spaces and nothing told apart."""
    long = "a" * 80 + "MIDDLE" + "b" * 80
    database = file_made(f"""
        CREATE TABLE place (id INTEGER PRIMARY KEY, name, a, b, c);
        INSERT INTO place VALUES (1, 'bank', '=1+1', NULL, '{long}'), (2, 'bank', '''x', '', 'c');
        INSERT INTO place VALUES (3, 'bank', 'NULL', ' y ', 'd');
    """)
    child = asking(yeldro, database.url)
    told = shown(child)
    assert "No keep rule" not in told
    assert "'=1+1" not in told
    assert "=1+1" in told
    assert re.search(r"≠ a +=1\+1 +'x +'NULL'", told)
    assert re.search(r"≠ b +NULL +'' +' y '", told)
    assert "MIDDLE" not in told
    child.send("w")
    child.expect("Press any key")
    assert long in shown(child).replace(" ", "")
    press(child, " q")


@given(st.text() | st.none())
def test_a_value_in_a_review_is_read_back(value: str | None) -> None:
    assert value_of(_cell(value)) == value
