"""What a restore says is proved: rows come back as they were, or what differs is named."""

from __future__ import annotations

import random
import uuid
from pathlib import Path

import pytest
from conftest import Yeldro, need, there_and_forth
from systems import (
    AnyDatabase,
    MariadbServerDatabase,
    PostgresqlServerDatabase,
    SqliteFile,
    administer,
    has_icu,
)

from yeldro.api import cleanup, connect
from yeldro.core.receipts.reader import read_receipt
from yeldro.core.restore.restore import restore
from yeldro.core.restore.staging import Scope
from yeldro.engines import open_database

TREE = """
    CREATE TABLE port (id INTEGER PRIMARY KEY, up INTEGER, mark INTEGER,
        FOREIGN KEY (up) REFERENCES port (id) ON DELETE CASCADE);
    CREATE TABLE ship (id INTEGER PRIMARY KEY, port_id INTEGER, mark INTEGER,
        FOREIGN KEY (port_id) REFERENCES port (id) ON DELETE CASCADE);
    CREATE TABLE mast (id INTEGER PRIMARY KEY, ship_id INTEGER, port_id INTEGER, mark INTEGER,
        FOREIGN KEY (ship_id) REFERENCES ship (id) ON DELETE CASCADE,
        FOREIGN KEY (port_id) REFERENCES port (id) ON DELETE SET NULL);
"""
PARENTS = {"port": [("up", "port")], "ship": [("port_id", "port")],
           "mast": [("ship_id", "ship"), ("port_id", "port")]}  # fmt: skip


def forest(chance: random.Random) -> dict[str, dict[int, dict[str, int | None]]]:
    """Random rows by table and id, each with links to rows that are there."""
    rows: dict[str, dict[int, dict[str, int | None]]] = {}
    for table, links in PARENTS.items():
        rows[table] = {}
        for number in range(1, 13):
            row: dict[str, int | None] = {"id": number}
            for column, parent in links:
                known = [key for key in rows[parent] if parent != table or key < number]
                row[column] = chance.choice([None, *known]) if known else None
            rows[table][number] = row | {"mark": chance.randrange(100)}
    return rows


def written(table: str, row: dict[str, int | None]) -> str:
    values = ", ".join("NULL" if value is None else str(value) for value in row.values())
    return f"INSERT INTO {table} VALUES ({values});"


def rows_now(database: AnyDatabase) -> dict[str, dict[int, tuple[int | None, ...]]]:
    return {
        table: {row[0]: row for row in database.rows(f"SELECT * FROM {table}")} for table in PARENTS
    }


def test_nothing_comes_back_under_a_row_that_has_taken_its_parents_key(
    yeldro: Yeldro, made
) -> None:
    """On random trees, with random keys taken by strangers since."""
    database = made(TREE)
    for seed in range(12):
        chance = random.Random(seed)
        before = forest(chance)
        database.script("DELETE FROM mast; UPDATE port SET up = NULL; DELETE FROM ship;"
                        "DELETE FROM port;" + "".join(
            written(table, row) for table, rows in before.items() for row in rows.values()
        ))  # fmt: skip
        going = ", ".join(str(chance.randint(1, 12)) for _ in range(4))
        chosen = cleanup("port", where=f"id IN ({going})", expect="1..")
        done = connect(database.url).run(chosen, receipts=yeldro.receipts)
        gone = {table: before[table].keys() - rows.keys()
                for table, rows in rows_now(database).items()}  # fmt: skip
        strangers = {
            (table, key)
            for table in ("port", "ship")
            for key in gone[table]
            if chance.random() < 0.4
        }
        for table, key in sorted(strangers):
            row = {"id": key, **dict.fromkeys([c for c, _ in PARENTS[table]]), "mark": -1}
            database.script(written(table, row))
        found = restore(open_database(database.url), read_receipt(done.receipt), 5,
                        scope=Scope(skip_conflicts=True))  # fmt: skip
        after = rows_now(database)
        for table, rows in after.items():
            for key, row in rows.items():
                was = before[table][key]
                if (table, key) in strangers:
                    assert row[-1] == -1
                    continue
                for (column, parent), value in zip(PARENTS[table], row[1:-1], strict=True):
                    assert value is None or (parent, value) not in strangers, (seed, table, row)
                    if (table, key) in {(t, k) for t in gone for k in gone[t]}:
                        assert value == was[column]
        assert len(found.plan.skipped) >= bool(strangers)
        lost = {(table, key) for table in gone for key in gone[table] - after[table].keys()}
        for table, key in lost:  # each hangs, through rows that were lost too, on a stranger
            parents = {(parent, before[table][key][column]) for column, parent in PARENTS[table]}
            assert parents & (lost | strangers), (seed, table, key)


