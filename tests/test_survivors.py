"""Rows that stay are set aside and written back: nothing of them or around them changes."""

from __future__ import annotations

from collections.abc import Callable
from typing import Any

import psycopg
import pytest
from conftest import Yeldro, there_and_back
from hypothesis import given
from hypothesis import strategies as st
from systems import AnyDatabase, PostgresqlServerDatabase, SqliteFile

TWO = pytest.mark.parametrize("made", ["sqlite", "postgresql"], indirect=True)
ON_POSTGRESQL = pytest.mark.parametrize("made", ["postgresql"], indirect=True)
CABLES = """
    CREATE TABLE port (id INTEGER PRIMARY KEY);
    INSERT INTO port VALUES (1), (2);
    CREATE TABLE cable (id INTEGER PRIMARY KEY, name VARCHAR(20), size DOUBLE PRECISION,
                        twice INTEGER GENERATED ALWAYS AS (id * 2) STORED,
                        port_id INTEGER REFERENCES port (id), at_id INTEGER REFERENCES cable (id));
    CREATE UNIQUE INDEX cable_name ON cable (name);
    INSERT INTO cable (id, name, size, port_id, at_id) VALUES
        (1, 'a', 0.1, 1, 1), (2, 'b', NULL, NULL, 1), (3, NULL, 1e300, 2, 3), (4, 'd', 4, 1, 3),
        (5, 'e', 5, 2, 5), (9, 'Z', -1.5, 1, NULL);
"""
WORDS = ("run", "cable", "--keep-survivors", "--yes")


@TWO
def test_the_rows_that_stay_are_as_they_were_and_the_others_come_back(
    yeldro: Yeldro, made: Callable[[str], AnyDatabase]
) -> None:
    database = made(CABLES)
    before = database.rows("SELECT * FROM cable WHERE id > 4 ORDER BY id")
    words = ("cable", "--where", "id < 5", "--keep-survivors", "--expect", "4")
    there_and_back(yeldro, database, *words)
    yeldro("run", *words, "--yes", db=database.url)
    assert database.rows("SELECT * FROM cable ORDER BY id") == before
    database.script("INSERT INTO cable (id, name, port_id) VALUES (10, 'b', 2)")
    assert database.value("SELECT twice FROM cable WHERE name = 'b'") == 20


@TWO
def test_another_number_leaves_everything_as_it_is(
    yeldro: Yeldro, made: Callable[[str], AnyDatabase]
) -> None:
    database = made(CABLES)
    before = database.contents()
    refused = yeldro(*WORDS, "--where", "id < 5", "--expect", "3", db=database.url, code=4).err
    assert "expected 3, would be 4" in refused
    assert database.contents() == before
    for trigger in TRIGGERS[type(database)]:
        database.script(trigger)
    before = database.contents()
    refused = yeldro(*WORDS, "--where", "id < 5", "--expect", "4", db=database.url, code=3).err
    assert "its trigger noted would not run" in refused
    assert "Drop --keep-survivors" in refused
    assert database.contents() == before
    assert not list(yeldro.receipts.glob("*"))


TRIGGERS: dict[type, list[str]] = {
    SqliteFile: ["CREATE TRIGGER noted AFTER INSERT ON cable BEGIN SELECT 1; END"],
    PostgresqlServerDatabase: [
        "CREATE FUNCTION nothing() RETURNS trigger LANGUAGE plpgsql AS 'BEGIN RETURN NEW; END'",
        "CREATE TRIGGER noted BEFORE INSERT ON cable FOR EACH ROW EXECUTE FUNCTION nothing()",
    ],
}


