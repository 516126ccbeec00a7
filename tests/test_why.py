"""Why a row goes, changes or stays: shortest chains of rows that lead to it, on every system."""

from __future__ import annotations

import csv
import io
import re
import sqlite3
import tempfile
from collections.abc import Iterator, Sequence
from pathlib import Path
from typing import Any

import pytest
from random_schemas import Case, quoted, random_case
from test_ripple import IN_MEMORY, cleanup_of
from trials import Trials

import yeldro
from yeldro.core.execution.run import plan
from yeldro.core.model.messages.errors import UsageError
from yeldro.core.model.work.chains import Fate, Why
from yeldro.core.planning.job import Job
from yeldro.core.planning.why import CloserLook
from yeldro.engines import open_database

FEW, MANY = 12, 300
Lengths = dict[tuple[Any, Any], dict[Any, int]]
BUOY = ("plan", "buoy", "--where", "id = 6", "--follow", "all")


def test_a_chain_leads_from_a_matched_row_to_the_one_that_is_asked_about(yeldro, network) -> None:
    query = (
        "SELECT r.id, s.id FROM reading r JOIN sensor s ON s.id = r.sensor_id"
        " WHERE s.buoy_id = 6 ORDER BY r.id"
    )
    reading, sensor = network.rows(query)[0]
    asked = (f"reading:{reading}", "visit:6,1", "buoy:6", "buoy:7")
    words = [word for each in asked for word in ("--why", each)]
    (remove,) = yeldro(*BUOY, *words, "--json", db=network.url).json()["removes"]
    of_reading, of_visit, of_buoy, of_other = remove["why"]
    assert of_reading["fates"] == ["removed"]
    assert [(each["table"], each["key"]) for each in of_reading["chains"][0]] == [
        ("buoy", [6]),
        ("sensor", [sensor]),
        ("reading", [reading]),
    ]
    assert of_reading["chains"][0][1]["because"] == "sensor.buoy_id → buoy.id (--follow all)"
    assert of_visit["key"] == {"buoy_id": 6, "visit_no": 1}
    assert [[each["because"] for each in chain] for chain in of_buoy["chains"]] == [["matched"]]
    assert (of_other["fates"], of_other["chains"]) == ([], [])
    assert of_other["notes"][0] == "It is not among the matched rows."
    said = yeldro(*BUOY, *words, "--rows", "visit", db=network.url).out
    assert f"why  reading {reading}  goes" in said
    assert "why  buoy 7  stays as it is" in said
    assert re.search(r"rows  visit  \d would go", said)


def test_rows_that_change_or_block_are_told_too(yeldro, network) -> None:
    """An alert loses its reading; a visit is in the way of its buoy."""
    (reading, alert) = network.rows("SELECT reading_id, id FROM alert ORDER BY 1 DESC, 2")[-1]
    if reading is None:
        query = "SELECT reading_id, id FROM alert WHERE reading_id IS NOT NULL ORDER BY 1, 2"
        reading, alert = network.rows(query)[0]
    words = ("plan", "reading", "--where", f"id = {reading}", "--why", f"alert:{alert}")
    (found,) = yeldro(*words, "--json", db=network.url).one()["why"]
    assert found["fates"] == ["detached"]
    assert [each["table"] for each in found["chains"][0]] == ["reading", "alert"]
    words = ("plan", "buoy", "--where", "id = 6", "--why", "visit:6,1", "--json")
    document = yeldro(*words, db=network.url, code=3).out
    assert '"fates": [' in document
    assert "blocks" in document


