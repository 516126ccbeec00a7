"""Duplicates decided in a file: exactly the decided rows go, or nothing does."""

from __future__ import annotations

import csv
import random
from collections.abc import Callable
from pathlib import Path
from typing import Any

import openpyxl
import pytest
from conftest import Yeldro, there_and_back
from systems import AnyDatabase, SqliteFile

DECISION, GROUP, MARK = "yeldro:decision", "yeldro:group", "yeldro:row"
Lines = list[dict[str, str]]


def lines_of(path: Path) -> Lines:
    with path.open(encoding="utf-8-sig", newline="") as file:
        return list(csv.DictReader(file))


def write(path: Path, lines: Lines, delimiter: str = ",") -> None:
    with path.open("w", encoding="utf-8-sig", newline="") as file:
        writer = csv.DictWriter(file, list(lines[0]), delimiter=delimiter)
        writer.writeheader()
        writer.writerows(lines)


def reviewed(yeldro: Yeldro, database: AnyDatabase, table: str, by: str, *words: str) -> Lines:
    """Write a review as `r.csv`, whatever was there; return its lines."""
    path = yeldro.folder / "r.csv"
    path.unlink(missing_ok=True)
    yeldro("duplicates", table, "--by", by, "--review", "r.csv", *words, db=database.url)
    return lines_of(path)


def test_rows_decided_in_a_file_go_and_come_back(yeldro: Yeldro, network: AnyDatabase) -> None:
    lines = reviewed(yeldro, network, "reading", "sensor_id,taken_at", "--keep", "fullest")
    sizes = network.rows("SELECT count(*) FROM reading GROUP BY sensor_id, taken_at"
                         " HAVING count(*) > 1")  # fmt: skip
    assert len(lines) == sum(size for (size,) in sizes)
    assert len({line[GROUP] for line in lines}) == len(sizes)
    assert {line[DECISION] for line in lines} == {"keep", "remove", ""}  # decided, and tied
    assert {line["yeldro:tie"] for line in lines if not line[DECISION]} == {"tie"}
    chance = random.Random(3)
    going = set()
    groups = {line[GROUP]: [each for each in lines if each[GROUP] == line[GROUP]]
              for line in lines}  # fmt: skip
    for number, group in enumerate(groups.values()):
        stays = chance.choice(group)
        for line in group:
            line[DECISION] = ["", "keep", "Keep" if line is stays else "REMOVE"][number % 3]
            if line[DECISION] == "REMOVE":
                going.add(int(line["id"]))
    chance.shuffle(lines)  # as a spreadsheet sorts them
    write(yeldro.folder / "r.csv", lines, ";")
    words = ("reading", "--duplicates-by", "sensor_id,taken_at", "--decisions", "r.csv",
             "--follow", "all")  # fmt: skip
    plan = yeldro("plan", *words, "--json", db=network.url).one()
    assert plan["matched"] == len(going)
    assert any("not decided" in each for each in plan["warnings"])
    assert any("no duplicates" in each for each in plan["warnings"])
    before = network.contents()
    all_ids = {row[0] for row in network.rows("SELECT id FROM reading")}
    yeldro("run", *words, "--expect", str(len(going)), "--yes", db=network.url)
    left = {row[0] for row in network.rows("SELECT id FROM reading")}
    assert all_ids - left == going
    yeldro("restore", "last", "--yes")
    assert network.contents() == before


PLACES = """
    CREATE TABLE place (id INTEGER PRIMARY KEY, name VARCHAR(20), note VARCHAR(20), depth INTEGER);
    CREATE TABLE visit (id INTEGER PRIMARY KEY, place_id INTEGER NOT NULL,
        FOREIGN KEY (place_id) REFERENCES place (id));
    INSERT INTO place VALUES (1, 'reef', 'a', 5), (2, 'reef', NULL, 5), (3, 'bank', '=1+1', 7),
        (4, 'bank', '', 7), (5, 'bank', 'c', NULL), (6, 'bar', 'x', 1), (7, NULL, 'y', 2),
        (8, NULL, 'z', 2);
    INSERT INTO visit VALUES (1, 1), (2, 2), (3, 2), (4, 3);
"""


def test_a_review_tells_what_differs_and_what_references(
    yeldro: Yeldro, made: Callable[[str], AnyDatabase]
) -> None:
    database = made(PLACES)
    lines = {int(line["id"]): line for line in
             reviewed(yeldro, database, "place", "name", "--keep", "lowest:id")}  # fmt: skip
    assert sorted(lines) == [1, 2, 3, 4, 5, 7, 8]
    assert lines[2]["yeldro:differs"] == "id, note"
    assert lines[5]["yeldro:differs"] == "id, note, depth"
    assert lines[2]["yeldro:referenced_by"] == "visit.place_id 2"
    assert lines[8]["yeldro:referenced_by"] == ""
    assert lines[3]["note"] == "'=1+1"  # a spreadsheet would compute it
    assert [lines[n][DECISION] for n in (1, 2, 3, 4, 5)] == [
        "keep", "remove", "keep", "remove", "remove",
    ]  # fmt: skip
    told = yeldro("duplicates", "place", "--by", "name", "--review", "r.csv", db=database.url,
                  code=3).err  # fmt: skip
    assert "exists already" in told


