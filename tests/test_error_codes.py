"""Every error of a system, at any moment, has its cause and next step, and all is undone."""

from __future__ import annotations

import random
import sqlite3
from collections.abc import Callable, Iterator
from contextlib import contextmanager
from typing import Any

import psycopg.errors
import pymssql
import pymysql
import pytest
import sqlalchemy as sa
from conftest import Yeldro
from pymysql.constants import CR, ER
from systems import AnyDatabase
from trials import Trials

import yeldro as api
from yeldro.core.model.messages.errors import YeldroError
from yeldro.engines.mariadb import errors as mariadb
from yeldro.engines.postgresql import errors as postgresql
from yeldro.engines.sqlite.errors import Explained
from yeldro.engines.sqlserver import errors as sqlserver
from yeldro.engines.sqlserver.compiler import Dialect

REASON = "the reason of the system"


def postgresql_errors() -> list[Exception]:
    every = vars(psycopg.errors).values()
    found = [each for each in every if isinstance(getattr(each, "sqlstate", None), str)]
    kinds = {each.sqlstate: each for each in found}
    return [kind(REASON) for _, kind in sorted(kinds.items())]


def mariadb_errors() -> list[Exception]:
    numbers = {number for source in (ER, CR) for name, number in vars(source).items()
               if name.isupper() and isinstance(number, int) and number >= 1000}  # fmt: skip
    found = []
    for number in sorted(numbers | {1969, 1927, 1932, 4025, 9999}):
        try:
            pymysql.err.raise_mysql_exception(number.to_bytes(2, "little").rjust(3, b"\xff")
                                              + b"#HY000" + REASON.encode())  # fmt: skip
        except pymysql.err.MySQLError as error:
            found.append(error)
    return found


def sqlite_errors() -> list[Exception]:
    found = []
    for code in range(1, 27):
        error = (sqlite3.IntegrityError if code == 19 else sqlite3.OperationalError)(REASON)
        error.sqlite_errorcode = code
        found.append(error)
    return found


def sqlserver_errors() -> list[Exception]:
    numbers = [number for each in sqlserver._CAUSES for number in each.codes]
    return [pymssql.OperationalError(number, REASON.encode()) for number in [*numbers, 9999]]


ERRORS: dict[str, Callable[[], list[Exception]]] = {
    "postgresql": postgresql_errors, "mariadb": mariadb_errors, "sqlite": sqlite_errors,
    "sqlserver": sqlserver_errors,
}  # fmt: skip


def explained(system: str, raised: Exception, tmp_path: Any) -> Exception:
    error = sa.exc.DBAPIError.instance("SELECT 1", {}, raised, (psycopg.Error, sqlite3.Error,
                                       pymysql.MySQLError, pymssql.Error))  # fmt: skip
    assert isinstance(error, sa.exc.DBAPIError)
    if system == "sqlite":
        return Explained(tmp_path / "x.db", 1, 10, writes=True).error(error, in_time=True)
    engines = {"postgresql": postgresql, "mariadb": mariadb, "sqlserver": sqlserver}
    return engines[system].explained(error, "there", 10)


@pytest.mark.parametrize("system", ERRORS)
def test_every_code_of_a_system_has_its_words_and_a_next_step(system: str, tmp_path) -> None:
    raised = ERRORS[system]()
    assert len(raised) > 20
    for each in raised:
        error = explained(system, each, tmp_path)
        assert isinstance(error, YeldroError), each
        assert error.next_step or error.exit_code == 130, each
        assert error.exit_code in (2, 3, 5, 130), each
        if "look it up" in error.next_step:
            assert REASON in error.why


