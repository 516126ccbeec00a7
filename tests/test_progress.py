"""Long work tells what it does and how far it is, at a terminal and to programs that watch."""

from __future__ import annotations

import sqlite3
import subprocess
from pathlib import Path

import pexpect
import pytest
from conftest import PROGRAM, Yeldro
from systems import AnyDatabase, SqliteFile

from yeldro.cli.terminal.progress import described, told
from yeldro.core.execution.batches import Batches, Progress, run_in_batches
from yeldro.core.execution.run import plan, run
from yeldro.core.inspection.orphans import find_orphans
from yeldro.core.inspection.repeats import search_repeats
from yeldro.core.inspection.survey import survey
from yeldro.core.model.messages.activity import Activity, announce, announced, watched_by
from yeldro.core.model.tables.equality import EqualityRules
from yeldro.core.planning.job import Job
from yeldro.core.receipts.reader import read_receipt
from yeldro.core.receipts.writer import ReceiptOptions
from yeldro.core.restore.restore import restore
from yeldro.core.selection.asked import Selection
from yeldro.core.selection.duplicates.grouping import find_duplicates
from yeldro.engines import open_database
from yeldro.formats.cleanup_values import cleanup_from


def of(seen: list[Activity], *what: str) -> list[Activity]:
    return [each for each in seen if each.what in what]


def test_a_run_and_its_restore_announce_every_piece_and_every_row(
    network: AnyDatabase, tmp_path: Path
) -> None:
    database = open_database(network.url)
    cleanup = cleanup_from("buoy", {"where": "id < 40", "follow": ("all",), "detach": ()})
    job = Job("old buoys", (cleanup,))
    seen: list[Activity] = []
    with watched_by(seen.append):
        total = plan(database, job).total
    assert {each.what for each in seen} == {"counting"}
    assert [each.place for each in seen] == list(range(1, seen[-1].of + 1))
    seen.clear()
    with watched_by(seen.append):
        done = run(database, job, ReceiptOptions(tmp_path), 10)
    stored, removed = of(seen, "storing"), of(seen, "removing", "changing")
    steps = done.plans[0].steps
    assert stored[-1].rows == stored[-1].total == total
    assert removed[-1].rows == removed[-1].total == sum(step.rows for step in steps)
    assert {each.table for each in removed} == {step.table for step in steps}
    assert {each.place for each in removed} == set(range(1, len(steps) + 1))
    for each in (stored, removed):
        assert [one.rows for one in each] == sorted(one.rows for one in each)
    assert seen.index(stored[-1]) < seen.index(removed[0])
    proving = "proving that no row lost its parent in"
    assert all(seen.index(each) > seen.index(removed[-1]) for each in of(seen, proving))
    seen.clear()
    assert done.receipt
    with watched_by(seen.append):
        back = restore(database, read_receipt(done.receipt), 10)
    put = of(seen, "putting back")
    assert put
    assert {each.total for each in put} == {total} == {back.total}
    assert [each.rows for each in put] == sorted(each.rows for each in put)
    assert put[-1].rows == total
    assert of(seen, "reading stored rows of")
    assert of(seen, "proving")


def test_looking_announces_what_it_searches(demo: SqliteFile) -> None:
    seen: list[Activity] = []
    with open_database(demo.url).reading() as session, watched_by(seen.append):
        tables = survey(session).tables
        assert [each.table for each in seen] == [str(each.table.name) for each in tables]
        seen.clear()
        keys = find_orphans(session, None, 5)
        assert [each.table for each in seen] == [str(each.foreign_key.child) for each in keys]
        seen.clear()
        search_repeats(session, "reading", EqualityRules())
        assert seen[-1].place <= seen[-1].of
        seen.clear()
        find_duplicates(session, Selection("reading", duplicates_by=("sensor_id", "taken_at")), 3)
        assert [each.what for each in seen] == ["comparing", "reading groups of"]