def _unknown(lines: Lines, _: AnyDatabase) -> None:
    lines[0][MARK] = "row-" + "0" * 64 + lines[0][MARK][-65:]


def _twice(lines: Lines, _: AnyDatabase) -> None:
    lines.append(dict(lines[0]))


def _changed(_: Lines, database: AnyDatabase) -> None:
    database.script("UPDATE place SET depth = 99 WHERE id = 2")


def _gone(_: Lines, database: AnyDatabase) -> None:
    database.script("DELETE FROM place WHERE id = 5")


def _joined(_: Lines, database: AnyDatabase) -> None:
    database.script("INSERT INTO place VALUES (20, 'reef', 'new', 1)")


def _left_out(lines: Lines, _: AnyDatabase) -> None:
    lines.remove(next(line for line in lines if line["id"] == "4"))


def _in_part(lines: Lines, _: AnyDatabase) -> None:
    next(line for line in lines if line["id"] == "5")[DECISION] = ""


def _none(lines: Lines, _: AnyDatabase) -> None:
    for line in lines:
        line[DECISION] = "remove" if line["name"] == "reef" else "keep"


def _misspelled(lines: Lines, _: AnyDatabase) -> None:
    lines[1][DECISION] = "delete"


def _moved(lines: Lines, _: AnyDatabase) -> None:
    lines[1][GROUP] = "7"


def _renumbered(lines: Lines, _: AnyDatabase) -> None:
    lines[1][GROUP] = "x"


WRONG = [
    (_unknown, "names a row that is in no group of place now", 3),
    (_twice, "names a row that stands in another line too", 3),
    (_changed, "has changed since", 3),
    (_gone, "names a row that is in no group of place now", 3),
    (_joined, "has other rows now than those in the file", 3),
    (_left_out, "has other rows now than those in the file", 3),
    (_in_part, "is decided in part", 3),
    (_none, "would keep no row", 3),
    (_misspelled, "has the decision 'delete'", 2),
    (_moved, "has other rows now than those in the file", 3),
    (_renumbered, "does not name its row and group", 2),
]


@pytest.mark.parametrize(("change", "said", "code"), WRONG)
def test_decisions_that_do_not_fit_the_table_are_refused_by_name(
    yeldro: Yeldro, made: Callable[[str], AnyDatabase], change: Any, said: str, code: int
) -> None:
    database = made(PLACES)
    lines = reviewed(yeldro, database, "place", "name", "--keep", "lowest:id")
    change(lines, database)
    write(yeldro.folder / "r.csv", lines)
    before = database.contents()
    words = ("run", "place", "--duplicates-by", "name", "--decisions", "r.csv", "--follow", "all",
             "--expect", "total=0..", "--yes")  # fmt: skip
    told = yeldro(*words, db=database.url, code=code).err
    assert said in told
    assert "r.csv" in told
    assert database.contents() == before


def test_decisions_go_with_their_groups_and_with_nothing_else(yeldro: Yeldro, file_made) -> None:
    database = file_made(PLACES)
    lines = reviewed(yeldro, database, "place", "name", "--keep", "lowest:id")

    def told(*words: str, code: int) -> str:
        return yeldro(
            "plan", "place", "--decisions", "r.csv", *words, db=database.url, code=code
        ).err

    assert "Add --duplicates-by" in told("--where", "id > 1", code=2)
    assert "narrows the rows" in told("--duplicates-by", "name", "--where", "id > 1", code=2)
    assert "in no group of place" in told(
        "--duplicates-by", "name,depth", "--follow", "all", code=3
    )
    words = ("place", "--duplicates-by", "name", "--decisions", "r.csv", "--follow", "all")
    assert "cannot hold the decisions" in yeldro("script", *words, db=database.url, code=3).err
    batched = yeldro("run", *words, "--batch", "1", "--expect", "0..", "--yes", db=database.url,
                     code=2)  # fmt: skip
    assert "in batches" in batched.err
    for line in lines:
        line[DECISION] = "remove" if line["id"] == "5" else "keep"
    write(yeldro.folder / "r.csv", lines)
    several = told("--duplicates-by", "name", "--repoint", code=3)
    assert "keeps several rows, so it is not clear" in several
    assert "There is no file" in yeldro("plan", "place", "--duplicates-by", "name", "--decisions",
                                        "none.csv", db=database.url, code=2).err  # fmt: skip
    (yeldro.folder / "other.csv").write_text("a,b\n1,2\n")
    assert "so it is no review" in yeldro(
        "plan", "place", "--duplicates-by", "name", "--decisions", "other.csv", db=database.url,
        code=2,
    ).err  # fmt: skip
    keyless = file_made("CREATE TABLE log (name TEXT); INSERT INTO log VALUES ('a'), ('a')")
    assert "has no key" in yeldro("duplicates", "log", "--by", "name", "--review", "log.csv",
                                  db=keyless.url, code=3).err  # fmt: skip
    assert not (yeldro.folder / "log.csv").exists()


