"""Batches take, together, what the whole run would: also where rows reference one another."""

from __future__ import annotations

import random
from collections import Counter
from pathlib import Path

import pytest
from conftest import Yeldro, there_and_back
from systems import AnyDatabase, SqliteFile
from trials import Trials
from undoing import back_and_forth

from yeldro.api import cleanup, connect
from yeldro.core.execution.batches import Batches, Progress, run_in_batches
from yeldro.core.model.messages.errors import Interrupted, Refused
from yeldro.core.planning.job import Job
from yeldro.core.receipts.reader import read_receipt, receipts_in
from yeldro.core.receipts.writer import ReceiptOptions
from yeldro.engines import open_database

TREE = """
    CREATE TABLE node (id INTEGER PRIMARY KEY, up INTEGER, peer INTEGER, mark INTEGER,
        FOREIGN KEY (up) REFERENCES node (id) ON DELETE {up},
        FOREIGN KEY (peer) REFERENCES node (id) ON DELETE SET NULL);
    CREATE TABLE leaf (id INTEGER PRIMARY KEY, node_id INTEGER, near INTEGER,
        FOREIGN KEY (node_id) REFERENCES node (id) ON DELETE CASCADE,
        FOREIGN KEY (near) REFERENCES node (id) ON DELETE SET NULL);
"""


def planted(chance: random.Random) -> str:
    """Statements that make a random tree, parents first."""
    statements = ["UPDATE node SET up = NULL, peer = NULL", "DELETE FROM leaf", "DELETE FROM node"]
    numbers = chance.sample(range(1, 40), 14)
    for place, number in enumerate(numbers):
        up, peer = (chance.choice(["NULL", *numbers[:place]]) for _ in range(2))
        statements.append(f"INSERT INTO node VALUES ({number}, {up}, {peer}, "
                          f"{chance.randint(0, 2)})")  # fmt: skip
    for number in range(1, 10):
        node, near = chance.choice(numbers), chance.choice(["NULL", *numbers])
        statements.append(f"INSERT INTO leaf VALUES ({number}, {node}, {near})")
    return "; ".join(statements)


@pytest.mark.parametrize("up", ["CASCADE", "SET NULL"])
def test_batches_of_a_tree_take_what_the_whole_takes(
    made, tmp_path: Path, up: str, trials: Trials
) -> None:
    """Whole, in batches, and in batches that are stopped and taken up again."""
    database: AnyDatabase = made(TREE.format(up=up))
    opened = open_database(database.url)
    chosen = cleanup("node", where="mark < 2", expect="1..")
    for seed in trials(1, 20):
        chance = random.Random(seed)
        database.script(planted(chance))
        before = database.contents()
        folder = tmp_path / str(seed)
        whole = connect(database.url).run(chosen, receipts=folder / "whole")
        after = database.contents()
        assert whole.receipt is not None
        back_and_forth(opened, whole.receipt, database.contents)
        assert database.contents() == before
        receipt_options, size = ReceiptOptions(folder / "parts"), chance.randint(1, 3)
        told: list[Progress] = []
        stop_at = chance.randint(1, 3)
        while True:
            try:
                done = run_in_batches(
                    opened, Job.of(chosen), receipt_options, 5, Batches(size), watch=told.append,
                    should_stop=lambda: len(told) == stop_at,  # noqa: B023
                )  # fmt: skip
                break
            except Interrupted:
                stop_at = -1
        assert database.contents() == after, seed
        assert told[-1].matched == told[-1].wanted == whole.plans[0].matched
        receipts = receipts_in(folder / "parts")
        assert [each.outcome for each in receipts] == ["committed"]
        assert done.receipt is None or done.receipt == receipts[0].path
        for step in receipts[0].steps:
            assert step.planned == step.affected
        back_and_forth(opened, read_receipt(receipts[0].path).path, database.contents)
        assert database.contents() == before, seed


HEAP = """
    CREATE TABLE mast (id INTEGER PRIMARY KEY);
    CREATE TABLE heap (mast_id INTEGER, value INTEGER,
        FOREIGN KEY (mast_id) REFERENCES mast (id) ON DELETE {action});
    INSERT INTO mast VALUES (1), (2), (3), (4), (5);
    INSERT INTO heap VALUES (1, 1), (2, 2), (3, 3), (4, 4);
"""


@pytest.mark.parametrize(
    ("action", "equal"), [("CASCADE", "(1, 1)"), ("SET NULL", "(5, 1)"), ("SET NULL", "(NULL, 2)")]
)
def test_rows_without_a_key_go_in_batches_where_they_can_come_back(
    yeldro: Yeldro, made, action: str, equal: str
) -> None:
    """Equal rows cannot be told apart after several batches; SQLite's have a row id."""
    database: AnyDatabase = made(HEAP.format(action=action))
    words = ("mast", "--where", "id < 6", "--batch", "2", "--expect", "5")
    there_and_back(yeldro, database, *words)
    database.script(f"INSERT INTO heap VALUES {equal}")
    if isinstance(database, SqliteFile):
        there_and_back(yeldro, database, *words)
        return
    before = database.contents()
    told = yeldro("run", *words, "--yes", db=database.url, code=3).err
    assert "heap has no key, and some of its rows that go or change equal others" in told
    assert database.contents() == before
    yeldro("run", *words, "--yes", "--without-rows", db=database.url)
    assert database.value("SELECT count(*) FROM mast") == 0