def test_children_alone_do_not_come_back_under_another_row(yeldro: Yeldro, made) -> None:
    database = made(TREE)
    database.script("INSERT INTO port VALUES (1, NULL, 1), (2, NULL, 2);"
                    "INSERT INTO ship VALUES (1, 1, 1), (2, 2, 2)")  # fmt: skip
    yeldro("run", "port", "--where", "id < 3", "--expect", "2", "--yes", db=database.url)
    database.script("INSERT INTO port VALUES (1, NULL, 9), (2, NULL, 2)")
    words = ("restore", "last", "--only", "ship", "--yes")
    told = yeldro(*words, code=3).err
    assert "1 row of ship would reference another row of port than before" in told
    assert "--skip-conflicts" in told
    yeldro(*words, "--skip-conflicts")
    assert database.rows("SELECT id FROM ship") == [(2,)]


def stamping(database: AnyDatabase, table: str, event: str) -> str:
    """Return a trigger that sets `upd` of its own row to 99."""
    name = f"stamp_{table}_{event}".lower()
    if database.url.startswith("mariadb"):
        return f"CREATE TRIGGER {name} BEFORE {event} ON {table} FOR EACH ROW SET NEW.upd = 99;"
    return f"""
        CREATE OR REPLACE FUNCTION stamp() RETURNS trigger LANGUAGE plpgsql AS
            'BEGIN NEW.upd := 99; RETURN NEW; END';
        CREATE TRIGGER {name} BEFORE {event} ON {table} FOR EACH ROW EXECUTE FUNCTION stamp();"""


STAMPED = """
    CREATE TABLE port (id INTEGER PRIMARY KEY, upd INTEGER);
    CREATE TABLE ship (id INTEGER PRIMARY KEY, port_id INTEGER, upd INTEGER, note VARCHAR(9),
        FOREIGN KEY (port_id) REFERENCES port (id) ON DELETE SET NULL);
    INSERT INTO port VALUES (1, 1), (2, 2);
    INSERT INTO ship VALUES (1, 1, 7, 'a'), (2, 2, 8, 'b'), (3, 1, 99, 'c');
"""
WHERE = ("run", "port", "--where", "id = 1", "--expect", "1", "--yes")


@pytest.fixture
def stamped(made) -> AnyDatabase:
    database: AnyDatabase = made(STAMPED)
    return database


# In SQLite a trigger cannot change its own row's new values.
SERVERS = pytest.mark.parametrize("made", ["postgresql", "mariadb"], indirect=True)


@SERVERS
def test_what_a_trigger_changes_of_a_row_that_comes_back_is_set_again(
    yeldro: Yeldro, stamped: AnyDatabase
) -> None:
    stamped.script(stamping(stamped, "port", "INSERT"))
    before = stamped.contents()
    yeldro(*WHERE, db=stamped.url)
    assert "as before" in yeldro("restore", "last", "--yes").out
    assert stamped.contents() == before


@SERVERS
def test_what_a_trigger_changes_for_good_is_named_and_rolled_back_unless_accepted(
    yeldro: Yeldro, stamped: AnyDatabase
) -> None:
    stamped.script(stamping(stamped, "port", "INSERT") + stamping(stamped, "port", "UPDATE"))
    yeldro(*WHERE, db=stamped.url)
    gone = stamped.contents()
    told = yeldro("restore", "last", "--yes", code=4).err
    assert "1 row of port is not as before in upd (such as id 1)" in told
    assert "--accept-difference port" in told
    assert stamped.contents() == gone
    done = yeldro("restore", "last", "--yes", "--accept-difference", "port", "--json").json()
    assert done["differences"] == [{"table": "port", "rows": 1, "columns": ["upd"]}]
    assert sorted(stamped.rows("SELECT id, upd FROM port")) == [(1, 99), (2, 2)]


