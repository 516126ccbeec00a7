"""What only PostgreSQL has: its types, partitions, schemas, locks, roles and deferrable keys."""

from __future__ import annotations

import re
import threading
import time
import uuid
from collections.abc import Iterator
from typing import Any
from urllib.parse import urlsplit

import psycopg
import pytest
import sqlalchemy as sa
from conftest import need, there_and_forth
from systems import (
    PostgresqlServerDatabase,
    administer,
    has_icu,
    postgresql_url,
    wait_until_alone,
)
from test_run import interrupt, typing
from test_sql import carry_out

TYPES = """
    CREATE TYPE mood AS ENUM ('calm', 'rough');
    CREATE DOMAIN depth AS numeric(6, 2) CHECK (value > 0);
    CREATE TABLE kinds (
        id int GENERATED ALWAYS AS IDENTITY PRIMARY KEY, n numeric, d depth, m mood, a int[],
        t text[], j json, jb jsonb, r int4range, iv interval, ts timestamptz, tm time, b bytea,
        u uuid, bo boolean, ip inet, f4 real, f8 double precision, c char(5), bi bigint, p point,
        twice int GENERATED ALWAYS AS (1 + 1) STORED, nothing text, vb varbit, mo money,
        late timestamp, "odd ""name%" text);
    INSERT INTO kinds (n, d, m, a, t, j, jb, r, iv, ts, tm, b, u, bo, ip, f4, f8, c, bi, p, vb, mo,
                       late, "odd ""name%")
        SELECT 12345678901234567890.123456789, 1.5, 'calm', '{1,2,NULL}', '{"a,b",NULL,"q\\"x"}',
            '{"a":  1}', '{"b": [1]}', '[1,5)', '1 mon 2 days 03:04:05.678',
            '2024-01-01 12:00:00.123456+02', '23:59:59.999', '\\x00ff',
            'a0eebc99-9c0b-4ef8-bb6d-6bb9bd380a11', true, '10.0.0.1/8', 0.1, 1e-300 / 3, 'ab',
            9223372036854775807, '(1,2)', B'101', 12.34, 'infinity', 'it''s 100%'
        FROM generate_series(1, 3);
    INSERT INTO kinds (n, f8) VALUES ('NaN', '-Infinity');
"""


@pytest.fixture
def server() -> Iterator[PostgresqlServerDatabase]:
    """An empty database of the test's own."""
    need("postgresql")
    database = PostgresqlServerDatabase(f"yeldro_{uuid.uuid4().hex[:12]}")
    yield database
    database.drop()


def need_icu() -> None:
    """Skip a test of collations that only a server with ICU has."""
    if not has_icu():
        pytest.skip("this PostgreSQL was built without ICU")


def test_every_type_comes_back_as_it_was(yeldro, server) -> None:
    server.script(TYPES)
    there_and_forth(yeldro, server, "kinds", "--all-rows", "--expect", "4")
    (row,) = yeldro("preview", "kinds", "--where", "id = 1", "--show", "n,a,j,b,nothing", "--json",
                    db=server.url).one()["rows"]  # fmt: skip
    assert row == {"n": "12345678901234567890.123456789", "a": [1, 2, None], "j": {"a": 1},
                   "b": "x'00ff'", "nothing": None}  # fmt: skip
    server.script("INSERT INTO kinds (n) VALUES (1)")
    assert server.value("SELECT max(id) FROM kinds") == 5


def test_a_partitioned_table_is_one_table_and_its_rows_count_once(yeldro, server) -> None:
    server.script("""
        CREATE TABLE part (id int, at date, PRIMARY KEY (id, at)) PARTITION BY RANGE (at);
        CREATE TABLE part_a PARTITION OF part FOR VALUES FROM ('2024-01-01') TO ('2025-01-01');
        CREATE TABLE part_b PARTITION OF part FOR VALUES FROM ('2025-01-01') TO ('2026-01-01');
        INSERT INTO part SELECT g, DATE '2024-06-01' + g * 30 FROM generate_series(1, 12) AS g;
    """)
    tables = yeldro("survey", "--json", db=server.url).json()["tables"]
    assert [(each["table"], each["rows"]) for each in tables] == [("part", 12)]
    done = there_and_forth(yeldro, server, "part", "--where", "id > 2", "--expect", "10")
    assert done["ledger"] == {"part": {"removed": 10, "changed": 0, "added": 0}}


def test_children_in_other_schemas_are_found_and_named_with_their_schema(yeldro, server) -> None:
    server.script("""
        CREATE SCHEMA "Deep End";
        CREATE TABLE mast (id int PRIMARY KEY);
        CREATE TABLE "Deep End".mast (id int PRIMARY KEY,
            above int REFERENCES mast ON DELETE CASCADE);
        CREATE TABLE "Deep End".copy (above int REFERENCES "Deep End".mast ON DELETE CASCADE,
            t text);
        INSERT INTO mast VALUES (1), (2);
        INSERT INTO "Deep End".mast VALUES (10, 1), (11, 2);
        INSERT INTO "Deep End".copy VALUES (10, 'x'), (10, 'x'), (11, 'x');
    """)
    done = there_and_forth(yeldro, server, "mast", "--where", "id = 1", "--expect", "total=4")
    assert [step["table"] for step in done["steps"]] == ["Deep End.copy", "Deep End.mast", "mast"]


def test_what_holds_no_rows_of_its_own_is_refused_by_name(yeldro, server) -> None:
    server.script("""
        CREATE MATERIALIZED VIEW sight AS SELECT 1 AS one;
        CREATE FOREIGN DATA WRAPPER nothing; CREATE SERVER afar FOREIGN DATA WRAPPER nothing;
        CREATE FOREIGN TABLE far (one int) SERVER afar;
    """)
    for name, kind in (("sight", "materialised view"), ("far", "foreign table")):
        assert kind in yeldro("plan", name, "--all-rows", db=server.url, code=3).err


@pytest.mark.parametrize("words", [
    "preview bare --all-rows", "survey bare", "duplicates bare",
    "run bare --all-rows --expect 2 --yes", "plan shown --all-rows",
    "plan mooring --missing-in bare:id=id",
])  # fmt: skip
def test_a_table_without_columns_is_refused_by_name(yeldro, server, words: str) -> None:
    server.script("""CREATE TABLE bare (); INSERT INTO bare DEFAULT VALUES;
        INSERT INTO bare DEFAULT VALUES; CREATE VIEW shown AS SELECT FROM bare;
        CREATE TABLE mooring (id integer PRIMARY KEY)""")
    done = yeldro(*words.split(), db=server.url, code=None)
    assert done.code != 0
    assert done.err.startswith("Nothing was changed. ")
    assert " has no columns, so that nothing of its rows could be shown or kept." in done.err
    assert server.value("SELECT count(*) FROM bare") == 2
    assert "bare" in yeldro("survey", db=server.url).out


def test_a_generated_primary_key_is_not_said_to_hold_null(yeldro, server) -> None:
    server.script("""CREATE TABLE mooring (code text NOT NULL,
        short text GENERATED ALWAYS AS (left(code, 3)) STORED PRIMARY KEY)""")
    told = " ".join(yeldro("survey", db=server.url).out.split())
    assert "mooring: its primary key (short) is generated, so it changes when" in told
    assert "NOT NULL" not in told


