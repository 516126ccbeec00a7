"""Names in SQL mean the tables and columns that the server itself takes them for."""

from __future__ import annotations

import os
import re
import subprocess
import uuid
from collections.abc import Callable, Iterator
from itertools import product

import psycopg
import pytest
from conftest import PROGRAM, Yeldro, need, there_and_back
from systems import (
    AnyDatabase,
    MariadbServerDatabase,
    PostgresqlServerDatabase,
    SqliteFile,
)

ALIKE = """
    CREATE SCHEMA old; CREATE SCHEMA "Old"; CREATE SCHEMA "old.x";
    CREATE TABLE buoy (id int PRIMARY KEY, "Id" int);
    CREATE TABLE "Buoy" (id int, "Id" int PRIMARY KEY);
    CREATE TABLE old.buoy (id int PRIMARY KEY, "Id" int);
    CREATE TABLE "Old".buoy (id int PRIMARY KEY, "Id" int);
    CREATE TABLE "old.x".buoy (id int PRIMARY KEY, "Id" int);
    CREATE TABLE old."x.buoy" (id int PRIMARY KEY, "Id" int);
    CREATE TABLE "old.buoy" (id int PRIMARY KEY, "Id" int);
    INSERT INTO buoy SELECT n, n + 1 FROM generate_series(1, 3) AS n;
    INSERT INTO "Buoy" SELECT n + 1, n FROM generate_series(1, 5) AS n;
    INSERT INTO old.buoy SELECT n, n + 2 FROM generate_series(1, 7) AS n;
    INSERT INTO "Old".buoy SELECT n, n + 3 FROM generate_series(1, 11) AS n;
    INSERT INTO "old.x".buoy SELECT n, n + 4 FROM generate_series(1, 13) AS n;
    INSERT INTO old."x.buoy" SELECT n, n + 5 FROM generate_series(1, 17) AS n;
    INSERT INTO "old.buoy" SELECT n, n + 6 FROM generate_series(1, 19) AS n;
"""
TABLES = ["buoy", "BUOY", '"Buoy"', "public.buoy", "old.buoy", "OLD.Buoy", '"Old".Buoy',
          '"old.x".buoy', 'old."x.buoy"', '"old.buoy"']  # fmt: skip
COLUMNS = ["id", "ID", '"Id"', 'u."Id"', "u.Id"]


@pytest.fixture
def server() -> Iterator[PostgresqlServerDatabase]:
    need("postgresql")
    database = PostgresqlServerDatabase(f"yeldro_{uuid.uuid4().hex[:12]}")
    yield database
    database.drop()


def test_names_alike_but_for_case_or_schema_are_never_taken_for_each_other(
    yeldro: Yeldro, server: PostgresqlServerDatabase
) -> None:
    """Every spelling of seven tables and two columns, in statements of the server's own."""
    server.script(ALIKE)
    statements = [
        f"DELETE FROM {target} AS u WHERE {column} IN (SELECT {other} FROM {source} AS s)"
        for target, column, source, other in (
            *product(TABLES, COLUMNS, ["old.Buoy"], ["Id"]),
            *product(["buoy"], ['"Id"'], TABLES, ["Id", '"Id"']),
        )
    ]
    (yeldro.folder / "in.sql").write_text(";\n".join(statements))
    found = yeldro("plan", "--sql", "in.sql", "--json", db=server.url).json()["removes"]
    with psycopg.connect(server.url) as connection:
        for statement, remove in zip(statements, found, strict=True):
            with connection.transaction(force_rollback=True):
                query = f"{statement} RETURNING u.tableoid::regclass::text"
                deleted = [table for (table,) in connection.execute(query)]
            assert len(deleted) == remove["matched"], statement
            told = {f"{table}".replace('"', "") for table in deleted}
            assert told in ({remove["table"]}, set()), statement


@pytest.mark.parametrize("name", TABLES)
def test_a_view_leads_to_the_table_that_it_shows(
    yeldro: Yeldro, server: PostgresqlServerDatabase, name: str
) -> None:
    server.script(ALIKE)
    key = '"Id"' if name == '"Buoy"' else "id"
    server.script(f"CREATE VIEW shown AS SELECT b.*, 1 FROM {name} AS b WHERE {key} > 2")
    rows = server.value("SELECT count(*) FROM shown")
    there = server.value(f"SELECT count(*) FROM {name}")
    words = ("run", "shown", "--all-rows", "--expect", str(rows), "--yes")
    yeldro(*words, db=server.url)
    assert server.value("SELECT count(*) FROM shown") == 0
    assert server.value(f"SELECT count(*) FROM {name}") == there - rows == 2


def test_two_tables_that_a_view_calls_alike_but_for_case(
    yeldro: Yeldro, server: PostgresqlServerDatabase
) -> None:
    server.script(ALIKE)
    server.script('CREATE VIEW shown AS SELECT "A".id FROM old.buoy AS "A", buoy AS a')
    assert "calls two tables" in yeldro("plan", "shown", "--all-rows", db=server.url, code=3).err


def test_a_view_of_rows_that_inherit_does_not_lead_to_rows_with_the_same_key(
    yeldro: Yeldro, server: PostgresqlServerDatabase
) -> None:
    server.script("""
        CREATE TABLE mast (id int PRIMARY KEY, note text);
        CREATE TABLE tall () INHERITS (mast);
        INSERT INTO mast VALUES (1, 'x'), (2, 'y'); INSERT INTO tall VALUES (2, 'x'), (3, 'x');
        CREATE VIEW bad AS SELECT * FROM mast WHERE note = 'x';
        CREATE VIEW own AS SELECT * FROM ONLY mast WHERE note = 'x';
    """)
    words = ("--all-rows", "--only-table")
    refused = yeldro("plan", "bad", *words, db=server.url, code=3).err
    assert "their keys do not tell whose they are" in refused
    yeldro("run", "own", *words, "--expect", "1", "--yes", db=server.url)
    assert server.rows("SELECT id, note FROM ONLY mast") == [(2, "y")]
    assert server.value("SELECT count(*) FROM tall") == 2


