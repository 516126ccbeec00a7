"""The row that stays takes what it lacks from those that go, held against a model."""

from __future__ import annotations

import random
from collections.abc import Callable, Sequence
from pathlib import Path
from typing import Any

import pytest
from conftest import Yeldro, there_and_back
from systems import AnyDatabase
from trials import Trials

import yeldro as program

COLUMNS = ("id", "name", "n", "t", "serial", "port_id")
FILLED = ("n", "t", "serial", "port_id")
Row = dict[str, Any]


def harbour(database: AnyDatabase, rows: Sequence[Row], visits: Sequence[tuple[int, int]]) -> None:
    """Make buoys that have ports and visits, with text that is compared as it is written."""
    exact = "CHARACTER SET utf8mb4 COLLATE utf8mb4_nopad_bin"
    kind = f"VARCHAR(40) {exact if database.url.startswith('mariadb') else ''}"
    # MariaDB's checksum of rows whose stored computed column is NULL differs from time to time.
    computed = "VIRTUAL" if database.url.startswith("mariadb") else "STORED"
    database.script(
        "DROP TABLE IF EXISTS visit; DROP TABLE IF EXISTS buoy; DROP TABLE IF EXISTS port;"
        "CREATE TABLE port (id INTEGER PRIMARY KEY); INSERT INTO port VALUES (1), (2), (3);"
        f"CREATE TABLE buoy (id INTEGER PRIMARY KEY, name {kind}, n INTEGER, t {kind},"
        f" serial {kind} UNIQUE, port_id INTEGER REFERENCES port (id),"
        f" twice INTEGER GENERATED ALWAYS AS (n * 2) {computed});"
        "CREATE TABLE visit (id INTEGER PRIMARY KEY, buoy_id INTEGER REFERENCES buoy (id));"
    )
    for row in rows:
        values = ("NULL" if row[name] is None else repr(row[name]) for name in COLUMNS)
        database.script(f"INSERT INTO buoy ({', '.join(COLUMNS)}) VALUES ({', '.join(values)})")
    for visit in visits:
        database.script(f"INSERT INTO visit VALUES {visit}")


def random_rows(chance: random.Random) -> list[Row]:
    return [
        {
            "id": number,
            "name": chance.choice(["Eddy", "Marl", "eddy", None]),
            "n": chance.choice([None, None, 1, 2]),
            "t": chance.choice([None, "", "", "a", "A", " "]),
            "serial": chance.choice([None, f"s{number}", ""]) if number == 1 else
            chance.choice([None, f"s{number}"]),
            "port_id": chance.choice([None, None, 1, 2, 3]),
        }
        for number in range(1, chance.randint(3, 16))
    ]  # fmt: skip


def in_groups(rows: Sequence[Row], keep: str) -> list[list[Row]]:
    """Return the rows of each name, the one that stays foremost."""

    def rank(row: Row) -> tuple[Any, ...]:
        if keep == "highest:n":
            return (row["n"] is None, -(row["n"] or 0), row["id"])
        return (-row["id"],) if keep == "highest:id" else (row["id"],)

    names = dict.fromkeys(row["name"] for row in rows)
    return [sorted((row for row in rows if row["name"] == name), key=rank) for name in names]


def filled(
    kept: Row, going: Sequence[Row], columns: Sequence[str], empty: bool
) -> tuple[Row, bool]:
    """Return what becomes of a kept row, and whether rows that go disagree."""
    found, disagrees = dict(kept), False
    missing = (None, "") if empty else (None,)
    for name in columns:
        if kept[name] in missing:
            given = [row[name] for row in going if row[name] not in missing]
            disagrees |= len(set(given)) > 1
            found[name] = given[0] if given else kept[name]
    return found, disagrees


def buoys(database: AnyDatabase) -> list[Row]:
    rows = database.rows(f"SELECT {', '.join(COLUMNS)} FROM buoy ORDER BY id")
    return [dict(zip(COLUMNS, row, strict=True)) for row in rows]


