"""Killed, cut off, full, late: whatever happens, nothing is lost and every state is told."""

from __future__ import annotations

import os
import re
import shutil
import signal
import sqlite3
import subprocess
import sys
import threading
import time
from collections.abc import Callable, Iterator
from pathlib import Path
from typing import Any

import pytest
from conftest import PROGRAM, Yeldro
from cutting import mariadb_through, postgresql_through
from moments import moments_of, spread, stopped
from systems import AnyDatabase, SqliteFile, administer, mariadb_connection, wait_until_alone
from trials import Trials

from yeldro.cli.commands import batching, receipts, remove  # noqa: F401 - so that a fork starts at once
from yeldro.cli.main import execute
from yeldro.core.database import references
from yeldro.core.database.protocol import Database
from yeldro.core.execution.run import run
from yeldro.core.model.messages.errors import DatabaseFailure, Interrupted
from yeldro.core.planning.cleanup import Cleanup
from yeldro.core.planning.job import Job
from yeldro.core.receipts.reader import receipts_in
from yeldro.core.receipts.writer import ReceiptOptions, ReceiptWriter
from yeldro.core.restore.restore import compare, restore
from yeldro.core.selection.asked import Selection
from yeldro.core.selection.selection import resolve
from yeldro.engines import open_database

SCRIPT = """
    CREATE TABLE mast (id INTEGER PRIMARY KEY, label VARCHAR(20));
    CREATE TABLE lamp (id INTEGER PRIMARY KEY, mast_id INTEGER,
                       FOREIGN KEY (mast_id) REFERENCES mast (id) ON DELETE CASCADE);
    CREATE TABLE note (id INTEGER PRIMARY KEY, lamp_id INTEGER,
                       FOREIGN KEY (lamp_id) REFERENCES lamp (id) ON DELETE SET NULL);
"""


def filled() -> str:
    """300 masts with two lamps each, every third lamp with a note."""
    masts = ", ".join(f"({n}, 'mast {n}')" for n in range(1, 301))
    lamps = ", ".join(f"({n}, {(n + 1) // 2})" for n in range(1, 601))
    notes = ", ".join(f"({n}, {n * 3})" for n in range(1, 201))
    return f"{SCRIPT} INSERT INTO mast VALUES {masts}; INSERT INTO lamp VALUES {lamps};" + (
        f" INSERT INTO note VALUES {notes};"
    )


def execute_in(environment: dict[str, str], *words: str) -> Callable[[], int]:
    """Return what a process of its own does to run a command."""

    def work() -> int:
        os.environ.update(environment)
        return execute(list(words))

    return work


def kill(child: int) -> None:
    os.kill(child, signal.SIGKILL)


RUN = ["run", "mast", "--where", "id <= 250", "--expect", "250", "--yes", "--quiet"]


@pytest.mark.parametrize("how", ["whole", "batches", "restore"])
def test_a_kill_at_any_moment_leaves_nothing_half_done(
    made: Callable[[str], AnyDatabase], tmp_path: Path, how: str, trials: Trials
) -> None:
    """The database is as it was, or its receipt is complete and puts everything back."""
    database = made(filled())
    before = database.contents()
    opened = open_database(database.url)
    folder = tmp_path / "kept"
    environment = {"YELDRO_DB": database.url, "YELDRO_RECEIPTS": str(folder)}
    words = [*RUN, "--batch", "40"] if how == "batches" else RUN
    removing = execute_in(environment, *words)
    work = execute_in(environment, "restore", "last", "--yes") if how == "restore" else removing
    if how == "restore":
        assert moments_of(removing)
    moments = moments_of(work)
    _all_back(database, opened, folder, before)
    codes = set()
    for number in trials(4, 60):
        if how == "restore":
            assert moments_of(removing)
        code, told = stopped(work, spread(number, moments), kill, holding=number % 2 == 0)
        assert code in (0, -signal.SIGKILL), told
        wait_until_alone(database)
        left = database.value("SELECT count(*) FROM mast")
        assert left in ((50, 300) if how != "batches" else (*range(60, 301, 40), 50))
        hanging = "SELECT count(*) FROM lamp WHERE mast_id NOT IN (SELECT id FROM mast)"
        assert database.value(hanging) == 0
        codes.add(code)
        ready = any(receipt.outcome == "ready" for receipt in receipts_in(folder))
        if how == "batches" and left < 300 and ready:
            assert moments_of(work)  # the same command finishes the rest
            assert database.value("SELECT count(*) FROM mast") == 50
            assert {receipt.outcome for receipt in receipts_in(folder)} <= {"open", "committed"}
        _all_back(database, opened, folder, before)
    assert -signal.SIGKILL in codes or trials.only_one


