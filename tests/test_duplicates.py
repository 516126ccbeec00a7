"""Duplicates: when rows count as equal, which one stays, and what becomes of their dependents."""

from __future__ import annotations

import random
from collections import Counter
from collections.abc import Callable
from pathlib import Path
from typing import Any

import lending
import pytest
import sqlalchemy as sa
from conftest import Yeldro, there_and_back
from systems import AnyDatabase, SqliteFile
from trials import Trials
from undoing import back_and_forth

from yeldro.core.execution.run import plan, run
from yeldro.core.inspection.repeats import search_repeats
from yeldro.core.model.tables.equality import EqualityRules
from yeldro.core.planning.cleanup import Cleanup
from yeldro.core.planning.following.treatment import Choices
from yeldro.core.planning.job import Job
from yeldro.core.receipts.writer import ReceiptOptions
from yeldro.core.selection.asked import KeepRule, Selection
from yeldro.engines import open_database
from yeldro.engines.sqlite import groups as sqlite_groups
from yeldro.engines.sqlite import surplus as sqlite_surplus

LOOSE = """
    CREATE TABLE sample (id INTEGER PRIMARY KEY, spot VARCHAR(20), depth INTEGER);
    INSERT INTO sample VALUES (1, 'bay', 1), (2, 'BAY', 1), (3, ' bay ', 1), (4, 'Bay', 2),
        (5, NULL, 1), (6, NULL, 1), (7, 'ÄRA', 3), (8, 'ära', 3);
"""
NETWORK = """
    CREATE TABLE buoy (id INTEGER PRIMARY KEY, serial VARCHAR(9),
        near_id INTEGER REFERENCES buoy (id));
    CREATE TABLE tag (buoy_id INTEGER NOT NULL REFERENCES buoy (id) ON DELETE CASCADE,
        label VARCHAR(9) NOT NULL, PRIMARY KEY (buoy_id, label));
    CREATE TABLE alert (id INTEGER PRIMARY KEY, buoy_id INTEGER REFERENCES buoy (id));
    CREATE TABLE seen (id INTEGER PRIMARY KEY, buoy_id INTEGER, label VARCHAR(9),
        FOREIGN KEY (buoy_id, label) REFERENCES tag (buoy_id, label));
    INSERT INTO buoy VALUES (1, 'a', NULL), (2, 'a', 1), (3, 'a', 2), (4, 'b', 3), (5, 'b', 5),
        (6, 'c', 4);
    INSERT INTO tag VALUES (1, 'x'), (2, 'x'), (2, 'y'), (3, 'y'), (3, 'z'), (4, 'x'), (5, 'z');
    INSERT INTO alert VALUES (1, 1), (2, 2), (3, 3), (4, NULL), (5, 5);
"""
SAME_SERIAL = ("buoy", "--duplicates-by", "serial", "--keep", "lowest:id")


def kept(found: dict[str, Any]) -> list[tuple[int, list[int]]]:
    """Of each group the row that stays and those that go, by id."""
    groups = [(g["kept"]["id"], [row["id"] for row in g["removable"]]) for g in found["sample"]]
    return sorted(groups)


@pytest.mark.parametrize(
    ("words", "groups"),
    [
        (("--ignore-case",), [(1, [2]), (5, [6]), (7, [8])]),
        (("--ignore-case", "--trim"), [(1, [2, 3]), (5, [6]), (7, [8])]),
        (("--ignore-case", "--trim", "--null-distinct"), [(1, [2, 3]), (7, [8])]),
    ],
)
def test_text_counts_as_equal_without_case_or_outer_spaces(yeldro, made, words, groups) -> None:
    database = made(LOOSE)
    by = ("sample", "--by", "spot,depth", *words)
    assert kept(yeldro("duplicates", *by, "--json", db=database.url).json()) == groups
    removable = sum(len(goes) for _, goes in groups)
    run_words = ("sample", "--duplicates-by", "spot,depth", *words, "--expect", str(removable))
    there_and_back(yeldro, database, *run_words)


def test_without_options_values_are_equal_as_the_database_compares_them(yeldro, made) -> None:
    database = made(LOOSE)
    found = yeldro("duplicates", "sample", "--by", "spot,depth", "--json", db=database.url).json()
    blind = [(1, [2]), (5, [6]), (7, [8])]
    loose = database.url.startswith(("mariadb", "mssql"))
    assert kept(found) == (blind if loose else [(5, [6])])


@pytest.mark.parametrize("kind", ["TEXT", "VARCHAR(4000)"])
def test_long_values_are_compared_to_their_ends(yeldro, made, kind: str) -> None:
    """A system may sort by the first bytes alone; what is equal is what it calls equal itself."""
    chance = random.Random(kind)
    starts = ["x" * length for length in (0, 340, 341, 511, 512, 513, 1023, 1024, 1025, 3000)]
    texts = [chance.choice(starts) + chance.choice(["", "a", "A", "b", "a ", "ä"])
             for _ in range(200)]  # fmt: skip
    rows = ", ".join(f"({n}, '{text}')" for n, text in enumerate(texts))
    database = made(f"CREATE TABLE note (id INTEGER PRIMARY KEY, t {kind}); "
                    f"INSERT INTO note VALUES {rows}")  # fmt: skip
    stay = database.rows(
        "SELECT id FROM note AS n WHERE NOT EXISTS"
        " (SELECT 1 FROM note AS m WHERE m.t = n.t AND m.id < n.id) ORDER BY id"
    )
    gone = len(texts) - len(stay)
    report = yeldro("duplicates", "note", "--by", "t", "--json", db=database.url).json()
    assert report["removable"] == gone
    for group in report["sample"]:
        for row in group["removable"]:
            assert len(row["t"].rstrip()) == len(group["kept"]["t"].rstrip())
    words = ("note", "--duplicates-by", "t", "--keep", "lowest:id", "--expect", str(gone))
    yeldro("run", *words, "--yes", db=database.url)
    assert database.rows("SELECT id FROM note ORDER BY id") == stay


