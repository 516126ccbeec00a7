"""Other sessions between any two statements of a run: some serial order, or a rollback.

Two sessions add, change and remove rows in short transactions of their own while a run, a run in
batches or a restore goes on; they come to their turn before any statement of Yeldro's. Whoever
would wait gives up at once, so an interleaving depends on its seed and on nothing else.
"""

from __future__ import annotations

import random
import sqlite3
from collections.abc import Callable, Iterator
from contextlib import contextmanager, suppress
from functools import partial
from itertools import permutations
from pathlib import Path
from typing import Any

import psycopg
import pymssql
import pymysql
import pytest
import sqlalchemy as sa
from moments import spread
from systems import AnyDatabase, MariadbServerDatabase, SqliteFile, SqlServerDatabase
from trials import Trials

from yeldro.api import cleanup, connect
from yeldro.core.execution import run as running
from yeldro.core.execution.batches import Batches, run_in_batches
from yeldro.core.model.messages.errors import YeldroError
from yeldro.core.planning.job import Job
from yeldro.core.receipts.reader import read_receipt, receipts_in, stored_rows
from yeldro.core.receipts.writer import ReceiptOptions
from yeldro.core.restore.restore import restore
from yeldro.engines import open_database
from yeldro.engines.mariadb.session import MariadbSession

FAILURES = (psycopg.Error, pymysql.MySQLError, pymssql.Error, sqlite3.Error)
TABLES = ("mast", "lamp", "note", "gone")
SCHEMA = """
    CREATE TABLE mast (id INTEGER PRIMARY KEY, g INTEGER, label VARCHAR(9));
    CREATE TABLE lamp (id INTEGER PRIMARY KEY, mast_id INTEGER, FOREIGN KEY (mast_id)
        REFERENCES mast (id) ON DELETE CASCADE);
    CREATE TABLE note (id INTEGER PRIMARY KEY, lamp_id INTEGER, FOREIGN KEY (lamp_id)
        REFERENCES lamp (id) ON DELETE SET NULL);
    CREATE TABLE gone (serial INTEGER PRIMARY KEY);
"""
LABELS = ("'a'", "'b'", "NULL")
Rows = dict[str, list[Any]]
# How a session begins to write.
WRITING = ("foreign_key_checks", "lock_timeout", "LOCK_TIMEOUT", "BEGIN IMMEDIATE")
FIRST = "SELECT min(id) FROM mast GROUP BY g"
MOVE = ("UPDATE lamp SET mast_id = (SELECT min(b.id) FROM mast AS a JOIN mast AS b ON a.g IS b.g"
        " WHERE a.id = lamp.mast_id) WHERE mast_id IS NOT NULL")  # fmt: skip
FILL = ("UPDATE mast SET label = (SELECT b.label FROM mast AS b WHERE b.g IS mast.g AND"
        " b.id > mast.id AND b.label IS NOT NULL ORDER BY b.id LIMIT 1)"
        f" WHERE label IS NULL AND id IN ({FIRST})")  # fmt: skip
# What is asked for, and what it means in a single session.
WORK: dict[str, tuple[dict[str, Any], list[str]]] = {
    "plain": ({"where": "g < 2"}, ["DELETE FROM mast WHERE g < 2"]),
    "duplicates": ({"duplicates_by": "g", "keep": "lowest:id"},
                   [f"DELETE FROM mast WHERE id NOT IN ({FIRST})"]),
    "some duplicates": ({"duplicates_by": "g", "keep": "lowest:id", "where": "id > 3"},
                        [f"DELETE FROM mast WHERE id > 3 AND id NOT IN ({FIRST})"]),
    "repoint": ({"duplicates_by": "g", "keep": "lowest:id", "repoint": True},
                [MOVE, f"DELETE FROM mast WHERE id NOT IN ({FIRST})"]),
    "fill": ({"duplicates_by": "g", "keep": "lowest:id", "fill": "label", "fill_first": True},
             [FILL, f"DELETE FROM mast WHERE id NOT IN ({FIRST})"]),
    "missing": ({"missing_in": "gone:id=serial"},
                ["DELETE FROM mast WHERE id NOT IN (SELECT serial FROM gone)"]),
    "matching": ({"matching": "gone:id=serial"},
                 ["DELETE FROM mast WHERE id IN (SELECT serial FROM gone)"]),
    "subquery": ({"where": "id IN (SELECT serial FROM gone WHERE serial > 2)"},
                 ["DELETE FROM mast WHERE id IN (SELECT serial FROM gone WHERE serial > 2)"]),
    "survivors": ({"where": "lamp_id IN (SELECT id FROM lamp WHERE mast_id > 3)",
                   "keep_survivors": True},
                  ["DELETE FROM note WHERE lamp_id IN (SELECT id FROM lamp WHERE mast_id > 3)"]),
}  # fmt: skip
FROM = {"survivors": "note"}  # what nothing references


