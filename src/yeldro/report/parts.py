"""The parts that the views of all commands are made of."""

from __future__ import annotations

from collections.abc import Iterable, Sequence
from typing import Any

from rich.box import SIMPLE_HEAD
from rich.console import Group, RenderableType
from rich.table import Table as Grid
from rich.text import Text

from yeldro.report.text import cell, visible

NUMBER, WARNING, QUIET = "bold cyan", "yellow", "dim"


def grid(
    headings: Sequence[str], rows: Iterable[Sequence[str | Text]], numbers: Sequence[int] = ()
) -> Grid:
    """Return a table; the columns at the places `numbers` are aligned to the right."""
    table = Grid(box=SIMPLE_HEAD, header_style="bold", pad_edge=False, show_edge=False)
    for place, heading in enumerate(headings):
        right = place in numbers
        table.add_column(
            Text(visible(heading)),
            justify="right" if right else "left",
            no_wrap=right,
            overflow="fold",
        )
    for row in rows:
        table.add_row(*(Text(visible(c)) if isinstance(c, str) else c for c in row))
    return table


def rows_grid(columns: Sequence[str], rows: Sequence[Sequence[Any]]) -> Grid:
    """Lay rows out as the database holds them; NULL is dimmed, unlike the text NULL."""
    right = [
        place
        for place in range(len(columns))
        if rows and all(isinstance(row[place], int | float | None) for row in rows)
    ]
    shown = (
        [Text(cell(value), style=QUIET if value is None else "") for value in row] for row in rows
    )
    return grid(columns, shown, right)


def prevention(statement: str, made: bool = False) -> list[RenderableType]:
    """Show the statement that keeps such duplicates out, if it is known."""
    if not statement:
        return []
    said = "Added, to keep new duplicates out:"
    if not made:
        said = "This would keep new duplicates out (it has not been tried):"
    return [Text.assemble(f"{said} ", (visible(statement) + ";", "bold"))]


def spaced(parts: Sequence[RenderableType]) -> Group:
    """Return the parts with an empty line around every table."""
    spaced: list[RenderableType] = []
    for place, part in enumerate(parts):
        before = parts[place - 1] if place else ""
        if place and not (isinstance(part, Text) and isinstance(before, Text)):
            spaced.append("")
        spaced.append(part)
    return Group(*spaced)


def heading(command: str, name: str, rest: str) -> Text:
    return Text.assemble(
        (f"{command}  ", "bold"), (visible(name), "bold cyan"), f"  {visible(rest)}"
    )


def caution(text: str) -> Text:
    return Text(f"! {visible(text)}", style=WARNING)


def remark(text: str) -> Text:
    return Text(f"· {visible(text)}", style=QUIET)