def test_long_values_are_put_in_order_to_their_ends_or_not_at_all(yeldro, made) -> None:
    rows = ", ".join(f"({n}, 1, '{'x' * 2000}{9 - n}')" for n in range(5))
    database = made("CREATE TABLE note (id INTEGER PRIMARY KEY, g INTEGER, t VARCHAR(4000)); "
                    f"INSERT INTO note VALUES {rows}")  # fmt: skip
    by_sorting = ("--all-rows", "--order-by", "t", "--limit", "4", "--expect", "4")
    for choice in (("--duplicates-by", "g", "--keep", "highest:t", "--expect", "4"),
                   ("--duplicates-by", "g", "--keep", "order:t DESC", "--expect", "4"),
                   ("--where", "g = 1", *by_sorting[1:])):  # fmt: skip
        if database.url.startswith("mariadb"):
            refused = yeldro("plan", "note", *choice, db=database.url, code=3).err
            assert "MariaDB sorts by the first 1,024 bytes" in refused
            continue
        yeldro("run", "note", *choice, "--yes", db=database.url)
        assert database.rows("SELECT id FROM note") == [(0,)]
        yeldro("restore", "last", "--yes")


def test_the_row_that_others_reference_is_kept_and_ties_are_told(yeldro, made) -> None:
    database = made(NETWORK)
    words = ("duplicates", "buoy", "--by", "serial", "--keep", "referenced")
    found = yeldro(*words, "--keep", "highest:id", "--json", db=database.url).json()
    assert (kept(found), found["ties"]) == ([(3, [2, 1]), (5, [4])], 0)
    database.script("DELETE FROM tag; DELETE FROM alert; UPDATE buoy SET near_id = NULL;"
                    "INSERT INTO alert VALUES (1, 2);")  # fmt: skip
    found = yeldro(*words, "--json", db=database.url).json()
    assert (kept(found), found["ties"]) == ([(2, [1, 3]), (4, [5])], 1)
    assert "For example: serial b." in yeldro(*words, db=database.url).out
    told = yeldro("duplicates", "alert", "--by", "buoy_id", "--keep", "referenced",
                  db=database.url, code=2).err  # fmt: skip
    assert "no foreign key references alert" in told


def test_dependents_move_to_the_kept_row_and_back(yeldro, made) -> None:
    database = made(NETWORK)
    words = (*SAME_SERIAL, "--repoint", "--follow", "tag", "--expect", "3", "--expect", "total=12")
    before = database.contents()
    done = yeldro("run", *words, "--yes", "--json", db=database.url).one()
    assert sorted((s["action"], s["table"], s["affected"]) for s in done["steps"]) == [
        ("remove", "buoy", 3),
        ("remove", "tag", 2),
        ("repoint", "alert", 3),
        ("repoint", "buoy", 1),
        ("repoint", "tag", 3),
    ]
    assert database.rows("SELECT id, near_id FROM buoy ORDER BY id") == [(1, None), (4, 1), (6, 4)]
    assert database.rows("SELECT buoy_id, label FROM tag ORDER BY 1, 2") == [
        (1, "x"),
        (1, "y"),
        (1, "z"),
        (4, "x"),
        (4, "z"),
    ]
    assert database.rows("SELECT buoy_id FROM alert ORDER BY id") == [
        (1,),
        (1,),
        (1,),
        (None,),
        (4,),
    ]
    again = yeldro("run", *SAME_SERIAL, "--repoint", "--expect", "0", "--yes", db=database.url)
    assert "nothing to do" in again.out
    yeldro("restore", done["receipt"], "--yes")
    assert database.contents() == before
    assert yeldro("receipt", "check", done["receipt"], "--json").json()["verdict"] == "all back"


@pytest.mark.parametrize(
    ("words", "comes_in", "kept_out"),
    [
        ((), "(9, NULL, 7)", "(10, NULL, 7)"),
        (("--null-distinct",), "(9, NULL, 1)", "(10, 'bay', 1)"),
        (("--ignore-case", "--trim"), "(9, 'cove', 1)", "(10, ' BAY', 1)"),
    ],
)
def test_a_constraint_keeps_out_what_was_removed_and_lets_in_the_rest(
    yeldro, made, words, comes_in, kept_out
) -> None:
    database = made(LOOSE)
    by = ("sample", "--duplicates-by", "spot,depth", *words)
    if "--ignore-case" in words and isinstance(
        database, SqliteFile
    ):  # its indexes know A to Z only
        before = database.contents()
        assert yeldro("plan", *by, "--json", db=database.url).one()["prevention"] is None
        told = yeldro("run", *by, "--expect", "0..", "--yes", "--add-constraint", db=database.url,
                      code=2).err  # fmt: skip
        assert "No constraint of SQLite is known to keep these duplicates out" in told
        assert database.contents() == before
        return
    plan = yeldro("plan", *by, "--json", db=database.url).one()
    assert plan["prevention"] in " ".join(yeldro("plan", *by, db=database.url).out.split())
    run_words = ("run", *by, "--expect", str(plan["matched"]), "--yes")
    out = yeldro(*run_words, "--add-constraint", db=database.url).out
    assert "Added, to keep new duplicates out" in out
    if not words:
        database.script("INSERT INTO sample VALUES (9, NULL, 7)")
    else:
        database.script(f"INSERT INTO sample VALUES {comes_in}")
    with pytest.raises(Exception, match=r"(?i)unique|duplicate"):
        database.script(f"INSERT INTO sample VALUES {kept_out}")