def _all_back(database: AnyDatabase, opened, folder: Path, before: list[str]) -> None:
    """Every receipt together puts everything back; then all of them say so."""
    for receipt in receipts_in(folder):
        if compare(opened, receipt).verdict in ("all gone", "partly back"):
            restore(opened, receipt, 20)
    assert database.contents() == before
    for receipt in receipts_in(folder):
        whole = ("all back", "never gone", "all there" if receipt.is_of_restore else "")
        assert compare(opened, receipt).verdict in whole
        receipt.path.unlink()


ON_SERVERS = pytest.mark.parametrize("made", ["postgresql", "mariadb"], indirect=True)


@ON_SERVERS
def test_a_connection_that_is_cut_while_a_filter_is_read_is_told_as_that(made) -> None:
    database = made(filled())

    def look() -> None:
        with open_database(database.url).reading() as session:
            resolve(Selection("mast", where="id = 1"), session)
            cut(database.url.rpartition("/")[2], postgresql=database.url.startswith("postgresql"))
            resolve(Selection("mast", where="id = 1"), session)

    with pytest.raises(DatabaseFailure) as told:
        look()
    assert "lost" in told.value.why


@ON_SERVERS
def test_a_connection_that_is_cut_changes_nothing(yeldro: Yeldro, made, trials: Trials) -> None:
    database = made(filled())
    before = database.contents()
    name = database.url.rpartition("/")[2]
    environment = {"YELDRO_DB": database.url, "YELDRO_RECEIPTS": str(yeldro.receipts)}
    work = execute_in(environment, *RUN, "--batch", "50")
    moments = moments_of(work)
    yeldro("restore", "last", "--yes")
    for number in trials(4, 40):
        code, said = stopped(
            work, spread(number, moments),
            lambda _: cut(name, postgresql=database.url.startswith("postgresql")),
        )  # fmt: skip
        wait_until_alone(database)
        assert code in (0, 5), said
        if code == 5:
            assert "committed" in said or "rolled back" in said or "Nothing" in said
        left = database.value("SELECT count(*) FROM mast")
        assert (300 - left) % 50 == 0
        for found in receipts_in(yeldro.receipts):
            yeldro("restore", found.id, "--yes")
        assert database.contents() == before
        for path in yeldro.receipts.glob("*"):
            path.unlink()


@ON_SERVERS
@pytest.mark.parametrize("batched", [False, True])
def test_rows_whose_commit_was_not_answered_are_in_the_receipt(
    yeldro: Yeldro, made, tmp_path: Path, batched: bool
) -> None:
    database = made(filled())
    url = postgresql_through if database.url.startswith("postgresql") else mariadb_through
    before = database.contents()
    words = [*RUN, *(["--batch", "25"] if batched else [])]
    with url(database.url, tmp_path, {2} if batched else {1, 3}) as through:
        said = yeldro(*words, db=through, code=5).err
        assert "is not known" in said
        assert database.value("SELECT count(*) FROM mast") == (250 if batched else 50)
        if batched:
            assert "1 batch is committed: 25 of 250" in said
            yeldro(*words, db=through)
            assert database.value("SELECT count(*) FROM mast") == 50
        else:
            found = yeldro("receipt", "check", "last", "--json", db=through).json()
            assert found["verdict"] == "all gone"
        (run,) = receipts_in(yeldro.receipts)
        back = yeldro("restore", run.id, "--yes", "--json", db=through).json()["own_receipt"]
        assert database.contents() == before
        if not batched:  # the same with a restore's commit
            assert "is not known" in yeldro("restore", back, "--yes", db=through, code=5).err
            assert database.value("SELECT count(*) FROM mast") == 50
            away = yeldro("receipt", "list", "--json", db=through).json()[0]["id"]
            yeldro("restore", away, "--yes", db=through)
            assert database.contents() == before


def session_type(opened: Database) -> Any:
    """Return the class of a database's sessions, whose methods a test can replace."""
    with opened.reading() as session:
        return type(session)


