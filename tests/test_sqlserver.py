"""SQL Server: what only its engine does, held to the rules that its stand-in knows."""

from __future__ import annotations

from dataclasses import replace

import pymssql
import pytest
from conftest import Yeldro, there_and_back
from servers import free_port
from systems import AnyDatabase
from test_run import interrupt, typing

from yeldro.core.model.work.counts import NOTHING_YET, Changes, Ledger
from yeldro.report.text import held_against

ON_SQLSERVER = pytest.mark.parametrize("made", ["sqlserver"], indirect=True)
MASTS = "CREATE TABLE mast (id int PRIMARY KEY, name nvarchar(20));"
TWO = "INSERT INTO mast VALUES (1, N'Tall'), (2, N'Low');"

TYPES = [
    ("bit", "1"), ("tinyint", "255"), ("smallint", "-32768"), ("int", "2147483647"),
    ("bigint", "-9223372036854775808"), ("decimal(10, 2)", "-12.75"), ("numeric(5, 0)", "7"),
    ("money", "1.5"), ("smallmoney", "-2.25"), ("float", "1e-300"), ("real", "0.25"),
    ("date", "'9999-12-31'"), ("time(6)", "'23:59:59.999999'"), ("datetime", "'1999-02-03 04:05'"),
    ("smalldatetime", "'2001-02-03 04:05:00'"), ("datetime2(6)", "'0001-01-01 01:02:03.456789'"),
    ("datetimeoffset(0)", "'2020-01-01 00:30:00 -05:30'"), ("char(5)", "'a'"),
    ("nchar(5)", "N'\u2603'"), ("varchar(20)", "'it''s  '"), ("nvarchar(20)", "N'\U0001f6a9'"),
    ("nvarchar(max)", "N''"), ("varchar(max)", f"'{'long ' * 4000}'"), ("binary(3)", "0x01"),
    ("varbinary(20)", "0x"), ("varbinary(max)", f"0x{'0a' * 9000}"),
    ("uniqueidentifier", "'00000000-0000-0000-0000-000000000007'"),
]  # fmt: skip


@ON_SQLSERVER
def test_every_type_goes_and_comes_back(yeldro: Yeldro, made) -> None:
    columns = ", ".join(f"c{n} {declared} NULL" for n, (declared, _) in enumerate(TYPES))
    names = ", ".join(f"c{n}" for n in range(len(TYPES)))
    values = ", ".join(value for _, value in TYPES)
    database = made(f"CREATE TABLE kept (id int PRIMARY KEY, {columns})")
    database.script(f"INSERT INTO kept (id, {names}) VALUES (1, {values})")
    database.script("INSERT INTO kept (id) VALUES (2)")
    there_and_back(yeldro, database, "kept", "--all-rows", "--expect", "2")


@ON_SQLSERVER
@pytest.mark.parametrize("declared", ["image"])
def test_a_type_that_a_receipt_cannot_hold_is_refused_by_name(yeldro, made, declared) -> None:
    database = made(f"CREATE TABLE kept (id int PRIMARY KEY, odd {declared} NULL)")
    database.script("INSERT INTO kept (id) VALUES (1)")
    words = ("run", "kept", "--where", "id = 1", "--expect", "1", "--yes")
    assert f"odd ({declared})" in yeldro(*words, db=database.url, code=3).err
    assert database.value("SELECT count(*) AS n FROM kept") == 1


@ON_SQLSERVER
def test_identity_and_computed_columns_come_back_as_they_were(yeldro: Yeldro, made) -> None:
    database: AnyDatabase = made("""
        CREATE TABLE mast (id int IDENTITY(10, 5) PRIMARY KEY, height int,
                           twice AS (height * 2) PERSISTED);
        CREATE TABLE lamp (id int IDENTITY(1, 1) PRIMARY KEY,
                           mast_id int REFERENCES mast (id) ON DELETE CASCADE);
        INSERT INTO mast (height) VALUES (3), (4), (5);
        INSERT INTO lamp (mast_id) VALUES (10), (15), (15);
    """)
    assert database.value("SELECT max(id) AS n FROM mast") == 20
    there_and_back(yeldro, database, "mast", "--where", "height > 3", "--expect", "2",
                   "--expect", "total=4")  # fmt: skip
    database.script("INSERT INTO mast (height) VALUES (6)")
    assert database.value("SELECT max(id) AS n FROM mast") == 25