class Other:
    """Another session with transactions of its own, which never waits for a lock."""

    def __init__(self, database: AnyDatabase, chance: random.Random, committed: list[str]) -> None:
        self.chance = chance
        self.committed = committed
        self.open: list[str] = []
        self.begin = "BEGIN"
        self.cursor: Any
        if isinstance(database, MariadbServerDatabase):
            self.connection: Any = database.connect()
            self.cursor = self.connection.cursor()
            self.cursor.execute("SET innodb_lock_wait_timeout = 0")
        elif isinstance(database, SqliteFile):
            self.connection = sqlite3.connect(database.path, isolation_level=None, timeout=0)
            self.cursor = self.connection.cursor()
            self.cursor.execute("PRAGMA foreign_keys = ON")
        elif isinstance(database, SqlServerDatabase):
            self.begin = "BEGIN TRANSACTION"
            self.connection = database.connect()
            self.cursor = self.connection.cursor()
            self.cursor.execute("SET LOCK_TIMEOUT 0; SET XACT_ABORT ON")
        else:
            self.connection = psycopg.connect(database.url, autocommit=True)
            self.cursor = self.connection.cursor()
            self.cursor.execute("SET lock_timeout = '1ms'")

    def act(self) -> None:
        """Begin, do one more thing, or end."""
        if self.open and self.chance.random() < 0.5:
            self.end()
            return
        statement = self.statement()
        try:
            if not self.open:
                self.cursor.execute(self.begin)
            self.cursor.execute(statement)
        except FAILURES:
            self.open = []
            self.cursor.execute("ROLLBACK") if self.in_transaction() else None
            return
        self.open.append(statement)

    def in_transaction(self) -> bool:
        if self.begin != "BEGIN":
            self.cursor.execute("SELECT @@TRANCOUNT AS depth")
            return bool(self.cursor.fetchone()[0])
        return not isinstance(self.connection, sqlite3.Connection) or self.connection.in_transaction

    def end(self) -> None:
        if not self.open:
            return
        try:
            self.cursor.execute("COMMIT")
        except FAILURES:
            self.cursor.execute("ROLLBACK") if self.in_transaction() else None
        else:
            self.committed.append("; ".join(self.open))
        self.open = []

    def statement(self) -> str:
        mast, lamp, note = (self.chance.randint(1, 9) for _ in range(3))
        new, g = self.chance.randint(20, 99), self.chance.randint(0, 3)
        return self.chance.choice([
            f"INSERT INTO mast VALUES ({new}, {g}, 'new')",
            f"INSERT INTO lamp VALUES ({new}, {mast})",
            f"INSERT INTO note VALUES ({new}, {lamp})",
            f"INSERT INTO gone VALUES ({mast})",
            f"DELETE FROM gone WHERE serial = {mast}",
            f"DELETE FROM mast WHERE id = {mast}",
            f"DELETE FROM lamp WHERE id = {lamp}",
            f"UPDATE mast SET g = {g} WHERE id = {mast}",
            f"UPDATE mast SET label = {self.chance.choice(LABELS)} WHERE id = {mast}",
            f"UPDATE lamp SET mast_id = {mast} WHERE id = {lamp}",
            f"UPDATE note SET lamp_id = {lamp} WHERE id = {note}",
        ])  # fmt: skip