@pytest.mark.parametrize("committed", [True, False])
def test_a_stop_during_the_commit_keeps_what_can_be_needed(
    made, tmp_path: Path, monkeypatch: pytest.MonkeyPatch, committed: bool
) -> None:
    database = made(filled())
    opened = open_database(database.url)
    before = database.contents()
    kind = session_type(opened)
    commit = kind.commit

    def stopped(session) -> None:
        if committed:
            commit(session)
        raise KeyboardInterrupt

    monkeypatch.setattr(kind, "commit", stopped)
    job = Job.of(Cleanup(Selection("note", all_rows=True)))
    with pytest.raises((Interrupted, KeyboardInterrupt)):
        run(opened, job, ReceiptOptions(tmp_path), 10)
    monkeypatch.undo()
    assert database.value("SELECT count(*) FROM note") == (0 if committed else 200)
    found = receipts_in(tmp_path)
    if committed:
        assert restore(opened, found[0], 10).total == 200
    else:  # a file tells that its transaction was still open; of a server nobody knows
        assert len(found) == (0 if isinstance(database, SqliteFile) else 1)
        assert all(compare(opened, receipt).verdict == "all back" for receipt in found)
    assert database.contents() == before


@pytest.mark.parametrize("after", ["the receipt is closed", "the session ends"])
def test_a_stop_after_the_commit_is_not_told_as_rolled_back(
    made, tmp_path: Path, monkeypatch: pytest.MonkeyPatch, after: str
) -> None:
    database = made(filled())
    opened = open_database(database.url)
    before = database.contents()
    kind = session_type(opened)
    commit = kind.commit

    def stopped(_: object) -> None:
        raise KeyboardInterrupt

    def commit_and_stop_at_the_end(session) -> None:
        commit(session)
        monkeypatch.setattr(kind, "roll_back", stopped)

    def stop() -> None:
        if after == "the receipt is closed":
            monkeypatch.setattr(ReceiptWriter, "committed", stopped)
        else:
            monkeypatch.setattr(kind, "commit", commit_and_stop_at_the_end)

    job = Job.of(Cleanup(Selection("note", all_rows=True)))
    stop()
    with pytest.raises(Interrupted) as told:
        run(opened, job, ReceiptOptions(tmp_path), 10)
    monkeypatch.undo()
    assert told.value.data.startswith("The rows are removed and committed")
    assert database.value("SELECT count(*) FROM note") == 0
    stop()
    with pytest.raises(Interrupted) as told:
        restore(opened, receipts_in(tmp_path)[0], 10)
    monkeypatch.undo()
    assert told.value.data.startswith("The rows are back and committed")
    assert database.contents() == before


def cut(name: str, *, postgresql: bool) -> None:
    """End every session of a database on the server."""
    if postgresql:
        sessions = f"SELECT pid FROM pg_stat_activity WHERE datname = '{name}'"
        administer(f"SELECT pg_terminate_backend(pid) FROM ({sessions}) AS found")
        return
    connection = mariadb_connection("")
    with connection, connection.cursor() as cursor:
        cursor.execute(f"SELECT id FROM information_schema.processlist WHERE db = '{name}'")
        for (number,) in cursor.fetchall():
            cursor.execute(f"KILL {number}")


def test_a_full_disk_rolls_back_and_leaves_no_receipt(yeldro: Yeldro, made) -> None:
    """The file may grow no larger than the limit; every write beyond it fails."""
    database = made(filled())
    before = database.contents()
    for most in (0, 20_000, 60_000):
        words = ("run", "note", "--all-rows", "--expect", "200", "--yes")
        done = yeldro.on_a_disk(most, *words, db=database.url)
        if most < 60_000:
            assert done.code == 5, done
            assert "rolled back" in done.err
            assert database.contents() == before
            assert not list(yeldro.receipts.glob("*.sqlite"))


@pytest.mark.parametrize("made", ["postgresql", "mariadb"], indirect=True)
def test_a_disk_that_fills_up_between_batches_leaves_what_is_committed_known(
    yeldro: Yeldro, made: Callable[[str], AnyDatabase], trials: Trials
) -> None:
    """The message counts the committed batches; the same command finishes; all comes back."""
    words = [*RUN, "--batch", "20"]
    for number in trials(2, 40):
        drop = "; ".join(f"DROP TABLE IF EXISTS {name}" for name in ("note", "lamp", "mast"))
        database = made(f"{drop}; {filled()}")
        before = database.contents()
        shutil.rmtree(yeldro.receipts, ignore_errors=True)
        most = 40_000 + number * 7_919 % 90_000
        done = yeldro.on_a_disk(most, *words, db=database.url)
        assert "Traceback" not in done.err, done.err
        gone = 300 - database.value("SELECT count(*) FROM mast")
        assert gone % 20 == 0 or gone == 250
        assert done.code in (0, 5), done
        if done.code:
            committed = re.search(r"([\d,]+) of 250 matched rows are gone", done.err)
            assert (int(committed[1]) if committed else 0) == gone, done.err
            if not gone:
                assert "rolled back" in done.err, done.err
                assert database.contents() == before
            yeldro(*words, db=database.url)
        assert database.value("SELECT count(*) FROM mast") == 50
        yeldro("restore", "last", "--yes", db=database.url)
        assert database.contents() == before