def test_duplicates_name_the_row_whose_references_move(yeldro, made) -> None:
    database = made(
        "CREATE TABLE mast (id int NOT NULL PRIMARY KEY, name varchar(9), tint varchar(9));"
        "CREATE TABLE lamp (id int NOT NULL PRIMARY KEY, mast_id int, FOREIGN KEY (mast_id)"
        " REFERENCES mast (id));"
        "INSERT INTO mast VALUES (1, 'a', NULL), (2, 'a', 'red'), (3, 'b', NULL);"
        "INSERT INTO lamp VALUES (1, 2), (2, 1);"
    )
    words = ("plan", "mast", "--duplicates-by", "name", "--keep", "lowest:id", "--repoint",
             "--fill", "tint")  # fmt: skip
    asked = ("--why", "lamp:1", "--why", "lamp:2", "--why", "mast:1", "--why", "mast:2")
    lamp, other, kept, goes = yeldro(*words, *asked, "--json", db=database.url).one()["why"]
    assert (lamp["fates"], other["fates"]) == (["repointed"], [])
    assert [each["key"] for each in lamp["chains"][0]] == [[2], [1]]
    assert (kept["fates"], goes["fates"]) == (["filled"], ["removed"])


def test_a_saved_plan_and_a_program_are_answered_alike(yeldro, demo) -> None:
    yeldro(*BUOY, "-o", "plan.json", db=demo.url)
    saved = yeldro("plan", "plan.json", "--why", "visit:6,1", "--json", db=demo.url).one()
    assert [each["table"] for each in saved["why"][0]["chains"][0]] == ["buoy", "visit"]
    import yeldro as api

    what = api.cleanup("buoy", where="id = 6", follow="all")
    (looked,) = api.connect(demo.url).why(what, "visit:6,1")
    assert [each.table for each in looked.reasons[0].chains[0]] == ["buoy", "visit"]


@pytest.mark.parametrize(
    ("asked", "words"),
    [
        ("reading:no number", "no row"),
        ("reading:99999999", "There is no row reading:99999999"),
        ("visit:6", "the key of visit is buoy_id, visit_no"),
        ("raw_upload:1", "has no key"),
        ("nothing:1", "There is no table 'nothing'"),
        ("reading", "names no row"),
    ],
)
def test_a_row_that_is_not_there_is_refused(yeldro, demo, asked, words) -> None:
    told = yeldro(*BUOY, "--why", asked, db=demo.url, code=2).err
    assert words in " ".join(told.split())


def test_a_key_in_another_form_changes_nothing(yeldro, made) -> None:
    database = made(
        "CREATE TABLE mast (day date NOT NULL PRIMARY KEY);INSERT INTO mast VALUES ('2020-01-02');"
    )
    words = ("plan", "mast", "--all-rows", "--json", "--why")
    (found,) = yeldro(*words, "mast:2020-01-02", db=database.url).one()["why"]
    assert (found["key"], found["fates"]) == ({"day": "2020-01-02"}, ["removed"])
    told = " ".join(yeldro(*words[:-2], "--why", "mast:'; x", db=database.url, code=2).err.split())
    assert told.startswith("Nothing was changed.")
    assert "'; x" in told


def test_chains_are_shortest_and_true_on_random_schemas(trials: Trials) -> None:
    for number in trials(FEW, MANY):
        case = random_case(number)
        with tempfile.TemporaryDirectory(dir=IN_MEMORY) as folder:
            path = Path(folder, "made.db")
            case.create(path)
            look = CloserLook(list(_every_row(case, path)))
            found = plan(open_database(str(path)), Job.of(cleanup_of(case, ("all",))), look)
            removed = {
                step.table: step.rows for step in found.plans[0].steps if step.action == "remove"
            }
            reasons = look.found[0].reasons
            for table in case.tables:
                going = [w for w in reasons if w.table == table.name and Fate.REMOVED in w.fates]
                assert len(going) == removed.get(table.name, 0) or not table.key
            lengths = _lengths(case, path)
            for why in reasons:
                _check_chains(why, lengths)
            if not found.plans[0].blocked:
                _check_receipt(path, case, reasons, lengths)


