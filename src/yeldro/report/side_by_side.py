"""One group of duplicates for a person to decide: its rows side by side, each a column."""

from __future__ import annotations

from collections.abc import Iterator, Sequence

from rich.box import SIMPLE_HEAD
from rich.console import Group, RenderableType
from rich.table import Table
from rich.text import Text

from yeldro.formats.review_on_disk import KEEP, OPEN, REMOVE, Line, ReviewOnDisk
from yeldro.report.parts import QUIET, WARNING, heading
from yeldro.report.text import cell, visible

MOST_ROWS = 9  # of a group beside each other, so that one key means one of them
_NARROWEST = 14  # characters for a row's values
_LONGEST_NAME = 26
_MOST = 60  # characters of a value beside others
_AROUND = 9  # lines that are no column of the table: headings, counts, and what can be typed
_SAID = {KEEP: ("stays", "bold green"), REMOVE: ("goes", WARNING), OPEN: ("open", QUIET)}


def rows_beside(width: int) -> int:
    """Return how many rows of a group fit beside each other in so many characters."""
    return max(min((width - _LONGEST_NAME) // _NARROWEST, MOST_ROWS), 1)


def group_view(
    review: ReviewOnDisk,
    title: Sequence[str],
    group: int,
    start: int,
    width: int,
    height: int,
    *,
    by_rules: bool,
) -> RenderableType:
    """Return some rows of a group.

    Columns that differ come first, and are marked with ≠; how many rows reference each row follows,
    by foreign key, marked with ←; the columns in which all agree come last.

    Args:
        title: the table, and what its rows are compared by.
        start: the first row to show.
        width, height: of the terminal, in characters.
        by_rules: there are keep rules.
    """
    lines = review.lines(group)
    some = lines[start : start + rows_beside(width)]
    undecided = sum(1 for _ in review.open_groups())
    told = f"group {group + 1:,} of {len(review):,}, {undecided:,} open"
    if len(some) < len(lines):
        told += f"; rows {start + 1} to {start + len(some)} of {len(lines)}"
    parts: list[RenderableType] = [heading("decide", title[0], f"by {title[1]}"), Text(told)]
    if lines[0].tied and by_rules:
        parts.append(Text("No keep rule prefers a single row.", style=QUIET))
    table = Table(box=SIMPLE_HEAD, header_style="bold", pad_edge=False, show_edge=False)
    table.add_column(max_width=_LONGEST_NAME, overflow="ellipsis", no_wrap=True)
    for number, line in enumerate(some, 1):
        said, style = _SAID[line.decision]
        table.add_column(
            Text.assemble(f"{number}  ", (said, style)), overflow="ellipsis", no_wrap=True, ratio=1
        )
    differing = _differing(review, lines)
    names = list(dict.fromkeys(name for line in lines for name in line.referenced_by))
    room = max(height - _AROUND - len(names), 5)
    shown = list(_in_order(review, differing))[:room]
    for place in (each for each in shown if review.columns[each] in differing):
        differs = Text.assemble(("≠ ", WARNING), visible(review.columns[place]))
        table.add_row(differs, *(_value(line, place) for line in some))
    for name in names:
        counts = (line.referenced_by.get(name, "0") for line in some)
        table.add_row(Text.assemble("← ", visible(name)), *map(Text, counts))
    for place in (each for each in shown if review.columns[each] not in differing):
        alike = Text.assemble("  ", (visible(review.columns[place]), QUIET))
        table.add_row(alike, *(_value(line, place) for line in some))
    parts += ["", table]
    left = len(review.columns) - len(shown)
    if left:
        parts.append(Text(f"  and {left:,} more columns", style=QUIET))
    return Group(*parts)


def whole_view(review: ReviewOnDisk, group: int) -> RenderableType:
    """Return the values of a group in full, for the columns in which its rows differ."""
    lines = review.lines(group)
    differing = _differing(review, lines)
    parts: list[RenderableType] = [Text(f"group {group + 1:,}, where its rows differ", "bold")]
    for place, name in enumerate(review.columns):
        if name in differing:
            parts += ["", Text(visible(name), "bold cyan")]
            parts += [
                Text.assemble((f"{number}  ", QUIET), _said(line.values[place], None))
                for number, line in enumerate(lines, 1)
            ]
    return Group(*parts)


def keys_view(rows: int, more: bool) -> RenderableType:
    """Return what can be typed.

    Args:
        rows: how many rows are shown.
        more: the group has others.
    """
    keys = [
        ("1" if rows == 1 else f"1-{rows}", "keep this one"),
        ("a", "keep all: no duplicates"),
        ("s", "skip"),
        ("o", "open again"),
        ("p", "previous"),
        ("n", "next"),
        *([("m", "more rows")] if more else []),
        ("w", "whole values"),
        ("r", "a rule for the rest"),
        ("q", "leave"),
    ]
    text = Text()
    for place, (key, meaning) in enumerate(keys):
        text.append("   " if place else "")
        text.append(key, style="bold cyan")
        text.append(f" {meaning}")
    return text


def _differing(review: ReviewOnDisk, lines: Sequence[Line]) -> set[str]:
    """Return the columns in which rows of a group differ."""
    told = {name for line in lines for name in line.differs}
    seen = {
        name
        for place, name in enumerate(review.columns)
        if len({line.values[place] for line in lines}) > 1
    }
    return seen | (told & {*review.columns})


def _in_order(review: ReviewOnDisk, differing: set[str]) -> Iterator[int]:
    """Yield the places of all columns, those that differ foremost."""
    places = range(len(review.columns))
    yield from (place for place in places if review.columns[place] in differing)
    yield from (place for place in places if review.columns[place] not in differing)


def _value(line: Line, place: int) -> Text:
    return _said(line.values[place], _MOST)


def _said(value: str | None, most: int | None) -> Text:
    """Return a value; spaces around it are shown by quotes, and NULL is dimmed."""
    if value is not None and value != value.strip():
        return Text(f"'{cell(value, most)}'")
    return Text(cell(value, most), style=QUIET if value is None else "")
