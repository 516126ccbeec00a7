"""A review that is decided one group at a time: each decision is on disk before the next is made.

A decision stands first in its line, and takes the same room whatever it says. So it is written in
its place, and the rest of the file is never written again.
"""

from __future__ import annotations

import csv
import os
from collections.abc import Iterator, Sequence
from dataclasses import dataclass
from pathlib import Path
from typing import IO, Self

from yeldro.core.model.messages.errors import UsageError
from yeldro.core.model.messages.files import AsText, new_file
from yeldro.formats.review_file import (
    DECISION,
    GROUP,
    MARK,
    OWN_COLUMNS,
    DecisionsFile,
    is_workbook,
    lines_of,
    value_of,
)

KEEP, REMOVE, OPEN = "keep", "remove", ""
_ROOM = max(map(len, (KEEP, REMOVE, OPEN)))
_BOM = b"\xef\xbb\xbf"


@dataclass(frozen=True)
class Line:
    """A row of a group, as the file tells it.

    Args:
        decision: `keep`, `remove`, or nothing.
        tied: the keep rules did not say which row of the group stays.
        differs: the columns whose values are not those of the group's first row.
        referenced_by: how many rows reference it, by foreign key.
        mark: names the row.
        values: its columns, as text, None for NULL.
    """

    decision: str
    tied: bool
    differs: frozenset[str]
    referenced_by: dict[str, str]
    mark: str
    values: tuple[str | None, ...]


class ReviewOnDisk:
    """The groups of a review file; `with` opens and closes it.

    Attributes:
        columns: the table's own columns that the file has.
    """

    def __init__(self, path: str) -> None:
        """Lay the file out so that decisions can be written in their places.

        Raises:
            UsageError: it cannot be read or written, or is no review.
        """
        if is_workbook(path):
            raise UsageError(
                f"{path} is a workbook, and is decided in a spreadsheet.",
                "Name a file that ends with .csv.",
            )
        for _ in DecisionsFile(path).read():  # refuses what is not a review, with its line
            pass
        self.path = path
        _lay_out(path)
        self._file: IO[bytes] | None = None
        self._places: list[list[int]] = []
        self._decisions: list[list[str]] = []
        with Path(path).open("rb") as file:
            records = _records(file)
            self._names = next(records)[1]
            self.columns = tuple(name for name in self._names if name not in OWN_COLUMNS)
            group, known = self._names.index(GROUP), dict[str, int]()
            for place, cells in records:
                if any(cells):
                    number = known.setdefault(cells[group].strip(), len(known))
                    if number == len(self._places):
                        self._places.append([])
                        self._decisions.append([])
                    self._places[number].append(place)
                    self._decisions[number].append(cells[0].strip().lower())

    def __enter__(self) -> Self:
        try:
            self._file = Path(self.path).open("r+b")
        except OSError as error:
            raise UsageError(f"{self.path} cannot be written: {error.strerror}.") from error
        return self

    def __exit__(self, *_: object) -> None:
        if self._file:
            self._file.close()

    def __len__(self) -> int:
        """Return the number of groups."""
        return len(self._places)

    def size(self, group: int) -> int:
        """Return the number of rows of a group."""
        return len(self._places[group])

    def is_open(self, group: int) -> bool:
        """True if some row of a group is not decided."""
        return OPEN in self._decisions[group]

    def count(self, decision: str) -> int:
        """Return the number of rows in wholly decided groups that have a decision."""
        return sum(each.count(decision) for each in self._decisions if OPEN not in each)

    def open_groups(self, start: int = 0) -> Iterator[int]:
        """Yield the groups that are not decided, from `start` on."""
        return (group for group in range(start, len(self)) if self.is_open(group))

    def lines(self, group: int) -> list[Line]:
        """Return the rows of a group."""
        return [self._line(place) for place in self._places[group]]

    def decide(self, group: int, decisions: Sequence[str]) -> None:
        """Write the decisions of a group, one for each of its rows, and see that they are on disk.

        Raises:
            UsageError: the file has been changed meanwhile, or cannot be written.
        """
        file = self._opened()
        try:
            for place, before in zip(self._places[group], self._decisions[group], strict=True):
                file.seek(place)
                if file.read(_ROOM).decode("utf-8", "replace").strip().lower() != before:
                    raise UsageError(
                        f"{self.path} has been changed by another program meanwhile; what was "
                        f"decided before that is in it.",
                        "Start again: it goes on where the file is now.",
                    )
            for place, decision in zip(self._places[group], decisions, strict=True):
                file.seek(place)
                file.write(decision.ljust(_ROOM).encode())
            file.flush()
            os.fsync(file.fileno())
        except OSError as error:
            raise UsageError(f"{self.path} cannot be written: {error.strerror}.") from error
        self._decisions[group] = list(decisions)

    def _line(self, place: int) -> Line:
        file = self._opened()
        file.seek(place)
        _, cells = next(_records(file))
        by_name = dict(zip(self._names, cells, strict=False))
        counts = [each.rpartition(" ") for each in _listed(by_name, "referenced_by")]
        return Line(
            decision=cells[0].strip().lower(),
            tied=bool(_listed(by_name, "tie")),
            differs=frozenset(_listed(by_name, "differs")),
            referenced_by={name: count for name, _, count in counts},
            mark=by_name[MARK].strip(),
            values=tuple(value_of(by_name.get(name, "")) for name in self.columns),
        )

    def _opened(self) -> IO[bytes]:
        if self._file is None:
            raise ValueError("the review is not open")
        return self._file


def _listed(cells: dict[str, str], name: str) -> list[str]:
    """Return what is listed in one of the review's own columns, which may have been left out."""
    text = cells.get(f"{DECISION.partition(':')[0]}:{name}", "").strip()
    return text.split(", ") if text else []


def _records(file: IO[bytes]) -> Iterator[tuple[int, list[str]]]:
    """Yield the records of a file from here on, each with the place of its first byte."""
    place = file.tell()

    def lines() -> Iterator[str]:
        nonlocal place
        while line := file.readline():
            skipped = len(_BOM) if not place and line.startswith(_BOM) else 0
            place += len(line)
            yield line[skipped:].decode()

    reader, start = csv.reader(lines()), place
    for cells in reader:
        yield start, cells
        start = place


def _lay_out(path: str) -> None:
    """Write a review anew, with the decision first in each line, and room for each decision."""
    beside = Path(f"{path}.new")
    if beside.exists():
        raise UsageError(
            f"{beside} is in the way: the review is laid out anew under that name first.",
            f"Remove {beside} if nobody needs it.",
        )
    with lines_of(path) as lines, new_file(beside, over=Path(path)) as file:
        writer = csv.writer(AsText(file, _BOM))
        names = next(lines)
        first = names.index(DECISION)
        writer.writerow(_moved(names, first))
        for cells in lines:
            if any(cells):
                decision, *others = _moved([*cells, *[""] * (len(names) - len(cells))], first)
                writer.writerow([decision.strip().lower().ljust(_ROOM), *others])
        file.flush()
        os.fsync(file.fileno())


def _moved(cells: Sequence[str], first: int) -> list[str]:
    """Return the cells with the one at `first` in front."""
    return [cells[first], *cells[:first], *cells[first + 1 :]]