def _check_receipt(path: Path, case: Case, planned: Sequence[Why], lengths: Lengths) -> None:
    """The receipt of a run must tell of every row what the plan told."""
    database = yeldro.connect(path)
    what = cleanup_of(case, ("all",))
    asked = list(_every_row(case, path))
    done = database.run(what, receipts=path.parent, agreed=database.plan(what))
    if done.receipt is None:
        return
    for each, why in zip(asked, planned, strict=True):
        if not why.fates:
            with pytest.raises(UsageError, match="no row"):
                database.why(done.receipt, each)
            continue
        ((told,),) = [found.reasons for found in database.why(done.receipt, each)]
        blind = any(table.blind for table in case.tables)  # keys in another form are not found
        assert told.fates == why.fates
        if told.notes:
            assert blind
            continue
        assert blind or told.left_out or _ends_of(told) == _ends_of(why)
        _check_steps(told, lengths)


def _ends_of(why: Why) -> set[tuple[Any, ...]]:
    """The first row of each chain, and the length of the chain."""
    return {(chain[0].table, chain[0].key, chain[0].because, len(chain)) for chain in why.chains}


def _every_row(case: Case, path: Path) -> Iterator[str]:
    connection = sqlite3.connect(path)
    for table in case.tables:
        if table.key:
            listed = ", ".join(map(quoted, table.key))
            for key in connection.execute(f"SELECT {listed} FROM {quoted(table.name)}"):
                text = io.StringIO()
                csv.writer(text).writerow(key)
                yield f"{table.name}:{text.getvalue().strip()}"
    connection.close()


def _lengths(case: Case, path: Path) -> Lengths:
    """Return the rows that each matched row leads to, with the length of the shortest way."""
    connection = sqlite3.connect(path)
    below: dict[Any, set[Any]] = {}
    for link in case.links:
        child, parent = case.tables[link.child], case.tables[link.parent]
        if not (child.key and parent.key):
            continue
        keys = [f"p.{quoted(name)}" for name in parent.key]
        keys += [f"c.{quoted(name)}" for name in child.key]
        same = " AND ".join(
            f"p.{quoted(theirs)} = c.{quoted(ours)}"
            for ours, theirs in zip(link.columns, link.referenced, strict=True)
        )
        query = (
            f"SELECT {', '.join(keys)} FROM {quoted(parent.name)} AS p"
            f" JOIN {quoted(child.name)} AS c ON {same}"
        )
        for row in connection.execute(query):
            above = (parent.name, row[: len(parent.key)])
            below.setdefault(above, set()).add((child.name, row[len(parent.key) :]))
    target = case.tables[case.target]
    listed = ", ".join(map(quoted, target.key)) or "1"
    query = f"SELECT {listed} FROM {quoted(target.name)} WHERE mark < {case.below}"
    found = {}
    for key in connection.execute(query).fetchall() if target.key else ():
        start = (target.name, key)
        known, wave = {start: 1}, [start]
        while wave:
            wave = [each for one in wave for each in below.get(one, ()) if each not in known]
            known |= dict.fromkeys(wave, max(known.values()) + 1)
        found[start] = known
    connection.close()
    return found


def _check_steps(why: Why, lengths: Lengths) -> None:
    """Each row of a chain must lead to the next one."""
    row = (why.table, why.key)
    for chain in why.chains if Fate.REMOVED in why.fates else ():
        first = (chain[0].table, chain[0].key)
        assert chain[0].because == "matched"
        assert (chain[-1].table, chain[-1].key) == row
        assert first in lengths or not lengths
        if first in lengths and len(chain) > 1 and all(reason.key for reason in chain):
            for place, reason in enumerate(chain, 1):
                assert lengths[first][reason.table, reason.key] <= place


def _check_chains(why: Why, lengths: Lengths) -> None:
    _check_steps(why, lengths)
    row = (why.table, why.key)
    known = all(reason.key for chain in why.chains for reason in chain)
    if Fate.REMOVED in why.fates and row not in lengths and not why.left_out and lengths and known:
        nearest = min((known[row] for known in lengths.values() if row in known), default=0)
        assert not nearest or min(map(len, why.chains)) == nearest