def test_random_groups_are_filled_as_a_model_does(
    made: Callable[[str], AnyDatabase], tmp_path: Path, trials: Trials
) -> None:
    database = made("CREATE TABLE port (id INTEGER PRIMARY KEY)")
    opened = program.connect(database.url)
    refused = committed = 0
    for seed in trials(9, 60):
        chance = random.Random(seed)
        rows = random_rows(chance)
        ids = [row["id"] for row in rows]
        visits = [(n, chance.choice(ids)) for n in range(1, 6)]
        harbour(database, rows, visits)
        keep = chance.choice(["lowest:id", "highest:id", "highest:n"])
        columns = FILLED if seed % 3 == 0 else chance.sample(FILLED, chance.randint(1, 4))
        empty, first, moves = (chance.random() < 0.5 for _ in range(3))
        groups = in_groups(rows, keep)
        decided = chance.random() < 0.3
        words: dict[str, Any] = {"duplicates_by": "name", "keep": keep}
        if decided:
            groups = decide(opened, tmp_path / f"{seed}.csv", keep, groups, chance)
            words["decisions"] = str(tmp_path / f"{seed}.csv")
        models = [filled(group[0], group[1:], columns, empty) for group in groups]
        going = {row["id"]: group[0]["id"] for group in groups for row in group[1:]}
        after = [row for row in rows if row["id"] not in going]
        after = [next((m for m, _ in models if m["id"] == row["id"]), row) for row in after]
        changes = sum(row not in rows for row in after)
        cleanup = program.cleanup(
            "buoy", **words, fill="all" if seed % 3 == 0 else list(columns), fill_empty=empty,
            fill_first=first, repoint=moves, follow=[] if moves else ["all"], expect=len(going),
        )  # fmt: skip
        before = database.contents()
        if not first and any(disagrees for _, disagrees in models):
            with pytest.raises(program.YeldroError, match="disagree"):
                opened.run(cleanup, receipts=tmp_path)
            assert database.contents() == before, seed
            refused += 1
            continue
        if not going:
            continue
        done = opened.run(cleanup, receipts=tmp_path)
        committed += 1
        assert buoys(database) == after, seed
        assert sum(s.rows for s in done.parts[0].plan.steps if s.action == "fill") == changes, seed
        moved = [(n, going.get(b, b)) for n, b in visits if moves or b not in going]
        assert database.rows("SELECT * FROM visit ORDER BY id") == moved, seed
        assert done.receipt is not None
        opened.restore(done.receipt)
        assert database.contents() == before, seed
    assert (refused and committed) or trials.only_one


def decide(
    opened: program.Connection,
    path: Path,
    keep: str,
    groups: list[list[Row]],
    chance: random.Random,
) -> list[list[Row]]:
    """Decide in a review which row of each group stays; leave some groups open."""
    opened.review("buoy", "name", str(path), keep)
    lines = path.read_text(encoding="utf-8-sig").splitlines()
    names = lines[0].split(",")
    found = []
    chosen: dict[int, str] = {}
    for group in groups:
        if len(group) < 2 or chance.random() < 0.3:
            found += [[row] for row in group]
            continue
        stays = chance.choice(group)
        found.append([stays, *(row for row in group if row is not stays)])
        chosen |= {row["id"]: "keep" if row is stays else "remove" for row in group}
    written = [lines[0]]
    for line in lines[1:]:
        cells = line.rsplit(",", len(names) - names.index("id"))
        word = chosen.get(int(cells[1]), "")
        written.append(f"{word},{line.partition(',')[2]}")
    path.write_text("\n".join(written), encoding="utf-8-sig")
    return found


def test_what_cannot_be_filled_is_refused_with_its_reason(
    yeldro: Yeldro, made: Callable[[str], AnyDatabase]
) -> None:
    database = made("CREATE TABLE port (id INTEGER PRIMARY KEY)")
    one: Row = dict.fromkeys(COLUMNS)
    harbour(
        database, [one | {"id": 1, "name": "Eddy"}, one | {"id": 2, "name": "Eddy", "n": 5}], []
    )
    database.script("CREATE TABLE bare (a INTEGER, b INTEGER);"
                    "CREATE TABLE near (id INTEGER PRIMARY KEY, g INTEGER, of_id INTEGER"
                    " REFERENCES near (id)); INSERT INTO near VALUES (1, 1, NULL), (2, 1, NULL),"
                    " (3, 1, 2), (4, 2, 1)")  # fmt: skip
    before = database.contents()
    by = ("--duplicates-by", "name")
    for words, told in {
        ("buoy", "--where", "id = 1", "--fill", "n"): "no duplicates are chosen",
        ("buoy", *by, "--fill", "depth"): "there is no column 'depth'",
        ("buoy", *by, "--fill", "id"): "it is part of a key",
        ("buoy", *by, "--fill", "twice"): "the database computes it",
        ("buoy", *by, "--fill", "name"): "rows of a group are compared by it",
        ("buoy", *by, "--fill-empty"): "Add --fill COLUMNS, or --fill all",
        ("buoy", *by, "--fill", "n", "--batch", "1", "--expect", "1"): "does not go with --batch",
        ("bare", "--duplicates-by", "a", "--fill", "b"): "bare has no key",
        ("near", "--duplicates-by", "g", "--follow", "all", "--fill", "of_id"):
            "references a row of near which goes or is not there",
    }.items():  # fmt: skip
        run_words = ("run", *words, *(() if "--batch" in words else ("--expect", "0..")), "--yes")
        error = " ".join(yeldro(*run_words, db=database.url, code=None).err.split())
        assert told in error, (words, error)
        assert "Nothing was changed" in error
    told = yeldro("script", "buoy", *by, "--fill", "n", db=database.url, code=None).err
    assert "A script cannot hold --fill" in told
    assert database.contents() == before


