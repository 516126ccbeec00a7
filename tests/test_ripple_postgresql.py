"""The ripple against PostgreSQL itself: random schemas, random rows, plain deletions.

YELDRO_SERVER_CASES sets how many random cases are tried in all (300 by default).
"""

from __future__ import annotations

import os
import uuid
from collections.abc import Iterator
from dataclasses import replace
from pathlib import Path

import psycopg
import pytest
from hypothesis import HealthCheck, Phase, event, given, settings
from random_schemas import Case, cases, quoted
from systems import PostgresqlServerDatabase
from test_ripple import cleanup_of, name_of

from yeldro.core.errors import Refused
from yeldro.core.plan import Cleanup
from yeldro.core.receipts import read_receipt
from yeldro.core.restore import compare, restore
from yeldro.core.run import ReceiptWish, plan, run
from yeldro.engines import open_database

CASES = int(os.environ.get("YELDRO_SERVER_CASES", "300"))
many = settings(
    max_examples=CASES // 3,
    phases=[Phase.explicit, Phase.reuse, Phase.generate],
    deadline=None,
    suppress_health_check=list(HealthCheck),
    print_blob=True,
)


@pytest.fixture(scope="module")
def server() -> Iterator[PostgresqlServerDatabase]:
    database = PostgresqlServerDatabase(f"yeldro_{uuid.uuid4().hex[:12]}")
    yield database
    database.drop()


class Schema:
    """A case's tables and rows in a schema of their own."""

    def __init__(self, server: PostgresqlServerDatabase, name: str, case: Case, late: bool) -> None:
        self.url = f"{server.url}?options=-csearch_path%3D{name}"
        self.connection = psycopg.connect(server.url, autocommit=True)
        self.connection.execute(f"SET search_path = {name}")
        self.connection.execute(f"DROP SCHEMA IF EXISTS {name} CASCADE; CREATE SCHEMA {name}")
        for number, rows in enumerate(case.rows):
            self.connection.execute(case.declared(number, inline_keys=False))
            names = case.columns(number)
            listed = ", ".join(map(quoted, names))
            insert = f"INSERT INTO {quoted(case.tables[number].name)} ({listed}) VALUES "
            holes = f"({', '.join(['%s'] * len(names))})"
            with self.connection.cursor() as cursor:
                values = [[row[each] for each in names] for row in rows]
                cursor.executemany(insert.replace("%", "%%") + holes, values)
        when = " DEFERRABLE INITIALLY DEFERRED" if late else ""
        for link in case.links:
            table = quoted(case.tables[link.child].name)
            self.connection.execute(f"ALTER TABLE {table} ADD {case.foreign_key(link)}{when}")
        self.case = case

    def delete(self) -> bool:
        """Has PostgreSQL carry out the plain deletion; False where it refuses."""
        name = quoted(self.case.tables[self.case.target].name)
        try:
            with self.connection.transaction():
                self.connection.execute(f"DELETE FROM {name} WHERE mark < {self.case.below}")
        except psycopg.errors.IntegrityError:
            return False
        return True

    def null_where_not_allowed(self, case: Case) -> bool:
        """Whether a column that is declared NOT NULL in `case` holds NULL."""
        return any(
            self.connection.execute(
                f"SELECT 1 FROM {quoted(case.tables[link.child].name)} WHERE {quoted(name)} IS NULL"
            ).fetchone()
            for link in case.links
            if not link.nullable
            for name in link.columns
        )

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


def check(server: PostgresqlServerDatabase, folder: Path, case: Case, cleanup: Cleanup) -> None:
    """Yeldro and PostgreSQL end with the same rows, or both refuse; and restore undoes it all."""
    declared = case.as_sqlite_would_treat_it()
    ours = Schema(server, "ours", case, late=False)
    theirs = Schema(server, "theirs", declared, late=True)
    try:
        goes = theirs.delete() and not theirs.null_where_not_allowed(case)
        before = ours.contents()
        database = open_database(ours.url)
        try:
            blocked = bool(plan(database, cleanup).blocked)
        except Refused as refused:
            assert "cycle" in refused.evidence, refused
            event("a cycle that leaves no order")
            return
        if blocked or (not goes and not declared.changed_and_removed()):
            event("refused")
            assert blocked
            assert not goes
            return
        result = run(database, cleanup, ReceiptWish(folder, "random case"), 5)
        if not goes:  # set default is checked at once, though another path removes the row
            event("refused though nothing would hang")
            return
        assert ours.contents() == theirs.contents()
        event("nothing" if result.receipt is None else f"{len(result.plan.steps)} steps")
        if result.receipt is not None:
            receipt = read_receipt(result.receipt)
            try:
                restore(database, receipt, 5)
            except Refused as refused:
                assert "cannot be told apart" in str(refused)
                keyless = {table.name for table in case.tables if not table.key}
                changed = {step.table for step in result.plan.steps if step.action == "detach"}
                assert keyless & changed
                event("changed rows without a key")
                return
            assert ours.contents() == before
            assert compare(database, receipt).verdict == "all back"
    finally:
        ours.connection.close()
        theirs.connection.close()


@pytest.fixture(scope="module")
def folder(tmp_path_factory: pytest.TempPathFactory) -> Path:
    return tmp_path_factory.mktemp("receipts")


@many
@given(case=cases())
def test_declared_actions_end_as_on_the_server_or_are_blocked(server, folder, case) -> None:
    case = case.in_standard_sql()
    check(server, folder, case, cleanup_of(case))


@many
@given(case=cases())
def test_follow_all_ends_as_if_every_key_were_declared_cascade(server, folder, case) -> None:
    choices = dict.fromkeys(range(len(case.links)), "follow")
    case = replace(case.in_standard_sql(), choices=choices)
    check(server, folder, case, cleanup_of(case, follow=("all",)))


@many
@given(case=cases(choose=True))
def test_chosen_treatments_end_as_if_they_had_been_declared(server, folder, case) -> None:
    case = case.in_standard_sql()
    follow, detach = (
        tuple(name_of(case, number) for number, each in case.choices.items() if each == choice)
        for choice in ("follow", "detach")
    )
    check(server, folder, case, cleanup_of(case, follow, detach))