def test_a_long_chain_is_shown_by_its_ends(yeldro, file_made) -> None:
    rows = ", ".join(f"({n}, {n - 1 if n > 1 else 'NULL'})" for n in range(1, 41))
    database = file_made(f"""
        CREATE TABLE node (id INTEGER PRIMARY KEY, up INTEGER REFERENCES node ON DELETE CASCADE);
        INSERT INTO node VALUES {rows};
    """)
    words = ("plan", "node", "--where", "id = 1", "--why", "node:40")
    told = yeldro(*words, db=database.url).out
    assert "… 30 rows between" in told
    assert "node 35" not in told
    assert "node 36" in told
    (found,) = yeldro(*words, "--json", db=database.url).one()["why"]
    assert [each["key"] for each in found["chains"][0]] == [[n] for n in range(1, 41)]


@pytest.mark.parametrize("made", ["postgresql"], indirect=True)
def test_a_row_is_found_by_its_partition_and_a_view_has_none(yeldro, made) -> None:
    database = made("""
        CREATE TABLE log (id int, day date, PRIMARY KEY (id, day)) PARTITION BY RANGE (day);
        CREATE TABLE log_2020 PARTITION OF log FOR VALUES FROM ('2020-01-01') TO ('2021-01-01');
        CREATE VIEW seen AS SELECT * FROM log;
        INSERT INTO log VALUES (1, '2020-05-05'), (2, '2020-05-05');
    """)
    words = ("plan", "log", "--where", "id = 1", "--json")
    (found,) = yeldro(*words, "--why", "log_2020:1,2020-05-05", db=database.url).one()["why"]
    assert found["fates"] == ["removed"]
    (shown,) = yeldro(*words, "--rows", "log_2020", db=database.url).one()["some_rows"]
    assert (shown["table"], shown["total"]) == ("log", 1)
    assert "is a view" in yeldro(*words[:-1], "--rows", "seen", db=database.url, code=2).err


def test_a_receipt_tells_why_a_row_went(yeldro, network) -> None:
    yeldro("run", *BUOY[1:], "--expect", "1", "--yes", db=network.url)
    words = ("--why", "visit:6,1", "--why", "buoy:6", "--why", "buoy:74")
    visit, buoy, after = yeldro("receipt", "show", *words, "--json").json()["why"]
    assert [(each["table"], each["key"]) for each in visit["chains"][0]] == [
        ("buoy", [6]),
        ("visit", [6, 1]),
    ]
    assert [[each["because"] for each in chain] for chain in buoy["chains"]] == [["matched"]]
    assert [each["key"] for each in after["chains"][0]] == [[6], [74]]
    assert "why  visit (6, 1)  went" in yeldro("receipt", "show", *words).out
    assert "no row of this" in yeldro("receipt", "show", "--why", "region:1", code=2).err
    told = yeldro("receipt", "show", "--why", "visit:7,1", code=2).err
    assert "holds no row visit:7,1. A key is written like visit:6,1." in " ".join(told.split())
    assert "no key of visit" in yeldro("receipt", "show", "--why", "visit:7", code=2).err


def test_a_receipt_tells_of_rows_that_changed_in_batches(yeldro, made) -> None:
    database = made(
        "CREATE TABLE mast (id int NOT NULL PRIMARY KEY, name varchar(9), tint varchar(9));"
        "CREATE TABLE lamp (id int NOT NULL PRIMARY KEY, mast_id int, FOREIGN KEY (mast_id)"
        " REFERENCES mast (id) ON DELETE SET NULL);"
        "INSERT INTO mast VALUES (1, 'a', NULL), (2, 'a', 'red'), (3, 'b', NULL), (4, 'b', NULL);"
        "INSERT INTO lamp VALUES (1, 2), (2, 4), (3, 1);"
    )
    words = ("run", "mast", "--duplicates-by", "name", "--keep", "lowest:id", "--yes")
    yeldro(*words, "--repoint", "--fill", "tint", "--expect", "2", db=database.url)
    asked = ("receipt", "show", "--json", "--why", "lamp:1", "--why")
    lamp, kept = yeldro(*asked, "mast:1").json()["why"]
    assert (lamp["fates"], kept["fates"]) == (["repointed"], ["filled"])
    assert [each["key"] for each in lamp["chains"][0]] == [[2], [1]]
    yeldro("restore", "last", "--yes", db=database.url)
    yeldro(*words, "--batch", "1", "--expect", "2", db=database.url)
    lamp, other = yeldro(*asked, "lamp:2").json()["why"]
    assert (lamp["fates"], other["fates"]) == (["detached"], ["detached"])
    assert [each["key"] for each in other["chains"][0]] == [[4], [2]]