@SERVERS
def test_what_a_trigger_changes_of_a_detached_row_goes_back_or_is_named(
    yeldro: Yeldro, stamped: AnyDatabase
) -> None:
    stamped.script(stamping(stamped, "ship", "UPDATE"))
    before = stamped.contents()
    told = yeldro("plan", "port", "--where", "id = 1", db=stamped.url).out
    assert "may change more of the rows of ship" in " ".join(told.split())
    yeldro(*WHERE, db=stamped.url)
    assert stamped.rows("SELECT upd FROM ship WHERE id = 1") == [(99,)]
    gone = stamped.contents()
    told = yeldro("restore", "last", "--yes", code=4).err
    assert "1 row of ship is not as before in upd" in told
    assert stamped.contents() == gone
    drop = " ON ship" if stamped.url[0] == "p" else ""
    stamped.script(
        f"UPDATE ship SET note = 'new' WHERE id = 3; DROP TRIGGER stamp_ship_update{drop}"
    )
    done = yeldro("restore", "last", "--yes", "--json").json()
    assert done["differences"] == []
    found = yeldro("receipt", "check", "--json", code=None).json()
    assert found["verdict"] == "partly back"
    assert found["notes"] == ["1 row of ship holds another note than before"]
    stamped.script("UPDATE ship SET note = 'c' WHERE id = 3")
    assert stamped.contents() == before
    assert yeldro("receipt", "check", "--json").json()["verdict"] == "all back"
    yeldro("restore", done["own_receipt"], "--yes")
    assert stamped.contents() == gone


ON_LINK = {
    "p": """CREATE FUNCTION stamp() RETURNS trigger LANGUAGE plpgsql AS
                'BEGIN NEW.upd := 99; RETURN NEW; END';
            CREATE TRIGGER relinked BEFORE UPDATE OF port_id ON ship FOR EACH ROW
                EXECUTE FUNCTION stamp();""",
    "m": """CREATE TRIGGER relinked BEFORE UPDATE ON ship FOR EACH ROW
                SET NEW.upd = IF(NEW.port_id <=> OLD.port_id, NEW.upd, 99);""",
    "/": """CREATE TRIGGER relinked AFTER UPDATE OF port_id ON ship
                BEGIN UPDATE ship SET upd = 99 WHERE id = NEW.id; END;""",
}


def test_what_a_trigger_changes_only_with_the_link_goes_back_by_a_second_statement(
    yeldro: Yeldro, made
) -> None:
    database = made(STAMPED)
    database.script(ON_LINK[database.url[0]])
    before = database.contents()
    allow = ("--allow-trigger", "relinked")
    yeldro(*WHERE, *allow, db=database.url)
    assert database.rows("SELECT upd FROM ship WHERE id = 1") == [(99,)]
    assert "as before" in yeldro("restore", "last", "--yes", *allow).out
    assert database.contents() == before


NARROWED = {
    "p": [("numeric(10,4)", "1.2345", "numeric(10,2)", False),
          ("numeric(10,4)", "1.2", "numeric(10,2)", True),
          ("numeric(10,1)", "1.5", "integer", False), ("numeric(10,1)", "2", "integer", True),
          ("timestamp(6)", "'2020-01-01 10:00:00.123456'", "timestamp(0)", False),
          ("timestamp(6)", "'2020-01-01 10:00:00'", "date", False),
          ("timestamp(6)", "'2020-01-01'", "date", True),
          ("integer", "7", "bigint", True), ("integer", "7", "text", True),
          ("text", "'ab  '", "char(5)", False), ("double precision", "0.1", "real", False),
          ("timestamptz", "'2020-01-01 10:00+02'", "timestamp", True)],
    "m": [("decimal(10,4)", "1.2345", "decimal(10,2)", False),
          ("decimal(10,4)", "1.2", "decimal(10,2)", True),
          ("decimal(10,1)", "1.5", "int", False), ("decimal(10,1)", "2", "bigint", True),
          ("datetime(6)", "'2020-01-01 10:00:00.123456'", "datetime", False),
          ("varchar(9)", "'ab  '", "char(5)", False), ("int", "7", "bigint", True),
          ("double", "0.1", "float", False), ("varchar(9)", "'ab'", "char(5)", True)],
}  # fmt: skip