def test_a_constraint_gets_a_name_that_is_free(yeldro, made) -> None:
    database = made(LOOSE)
    for place, name in enumerate(("sample_spot_depth_once", "sample_spot_depth_once_2")):
        database.script(f"CREATE INDEX {name} ON sample (id)")
        plan = yeldro("plan", "sample", "--duplicates-by", "spot,depth", "--json", db=database.url)
        assert f"sample_spot_depth_once_{place + 2}" in plan.one()["prevention"]
    yeldro("run", "sample", "--duplicates-by", "spot,depth", "--expect", "1..", "--yes",
           "--add-constraint", db=database.url)  # fmt: skip


def test_a_constraint_that_would_not_hold_is_refused_beforehand(yeldro, made) -> None:
    database = made(LOOSE)
    before = database.contents()
    words = ("run", "sample", "--duplicates-by", "spot", "--where", "depth = 1", "--expect", "0..",
             "--yes", "--add-constraint")  # fmt: skip
    assert "leaves some" in yeldro(*words, db=database.url, code=2).err
    assert database.contents() == before


def test_dependents_that_would_be_there_twice_block_and_are_named(yeldro, made) -> None:
    database = made(NETWORK)
    before = database.contents()
    words = ("run", *SAME_SERIAL, "--repoint", "--expect", "3", "--yes")
    found = yeldro(*words, db=database.url, code=3)
    assert "(buoy_id, label) would occur twice" in found.err
    assert "Add --follow tag.buoy_id" in found.err
    assert database.contents() == before


VISITS = """
    CREATE TABLE buoy (id INTEGER PRIMARY KEY, serial VARCHAR(9));
    CREATE TABLE visit (buoy_id INTEGER NOT NULL, visit_no INTEGER NOT NULL, near_id INTEGER,
        after_buoy INTEGER, after_no INTEGER, PRIMARY KEY (buoy_id, visit_no),
        FOREIGN KEY (buoy_id) REFERENCES buoy (id), FOREIGN KEY (near_id) REFERENCES buoy (id),
        FOREIGN KEY (after_buoy, after_no) REFERENCES visit (buoy_id, visit_no));
    CREATE TABLE part_used (buoy_id INTEGER NOT NULL, visit_no INTEGER NOT NULL,
        part VARCHAR(9) NOT NULL, PRIMARY KEY (buoy_id, visit_no, part),
        FOREIGN KEY (buoy_id, visit_no) REFERENCES visit (buoy_id, visit_no) ON DELETE CASCADE);
    CREATE TABLE mark (id INTEGER PRIMARY KEY, buoy_id INTEGER, visit_no INTEGER, part VARCHAR(9),
        FOREIGN KEY (buoy_id, visit_no, part) REFERENCES part_used (buoy_id, visit_no, part));
    INSERT INTO buoy VALUES (1, 'a'), (2, 'a'), (3, 'a'), (4, 'b');
    INSERT INTO visit VALUES (1, 1, NULL, NULL, NULL), (2, 2, 3, NULL, NULL), (3, 3, 2, 2, 2),
        (4, 1, 2, 3, 3);
    INSERT INTO part_used VALUES (1, 1, 'lamp'), (2, 2, 'lamp'), (3, 3, 'rope'), (4, 1, 'rope');
    INSERT INTO mark VALUES (1, 2, 2, 'lamp'), (2, 3, 3, 'rope'), (3, 4, 1, 'rope'),
        (4, 3, NULL, 'rope'), (5, NULL, NULL, NULL);
"""


@pytest.mark.parametrize("near", [1, None])
def test_keys_move_to_the_kept_row_with_the_rows_that_reference_them(yeldro, made, near) -> None:
    database = made(VISITS)
    cut = () if near else ("--detach", "visit.near_id")
    words = (*SAME_SERIAL, "--repoint", *cut, "--expect", "2")
    done = there_and_back(yeldro, database, *words)
    steps = [(s["table"], s["affected"]) for s in done["steps"] if s["action"] == "repoint"]
    assert sorted(steps) == [("mark", 2), ("part_used", 2), ("visit", 3)]
    yeldro("run", *words, "--yes", db=database.url)
    assert database.rows("SELECT * FROM visit ORDER BY 1, 2") == [
        (1, 1, None, None, None),
        (1, 2, near, None, None),
        (1, 3, near, 1, 2),
        (4, 1, near, 1, 3),
    ]
    assert database.rows("SELECT * FROM part_used ORDER BY 1, 2") == [
        (1, 1, "lamp"),
        (1, 2, "lamp"),
        (1, 3, "rope"),
        (4, 1, "rope"),
    ]
    assert database.rows("SELECT * FROM mark ORDER BY 1") == [
        (1, 1, 2, "lamp"),
        (2, 1, 3, "rope"),
        (3, 4, 1, "rope"),
        (4, 3, None, "rope"),
        (5, None, None, None),
    ]


