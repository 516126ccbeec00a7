"""What happens to dependent rows: as declared, or as the user says; the most exact word counts."""

from __future__ import annotations

import pytest
from conftest import Yeldro, there_and_back
from systems import AnyDatabase

HARBOUR = """
    CREATE TABLE quay (id INTEGER PRIMARY KEY, name TEXT);
    CREATE TABLE boat (id INTEGER PRIMARY KEY,
        quay_id INTEGER DEFAULT 1 REFERENCES quay (id) ON DELETE SET DEFAULT,
        home_id INTEGER REFERENCES quay (id),
        spare_id INTEGER NOT NULL REFERENCES quay (id) ON DELETE SET NULL);
    CREATE TABLE berth (row_no INTEGER, place INTEGER, quay_id INTEGER REFERENCES quay (id)
        ON DELETE CASCADE, PRIMARY KEY (row_no, place));
    CREATE TABLE rope (id INTEGER PRIMARY KEY, row_no INTEGER, place INTEGER,
        FOREIGN KEY (row_no, place) REFERENCES berth (row_no, place) ON DELETE RESTRICT);
    INSERT INTO quay VALUES (1, 'first'), (2, 'second'), (3, 'third');
    INSERT INTO boat VALUES (10, 2, 3, 3), (11, 3, 2, 3), (12, 2, NULL, 3);
    INSERT INTO berth VALUES (1, 1, 2), (1, 2, 2), (2, 1, 3);
    INSERT INTO rope VALUES (100, 1, 1), (101, 1, NULL), (102, NULL, 2), (103, 2, 1);
"""


IN_MARIADB = HARBOUR.replace("SET DEFAULT", "SET NULL").replace(
    "NOT NULL REFERENCES quay (id) ON DELETE SET NULL", "NOT NULL REFERENCES quay (id)"
)


@pytest.fixture
def harbour(made, request: pytest.FixtureRequest) -> AnyDatabase:
    return made(IN_MARIADB if "mariadb" in request.node.name else HARBOUR)


def ripple(yeldro: Yeldro, harbour: AnyDatabase, *words: str) -> dict[str, str]:
    """What would happen through each foreign key."""
    found = yeldro("preview", "quay", *words, "--json", db=harbour.url).one()["ripple"]
    return {line["foreign_key"].split(" ")[0]: line["fate"] for line in found}


def test_each_declared_action_is_kept_and_partly_null_keys_depend_on_nothing(
    yeldro, harbour
) -> None:
    assert ripple(yeldro, harbour, "--where", "id = 2") == {
        "boat.quay_id": "detached",
        "boat.home_id": "blocks",
        "berth.quay_id": "removed",
        "rope.row_no,place": "blocks",
    }
    blocked = yeldro("plan", "quay", "--where", "id = 2", "--json", db=harbour.url, code=3).one()
    assert {each["foreign_key"].split(" ")[0]: each["rows"] for each in blocked["blocked"]} == {
        "boat.home_id": 1,
        "rope.row_no,place": 1,
    }
    remedies = {each["table"]: each["remedies"] for each in blocked["blocked"]}
    assert remedies["boat"] == ["--follow boat.home_id", "--detach boat.home_id"]


@pytest.mark.parametrize("made", ["sqlite", "postgresql"], indirect=True)
def test_a_default_is_taken_where_its_parent_stays_and_blocks_elsewhere(yeldro, harbour) -> None:
    before = harbour.contents()
    words = ("quay", "--where", "id = 2", "--detach", "boat.home_id", "--follow", "rope")
    yeldro("run", *words, "--expect", "total=7", "--yes", db=harbour.url)
    assert harbour.rows("SELECT id, quay_id, home_id FROM boat ORDER BY id") == [
        (10, 1, 3),
        (11, 3, None),
        (12, 1, None),
    ]
    assert harbour.rows("SELECT id FROM rope ORDER BY id") == [(101,), (102,), (103,)]
    yeldro("restore", "last", "--yes")
    assert harbour.contents() == before
    both = ("plan", "quay", "--where", "id <= 2", "--follow", "rope", "--detach", "boat.home_id")
    found = yeldro(*both, "--json", db=harbour.url, code=3)
    assert "the default of boat.quay_id references no row that stays" in found.err


