"""The parts that the views of all commands are made of."""

from __future__ import annotations

from collections.abc import Iterable, Iterator, Sequence
from typing import TYPE_CHECKING, Any

from rich.cells import cell_len
from rich.console import Console, ConsoleOptions, Group, RenderableType, RenderResult
from rich.segment import Segment
from rich.text import Text

from yeldro.report.text import cell, visible

if TYPE_CHECKING:
    from yeldro.core.database.facts import Prevention

NUMBER, WARNING, QUIET = "bold cyan", "yellow", "dim"


_BETWEEN = 3  # characters between two columns


class Grid:
    """A table; where it is too wide without breaking a word, its rows stand one under the other.

    Args:
        headings: of the columns; the first column names a row.
        rows: a text for each column.
        numbers: the places of the columns that are aligned to the right.
    """

    def __init__(
        self, headings: Sequence[str], rows: Sequence[Sequence[Text]], numbers: Sequence[int]
    ) -> None:
        self._headings = [visible(heading) for heading in headings]
        self._rows = rows
        self._numbers = numbers

    def __rich_console__(self, console: Console, options: ConsoleOptions) -> RenderResult:
        narrowest = [self._narrowest(place) for place in range(len(self._headings))]
        room = options.max_width - _BETWEEN * (len(narrowest) - 1)
        if sum(narrowest) <= room:
            yield from self._beside(console, self._widths(narrowest, room))
        else:
            yield from self._below(console, options.max_width)

    def _narrowest(self, place: int) -> int:
        """Return the width of the longest word of a column, or of its longest number."""
        texts = [self._headings[place], *(row[place].plain for row in self._rows)]
        parts = texts if place in self._numbers else " ".join(texts).split()
        return max(map(cell_len, parts), default=0)

    def _widths(self, narrowest: Sequence[int], room: int) -> list[int]:
        """Return the width of each column: what its longest cell needs, as far as there is room."""
        wanted = [
            max(cell_len(line) for text in (self._headings[place], *(row[place].plain for row in
                self._rows)) for line in text.split("\n"))
            for place in range(len(self._headings))
        ]  # fmt: skip
        widths = list(narrowest)
        left = room - sum(widths)
        while left > 0 and (growing := [n for n, its in enumerate(widths) if its < wanted[n]]):
            share = max(left // len(growing), 1)
            for place in growing:
                more = min(share, wanted[place] - widths[place], left)
                widths[place] += more
                left -= more
        return widths

    def _beside(self, console: Console, widths: Sequence[int]) -> Iterator[Segment]:
        """Yield the rows as lines of a table."""
        head = [Text(heading, style="bold") for heading in self._headings]
        yield from _lines(console, head, widths, self._numbers, low=True)
        yield Segment("─" * (sum(widths) + _BETWEEN * (len(widths) - 1)))
        yield Segment.line()
        for row in self._rows:
            yield from _lines(console, row, widths, self._numbers)

    def _below(self, console: Console, width: int) -> Iterator[RenderableType | Segment]:
        """Yield each row as a block: what names it, and under that a line for each column."""
        label = max(map(cell_len, self._headings[1:]), default=0)
        label = min(label, max(width // 3, 8))
        widths = [1, label, width - label - 4]
        for number, row in enumerate(self._rows):
            if number:
                yield Text()
            yield Text.assemble(*((f"{self._headings[0]} ", QUIET) for _ in self._headings[0][:1]),
                                row[0])  # fmt: skip
            for heading, cell_ in zip(self._headings[1:], row[1:], strict=True):
                if cell_.plain.strip():
                    line = [Text(), Text(heading, style=QUIET), cell_]
                    yield from _lines(console, line, widths, between=1)


def _lines(
    console: Console,
    row: Sequence[Text],
    widths: Sequence[int],
    numbers: Sequence[int] = (),
    between: int = _BETWEEN,
    *,
    low: bool = False,
) -> Iterator[Segment]:
    """Yield cells beside each other; one that is too long goes on in the next line.

    The library's own tables do this too, and take ten times as long.

    Args:
        numbers: the places of the cells that are aligned to the right.
        between: characters between two cells.
        low: shorter cells stand at the bottom.
    """
    cells = [
        [text]
        if "\n" not in text.plain and cell_len(text.plain) <= width
        else list(text.wrap(console, width, overflow="fold"))
        for text, width in zip(row, widths, strict=True)
    ]
    height = max(map(len, cells))
    if low:
        cells = [[Text()] * (height - len(cell_)) + cell_ for cell_ in cells]
    for place in range(height):
        blanks = 0  # before the next cell; none are written at the end of a line
        for column, (cell_, width) in enumerate(zip(cells, widths, strict=True)):
            text = cell_[place] if place < len(cell_) else Text()
            rest = width - cell_len(text.plain)
            right = column in numbers
            yield Segment(" " * (blanks + rest if right else blanks))
            if text.spans:
                yield from text.render(console)
            else:
                yield Segment(text.plain, console.get_style(text.style))
            blanks = between + (0 if right else rest)
        yield Segment.line()


def grid(
    headings: Sequence[str], rows: Iterable[Sequence[str | Text]], numbers: Sequence[int] = ()
) -> Grid:
    """Return a table; the columns at the places `numbers` are aligned to the right."""
    texts = [
        [Text(visible(each)) if isinstance(each, str) else each for each in row] for row in rows
    ]
    return Grid(headings, texts, numbers)


def shown(value: Any, full: bool) -> Text:
    """Return a value for a cell, cut in the middle unless it is wanted in full; NULL is dimmed."""
    return Text(cell(value, None) if full else cell(value), style=QUIET if value is None else "")


def is_number(rows: Sequence[Sequence[Any]], place: int) -> bool:
    """True if a column of rows holds numbers alone, and NULL."""
    return all(isinstance(row[place], int | float | None) for row in rows)


def rows_grid(columns: Sequence[str], rows: Sequence[Sequence[Any]], *, full: bool = False) -> Grid:
    """Lay rows out as the database holds them; `full` cuts no value."""
    right = [place for place in range(len(columns)) if rows and is_number(rows, place)]
    return grid(columns, ([shown(value, full) for value in row] for row in rows), right)


def prevention(found: Prevention | None, made: bool = False) -> list[RenderableType]:
    """Show the statement that keeps such duplicates out, if it is known."""
    if found is None:
        return []
    said = "Added, to keep new duplicates out:"
    if not made:
        known = "the database takes it" if found.tried else "it has not been tried"
        said = f"This would keep new duplicates out ({known}):"
    return [Text.assemble(f"{said} ", (visible(found.statement) + ";", "bold"))]


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
