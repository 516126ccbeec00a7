"""What only one system has, and triggers, at random: whole, in batches that are killed, and back.

A run ends as the system's own deletion does, or is refused and nothing is changed; what it took
comes back byte by byte, and can be undone and undone again.
"""

from __future__ import annotations

import os
import random
import shutil
import uuid
from collections import Counter
from collections.abc import Callable, Iterator
from dataclasses import replace
from pathlib import Path
from typing import Any

import pytest
import sqlalchemy as sa
from conftest import ALL_SYSTEMS, need
from fitted_schemas import (
    Fitted,
    MariadbSite,
    PostgresqlSite,
    Site,
    SqliteSite,
    SqlServerSite,
    fitted,
)
from systems import MariadbServerDatabase, PostgresqlServerDatabase, SqlServerDatabase, has_icu
from trials import Trials

from yeldro.core.changes.change_set import Acceptances
from yeldro.core.database.protocol import Database
from yeldro.core.execution.batches import Batches, run_in_batches
from yeldro.core.execution.run import plan, run
from yeldro.core.model.messages.errors import YeldroError
from yeldro.core.model.work.steps import count_each_row_once
from yeldro.core.planning.cleanup import Cleanup
from yeldro.core.planning.following.treatment import Choices
from yeldro.core.planning.heirs import split_by_heir
from yeldro.core.planning.job import Job
from yeldro.core.receipts.reader import read_receipt, receipts_in
from yeldro.core.receipts.writer import ReceiptOptions
from yeldro.core.restore.restore import restore
from yeldro.core.selection.asked import Selection
from yeldro.engines import open_database

Maker = Callable[[str, Fitted, int], Site]


@pytest.fixture(params=ALL_SYSTEMS)
def system(request: pytest.FixtureRequest) -> str:
    need(request.param)
    return str(request.param)


@pytest.fixture
def maker(system: str, tmp_path: Path) -> Iterator[Maker]:
    """Makes a case for Yeldro ("ours"), or for the system itself ("theirs")."""
    if system == "sqlite":
        yield lambda whose, made, _: SqliteSite(tmp_path / f"{whose}.db", made)
        return
    name = f"yeldro_{uuid.uuid4().hex[:12]}"
    sides = ("ours", "theirs")
    if system == "postgresql":
        one = {side: PostgresqlServerDatabase(f"{name}_{side}") for side in sides}
        yield lambda whose, made, _: PostgresqlSite(one[whose], made)
        for database in one.values():
            database.drop()
        return
    if system == "sqlserver":
        both = {side: f"{name}_{side}" for side in sides}
        yield lambda whose, made, seed: SqlServerSite(SqlServerDatabase(both[whose]), made, seed)
        for each in both.values():
            SqlServerDatabase(each).drop()
        return
    pairs = {side: [MariadbServerDatabase(f"{name}_{side}_{n}") for n in "ab"] for side in sides}
    yield lambda whose, made, seed: MariadbSite(pairs[whose], made, seed)
    for each in [each for pair in pairs.values() for each in pair]:
        each.script(f"SET foreign_key_checks = 0; DROP DATABASE {each.name}", "")


def chosen(made: Fitted, site: Site) -> Cleanup:
    """What is asked for."""
    case = made.case
    follow, detach = (
        tuple(
            site.links[n] for n, each in case.choices.items() if each == choice and n in site.links
        )
        for choice in ("follow", "detach")
    )
    where = Selection(site.shown[case.target], where=f"mark < {case.below}")
    return Cleanup(where, Choices(follow, detach))


def split(database: Database, cleanup: Cleanup) -> Job:
    """Return a cleanup as the job that a command makes of it."""
    with database.reading() as session:
        return split_by_heir(session, Job.of(cleanup))


def touched(database: Database, site: Site, cleanup: Cleanup) -> set[str]:
    """Return the triggers of the tables that a cleanup touches."""
    plans = plan(database, split(database, cleanup)).plans
    names = {name for each in plans for name in each.rows_by_table}
    return {trigger for name in names for trigger in site.triggers.get(name, ())}