@SERVERS
def test_a_type_that_was_narrowed_since_is_told_where_it_changes_a_value(
    yeldro: Yeldro, made
) -> None:
    database = made("CREATE TABLE spare (id INTEGER)")
    for place, (then, value, now, same) in enumerate(NARROWED[database.url[0]]):
        name = f"t{place}"
        database.script(f"CREATE TABLE {name} (id INTEGER PRIMARY KEY, v {then});"
                        f"INSERT INTO {name} VALUES (1, {value})")  # fmt: skip
        yeldro("run", name, "--where", "id = 1", "--expect", "1", "--yes", db=database.url)
        change = f"MODIFY v {now}" if database.url[0] == "m" else f"ALTER v TYPE {now}"
        database.script(f"ALTER TABLE {name} {change}")
        words = ("restore", "last", "--yes")
        if same:
            yeldro(*words)
            assert database.value(f"SELECT count(*) FROM {name}") == 1
            continue
        told = yeldro(*words, code=None)
        assert told.code in (3, 4), (then, now, told)
        assert "v" in told.err
        assert database.value(f"SELECT count(*) FROM {name}") == 0, (then, now)


def test_a_constraint_made_since_is_named_with_the_rows_and_how_to_drop_it(
    yeldro: Yeldro, made
) -> None:
    for words in (("--trim",), (), ("--null-distinct", "--trim")):
        database = made("""
            DROP TABLE IF EXISTS port;
            CREATE TABLE port (id INTEGER PRIMARY KEY, name VARCHAR(9), berth INTEGER);
            INSERT INTO port VALUES (1, 'a', 1), (2, 'a', 1), (3, 'b', NULL), (4, 'b', NULL),
                (5, 'c', 3), (6, 'd', 4);
        """)
        by = ("port", "--duplicates-by", "name,berth", *words)
        total = "total=1" if "--null-distinct" in words else "total=2"
        yeldro("run", *by, "--expect", total, "--yes", "--add-constraint", db=database.url)
        before = database.contents()
        yeldro("run", "port", "--where", "id = 5", "--expect", "1", "--yes", db=database.url)
        database.script("INSERT INTO port (id, name, berth) VALUES (7, 'c', 3)")
        told = yeldro("restore", "last", "--yes", code=3).err
        assert "id 5" in told
        receipt = yeldro("receipt", "list", "--json").json()[-1]["id"]
        told = yeldro("restore", receipt, "--yes", code=3).err
        assert "id 2" in told
        drop = told[told.index("('") + 2 :].partition(";' drops it)")[0]
        yeldro("restore", receipt, "--skip-conflicts", "--yes")
        assert len(database.contents()) >= len(before)
        database.script(drop.replace("\n", " "))
        yeldro("restore", receipt, "--yes")
        assert database.value("SELECT count(*) FROM port WHERE id IN (1, 2, 3, 4, 6)") == 5
        Path(yeldro.receipts).rename(yeldro.folder / f"old_{'_'.join(words)}")


HEAP = """
    CREATE TABLE port (id INTEGER PRIMARY KEY);
    CREATE TABLE heap (port_id INTEGER, note VARCHAR(9), upd INTEGER,
        FOREIGN KEY (port_id) REFERENCES port (id) ON DELETE SET NULL);
"""
HEAPED = """
    DELETE FROM heap; DELETE FROM port;
    INSERT INTO port VALUES (1), (2);
    INSERT INTO heap VALUES (1, 'a', 0), (1, 'a', 0), (1, 'b', 0), (2, 'c', 0);
"""


def test_changed_rows_that_no_key_finds_again_are_not_told_to_be_back(yeldro: Yeldro, made) -> None:
    """Of rows without a key some are changed further, or removed, by somebody else."""
    database = made(HEAP)
    for change in (
        "UPDATE heap SET note = 'z' WHERE note = 'b'",
        "UPDATE heap SET note = 'z' WHERE note <> 'c'",
        "DELETE FROM heap WHERE note = 'b'",
        "DELETE FROM heap WHERE note <> 'c'",
    ):
        database.script(HEAPED)
        yeldro(*WHERE, db=database.url)
        database.script(change)
        assert yeldro("receipt", "check", "--json").json()["verdict"] != "all back"
        assert "removed or changed since" in yeldro("restore", "last", "--yes", code=3).err