@ON_SQLSERVER
def test_a_count_that_the_server_does_not_have_is_not_claimed(yeldro: Yeldro, made) -> None:
    database = made(MASTS + TWO)
    words = ("mast", "--where", "id = 1", "--expect", "1")
    told = " ".join(yeldro("rehearse", *words, db=database.url).out.split())
    assert "This system counts nothing besides" in told
    assert "ledger" not in told
    done = yeldro("run", *words, "--yes", "--json", db=database.url).json()
    assert (done["counted"], done["ledger"]) == (False, {})


HEARD = """
    CREATE TABLE heard (n int);
    INSERT INTO heard VALUES (0), (0), (0);
"""


@ON_SQLSERVER
def test_a_trigger_must_be_named_before_it_is_fired(yeldro: Yeldro, made) -> None:
    database = made(MASTS + TWO + HEARD)
    database.script("CREATE TRIGGER hearing ON mast AFTER DELETE AS UPDATE heard SET n = n + 1")
    words = ("run", "mast", "--where", "id = 1", "--expect", "1", "--yes")
    refused = yeldro(*words, db=database.url, code=4).err
    assert "SQL Server does not tell what triggers change besides: hearing" in refused
    assert database.value("SELECT sum(n) AS n FROM heard") == 0
    done = yeldro(*words, "--allow-trigger", "hearing", "--json", db=database.url).one()
    assert done["steps"][0]["affected"] == 1  # and not the three rows that the trigger changed
    assert database.value("SELECT sum(n) AS n FROM heard") == 3
    yeldro("restore", "last", "--yes")
    assert database.value("SELECT count(*) AS n FROM mast") == 2


@ON_SQLSERVER
def test_other_tables_that_a_run_locks_for_writing_are_named(yeldro: Yeldro, made) -> None:
    """What a trigger does there nobody counts; that it may have written there is told."""
    database = made(MASTS + TWO + HEARD)
    words = ("mast", "--where", "id = :id", "--expect", "1", "--param")
    plain = yeldro("run", *words, "id=1", "--yes", db=database.url).out
    assert "no other table of this database was locked for writing" in " ".join(plain.split())
    database.script("CREATE TRIGGER hearing ON mast AFTER DELETE AS UPDATE heard SET n = n + 1")
    allowed = (*words, "id=2", "--allow-trigger", "hearing")
    rehearsed = " ".join(yeldro("rehearse", *allowed, db=database.url).out.split())
    assert "as declared actions and triggers do: heard." in rehearsed
    done = yeldro("run", *allowed, "--yes", "--json", db=database.url).json()
    assert (done["counted"], done["also_locked"]) == (False, ["heard"])


def test_who_may_not_see_locks_is_told_that_nothing_is_counted() -> None:
    unseen = Ledger({"mast": Changes(removed=1)}, counted=False)
    assert "gives no count of its own" in held_against(unseen)
    seen = NOTHING_YET.with_more(replace(unseen, also_locked=frozenset({"heard", "mast"})))
    assert held_against(seen).endswith("as declared actions and triggers do: heard.")


@ON_SQLSERVER
def test_a_trigger_that_ends_the_transaction_leaves_everything(yeldro: Yeldro, made) -> None:
    database = made(MASTS + TWO)
    database.script("CREATE TRIGGER ending ON mast AFTER DELETE AS ROLLBACK TRANSACTION")
    before = database.contents()
    words = ("run", "mast", "--where", "id = 1", "--expect", "1", "--yes")
    refused = yeldro(*words, "--allow-trigger", "ending", db=database.url, code=None)
    assert refused.code not in (0, 1)
    assert "ended the transaction" in refused.err
    assert database.contents() == before
    assert not list(yeldro.receipts.glob("*"))