@pytest.mark.parametrize("made", ["sqlite", "postgresql"], indirect=True)
@pytest.mark.parametrize(
    ("default", "fixed"),
    [("0", True), ("'1'", True), ("NULL", True), ("(1 - 1)", True), ("(abs(random() * 0))", False)],
)
def test_a_default_that_is_computed_anew_for_each_row_is_not_taken(
    yeldro, made, default: str, fixed: bool
) -> None:
    database = made(f"""
        CREATE TABLE quay (id INTEGER PRIMARY KEY);
        CREATE TABLE boat (id INTEGER PRIMARY KEY,
            quay_id INTEGER DEFAULT {default} REFERENCES quay (id) ON DELETE SET DEFAULT);
        INSERT INTO quay VALUES (0), (1), (2); INSERT INTO boat VALUES (1, 2), (2, 2);
    """)
    if fixed:
        there_and_back(yeldro, database, "quay", "--where", "id = 2", "--expect", "1")
        return
    before = database.contents()
    words = ("run", "quay", "--where", "id = 2", "--expect", "1", "--yes")
    told = yeldro(*words, db=database.url, code=3).err
    assert "the default of boat.quay_id is computed anew for each row" in told
    assert database.contents() == before


@pytest.mark.parametrize("made", ["postgresql"], indirect=True)
def test_a_default_for_some_columns_of_a_key_is_held_against_what_the_others_keep(
    yeldro, made
) -> None:
    database = made("""
        CREATE TABLE quay (port INTEGER, n INTEGER, PRIMARY KEY (port, n));
        CREATE TABLE boat (id INTEGER PRIMARY KEY, port INTEGER DEFAULT 5, n INTEGER DEFAULT 0,
            FOREIGN KEY (port, n) REFERENCES quay ON DELETE SET DEFAULT (n));
        INSERT INTO quay VALUES (1, 0), (1, 1), (2, 1), (5, 0);
        INSERT INTO boat VALUES (1, 1, 1), (2, 2, 1);
    """)
    there_and_back(yeldro, database, "quay", "--where", "port = 1 AND n = 1", "--expect", "1")
    refused = yeldro("plan", "quay", "--where", "port = 2", db=database.url, code=3)
    assert "references no row that stays" in refused.err


@pytest.mark.parametrize("made", ["sqlite", "postgresql"], indirect=True)
def test_set_null_on_a_column_that_accepts_none_blocks(yeldro, harbour) -> None:
    found = yeldro("plan", "quay", "--where", "id = 3", "--follow", "rope", "--detach",
                   "boat.home_id", db=harbour.url, code=3)  # fmt: skip
    assert "boat.spare_id does not accept NULL" in found.err
    assert "--follow boat.spare_id" in found.err
    assert "--detach boat.spare_id" not in found.err


@pytest.mark.parametrize(
    ("words", "treatment", "reason"),
    [
        (("--follow", "boat"), "removed", "--follow boat"),
        (("--follow", "all", "--detach", "boat.home_id"), "detached", "--detach boat.home_id"),
        (("--detach", "boat.home_id", "--follow", "boat"), "detached", "--detach boat.home_id"),
        (("--detach", "boat.quay_id", "--follow", "all"), "removed", "--follow all"),
        (("--follow", "BOAT.Home_Id"), "removed", "--follow BOAT.Home_Id"),
    ],
)
def test_a_foreign_key_speaks_before_a_table_and_a_table_before_all(
    yeldro, harbour, words, treatment, reason
) -> None:
    harbour.script("DROP TABLE rope; UPDATE berth SET quay_id = 1; UPDATE boat SET spare_id = 1")
    found = yeldro("preview", "quay", "--where", "id = 2", *words, "--json", db=harbour.url).one()
    by_key = {line["foreign_key"].split(" ")[0]: line for line in found["ripple"]}
    assert (by_key["boat.home_id"]["fate"], by_key["boat.home_id"]["reason"]) == (
        treatment,
        reason,
    )