def test_a_key_that_others_reference_since_does_not_move_back(yeldro, made) -> None:
    database = made(VISITS)
    done = yeldro("run", *SAME_SERIAL, "--repoint", "--expect", "2", "--yes", "--json",
                  db=database.url).one()  # fmt: skip
    database.script("INSERT INTO part_used VALUES (1, 2, 'buoy')")
    moved = database.contents()
    told = yeldro("restore", done["receipt"], "--yes", code=3).err
    assert "1 row of visit is referenced since by rows of part_used" in told
    assert database.contents() == moved
    database.script("DELETE FROM part_used WHERE part = 'buoy'")
    yeldro("restore", done["receipt"], "--yes")
    assert yeldro("receipt", "check", done["receipt"], "--json").json()["verdict"] == "all back"


def test_rows_that_a_moving_key_would_bring_together_block_or_go(yeldro, made) -> None:
    once = "visit_no INTEGER NOT NULL,\n        part VARCHAR(9) NOT NULL, UNIQUE (buoy_id, part),"
    database = made(VISITS.replace("visit_no INTEGER NOT NULL,\n        part VARCHAR(9) NOT NULL,",
                                   once))  # fmt: skip
    words = (*SAME_SERIAL, "--repoint", "--expect", "2")
    told = yeldro("plan", *words, db=database.url, code=3)
    assert "(buoy_id, part) would occur twice" in told.err
    assert "--follow part_used.buoy_id,visit_no" in told.err
    done = there_and_back(yeldro, database, *words, "--follow", "part_used", "--follow", "mark")
    assert sorted((s["action"], s["table"], s["affected"]) for s in done["steps"]) == [
        ("remove", "buoy", 2),
        ("remove", "mark", 1),
        ("remove", "part_used", 1),
        ("repoint", "mark", 1),
        ("repoint", "part_used", 1),
        ("repoint", "visit", 3),
    ]


def test_a_row_that_moves_to_the_key_of_one_that_went_makes_room_for_it_again(yeldro, made) -> None:
    database = made("""
        CREATE TABLE buoy (id INTEGER PRIMARY KEY, serial VARCHAR(9));
        CREATE TABLE visit (id INTEGER PRIMARY KEY, buoy_id INTEGER, no INTEGER,
            UNIQUE (buoy_id, no), FOREIGN KEY (buoy_id) REFERENCES buoy (id));
        CREATE TABLE tag (buoy_id INTEGER, label VARCHAR(9), visit_id INTEGER,
            PRIMARY KEY (buoy_id, label), FOREIGN KEY (buoy_id) REFERENCES buoy (id),
            FOREIGN KEY (visit_id) REFERENCES visit (id) ON DELETE CASCADE);
        CREATE TABLE mark (id INTEGER PRIMARY KEY, buoy_id INTEGER, label VARCHAR(9),
            FOREIGN KEY (buoy_id, label) REFERENCES tag (buoy_id, label) ON DELETE CASCADE);
        INSERT INTO buoy VALUES (1, 'a'), (2, 'a');
        INSERT INTO visit VALUES (10, 1, 1), (20, 2, 1);
        INSERT INTO tag VALUES (1, 'x', 20), (2, 'x', NULL), (1, 'y', NULL);
        INSERT INTO mark VALUES (1, 1, 'x'), (2, 2, 'x');
    """)
    words = (*SAME_SERIAL, "--repoint", "--follow", "visit", "--expect", "1")
    there_and_back(yeldro, database, *words)
    yeldro("run", *words, "--yes", db=database.url)
    assert database.rows("SELECT * FROM tag ORDER BY 2") == [(1, "x", None), (1, "y", None)]
    assert database.rows("SELECT * FROM mark") == [(2, 1, "x")]


def test_of_rows_that_would_be_there_twice_the_one_that_is_there_already_stays(
    yeldro, made
) -> None:
    database = made("""
        CREATE TABLE buoy (id INTEGER PRIMARY KEY, serial VARCHAR(9));
        CREATE TABLE tag (buoy_id INTEGER, label VARCHAR(9), near_id INTEGER,
            PRIMARY KEY (buoy_id, label), FOREIGN KEY (buoy_id) REFERENCES buoy (id),
            FOREIGN KEY (near_id) REFERENCES buoy (id));
        INSERT INTO buoy VALUES (1, 'a'), (2, 'a');
        INSERT INTO tag VALUES (1, 'x', NULL), (2, 'x', 1);
    """)
    words = ("buoy", "--duplicates-by", "serial", "--keep", "highest:id", "--repoint", "--follow",
             "tag.buoy_id", "--expect", "1")  # fmt: skip
    there_and_back(yeldro, database, *words)
    yeldro("run", *words, "--yes", db=database.url)
    assert database.rows("SELECT * FROM tag") == [(2, "x", 2)]


