"""How long the ripple takes: a large catalogue, and a deep tree.

Run with: python benchmarks/ripple.py [--rows N] [--levels N]

Prints ratios to what SQLite itself takes on the same data in the same run.
"""

from __future__ import annotations

import argparse
import random
import shutil
import sqlite3
import tempfile
import time
from collections.abc import Callable
from pathlib import Path

from yeldro.core.execution.run import ReceiptOptions, plan, run
from yeldro.core.planning.job import Job
from yeldro.core.planning.plan import Cleanup
from yeldro.core.planning.treatment import Choices
from yeldro.core.selection.selection import Selection
from yeldro.engines import open_database


def main() -> None:
    parser = argparse.ArgumentParser(description=__doc__.splitlines()[0] if __doc__ else "")
    parser.add_argument("--rows", type=int, default=1_000_000, help="rows of the tree")
    parser.add_argument("--levels", type=int, default=10_000, help="levels of the tree")
    parser.add_argument("--tables", type=int, default=2_000)
    parser.add_argument("--keys", type=int, default=5_000, help="foreign keys between the tables")
    settings = parser.parse_args()
    with tempfile.TemporaryDirectory() as folder:
        large_catalogue(Path(folder), settings.tables, settings.keys)
        deep_tree(Path(folder), settings.rows, settings.levels)


def large_catalogue(folder: Path, tables: int, keys: int) -> None:
    """Plans a cleanup in a schema of many tables and foreign keys, all of them within reach."""
    path = folder / "large.db"
    chance = random.Random(1)
    links: list[list[int]] = [[] for _ in range(tables)]
    for _ in range(keys):
        child = chance.randrange(1, tables)
        links[child].append(chance.randrange(child))
    connection = sqlite3.connect(path)
    for number, parents in enumerate(links):
        columns = "".join(f", p{n} INTEGER REFERENCES t{p}" for n, p in enumerate(parents))
        connection.execute(f"CREATE TABLE t{number} (id INTEGER PRIMARY KEY{columns})")
    connection.execute("INSERT INTO t0 VALUES (1)")
    connection.commit()
    connection.close()
    cleanup = Cleanup(Selection("t0", all_rows=True), Choices(follow=("all",)))
    seconds = timed(lambda: plan(open_database(str(path)), Job.of(cleanup)))
    print(f"plan with {tables:,} tables and {keys:,} foreign keys: {seconds:.2f} s")


def deep_tree(folder: Path, rows: int, levels: int) -> None:
    """Removes a tree whose rows reference rows of the same table, against one plain statement."""
    path = folder / "tree.db"
    connection = sqlite3.connect(path)
    connection.execute(
        "CREATE TABLE node (id INTEGER PRIMARY KEY, name TEXT,"
        " parent_id INTEGER REFERENCES node ON DELETE CASCADE)"
    )
    wide = rows // levels
    connection.executemany(
        "INSERT INTO node VALUES (?, ?, ?)",
        ((n, f"node {n}", n - wide if n > wide else None) for n in range(1, rows + 1)),
    )
    connection.execute("CREATE INDEX node_parent ON node (parent_id)")
    connection.commit()
    connection.close()
    by_hand = folder / "by_hand.db"
    shutil.copy(path, by_hand)

    def plain() -> None:
        connection = sqlite3.connect(by_hand)
        connection.execute(
            "WITH RECURSIVE gone (id) AS (SELECT id FROM node WHERE parent_id IS NULL"
            " UNION SELECT node.id FROM gone JOIN node ON node.parent_id = gone.id)"
            " DELETE FROM node WHERE id IN (SELECT id FROM gone)"
        )
        connection.commit()
        connection.close()

    cleanup = Cleanup(Selection("node", where="parent_id IS NULL"))
    receipt_options = ReceiptOptions(folder / "receipts", with_rows=False)
    ours = timed(lambda: run(open_database(str(path)), Job.of(cleanup), receipt_options, 10))
    theirs = timed(plain)
    print(
        f"{rows:,} rows, {levels:,} levels: {ours:.2f} s; one plain statement {theirs:.2f} s;"
        f" ratio {ours / theirs:.2f}"
    )


def timed(work: Callable[[], object]) -> float:
    """Seconds that `work` takes."""
    start = time.perf_counter()
    work()
    return time.perf_counter() - start


if __name__ == "__main__":
    main()
