"""How long removing duplicates takes, against the textbook statement on the same data.

Run with: python benchmarks/duplicates.py [--rows N] [URL ...]

Each URL names an empty database; without any an SQLite file is made. A fifth of the rows are
copies. The textbook statement numbers the rows of each group in a subquery and deletes those above
one. Whole times, from opening the database to the commit, the median of several on fresh tables; no
rows are stored.
"""

from __future__ import annotations

import argparse
import resource
import statistics
import tempfile
import time
from collections.abc import Callable
from pathlib import Path

import sqlalchemy as sa

from yeldro.core.execution.run import ReceiptOptions, run
from yeldro.core.model.expectation import Expectations
from yeldro.core.planning.job import Job
from yeldro.core.planning.plan import Cleanup
from yeldro.core.selection.duplicates import KeepRule
from yeldro.core.selection.selection import Selection
from yeldro.engines import open_database

TEXTBOOK = """
DELETE FROM sample WHERE id IN (SELECT id FROM (
    SELECT id, row_number() OVER (PARTITION BY spot, taken ORDER BY id) AS place FROM sample
) AS numbered WHERE place > 1)
"""
AT_ONCE = 10_000


def main() -> None:
    parser = argparse.ArgumentParser(description=__doc__.splitlines()[0] if __doc__ else "")
    parser.add_argument("--rows", type=int, default=1_000_000)
    parser.add_argument("--times", type=int, default=3, help="how often each is timed")
    parser.add_argument("urls", nargs="*", metavar="URL")
    settings = parser.parse_args()
    with tempfile.TemporaryDirectory() as folder:
        for url in settings.urls or [str(Path(folder) / "sample.db")]:
            compare(url, Path(folder), settings.rows, settings.times)
    peak = resource.getrusage(resource.RUSAGE_SELF).ru_maxrss / 1024
    print(f"peak memory of this process: {peak:.0f} MB")


def compare(url: str, folder: Path, rows: int, times: int) -> None:
    """Times both ways on the same rows."""
    copies = rows // 5
    database = open_database(url)

    def by_hand() -> None:
        with database.create() as connection:
            assert connection.exec_driver_sql(TEXTBOOK).rowcount == copies

    def by_program() -> None:
        cleanup = Cleanup(
            Selection("sample", duplicates_by=("spot", "taken"), keep=(KeepRule("lowest", "id"),)),
            expectations=Expectations.parse([str(copies)]),
        )
        run(database, Job.of(cleanup), ReceiptOptions(folder / "receipts", False), 10)

    took: dict[Callable[[], None], list[float]] = {by_hand: [], by_program: []}
    for _ in range(times):
        for way, seconds in took.items():
            load(url, rows)
            seconds.append(timed(way))
    print(f"{database.shown.partition(':')[0]}: {rows:,} rows, {copies:,} copies")
    for name, chosen in (("median", statistics.median), ("fastest", min)):
        textbook, program = map(chosen, took.values())
        ratio = program / textbook
        print(f"  {name}: {program:.2f} s, textbook {textbook:.2f} s, ratio {ratio:.2f}")


def load(url: str, rows: int) -> None:
    """A fresh table of readings, every fifth a copy of the one before."""
    table = sa.Table(
        "sample",
        sa.MetaData(),
        sa.Column("id", sa.Integer, primary_key=True, autoincrement=False),
        sa.Column("spot", sa.Integer, nullable=False),
        sa.Column("taken", sa.String(20), nullable=False),
        sa.Column("value", sa.Float),
    )
    if "://" not in url:
        Path(url).unlink(missing_ok=True)
    database = open_database(url)
    with database.create() as connection:
        table.drop(connection, checkfirst=True)
        table.create(connection)
        for start in range(1, rows + 1, AT_ONCE):
            part = range(start, min(start + AT_ONCE, rows + 1))
            connection.execute(sa.insert(table), [reading(number) for number in part])


def reading(number: int) -> dict[str, object]:
    """A made-up reading; every fifth repeats the one before it."""
    told = number - 1 if number % 5 == 0 else number
    return {"id": number, "spot": told * 7919 % 5000, "taken": f"t{told:09}", "value": told % 97}


def timed(work: Callable[[], None]) -> float:
    start = time.perf_counter()
    work()
    return time.perf_counter() - start


if __name__ == "__main__":
    main()