def test_a_row_whose_only_rival_goes_itself_stays(yeldro, made) -> None:
    """On random rows with two unique keys each row is settled against those that stay."""
    database = made("""
        CREATE TABLE buoy (id INTEGER PRIMARY KEY, serial VARCHAR(9));
        CREATE TABLE tag (id INTEGER PRIMARY KEY, buoy_id INTEGER, a INTEGER, b INTEGER,
            UNIQUE (buoy_id, a), UNIQUE (buoy_id, b), FOREIGN KEY (buoy_id) REFERENCES buoy (id));
        INSERT INTO buoy VALUES (1, 's'), (2, 's'), (3, 's'), (4, 't'), (5, 't');
    """)
    for seed in range(12):
        chance = random.Random(seed)
        rows = [(1, 1, 9, 1), (2, 2, 9, 8), (3, 3, 10, 8)]
        taken: set[tuple[Any, ...]] = set()
        if seed:
            rows = []
        for n in range(1, 12) if seed else ():
            buoy, a, b = chance.randint(1, 5), chance.choice([None, 1, 2, 3]), chance.randint(1, 3)
            if not {(buoy, "a", a), (buoy, "b", b)} & taken:
                taken |= {(buoy, "a", a or f"none {n}"), (buoy, "b", b)}
                rows.append((n, buoy, a, b))
        written = ", ".join(str(row).replace("None", "NULL") for row in rows)
        database.script(f"DELETE FROM tag; INSERT INTO tag VALUES {written}")
        kept = {1: 1, 2: 1, 3: 1, 4: 4, 5: 4}
        stay: list[tuple[Any, ...]] = []
        for n, buoy, a, b in sorted(rows, key=lambda row: (kept[row[1]] != row[1], row[0])):
            near = [other for other in stay if other[1] == kept[buoy]]
            if not any(other[3] == b or (a is not None and other[2] == a) for other in near):
                stay.append((n, kept[buoy], a, b))
        words = (*SAME_SERIAL, "--repoint", "--follow", "tag", "--expect", "3")
        before = database.contents()
        yeldro("run", *words, "--yes", db=database.url)
        assert sorted(database.rows("SELECT * FROM tag")) == sorted(stay), seed
        yeldro("restore", "last", "--yes")
        assert database.contents() == before, seed


def test_a_key_of_which_only_a_part_is_referenced_does_not_move(yeldro, made) -> None:
    database = made("""
        CREATE TABLE buoy (id INTEGER NOT NULL, kind INTEGER NOT NULL, serial VARCHAR(9),
            PRIMARY KEY (id, kind));
        CREATE TABLE visit (buoy_id INTEGER, kind INTEGER, no INTEGER, UNIQUE (buoy_id, no),
            FOREIGN KEY (buoy_id, kind) REFERENCES buoy (id, kind));
        CREATE TABLE mark (id INTEGER PRIMARY KEY, buoy_id INTEGER, no INTEGER,
            FOREIGN KEY (buoy_id, no) REFERENCES visit (buoy_id, no));
        INSERT INTO buoy VALUES (1, 1, 'a'), (2, 1, 'a');
        INSERT INTO visit VALUES (2, 1, 7);
        INSERT INTO mark VALUES (1, 2, 7);
    """)
    words = ("plan", "buoy", "--duplicates-by", "serial", "--repoint")
    told = yeldro(*words, db=database.url, code=3).err
    assert "mark.buoy_id,no references the columns that would change" in told
    assert "No option helps here" in told


def test_a_blocked_move_names_the_key_by_which_the_rows_would_move(yeldro, made) -> None:
    database = made("""
        CREATE TABLE buoy (id INTEGER PRIMARY KEY, serial VARCHAR(9));
        CREATE TABLE sr (id INTEGER PRIMARY KEY, up INTEGER, peer INTEGER, UNIQUE (peer),
            FOREIGN KEY (up) REFERENCES buoy (id), FOREIGN KEY (peer) REFERENCES buoy (id));
        INSERT INTO buoy VALUES (1, 'a'), (2, 'a');
        INSERT INTO sr VALUES (1, NULL, 1), (2, NULL, 2), (3, 2, NULL);
    """)
    told = yeldro("plan", *SAME_SERIAL, "--repoint", db=database.url, code=3).err
    assert "Add --follow sr.peer or --detach sr.peer" in told


def test_moved_references_do_not_take_more_rows_of_the_duplicates_table(yeldro, made) -> None:
    database = made(f"""{NETWORK}
        ALTER TABLE buoy ADD COLUMN tag_buoy INTEGER;
        ALTER TABLE buoy ADD COLUMN tag_label VARCHAR(9);
    """)
    cascade = "FOREIGN KEY (tag_buoy, tag_label) REFERENCES tag (buoy_id, label) ON DELETE CASCADE"
    if isinstance(database, SqliteFile):
        database.script(f"""
            CREATE TABLE built (id INTEGER PRIMARY KEY, serial VARCHAR(9),
                near_id INTEGER REFERENCES buoy (id), tag_buoy INTEGER, tag_label VARCHAR(9),
                {cascade});
            INSERT INTO built SELECT * FROM buoy; DROP TABLE buoy;
            ALTER TABLE built RENAME TO buoy;
        """)
    else:
        database.script(f"ALTER TABLE buoy ADD {cascade}")
    words = (*SAME_SERIAL, "--repoint", "--follow", "tag", "--expect", "3")
    database.script("UPDATE buoy SET tag_buoy = 2, tag_label = 'x' WHERE id = 3")
    before = database.contents()
    there_and_back(yeldro, database, *words)  # buoy 3 and its tag go together
    assert database.contents() == before
    database.script("UPDATE buoy SET tag_buoy = 2, tag_label = 'x' WHERE id = 6")
    refused = yeldro("run", *words, "--yes", db=database.url, code=3).err
    assert "1 of buoy (buoy.tag_buoy" in refused
    assert "no row to be moved to). Add --detach buoy.tag_buoy,tag_label, or leave out" in refused
    words = (*words, "--detach", "buoy.tag_buoy,tag_label")
    assert yeldro("plan", *words, db=database.url).code == 0
    there_and_back(yeldro, database, *words)


def test_repointing_needs_duplicates_and_a_detached_link_is_not_moved(yeldro, made) -> None:
    database = made(NETWORK)
    told = yeldro("plan", "buoy", "--where", "id = 1", "--repoint", db=database.url, code=2).err
    assert "--duplicates-by" in told
    words = (*SAME_SERIAL, "--repoint", "--follow", "tag", "--detach", "alert", "--expect", "3")
    done = there_and_back(yeldro, database, *words)
    assert ("detach", "alert") in {(step["action"], step["table"]) for step in done["steps"]}