def test_a_row_detached_on_one_path_and_removed_on_another_is_removed(yeldro, harbour) -> None:
    before = harbour.contents()
    words = ("quay", "--where", "id = 3", "--follow", "boat.spare_id", "--follow", "rope",
             "--detach", "boat.home_id")  # fmt: skip
    done = yeldro("run", *words, "--expect", "1", "--yes", "--json", db=harbour.url).one()
    assert {(step["action"], step["table"]): step["rows"] for step in done["steps"]} == {
        ("remove", "boat"): 3,
        ("remove", "rope"): 1,
        ("remove", "berth"): 1,
        ("remove", "quay"): 1,
    }
    yeldro("restore", "last", "--yes")
    assert harbour.contents() == before


def test_rows_without_a_key_that_become_equal_get_their_links_back(yeldro, made) -> None:
    """Nothing tells them apart, so it does not matter which of them gets which link."""
    database = made("""
        CREATE TABLE mast (id INTEGER PRIMARY KEY);
        CREATE TABLE heap (mast_id INTEGER REFERENCES mast (id) ON DELETE SET NULL,
            note VARCHAR(9), level INTEGER);
        INSERT INTO mast VALUES (1), (2), (3);
        INSERT INTO heap VALUES (1, 'x', 1), (2, 'x', 1), (2, 'x', 1), (1, 'y', NULL), (3, 'z', 1),
            (NULL, 'x', 1), (NULL, NULL, NULL), (2, NULL, NULL), (1, 'w', 2);
    """)
    words = ("mast", "--where", "id < 3", "--expect", "2", "--expect", "heap=6")
    there_and_back(yeldro, database, *words)


def test_a_name_that_leads_nowhere_is_warned_of(yeldro, harbour) -> None:
    words = ("plan", "rope", "--where", "id = 100", "--follow", "boat", "--json")
    (warning,) = yeldro(*words, db=harbour.url).one()["warnings"]
    assert "--follow boat has no effect" in warning


def test_a_detached_column_that_others_reference_blocks(yeldro, made) -> None:
    database = made("""
        CREATE TABLE a (id INTEGER PRIMARY KEY);
        CREATE TABLE b (id INTEGER PRIMARY KEY,
            a_id INTEGER UNIQUE REFERENCES a (id) ON DELETE SET NULL);
        CREATE TABLE c (id INTEGER PRIMARY KEY, b_a INTEGER REFERENCES b (a_id));
        INSERT INTO a VALUES (1), (2); INSERT INTO b VALUES (1, 1), (2, 2);
        INSERT INTO c VALUES (1, 1);
    """)
    assert (
        "c.b_a references" in yeldro("plan", "a", "--where", "id = 1", db=database.url, code=3).err
    )
    yeldro("run", "a", "--where", "id = 2", "--expect", "total=2", "--yes", db=database.url)
    assert database.rows("SELECT * FROM b ORDER BY id") == [(1, 1), (2, None)]


COMPUTED = """
    CREATE TABLE mast (id INTEGER PRIMARY KEY, kind VARCHAR(9));
    CREATE TABLE lamp (id INTEGER PRIMARY KEY, mast_id INTEGER,
        code INTEGER GENERATED ALWAYS AS (mast_id * 10) STORED, UNIQUE (code),
        FOREIGN KEY (mast_id) REFERENCES mast (id));
    CREATE TABLE note (id INTEGER PRIMARY KEY, code INTEGER,
        FOREIGN KEY (code) REFERENCES lamp (code));
    CREATE TABLE bell (id INTEGER PRIMARY KEY, mast_id INTEGER,
        code INTEGER GENERATED ALWAYS AS (mast_id * 10) STORED,
        FOREIGN KEY (code) REFERENCES lamp (code), FOREIGN KEY (mast_id) REFERENCES mast (id));
    CREATE TABLE horn (id INTEGER PRIMARY KEY, old_id INTEGER,
        mast_id INTEGER GENERATED ALWAYS AS (old_id) STORED,
        FOREIGN KEY (mast_id) REFERENCES mast (id));
    INSERT INTO mast VALUES (1, 'a'), (2, 'a'), (3, 'b'), (4, 'b'), (5, 'c'), (6, 'c');
    INSERT INTO lamp (id, mast_id) VALUES (2, 2), (4, 4), (5, 5);
    INSERT INTO note VALUES (2, 20), (5, NULL);
    INSERT INTO bell (id, mast_id) VALUES (4, 4);
    INSERT INTO horn (id, old_id) VALUES (6, 6);
"""