def first_rows(chance: random.Random) -> list[str]:
    """Return the rows that all begins with."""
    rows = [
        f"INSERT INTO mast VALUES ({n}, {chance.randint(0, 3)}, {chance.choice(LABELS)})"
        for n in range(1, 10)
    ]
    rows += [f"INSERT INTO lamp VALUES ({n}, {chance.randint(1, 9)})" for n in range(1, 10)]
    rows += [f"INSERT INTO note VALUES ({n}, {chance.randint(1, 9)})" for n in range(1, 10)]
    return rows + [f"INSERT INTO gone VALUES ({n})" for n in chance.sample(range(1, 10), 3)]


def alone(statements: list[str]) -> Rows | None:
    """What is there when statements run one after the other; None where they cannot."""
    connection = sqlite3.connect(":memory:", isolation_level=None)
    connection.execute("PRAGMA foreign_keys = ON")
    connection.executescript(SCHEMA)
    try:
        for statement in statements:
            connection.executescript(statement)
    except sqlite3.Error:
        return None
    return {table: sorted(connection.execute(f"SELECT * FROM {table}")) for table in TABLES}


def there(database: AnyDatabase) -> Rows:
    return {table: sorted(database.rows(f"SELECT * FROM {table}")) for table in TABLES}


@contextmanager
def stepped(at_border: Callable[[str], None]) -> Iterator[None]:
    """Call a function before every statement of Yeldro's."""

    def before(_connection: Any, _cursor: Any, statement: str, *_: Any) -> None:
        at_border(statement)

    sa.event.listen(sa.Engine, "before_cursor_execute", before)
    try:
        yield
    finally:
        sa.event.remove(sa.Engine, "before_cursor_execute", before)


def emptied(database: AnyDatabase, rows: list[str]) -> None:
    deletes = [f"DELETE FROM {table}" for table in ("note", "lamp", "mast", "gone")]
    database.script("; ".join([*deletes, *rows]))


def interleaved(database: AnyDatabase, kind: str, seed: int, receipts: Path) -> bool:
    """One interleaving; whether the run was committed.

    Every promise is asked for at the very moment of the commit, and the serial order afterwards.
    """
    chance = random.Random(f"{kind} {seed}")
    rows = first_rows(chance)
    emptied(database, rows)
    wanted, meaning = WORK.get(kind, WORK["plain"])
    chosen = cleanup(FROM.get(kind, "mast"), **wanted, expect="0..")
    opened = open_database(database.url)
    before = alone(rows)
    assert before is not None
    first: Path | None = None
    if kind == "restore":
        first = connect(database.url).run(chosen, receipts=receipts).receipt
        gone = there(database)
        meaning, rows = restoring(before, gone), inserts(gone)
        if first is None:
            return True
    committed: list[str] = []
    others = [Other(database, chance, committed) for _ in range(2)]

    often = (0.01, 0.03, 0.06, 0.12)[seed % 4]

    # MariaDB waits for others' locks while it plans the whole of several batches.
    begun = kind != "batches"

    def at_border(statement: str) -> None:
        nonlocal begun
        begun = begun or any(word in statement for word in WRITING)
        if begun and chance.random() < often:
            chance.choice(others).act()

    def carry_out() -> Any:
        if first is not None:
            return restore(opened, read_receipt(first), 0)
        if kind == "batches":
            mark = partial(_mark, marks, committed)
            return run_in_batches(
                opened, Job.of(chosen), receipt_options, 0, Batches(2), watch=mark
            )
        return running.run(opened, Job.of(chosen), receipt_options, 0)

    marks, receipt_options = list[int](), ReceiptOptions(receipts)
    result, at_commit = None, Rows()
    try:
        with stepped(at_border):
            result = carry_out()
        at_commit = there(database)
    except YeldroError as error:
        assert error.exit_code in (3, 4, 5), error
    finally:
        for other in others:
            other.end()
            other.connection.close()
    found = there(database)
    if kind == "batches":
        assert found == batches_in_turn(rows, committed, marks, receipts), (kind, seed, committed)
        return result is not None
    done_at_once = ["; ".join(meaning)] if result is not None else []
    assert any(
        alone([*rows, *order]) == found for order in serial_orders(committed, done_at_once)
    ), (kind, seed, committed, found)
    if result is not None and "duplicates_by" in wanted:
        removed = {row["g"] for row in removed_masts(receipts)}
        assert removed <= {row[1] for row in at_commit["mast"]}, (kind, seed, committed)
    for receipt in receipts_in(receipts):
        receipt.path.unlink()
    return result is not None