def test_what_repeats_is_found_without_naming_columns(yeldro, network) -> None:
    found = yeldro("duplicates", "raw_upload", "--json", db=network.url).json()
    assert (found["rows"], found["looked_at"]) == (330, 330)
    repeats = {(each["what"], tuple(each["by"])): each["removable"] for each in found["repeats"]}
    assert repeats["whole rows", ("received_at", "serial", "line")] == 30
    assert repeats["all but generated keys and times", ("serial", "line")] == 30
    assert repeats["nearly unique", ("line",)] == 30
    for each in found["repeats"]:
        by = ("raw_upload", "--by", ",".join(each["by"]))
        counted = yeldro("duplicates", *by, "--json", db=network.url).json()
        assert counted["removable"] == each["removable"]
    assert "No whole rows repeat" in yeldro("duplicates", "buoy", db=network.url).out
    told = yeldro("duplicates", "buoy", "--keep", "fullest", db=network.url, code=2).err
    assert "--by" in told


def test_what_is_proposed_is_what_was_likely_entered_twice(yeldro, made) -> None:
    """People under other spellings, beside days and places that repeat by chance."""
    database = made(lending.script())
    found = yeldro("duplicates", "member", "--json", db=database.url).json()["repeats"]
    tried = {tuple(each["by"]) for each in found}
    assert ("name", "born") in tried
    assert ("name", "branch_id") not in tried
    told = yeldro("duplicates", "member", db=database.url).out
    assert "--by name,born" in told.splitlines()[-1]
    database.script(
        "UPDATE member SET name = upper(name) WHERE id > 65; UPDATE member SET phone = NULL;"
    )
    found = yeldro("duplicates", "member", "--json", db=database.url).json()["repeats"]
    told = yeldro("duplicates", "member", db=database.url).out
    if any("lower" in each for one in found for each in one["by"]):
        assert "lower(" in told.splitlines()[-1]
    else:  # the system compares text without case
        assert "name,born" in told.splitlines()[-1]


def test_a_large_table_is_searched_in_part(tmp_path: Path) -> None:
    database = SqliteFile(tmp_path / "made.db")
    database.script("CREATE TABLE sample (id INTEGER PRIMARY KEY, a, b);")
    connection = database.connect()
    connection.executemany("INSERT INTO sample VALUES (?, ?, ?)", ((n, n, 1) for n in range(500)))
    connection.execute("INSERT INTO sample VALUES (500, 7, 1), (501, 499, 1)")
    connection.close()
    with open_database(database.url).reading() as session:
        found = search_repeats(session, "sample", EqualityRules(), most_rows=501)
    assert (found.rows, found.looked_at) == (502, 501)
    assert [(each.columns, each.removable) for each in found.found] == [
        (("a", "b"), 1),
        (("a",), 1),
    ]


def test_copies_without_any_key_go_but_for_one_on_every_system(yeldro, network) -> None:
    copies = network.value("SELECT count(*) FROM raw_upload") - network.value(
        "SELECT count(*) FROM (SELECT DISTINCT received_at, serial, line FROM raw_upload) AS d"
    )
    words = ("raw_upload", "--duplicates-by", "received_at,serial,line")
    assert copies == 30
    done = there_and_back(yeldro, network, *words, "--expect", str(copies))
    assert done["total"] == copies


def test_what_cannot_be_compared_is_said_and_numbers_that_are_not_exact_are_warned_of(
    yeldro, made
) -> None:
    database = made("""
        CREATE TABLE sample (id INTEGER PRIMARY KEY, depth REAL, doc JSON);
        INSERT INTO sample VALUES (1, 0.1, '{"a": 1}'), (2, 0.1, '{"a": 1}'), (3, 0.2, NULL);
    """)
    words = ("duplicates", "sample", "--by", "doc", "--json")
    if database.url.startswith("postgresql"):
        assert "--as-text" in yeldro(*words, db=database.url, code=2).err
    found = yeldro(*words, "--as-text", db=database.url).json()
    assert (found["removable"], found["warnings"]) == (1, [])
    run_words = ("sample", "--duplicates-by", "doc", "--as-text", "--expect", "1")
    there_and_back(yeldro, database, *run_words)
    by_depth = yeldro("plan", "sample", "--duplicates-by", "depth", "--json", db=database.url)
    exact = [each for each in by_depth.one()["warnings"] if "to the last bit" in each]
    assert exact or database.url.startswith("mariadb")
    told = yeldro("plan", "sample", "--where", "id = 1", "--trim", db=database.url, code=2).err
    assert "--duplicates-by" in told


def noted(monkeypatch, owner: Any, name: str) -> list[Any]:
    """What a function will have returned, call by call."""
    function, told = getattr(owner, name), []

    def noting(*arguments: Any) -> Any:
        told.append(function(*arguments))
        return told[-1]

    monkeypatch.setattr(owner, name, noting)
    return told


HELPERS = {
    "helps": None,
    "fails": "raise SystemExit(1)",
    "ends early": "import sys; sys.stdout.buffer.write(bytes(24)); raise SystemExit(1)",
    "is stopped": "import time; time.sleep(60)",
}


