"""Receipts: what they hold, how they are found, and what a killed run leaves behind."""

from __future__ import annotations

import shutil
import sqlite3
from pathlib import Path

import pytest
from conftest import Yeldro
from moments import moments_of, spread, stopped
from systems import AnyDatabase, SqliteFile
from test_faults import execute_in, kill
from trials import Trials

from yeldro.core.model.messages.errors import CountMismatch, DatabaseFailure, UsageError
from yeldro.core.model.tables.schema import TableName
from yeldro.core.model.work.counts import Changes, Ledger, Tally
from yeldro.core.model.work.steps import Action, Step
from yeldro.core.receipts import format as form
from yeldro.core.receipts.reader import find_receipt, read_receipt, receipts_in, stored_rows
from yeldro.core.receipts.writer import ReceiptWriter, stored_columns

STEP = Step(1, Action.REMOVE, "mast", 2, "matched", ("mast",))
TALLY = Tally((STEP,), (2,))


def write(folder: Path) -> ReceiptWriter:
    """Return a receipt of one step that removed two rows, on disk and ready."""
    writer = ReceiptWriter(folder, "mast --where 'id < 3'", "SQLite", "sqlite:///x.db", "mast")
    writer.add_plan("mast", 2, 2)
    writer.add_step(STEP, TableName("mast"))
    columns = [("value", "id", "INTEGER"), ("value", "Name", "TEXT"), ("value", "name", "BLOB")]
    rows = [(1, "a", b"\0", None), (2, b"\xff", None, '{"1": "text"}')]
    writer.add_rows(STEP, columns, [rows], len(rows))
    writer.add_orphans(STEP, "mast.port_id", 1)
    writer.ready(TALLY, Ledger({"mast": Changes(removed=2)}))
    return writer


def test_a_receipt_holds_every_row_of_a_step_or_there_is_none(tmp_path: Path) -> None:
    for stored in ([], [[(1,)]], [[(1,), (2,)], [(3,)]]):
        writer = ReceiptWriter(tmp_path, "mast", "SQLite", "sqlite:///masts.db", "mast")
        writer.add_step(STEP, TableName("mast"))
        with pytest.raises(CountMismatch, match="2 were planned"):
            writer.add_rows(STEP, [("value", "id", "INTEGER")], stored, 2)
        writer.discard()


def test_what_is_written_is_read_back(tmp_path: Path) -> None:
    writer = write(tmp_path / "receipts")
    assert read_receipt(writer.path).outcome == form.READY
    writer.committed()
    found = read_receipt(writer.path)
    assert (found.outcome, found.total, found.matched, found.holds_rows) == (
        form.COMMITTED,
        2,
        2,
        True,
    )
    (step,) = found.steps
    assert (step.action, step.planned, step.affected) == (Action.REMOVE, 2, 2)
    assert step.orphans == {"mast.port_id": 1}
    assert found.ledger == {"mast": Changes(removed=2)}
    assert list(stored_rows(writer.path, step)) == [
        [(1, None), ("a", None), (b"\0", None)],
        [(2, None), (b"\xff", "text"), (None, None)],
    ]
    assert [column.name for column in step.columns] == ["id", "Name", "name"]


def test_a_disk_that_cannot_hold_the_rows_is_told_before_any_is_stored(
    tmp_path: Path, monkeypatch
) -> None:
    writer = write(tmp_path)
    writer.check_space(1000)
    free = shutil.disk_usage(tmp_path)._replace(free=3999)
    monkeypatch.setattr(shutil, "disk_usage", lambda _: free)
    writer.check_space(999)
    with pytest.raises(DatabaseFailure, match=r"needs about 0\.0 MB"):
        writer.check_space(1000)


def test_a_discarded_receipt_leaves_no_file(tmp_path: Path) -> None:
    writer = write(tmp_path)
    writer.discard()
    assert list(tmp_path.iterdir()) == []


def test_no_two_stored_columns_share_a_name_even_without_case() -> None:
    roles = [("value", "a", ""), ("value", "A", ""), ("value", "yeldro_forms", ""),
             ("key", "x", ""), ("value", "key_x", ""), ("row id", "rowid", "")]  # fmt: skip
    stored = [column.stored_as for column in stored_columns(roles)]
    assert len({name.casefold() for name in stored} | {form.FORMS}) == len(roles) + 1
    assert stored[0] == "a"


def test_a_receipt_is_found_by_path_id_beginning_of_id_and_last(tmp_path: Path) -> None:
    first, second = write(tmp_path), write(tmp_path)
    (tmp_path / f"broken{form.SUFFIX}").write_text("not a receipt")
    assert {each.id for each in receipts_in(tmp_path)} == {first.id, second.id}
    for typed in (str(first.path), first.id, first.path.name):
        assert find_receipt(tmp_path, typed).id == first.id
    assert find_receipt(tmp_path, "last").id in (first.id, second.id)
    length = next(n for n in range(1, 7) if first.id[:n] != second.id[:n])
    assert find_receipt(tmp_path, first.id[:length]).id == first.id
    for typed in ("zzz", ""):
        with pytest.raises(UsageError):
            find_receipt(tmp_path, typed)


def test_a_receipt_never_overwrites_and_a_full_place_is_told(tmp_path: Path, monkeypatch) -> None:
    monkeypatch.setattr("yeldro.core.receipts.writer.secrets.token_hex", lambda _: "abc123")
    monkeypatch.setattr("yeldro.core.receipts.writer.datetime", _Still)
    writer = write(tmp_path)
    before = writer.path.read_bytes()
    with pytest.raises(DatabaseFailure) as told:
        write(tmp_path)
    assert "exists" in str(told.value)
    assert writer.path.read_bytes() == before