@ON_SQLSERVER
def test_truncate_comes_back_and_is_refused_where_rows_are_referenced(yeldro: Yeldro, made) -> None:
    database = made(MASTS + TWO)
    words = ("mast", "--all-rows", "--truncate", "--expect", "2")
    there_and_back(yeldro, database, *words)
    database.script("CREATE TABLE lamp (id int PRIMARY KEY, mast_id int REFERENCES mast (id))")
    refused = yeldro("run", *words, "--yes", db=database.url, code=3).err
    assert "lamp.mast_id → mast.id references it" in refused


@ON_SQLSERVER
@pytest.mark.parametrize(
    ("change", "said"),
    [
        (lambda url: url.replace("sa@", "sa:wrong@"), "cannot be reached"),
        (lambda url: f"{url}_gone", "cannot be reached"),
        (lambda _: f"mssql://sa@127.0.0.1:{free_port()}/buoys", "unavailable or does not exist"),
        (lambda url: url.rpartition("/")[0], "names no database"),
        (lambda url: url.replace("mssql:", "mssql+pyodbc:"), "does not connect through"),
    ],
    ids=["password", "database", "port", "no name", "driver"],
)
def test_what_keeps_it_from_being_reached_is_told(yeldro: Yeldro, made, change, said) -> None:
    url = change(made(MASTS).url)
    told = yeldro("survey", db=url, code=None)
    assert told.code in (2, 5)
    assert said in told.err
    assert "wrong" not in told.err


@ON_SQLSERVER
def test_a_variable_has_the_password_that_a_receipt_does_not(yeldro: Yeldro, made) -> None:
    database = made(MASTS + TWO)
    yeldro.environment["YELDRO_PASSWORD"] = "wrong"
    assert "cannot be reached" in yeldro("survey", db=database.url, code=5).err
    yeldro.environment["YELDRO_PASSWORD"] = ""
    yeldro("run", "mast", "--where", "id = 1", "--expect", "1", "--yes", db=database.url)
    yeldro("restore", "last", "--yes")


def test_the_demo_starts_the_standin_and_leaves_nothing_behind(yeldro: Yeldro) -> None:
    out = yeldro("demo", "walked", "--readings", "2000", "--standin", "sqlserver").out
    assert out.count("Committed: ") == 4
    assert out.rstrip().endswith("all back") or "all back" in out
    both = ("--standin", "sqlserver", "--db", "x.db")
    assert "name two databases" in yeldro("demo", "again", *both, code=2).err


@ON_SQLSERVER
def test_blanks_at_the_end_of_a_text_are_part_of_it(yeldro: Yeldro, made) -> None:
    """A row that comes to hold others is not the row that went, though `=` does not see it."""
    database = made(MASTS + TWO)
    yeldro("run", "mast", "--where", "id = 1", "--expect", "1", "--yes", db=database.url)
    database.script("INSERT INTO mast VALUES (1, N'Tall ')")
    assert yeldro("receipt", "check", "--json").json()["verdict"] != "all back"
    refused = yeldro("restore", "last", "--yes", code=3).err
    assert "mast" in refused


@ON_SQLSERVER
@pytest.mark.parametrize(
    ("where", "found"),
    [
        ("name = '%(p)s' OR id = :p", 1),
        ("name LIKE '%s%' AND id >= :p", 1),
        ("name = '%s :a' AND id = :p", 0),
        ("name = '%d' OR name = '100%%'", 1),
        ("name = :t OR id = 9 AND id > :p", 1),
    ],
)
def test_what_looks_like_a_parameter_in_a_text_is_text(yeldro, made, where, found) -> None:
    database = made("CREATE TABLE mast (id int PRIMARY KEY, name nvarchar(20))")
    database.script("INSERT INTO mast VALUES (1, N'one'), (2, N'%s'), (3, N'100%%'), (4, N'x''%d')")
    words = ["preview", "mast", "--where", where, "--json"]
    for name, value in (("p", "1"), ("t", "x'%d")):
        words += ["--param", f"{name}={value}"] if f":{name}" in where else []
    assert yeldro(*words, db=database.url).one()["matched"] == found


