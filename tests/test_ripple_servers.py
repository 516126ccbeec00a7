"""The ripple against the servers themselves: random schemas, random rows, plain deletions."""

from __future__ import annotations

import uuid
from collections.abc import Iterator
from dataclasses import replace
from pathlib import Path
from typing import Any, Protocol

import psycopg
import pymysql
import pytest
from conftest import need
from on_sqlserver import SqlServerSchema, for_sql_server
from random_schemas import Case, quoted, random_case
from systems import MariadbServerDatabase, PostgresqlServerDatabase, SqlServerDatabase
from test_ripple import cleanup_as_chosen, cleanup_of
from test_sql import carry_out
from trials import Trials
from undoing import back_and_forth

from yeldro.core.execution.run import plan, run
from yeldro.core.model.messages.errors import Refused
from yeldro.core.planning.cleanup import Cleanup
from yeldro.core.planning.job import Job
from yeldro.core.receipts.reader import read_receipt
from yeldro.core.receipts.writer import ReceiptOptions
from yeldro.core.restore.restore import restore
from yeldro.engines import open_database
from yeldro.formats import sql_out

FEW, MANY = 6, 100


class Schema(Protocol):
    """A case's tables and rows on a server."""

    url: str

    def delete(self) -> bool:
        """Have the server carry out the plain deletion; False where it refuses."""

    def contents(self) -> dict[str, list[str]]:
        """Every table's rows, sorted."""

    def close(self) -> None: ...


class Server(Protocol):
    """A server, with what it does not know left out of the cases."""

    def drop(self) -> None: ...

    def suited(self, case: Case) -> Case:
        """Return the case in the server's own words."""

    def made(self, name: str, case: Case, late: bool) -> Schema:
        """Return the case in a schema of its own.

        Args:
            late: foreign keys are checked at the commit, where the server can.
        """


def filled(case: Case, execute: Any) -> None:
    """Insert a case's rows, one by one."""
    for number in range(len(case.tables)):
        insert = case.insert(number, "?").replace("%", "%%").replace("?", "%s")
        for values in case.values(number):
            execute(insert, values)


class OnPostgresql:
    """Cases in schemas of one PostgreSQL database."""

    def __init__(self) -> None:
        self.database = PostgresqlServerDatabase(f"yeldro_{uuid.uuid4().hex[:12]}")
        self.drop = self.database.drop

    def suited(self, case: Case) -> Case:
        return case.in_standard_sql()

    def made(self, name: str, case: Case, late: bool) -> Schema:
        return PostgresqlSchema(self.database, name, case, late)


class PostgresqlSchema:
    """One schema."""

    def __init__(self, server: PostgresqlServerDatabase, name: str, case: Case, late: bool) -> None:
        self.url = f"{server.url}?options=-csearch_path%3D{name}"
        self.case = case
        self.connection = psycopg.connect(server.url, autocommit=True)
        self.close = self.connection.close
        self.connection.execute(f"SET search_path = {name}")
        self.connection.execute(f"DROP SCHEMA IF EXISTS {name} CASCADE; CREATE SCHEMA {name}")
        for number in range(len(case.tables)):
            self.connection.execute(case.declared(number, inline_keys=False))
        filled(case, self.connection.execute)
        when = " DEFERRABLE INITIALLY DEFERRED" if late else ""
        for link in case.links:
            table = quoted(case.tables[link.child].name)
            self.connection.execute(f"ALTER TABLE {table} ADD {case.foreign_key(link)}{when}")

    def delete(self) -> bool:
        name = quoted(self.case.tables[self.case.target].name)
        try:
            with self.connection.transaction():
                self.connection.execute(f"DELETE FROM {name} WHERE mark < {self.case.below}")
        except psycopg.errors.IntegrityError:
            return False
        return True

    def contents(self) -> dict[str, list[str]]:
        return {
            table.name: [
                row[0]
                for row in self.connection.execute(
                    f"SELECT t::text FROM {quoted(table.name)} AS t ORDER BY 1"
                )
            ]
            for table in self.case.tables
        }


class OnMariadb:
    """Cases in databases of the MariaDB server."""

    def __init__(self) -> None:
        self.databases = {each: MariadbServerDatabase(f"yeldro_{uuid.uuid4().hex[:12]}")
                          for each in ("ours", "theirs")}  # fmt: skip

    def drop(self) -> None:
        for database in self.databases.values():
            database.drop()

    def suited(self, case: Case) -> Case:
        """InnoDB knows no SET DEFAULT, and no SET NULL of a column that cannot be NULL."""
        links = [
            replace(link, action="SET NULL" if link.nullable else "NO ACTION")
            if link.action in ("SET DEFAULT", "SET NULL")
            else link
            for link in case.links
        ]
        return replace(case.in_standard_sql(), links=tuple(links))

    def made(self, name: str, case: Case, late: bool) -> Schema:
        del late
        return MariadbSchema(self.databases[name], case)