def test_a_trigger_that_changes_rows_without_a_key_is_refused(yeldro: Yeldro, made) -> None:
    database = made(HEAP)
    database.script(HEAPED)
    if isinstance(database, SqliteFile):
        database.script("CREATE TRIGGER stamp_heap_update AFTER UPDATE ON heap BEGIN UPDATE heap"
                        " SET upd = 99 WHERE rowid = NEW.rowid; END")  # fmt: skip
    else:
        database.script(stamping(database, "heap", "UPDATE"))
    before = database.contents()
    words = (*WHERE, "--allow-trigger", "stamp_heap_update")
    told = yeldro(*words, db=database.url, code=4).err
    assert "without a key no restore would find them again" in told
    assert database.contents() == before
    yeldro(*words, "--without-rows", db=database.url)
    assert database.value("SELECT count(*) FROM heap WHERE upd = 99") == 3


def test_a_row_whose_computed_value_is_another_now_is_not_as_before(yeldro: Yeldro, made) -> None:
    """Its expression has changed since the rows went; nobody can set the value."""
    declared = (
        "CREATE TABLE mast (id INTEGER PRIMARY KEY, up INTEGER, twice INTEGER AS ({}) STORED)"
    )
    if "postgresql" in made("SELECT 1").url:
        declared = declared.replace(" AS (", " GENERATED ALWAYS AS (")
    database = made(declared.format("up * 2") + "; INSERT INTO mast (id, up) VALUES (1, 5), (2, 7)")
    yeldro("run", "mast", "--where", "id = 1", "--expect", "1", "--yes", db=database.url)
    database.script("DROP TABLE mast; " + declared.format("up * 3"))
    refused = yeldro("restore", "--yes", db=database.url, code=4).err
    assert "1 row of mast is not as before in twice" in refused
    assert database.value("SELECT count(*) FROM mast") == 0
    words = ("restore", "--yes", "--accept-difference", "mast")
    assert "but" in yeldro(*words, db=database.url).out
    assert database.value("SELECT twice FROM mast") == 15
    database.script("DROP TABLE mast; CREATE TABLE mast (id INTEGER PRIMARY KEY, up INTEGER,"
                    " twice INTEGER); INSERT INTO mast VALUES (3, 1, 2)")  # fmt: skip
    yeldro("run", "mast", "--all-rows", "--expect", "1", "--yes", db=database.url)
    database.script("DROP TABLE mast; " + declared.format("up * 2"))
    refused = yeldro("restore", "--yes", db=database.url, code=3).err
    assert "computes the column mast.twice now" in refused


def test_a_reference_to_the_catalogue_is_the_same_object_after_a_rename(yeldro: Yeldro) -> None:
    """Another table has its name since, and one function's name is another's too."""
    need("postgresql")
    ours, other = (PostgresqlServerDatabase(f"yeldro_{uuid.uuid4().hex[:12]}") for _ in "12")
    table = "CREATE TABLE mast (id int PRIMARY KEY, at regclass, by regproc, with_ regprocedure[])"
    ours.script(f"""
        {table}; CREATE TABLE port (id int);
        CREATE FUNCTION area(int) RETURNS int LANGUAGE sql AS 'SELECT 1';
        CREATE FUNCTION area(text) RETURNS int LANGUAGE sql AS 'SELECT 1';
        INSERT INTO mast VALUES (1, 'port', 'area(text)'::regprocedure, '{{area(int)}}');
    """)
    numbers = "SELECT at::oid, by::oid, with_::oid[] FROM mast"
    before = ours.rows(numbers)
    yeldro("run", "mast", "--all-rows", "--expect", "1", "--yes", db=ours.url)
    ours.script("ALTER TABLE port RENAME TO quay; CREATE TABLE port (id int)")
    other.script(table)
    refused = yeldro("restore", "--into", other.url, "--yes", code=3).err
    assert "mast.at is regclass" in refused
    assert "1 row as before" in yeldro("restore", "--yes", db=ours.url).out
    assert ours.rows(numbers) == before
    assert ours.value("SELECT at::text FROM mast") == "quay"
    for each in (ours, other):
        each.drop()