def test_a_rule_that_removes_elsewhere_or_removes_nothing_is_found(yeldro, server) -> None:
    server.script("""
        CREATE TABLE mast (id int PRIMARY KEY); CREATE TABLE lamp (id int PRIMARY KEY);
        INSERT INTO mast VALUES (1), (2); INSERT INTO lamp VALUES (1), (2);
        CREATE RULE also AS ON DELETE TO mast DO ALSO DELETE FROM lamp WHERE id = old.id;
        CREATE RULE never AS ON DELETE TO lamp WHERE old.id = 2 DO INSTEAD NOTHING;
    """)
    before = server.contents()
    words = ("run", "mast", "--where", "id = 1", "--expect", "1", "--yes")
    assert "-1 row" not in yeldro(*words, db=server.url, code=4).err
    words = ("run", "lamp", "--all-rows", "--expect", "2", "--yes")
    assert "affected 1 rows" in yeldro(*words, db=server.url, code=4).err
    assert server.contents() == before


def test_deferrable_keys_of_a_cycle_are_checked_at_the_commit(yeldro, server) -> None:
    server.script("""
        CREATE TABLE port (id int PRIMARY KEY, ship_id int NOT NULL);
        CREATE TABLE ship (id int PRIMARY KEY, port_id int NOT NULL REFERENCES port DEFERRABLE);
        ALTER TABLE port ADD FOREIGN KEY (ship_id) REFERENCES ship DEFERRABLE INITIALLY DEFERRED;
        BEGIN; INSERT INTO port VALUES (1, 1); INSERT INTO ship VALUES (1, 1); COMMIT;
    """)
    words = ("port", "--all-rows", "--follow", "all", "--expect", "total=2")
    done = there_and_forth(yeldro, server, *words)
    assert all("checked at the commit" in step["because"] for step in done["steps"])


def test_a_cycle_without_a_way_is_refused_and_spelled_out(yeldro, server) -> None:
    server.script("""
        CREATE TABLE port (id int PRIMARY KEY, ship_id int NOT NULL);
        CREATE TABLE ship (id int PRIMARY KEY, port_id int NOT NULL REFERENCES port);
        INSERT INTO port VALUES (1, 1); INSERT INTO ship VALUES (1, 1);
        ALTER TABLE port ADD FOREIGN KEY (ship_id) REFERENCES ship;
    """)
    found = yeldro("plan", "port", "--all-rows", "--follow", "all", db=server.url, code=3)
    ways = ("port.ship_id → ship.port_id → port.id", "ship.port_id → port.ship_id → ship.id")
    assert any(way in found.err for way in ways)


def test_triggers_and_rules_are_counted_by_table(yeldro, server) -> None:
    server.script("""
        CREATE TABLE mast (id int PRIMARY KEY); CREATE TABLE log (said text);
        INSERT INTO mast VALUES (1), (2), (3);
        CREATE FUNCTION note() RETURNS trigger LANGUAGE plpgsql AS
            $$ BEGIN INSERT INTO log VALUES ('gone'); RETURN old; END $$;
        CREATE TRIGGER noting AFTER DELETE ON mast FOR EACH ROW EXECUTE FUNCTION note();
    """)
    before = server.contents()
    words = ("run", "mast", "--where", "id < 3", "--expect", "2", "--yes")
    found = yeldro(*words, db=server.url, code=4)
    assert "in log 2 rows more than planned" in found.err
    assert server.contents() == before
    done = yeldro(*words, "--allow-trigger", "noting", "--json", db=server.url).one()
    assert done["unplanned"] == {"log": 2}


def with_trigger(server, body: str, kind: str = "", more: str = "") -> None:
    """A table whose removals run a function, and another table with three rows."""
    waits = "DEFERRABLE INITIALLY DEFERRED" if kind else ""
    server.script(f"""
        CREATE TABLE mast (id int PRIMARY KEY); CREATE TABLE lamp (id int PRIMARY KEY);
        INSERT INTO mast VALUES (1), (2), (3); INSERT INTO lamp VALUES (1), (2), (3);
        {more};
        CREATE FUNCTION act() RETURNS trigger LANGUAGE plpgsql AS
            $$ BEGIN {body}; RETURN NULL; END $$;
        CREATE {kind} TRIGGER acting AFTER DELETE ON mast {waits}
            FOR EACH ROW EXECUTE FUNCTION act();
    """)


@pytest.mark.parametrize("way", ["whole", "batches", "restore"])
def test_a_trigger_that_waits_for_the_commit_is_counted(yeldro, server, way: str) -> None:
    with_trigger(server, "DELETE FROM lamp WHERE id = 2; INSERT INTO mast VALUES (OLD.id + 10)",
                 "CONSTRAINT")  # fmt: skip
    before = server.contents()
    words = ["run", "mast", "--where", "id = 2", "--expect", "1", "--yes"]
    if way == "restore":
        server.script("CREATE CONSTRAINT TRIGGER again AFTER INSERT ON mast DEFERRABLE INITIALLY"
                      " DEFERRED FOR EACH ROW WHEN (NEW.id < 9) EXECUTE FUNCTION act();"
                      "ALTER TABLE mast DISABLE TRIGGER acting;"
                      "CREATE OR REPLACE FUNCTION act() RETURNS trigger LANGUAGE plpgsql AS"
                      " $$ BEGIN DELETE FROM lamp WHERE id = 2; RETURN NULL; END $$")  # fmt: skip
        yeldro(*words, db=server.url)
        before = server.contents()
        words = ["restore", "last", "--yes"]
    words += ["--batch", "1"] * (way == "batches")
    told = yeldro(*words, code=4, db=server.url).err
    assert "in lamp 1 row more than planned was removed, changed or added" in told
    assert server.contents() == before


@pytest.mark.parametrize(
    ("body", "more", "where"),
    [
        ("TRUNCATE lamp", "", "pg_catalog"),
        ("DROP TABLE lamp", "", "pg_catalog"),
        ("ALTER TABLE lamp ADD deep int", "", "pg_catalog"),
        ("CREATE TABLE lens (id int)", "", "pg_catalog"),
        ("PERFORM lo_unlink(7)", "SELECT lo_create(7)", "pg_largeobject"),
    ],
)
def test_what_a_trigger_does_to_whole_tables_is_seen(
    yeldro, server, body: str, more: str, where: str
) -> None:
    with_trigger(server, body, more=more)
    words = ("run", "mast", "--where", "id = 2", "--expect", "1", "--yes")
    told = yeldro(*words, db=server.url, code=4).err
    assert f"in {where}" in told
    assert server.value("SELECT count(*) FROM lamp") == 3
    assert server.value("SELECT count(*) FROM mast") == 3
    done = yeldro(*words, "--allow-trigger", "acting", "--json", db=server.url).one()
    assert where in done["unplanned"]