BATCHES = [
    ("DELETE FROM dbo.mast WHERE name = N'Low';\nGO\n", [1]),
    ("DELETE FROM mast WHERE id = 1\nDELETE FROM mast WHERE id = 2\ngo", [1, 1]),
    ("DELETE FROM mast WHERE name = 'x\nGO\ny' OR name = 'DECLARE @x int = 1'", [0]),
    ("DECLARE @n nvarchar(2) = N'Lowest', @i AS int = 2;\n"
     "DELETE FROM mast WHERE name LIKE @N + N'%' AND id = @i", [1]),
    ("DECLARE @d datetime2 = GETDATE()\nDELETE FROM mast WHERE id = 1", "only constants"),
    ("DELETE FROM mast WHERE id = 1\nGO 3", "GO with a number"),
    ("DELETE TOP (1) FROM mast WHERE id > 0", "takes any of the rows"),
    ("DELETE FROM mast WHERE id = @other", "@other is not a parameter"),
    ("WITH two AS (SELECT *, ROW_NUMBER() OVER (PARTITION BY name ORDER BY id) AS n FROM mast)\n"
     "DELETE FROM two WHERE n > 1", [0]),
    ("DELETE m FROM mast AS m JOIN mast AS o ON o.id = m.id + 1 WHERE o.name = N'Low'", [1]),
    ("DELETE mast WHERE name = N'Low'", [1]),
]  # fmt: skip


@ON_SQLSERVER
@pytest.mark.parametrize(("text", "found"), BATCHES)
def test_a_file_for_sql_server_is_read_as_people_write_it(yeldro, made, text, found) -> None:
    database = made(MASTS + TWO)
    (yeldro.folder / "in.sql").write_text(text)
    words = ("plan", "--sql", "in.sql", "--json")
    if isinstance(found, str):
        assert found in yeldro(*words, db=database.url, code=2).err
        return
    document = yeldro(*words, db=database.url).json()
    assert [each["matched"] for each in document["removes"]] == found


@pytest.mark.parametrize("network", ["sqlserver"], indirect=True)
@pytest.mark.parametrize(
    "words",
    [
        ("alert", "--where", "level = 'notice'"),
        ("buoy", "--where", "id < 9", "--follow", "all"),
        ("technician", "--where", "id = 3", "--detach", "calibration", "--follow", "visit"),
        ("reading", "--duplicates-by", "sensor_id,taken_at", "--keep", "lowest:id", "--detach",
         "alert"),
    ],
    ids=["filter", "ripple", "detach", "duplicates"],
)  # fmt: skip
def test_a_script_does_there_what_a_run_does_and_nothing_twice(yeldro, network, words) -> None:
    before = network.contents()
    script = yeldro("script", *words, db=network.url).out
    yeldro("run", *words, "--expect", "total=0..", "--yes", db=network.url)
    gone = network.contents()
    assert gone != before
    yeldro("restore", "last", "--yes")
    assert network.contents() == before
    network.batch(script)
    assert network.contents() == gone
    with pytest.raises(pymssql.Error, match=r"not those of the plan|rows were expected"):
        network.batch(script)
    assert network.contents() == gone


LOGGED = """
    CREATE TABLE lamp (id int PRIMARY KEY, mast_id int REFERENCES mast (id) ON DELETE CASCADE);
    INSERT INTO lamp VALUES (7, 1), (8, 1), (9, 2);
    CREATE TABLE heard (said nvarchar(40));
"""