def test_a_row_that_should_stay_is_not_taken_along(
    yeldro: Yeldro, made: Callable[[str], AnyDatabase]
) -> None:
    database = made("""
        CREATE TABLE node (id INTEGER PRIMARY KEY, name VARCHAR(9), up INTEGER,
            FOREIGN KEY (up) REFERENCES node (id) ON DELETE CASCADE);
        INSERT INTO node VALUES (1, 'a', NULL), (2, 'a', NULL), (3, 'b', 2), (4, 'b', 1);
    """)
    lines = reviewed(yeldro, database, "node", "name")
    for line in lines:
        line[DECISION] = {"1": "keep", "2": "remove"}.get(line["id"], "")
    write(yeldro.folder / "r.csv", lines)
    words = ("node", "--duplicates-by", "name", "--decisions", "r.csv")
    told = yeldro("plan", *words, db=database.url, code=3).err
    assert "1 row of node that should stay by the decisions would go" in told
    done = there_and_back(yeldro, database, *words, "--detach", "all", "--expect", "total=0..")
    assert done["removes"][0]["matched"] == 1


def test_dependent_rows_move_to_the_row_that_was_decided_to_stay(
    yeldro: Yeldro, made: Callable[[str], AnyDatabase]
) -> None:
    database = made(PLACES)
    lines = reviewed(yeldro, database, "place", "name", "--keep", "lowest:id")
    for line in lines:
        line[DECISION] = "keep" if line["id"] in ("2", "5", "8") else "remove"
    write(yeldro.folder / "r.csv", lines)
    words = ("place", "--duplicates-by", "name", "--decisions", "r.csv", "--repoint")
    there_and_back(yeldro, database, *words, "--expect", "4")
    yeldro("run", *words, "--expect", "4", "--yes", db=database.url)
    assert database.rows("SELECT id, place_id FROM visit ORDER BY id") == [
        (1, 2), (2, 2), (3, 2), (4, 5),
    ]  # fmt: skip


def test_a_workbook_comes_back_like_a_csv_file(yeldro: Yeldro, file_made) -> None:
    database = file_made(PLACES)
    yeldro("duplicates", "place", "--by", "name", "--review", "r.xlsx", db=database.url)
    workbook = openpyxl.load_workbook(yeldro.folder / "r.xlsx")
    sheet = workbook.worksheets[0]
    names = [cell.value for cell in sheet[1]]
    for row in sheet.iter_rows(min_row=2):
        assert all(cell.data_type != "f" for cell in row)
        decided = {"1": "remove", "2": "keep"}
        row[0].value = decided.get(row[names.index("id")].value)
    workbook.save(yeldro.folder / "r.xlsx")
    words = ("place", "--duplicates-by", "name", "--decisions", "r.xlsx", "--follow", "all")
    yeldro("run", *words, "--expect", "1", "--yes", db=database.url)
    assert [row[0] for row in database.rows("SELECT id FROM place ORDER BY id")] == [
        2, 3, 4, 5, 6, 7, 8,
    ]  # fmt: skip


VALUES = ["NULL", "''", "'NULL'", "'a'", "'A'", "'a '", "'é'", "'1'", "'-'", "'a-'"]


def test_every_change_of_a_value_is_seen(
    yeldro: Yeldro, made: Callable[[str], AnyDatabase]
) -> None:
    """Each row of a pair is changed to every other value, NULL and odd texts among them."""
    database = made(
        "CREATE TABLE pair (id INTEGER PRIMARY KEY, g INTEGER, a VARCHAR(9), b VARCHAR(9))"
    )
    chance = random.Random(5)
    for _ in range(12):
        one, other = chance.sample(VALUES, 2)
        beside = chance.choice(VALUES)
        database.script(f"DELETE FROM pair; INSERT INTO pair VALUES (1, 1, {one}, {beside}),"
                        f" (2, 1, 'x', 'y')")  # fmt: skip
        reviewed(yeldro, database, "pair", "g", "--keep", "lowest:id")
        words = ("plan", "pair", "--duplicates-by", "g", "--decisions", "r.csv")
        yeldro(*words, db=database.url)
        change = chance.choice([f"a = {other}", f"a = {beside}, b = {one}"])
        if change.endswith(f"b = {one}") and one == beside:
            continue
        database.script(f"UPDATE pair SET {change} WHERE id = 1")
        assert "has changed since" in yeldro(*words, db=database.url, code=3).err, (one, change)