def _mark(marks: list[int], committed: list[str], _: object) -> None:
    marks.append(len(committed))


def inserts(rows: Rows) -> list[str]:
    return [
        f"INSERT INTO {table} VALUES ({', '.join(map(literal, row))})"
        for table in rows
        for row in rows[table]
    ]


def restoring(before: Rows, gone: Rows) -> list[str]:
    """What it means to put back what is gone."""
    missing = {t: [row for row in before[t] if row not in gone[t]] for t in ("mast", "lamp")}
    links = (row for row in before["note"] if row not in gone["note"])
    relinked = "UPDATE note SET lamp_id = {1} WHERE id = {0} AND lamp_id IS NULL"
    return [*inserts(missing), *(relinked.format(*row) for row in links)]


def removed_masts(receipts: Path) -> Iterator[dict[str, Any]]:
    """Yield the removed rows of `mast` in the receipts of a folder."""
    for receipt in receipts_in(receipts):
        for step in receipt.steps:
            if step.table.name == "mast" and step.action == "remove":
                names = [column.name for column in step.columns]
                for row in stored_rows(receipt.path, step):
                    yield dict(zip(names, (value for value, _ in row), strict=True))


def serial_orders(committed: list[str], run: list[str]) -> Iterator[tuple[str, ...]]:
    """Yield the run at every place among the others' transactions, then any order at all."""
    for place in range(len(committed) + 1):
        yield (*committed[:place], *run, *committed[place:])
    yield from permutations([*committed, *run])


def literal(value: Any) -> str:
    return "NULL" if value is None else repr(value)


def batches_in_turn(
    rows: list[str], committed: list[str], marks: list[int], receipts: Path
) -> Rows | None:
    """Return the others' transactions with the rows of each batch removed when it was committed."""
    keys = [row["id"] for row in removed_masts(receipts)]
    sizes: list[int] = []
    for receipt in receipts_in(receipts):
        connection = sqlite3.connect(receipt.path)
        sizes = [row[0] for row in connection.execute("SELECT matched FROM batch ORDER BY n")]
        connection.close()
        receipt.path.unlink()
    statements, done = list(rows), 0
    for place, mark in enumerate([*marks, len(committed)]):
        statements += committed[done:mark]
        done = mark
        if place < len(sizes):
            going = ", ".join(map(str, keys[sum(sizes[:place]) : sum(sizes[: place + 1])]))
            statements.append(f"DELETE FROM mast WHERE id IN ({going})")
    return alone(statements)


@pytest.mark.parametrize("kind", [*WORK, "restore", "batches"])
def test_a_run_and_everybody_else_equal_some_serial_order(
    made, tmp_path: Path, kind: str, trials: Trials
) -> None:
    database = made(SCHEMA)
    refused = {MariadbServerDatabase: "MariaDB would commit", SqlServerDatabase: "not made for"}
    if kind == "survivors" and type(database) in refused:
        with pytest.raises(YeldroError, match=refused[type(database)]):
            connect(database.url).run(
                cleanup("note", **WORK[kind][0], expect="0.."), receipts=tmp_path
            )
        return
    receipts = tmp_path / "receipts"
    ended = [interleaved(database, kind, seed, receipts) for seed in trials(3, 20)]
    more = range(-200, 0)  # most end in a rollback where others are busy
    assert (
        trials.only_one
        or any(ended)
        or any(interleaved(database, kind, seed, receipts) for seed in more)
    )