def test_what_a_pipeline_may_try_again_is_told_apart(tmp_path) -> None:
    kinds = {"40001": api.ConcurrentChange, "40P01": api.ConcurrentChange, "55P03": api.LockTimeout,
             "53100": api.OutOfSpace, "53300": api.OutOfReach, "57P01": api.ConnectionLost,
             "42501": api.AccessDenied}  # fmt: skip
    for each in postgresql_errors():
        if kind := kinds.get(each.sqlstate or ""):  # type: ignore[attr-defined]
            assert type(explained("postgresql", each, tmp_path)) is kind
    numbers = {1205: api.LockTimeout, 1213: api.ConcurrentChange, 1020: api.ConcurrentChange,
               1021: api.OutOfSpace, 1040: api.OutOfReach, 1927: api.ConnectionLost,
               1142: api.AccessDenied}  # fmt: skip
    for each in mariadb_errors():
        if kind := numbers.get(each.args[0]):
            assert type(explained("mariadb", each, tmp_path)) is kind
    codes = {5: api.LockTimeout, 6: api.LockTimeout, 8: api.AccessDenied, 13: api.OutOfSpace}
    for each in sqlite_errors():
        if kind := codes.get(each.sqlite_errorcode):  # type: ignore[attr-defined]
            assert type(explained("sqlite", each, tmp_path)) is kind


def test_a_disk_that_fails_says_nothing_of_whether_rows_can_come_back(yeldro, demo) -> None:
    run = ("run", "alert", "--where", "level = 'notice'", "--expect", "97", "--yes")
    (failed,) = (each for each in sqlite_errors() if each.sqlite_errorcode == sqlite3.SQLITE_IOERR)
    with failing("EXPLAIN INSERT", failed):
        told = " ".join(yeldro(*run, db=demo.url, code=5).err.split())
    assert REASON in told
    assert "put back" not in told


@contextmanager
def failing(at: int | str, error: Exception) -> Iterator[list[int]]:
    """A statement fails with an error of the system.

    Args:
        at: its number, the first being 1, or how it begins.
    """
    count = [0]

    def counting(execute: Callable[..., Any]) -> Callable[..., Any]:
        def do_execute(self: Any, cursor: Any, statement: str, *given: Any, **named: Any) -> Any:
            count[0] += 1
            if statement.startswith(at) if isinstance(at, str) else count[0] == at:
                raise error
            return execute(self, cursor, statement, *given, **named)

        return do_execute

    with pytest.MonkeyPatch.context() as patched:
        for each in (sa.engine.default.DefaultDialect, Dialect):
            patched.setattr(each, "do_execute", counting(each.do_execute))
        yield count


def test_an_error_at_any_statement_undoes_all_and_is_told_with_its_cause(
    yeldro: Yeldro, network: AnyDatabase, trials: Trials
) -> None:
    yeldro.environment["YELDRO_DB"] = network.url
    words = ("buoy", "--where", "name = 'Eddy'", "--follow", "all")
    matched = yeldro("plan", *words, "--json").one()["matched"]
    run = ("run", *words, "--expect", str(matched), "--yes", "--json")
    before = network.contents()
    with failing(0, ValueError()) as statements:
        yeldro("rehearse", *words)
    scheme = network.url.partition(":")[0] if "://" in network.url else "sqlite"
    raised = ERRORS["sqlserver" if scheme == "mssql" else scheme]()
    for number in trials(8, 400):
        draw, kept = random.Random(number), set(yeldro.receipts.glob("*"))
        at, error = draw.randint(1, statements[0]), draw.choice(raised)
        with failing(at, error):
            ended = yeldro(*run, code=None)
        said = (at, error, ended)
        assert "Traceback" not in ended.err, said
        assert ended.code in (0, 2, 3, 4, 5, 130), said
        if ended.code == 0:  # the statement only tried something out
            yeldro("restore", "last", "--yes")
        else:
            assert ended.json()["error"]["data"] != "", said
            assert "committed." not in ended.err or "Nothing was committed" in ended.err, said
            assert set(yeldro.receipts.glob("*")) == kept or ended.code == 5, said
        assert network.contents() == before, said