def test_two_runs_at_once_remove_every_row_once(yeldro: Yeldro, made) -> None:
    database = made(filled())
    before = database.contents()
    children = [
        subprocess.Popen([PROGRAM, *RUN], env=yeldro.environment | {"YELDRO_DB": database.url},
                         stderr=subprocess.PIPE, text=True)
        for _ in range(3)
    ]  # fmt: skip
    codes = sorted(child.wait(timeout=120) for child in children)
    said = [child.stderr.read() for child in children if child.stderr]
    assert codes[0] == 0, said
    assert all(code in (3, 4, 5) for code in codes[1:]), said
    assert database.value("SELECT count(*) FROM mast") == 50
    assert len(list(yeldro.receipts.glob("*.sqlite"))) == 1
    yeldro("restore", "last", "--yes")
    assert database.contents() == before


def test_a_clock_that_goes_back_changes_nothing_but_the_name(yeldro: Yeldro, demo) -> None:
    """Receipts are told apart by an id, and 'last' is the one that began last by its own clock."""
    yeldro("run", "alert", "--where", "id = 1", "--expect", "1", "--yes", db=demo.url)
    first = yeldro("receipt", "list", "--json").json()[0]
    file = sqlite3.connect(first["path"])
    with file:
        file.execute("UPDATE receipt SET started = '2099-01-01T00:00:00+00:00'")
    file.close()
    yeldro("run", "alert", "--where", "id = 2", "--expect", "1", "--yes", db=demo.url)
    listed = yeldro("receipt", "list", "--json").json()
    assert listed[0]["id"] == first["id"]
    for each in listed:
        yeldro("restore", each["id"], "--yes")
    assert demo.value("SELECT count(*) FROM alert WHERE id IN (1, 2)") == 2