@TWO
def test_duplicates_are_removed_and_the_kept_rows_written_back(
    yeldro: Yeldro, made: Callable[[str], AnyDatabase]
) -> None:
    database = made(
        "CREATE TABLE upload (id INTEGER PRIMARY KEY, spot INTEGER);"
        + "".join(f"INSERT INTO upload VALUES ({n}, {n % 3});" for n in range(1, 31))
    )
    words = ("upload", "--duplicates-by", "spot", "--keep", "lowest:id", "--keep-survivors")
    there_and_back(yeldro, database, *words, "--expect", "27")
    done = yeldro("run", *words, "--expect", "27", "--yes", "--json", db=database.url).one()
    assert "would write" not in str(done)
    yeldro("restore", "last", "--yes")
    yeldro("run", *words, "--expect", "27", "--yes", db=database.url)
    assert database.rows("SELECT id FROM upload ORDER BY id") == [(1,), (2,), (3,)]


@pytest.mark.parametrize("made", ["sqlite"], indirect=True)
def test_rows_that_hang_on_the_table_go_in_steps_of_their_own(
    yeldro: Yeldro, made: Callable[[str], AnyDatabase]
) -> None:
    database = made(
        CABLES + "CREATE TABLE plug (id INTEGER PRIMARY KEY, cable_id INTEGER REFERENCES cable (id)"
        " ON DELETE CASCADE); INSERT INTO plug VALUES (1, 1), (2, 1), (3, 9);"
        "CREATE TABLE log (n); CREATE TRIGGER noted AFTER DELETE ON plug"
        " BEGIN INSERT INTO log VALUES (old.id); END"
    )
    words = ("cable", "--where", "id < 5", "--keep-survivors", "--expect", "total=6")
    refused = yeldro("run", *words, "--yes", db=database.url, code=4).err
    assert "no step accounts for" in refused
    assert "2 rows more than planned" in refused
    yeldro("run", *words, "--yes", "--allow-trigger", "noted", db=database.url)
    assert database.rows("SELECT id FROM plug") == [(3,)]
    assert database.rows("SELECT id FROM cable ORDER BY id") == [(5,), (9,)]
    yeldro("restore", "last", "--yes")
    assert database.value("SELECT count(*) FROM cable") == 6


VALUE = st.one_of(
    st.none(), st.integers(-(2**63), 2**63 - 1), st.floats(allow_nan=False), st.binary(max_size=3),
    st.text(st.characters(exclude_categories=["Cs"], exclude_characters="\0"), max_size=3),
)  # fmt: skip
DECLARED = st.sampled_from(
    ["", "INTEGER", "REAL", "TEXT", "NUMERIC", "BLOB", "TEXT COLLATE NOCASE"]
)