@pytest.mark.parametrize(
    ("body", "more", "name"),
    [
        ("PERFORM dblink_exec('', 'DELETE FROM lamp')", "CREATE EXTENSION dblink", "dblink_exec"),
        ("PERFORM far()", """CREATE EXTENSION dblink; CREATE FUNCTION far() RETURNS text
            LANGUAGE sql AS $$ SELECT dblink_exec('', 'DELETE FROM lamp') $$""", "dblink_exec"),
        ('DELETE FROM "Far lamp"', """CREATE EXTENSION postgres_fdw;
            CREATE SERVER far FOREIGN DATA WRAPPER postgres_fdw;
            CREATE FOREIGN TABLE "Far lamp" (id int) SERVER far""", "Far lamp"),
        ("DELETE FROM lamp", """CREATE EXTENSION dblink; CREATE FUNCTION also() RETURNS trigger
            LANGUAGE plpgsql AS $$ BEGIN PERFORM dblink_exec('', ''); RETURN OLD; END $$;
            CREATE TRIGGER also BEFORE DELETE ON lamp FOR EACH ROW EXECUTE FUNCTION also()""",
         "dblink_exec"),
        ("COPY lamp TO PROGRAM 'true'", "", "COPY"),
    ],
)  # fmt: skip
def test_a_trigger_that_leaves_the_transaction_is_refused_before_anything_runs(
    yeldro, server, body: str, more: str, name: str
) -> None:
    with_trigger(server, body, more=more)
    before = server.contents()
    words = ("mast", "--where", "id = 2")
    told = yeldro("run", *words, "--expect", "1", "--yes", db=server.url, code=3).err
    assert f"The trigger acting of mast uses {name}" in told
    assert "--no-way-back" in told
    assert f"uses {name}" in yeldro("rehearse", *words, db=server.url, code=3).err
    assert server.contents() == before


def test_rows_that_somebody_else_changes_meanwhile_are_left_alone(yeldro, server) -> None:
    """Another transaction holds a row, then commits: a serialization failure, told as such."""
    server.script("CREATE TABLE mast (id int PRIMARY KEY); INSERT INTO mast VALUES (1), (2)")
    other = psycopg.connect(server.url)
    other.execute("UPDATE mast SET id = 9 WHERE id = 2")

    def commit_once_waited_for() -> None:
        waiting = """SELECT count(*) FROM pg_stat_activity
            WHERE datname = current_database() AND wait_event_type = 'Lock'"""
        while server.value(waiting) == 0:
            time.sleep(0.05)
        other.commit()

    committing = threading.Thread(target=commit_once_waited_for, daemon=True)
    committing.start()
    found = yeldro(
        "run", "mast", "--where", "id = 2", "--expect", "1", "--yes", db=server.url, code=5
    )
    committing.join(timeout=20)
    other.close()
    assert "Somebody changed these rows" in found.err
    assert server.value("SELECT count(*) FROM mast") == 2
    assert not list(yeldro.receipts.glob("*"))


def test_a_lock_is_waited_for_only_so_long(yeldro, server) -> None:
    server.script("CREATE TABLE mast (id int PRIMARY KEY); INSERT INTO mast VALUES (1)")
    with psycopg.connect(server.url) as other:
        other.execute("SELECT * FROM mast FOR UPDATE")
        words = ("run", "mast", "--all-rows", "--expect", "1", "--yes", "--lock-wait", "0.3")
        assert "--lock-wait" in yeldro(*words, db=server.url, code=5).err
        other.execute("LOCK TABLE mast")  # while its condition is tried
        words = ("run", "mast", "--where", "id = 1", *words[3:])
        assert "--lock-wait" in yeldro(*words, db=server.url, code=5).err
    assert server.value("SELECT count(*) FROM mast") == 1


@pytest.fixture
def role(server: PostgresqlServerDatabase) -> Iterator[str]:
    """A role that may connect, and nothing else."""
    name = f"yeldro_role_{uuid.uuid4().hex[:8]}"
    administer(f"CREATE ROLE {name} LOGIN")
    yield name
    server.drop()
    administer(f"DROP ROLE {name}")


def test_a_role_that_only_reads_by_default_may_plan_and_is_told_why_it_may_not_run(
    yeldro, server, role
) -> None:
    server.script(f"""
        CREATE TABLE mast (id int PRIMARY KEY); INSERT INTO mast VALUES (1);
        CREATE TABLE lamp (id int PRIMARY KEY, mast_id int REFERENCES mast ON DELETE CASCADE);
        GRANT ALL ON mast, lamp TO {role}; ALTER ROLE {role} SET default_transaction_read_only = on;
    """)
    url = f"{server.url}?user={role}"
    words = ("mast", "--where", "id IN (SELECT id FROM mast)", "--expect", "1")
    assert yeldro("plan", *words, "--json", db=url).one()["matched"] == 1
    assert "may only read" in yeldro("run", *words, "--yes", db=url, code=5).err
    assert server.value("SELECT count(*) FROM mast") == 1


def test_a_session_in_which_no_foreign_key_is_checked_is_refused(yeldro, server) -> None:
    server.script("""
        CREATE TABLE mast (id int PRIMARY KEY); INSERT INTO mast VALUES (1), (2);
        CREATE TABLE lamp (id int PRIMARY KEY, mast_id int REFERENCES mast ON DELETE CASCADE);
    """)
    administer(f"ALTER DATABASE {server.name} SET session_replication_role = replica")
    words = ("run", "mast", "--where", "id = 1", "--expect", "1", "--yes")
    refused = yeldro(*words, db=server.url, code=3).err
    (advice,) = re.findall(r"Add (\?\S+ \S+) to the URL", refused)
    yeldro("plan", *words[1:-1], db=server.url)
    yeldro(*words, db=server.url + advice)
    assert server.rows("SELECT id FROM mast") == [(2,)]


def test_a_key_compared_by_a_collation_of_another_schema_is_followed(yeldro, server) -> None:
    need_icu()
    server.script("""
        CREATE SCHEMA far;
        CREATE COLLATION far."odd name" (provider = icu, locale = 'und-u-ks-level2',
            deterministic = false);
        CREATE TABLE mast (name text COLLATE far."odd name" PRIMARY KEY);
        CREATE TABLE lamp (id int PRIMARY KEY, mast text REFERENCES mast ON DELETE CASCADE);
        INSERT INTO mast VALUES ('a'), ('b'); INSERT INTO lamp VALUES (1, 'A'), (2, 'b');
    """)
    there_and_forth(yeldro, server, "mast", "--where", "name = 'A'", "--expect", "total=2")


@pytest.mark.parametrize("null", ["", "NOT NULL"])
def test_a_deferrable_ring_of_cascades_goes_by_a_link_set_to_null_or_is_refused(
    yeldro, server, null: str
) -> None:
    server.script(f"""
        CREATE TABLE port (id int PRIMARY KEY, ship_id int {null});
        CREATE TABLE ship (id int PRIMARY KEY, port_id int NOT NULL REFERENCES port
            ON DELETE CASCADE DEFERRABLE INITIALLY DEFERRED);
        ALTER TABLE port ADD FOREIGN KEY (ship_id) REFERENCES ship ON DELETE CASCADE
            DEFERRABLE INITIALLY DEFERRED;
        BEGIN; INSERT INTO port VALUES (1, 1), (2, 2);
        INSERT INTO ship VALUES (1, 1), (2, 2); COMMIT;
    """)
    words = ("port", "--where", "id = 1", "--expect", "total=2")
    if not null:
        there_and_forth(yeldro, server, *words)
        return
    before = server.contents()
    told = yeldro("run", *words, "--yes", db=server.url, code=3).err
    assert "form a cycle" in told
    assert server.contents() == before


def test_a_missing_privilege_is_told_before_anything_runs(yeldro, server, role) -> None:
    server.script(f"""
        CREATE TABLE mast (id int PRIMARY KEY);
        CREATE TABLE lamp (id int PRIMARY KEY, mast_id int REFERENCES mast ON DELETE SET NULL);
        INSERT INTO mast VALUES (1); INSERT INTO lamp VALUES (1, 1);
        GRANT SELECT ON mast, lamp TO {role};
    """)
    url = f"{server.url}?user={role}"
    words = ("mast", "--all-rows", "--expect", "1")
    found = yeldro("run", *words, "--yes", db=url, code=3)
    assert "DELETE on mast, UPDATE (mast_id) on lamp" in found.err
    assert "A privilege is missing: DELETE on mast" in yeldro("plan", *words, db=url).out
    server.script(f"GRANT DELETE ON mast TO {role}; GRANT UPDATE (mast_id) ON lamp TO {role}")
    assert yeldro("run", *words, "--yes", "--json", db=url).one()["outcome"] == "committed"