@pytest.mark.parametrize(
    ("helper", "keep", "pairs"),
    [("helps", keep, pairs) for keep in ("lowest", "highest", "without a key")
     for pairs in (True, False)]
    + [(helper, "lowest", True) for helper in HELPERS if helper != "helps"],
)  # fmt: skip
def test_a_second_process_finds_its_part_of_the_duplicates_or_is_done_without(
    tmp_path: Path, monkeypatch, helper, keep, pairs
) -> None:
    chance, keyed = random.Random(f"{helper}{keep}{pairs}"), keep != "without a key"
    answers = noted(monkeypatch, sqlite_surplus._Helper, "has_answered")
    looks = noted(monkeypatch, sqlite_surplus, "look")
    if program := HELPERS[helper]:
        (tmp_path / "helper.py").write_text(program)
        monkeypatch.setattr(sqlite_surplus, "_HELPER", tmp_path / "helper.py")
    values = [None, 1, 1.0, 2, "1", "x", "X", " x", b"x", "ä", "Ä", -(2**63), 2**63 - 1]
    if pairs:
        monkeypatch.setattr(sqlite_groups, "_FEW", 1)
        values += [x for n in range(150) for x in (n, str(n), f"x{n}")]
        ids = chance.sample(range(1, 10**9), 600)
    else:
        ids = [*chance.sample(range(-(10**6), 10**6), 300), 2**63 - 1, -(2**63)]
    rows = {n: (chance.choice("ab"), chance.choice(values)) for n in ids}
    database = SqliteFile(tmp_path / "made.db")
    database.script(
        f"""CREATE TABLE "100% of" ({"id INTEGER PRIMARY KEY, " if keyed else ""}
            "a b" TEXT COLLATE NOCASE, seen)"""
    )
    connection = database.connect()
    connection.execute("BEGIN")
    connection.executemany(
        """INSERT INTO "100% of" (rowid, "a b", seen) VALUES (?, ?, ?)""",
        ((n, *row) for n, row in rows.items()),
    )
    connection.execute("COMMIT")
    connection.close()
    groups: dict[tuple[Any, ...], list[int]] = {}
    for n in sorted(rows, reverse=keep == "highest"):
        groups.setdefault(rows[n], []).append(n)
    stay = {same[0] for same in groups.values()}
    before = database.contents()
    opened = open_database(database.url)
    opened.limit_statements(1 if helper == "is stopped" else 60)
    rules = (KeepRule(keep, "ID"), KeepRule("fullest")) if keyed else ()
    selection = Selection("100% of", duplicates_by=("a b", "seen"), keep=rules)
    planned = plan(opened, Job.of(Cleanup(selection)))
    done = run(opened, Job.of(Cleanup(selection)), ReceiptOptions(tmp_path), 1)
    assert {n for (n,) in database.rows("""SELECT rowid FROM "100% of" """)} == stay
    assert done.tally.total == planned.plans[0].total == len(rows) - len(groups)
    assert answers == [helper == "helps"]
    assert {seen.groups.weight is not None for seen in looks} == {pairs}
    back_and_forth(opened, done.receipt, database.contents)
    assert database.contents() == before