def test_a_receipt_of_batches_tells_matched_rows_from_those_that_went_with_them(yeldro, made):
    database = made(
        "CREATE TABLE node (id int NOT NULL PRIMARY KEY, up int, FOREIGN KEY (up)"
        " REFERENCES node (id) ON DELETE CASCADE);"
        "INSERT INTO node VALUES (1, NULL), (2, NULL), (3, 2), (4, 3);"
    )
    words = ("run", "node", "--where", "id < 3", "--batch", "1", "--expect", "2", "--yes")
    yeldro(*words, db=database.url)
    asked = [word for n in (1, 2, 4) for word in ("--why", f"node:{n}")]
    found = yeldro("receipt", "show", *asked, "--json").json()["why"]
    chains = [[each["key"] for each in why["chains"][0]] for why in found]
    assert chains == [[[1]], [[2]], [[2], [3], [4]]]
    assert not any(why["notes"] for why in found)


def test_a_key_of_a_receipt_may_be_typed_in_another_form(yeldro, made) -> None:
    database = made(
        "CREATE TABLE mast (id decimal(6, 2) NOT NULL PRIMARY KEY, up decimal(6, 2));"
        "INSERT INTO mast VALUES (1.00, NULL), (2.50, 1.00);"
    )
    yeldro("run", "mast", "--all-rows", "--expect", "2", "--yes", db=database.url)
    words = ("--why", "mast:1", "--why", "mast:2.5")
    found = yeldro("receipt", "show", *words, "--json").json()["why"]
    assert [float(next(iter(each["key"].values()))) for each in found] == [1, 2.5]


def test_bytes_of_a_key_are_typed_as_they_are_shown(yeldro, file_made) -> None:
    database = file_made(
        "CREATE TABLE mast (id BLOB NOT NULL PRIMARY KEY); INSERT INTO mast VALUES (x'00ff')"
    )
    yeldro("run", "mast", "--all-rows", "--expect", "1", "--yes", db=database.url)
    told = yeldro("receipt", "show", "--why", "mast:x'00ff'").out
    assert "why  mast x'00ff'  went" in told


def test_what_holds_no_rows_cannot_tell_why(yeldro, demo) -> None:
    words = ("run", *BUOY[1:], "--expect", "1", "--yes")
    yeldro(*words, db=demo.url)
    restored = yeldro("restore", "last", "--yes", "--json", db=demo.url).json()["own_receipt"]
    asked = ("--why", "buoy:6")
    assert "is of a restore" in yeldro("receipt", "show", restored, *asked, code=2).err
    yeldro(*words, "--without-rows", db=demo.url)
    assert "holds no rows" in yeldro("receipt", "show", *asked, code=2).err


def test_a_parent_in_another_form_is_said_not_to_be_found(yeldro, file_made) -> None:
    database = file_made("""
        CREATE TABLE mast (name TEXT COLLATE NOCASE PRIMARY KEY);
        CREATE TABLE lamp (id INTEGER PRIMARY KEY, mast TEXT REFERENCES mast ON DELETE CASCADE);
        INSERT INTO mast VALUES ('Tall'); INSERT INTO lamp VALUES (1, 'tall');
    """)
    yeldro("run", "mast", "--all-rows", "--expect", "1", "--yes", db=database.url)
    (found,) = yeldro("receipt", "show", "--why", "lamp:1", "--json").json()["why"]
    assert found["notes"] == ["The row that lamp 1 references is not found among the stored rows."]