def test_random_decisions_are_carried_out_as_a_model_says(
    yeldro: Yeldro, made: Callable[[str], AnyDatabase]
) -> None:
    database = made("CREATE TABLE t (id INTEGER PRIMARY KEY)")
    blind = not database.url.startswith("postgresql")  # text is compared without case
    collation = "COLLATE NOCASE" if database.url.endswith(".db") else ""
    database.script("DROP TABLE t; CREATE TABLE t (id INTEGER PRIMARY KEY,"
                    f" a VARCHAR(5) {collation}, b INTEGER)")  # fmt: skip
    chance = random.Random(17)
    outcomes = set()
    for _ in range(16):
        rows = [(n, chance.choice(["x", "X", "y", "Y", "z", None]), chance.choice([1, None]))
                for n in range(1, chance.randint(3, 14))]  # fmt: skip
        told = ", ".join(f"({n}, {'NULL' if a is None else repr(a)}, {'NULL' if b is None else b})"
                         for n, a, b in rows)  # fmt: skip
        database.script(f"DELETE FROM t; INSERT INTO t VALUES {told}")
        lines = reviewed(yeldro, database, "t", "a,b")
        groups: dict[str, Lines] = {}
        for line in lines:
            groups.setdefault(line[GROUP], []).append(line)
        equal: dict[object, set[str]] = {}
        for n, a, b in rows:
            equal.setdefault((a.lower() if a and blind else a, b), set()).add(str(n))
        assert sorted(sorted(line["id"] for line in group) for group in groups.values()) == sorted(
            sorted(ids) for ids in equal.values() if len(ids) > 1
        )
        for group in groups.values():
            kinds = ["open", "keep", "one", "one", "one", "some", *(["bad"] * chance.randint(0, 3))]
            kind = chance.choice(kinds)
            stays = chance.choice(group)
            for line in group:
                line[DECISION] = {
                    "open": "", "keep": "keep", "one": "keep" if line is stays else "remove",
                    "some": "keep" if line is stays else chance.choice(["keep", "remove"]),
                    "bad": chance.choice(["", "keep", "remove", "remove"]),
                }[kind]  # fmt: skip
        if not lines:
            continue
        write(yeldro.folder / "r.csv", lines)
        fine = all(
            len({line[DECISION] == "" for line in group}) == 1
            and {line[DECISION] for line in group} != {"remove"}
            for group in groups.values()
        )
        going = {int(line["id"]) for line in lines if line[DECISION] == "remove"}
        words = ("t", "--duplicates-by", "a,b", "--decisions", "r.csv", "--expect", str(len(going)))
        done = yeldro("run", *words, "--yes", db=database.url, code=None)
        outcomes.add((fine, bool(going)))
        left = {row[0] for row in database.rows("SELECT id FROM t")}
        assert left == {n for n, _, _ in rows} - (going if fine else set())
        assert (done.code == 0) == fine, done.err
    assert {True, False} == {fine for fine, _ in outcomes}


def test_nothing_in_a_review_is_a_formula_and_it_is_its_owner_s_alone(
    yeldro: Yeldro, file_made: Callable[[str], SqliteFile]
) -> None:
    """Neither in a cell nor in the header, with the signs of any width."""
    signs = ["=", "+", "-", "@", "\uff1d", "\uff0b", "\uff0d", "\uff20"]
    columns = ", ".join(f'"{sign}cmd" TEXT' for sign in signs)
    values = ", ".join(f"'{sign}1+1'" for sign in signs)
    database = file_made(f"""CREATE TABLE place (id INTEGER PRIMARY KEY, name TEXT, {columns});
        INSERT INTO place VALUES (1, 'a', {values}), (2, 'a', {values.replace("1+1", "2+2")});""")
    yeldro("duplicates", "place", "--by", "name", "--review", "r.csv", db=database.url)
    path = yeldro.folder / "r.csv"
    with path.open(encoding="utf-8-sig", newline="") as file:
        header, *lines = csv.reader(file)
    assert len(lines) == 2
    assert not [cell for line in (header, *lines) for cell in line if cell.startswith((*signs,))]
    assert path.stat().st_mode & 0o777 == 0o600
    for line, decision in zip(lines, ("keep", "remove"), strict=True):
        line[header.index(DECISION)] = decision
    with path.open("w", encoding="utf-8-sig", newline="") as file:
        csv.writer(file).writerows([header, *lines])
    yeldro("run", "place", "--duplicates-by", "name", "--decisions", "r.csv", "--expect", "1",
           "--yes", db=database.url)  # fmt: skip
    assert database.value("SELECT id FROM place") == 1
