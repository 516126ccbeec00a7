"""A real driver works with the stand-in for SQL Server as with a server, and is refused there."""

from __future__ import annotations

import subprocess
import sys
import uuid
from collections.abc import Iterator
from contextlib import contextmanager
from dataclasses import dataclass
from datetime import date, datetime, time, timedelta, timezone
from decimal import Decimal
from typing import Any

import pymssql
import pytest
import sqlalchemy as sa

from yeldro.standins.sqlserver.databases import Databases
from yeldro.standins.sqlserver.refusals import REFUSALS, ReadError

PASSWORD = "a secret \N{SNOWMAN}"


@dataclass
class Standin:
    """A stand-in that runs, as a process of its own."""

    port: int
    process: subprocess.Popen[str]

    def connect(self, **given: str) -> Any:
        words = {"user": "sa", "password": PASSWORD, "database": "buoys"} | given
        return pymssql.connect(server="127.0.0.1", port=str(self.port), **words)


@contextmanager
def started() -> Iterator[Standin]:
    words = ["-m", "yeldro.standins", "sqlserver", "--password", PASSWORD]
    with subprocess.Popen([sys.executable, *words], stdout=subprocess.PIPE, text=True) as process:
        assert process.stdout is not None
        yield Standin(int(process.stdout.readline()), process)
        process.kill()


@pytest.fixture(scope="module")
def standin() -> Iterator[Standin]:
    with started() as found:
        yield found


@pytest.fixture
def table(standin: Standin) -> Iterator[str]:
    """A new table of ids and names."""
    name = f"mast_{uuid.uuid4().hex[:8]}"
    with standin.connect() as connection:
        cursor = connection.cursor()
        cursor.execute(f"CREATE TABLE dbo.{name} (id int NOT NULL PRIMARY KEY, name nvarchar(20))")
        cursor.execute(f"INSERT INTO dbo.{name} (id, name) VALUES (1, N'Tall'), (2, NULL)")
        connection.commit()
    yield name
    with standin.connect() as connection:
        connection.cursor().execute(f"DROP TABLE {name}")
        connection.commit()


def answered(connection: Any, statement: str, *values: Any) -> list[tuple[Any, ...]]:
    cursor = connection.cursor()
    cursor.execute(statement, values)
    return list(cursor.fetchall()) if cursor.description else []


@pytest.mark.parametrize(
    ("given", "number"),
    [({"password": "no"}, 18456), ({"user": "no"}, 18456), ({"database": "no"}, 4060)],
)
def test_who_may_not_log_in_is_told_by_a_number(standin, given, number) -> None:
    with pytest.raises(pymssql.Error) as refused:
        standin.connect(**given)
    assert "DB-Lib error" in str(refused.value)
    assert number == 4060 or str(number) in str(refused.value)


TYPES = [
    ("int", "-5", -5),
    ("bigint", str(2**63 - 1), 2**63 - 1),
    ("bit", "1", True),
    ("float", "-0.25", -0.25),
    ("decimal(10, 2)", "-12.75", Decimal("-12.75")),
    ("date", "'9999-12-31'", date(9999, 12, 31)),
    ("time(6)", "'23:59:59.999999'", time(23, 59, 59, 999999)),
    ("datetime2(7)", "'0001-01-01 01:02:03.456'", datetime(1, 1, 1, 1, 2, 3, 456000)),
    (
        "datetimeoffset(7)",
        "'2020-01-01 00:30:00-05:30'",
        datetime(2020, 1, 1, 0, 30, tzinfo=timezone(timedelta(hours=-5, minutes=-30))),
    ),
    ("uniqueidentifier", f"'{uuid.UUID(int=7)}'", uuid.UUID(int=7)),
    ("nvarchar(20)", "N'it''s \u2603 \U0001f6a9'", "it's \u2603 \U0001f6a9"),
    ("nvarchar(max)", f"N'{'x' * 5000}'", "x" * 5000),
    ("nvarchar(20)", "N''", ""),
    ("varbinary(20)", "0x00ff", b"\x00\xff"),
    ("varbinary(max)", f"0x{'01' * 9000}", b"\x01" * 9000),
    ("int", "NULL", None),
]