@given(st.data())
def test_any_table_of_sqlite_keeps_every_byte_or_is_refused(
    tmp_path_factory: pytest.TempPathFactory, data: st.DataObject
) -> None:
    """Keys of every kind, values of another kind than declared, and types changed afterwards."""
    from yeldro import cleanup
    from yeldro.core.execution.run import ReceiptOptions, run
    from yeldro.core.model.messages.errors import YeldroError
    from yeldro.core.planning.job import Job
    from yeldro.engines import open_database

    folder = tmp_path_factory.mktemp("survivors")
    database = SqliteFile(folder / "made.db")
    key = data.draw(
        st.sampled_from(
            ["id INTEGER PRIMARY KEY", "id PRIMARY KEY", "id TEXT PRIMARY KEY COLLATE NOCASE", "id",
             "rowid, oid, _rowid_, id", "id INTEGER PRIMARY KEY AUTOINCREMENT"]
        )
    )  # fmt: skip
    tail = data.draw(st.sampled_from(["", " WITHOUT ROWID"])) if "KEY" in key else ""
    tail = "" if "AUTO" in key else tail
    kinds = data.draw(st.lists(DECLARED, min_size=1, max_size=3))
    columns = ", ".join(f"c{n} {kind}" for n, kind in enumerate(kinds))
    database.script(f'CREATE TABLE "it" ({key}, mark INTEGER, {columns}){tail}')
    connection = database.connect()
    names = f"id, mark, {', '.join(f'c{n}' for n in range(len(kinds)))}"
    marks = ", ".join("?" * (len(kinds) + 2))
    for n in range(data.draw(st.integers(1, 8))):
        row = [n * 3 + 1, data.draw(st.integers(0, 1)), *(data.draw(VALUE) for _ in kinds)]
        connection.execute(f"INSERT INTO it ({names}) VALUES ({marks})", row)
    if data.draw(st.booleans()):
        other = data.draw(DECLARED.filter(lambda kind: "COLLATE" not in kind))
        connection.execute("PRAGMA writable_schema = ON")
        changed = f"replace(sql, 'c0 {kinds[0]}', 'c0 {other}')"
        connection.execute(f"UPDATE sqlite_master SET sql = {changed} WHERE name = 'it'")
    connection.close()
    everything = (
        "SELECT {id}*, " + ", ".join(f"typeof(c{n}), hex(c{n})" for n in range(len(kinds)))
        + " FROM it {which} ORDER BY id"
    ).replace("{id}", "" if tail or "oid" in key else "rowid, ")  # fmt: skip
    before = database.rows(everything.replace("{which}", ""))
    staying = database.rows(everything.replace("{which}", "WHERE mark = 0"))
    going = len(before) - len(staying)
    asked = cleanup("it", where="mark = 1", keep_survivors=True, expect=going)
    try:
        run(open_database(database.url), Job.of(asked), ReceiptOptions(folder / "receipts"), 10)
    except YeldroError:
        assert database.rows(everything.replace("{which}", "")) == before
    else:
        assert database.rows(everything.replace("{which}", "")) == staying


@ON_POSTGRESQL
def test_what_postgresql_could_not_keep_exactly_is_refused(
    yeldro: Yeldro, made: Callable[[str], AnyDatabase]
) -> None:
    database = made(CABLES)
    words = (*WORDS, "--where", "id < 5", "--expect", "4")
    database.script("CREATE PUBLICATION cables FOR TABLE cable WITH (publish = 'delete, truncate')")
    refused = yeldro(*words, db=database.url, code=3).err
    assert "cables does not tell its subscribers of rows that are added" in refused
    database.script("DROP PUBLICATION cables")
    database.script("""
        ALTER TABLE cable ADD CONSTRAINT known CHECK (size < 4) NOT VALID;
        CREATE TABLE plug (cable_id INTEGER REFERENCES cable (id));
    """)
    assert "plug.cable_id" in yeldro(*words, db=database.url, code=3).err
    database.script("DROP TABLE plug")
    before = database.contents()
    refused = yeldro(*words, db=database.url, code=5).err
    assert "everything was rolled back" in refused.casefold()
    assert "known" in refused
    assert database.contents() == before
    database.script("ALTER TABLE cable DROP CONSTRAINT known")
    yeldro(*words, db=database.url)


@ON_POSTGRESQL
def test_what_belongs_to_a_table_of_postgresql_stays(
    yeldro: Yeldro, made: Callable[[str], AnyDatabase]
) -> None:
    database = made(
        """
        CREATE TABLE mast (id INTEGER GENERATED ALWAYS AS IDENTITY PRIMARY KEY, note TEXT,
            shape JSON, height NUMERIC(9, 3), code CHAR(4), seen TIMESTAMPTZ, raw BYTEA
        ) WITH (fillfactor = 70);
        ALTER TABLE mast ALTER note SET STATISTICS 700;
        CREATE INDEX mast_seen ON mast (seen) WHERE seen IS NOT NULL;
        GRANT SELECT ON mast TO PUBLIC;
        COMMENT ON COLUMN mast.code IS 'as painted';
        INSERT INTO mast (note, shape, height, code, seen, raw)
            SELECT 'Mast ' || n, '{"b":1,  "a":2}', n / 7.0, 'x', 'infinity', '\\x00ff'
            FROM generate_series(1, 50) AS n;
    """
    )
    kept = "SELECT mast::text FROM mast WHERE id > 40 ORDER BY id"
    about = (
        "SELECT relacl::text, reloptions::text, relowner, relreplident FROM pg_class"
        " WHERE oid = 'mast'::regclass",
        "SELECT attname, attstattarget, attidentity FROM pg_attribute"
        " WHERE attrelid = 'mast'::regclass AND attnum > 0 ORDER BY attnum",
        "SELECT pg_get_indexdef(indexrelid) FROM pg_index WHERE indrelid = 'mast'::regclass"
        " ORDER BY 1",
        "SELECT col_description('mast'::regclass, 5)",
    )
    before = [list(map(str, database.rows(query))) for query in (kept, *about)]
    yeldro("run", "mast", "--where", "id <= 40", "--keep-survivors", "--expect", "40", "--yes",
           db=database.url)  # fmt: skip
    assert [list(map(str, database.rows(query))) for query in (kept, *about)] == before
    database.script("INSERT INTO mast (note) VALUES ('next')")
    assert database.value("SELECT id FROM mast WHERE note = 'next'") == 51
    query = "SELECT reltuples FROM pg_class WHERE oid = 'mast'::regclass"
    assert database.value(query) == 10