@ON_SQLSERVER
def test_a_trigger_sees_the_rows_that_went_and_those_that_came_back(yeldro, made) -> None:
    database = made(MASTS + TWO + LOGGED)
    for table in ("mast", "lamp"):
        database.batch(f"""
            CREATE TRIGGER hears_{table} ON {table} AFTER DELETE, INSERT, UPDATE AS
            INSERT INTO heard SELECT CONCAT('{table} -', id) FROM deleted;
            INSERT INTO heard SELECT CONCAT('{table} +', id) FROM inserted;
        """)
    allowed = ("--allow-trigger", "hears_mast", "--allow-trigger", "hears_lamp", "--yes")
    words = ("mast", "--where", "id = 1", "--expect", "1", "--expect", "total=3")
    yeldro("run", *words, *allowed, db=database.url)
    heard = "SELECT said FROM heard ORDER BY said"
    gone = [("lamp -7",), ("lamp -8",), ("mast -1",)]
    assert database.rows(heard) == gone
    yeldro("restore", "last", *allowed, db=database.url)
    assert database.rows(heard) == sorted([("lamp +7",), ("lamp +8",), ("mast +1",), *gone])
    database.script(
        "DELETE FROM heard; DELETE FROM mast WHERE id = 1; DELETE FROM mast WHERE id = 1"
    )
    assert database.rows(heard) == gone  # as the server itself does by the declared action


@ON_SQLSERVER
def test_a_trigger_that_takes_the_place_of_a_deletion_is_refused_by_name(yeldro, made) -> None:
    """The server would count rows that stay."""
    database = made(MASTS + TWO)
    database.batch(
        "CREATE TRIGGER keeping ON mast INSTEAD OF DELETE AS DELETE FROM mast WHERE 0 = 1"
    )
    words = ("run", "mast", "--where", "id = 1", "--expect", "1", "--yes")
    for more in ((), ("--allow-trigger", "keeping")):
        told = yeldro(*words, *more, db=database.url, code=3).err
        assert "mast is a table whose trigger keeping takes the place of" in told
    assert database.value("SELECT count(*) AS n FROM mast") == 2


@ON_SQLSERVER
def test_what_a_trigger_selects_is_not_taken_for_a_count(yeldro: Yeldro, made) -> None:
    """Also of rows without a key, which go by their number."""
    database = made("CREATE TABLE heap (n int); INSERT INTO heap VALUES (7), (7), (8);")
    database.batch("CREATE TRIGGER telling ON heap AFTER DELETE, INSERT AS SELECT n FROM deleted;"
                   " SELECT 41 AS n")  # fmt: skip
    words = ("heap", "--where", "n = 7", "--expect", "2", "--yes", "--allow-trigger", "telling")
    assert yeldro("run", *words, "--json", db=database.url).json()["total"] == 2
    assert database.rows("SELECT n FROM heap") == [(8,)]
    yeldro("restore", "last", "--yes", "--allow-trigger", "telling")
    assert len(database.rows("SELECT n FROM heap")) == 3


@ON_SQLSERVER
def test_ctrl_c_ends_a_long_statement_and_leaves_everything(yeldro: Yeldro, made) -> None:
    numbers = " UNION ALL ".join(f"SELECT {n} AS d" for n in range(20))
    database = made(f"{MASTS} INSERT INTO mast SELECT a.d * 20 + b.d, N'' FROM ({numbers}) AS a,"
                    f" ({numbers}) AS b")  # fmt: skip
    crossed = "SELECT count(*) FROM mast a, mast b, mast c, mast d WHERE a.id <> b.id + c.id + d.id"
    words = ("run", "mast", "--where", f"id < ({crossed})", "--expect", "400", "--yes")
    child = typing(yeldro, database, *words)

    def is_locked() -> bool:
        try:
            database.batch("SET LOCK_TIMEOUT 1; UPDATE mast SET name = name")
        except pymssql.Error as error:
            return error.args[0] == 1222
        return False

    interrupt(child, is_locked)
    assert database.value("SELECT count(*) AS n FROM mast") == 400
    assert not is_locked()
