"""Measurements as a table in Markdown, and as a figure."""

from __future__ import annotations

import statistics
from collections.abc import Sequence
from pathlib import Path
from typing import Any

from benchmarks.tasks import TASKS

NAMES = {"sqlite": "SQLite", "postgresql": "PostgreSQL", "mariadb": "MariaDB"}
SHORT = 3.0  # seconds of the hand-written side, below which the start of the program is told apart


def table(found: Sequence[dict[str, Any]]) -> str:
    """Return the ratios as a table: a row for each task, a column for each system.

    A ratio in bold is not as good as its goal. Where the hand-written side takes less than three
    seconds, the goal is held against the ratio without the start of the program.
    """
    systems = [name for name in NAMES if any(each["system"] == name for each in found)]
    cells = {(each["task"], each["system"]): each for each in found}
    lines = [
        f"| | goal | {' | '.join(NAMES[name] for name in systems)} |",
        f"|{'---|' * (len(systems) + 2)}",
    ]
    for name, task in TASKS.items():
        row = [cells.get((name, system)) for system in systems]
        if any(row):
            goals = " / ".join(dict.fromkeys(f"{goal:.1f}" for goal in task.goal.values()))
            shown = " | ".join(_cell(each) if each else "–" for each in row)
            lines.append(f"| {task.about} | {goals} | {shown} |")
    return "\n".join(lines) + "\n"


def _cell(each: dict[str, Any]) -> str:
    ratio = f"{each['ratio']:.2f}" if _counted(each) <= each["goal"] else f"**{each['ratio']:.2f}**"
    ours, hand = _seconds(each["yeldro"]), _seconds(each["hand"])
    return f"{ratio} ({each['without_start']:.2f}), {ours:.1f} s against {hand:.1f} s"


def _counted(each: dict[str, Any]) -> float:
    """Return the ratio that the goal is held against."""
    return float(each["without_start"] if _seconds(each["hand"]) < SHORT else each["ratio"])


def _seconds(runs: Sequence[dict[str, Any]]) -> float:
    return statistics.median(each["wall"] for each in runs)


def figure(found: Sequence[dict[str, Any]], path: Path) -> None:
    """Draw the ratio of each task on each system, with its goal."""
    from matplotlib.figure import Figure

    systems = [name for name in NAMES if any(each["system"] == name for each in found)]
    names = [name for name in TASKS if any(each["task"] == name for each in found)]
    drawn = Figure(figsize=(12.8, 8.0), layout="constrained")
    rows = drawn.subplots(1, len(systems), sharey=True, squeeze=False)[0]
    for axes, system in zip(rows, systems, strict=True):
        for place, name in enumerate(names):
            each = next((e for e in found if (e["system"], e["task"]) == (system, name)), None)
            if each is None:
                continue
            ratio, goal = _counted(each), each["goal"]
            axes.barh(place, ratio, height=0.6, color="#3b6ea5" if ratio <= goal else "#c8742c")
            axes.plot([goal, goal], [place - 0.42, place + 0.42], color="black", linewidth=2)
            axes.text(0.04, place, f"{ratio:.2f}", va="center", color="white", weight="bold")
        axes.axvline(1, color="grey", linewidth=0.8, linestyle="--")
        axes.set_title(NAMES[system])
        axes.set_xlim(0, 1.18 * max(_counted(each) for each in found))
        axes.set_xlabel("time against hand-written SQL")
    rows[0].set_yticks(range(len(names)), names)
    rows[0].invert_yaxis()
    drawn.suptitle("Black lines are goals; orange bars miss them; less is faster")
    drawn.savefig(path, dpi=100)