@ON_POSTGRESQL
def test_a_row_that_comes_meanwhile_waits_for_the_commit(
    yeldro: Yeldro, made: Callable[[str], AnyDatabase]
) -> None:
    database = made(CABLES)
    with psycopg.connect(database.url) as other:
        other.execute("INSERT INTO cable (id, name) VALUES (7, 'late')")
        words = (*WORDS, "--where", "id < 9", "--expect", "5", "--lock-wait", "1")
        assert "lock" in yeldro(*words, db=database.url, code=5).err
    assert database.value("SELECT count(*) FROM cable") == 7
    refused: Any = yeldro(*words, db=database.url, code=4).err
    assert "expected 5, would be 6" in refused


PARTED = """
    CREATE TABLE log (id INTEGER, day DATE NOT NULL, note TEXT, PRIMARY KEY (id, day))
        PARTITION BY RANGE (day);
    CREATE TABLE log_a PARTITION OF log FOR VALUES FROM ('2020-01-01') TO ('2021-01-01');
    CREATE TABLE log_b PARTITION OF log FOR VALUES FROM ('2021-01-01') TO ('2022-01-01')
        PARTITION BY RANGE (day);
    CREATE TABLE log_b1 PARTITION OF log_b FOR VALUES FROM ('2021-01-01') TO ('2021-07-01');
    CREATE TABLE log_b2 PARTITION OF log_b FOR VALUES FROM ('2021-07-01') TO ('2022-01-01');
    INSERT INTO log SELECT n, date '2020-01-01' + n * 7, 'n' || n FROM generate_series(0, 103) AS n;
"""


@ON_POSTGRESQL
def test_whole_partitions_are_emptied_and_the_rest_is_removed(
    yeldro: Yeldro, made: Callable[[str], AnyDatabase]
) -> None:
    database = made(PARTED)
    pages = "SELECT relname, pg_relation_size(oid) FROM pg_class WHERE relname LIKE 'log_%'"
    pages += " AND relkind = 'r' ORDER BY 1"
    words = ("log", "--where", "day < date '2021-09-01'", "--by-partition")
    number = database.value("SELECT count(*) FROM log WHERE day < '2021-09-01'")
    there_and_back(yeldro, database, *words, "--expect", str(number))
    yeldro("run", *words, "--expect", str(number), "--yes", db=database.url)
    assert database.value("SELECT min(day) FROM log") >= database.value("SELECT date '2021-09-01'")
    sizes = dict(database.rows(pages))
    assert sizes["log_a"] == sizes["log_b1"] == 0
    assert sizes["log_b2"] > 0
    refused = yeldro("run", "log_b2", "--all-rows", "--by-partition", "--yes", "--expect", "1..",
                     db=database.url, code=3).err  # fmt: skip
    assert "is a partition of another table" in refused


