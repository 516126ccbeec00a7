"""Batches take, together, what the whole run would: also where rows reference one another."""

from __future__ import annotations

import random
from pathlib import Path

import pytest
from systems import AnyDatabase
from undoing import back_and_forth

from yeldro.api import cleanup, connect
from yeldro.core.batches import Batches, Progress, run_in_batches
from yeldro.core.errors import Interrupted
from yeldro.core.job import Job
from yeldro.core.receipt import ReceiptWish
from yeldro.core.receipts import read_receipt, receipts_in
from yeldro.engines import open_database

pytestmark = pytest.mark.slow

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
def test_batches_of_a_tree_take_what_the_whole_takes(made, tmp_path: Path, up: str) -> None:
    """Whole, in batches, and in batches that are stopped and taken up again."""
    database: AnyDatabase = made(TREE.format(up=up))
    opened = open_database(database.url)
    chosen = cleanup("node", where="mark < 2", expect="1..")
    for seed in range(5):
        chance = random.Random(seed)
        database.script(planted(chance))
        before = database.contents()
        folder = tmp_path / str(seed)
        whole = connect(database.url).run(chosen, receipts=folder / "whole")
        after = database.contents()
        assert whole.receipt is not None
        back_and_forth(opened, whole.receipt, database.contents)
        assert database.contents() == before
        wish, size = ReceiptWish(folder / "parts"), chance.randint(1, 3)
        told: list[Progress] = []
        stop_at = chance.randint(1, 3)
        while True:
            try:
                done = run_in_batches(
                    opened, Job.of(chosen), wish, 5, Batches(size), watch=told.append,
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
