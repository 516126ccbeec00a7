"""Measure Yeldro against hand-written SQL, in turn, and print the ratios."""

from __future__ import annotations

import argparse
import json
import shutil
import statistics
import sys
import tempfile
from dataclasses import asdict
from pathlib import Path
from typing import Any

from benchmarks.measure import Measured, measured, yeldro
from benchmarks.shown import figure, growth, slopes, table
from benchmarks.systems import SYSTEMS, System
from benchmarks.tasks import TASKS, Task


def main() -> None:
    parser = argparse.ArgumentParser(prog="python -m benchmarks", description=__doc__)
    parser.add_argument("--system", action="append", choices=SYSTEMS, help="default: all")
    parser.add_argument("--task", action="append", choices=TASKS, help="default: all")
    parser.add_argument("--rows", type=int, default=1_000_000, help="of each large table")
    parser.add_argument("--pairs", type=int, default=5, help="runs of each side, in turn")
    parser.add_argument("--folder", type=Path, help="where made data are kept for the next time")
    parser.add_argument("--json", type=Path, metavar="FILE", help="write all measurements")
    told = "measure nothing, and show what an earlier --json FILE holds; repeatable"
    parser.add_argument("--read", action="append", type=Path, metavar="FILE", help=told)
    parser.add_argument("--table", type=Path, metavar="FILE", help="write a table in Markdown")
    parser.add_argument("--figure", type=Path, metavar="FILE", help="draw the ratios (Matplotlib)")
    told = "draw time and memory against the number of rows, of several --read"
    parser.add_argument("--growth", type=Path, metavar="FILE", help=told)
    settings = parser.parse_args()
    found = [
        each for path in settings.read or () for each in json.loads(path.read_text())["measured"]
    ]
    if not settings.read:
        found = all_measured(settings)
    if settings.table:
        settings.table.write_text(table(found))
    if settings.figure:
        figure(found, settings.figure)
    if settings.growth:
        growth(found, settings.growth)
        print(slopes(found), end="")


def all_measured(settings: argparse.Namespace) -> list[dict[str, Any]]:
    """Measure the tasks that are asked for, and print a line for each."""
    found = []
    with tempfile.TemporaryDirectory() as temporary:
        folder = settings.folder or Path(temporary)
        folder.mkdir(parents=True, exist_ok=True)
        for name in settings.system or SYSTEMS:
            system: System = SYSTEMS[name](folder)
            tasks = [TASKS[each] for each in settings.task or TASKS if name in TASKS[each].goal]
            system.make(settings.rows, {table for task in tasks for table in task.tables})
            try:
                for task in tasks:
                    measurement = compared(system, task, folder, settings.pairs)
                    found.append({"rows": settings.rows} | measurement)
                    print(line(found[-1]), flush=True)
            finally:
                system.drop()
    if settings.json:
        document = {"rows": settings.rows, "pairs": settings.pairs, "measured": found}
        settings.json.write_text(json.dumps(document, indent=1) + "\n")
    return found


def compared(system: System, task: Task, folder: Path, pairs: int) -> dict[str, Any]:
    """Measure both sides of a task in turn, and the start of the program beside them."""
    hand, ours, start = [], [], []
    receipts = folder / "receipts"
    look = ("preview", "region", "--where", "id = 1", "--rows", "1")
    for _ in range(pairs):
        system.refresh(task.tables)
        shutil.rmtree(receipts, ignore_errors=True)
        by_hand = [sys.executable, "-m", "benchmarks.hand"]
        if task.before_hand:
            measured(system, by_hand, _asked(system, task.before_hand))
        hand.append(
            measured(system, by_hand, _asked(system, task.hand_on.get(system.name, task.hand)))
        )
        system.refresh(task.tables)
        if task.before:
            measured(system, yeldro(system, task.before, receipts))
        ours.append(measured(system, yeldro(system, task.command, receipts)))
        start.append(measured(system, yeldro(system, look)))
    return {
        "system": system.name,
        "task": task.name,
        "about": task.about,
        "goal": task.goal[system.name],
        "hand": [asdict(each) for each in hand],
        "yeldro": [asdict(each) for each in ours],
        "start": [asdict(each) for each in start],
        **ratios(hand, ours, start),
    }


def _asked(system: System, statements: Any) -> str:
    return json.dumps([system.name, system.place, list(statements)])


def ratios(
    hand: list[Measured], ours: list[Measured], start: list[Measured]
) -> dict[str, float | list[float]]:
    """Return the median of the pairs' ratios with its spread, and the same without the start."""
    begin = statistics.median(each.wall for each in start)
    pairs = [mine.wall / theirs.wall for mine, theirs in zip(ours, hand, strict=True)]
    without = [max(mine.wall - begin, 0) / theirs.wall
               for mine, theirs in zip(ours, hand, strict=True)]  # fmt: skip
    return {
        "ratio": statistics.median(pairs),
        "spread": [min(pairs), max(pairs)],
        "without_start": statistics.median(without),
    }


def line(found: dict[str, Any]) -> str:
    """Return one measured task as a line of the table."""

    def middle(side: str, what: str) -> float:
        return statistics.median(each[what] for each in found[side])

    low, high = found["spread"]
    return (
        f"{found['system']:11} {found['task']:11} {middle('hand', 'wall'):7.2f} s "
        f"{middle('yeldro', 'wall'):7.2f} s  ratio {found['ratio']:5.2f} ({low:.2f} to {high:.2f})"
        f", without start {found['without_start']:5.2f}, goal {found['goal']:.1f};"
        f" CPU {middle('yeldro', 'client'):.1f} + {middle('yeldro', 'server'):.1f} s"
        f" against {middle('hand', 'client'):.1f} + {middle('hand', 'server'):.1f} s,"
        f" peak {middle('yeldro', 'peak'):.0f} MB"
    )


if __name__ == "__main__":
    main()