def test_rows_that_disagree_are_named_and_the_first_is_taken_where_that_is_said(
    yeldro: Yeldro, made: Callable[[str], AnyDatabase]
) -> None:
    database = made("CREATE TABLE port (id INTEGER PRIMARY KEY)")
    one: Row = dict.fromkeys(COLUMNS)
    rows = [{"id": 7, "t": "a"}, {"id": 8, "t": "A"}, {"id": 3, "t": ""}, {"id": 9, "n": 4}]
    harbour(database, [one | {"name": "Eddy"} | row for row in rows], [(1, 7)])
    words = ("buoy", "--duplicates-by", "name", "--fill", "t,n", "--fill-empty", "--repoint")
    told = yeldro("plan", *words, db=database.url, code=3).err
    assert "disagree in t" in told
    assert "in 1 group: id 3 would take 'a' and 'A'" in " ".join(told.split())
    plan = yeldro("plan", *words, "--fill-first", "--json", db=database.url).json()["removes"][0]
    assert [(step["action"], step["table"], step["rows"]) for step in plan["steps"]] == [
        ("repoint", "visit", 1), ("remove", "buoy", 3), ("fill", "buoy", 1),
    ]  # fmt: skip
    assert plan["total"] == 5
    assert plan["steps"][2]["because"] == "takes what it lacks: t 1, n 1"
    there_and_back(yeldro, database, *words, "--fill-first", "--expect", "3")
    yeldro("plan", *words, "--fill-first", "-o", "kept.json", db=database.url)
    yeldro("run", "kept.json", "--yes", db=database.url)
    assert buoys(database) == [one | {"id": 3, "name": "Eddy", "n": 4, "t": "a"}]


def test_a_trigger_on_the_filled_row_is_told_and_what_it_changes_is_counted(
    yeldro: Yeldro, made: Callable[[str], AnyDatabase]
) -> None:
    database = made("CREATE TABLE port (id INTEGER PRIMARY KEY)")
    one: Row = dict.fromkeys(COLUMNS)
    harbour(database, [one | {"id": 1, "name": "x"}, one | {"id": 2, "name": "x", "n": 1}], [])
    database.script("CREATE TABLE noted (id INTEGER)")
    if database.url.startswith("postgresql"):
        database.script("CREATE FUNCTION note() RETURNS trigger LANGUAGE plpgsql AS"
                        " 'BEGIN INSERT INTO noted VALUES (1); RETURN NULL; END';"
                        "CREATE TRIGGER noting AFTER UPDATE ON buoy FOR EACH ROW"
                        " EXECUTE FUNCTION note()")  # fmt: skip
    else:
        body = "INSERT INTO noted VALUES (1)"
        body = body if database.url.startswith("mariadb") else f"BEGIN {body}; END"
        database.script(f"CREATE TRIGGER noting AFTER UPDATE ON buoy FOR EACH ROW {body}")
    before = database.contents()
    words = ("buoy", "--duplicates-by", "name", "--fill", "all", "--expect", "1")
    assert "The trigger noting runs on every update in buoy" in " ".join(
        yeldro("plan", *words, db=database.url).out.split())  # fmt: skip
    yeldro("run", *words, "--yes", db=database.url, code=4)
    assert database.contents() == before
    yeldro("run", *words, "--yes", "--allow-trigger", "noting", db=database.url)
    assert database.value("SELECT count(*) FROM noted") == 1