def test_a_view_of_a_table_in_another_database_is_refused(yeldro: Yeldro) -> None:
    """The table of the same name in this database holds other rows."""
    need("mariadb")
    here, there = (MariadbServerDatabase(f"yeldro_{uuid.uuid4().hex[:12]}") for _ in range(2))
    try:
        for database, rows in ((here, "(1), (2)"), (there, "(2), (3)")):
            database.script("CREATE TABLE buoy (id int PRIMARY KEY)")
            database.script(f"INSERT INTO buoy VALUES {rows}")
        here.script(f"""CREATE VIEW gone AS SELECT * FROM {there.name}.buoy;
                        CREATE VIEW own AS SELECT * FROM buoy WHERE id = 2""")
        refused = yeldro("plan", "gone", "--all-rows", db=here.url, code=3).err
        assert f"shows rows of {there.name}.buoy" in refused
        yeldro("run", "own", "--all-rows", "--expect", "1", "--yes", db=here.url)
        assert here.rows("SELECT id FROM buoy") == [(1,)]
    finally:
        here.drop()
        there.drop()


def test_a_dot_in_a_name_is_no_border_between_schema_and_table(
    yeldro: Yeldro, server: PostgresqlServerDatabase
) -> None:
    server.script('CREATE SCHEMA "old.x"; CREATE TABLE "old.x".buoy (id int PRIMARY KEY)')
    (yeldro.folder / "in.sql").write_text('DELETE FROM old."x.buoy" WHERE id = 1')
    assert "no table" in yeldro("plan", "--sql", "in.sql", db=server.url, code=2).err


TAKEN = pytest.mark.parametrize(
    "taken", ["yeldro_keys_1", "YELDRO_KEYS_1", "yeldro_survivors_1", "yeldro_survivors_2"]
)


@TAKEN
def test_no_temporary_table_hides_a_table_of_that_name(
    yeldro: Yeldro, made: Callable[[str], AnyDatabase], taken: str
) -> None:
    database = made(
        f"CREATE TABLE {taken} (id INTEGER PRIMARY KEY, g INTEGER);"
        f"INSERT INTO {taken} VALUES (1, 1), (2, 1), (3, 2), (4, 2);"
        f"CREATE TABLE lamp (id INTEGER PRIMARY KEY, mast_id INTEGER, FOREIGN KEY (mast_id)"
        f" REFERENCES {taken} (id) ON DELETE CASCADE); INSERT INTO lamp VALUES (1, 2), (2, 3);"
    )
    there_and_back(yeldro, database, taken, "--where", "g = 1", "--expect", "total=3")


@TAKEN
@pytest.mark.parametrize("made", ["sqlite", "postgresql"], indirect=True)
@pytest.mark.parametrize("where", ["g = 1", "g > 0"])
def test_rows_set_aside_hide_no_table_of_that_name(
    yeldro: Yeldro, made: Callable[[str], AnyDatabase], taken: str, where: str
) -> None:
    database = made(
        f"CREATE TABLE {taken} (id INTEGER PRIMARY KEY, g INTEGER);"
        f"INSERT INTO {taken} VALUES (1, 1), (2, 1), (3, 2), (4, 2);"
    )
    words = (taken, "--where", where, "--keep-survivors", "--expect", "1..")
    there_and_back(yeldro, database, *words)


@pytest.mark.parametrize("name", [
    "a?b#c.db", "a%20b.db", "a%b.db", "a b'c.db", 'a"b.db', "a\nb.db", "-a.db", "$HOME;ä.db",
])  # fmt: skip
def test_a_file_is_called_what_it_is_called_in_every_printed_command(
    yeldro: Yeldro, demo: SqliteFile, name: str
) -> None:
    path = yeldro.folder / name
    path.write_bytes(demo.path.read_bytes())
    alerts = demo.value("SELECT count(*) FROM alert")
    words = ("run", "alert", "--where", "id = 1", "--expect", "1", "--yes", "--db", f"./{name}")
    done = yeldro(*words)
    (line,) = re.findall("yeldro restore .*", done.out)
    for command in (f"{line} --yes", "yeldro survey alert --json"):
        ended = subprocess.run(
            ["bash", "-c", command], cwd=yeldro.folder, capture_output=True, text=True, check=False,
            env=yeldro.environment | {"YELDRO_DB": f"./{name}",
                                      "PATH": f"{PROGRAM.parent}:{os.environ['PATH']}"},
        )  # fmt: skip
        assert ended.returncode == 0, (command, ended)
    assert SqliteFile(path).value("SELECT count(*) FROM alert") == alerts
    if name.isprintable():
        assert name in yeldro("survey", "--db", f"./{name}").out.splitlines()[0]


def test_a_pipe_is_refused_and_not_waited_for(yeldro: Yeldro) -> None:
    for name in ("f.db", "f.toml"):
        os.mkfifo(yeldro.folder / name)
    assert "a pipe or a device" in yeldro("survey", db="f.db", code=5).err
    assert "a pipe or a device" in yeldro("plan", "f.toml", db="f.db", code=2).err