@pytest.mark.parametrize(("declared", "written", "value"), TYPES, ids=lambda each: str(each)[:20])
def test_a_value_comes_back_through_the_driver_as_it_was_written(
    standin, declared, written, value
) -> None:
    with standin.connect() as connection:
        answered(connection, f"CREATE TABLE #kept (v {declared})")
        answered(connection, f"INSERT INTO #kept (v) VALUES ({written})")
        ((found,),) = answered(connection, "SELECT v FROM #kept")
    assert found == value
    assert type(found) is type(value)


@pytest.mark.parametrize(
    ("statement", "number"),
    [
        ("SELECT id FROM {0} WHERE (id, name) IN (SELECT id, name FROM {0})", 4145),
        ("SELECT * FROM nothing", 208),
        ("SELECT nothing FROM {0}", 207),
        ("INSERT INTO {0} (id) VALUES (1)", 2627),
        ("INSERT INTO {0} (name) VALUES (N'x')", 515),
        ("CREATE TABLE {0} (id int)", 2714),
        ("EXECUTE nothing", 102),
        ("SELECT @@nothing AS n", 137),
        ("USE nothing", 911),
        ("CREATE TABLE more (id xml)", 50000),
    ],
)
def test_a_statement_is_refused_by_its_number(standin, table, statement, number) -> None:
    with standin.connect() as connection, pytest.raises(pymssql.Error) as refused:
        answered(connection, statement.format(table))
    assert refused.value.args[0] == number


def test_rows_are_counted_and_a_transaction_is_taken_back(standin, table) -> None:
    with standin.connect() as one, standin.connect() as other:
        cursor = one.cursor()
        cursor.execute(f"UPDATE dbo.[{table}] SET name = N'Low' WHERE id < %s", (9,))
        assert cursor.rowcount == 2
        assert answered(one, "SELECT ROWCOUNT_BIG() AS n, @@TRANCOUNT AS t") == [(2, 1)]
        assert answered(other, f"SELECT name FROM {table} WHERE id = 1") == [("Tall",)]
        one.rollback()
        assert answered(one, f"SELECT name FROM {table} ORDER BY id") == [("Tall",), (None,)]
        cursor.execute(f"DELETE FROM {table}")
        assert cursor.rowcount == 2
        other.rollback()
        one.commit()
        assert answered(other, f"SELECT count(*) AS n FROM {table}") == [(0,)]


def test_who_would_write_what_another_writes_is_told_of_the_lock(standin, table) -> None:
    with standin.connect() as one, standin.connect() as other:
        answered(one, f"DELETE FROM {table} WHERE id = 1")
        answered(other, "SET LOCK_TIMEOUT 100")
        with pytest.raises(pymssql.Error) as refused:
            answered(other, f"DELETE FROM {table} WHERE id = 2")
        assert refused.value.args[0] == 1222


def test_a_savepoint_is_gone_back_to_and_a_temporary_table_is_of_one_session(
    standin, table
) -> None:
    with standin.connect() as one, standin.connect() as other:
        answered(one, "SAVE TRANSACTION here")
        answered(one, f"DELETE FROM {table}")
        answered(one, "ROLLBACK TRANSACTION here")
        answered(one, "CREATE TABLE #keys (id int NOT NULL)")
        answered(one, f"INSERT INTO #keys (id) SELECT id FROM {table}")
        assert answered(one, "SELECT count(*) AS n FROM #keys") == [(2,)]
        with pytest.raises(pymssql.Error) as refused:
            answered(other, "SELECT count(*) AS n FROM #keys")
        assert refused.value.args[0] == 208


def test_a_result_that_is_not_read_to_its_end_is_left_behind(standin) -> None:
    digits = "SELECT 1 AS n" + " UNION ALL SELECT 1" * 9
    rows = f"SELECT a.n FROM ({digits}) AS a CROSS JOIN ({digits}) AS b CROSS JOIN ({digits}) AS c"
    with standin.connect() as connection:
        cursor = connection.cursor()
        cursor.execute(rows)
        assert cursor.fetchone() == (1,)
        assert answered(connection, "SELECT 5 AS five") == [(5,)]
        assert len(answered(connection, rows)) == 1000