def test_a_view_alone_is_no_access_to_its_table(yeldro, server, role) -> None:
    """The plan reads and removes rows of the table; the privilege that is missing is named."""
    server.script(f"""
        CREATE TABLE mast (id int PRIMARY KEY); INSERT INTO mast VALUES (1), (2);
        CREATE VIEW first AS SELECT * FROM mast WHERE id = 1;
        GRANT SELECT, DELETE ON first TO {role};
    """)
    url = f"{server.url}?user={role}"
    words = ("first", "--all-rows", "--expect", "1")
    for command in (("plan", *words), ("run", *words, "--yes"), ("preview", "first", words[1])):
        told = yeldro(*command, db=url, code=5).err
        assert "A privilege is missing: permission denied for table mast" in told
    server.script(f"GRANT SELECT ON mast TO {role}")
    refused = yeldro("run", *words, "--yes", db=url, code=3).err
    assert "A privilege is missing: DELETE on mast" in refused
    server.script(f"GRANT DELETE ON mast TO {role}")
    yeldro("run", *words, "--yes", db=url)
    assert server.rows("SELECT id FROM mast") == [(2,)]


def test_rows_that_a_policy_hides_are_warned_of_and_never_taken_along(yeldro, server, role) -> None:
    """The cascade of a hidden row is carried out by the server, and found in the ledger."""
    server.script(f"""
        CREATE TABLE mast (id int PRIMARY KEY);
        CREATE TABLE lamp (id int PRIMARY KEY, mast_id int REFERENCES mast ON DELETE CASCADE);
        INSERT INTO mast VALUES (1); INSERT INTO lamp VALUES (1, 1), (2, 1);
        ALTER TABLE lamp ENABLE ROW LEVEL SECURITY;
        CREATE POLICY odd ON lamp USING (id % 2 = 1);
        GRANT SELECT, DELETE ON mast, lamp TO {role};
    """)
    url = f"{server.url}?user={role}"
    plan = yeldro("plan", "mast", "--all-rows", "--json", db=url).one()
    assert plan["total"] == 2
    assert any("row-level security" in each for each in plan["warnings"])
    found = yeldro("run", "mast", "--all-rows", "--expect", "1", "--yes", db=url, code=4)
    assert "in lamp 1 row more than planned was removed, changed or added" in found.err
    assert server.value("SELECT count(*) FROM lamp") == 2


HEIRS = """
    CREATE TABLE mast (id int PRIMARY KEY, note text);
    CREATE TABLE tall_mast (height int, more text, PRIMARY KEY (id)) INHERITS (mast);
    CREATE TABLE steel_mast (alloy text) INHERITS (tall_mast);
    CREATE TABLE lamp (id int PRIMARY KEY, mast_id int REFERENCES mast ON DELETE CASCADE);
    CREATE TABLE crane (id int PRIMARY KEY, on_id int REFERENCES tall_mast ON DELETE SET NULL);
    CREATE TABLE site (id int, mast_id int);
    INSERT INTO mast VALUES (1, 'a'), (2, 'b'), (3, 'c');
    INSERT INTO tall_mast VALUES (2, 'b', 9, 'x'), (5, 'e', 8, 'y');
    INSERT INTO steel_mast VALUES (2, 'b', 7, 'z', 'alloy'), (2, 'b', 7, 'z', 'alloy');
    INSERT INTO lamp VALUES (1, 1), (2, 2); INSERT INTO crane VALUES (1, 2), (2, 5);
    INSERT INTO site VALUES (1, 5), (2, 3);
"""


def test_rows_of_heirs_go_from_their_own_tables_and_come_back_whole(yeldro, server) -> None:
    """The same id in two heirs is two rows, and a foreign key holds in one table alone."""
    server.script(HEIRS)
    words = ("mast", "--where", "id = 2")
    found = there_and_forth(yeldro, server, *words, "--expect", "4", "--expect", "total=6")
    removed = {(step["table"], step["rows"]) for each in found["removes"] for step in each["steps"]}
    assert removed == {("mast", 1), ("lamp", 1), ("tall_mast", 1), ("crane", 1), ("steel_mast", 2)}
    there_and_forth(yeldro, server, *words, "--only-table", "--expect", "1", "--expect", "total=2")
    there_and_forth(yeldro, server, "tall_mast", *words[1:], "--only-table", "--expect", "1")
    there_and_forth(yeldro, server, "steel_mast", "--all-rows", "--expect", "2")
    there_and_forth(yeldro, server, "site", "--matching", "mast:mast_id=id", "--expect", "2")
    script = yeldro.folder / "only.sql"
    script.write_text("DELETE FROM ONLY mast WHERE id = 2")
    only = yeldro("plan", "--sql", "only.sql", "--json", db=server.url).one()
    assert [each["matched"] for each in only["removes"]] == [1]
    yeldro("plan", *words, "-o", "plan.json", db=server.url)
    before = server.contents()
    yeldro("run", "plan.json", "--yes", db=server.url)
    yeldro("restore", "last", "--yes")
    assert server.contents() == before
    server.script("DROP TABLE lamp")
    before = server.contents()
    for refused in (("mast", "--duplicates-by", "note"), ("mast", "--all-rows", "--truncate"),
                    (*words, "--batch", "1")):  # fmt: skip
        told = yeldro("run", *refused, "--expect", "0..", "--yes", db=server.url, code=3).err
        assert "--only-table" in told
    assert server.contents() == before
    there_and_forth(yeldro, server, "mast", "--all-rows", "--only-table", "--truncate", "--expect",
                   "3")  # fmt: skip


def test_a_partitioned_table_without_a_key_loses_its_copies_only(yeldro, server) -> None:
    server.script("""
        CREATE TABLE part (id int, at date) PARTITION BY RANGE (at);
        CREATE TABLE part_a PARTITION OF part FOR VALUES FROM ('2024-01-01') TO ('2025-01-01');
        CREATE TABLE part_b PARTITION OF part FOR VALUES FROM ('2025-01-01') TO ('2026-01-01');
        INSERT INTO part SELECT g, d FROM generate_series(1, 5) AS g,
            unnest(array['2024-06-01', '2025-06-01', '2024-06-01']::date[]) AS d;
    """)
    words = ("part", "--duplicates-by", "id,at", "--expect", "5")
    assert there_and_forth(yeldro, server, *words)["total"] == 5


