"""The measuring program runs, and both sides of its tasks do the same work."""

from __future__ import annotations

import json
import sqlite3
import subprocess
import sys
from pathlib import Path

import pytest

ROOT = Path(__file__).parents[1]

TASKS = ["retention", "cascade", "duplicates", "loosely", "kept", "restore", "keys", "orphans",
         "batches", "unindexed", "tree", "several", "survivors"]  # fmt: skip


@pytest.mark.parametrize("task", TASKS)
def test_both_sides_of_a_task_leave_the_same_rows(tmp_path: Path, task: str) -> None:
    sys.path.insert(0, str(ROOT))
    try:
        from benchmarks.measure import measured, yeldro
        from benchmarks.systems import Sqlite
        from benchmarks.tasks import TASKS as MEASURED
    finally:
        sys.path.remove(str(ROOT))

    def contents(path: str) -> dict[str, list[tuple[object, ...]]]:
        connection = sqlite3.connect(path)
        names = [name for (name,) in connection.execute(
            "SELECT name FROM sqlite_master WHERE type = 'table' AND name NOT LIKE 'sqlite%'"
        ) if name != "kept"]  # fmt: skip
        found = {name: sorted(connection.execute(f"SELECT * FROM {name}")) for name in names}
        connection.close()
        return found

    assert list(MEASURED) == TASKS
    system, work = Sqlite(tmp_path), MEASURED[task]
    system.make(2000, work.tables)
    system.refresh(work.tables)
    made = contents(system.url)
    by_hand = [sys.executable, "-m", "benchmarks.hand"]
    for statements in (work.before_hand, work.hand):
        if statements:
            measured(system, by_hand, json.dumps([system.name, system.place, list(statements)]))
    hand = contents(system.url)
    system.refresh(work.tables)
    for words in (work.before, work.command):
        if words:
            measured(system, yeldro(system, words, tmp_path / "receipts"))
    assert contents(system.url) == hand
    assert (hand == made) is (task == "restore")


def test_one_command_prints_a_line_for_each_task_and_writes_all_measurements(
    tmp_path: Path,
) -> None:
    words = ["--system", "sqlite", "--task", "keys", "--rows", "2000", "--pairs", "1"]
    words += ["--folder", str(tmp_path), "--json", str(tmp_path / "measured.json")]
    done = subprocess.run(
        [sys.executable, "-m", "benchmarks", *words], cwd=ROOT, capture_output=True, text=True,
        check=True,
    )  # fmt: skip
    (line,) = done.stdout.splitlines()
    assert line.split()[:2] == ["sqlite", "keys"]
    (measured,) = json.loads((tmp_path / "measured.json").read_text())["measured"]
    assert len(measured["hand"]) == len(measured["yeldro"]) == 1
    assert f"ratio {measured['ratio']:5.2f}" in line
    words = ["--read", str(tmp_path / "measured.json"), "--table", str(tmp_path / "table.md")]
    subprocess.run([sys.executable, "-m", "benchmarks", *words], cwd=ROOT, check=True)
    (row,) = (tmp_path / "table.md").read_text().splitlines()[2:]
    assert row.startswith("| 100 rows by key, no rows stored | 1.0 | ")
    assert f"{measured['ratio']:.2f}" in row


def test_growth_is_told_as_a_power_of_the_rows(tmp_path: Path) -> None:
    for rows, hand, ours in ((1000, 1.0, 2.5), (10_000, 10.0, 20.5), (100_000, 200.0, 200.5)):
        walls = {"hand": hand, "yeldro": ours, "start": 0.5}
        runs = {side: [{"wall": wall, "peak": 60.0}] for side, wall in walls.items()}
        found = {"system": "sqlite", "task": "kept", "rows": rows} | runs
        (tmp_path / f"{rows}.json").write_text(json.dumps({"measured": [found]}))
    read = [word for file in sorted(tmp_path.glob("*.json")) for word in ("--read", str(file))]
    drawn = tmp_path / "growth.png"
    words = [sys.executable, "-m", "benchmarks", *read, "--growth", str(drawn)]
    done = subprocess.run(words, cwd=ROOT, capture_output=True, text=True, check=True)
    (row,) = done.stdout.splitlines()[2:]
    assert row.endswith("| 1.00 against 1.30 |")
    assert drawn.read_bytes().startswith(b"\x89PNG")