class Check:
    """One case, on every way it can go."""

    def __init__(self, made: Fitted, maker: Maker, seed: int, folder: Path) -> None:
        self.made, self.maker, self.seed, self.folder = made, maker, seed, folder
        self.ours = maker("ours", made, seed)
        self.fired: tuple[str, ...] = ()
        self.told: list[str] = []

    def kinds(self) -> set[str]:
        return {name.rstrip("0123456789") for name in self.fired}

    def contents(self, *, last: bool = False) -> dict[str, list[str]]:
        """What must come back: not what triggers wrote elsewhere, as was allowed.

        Args:
            last: of the last two of three states that must agree only but for stamps.
        """
        found = self.ours.contents(stamps=not (last or "touches" in self.kinds()))
        return {name: rows for name, rows in found.items() if not name.endswith("log")}

    def without_leave(self, database: Database, cleanup: Cleanup) -> None:
        """Run with no trigger allowed: as many rows as are told are other rows then, or none."""
        before = self.ours.contents()
        job = split(database, cleanup)
        try:
            done = run(database, job, ReceiptOptions(self.folder / "unallowed"), 5)
        except YeldroError as error:
            assert self.ours.contents() == before, error
            return
        after = self.ours.contents()
        others = sum((Counter(rows) - Counter(after[name])).total()
                     for name, rows in before.items())  # fmt: skip
        told = sum(part.tally.total for part in done.parts)
        steps = [(each.action, each.table) for part in done.parts for each in part.tally.steps
                 if not each.auxiliary]  # fmt: skip
        assert others <= told, (before, after)
        assert others == told or not count_each_row_once(steps), (before, after)
        self.ours.close()
        self.ours = self.maker("ours", self.made, self.seed)

    def whole(self) -> None:
        theirs = self.maker("theirs", self.made.declared(), self.seed)
        goes = theirs.delete()
        before = self.ours.contents()
        database = open_database(self.ours.url)
        cleanup = chosen(self.made, self.ours)
        try:
            self.fired = tuple(sorted(touched(database, self.ours, cleanup)))
            if self.fired:
                self.without_leave(database, cleanup)
            self.job = split(database, replace(cleanup, allowed_triggers=self.fired))
            done = run(database, self.job, ReceiptOptions(self.folder / "whole"), 5)
        except YeldroError as error:
            assert self.ours.contents() == before, error
            theirs.close()
            self.told.append(
                f"{'refused, though the system does it' if goes else 'refused'}: {error}"
            )
            return
        if goes and not self.kinds() & {"keeps", "takes"}:
            assert self.ours.contents(stamps=False) == theirs.contents(stamps=False)
        theirs.close()
        if done.receipt is None:
            self.told.append("nothing")
            return
        self.told.append("run")
        self.before, self.after = before, self.contents(last=True)
        self.there_and_back(database, done.receipt)
        self.in_batches(database)

    def there_and_back(self, database: Database, path: Path) -> None:
        """Restore, undo that, and undo the undoing."""
        states = [self.contents()]
        for _ in range(3):
            all_before = self.ours.contents()
            try:
                done = restore(database, read_receipt(path), 5, allowed=Acceptances(self.fired))
            except YeldroError as error:
                assert self.ours.contents() == all_before
                assert self.kinds() - {"log"}, error
                self.told.append(f"not restored: {error}")
                return
            states.append(self.contents())
            assert done.receipt is not None
            path = done.receipt
        if "takes" not in self.kinds():
            assert states[0] == states[2]
            assert states[1] == states[3]
            assert states[1] == {name: self.before[name] for name in states[1]} or (
                "touches" in self.kinds()
            )
            self.told.append("restored")

    def in_batches(self, database: Database) -> None:
        """In batches, the first of which are killed."""
        if self.told[-1] != "restored":
            self.ours.close()
            self.ours = self.maker("ours", self.made, self.seed)
        chance = random.Random(self.seed)
        receipt_options, batches = (
            ReceiptOptions(self.folder / "parts"),
            Batches(chance.randint(1, 3)),
        )
        before = self.contents()
        statements = chance.choice([0, 20, 40, 60, 80, 100, 150])
        if statements:
            killed = self.killed(receipt_options, batches, statements)
            self.told.append("killed" if killed else "not killed")
        try:
            run_in_batches(database, self.job, receipt_options, 5, batches)
        except YeldroError as error:
            self.told.append(f"no batches: {error}")
            if statements:
                return
            # what a trigger takes in one batch can be missing in another, which is told then
            taken = "takes" in self.kinds() and "missing" in error.evidence
            assert self.contents() == before or taken
            return
        self.told.append("batches")
        if "takes" in self.kinds():  # what a trigger took of a killed batch is not known
            return
        assert self.contents(last=True) == self.after
        receipts = receipts_in(receipt_options.folder)
        assert {each.outcome for each in receipts} <= {"committed", "open"}
        (receipt,) = [each for each in receipts if each.outcome == "committed"]
        self.there_and_back(database, receipt.path)

    def killed(self, receipt_options: ReceiptOptions, batches: Batches, statements: int) -> bool:
        """Run in batches and be killed before a statement; True if it was."""
        child = os.fork()
        if child == 0:
            left = [statements]

            def count(*_: Any) -> None:
                left[0] -= 1
                if not left[0]:
                    os._exit(9)

            sa.event.listen(sa.Engine, "before_cursor_execute", count)
            try:
                run_in_batches(open_database(self.ours.url), self.job, receipt_options, 5, batches)
            finally:
                os._exit(0)
        _, status = os.waitpid(child, 0)
        return os.WEXITSTATUS(status) == 9


def test_the_end_is_the_system_s_own_and_everything_comes_back(
    system: str, maker: Maker, tmp_path: Path, trials: Trials
) -> None:
    told = Counter[str]()
    collates = system == "postgresql" and has_icu()
    for seed in trials(4, 60):
        folder, made = tmp_path / "receipts", fitted(system, seed)
        if made.collation.startswith("one.ci") and not collates:
            continue  # a server without the collations of ICU
        check = Check(made, maker, seed, folder)
        try:
            check.whole()
        except Exception as error:
            error.add_note(f"fitted({system!r}, {seed}): {check.told}")
            raise
        finally:
            check.ours.close()
        told.update(each.partition(":")[0] for each in check.told)
        shutil.rmtree(folder, ignore_errors=True)
    assert told["restored"] or trials.only_one, told