PARTS = """
    CREATE TABLE mast (id int, year int, PRIMARY KEY (id, year)) PARTITION BY RANGE (year);
    CREATE TABLE mast_old PARTITION OF mast FOR VALUES FROM (0) TO (2000) PARTITION BY LIST (year);
    CREATE TABLE mast_1998 PARTITION OF mast_old FOR VALUES IN (1998);
    CREATE TABLE mast_1999 PARTITION OF mast_old FOR VALUES IN (1999);
    CREATE TABLE mast_new PARTITION OF mast FOR VALUES FROM (2000) TO (3000);
    ALTER TABLE mast_old ADD UNIQUE (id, year); ALTER TABLE mast_1999 ADD UNIQUE (id);
    CREATE TABLE lamp (id int PRIMARY KEY, mast_id int, year int,
        FOREIGN KEY (mast_id) REFERENCES mast_1999 (id) ON DELETE CASCADE);
    CREATE TABLE note (id int, at int, mast_id int, year int) PARTITION BY LIST (at);
    CREATE TABLE note_1 PARTITION OF note FOR VALUES IN (1);
    CREATE TABLE note_2 PARTITION OF note FOR VALUES IN (2);
    ALTER TABLE note_1 ADD FOREIGN KEY (mast_id, year) REFERENCES mast ON DELETE SET NULL;
    CREATE TABLE tag (id int PRIMARY KEY, mast_id int, year int,
        FOREIGN KEY (mast_id, year) REFERENCES mast ON DELETE CASCADE);
    INSERT INTO mast SELECT n, y FROM generate_series(1, 3) AS n,
        unnest(array[1998, 1999, 2024]) AS y;
    INSERT INTO lamp VALUES (1, 1, 0), (2, 2, 0), (3, 3, 0);
    INSERT INTO note SELECT n, p, n, y FROM generate_series(1, 3) AS n,
        unnest(array[1, 2]) AS p, unnest(array[1998, 1999, 2024]) AS y;
    INSERT INTO tag VALUES (1, 1, 1998), (2, 1, 1999), (3, 2, 2024);
"""


def test_foreign_keys_on_and_to_single_partitions_are_planned(yeldro, server) -> None:
    server.script(PARTS)
    there_and_forth(yeldro, server, "mast", "--where", "id = 1", "--expect", "3", "--expect",
                   "total=9")  # fmt: skip
    there_and_forth(yeldro, server, "mast", "--where", "year = 2024", "--expect", "3", "--expect",
                   "lamp=0", "--expect", "note=3")  # fmt: skip
    for part, rows, total in (("mast_1999", 3, 10), ("mast_old", 6, 17), ("mast_new", 3, 7)):
        there_and_forth(yeldro, server, part, "--all-rows", "--expect", str(rows), "--expect",
                       f"total={total}")  # fmt: skip
    there_and_forth(yeldro, server, "note_2", "--where", "id = 1", "--expect", "3")
    before = server.contents()
    for words in (("mast_old", "--duplicates-by", "id"), ("note_1", "--all-rows", "--truncate")):
        told = yeldro("run", *words, "--expect", "0..", "--yes", db=server.url, code=3).err
        assert "is a partition of" in told
    assert server.contents() == before


def test_keys_that_are_compared_without_case_come_back_in_their_own_case(yeldro, server) -> None:
    need_icu()
    server.script("""
        CREATE SCHEMA own;
        CREATE COLLATION own.ci (provider = icu, locale = 'und-u-ks-level2', deterministic = false);
        CREATE TABLE port (code text COLLATE own.ci PRIMARY KEY, g text COLLATE own.ci,
            up text COLLATE own.ci REFERENCES port ON DELETE CASCADE);
        CREATE TABLE ship (id int PRIMARY KEY, port text COLLATE own.ci REFERENCES port
            ON DELETE CASCADE);
        CREATE TABLE heap (name text COLLATE own.ci, port text REFERENCES port ON DELETE SET NULL);
        INSERT INTO port VALUES ('A', 'x', NULL), ('B', 'X', 'a'), ('c', 'y', 'b');
        INSERT INTO port VALUES ('D', 'Y', NULL);
        INSERT INTO ship VALUES (1, 'a'), (2, 'C'), (3, 'd');
        INSERT INTO heap VALUES ('n', 'A'), ('N', 'a'), ('n', 'a'), ('N', 'd');
    """)
    there_and_forth(yeldro, server, "port", "--where", "code = 'a'", "--expect", "total=8")
    there_and_forth(yeldro, server, "heap", "--duplicates-by", "name", "--expect", "3")
    there_and_forth(yeldro, server, "port", "--duplicates-by", "g", "--keep", "lowest:code",
                   "--repoint", "--detach", "port", "--expect", "2")  # fmt: skip


def test_a_trigger_of_one_partition_counts_as_one_of_the_table(yeldro, server) -> None:
    server.script("""
        CREATE TABLE port (id int PRIMARY KEY);
        CREATE TABLE ship (id int PRIMARY KEY, port_id int REFERENCES port ON DELETE SET NULL,
            upd int DEFAULT 0) PARTITION BY RANGE (id);
        CREATE TABLE ship_a PARTITION OF ship FOR VALUES FROM (1) TO (5) PARTITION BY RANGE (id);
        CREATE TABLE ship_aa PARTITION OF ship_a FOR VALUES FROM (1) TO (5);
        CREATE TABLE ship_b PARTITION OF ship FOR VALUES FROM (5) TO (9);
        CREATE FUNCTION stamp() RETURNS trigger LANGUAGE plpgsql AS
            'BEGIN NEW.upd := 99; RETURN NEW; END';
        CREATE FUNCTION nothing() RETURNS trigger LANGUAGE plpgsql AS 'BEGIN RETURN NULL; END';
        CREATE TRIGGER stamping BEFORE UPDATE ON ship_aa FOR EACH ROW EXECUTE FUNCTION stamp();
        CREATE TRIGGER emptied BEFORE TRUNCATE ON ship_b EXECUTE FUNCTION nothing();
        INSERT INTO port VALUES (1), (2); INSERT INTO ship VALUES (1, 1), (2, 2), (6, 1);
    """)
    yeldro("run", "port", "--where", "id = 1", "--expect", "1", "--yes", db=server.url)
    gone = server.contents()
    assert "1 row of ship is not as before in upd" in yeldro("restore", "last", "--yes", code=4).err
    assert server.contents() == gone
    words = ("run", "ship", "--all-rows", "--truncate", "--expect", "3", "--yes")
    assert "its trigger emptied runs" in yeldro(*words, db=server.url, code=3).err
    assert server.contents() == gone


@pytest.mark.parametrize(("on", "going"), [("tree", 4), ("tree_a", 3), ("tree_b", 1)])
def test_a_tree_in_partitions_loses_what_its_own_key_takes_along(yeldro, server, on, going) -> None:
    """Rows 1 to 3 are in the first partition: 1 takes 2 along, and that 3, and that 7."""
    server.script(f"""
        CREATE TABLE tree (id int PRIMARY KEY, up int) PARTITION BY RANGE (id);
        CREATE TABLE tree_a PARTITION OF tree FOR VALUES FROM (1) TO (4);
        CREATE TABLE tree_b PARTITION OF tree FOR VALUES FROM (4) TO (9);
        INSERT INTO tree VALUES (1, NULL), (2, 1), (3, 2), (7, 3);
        ALTER TABLE {on} ADD FOREIGN KEY (up) REFERENCES tree ON DELETE CASCADE;
    """)
    words = ("tree", "--where", "id = 1", "--expect", "1", "--expect", f"total={going}")
    there_and_forth(yeldro, server, *words)