@pytest.mark.parametrize(
    ("row", "words", "why"),
    [
        (2, ("--detach", "lamp"), "note.code references the columns that would change"),
        (
            4,
            ("--detach", "lamp", "--detach", "bell.mast_id"),
            "bell.code would change too: code is computed from them",
        ),
        (6, ("--detach", "horn"), "horn.mast_id is computed by the database"),
        (2, ("--repoint",), "note.code references the columns that would change"),
        (4, ("--repoint",), "bell.code would change too: code is computed from them"),
        (6, ("--repoint",), "horn.mast_id is computed by the database"),
    ],
)
def test_what_the_database_computes_is_never_changed_along(yeldro, made, row, words, why) -> None:
    database = made(COMPUTED)
    before = database.contents()
    if words == ("--repoint",):
        words = ("--duplicates-by", "kind", "--keep", "lowest:id", *words)
    words = ("mast", "--where", f"id = {row}", *words, "--expect", "1", "--yes")
    assert why in yeldro("run", *words, db=database.url, code=3).err
    assert database.contents() == before


def test_a_generated_column_that_nobody_references_changes_with_its_row(yeldro, made) -> None:
    database = made(COMPUTED)
    there_and_back(yeldro, database, "mast", "--where", "id = 5",
                   "--detach", "lamp.mast_id", "--expect", "1")  # fmt: skip


@pytest.mark.parametrize("made", ["postgresql", "sqlite"], indirect=True)
def test_a_name_means_what_is_spelled_so_and_nothing_alike(yeldro, made) -> None:
    """PostgreSQL tells names apart by case, SQLite those of letters beyond A to Z."""
    database = made("""
        CREATE TABLE mast (id INTEGER PRIMARY KEY);
        CREATE TABLE "bÖje" (id INTEGER PRIMARY KEY, mast_id INTEGER REFERENCES mast (id));
        CREATE TABLE "böje" (id INTEGER PRIMARY KEY, mast_id INTEGER REFERENCES mast (id));
        INSERT INTO mast VALUES (1);
        INSERT INTO "bÖje" VALUES (1, 1); INSERT INTO "böje" VALUES (1, 1);
    """)
    for followed, left in (("bÖje", "böje"), ("böje", "bÖje"), ("böje.mast_id", "bÖje")):
        words = ("plan", "mast", "--where", "id = 1", "--follow", followed, "--json")
        found = yeldro(*words, db=database.url, code=3).err
        assert f"1 of {left} ({left}.mast_id" in found
        assert f"of {followed.partition('.')[0]} (" not in found


@pytest.mark.parametrize("made", ["postgresql"], indirect=True)
def test_a_visible_table_is_meant_before_one_of_another_schema(yeldro, made) -> None:
    database = made("""
        CREATE SCHEMA other;
        CREATE TABLE mast (id INTEGER PRIMARY KEY);
        CREATE TABLE lamp (id INTEGER PRIMARY KEY, mast_id INTEGER REFERENCES mast);
        CREATE TABLE other.lamp (id INTEGER PRIMARY KEY, mast_id INTEGER REFERENCES mast);
        INSERT INTO mast VALUES (1);
        INSERT INTO lamp VALUES (1, 1); INSERT INTO other.lamp VALUES (1, 1);
    """)
    words = ("plan", "mast", "--where", "id = 1", "--follow", "lamp", "--json")
    found = yeldro(*words, db=database.url, code=3).err
    assert "1 of other.lamp (other.lamp.mast_id" in found
    both = (*words, "--follow", "other.lamp")
    assert yeldro(*both, db=database.url).one()["total"] == 3


def test_all_is_a_name_of_no_foreign_keys_too(yeldro, made) -> None:
    """In a database without any foreign key there is nothing to follow, and nothing is wrong."""
    database = made("CREATE TABLE log (id INTEGER PRIMARY KEY); INSERT INTO log VALUES (1), (2);")
    words = ("plan", "log", "--where", "id = 1", "--follow", "all", "--json")
    plan = yeldro(*words, db=database.url).one()
    assert "--follow all has no effect: no foreign key references the rows" in plan["warnings"][0]
    assert plan["matched"] == 1