class Intruder:
    """Another session that makes one change at one border."""

    def __init__(self, database: AnyDatabase, change: str, place: int) -> None:
        self.other = Other(database, random.Random(0), [])
        self.other.statement = lambda: change  # type: ignore[method-assign]
        self.place = place
        self.passed = 0

    def at_border(self, _: str) -> None:
        if self.passed == self.place:
            self.other.act()
            self.other.end()
        self.passed += 1


@pytest.mark.parametrize(("made", "tells"), [("postgresql", True), ("mariadb", True),
                                             ("mariadb", False)], indirect=["made"])  # fmt: skip
@pytest.mark.parametrize("changed", [1, 2])
def test_at_every_border_a_filled_value_is_the_one_that_went(
    made,
    tmp_path: Path,
    changed: int,
    tells: bool,
    monkeypatch: pytest.MonkeyPatch,
    trials: Trials,
) -> None:
    """Also on MariaDB before 10.6.18, which has no innodb_snapshot_isolation."""
    database = made(SCHEMA)
    setting = MariadbSession.setting

    def without(session: MariadbSession, name: str) -> Any:
        return None if name == "innodb_snapshot_isolation" else setting(session, name)

    if not tells:
        monkeypatch.setattr(MariadbSession, "setting", without)
    rows = [f"INSERT INTO mast VALUES ({n}, 1, {label})"
            for n, label in ((1, "NULL"), (2, "'a'"), (3, "'b'"))]  # fmt: skip
    wanted, meaning = WORK["fill"]
    chosen = Job.of(cleanup("mast", **wanted, expect="2"))
    opened, ended, passed = open_database(database.url), 0, 50
    for number in trials(5, 80):
        place = spread(number, passed) - 1
        emptied(database, rows)
        intruder = Intruder(database, f"UPDATE mast SET label = 'z' WHERE id = {changed}", place)
        done = None
        with suppress(YeldroError), stepped(intruder.at_border):
            done = running.run(opened, chosen, ReceiptOptions(tmp_path / str(place)), 0)
        intruder.other.connection.close()
        order = ["; ".join(meaning)] if done else []
        found, committed = there(database), intruder.other.committed
        assert any(alone([*rows, *each]) == found for each in serial_orders(committed, order)), (
            place, committed, found,
        )  # fmt: skip
        ended += done is not None
        passed = intruder.passed if done else passed
    assert ended or trials.only_one


@pytest.mark.parametrize("made", ["postgresql", "mariadb"], indirect=True)
@pytest.mark.parametrize("change", ["DELETE FROM mast WHERE id = 1", "UPDATE mast SET g = 9"
                                    " WHERE id = 1"])  # fmt: skip
@pytest.mark.parametrize("where", [None, "id < 9"])
def test_at_every_border_the_kept_row_is_held_or_nothing_goes(
    made, tmp_path: Path, change: str, where: str | None, trials: Trials
) -> None:
    database = made(SCHEMA)
    chosen = cleanup("mast", duplicates_by="g", keep="lowest:id", where=where, expect="2")

    def run(place: int) -> Intruder:
        emptied(database, [f"INSERT INTO mast VALUES ({n}, {n % 2}, 'a')" for n in range(1, 5)])
        intruder = Intruder(database, change, place)
        try:
            with stepped(intruder.at_border):
                connect(database.url).run(chosen, receipts=tmp_path, lock_wait=0)
        finally:
            intruder.other.connection.close()
        return intruder

    held, borders = 0, run(-1).passed
    for number in trials(5, 80):
        try:
            held += not run(spread(number, borders) - 1).other.committed
        except YeldroError as error:
            assert error.exit_code in (3, 4, 5), error
            assert database.value("SELECT count(*) FROM mast WHERE id > 2") == 2
        else:  # it had to wait, so the row that is kept is there
            assert database.value("SELECT count(DISTINCT g) FROM mast WHERE g < 2") == 2
    assert held or trials.only_one