def test_only_the_columns_that_a_key_names_are_set_to_null(yeldro, server) -> None:
    server.script("""
        CREATE TABLE visit (buoy int, no int, PRIMARY KEY (buoy, no));
        CREATE TABLE part (id int PRIMARY KEY, buoy int NOT NULL, no int,
            FOREIGN KEY (buoy, no) REFERENCES visit ON DELETE SET NULL (no));
        INSERT INTO visit VALUES (1, 1), (1, 2); INSERT INTO part VALUES (1, 1, 1), (2, 1, 2);
    """)
    before = server.contents()
    yeldro("run", "visit", "--where", "no = 1", "--expect", "total=2", "--yes", db=server.url)
    assert server.rows("SELECT * FROM part ORDER BY id") == [(1, 1, None), (2, 1, 2)]
    yeldro("restore", "last", "--yes")
    assert server.contents() == before


def test_a_filter_that_would_write_is_refused_by_name_and_by_the_server(yeldro, server) -> None:
    server.script("""
        CREATE TABLE mast (id int PRIMARY KEY); INSERT INTO mast VALUES (1);
        CREATE FUNCTION sly(n int) RETURNS int LANGUAGE plpgsql AS
            $$ BEGIN DELETE FROM mast; RETURN n; END $$;
        CREATE FUNCTION liar(n int) RETURNS int STABLE LANGUAGE sql AS 'SELECT sly(n)';
    """)
    for call in ("sly(id)", "pg_sleep(9)::text", "nextval('x')"):
        found = yeldro("plan", "mast", "--where", f"id = 1 AND {call} IS NOT NULL", db=server.url,
                       code=2)  # fmt: skip
        assert "side effects" in found.err
    found = yeldro("plan", "mast", "--where", "liar(id) = 1", db=server.url, code=5)
    assert "read-only transaction" in found.err
    assert server.value("SELECT count(*) FROM mast") == 1


def test_operators_casts_and_shadowing_functions_have_no_effects_either(yeldro, server) -> None:
    server.script("""
        CREATE TABLE mast (id int PRIMARY KEY, v text); INSERT INTO mast VALUES (1, 'a'), (2, 'b');
        CREATE SEQUENCE counter;
        CREATE TYPE pair AS (n int);
        CREATE FUNCTION sly(a int, b text) RETURNS boolean LANGUAGE sql AS
            'SELECT nextval(''counter'') > 0';
        CREATE FUNCTION pair_of(text) RETURNS pair LANGUAGE sql AS
            'SELECT ROW(nextval(''counter'')::int)::pair';
        CREATE FUNCTION lower(int) RETURNS bigint LANGUAGE sql AS 'SELECT nextval(''counter'')';
        CREATE FUNCTION hidden(int) RETURNS boolean STABLE LANGUAGE sql AS
            'SELECT nextval(''counter'') > 0';
        CREATE OPERATOR <-> (LEFTARG = int, RIGHTARG = text, FUNCTION = sly);
        CREATE CAST (text AS pair) WITH FUNCTION pair_of(text);
    """)
    before = server.rows("SELECT last_value, is_called FROM counter")
    for where in ("id <-> 'x'", "(v::pair).n > 0", "CAST(v AS pair) IS NOT NULL", "lower(id) > 0",
                  "public.lower(v) = 'a'", "hidden(id)"):  # fmt: skip
        words = ("run", "mast", "--where", where, "--expect", "0..", "--yes")
        told = yeldro(*words, db=server.url, code=None)
        assert told.code in (2, 5), (where, told)
        assert server.rows("SELECT last_value, is_called FROM counter") == before, where
    assert server.value("SELECT count(*) FROM mast") == 2


def test_what_cannot_be_counted_is_refused_and_no_trigger_blamed(yeldro, server, role) -> None:
    server.script(f"""
        CREATE TABLE mast (id int PRIMARY KEY); INSERT INTO mast VALUES (1), (2);
        GRANT SELECT, DELETE ON mast TO {role};
        ALTER ROLE {role} SET track_counts = off;
        CREATE EXTENSION file_fdw; CREATE SERVER files FOREIGN DATA WRAPPER file_fdw;
        CREATE TABLE split (id int) PARTITION BY LIST (id);
        CREATE TABLE split_1 PARTITION OF split FOR VALUES IN (1); INSERT INTO split VALUES (1);
        CREATE FOREIGN TABLE split_2 PARTITION OF split FOR VALUES IN (2) SERVER files
            OPTIONS (program 'true');
        CREATE TABLE kept (id int PRIMARY KEY); INSERT INTO kept VALUES (1), (2);
        ALTER TABLE kept ENABLE ROW LEVEL SECURITY; GRANT SELECT, DELETE ON kept TO {role};
        CREATE POLICY seen ON kept FOR SELECT TO {role} USING (true);
        CREATE POLICY own ON kept FOR DELETE TO {role} USING (id = 1);
    """)
    url = f"{server.url}?user={role}"
    words = ("--all-rows", "--expect", "0..", "--yes")
    assert "track_counts" in yeldro("run", "mast", *words, db=url, code=3).err
    assert "foreign table" in yeldro("run", "split", *words, db=server.url, code=3).err
    server.script(f"ALTER ROLE {role} RESET track_counts")
    told = yeldro("run", "kept", *words, db=url, code=4).err
    assert "row-level security" in told
    assert "trigger" not in told
    assert server.value("SELECT count(*) FROM mast") == 2


EVIL = """
    CREATE SCHEMA evil;
    CREATE VIEW evil.pg_stat_xact_user_tables AS
        SELECT * FROM pg_catalog.pg_stat_xact_user_tables WHERE relname <> 'other';
    CREATE TABLE mast (id int PRIMARY KEY); INSERT INTO mast VALUES (1), (2);
    CREATE TABLE other (id int); INSERT INTO other VALUES (1), (2);
    CREATE FUNCTION gone() RETURNS trigger LANGUAGE plpgsql AS
        $$ BEGIN {} DELETE FROM public.other; RETURN NULL; END $$;
    CREATE TRIGGER gone AFTER DELETE ON mast FOR EACH ROW EXECUTE FUNCTION gone();
"""


def test_a_search_path_that_hides_the_system_s_names_is_refused(yeldro, server) -> None:
    server.script(EVIL.format(""))
    before = server.contents()
    words = ("run", "mast", "--where", "id = 1", "--expect", "1", "--yes")
    joined = "&" if "?" in server.url else "?"
    url = f"{server.url}{joined}options=-c%20search_path%3Devil,public,pg_catalog"
    told = yeldro(*words, db=url, code=3).err
    assert "Leave pg_catalog out of it" in told
    assert "the database changed rows" in yeldro(*words, db=server.url, code=4).err.lower()
    assert server.contents() == before


@pytest.mark.parametrize(("setting", "value"), [
    ("search_path", "evil, pg_catalog"), ("session_replication_role", "replica"),
])  # fmt: skip
def test_a_trigger_that_changes_what_names_mean_is_found_out(
    yeldro, server, setting: str, value: str
) -> None:
    server.script(EVIL.format(f"PERFORM set_config('{setting}', '{value}', false);"))
    before = server.contents()
    words = ("run", "mast", "--where", "id = 1", "--expect", "1", "--yes")
    told = yeldro(*words, db=server.url, code=4).err
    assert f"A trigger has set {setting} to {value}" in told.replace('"', "")
    assert server.contents() == before


