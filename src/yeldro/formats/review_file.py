"""Reviews of duplicates as files for a spreadsheet, and the decisions that come back in them.

A review is CSV in UTF-8, or a workbook if the file's name ends with `.xlsx`. Its first columns are
Yeldro's own: the decision, the group, what is to be known of the row, and a mark that names the row
and what was seen of it. The columns of the table follow, to be read only.
"""

from __future__ import annotations

import codecs
import csv
import re
from collections.abc import Iterable, Iterator, Sequence
from contextlib import contextmanager
from dataclasses import dataclass, replace
from importlib import import_module
from pathlib import Path
from typing import IO, Any

from yeldro.core.model.messages.errors import UsageError
from yeldro.core.model.messages.files import AsText, new_file
from yeldro.core.selection.asked import Decision
from yeldro.core.selection.duplicates.review import Review, ReviewedRow, WrittenReview

_PREFIX = "yeldro:"
DECISION, GROUP, MARK = f"{_PREFIX}decision", f"{_PREFIX}group", f"{_PREFIX}row"
OWN_COLUMNS = (
    DECISION, GROUP, f"{_PREFIX}tie", f"{_PREFIX}differs", f"{_PREFIX}referenced_by", MARK,
)  # fmt: skip
_WORDS = {"keep": True, "remove": False, "": None}
_MARKED = re.compile(r"row-([0-9a-f]{64})-([0-9a-f]{64})")
_NULL = "NULL"
_LONGEST_CELL = 2**31 - 1  # characters; what a C long holds on every system
# Also the full-width forms of the signs, which some spreadsheets take for the signs.
_STARTS_A_FORMULA = ("=", "+", "-", "@", "\t", "\r", "\n", "\uff1d", "\uff0b", "\uff0d", "\uff20")


@dataclass(frozen=True)
class DecisionsFile:
    """A review that came back with decisions.

    Args:
        path: the file, as typed.
    """

    path: str

    def __str__(self) -> str:
        return self.path

    def read(self) -> Iterator[Decision]:
        """Yield what was decided, line by line.

        Raises:
            UsageError: the file cannot be read, or a line is not one of a review.
        """
        with lines_of(self.path) as lines:
            names = next(lines, [])
            missing = [name for name in (DECISION, GROUP, MARK) if name not in names]
            if missing:
                raise UsageError(
                    f"{self.path} has no column {missing[0]!r}, so it is no review.",
                    "Write one with ⟨duplicates⟩, ‹by› COLUMNS and ‹review› FILE.",
                )
            places = [names.index(name) for name in (DECISION, GROUP, MARK)]
            for number, line in enumerate(lines, 2):
                if any(line):
                    yield self._decision(number, [*line, *[""] * len(names)], places)

    def _decision(self, number: int, line: Sequence[str], places: Sequence[int]) -> Decision:
        word, group, mark = (line[place].strip() for place in places)
        marked = _MARKED.fullmatch(mark)
        if marked is None or not re.fullmatch(r"[0-9]{1,18}", group):
            raise UsageError(
                f"Line {number} of {self.path} does not name its row and group as the review did.",
                f"Leave the columns {GROUP} and {MARK} as they are.",
            )
        if word.lower() not in _WORDS:
            raise UsageError(
                f"Line {number} of {self.path} has the decision {word!r}.",
                "Write keep or remove, or nothing in all lines of a group.",
            )
        key, seen = marked.groups()
        return Decision(number, int(group), key, seen, _WORDS[word.lower()])


def write_review(review: Review, path: str) -> WrittenReview:
    """Write a review; return what it holds.

    Raises:
        UsageError: a column has the name of one of a review's own.
        Refused: the file exists already.
        FileNotWritten: it cannot be written.
    """
    own = [name for name in review.columns if name in OWN_COLUMNS]
    if own:
        raise UsageError(f"{review.table.name} has a column {own[0]!r}, which a review has too.")
    written = WrittenReview(review.table, review.by, path)

    def lines() -> Iterator[Sequence[Any]]:
        nonlocal written
        yield [*OWN_COLUMNS, *map(_harmless, review.columns)]
        for row in review.rows:
            tied = written.tied + (row.first and row.tied)
            written = replace(written, groups=row.group, rows=written.rows + 1, tied=tied)
            yield _line(row)

    _write(path, lines())
    return written