LINKED = """
    CREATE TABLE mast (id INTEGER PRIMARY KEY, mark INTEGER);
    CREATE TABLE heap (number INTEGER, one INTEGER, two INTEGER, three INTEGER,
        FOREIGN KEY (one) REFERENCES mast (id) ON DELETE {0},
        FOREIGN KEY (two) REFERENCES mast (id) ON DELETE {1},
        FOREIGN KEY (three) REFERENCES mast (id) ON DELETE {2});
"""


@pytest.mark.parametrize("cut", range(4))
def test_links_that_batches_cut_of_rows_without_a_key_come_back_or_none_is_cut(
    made, tmp_path: Path, cut: int, trials: Trials
) -> None:
    """Of three foreign keys of one table, the first `cut` are set to NULL."""
    actions = ["SET NULL"] * cut + ["CASCADE"] * (3 - cut)
    random.Random(cut).shuffle(actions)
    database: AnyDatabase = made(LINKED.format(*actions))
    opened = open_database(database.url)
    told = Counter[str]()
    for seed in trials(2, 20):
        chance = random.Random(seed)
        masts = range(1, chance.randint(4, 7))
        database.script("DELETE FROM heap; DELETE FROM mast")
        database.script(
            "; ".join(f"INSERT INTO mast VALUES ({n}, {chance.randint(0, 2)})" for n in masts)
        )
        for number in range(6):
            links = ", ".join(str(chance.choice(["NULL", *masts])) for _ in range(3))
            database.script(f"INSERT INTO heap VALUES ({number}, {links})")
        before = database.contents()
        job = Job.of(cleanup("mast", where="mark < 2", expect="0.."))
        receipt_options = ReceiptOptions(tmp_path / str(seed))
        try:
            ended = run_in_batches(opened, job, receipt_options, 5, Batches(chance.randint(1, 2)))
        except Refused as error:
            assert "heap has no key" in str(error)
            told["refused"] += 1
        else:
            if ended.receipt is not None:
                told["run"] += 1
                back_and_forth(opened, ended.receipt, database.contents)
        assert database.contents() == before, seed
    has_row_ids = isinstance(database, SqliteFile)
    most = "run" if cut == 0 or (cut == 1 and has_row_ids) else "refused"
    assert told[most] or trials.only_one


TAKING = {
    "sqlite": "CREATE TRIGGER taking AFTER DELETE ON mast BEGIN "
    "DELETE FROM lamp WHERE mast_id = OLD.id + 2; END;",
    "mariadb": "CREATE TRIGGER taking AFTER DELETE ON mast FOR EACH ROW "
    "DELETE FROM lamp WHERE mast_id = OLD.id + 2;",
    "postgresql": """CREATE FUNCTION take() RETURNS trigger LANGUAGE plpgsql AS $$ BEGIN
        DELETE FROM lamp WHERE mast_id = OLD.id + 2; RETURN OLD; END $$;
        CREATE TRIGGER taking AFTER DELETE ON mast FOR EACH ROW EXECUTE FUNCTION take();""",
}


def test_rows_that_a_trigger_takes_from_a_later_batch_are_told(yeldro: Yeldro, made) -> None:
    """All is committed then, and what the receipt holds comes back."""
    database: AnyDatabase = made("""
        CREATE TABLE mast (id INTEGER PRIMARY KEY);
        CREATE TABLE lamp (id INTEGER PRIMARY KEY, mast_id INTEGER,
            FOREIGN KEY (mast_id) REFERENCES mast (id) ON DELETE CASCADE);
        INSERT INTO mast VALUES (1), (2), (3), (4);
        INSERT INTO lamp VALUES (10, 1), (30, 3), (40, 4);
    """)
    system = database.url.partition(":")[0]
    database.script(TAKING.get(system, TAKING["sqlite"]))
    words = ("run", "mast", "--where", "id < 4", "--allow-trigger", "taking", "--batch", "1")
    told = yeldro(*words, "--expect", "3", "--yes", "--json", db=database.url, code=4)
    error = told.json()["error"]
    assert error["evidence"]["missing"] == {"lamp": 1}
    assert "All batches are committed, 3 of them: 3 matched rows are gone" in error["data"]
    assert database.value("SELECT count(*) FROM mast") == 1
    (receipt,) = receipts_in(yeldro.receipts)
    assert receipt.outcome == "committed"
    yeldro("restore", "last", "--yes")
    assert database.rows("SELECT id FROM mast ORDER BY id") == [(1,), (2,), (3,), (4,)]
    assert database.rows("SELECT id FROM lamp") == [(10,)]  # what the trigger took is not kept