def test_what_an_event_trigger_does_of_temporary_tables_is_counted(yeldro, server) -> None:
    server.script("""
        CREATE TABLE mast (id int PRIMARY KEY); INSERT INTO mast VALUES (1), (2), (3);
        CREATE TABLE ddl (what text);
        CREATE FUNCTION noted() RETURNS event_trigger LANGUAGE plpgsql AS
            $$ BEGIN INSERT INTO ddl VALUES (tg_tag); END $$;
        CREATE EVENT TRIGGER noting ON ddl_command_end EXECUTE FUNCTION noted();
    """)
    server.script("CREATE TABLE lamp (mast_id int REFERENCES mast ON DELETE CASCADE);"
                  "INSERT INTO lamp VALUES (1); TRUNCATE ddl")  # fmt: skip
    words = ("mast", "--where", "id = 1", "--expect", "1")
    assert "The event trigger noting runs" in yeldro("plan", *words, db=server.url).out
    assert "noting would fire" in yeldro("script", *words, db=server.url, code=3).err
    before = server.contents()
    told = yeldro("run", *words, "--yes", db=server.url, code=4).err
    assert "Triggers that can do this: noting" in told
    assert server.contents() == before
    allowed = ("--allow-trigger", "noting")
    done = yeldro("run", *words, "--yes", *allowed, db=server.url).out
    rows = server.value("SELECT count(*) FROM ddl")
    assert rows
    assert f"Allowed triggers also changed {rows} row" in done
    assert "noting" in yeldro("restore", "last", "--yes", code=4).err
    back = yeldro("restore", "last", "--yes", *allowed).out
    assert server.value("SELECT count(*) FROM lamp") == 1
    more = server.value("SELECT count(*) FROM ddl") - rows
    assert f"Allowed triggers also changed {more} row" in back
    server.script("""
        CREATE FUNCTION away() RETURNS event_trigger LANGUAGE plpgsql AS
            $$ BEGIN PERFORM pg_logical_emit_message(false, 'a', 'b'); END $$;
        CREATE EVENT TRIGGER far ON ddl_command_start EXECUTE FUNCTION away();
    """)
    told = yeldro("run", *words, "--yes", *allowed, "--allow-trigger", "far", db=server.url,
                  code=3).err  # fmt: skip
    assert "The event trigger far uses pg_logical_emit_message" in told


def test_ctrl_c_cancels_the_statement_and_leaves_no_session(yeldro, server) -> None:
    server.script("CREATE TABLE mast (id int PRIMARY KEY); INSERT INTO mast VALUES (1)")
    numbers = "WITH RECURSIVE r (n) AS (SELECT 1 UNION ALL SELECT n FROM r) SELECT n FROM r"
    child = typing(yeldro, server, "plan", "mast", "--where", f"id IN ({numbers})")
    others = "SELECT count(*) FROM pg_stat_activity WHERE pid <> pg_backend_pid()"
    interrupt(child, lambda: server.value(f"{others} AND query LIKE '%RECURSIVE%'"))
    wait_until_alone(server)