def mark_of(row: ReviewedRow) -> str:
    """Return what names a row, and what was seen of it, in a review."""
    return f"row-{row.key}-{row.seen}"


def _line(row: ReviewedRow) -> list[str]:
    decision = {True: "keep", False: "remove", None: ""}[row.stays]
    referenced = ", ".join(f"{name} {count}" for name, count in row.referencing.items())
    mark = mark_of(row)
    tie, differs = "tie" if row.tied else "", ", ".join(row.differing)
    own = map(_harmless, (differs, referenced, mark))
    return [decision, str(row.group), tie, *own, *map(_cell, row.values)]


def _cell(value: Any) -> str:
    """Return a value for a cell; `value_of` reads it back.

    Text that a spreadsheet would compute gets an apostrophe, and so does text that reads NULL or
    begins with an apostrophe itself.
    """
    if value is None:
        return _NULL
    if isinstance(value, bytes | bytearray | memoryview):
        return bytes(value).hex()
    text = str(value)
    marked = isinstance(value, str) and (text == _NULL or text.startswith("'"))
    return f"'{text}" if marked else _harmless(text) if isinstance(value, str) else text


def value_of(cell: str) -> str | None:
    """Return what a cell of a review says of a value, None for NULL."""
    return None if cell == _NULL else cell.removeprefix("'")


def _harmless(text: str) -> str:
    """Return a text that no spreadsheet computes."""
    return f"'{text}" if text.startswith(_STARTS_A_FORMULA) else text


def _write(path: str, lines: Iterable[Sequence[Any]]) -> None:
    """Write lines into a new file, or none."""
    with new_file(Path(path)) as file:
        if is_workbook(path):
            _write_workbook(file, lines)
        else:
            csv.writer(AsText(file, codecs.BOM_UTF8)).writerows(lines)


def _write_workbook(file: IO[bytes], lines: Iterable[Sequence[Any]]) -> None:
    workbook = _openpyxl().Workbook(write_only=True)
    sheet = workbook.create_sheet("review")
    sheet.freeze_panes = "B2"
    for line in lines:
        sheet.append([_without_controls(each) for each in line])
    workbook.save(file)


@contextmanager
def lines_of(path: str) -> Iterator[Iterator[list[str]]]:
    """Yield the lines of a review, its heading first.

    Raises:
        UsageError: the file cannot be read.
    """
    try:
        if is_workbook(path):
            workbook = _openpyxl().load_workbook(path, read_only=True)
            try:
                rows = workbook.worksheets[0].iter_rows(values_only=True)
                yield (["" if each is None else str(each) for each in row] for row in rows)
            finally:
                workbook.close()
            return
        with Path(path).open(encoding="utf-8-sig", newline="") as file:
            csv.field_size_limit(_LONGEST_CELL)
            first = file.readline()
            file.seek(0)
            yield csv.reader(file, delimiter=";" if first.count(";") > first.count(",") else ",")
    except FileNotFoundError as error:
        raise UsageError(f"There is no file {path}.") from error
    except UnicodeDecodeError as error:
        raise UsageError(f"{path} is not in UTF-8.", "Save it as CSV in UTF-8.") from error
    except OSError as error:
        raise UsageError(f"{path} cannot be read: {error.strerror}.") from error
    except csv.Error as error:
        raise UsageError(f"{path} is no CSV file: {error}.") from error


def is_workbook(path: str) -> bool:
    """True if the name of a file says that it is a workbook."""
    return path.lower().endswith(".xlsx")


def _openpyxl() -> Any:
    try:
        return import_module("openpyxl")
    except ImportError as error:
        raise UsageError(
            "Workbooks need a package that is not installed.",
            "Install it with: pip install 'yeldro[review]', or name a file that ends with .csv.",
        ) from error


def _without_controls(text: str) -> str:
    """Return a text without the characters that a workbook cannot hold (XML 1.0, 2.2)."""
    return re.sub(r"[\x00-\x08\x0b\x0c\x0e-\x1f\ud800-\udfff\ufffe\uffff]", "\ufffd", text)