def test_batches_tell_what_is_committed(demo: SqliteFile, tmp_path: Path) -> None:
    seen: list[Progress] = []
    job = Job("alerts", (cleanup_from("alert", {"all_rows": True}),))
    run_in_batches(open_database(demo.url), job, ReceiptOptions(tmp_path), 10, Batches(100),
                   None, seen.append, lambda: False)  # fmt: skip
    assert [each.matched for each in seen] == [100, 200, 300]
    assert {each.wanted for each in seen} == {300}


def test_nobody_watches_after_the_block_nor_in_another_one() -> None:
    outer: list[Activity] = []
    inner: list[Activity] = []
    announce("counting", "buoy")
    with watched_by(outer.append):
        with watched_by(inner.append):
            announce("storing", "buoy", rows=3, total=9)
        announce("removing", "buoy")
    announce("proving")
    assert [each.what for each in outer] == ["removing"]
    assert inner == [Activity("storing", "buoy", 0, 0, 3, 9)]


def test_parts_that_nobody_takes_any_more_are_not_read_on() -> None:
    closed = []

    def parts():
        try:
            yield [1]
            yield [2]
        finally:
            closed.append(True)

    watched = announced(parts(), "storing", "buoy", rows=0, total=2)
    assert next(watched) == [1]
    watched.close()
    assert closed == [True]


@pytest.mark.parametrize(
    ("activity", "rows", "seconds", "text"),
    [
        (Activity("counting", "buoy", 3, 12), 0, 4.0, "counting step 3 of 12: buoy | 4.0 s"),
        (Activity("comparing", "reading"), 0, 75, "comparing reading | 1 min 15 s"),
        (Activity("proving"), 0, 0.2, "proving | 0.2 s"),
        (Activity("storing", "a\x1bb", rows=0, total=9), 0, 2, "storing a␛b | 0 of 9 rows, 2.0 s"),
        (Activity("removing", "buoy", 2, 3, 5_000, 15_000), 4_000, 2.0,
         "removing step 2 of 3: buoy | 5,000 of 15,000 rows, 2,000 rows/s, about 5.0 s left"),
    ],
)  # fmt: skip
def test_an_activity_in_words(activity: Activity, rows: int, seconds: float, text: str) -> None:
    assert f"{described(activity)} | {told(activity, rows, seconds)}" == text


WAITING = ("run", "alert", "--all-rows", "--expect", "300", "--yes", "--lock-wait", "60")


def test_a_terminal_shows_the_work_and_afterwards_only_what_happened(
    yeldro: Yeldro, demo: SqliteFile
) -> None:
    holder = sqlite3.connect(demo.path, isolation_level=None)
    holder.execute("BEGIN IMMEDIATE")
    child = pexpect.spawn(str(PROGRAM), [*WAITING, "--db", demo.url], env=yeldro.environment,
                          encoding="utf-8", timeout=60, dimensions=(40, 90))  # fmt: skip
    child.expect(r"starting.* s")
    child.expect(r" s")  # drawn again
    holder.execute("ROLLBACK")
    child.expect(r"Committed: 3\d\d rows gone or changed")
    child.expect(pexpect.EOF)
    assert "starting" not in child.before
    child.close()
    assert child.exitstatus == 0


@pytest.mark.parametrize("quiet", [True, False])
def test_a_pipe_and_a_quiet_terminal_show_nothing_of_it(
    yeldro: Yeldro, demo: SqliteFile, quiet: bool
) -> None:
    words = [str(PROGRAM), *WAITING, "--batch", "100", "--db", demo.url]
    if quiet:
        child = pexpect.spawn(words[0], [*words[1:], "--quiet"], env=yeldro.environment,
                              encoding="utf-8", timeout=60)  # fmt: skip
        assert child.read() == ""
    else:
        done = subprocess.run(words, env=yeldro.environment, capture_output=True, text=True,
                              check=True)  # fmt: skip
        assert done.stderr == ""
        assert "rows/s" not in done.stdout