def test_a_value_computed_for_the_reader_is_not_part_of_the_row(yeldro: Yeldro) -> None:
    """MariaDB shows a TIMESTAMP in the session's time zone, and computes columns from that."""
    need("mariadb")
    database = MariadbServerDatabase(f"yeldro_{uuid.uuid4().hex[:12]}")
    database.script("""
        CREATE TABLE mast (id INT PRIMARY KEY, at TIMESTAMP NOT NULL,
            day DATE AS (date(at)) VIRTUAL,
            said VARCHAR(40) AS (concat(day, '!')) VIRTUAL, now_ DATETIME AS (now()) VIRTUAL);
        INSERT INTO mast (id, at) VALUES (1, '2020-01-01 23:30:00');
    """)
    away = f"{database.url}?init_command=SET time_zone='%2B05:00'"
    yeldro("run", "mast", "--all-rows", "--expect", "1", "--yes", db=away)
    assert "1 row as before" in yeldro("restore", "--yes", db=away).out
    database.drop()


def test_a_moment_is_the_same_in_whatever_time_zone_it_is_read(yeldro: Yeldro) -> None:
    """The time zone of the role or database has changed between a run and its restore."""
    need("postgresql")
    database = PostgresqlServerDatabase(f"yeldro_{uuid.uuid4().hex[:12]}")
    columns = "at timestamptz(3), more timestamptz[], within tstzrange, time timetz"
    values = """'2020-01-01 00:00+00', '{2020-07-01 00:00+00,NULL}',
        '[2020-01-01 00:00+00,infinity)', '10:00+05'"""
    database.script(f"""
        CREATE TABLE mast (id int PRIMARY KEY, {columns}); CREATE TABLE log ({columns});
        INSERT INTO mast VALUES (1, {values}); INSERT INTO log VALUES ({values}), ({values});
    """)
    before = database.contents()
    for table, rows in (("mast", 1), ("log", 2)):
        yeldro("run", table, "--all-rows", "--expect", str(rows), "--yes", db=database.url)
    administer(f"ALTER DATABASE {database.name} SET timezone = 'America/New_York'")
    for each in yeldro("receipt", "list", "--json").json():
        assert "as before" in yeldro("restore", each["id"], "--yes", db=database.url).out
    administer(f"ALTER DATABASE {database.name} RESET timezone")
    assert database.contents() == before
    database.drop()


def test_a_computed_value_of_a_row_that_was_changed_before_it_went_is_computed_anew(
    yeldro: Yeldro, made
) -> None:
    """The receipt holds the value after the change, which is not that from before."""
    database = made("""
        CREATE TABLE port (id INTEGER PRIMARY KEY);
        CREATE TABLE mast (id INTEGER PRIMARY KEY, port_id INTEGER,
            twice INTEGER GENERATED ALWAYS AS (coalesce(port_id, 0) * 2) STORED,
            FOREIGN KEY (port_id) REFERENCES port (id));
        INSERT INTO port VALUES (1), (2);
        INSERT INTO mast (id, port_id) VALUES (1, 1), (2, 2), (3, 1), (9, 2);
    """)
    (yeldro.folder / "three.toml").write_text("""
        [[remove]]
        from = "port"
        where = "id = 1"
        detach = ["mast"]
        [[remove]]
        from = "mast"
        where = "id = 9"
        [[remove]]
        from = "mast"
        where = "id = 1"
    """)
    there_and_forth(yeldro, database, "three.toml", "--expect", "total=5")


# For each system: a type, a value, and what gives another form that is equal to it; the exact form
# of the column n; and a trigger that writes that form into rows that come.
FORMS = {
    "sqlite": [
        ("TEXT COLLATE NOCASE", "'A'", "lower(n)"),
        ("TEXT COLLATE RTRIM", "'a '", "rtrim(n)"),
        ("", "7", "7.0"),
        ("NUMERIC COLLATE NOCASE", "'A'", "lower(n)"),
    ],
    "postgresql": [
        ("text COLLATE blind", "'A'", "lower(new.n)"),
        ("numeric", "1.50", "1.5"),
        ("float8", "'-0'", "0"),
        ("interval", "'1 day'", "interval '24 hours'"),
        ("timetz", "'10:00+00'", "timetz '11:00+01'"),
        ("numrange", "'[1.50,2]'", "numrange '[1.5,2]'"),
    ],
    "mariadb": [
        ("varchar(9)", "'A'", "lower(new.n)"),
        ("varchar(9)", "'a '", "rtrim(new.n)"),
        ("varchar(9) COLLATE utf8mb4_unicode_ci", "'e'", "'\u00e9'"),
        ("double", "-0e0", "0e0"),
    ],
}
EXACT = {"sqlite": "typeof(n) || quote(n)", "postgresql": "n::text",
         "mariadb": "HEX(CAST(n AS BINARY))"}  # fmt: skip