def test_a_statement_of_sqlalchemy_is_carried_out(standin, table) -> None:
    address = sa.URL.create("mssql+pymssql", "sa", PASSWORD, "127.0.0.1", standin.port, "buoys")
    rows = sa.table(table, sa.column("id"), sa.column("name"))
    engine = sa.create_engine(address)
    with engine.begin() as connection:
        with connection.begin_nested() as nested:
            assert connection.execute(sa.delete(rows)).rowcount == 2
            nested.rollback()
        found = connection.execute(sa.select(rows.c.name).where(rows.c.id == 1)).scalar_one()
        assert found == "Tall"
    engine.dispose()


def test_every_refusal_is_replayed_on_a_server(standin) -> None:
    url = sa.URL.create("mssql", "sa", PASSWORD, "127.0.0.1", standin.port, "buoys")
    words = ["-m", "yeldro.standins", "replay", "--db", url.render_as_string(False)]
    done = subprocess.run([sys.executable, *words], capture_output=True, text=True, check=False)
    said = f"{len(REFUSALS)} refusals tried, 0 differences.\n"
    assert (done.returncode, done.stdout) == (0, said), done


def test_a_server_that_cannot_be_reached_is_not_replayed_on() -> None:
    for url in ("mssql://sa@127.0.0.1:1/none", "no url"):
        words = ["-m", "yeldro.standins", "replay", "--db", url]
        done = subprocess.run([sys.executable, *words], capture_output=True, text=True, check=False)
        assert (done.returncode, done.stdout) == (1, "")
        assert done.stderr.startswith("The server could not be tried: ")


def test_a_connection_that_dies_in_a_result_gives_an_error_and_never_fewer_rows() -> None:
    digits = f"SELECT N'{'x' * 400}' AS n" + " UNION ALL SELECT N'y'" * 9
    tables = " CROSS JOIN ".join(f"({digits}) AS t{n}" for n in range(5))
    with started() as standin, standin.connect() as connection:
        cursor = connection.cursor()
        cursor.execute(f"SELECT t0.n, t1.n AS m FROM {tables}")
        assert len(cursor.fetchone()) == 2
        standin.process.kill()
        with pytest.raises(pymssql.Error):
            cursor.fetchall()


def test_a_database_is_dropped_only_when_nobody_uses_it(standin, tmp_path) -> None:
    for number in range(20):  # what the session before left open is closed meanwhile
        with standin.connect(database="buoys") as connection:
            connection.autocommit(True)
            answered(connection, "DROP DATABASE IF EXISTS mine")
            answered(connection, "CREATE DATABASE mine")
        with standin.connect(database="mine") as connection:
            made = "CREATE TABLE kept (id int IDENTITY(1, 1), n int)"
            answered(connection, f"{made}; INSERT INTO kept (n) VALUES ({number})")
            assert answered(connection, "SELECT id, n FROM kept") == [(1, number)]
            connection.commit()
    databases = Databases(tmp_path, waits=0.01)
    databases.make("mine")
    databases.opened("MINE").close()
    with pytest.raises(ReadError, match="3702"):
        databases.drop("mine")
    databases.closed("mine")
    databases.drop("mine")
    with pytest.raises(ReadError, match="4060"):
        databases.opened("mine")


def test_an_error_in_a_trigger_undoes_the_transaction_that_fired_it(standin) -> None:
    with standin.connect() as connection:
        connection.autocommit(True)
        cursor = connection.cursor()
        cursor.execute("CREATE TABLE kept (n int); INSERT INTO kept VALUES (1), (2), (3)")
        seen = "EXISTS (SELECT 1 FROM deleted WHERE n = 2)"
        cursor.execute("CREATE TRIGGER keeping ON kept AFTER DELETE AS"
                       f" IF {seen} THROW 50002, N'kept', 1")  # fmt: skip
        for statement in ("DELETE FROM kept", "BEGIN TRANSACTION; DELETE FROM kept WHERE n = 1;"
                          " DELETE FROM kept WHERE n = 2"):  # fmt: skip
            with pytest.raises(pymssql.Error, match="kept"):
                cursor.execute(statement)
            cursor.execute("SELECT @@TRANCOUNT AS depth, (SELECT COUNT(*) FROM kept) AS n")
            assert cursor.fetchall() == [(0, 3)]
        cursor.execute("DELETE FROM kept WHERE n = 3")
        cursor.execute("SELECT COUNT(*) AS n FROM kept")
        assert cursor.fetchall() == [(2,)]