@pytest.mark.parametrize("made", ["mariadb"], indirect=True)
def test_mariadb_empties_partitions_that_go_whole_if_that_is_accepted(
    yeldro: Yeldro, made: Callable[[str], AnyDatabase]
) -> None:
    database = made("""
        CREATE TABLE log (id INTEGER, g INTEGER NOT NULL, PRIMARY KEY (id, g))
            PARTITION BY RANGE (g) (PARTITION `p``1` VALUES LESS THAN (10),
                PARTITION p2 VALUES LESS THAN (20), PARTITION p3 VALUES LESS THAN MAXVALUE);
        INSERT INTO log SELECT seq, seq FROM seq_1_to_30;
        CREATE TABLE old (id INTEGER PRIMARY KEY);
        INSERT INTO old SELECT seq FROM seq_1_to_10;
    """)
    before = database.contents()
    words = ("log", "--by-partition", "--yes")
    refused = yeldro("run", *words, "--where", "g < 20", "--expect", "19", db=database.url, code=3)
    assert "--no-way-back log" in refused.err
    words = (*words, "--no-way-back", "log")
    refused = yeldro("run", *words, "--where", "g < 21", "--expect", "20", db=database.url, code=3)
    assert "1 of the 11 rows in the partition p3" in refused.err
    for chosen, told in (
        (("--where", "g < (SELECT max(id) FROM old)"), "old decides which rows of log go"),
        (("--matching", "old:id=id"), "old decides which rows of log go"),
        (("--duplicates-by", "g"), "cannot be compared with one another"),
    ):
        assert (
            told in yeldro("run", *words, *chosen, "--expect", "1..", db=database.url, code=3).err
        )
    assert database.contents() == before
    yeldro("run", *words, "--where", "g < 20", "--expect", "19", db=database.url)
    assert database.value("SELECT min(g) FROM log") == 20
    assert "commit" not in yeldro("receipt", "check").err
    yeldro("restore", "last", "--yes")
    assert database.contents() == before


def test_a_system_without_it_says_so(yeldro: Yeldro, made: Callable[[str], AnyDatabase]) -> None:
    database = made("CREATE TABLE mast (id INTEGER PRIMARY KEY); INSERT INTO mast VALUES (1)")
    words = ("run", "mast", "--all-rows", "--yes", "--expect", "1")
    refused = yeldro(*words, "--by-partition", db=database.url, code=3).err
    assert "cannot be emptied by --by-partition" in refused
    if database.url.startswith("mariadb"):
        assert (
            "MariaDB would commit"
            in yeldro(*words, "--keep-survivors", db=database.url, code=3).err
        )
    both = yeldro(*words, "--by-partition", "--keep-survivors", db=database.url, code=2).err
    assert "two ways to do the same" in both
    assert database.value("SELECT count(*) FROM mast") == 1


def test_a_plan_tells_of_the_quicker_way_where_it_pays(
    yeldro: Yeldro, made: Callable[[str], AnyDatabase], request: pytest.FixtureRequest
) -> None:
    numbers = {
        "mariadb": "SELECT seq FROM seq_1_to_130000",
        "postgresql": "SELECT generate_series(1, 130000)",
        "sqlite": "WITH RECURSIVE s (n) AS (SELECT 1 UNION ALL SELECT n + 1 FROM s LIMIT 130000)"
        " SELECT n FROM s",
    }
    query = numbers[request.node.callspec.params["made"]]
    database = made(f"CREATE TABLE mast (id INTEGER PRIMARY KEY); INSERT INTO mast {query}")
    for where, told in (("id > 2000", True), ("id > 90000", False)):
        plan = yeldro("plan", "mast", "--where", where, "--json", db=database.url).json()
        said = " ".join(plan["removes"][0]["warnings"])
        assert ("--keep-survivors would write the rows that stay again (2,000)" in said) == (
            told and not database.url.startswith("mariadb")
        )