def test_the_first_ctrl_c_stops_at_the_border_and_the_command_finishes_later(
    yeldro: Yeldro, made
) -> None:
    database = made(filled())
    before = database.contents()
    environment = {"YELDRO_DB": database.url, "YELDRO_RECEIPTS": str(yeldro.receipts)}
    words = [*RUN, "--batch", "50"]
    work = execute_in(environment, *words)
    moments = moments_of(work)
    yeldro("restore", "last", "--yes")
    for path in yeldro.receipts.glob("*.sqlite"):
        path.unlink()
    code, said = stopped(work, moments // 2, interrupt)
    assert code == 130, said
    assert "The same command again finishes the rest" in said
    left = database.value("SELECT count(*) FROM mast")
    assert 50 < left < 300
    assert f"{300 - left} of 250 matched rows are gone" in said
    yeldro(*words, db=database.url)
    assert database.value("SELECT count(*) FROM mast") == 50
    assert len(list(yeldro.receipts.glob("*.sqlite"))) == 1
    yeldro("restore", "last", "--yes")
    assert database.contents() == before


def interrupt(child: int) -> None:
    os.kill(child, signal.SIGINT)


def test_batches_refuse_what_needs_all_rows_at_once(yeldro: Yeldro, demo) -> None:
    words = ("run", "alert", "--expect", "total=0..", "--yes", "--batch", "10")
    both = yeldro(*words, "--order-by", "id", "--limit", "5", db=demo.url, code=2)
    assert "both cut" in both.err
    alike = yeldro("run", "raw_upload", "--all-rows", *words[2:], "--json", db=demo.url).one()
    assert alike["outcome"] == "committed"  # by row id
    slow = yeldro(*words[:-2], "--all-rows", "--batch-seconds", "0.2", "--json", db=demo.url)
    assert slow.one()["steps"][-1]["affected"] == slow.one()["matched"]


def test_a_ctrl_c_at_any_moment_rolls_back_or_tells_what_is_committed(
    made: Callable[[str], AnyDatabase], tmp_path: Path, trials: Trials
) -> None:
    """Also while rows are read ahead: no session is used twice at once, and nothing hangs."""
    digits = " UNION ALL ".join(f"SELECT {n} AS d" for n in range(10))
    places = ", ".join(f"({digits}) AS d{n}" for n in range(4))
    number = " + ".join(f"{10**n} * d{n}.d" for n in range(4))
    database = made(
        "CREATE TABLE mast (id INTEGER PRIMARY KEY, name VARCHAR(40));"
        f"INSERT INTO mast SELECT {number}, 'a mast that has a name' FROM {places}"
    )
    before = database.contents()
    folder = tmp_path / "kept"
    environment = {"YELDRO_DB": database.url, "YELDRO_RECEIPTS": str(folder)}
    words = ["run", "mast", "--all-rows", "--expect", "10000", "--yes", "--quiet"]
    removing = execute_in(environment, *words)
    back = execute_in(environment, "restore", "last", "--yes", "--quiet")
    moments = moments_of(removing)
    assert moments_of(back)
    shutil.rmtree(folder)
    for case in trials(4, 40):
        code, told = stopped(removing, spread(case, moments), interrupt, holding=False)
        if database.value("SELECT count(*) FROM mast"):
            assert code != 0
            assert "Traceback" not in told
            assert "ommitted" not in told.replace("Nothing was committed", "")
            assert database.contents() == before
            if receipts_in(folder):  # stopped between the last proof and the answer to the commit
                assert "not known if the" in told
                shutil.rmtree(folder)
        else:
            assert code == 0 or "committed" in told or "not known if the" in told
            assert moments_of(back)
            assert database.contents() == before
            shutil.rmtree(folder)
    for moment in range(2, moments, 3):  # at a receipt's nothing is raised
        code, told = stopped(removing, moment, interrupt)
        if code:
            break
        moments_of(back)
    assert (code, database.contents() == before) == (130, True), told


def test_a_stop_while_a_reading_thread_starts_leaves_nobody_reading(
    monkeypatch: pytest.MonkeyPatch,
) -> None:
    started = threading.Thread.start

    def start_and_stop(thread: threading.Thread) -> None:
        started(thread)
        raise KeyboardInterrupt

    def slow_parts() -> Iterator[int]:
        for part in range(3):
            yield part
            time.sleep(0.3)

    parts = slow_parts()
    ahead = references._read_ahead(parts)
    with monkeypatch.context() as patched:
        patched.setattr(threading.Thread, "start", start_and_stop)
        with pytest.raises(KeyboardInterrupt):
            next(ahead)
    parts.close()  # fails if another thread is reading
    assert list(parts) == []


def test_a_stop_while_a_connection_is_closed_shows_no_lines_of_the_library(
    yeldro: Yeldro, demo: SqliteFile
) -> None:
    program = (
        "import sys; import sqlalchemy.engine.default as default\n"
        "from yeldro.cli.main import execute\n"
        "def stopped(self, connection): raise KeyboardInterrupt\n"
        "default.DefaultDialect.do_close = stopped\n"
        "sys.exit(execute(sys.argv[1:]))\n"
    )
    words = [sys.executable, "-c", program, "survey", "--db", demo.url]
    done = subprocess.run(words, capture_output=True, text=True, check=False, cwd=yeldro.folder)
    assert "Traceback" not in done.stderr
    assert done.returncode == 130


@pytest.mark.parametrize("place", ["run.RunResult", "restore.RestoreResult"])
def test_a_stop_between_the_commit_and_its_report_is_not_told_as_rolled_back(
    yeldro: Yeldro, demo: SqliteFile, monkeypatch: pytest.MonkeyPatch, place: str
) -> None:
    """Whatever happens when the commit has been sent, the message says what is proved of it."""
    yeldro.environment["YELDRO_DB"] = demo.url
    alerts = demo.value("SELECT count(*) FROM alert")
    lines = {"run.RunResult": ("run", "alert", "--where", "id <= 3", "--expect", "3", "--yes"),
             "restore.RestoreResult": ("restore", "last", "--yes")}  # fmt: skip
    if place.startswith("restore"):
        yeldro(*lines["run.RunResult"])

    def stop(*_: object, **__: object) -> None:
        raise KeyboardInterrupt

    room = "execution" if place.startswith("run") else "restore"
    with monkeypatch.context() as patched:
        patched.setattr(f"yeldro.core.{room}.{place}", stop)
        said = yeldro(*lines[place], code=130).err
    assert "committed; the receipt is" in said
    assert "rolled back" not in said
    assert demo.value("SELECT count(*) FROM alert") == alerts - (0 if room == "restore" else 3)
    yeldro("receipt", "list")
    assert "rolled back" not in yeldro("plan", "nosuch", "--all-rows", code=2).err