OTHER_FORM = {
    "sqlite": "CREATE TRIGGER other AFTER INSERT ON mast BEGIN"
    " UPDATE mast SET n = {form} WHERE rowid = new.rowid; END",
    "postgresql": "CREATE FUNCTION other() RETURNS trigger LANGUAGE plpgsql AS"
    " $$BEGIN new.n := {form}; RETURN new; END$$;"
    "CREATE TRIGGER other BEFORE INSERT ON mast FOR EACH ROW EXECUTE FUNCTION other()",
    "mariadb": "CREATE TRIGGER other BEFORE INSERT ON mast FOR EACH ROW SET new.n = {form}",
}
BLIND = "CREATE COLLATION blind (provider = icu, locale = 'und-u-ks-level2', deterministic = false)"


@pytest.mark.parametrize(
    ("made", "declared", "value", "form"),
    [(system, *each) for system, forms in FORMS.items() for each in forms],
    indirect=["made"],
)
@pytest.mark.parametrize("column", ["n {} PRIMARY KEY, z INTEGER", "z INTEGER PRIMARY KEY, n {}"])
def test_an_equal_value_in_another_form_is_not_as_before(
    yeldro: Yeldro, made, request, column: str, declared: str, value: str, form: str
) -> None:
    """A key is equal to another form of itself; a value is set back, or the row is named."""
    system = request.node.callspec.params["made"]
    if "blind" in declared and not has_icu():
        pytest.skip("this PostgreSQL was built without ICU")
    database = made(BLIND if "blind" in declared else "SELECT 1")
    database.script(f"CREATE TABLE mast ({column.format(declared)});"
                    f"INSERT INTO mast (z, n) VALUES (1, {value})")  # fmt: skip
    exact = f"SELECT {EXACT[system]} FROM mast"
    before = database.rows(exact)
    assert before
    yeldro("run", "mast", "--all-rows", "--expect", "1", "--yes", db=database.url)
    database.script(OTHER_FORM[system].format(form=form))
    words = ("restore", "last", "--yes", "--allow-trigger", "other")
    done = yeldro(*words, code=None)
    assert (done.code, database.rows(exact)) in ((0, before), (4, [])), done
    assert done.code == 4 or "as before" in done.out


@pytest.mark.parametrize(
    ("then", "value", "now"),
    [("TEXT", "'007'", "INTEGER"), ("TEXT", "'1e3'", "NUMERIC"), ("NUMERIC", "1.5", "TEXT"),
     ("INTEGER", "7", "REAL"), ("REAL", "7.0", "INTEGER")],
)  # fmt: skip
def test_a_value_that_a_column_of_another_type_converts_is_not_as_before(
    yeldro: Yeldro, tmp_path: Path, then: str, value: str, now: str
) -> None:
    """SQLite takes '007' for 7 where one side is a number."""
    here, there = SqliteFile(tmp_path / "here.db"), SqliteFile(tmp_path / "there.db")
    here.script(f"CREATE TABLE mast (id INTEGER PRIMARY KEY, n {then});"
                f"INSERT INTO mast VALUES (1, {value})")  # fmt: skip
    there.script(f"CREATE TABLE mast (id INTEGER PRIMARY KEY, n {now})")
    yeldro("run", "mast", "--all-rows", "--expect", "1", "--yes", db=here.url)
    words = ("restore", "last", "--into", there.url, "--yes")
    assert "not as before in n" in yeldro(*words, db=here.url, code=4).err
    assert there.rows("SELECT * FROM mast") == []
    yeldro(*words, "--accept-difference", "mast", db=here.url)