class MariadbSchema:
    """One database."""

    def __init__(self, database: MariadbServerDatabase, case: Case) -> None:
        self.url = database.url
        self.case = case
        self.connection = database.connect()
        self.close = self.connection.close
        self.execute("SET sql_mode = 'ANSI_QUOTES,STRICT_TRANS_TABLES', foreign_key_checks = 0")
        for (table,) in self.execute("SHOW TABLES"):
            self.execute(f"DROP TABLE {quoted(table)}")
        for number in range(len(case.tables)):
            self.execute(case.declared(number).replace(" TEXT", " VARCHAR(20)"))
        filled(case, self.execute)
        self.execute("SET foreign_key_checks = 1")

    def execute(self, statement: str, values: Any = None) -> Any:
        with self.connection.cursor() as cursor:
            cursor.execute(statement, values)
            return cursor.fetchall()

    def delete(self) -> bool:
        name = quoted(self.case.tables[self.case.target].name)
        try:
            self.execute(f"DELETE FROM {name} WHERE mark < {self.case.below}")
        except (pymysql.IntegrityError, pymysql.OperationalError):
            return False
        return True

    def contents(self) -> dict[str, list[str]]:
        return {
            table.name: sorted(
                repr(row) for row in self.execute(f"SELECT * FROM {quoted(table.name)}")
            )
            for table in self.case.tables
        }


class OnSqlServer:
    """Cases in databases of the SQL Server, each made anew."""

    def __init__(self) -> None:
        self.names = {each: f"yeldro_{uuid.uuid4().hex[:12]}" for each in ("ours", "theirs")}

    def drop(self) -> None:
        for name in self.names.values():
            SqlServerDatabase(name).drop()

    def suited(self, case: Case) -> Case:
        return for_sql_server(case)

    def made(self, name: str, case: Case, late: bool) -> Schema:
        del late
        return SqlServerSchema(SqlServerDatabase(self.names[name]), case)


SERVERS = {"postgresql": OnPostgresql, "mariadb": OnMariadb, "sqlserver": OnSqlServer}


@pytest.fixture(scope="module", params=SERVERS)
def server(request: pytest.FixtureRequest) -> Iterator[Server]:
    need(request.param)
    found: Server = SERVERS[request.param]()
    yield found
    found.drop()


def check(server: Server, folder: Path, case: Case, cleanup: Cleanup) -> None:
    """Yeldro and the server end with the same rows; and restore undoes it all.

    What the server refuses, Yeldro may do where by a plain fixpoint nothing is left hanging:
    InnoDB checks row by row, and PostgreSQL a default at once.
    """
    declared = case.as_sqlite_would_treat_it()
    expected = declared.outcome()
    ours = server.made("ours", case, late=False)
    theirs = server.made("theirs", declared, late=True)
    try:
        goes = theirs.delete()
        theirs_after = theirs.contents()
    finally:
        theirs.close()
    try:
        before = ours.contents()
        database = open_database(ours.url)
        try:
            blocked = bool(plan(database, Job.of(cleanup)).plans[0].blocked)
        except Refused as refused:
            assert "cycle" in refused.evidence, refused
            return
        if expected is None or case.holds_null_where_not_allowed(expected):
            assert blocked
            assert expected or not goes
            return
        assert blocked is declared.lacks_parents(expected)
        if blocked:
            assert not goes
            return
        result = run(database, Job.of(cleanup), ReceiptOptions(folder), 5)
        if goes:
            assert ours.contents() == theirs_after
        wanted = server.made("theirs", replace(declared, rows=expected), late=True)
        assert ours.contents() == wanted.contents()
        wanted.close()
        if result.receipt is not None:
            if result.tally.total % 6 == 1:
                back_and_forth(database, result.receipt, ours.contents)
            else:
                restore(database, read_receipt(result.receipt), 5)
            assert ours.contents() == before
    finally:
        ours.close()


@pytest.fixture(scope="module")
def folder(tmp_path_factory: pytest.TempPathFactory) -> Path:
    return tmp_path_factory.mktemp("receipts")


def test_declared_actions_end_as_on_the_server_or_are_blocked(
    server, folder, trials: Trials
) -> None:
    for number in trials(FEW, MANY):
        case = server.suited(random_case(number))
        check(server, folder, case, cleanup_of(case))


def test_follow_all_ends_as_if_every_key_were_declared_cascade(
    server, folder, trials: Trials
) -> None:
    for number in trials(FEW, MANY):
        case = server.suited(random_case(number))
        case = replace(case, choices=dict.fromkeys(range(len(case.links)), "follow"))
        check(server, folder, case, cleanup_of(case, follow=("all",)))


def test_chosen_treatments_end_as_if_they_had_been_declared(server, folder, trials: Trials) -> None:
    for number in trials(FEW, MANY):
        case = server.suited(random_case(number, choose=True))
        check(server, folder, case, cleanup_as_chosen(case))


def test_random_scripts_end_as_a_run_ends(server, folder, tmp_path: Path, trials: Trials) -> None:
    """The system's own program carries the script out; another count stops it."""
    done = 0
    for number in trials(4, 30):
        case = server.suited(random_case(number))
        ours = server.made("ours", case, late=False)
        job = Job.of(cleanup_of(case, follow=("all",)))
        script = tmp_path / "out.sql"
        try:
            script.write_text(sql_out.script(open_database(ours.url), job, None))
        except Refused as refused:
            assert refused.next_step
            ours.close()
            continue
        before = ours.contents()
        theirs = server.made("theirs", case, late=False)
        run(open_database(theirs.url), job, ReceiptOptions(folder), 5)
        assert carry_out(ours, script) == 0
        assert ours.contents() == theirs.contents() != before
        assert carry_out(ours, script) != 0
        assert ours.contents() == theirs.contents()
        ours.close()
        theirs.close()
        done += 1
    assert done or trials.only_one
