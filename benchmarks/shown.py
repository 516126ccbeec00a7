"""Measurements as a table in Markdown, and as a figure."""

from __future__ import annotations

import math
import statistics
from collections.abc import Sequence
from pathlib import Path
from typing import Any

from benchmarks.tasks import TASKS

NAMES = {"sqlite": "SQLite", "postgresql": "PostgreSQL", "mariadb": "MariaDB"}
COLOURS = ("#3b6ea5", "#c8742c", "#4a8f4a", "#8a4fa3", "#7a6a4f", "#b03a4a", "#3f9a9a", "#777777")
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


def growth(found: Sequence[dict[str, Any]], path: Path) -> None:
    """Draw seconds and memory of each task on each system against the number of rows."""
    from matplotlib.figure import Figure

    systems = [name for name in NAMES if any(each["system"] == name for each in found)]
    names = [name for name in TASKS if any(each["task"] == name for each in found)]
    drawn = Figure(figsize=(12.8, 8.0), layout="constrained")
    grid = drawn.subplots(2, len(systems), sharex=True, sharey="row", squeeze=False)
    for column, system in enumerate(systems):
        seconds, memory = grid[:, column]
        seconds.set_title(NAMES[system])
        for name, colour in zip(names, COLOURS, strict=False):
            own = _by_size(found, system, name)
            sizes = [each["rows"] for each in own]
            style = {"color": colour, "label": name}
            seconds.loglog(sizes, [_seconds(each["yeldro"]) for each in own], "o-", **style)
            seconds.loglog(sizes, [_seconds(each["hand"]) for each in own], "--", color=colour)
            peaks = [statistics.median(run["peak"] for run in each["yeldro"]) for each in own]
            memory.semilogx(sizes, peaks, "o-", **style)
        memory.set_xlabel("rows in each large table")
        for axes in (seconds, memory):
            axes.grid(visible=True, linewidth=0.4)
    grid[0][0].set_ylabel("seconds; dashed: hand-written SQL")
    grid[1][0].set_ylabel("peak memory of the program, MB")
    grid[1][0].set_ylim(bottom=0)
    grid[0][0].legend()
    drawn.savefig(path, dpi=100)


def slopes(found: Sequence[dict[str, Any]]) -> str:
    """Return, in Markdown, by which power of the rows each task grows between the last two sizes.

    The start of the program is taken from its time: it does not grow.
    """
    systems = [name for name in NAMES if any(each["system"] == name for each in found)]
    lines = [
        f"| | {' | '.join(NAMES[name] for name in systems)} |",
        f"|{'---|' * (len(systems) + 1)}",
    ]
    for name, task in TASKS.items():
        cells = [_slopes(_by_size(found, system, name)) for system in systems]
        if any(cells):
            lines.append(f"| {task.about} | {' | '.join(each or '–' for each in cells)} |")
    return "\n".join(lines) + "\n"


def _slopes(own: Sequence[dict[str, Any]]) -> str:
    if len(own) < 2:
        return ""
    wider = math.log(own[-1]["rows"] / own[-2]["rows"])

    def power(side: str, less: str = "") -> float:
        before, after = (
            max(_seconds(each[side]) - (_seconds(each[less]) if less else 0), 0.001)
            for each in own[-2:]
        )
        return math.log(after / before) / wider

    return f"{power('yeldro', 'start'):.2f} against {power('hand'):.2f}"


def _by_size(found: Sequence[dict[str, Any]], system: str, task: str) -> list[dict[str, Any]]:
    own = [each for each in found if (each["system"], each["task"]) == (system, task)]
    return sorted(own, key=lambda each: int(each["rows"]))