class _Still:
    """A clock that stands."""

    @staticmethod
    def now(zone: object) -> object:
        from datetime import datetime

        return datetime(2026, 1, 2, 3, 4, 5, tzinfo=zone)  # type: ignore[arg-type]


def test_list_and_show_tell_what_was_asked_and_done(yeldro: Yeldro, network: AnyDatabase) -> None:
    assert "No receipts" in yeldro("receipt", "list").out
    yeldro("run", "alert", "--where", "id <= 3", "--expect", "3", "--yes", db=network.url)
    (listed,) = yeldro("receipt", "list", "--json").json()
    assert (listed["table"], listed["total"], listed["outcome"]) == ("alert", 3, "committed")
    assert listed["database"].endswith(network.url)
    assert listed["id"] in yeldro("receipt", "list").out
    shown = yeldro("receipt", "show", listed["id"]).out
    assert "alert --where 'id <= 3' --expect 3" in shown
    assert "3" in shown
    assert "no terminal" in yeldro("restore", "last", code=2).err
    assert yeldro("restore", "last", "--yes", "--quiet").out == ""


def test_a_run_killed_at_any_moment_leaves_the_file_untouched_or_a_complete_receipt(
    yeldro: Yeldro, demo: SqliteFile, trials: Trials
) -> None:
    before = demo.contents()
    whole = demo.path.read_bytes()
    words = ("run", "reading", "--where", "id > 0", "--expect", "2000", "--yes")
    work = execute_in({"YELDRO_DB": demo.url, "YELDRO_RECEIPTS": str(yeldro.receipts)}, *words)
    moments = moments_of(work)
    after = demo.contents()
    for number in trials(6, 60):
        demo.path.write_bytes(whole)
        for path in yeldro.receipts.glob("*"):
            path.unlink()
        stopped(work, spread(number, moments), kill, holding=number % 2 == 0)
        now = demo.contents()
        receipts = receipts_in(yeldro.receipts)
        assert now in (before, after)
        if now == after:
            assert [each.outcome in (form.READY, form.COMMITTED) for each in receipts] == [True]
        if receipts:
            verdict = yeldro("receipt", "check", "--json").json()["verdict"]
            assert verdict == ("all gone" if now == after else verdict)
            assert now == after or verdict in ("all back", "never gone")
            yeldro("restore", "last", "--yes")
            assert demo.contents() == before


def test_an_open_receipt_is_known_to_have_changed_nothing(
    yeldro: Yeldro, network: AnyDatabase
) -> None:
    yeldro("run", "alert", "--where", "id <= 3", "--expect", "3", "--yes", db=network.url)
    (path,) = yeldro.receipts.glob("*.sqlite")
    yeldro("restore", "last", "--yes")
    receipt = sqlite3.connect(path)
    receipt.execute("UPDATE receipt SET outcome = 'open'")
    receipt.commit()
    receipt.close()
    before = network.contents()
    assert yeldro("receipt", "check", "--json").json()["verdict"] == "never gone"
    assert "before anything was changed" in yeldro("receipt", "check").out
    assert yeldro("restore", "last", "--yes", "--json").json()["outcome"] == "nothing_to_do"
    assert network.contents() == before


def test_a_receipt_with_rows_missing_restores_nothing(yeldro: Yeldro, network: AnyDatabase) -> None:
    yeldro("run", "alert", "--where", "id <= 3", "--expect", "3", "--yes", db=network.url)
    (path,) = yeldro.receipts.glob("*.sqlite")
    receipt = sqlite3.connect(path)
    receipt.execute("DELETE FROM rows_1 WHERE id = 2")
    receipt.commit()
    receipt.close()
    before = network.contents()
    assert "incomplete" in yeldro("restore", "last", "--yes", code=5).err
    assert network.contents() == before


def test_restore_refuses_a_table_or_column_that_is_gone(
    yeldro: Yeldro, network: AnyDatabase
) -> None:
    yeldro("run", "raw_upload", "--all-rows", "--expect", "330", "--yes", db=network.url)
    network.script("ALTER TABLE raw_upload DROP COLUMN line")
    assert "raw_upload.line is not there" in yeldro("restore", "last", "--yes", code=3).err
    network.script("DROP TABLE raw_upload")
    assert "raw_upload is not in this database" in yeldro("restore", "last", "--yes", code=3).err


def test_the_last_receipt_is_that_of_the_database_that_is_named(
    yeldro: Yeldro, tmp_path: Path
) -> None:
    words = ("run", "mast", "--all-rows", "--expect", "1", "--yes")
    names = ["first.db", "second.db"]
    for name in names:
        database = SqliteFile(tmp_path / name)
        database.script("CREATE TABLE mast (id INTEGER PRIMARY KEY); INSERT INTO mast VALUES (1)")
        yeldro(*words, db=str(tmp_path / name))
    for name in names:  # however it is typed
        for typed in (str(tmp_path / name), f"./{name}", f"sqlite:///{tmp_path / name}"):
            assert name in yeldro("receipt", "show", "--json", db=typed).json()["database"]
            assert yeldro("receipt", "check", "--json", db=typed).json()["verdict"] == "all gone"
    told = yeldro("restore", "last", "--yes", code=2).err
    assert "receipts of 2 databases" in told
    assert "second.db" in told
    yeldro("restore", "last", "--yes", db="first.db")
    assert SqliteFile(tmp_path / "first.db").value("SELECT count(*) FROM mast") == 1
    assert SqliteFile(tmp_path / "second.db").value("SELECT count(*) FROM mast") == 0
    SqliteFile(tmp_path / "third.db").script("CREATE TABLE mast (id INTEGER PRIMARY KEY)")
    told = yeldro("restore", "last", "--yes", db="third.db", code=2).err
    assert "There is no receipt of a run on" in told