@pytest.mark.parametrize(
    ("copies", "close", "shift", "by_pairs", "counted"),
    [
        (1, True, 0, True, 2),
        (2, True, 0, True, 1),
        (2, False, 0, True, 2),
        (3, True, 0, False, 1),
        (3, False, 0, False, 2),
        (2, True, 10**9, False, 0),
        (2, True, -90, False, 0),
    ],
)
def test_pairs_are_looked_for_first_where_a_part_of_the_table_has_few_larger_groups(
    tmp_path: Path, monkeypatch, copies, close, shift, by_pairs, counted
) -> None:
    rows = range(1, 60_001)
    groups = len(rows) // copies
    told = {n: (n - 1) // copies if close else (n - 1) % groups for n in rows}
    database = SqliteFile(tmp_path / "made.db")
    database.script("CREATE TABLE sample (id INTEGER PRIMARY KEY, taken)")
    connection = database.connect()
    connection.execute("BEGIN")
    values = ((n * 3 + shift, taken) for n, taken in told.items())
    connection.executemany("INSERT INTO sample VALUES (?, ?)", values)
    connection.execute("COMMIT")
    connection.close()
    counts = noted(monkeypatch, sqlite_groups.Groups, "sizes")
    table = sa.table("sample", sa.column("id"), sa.column("taken"))
    asked = sqlite_groups.Groups(table, table.c.id, (table.c.taken,), (), False)
    opened = open_database(database.url)
    with opened.reading() as session:
        lowest, highest = database.rows("SELECT min(id), max(id) FROM sample")[0]
        seen = sqlite_groups.look(session.connection, asked, lowest, highest)
        middle = session.connection.execute(sa.select(seen.middle)).scalar_one()
    assert (seen.groups.weight is not None) == by_pairs
    assert len(counts) == counted
    assert 0.45 < middle / groups < 0.55
    selection = Selection("sample", duplicates_by=("taken",))
    done = run(opened, Job.of(Cleanup(selection)), ReceiptOptions(tmp_path), 1)
    assert done.tally.total == len(rows) - groups
    first = {taken: n for n, taken in reversed(told.items())}
    assert {n for (n,) in database.rows("SELECT id FROM sample")} == {
        n * 3 + shift for n in first.values()
    }


@pytest.mark.parametrize("value", ["1", "NULL"])
def test_a_group_too_large_for_memory_is_numbered_row_by_row(
    tmp_path: Path, monkeypatch, value
) -> None:
    database = SqliteFile(tmp_path / "made.db")
    database.script(
        f"""CREATE TABLE sample (id INTEGER PRIMARY KEY, taken);
        WITH RECURSIVE n(n) AS (SELECT 1 UNION ALL SELECT n + 1 FROM n WHERE n < 3000)
        INSERT INTO sample SELECT n * 30, CASE WHEN n % 3 THEN n ELSE {value} END FROM n"""
    )
    looks = noted(monkeypatch, sqlite_surplus, "look")
    opened = open_database(database.url)
    job = Job.of(Cleanup(Selection("sample", duplicates_by=("taken",))))
    assert plan(opened, job).plans[0].total == 999 + (value == "1")
    monkeypatch.setattr(sqlite_groups, "_LARGEST", 900)
    done = run(opened, job, ReceiptOptions(tmp_path), 1)
    assert [seen.too_large for seen in looks] == [False, True]
    assert done.tally.total == 999 + (value == "1")
    left = {n for (n,) in database.rows("SELECT id FROM sample")}
    assert left == {n * 30 for n in range(1, 3001) if n % 3 or (n == 3 and value == "NULL")}


def test_random_networks_keep_every_fact_about_a_group_once(
    made, tmp_path: Path, trials: Trials
) -> None:
    database = made(NETWORK.partition("INSERT")[0])
    for number in trials(3, 80):
        keep_every_fact(database, tmp_path, number)
        database.script("UPDATE buoy SET near_id = NULL; DELETE FROM seen; DELETE FROM tag;"
                        "DELETE FROM alert; DELETE FROM buoy;")  # fmt: skip


def keep_every_fact(database: AnyDatabase, folder: Path, seed: int) -> None:
    """What was true of any row of a group is true of its kept row afterwards, and nothing else."""
    chance = random.Random(seed)
    rows = chance.randint(1, 12)
    serial = {n: chance.choice("abcd") for n in range(1, rows + 1)}
    near = {n: chance.choice([None, *serial]) for n in serial}
    tags = {
        (chance.choice(list(serial)), chance.choice("xyz")) for _ in range(chance.randint(0, 20))
    }
    alerts = {n: chance.choice([None, *serial]) for n in range(chance.randint(0, 10))}
    nowhere = [(None, "x"), (1, None), (None, None)]
    seen = {n: chance.choice([*tags, *nowhere]) for n in range(chance.randint(0, 10))}
    first = {n: min(m for m in serial if serial[m] == serial[n]) for n in serial} | {None: None}
    filled: dict[str, list[tuple[Any, ...]]] = {
        "buoy": [(n, serial[n], near[n]) for n in serial],
        "tag": list(tags),
        "alert": list(alerts.items()),
        "seen": [(n, *seen[n]) for n in seen],
    }
    script = "SET foreign_key_checks = 0;" if database.url.startswith("mariadb") else ""
    for table, listed in filled.items():
        told = (", ".join("NULL" if v is None else repr(v) for v in row) for row in listed)
        script += f"INSERT INTO {table} VALUES ({'), ('.join(told)});" if listed else ""
    database.script(script)
    before = database.contents()
    opened = open_database(database.url)
    selection = Selection("buoy", duplicates_by=("serial",), keep=(KeepRule("lowest", "id"),))
    blocked = plan(opened, Job.of(Cleanup(selection, Choices(repoint=True)))).plans[0].blocked
    moved = Counter((first[buoy], label) for buoy, label in tags)
    assert bool(blocked) == any(times > 1 for times in moved.values()), seed
    job = Job.of(Cleanup(selection, Choices(follow=("tag", "seen"), repoint=True)))
    done = run(opened, job, ReceiptOptions(folder), 1)
    assert set(database.rows("SELECT id, near_id FROM buoy")) == {
        (n, first[near[n]]) for n in serial if first[n] == n
    }, seed
    assert set(database.rows("SELECT * FROM tag")) == set(moved), seed
    assert dict(database.rows("SELECT * FROM alert")) == {n: first[b] for n, b in alerts.items()}
    stays = {min((b, label) for b, label in tags if (first[b], label) == tag) for tag in moved}
    assert {row[0]: row[1:] for row in database.rows("SELECT * FROM seen")} == {
        n: (first[tag[0]], tag[1]) if tag in tags else tag
        for n, tag in seen.items()
        if tag in stays or tag not in tags
    }, seed
    if done.receipt:
        back_and_forth(opened, done.receipt, database.contents)
        assert database.contents() == before, seed


def test_text_without_case_is_narrowed_by_a_condition(
    yeldro: Yeldro, made: Callable[[str], AnyDatabase]
) -> None:
    """The rows left of a group may be written otherwise than those that went."""
    database = made("CREATE TABLE t (id INTEGER PRIMARY KEY)")
    blind = "COLLATE NOCASE" if isinstance(database, SqliteFile) else ""
    database.script(f"DROP TABLE t; CREATE TABLE t (id INTEGER PRIMARY KEY, a VARCHAR(9) {blind});"
                    "INSERT INTO t VALUES (1, 'x'), (2, 'X'), (3, 'x'), (4, 'y'), (5, NULL),"
                    " (6, NULL)")  # fmt: skip
    told_apart = database.url.startswith("postgresql")
    words = ("t", "--duplicates-by", "a", "--where", "id > 0")
    going = "2" if told_apart else "3"
    there_and_back(yeldro, database, *words, "--expect", going)
    yeldro("run", *words, "--expect", going, "--yes", db=database.url)
    left = [row[0] for row in database.rows("SELECT id FROM t ORDER BY id")]
    assert left == ([1, 2, 4, 5] if told_apart else [1, 4, 5])