@pytest.mark.parametrize("apart", [1, 10_000_000])
@pytest.mark.parametrize("keep", ["lowest", "highest"])
def test_duplicates_are_the_same_where_keys_are_close_and_far_apart(
    yeldro, server, apart, keep
) -> None:
    server.script(f"""CREATE TABLE sample (id bigint PRIMARY KEY, taken text);
        INSERT INTO sample SELECT n * {apart}, nullif(n % 4, 0) FROM generate_series(1, 13) AS n;
        INSERT INTO sample VALUES (0, 'alone')""")
    words = ("sample", "--duplicates-by", "taken", "--keep", f"{keep}:id")
    yeldro("run", *words, "--expect", "9", "--yes", db=server.url)
    left = {n // apart for (n,) in server.rows("SELECT id FROM sample")}
    assert left == ({0, 1, 2, 3, 4} if keep == "lowest" else {0, 10, 11, 12, 13})


@pytest.mark.parametrize("name", ["password", "sslpassword", "service"])
def test_a_password_appears_nowhere(yeldro, server, server_folder, name: str) -> None:
    """In no output, and in no file that a command writes, whatever parameter holds it."""
    yeldro.environment["XDG_STATE_HOME"] = str(yeldro.folder / "state")
    server.script("CREATE TABLE mast (id int PRIMARY KEY); INSERT INTO mast VALUES (1)")
    url = f"{server.url}?{name}=hunter22"
    if name == "service":
        at = urlsplit(server.url)
        (server_folder / "services").write_text(
            f"[sea]\nhost={at.hostname}\nport={at.port}\nuser={at.username}\n"
            f"dbname={server.name}\npassword=hunter22\n"
        )
        yeldro.environment["PGSERVICEFILE"] = str(server_folder / "services")
        url = "postgresql:///?service=sea"
    said = []
    for words in (
        ("survey", "--config"), ("survey", "--map", "map.svg"), ("preview", "mast", "--all-rows"),
        ("new", "mast.toml", "--from-last"), ("plan", "mast", "--all-rows", "-o", "plan.json"),
        ("plan", "mast", "--all-rows", "--report", "plan.html", "--json"), ("check", "mast.toml"),
        ("script", "mast", "--all-rows", "--expect", "1"), ("rehearse", "plan.json"),
        ("run", "mast", "--all-rows", "--expect", "2", "--yes"),
        ("run", "mast", "--all-rows", "--expect", "1", "--yes", "--report", "run.html"),
        ("receipt", "list"), ("receipt", "show"), ("receipt", "check"),
        ("restore", "last", "--yes"), ("preview", "mast", "--where", "idd = 1"),
    ):  # fmt: skip
        done = yeldro(*words, db=url, code=None)
        said.append(done.out + done.err)
    bad = url.replace(server.name, "none").replace("=sea", "=none")
    said.append(yeldro("survey", db=bad, code=5).err)
    written = [path for path in yeldro.folder.rglob("*") if path.is_file()]
    assert {"map.svg", "mast.toml", "plan.json", "plan.html", "run.html", "last_preview.json"} <= {
        path.name for path in written
    }
    assert not [path for path in written if b"hunter22" in path.read_bytes()]
    assert not [path for path in written if path.stat().st_mode & 0o077]
    assert "hunter22" not in "".join(said)


FAR = {
    "date": ["infinity", "-infinity", "0044-03-15 BC", "12020-01-01", "2020-02-29"],
    "timestamp": ["infinity", "-infinity", "0044-03-15 10:00 BC", "294276-12-31 23:59:59"],
    "timestamptz": ["infinity", "0044-03-15 10:00+00 BC", "2020-01-01 10:00:00.000001+00"],
    "time": ["24:00:00", "00:00:00.5"], "timetz": ["24:00:00+14", "10:00:00-15:59:59"],
    "interval": ["178000000 years", "-3 days 04:05:06.7"],
    "date[]": ["{infinity,0044-03-15 BC}"], "daterange": ["[0044-03-15 BC,infinity)"],
    "numeric": ["NaN", "Infinity", "1e-300"],
}  # fmt: skip


@pytest.mark.parametrize("kind", FAR)
def test_values_that_python_cannot_hold_are_shown_and_come_back(yeldro, server, kind: str) -> None:
    rows = [value for value in FAR[kind] for _ in range(2)]
    server.script(f"""
        CREATE TABLE mast (id int PRIMARY KEY, v {kind});
        CREATE TABLE lamp (v {kind}, mast_id int PRIMARY KEY REFERENCES mast (id));
        INSERT INTO mast VALUES {", ".join(f"({n}, '{v}')" for n, v in enumerate(rows))};
        INSERT INTO lamp SELECT v, id FROM mast;
    """)
    for form in ((), ("--json",)):
        yeldro("preview", "mast", "--where", "id >= 0", *form, db=server.url)
        found = yeldro("duplicates", "mast", "--by", "v", *form, db=server.url).out
        assert rows[0].split(" ")[0].strip("{[").split(",")[0] in found
        yeldro("plan", "mast", "--all-rows", *form, db=server.url, code=None)
        yeldro("survey", "mast", *form, db=server.url)
        yeldro("duplicates", "mast", *form, db=server.url)
    there_and_forth(yeldro, server, "mast", "--all-rows", "--follow", "lamp", "--expect",
                   str(len(rows)))  # fmt: skip
    there_and_forth(yeldro, server, "lamp", "--duplicates-by", "v", "--expect", "1..")


def test_a_script_with_a_limit_knows_its_rows_by_keys_of_any_type(yeldro, server) -> None:
    server.script("""
        CREATE TABLE mast (id uuid PRIMARY KEY, n int);
        INSERT INTO mast SELECT gen_random_uuid(), n FROM generate_series(1, 9) AS n;
    """)
    script = yeldro.folder / "out.sql"
    words = ("script", "mast", "--order-by", "n", "--limit", "3")
    script.write_text(yeldro(*words, db=server.url).out)
    assert carry_out(server, script) == 0
    assert carry_out(server, script) != 0
    assert server.value("SELECT min(n) FROM mast") == 4


def test_a_privilege_that_a_later_batch_needs_is_missed_before_the_first(
    yeldro, server, role
) -> None:
    server.script(f"""
        CREATE TABLE mast (id int PRIMARY KEY); INSERT INTO mast VALUES (1), (2), (3);
        CREATE TABLE lamp (id int PRIMARY KEY, mast_id int REFERENCES mast ON DELETE CASCADE);
        INSERT INTO lamp VALUES (1, 3); GRANT SELECT, DELETE, UPDATE ON mast TO {role};
        GRANT SELECT ON lamp TO {role};
    """)
    words = ("run", "mast", "--all-rows", "--expect", "3", "--yes", "--batch", "1")
    refused = yeldro(*words, db=f"{server.url}?user={role}", code=3).err
    assert "A privilege is missing: DELETE on lamp" in refused
    assert server.value("SELECT count(*) FROM mast") == 3


@pytest.mark.parametrize("protected", ["mast", "mast_old"])
@pytest.mark.parametrize("kind", ["INHERITS (mast)", "PARTITION OF mast FOR VALUES IN (1)"])
def test_rows_of_a_protected_table_are_protected_in_every_table_that_holds_them(
    yeldro, server, kind: str, protected: str
) -> None:
    parts = " PARTITION BY LIST (id)" if kind.startswith("PART") else ""
    columns = "" if parts else "()"
    server.script(f"""
        CREATE TABLE mast (id int PRIMARY KEY){parts};
        CREATE TABLE mast_old {columns} {kind}; INSERT INTO mast_old VALUES (1);
    """)
    yeldro.environment["YELDRO_DB"] = server.url
    (yeldro.folder / "yeldro.toml").write_text(f'protect = ["{protected}"]\n')
    for table in ("mast", "mast_old"):
        words = ("run", table, "--where", "id = 1", "--expect", "1", "--yes")
        refused = yeldro(*words, code=3).err
        assert "is protected by" in refused
        assert protected in refused
    assert server.value("SELECT count(*) FROM mast") == 1


def test_a_text_that_is_no_utf_8_is_refused_by_name_or_goes_without_being_kept(yeldro) -> None:
    """A database in SQL_ASCII holds whatever bytes were written."""
    need("postgresql")
    name = f"yeldro_{uuid.uuid4().hex[:12]}"
    administer(f"CREATE DATABASE {name} ENCODING 'SQL_ASCII' LC_COLLATE 'C' LC_CTYPE 'C'"
               " TEMPLATE template0")  # fmt: skip
    url = f"{postgresql_url().rpartition('/')[0]}/{name}"
    with psycopg.connect(url.replace("+psycopg", ""), autocommit=True) as connection:
        connection.execute("CREATE TABLE mast (id int PRIMARY KEY, name text)")
        connection.execute(r"INSERT INTO mast VALUES (1, E'caf\xe9'), (2, E'caf\xc3\xa9')")
    words = ("mast", "--where", "id < 3")
    assert "mast 2" in yeldro("plan", *words, db=url).out
    refused = yeldro("run", *words, "--expect", "2", "--yes", db=url, code=5).err
    assert "in another encoding" in refused
    assert "SQL_ASCII" in refused
    yeldro("run", "mast", "--where", "name = 'caf\u00e9'", "--expect", "1", "--yes", db=url)
    assert "1 row as before" in yeldro("restore", "--yes", db=url).out
    yeldro("run", *words, "--expect", "2", "--yes", "--without-rows", db=url)
    administer(f"DROP DATABASE {name}")


@pytest.mark.parametrize(
    ("choice", "more", "straight"),
    [
        (("--missing-in", "lamp:id=mast_id"), "", True),
        (("--orphans", "site_id"),
         "ALTER TABLE mast ADD FOREIGN KEY (site_id) REFERENCES site (id) NOT VALID", True),
        (("--matching", "site:site_id=id"), "", True),
        (("--missing-in", "lamp:id=mast_id", "--where", "id IN (SELECT 1)"), "", False),
        (("--missing-in", "mast:id=site_id"), "", False),
        (("--missing-in", "lit:id=mast_id"), "", False),
        (("--missing-in", "lamp:id=mast_id", "--order-by", "id", "--limit", "1"), "", False),
        (("--missing-in", "lamp:id=mast_id"), "CREATE TABLE bolt (mast_id int REFERENCES mast);",
         False),
        (("--missing-in", "lamp:id=mast_id"),
         "CREATE FUNCTION moves() RETURNS trigger LANGUAGE plpgsql AS"
         " $$ BEGIN INSERT INTO lamp VALUES (OLD.id + 9, 9); RETURN OLD; END $$;"
         "CREATE TRIGGER moving BEFORE DELETE ON mast FOR EACH ROW EXECUTE FUNCTION moves();",
         False),
    ],
)  # fmt: skip
def test_rows_go_by_a_condition_on_another_table_only_if_it_stays_as_it_is(
    yeldro, server, choice, more: str, straight: bool
) -> None:
    """They are not looked up once more by a list of their keys."""
    server.script(f"""
        CREATE TABLE site (id int PRIMARY KEY);
        CREATE TABLE mast (id int PRIMARY KEY, site_id int);
        CREATE TABLE lamp (id int PRIMARY KEY, mast_id int); CREATE VIEW lit AS TABLE lamp;
        INSERT INTO site VALUES (2); INSERT INTO lamp VALUES (1, 2);
        INSERT INTO mast VALUES (1, 1), (2, 2), (3, NULL), (9, 1);
        {more}
    """)
    before, said = server.contents(), []

    def hear(*heard: Any) -> None:
        said.append(heard[2])

    allowed = ("--allow-trigger", "moving") if "TRIGGER" in more else ()
    sa.event.listen(sa.Engine, "before_cursor_execute", hear)
    try:
        done = yeldro("run", "mast", *choice, "--expect", "1..", "--yes", *allowed, "--json",
                      db=server.url).json()  # fmt: skip
    finally:
        sa.event.remove(sa.Engine, "before_cursor_execute", hear)
    left = server.contents()
    assert done["total"] == len(set(before) - set(left))
    assert any("yeldro_keys" in each for each in said) is not straight
    if "NOT VALID" not in more:  # which takes no orphan again
        yeldro("restore", "last", "--yes", db=server.url)
        assert set(server.contents()) == set(before) | set(left)
