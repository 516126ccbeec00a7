"""The stored rows of a receipt as CSV or JSON files."""

from __future__ import annotations

import csv
import json
import math
import re
from collections.abc import Iterator
from pathlib import Path
from typing import Any

from yeldro.core.model.messages.errors import FileNotWritten, Refused
from yeldro.core.model.messages.files import AsText, new_file
from yeldro.core.receipts.reader import Receipt, ReceiptStep, stored_rows


def export(receipt: Receipt, folder: Path, kind: str) -> list[tuple[Path, int]]:
    """Write the rows of every step to a file of its own.

    Args:
        kind: `csv` (RFC 4180; NULL is an empty field) or `jsonl` (one JSON object per line).

    Returns:
        The files with their numbers of rows.

    Raises:
        Refused: the receipt holds no rows, or a file is there already.
        FileNotWritten: a file cannot be written; none is left.
    """
    if receipt.copies:
        listed = ", ".join(map(str, receipt.copies))
        raise Refused(f"The rows are tables of the database: {listed}.", "Read them there.")
    if not receipt.holds_rows:
        raise Refused("This receipt holds counts and no rows.", "There is nothing to export.")
    steps = [step for step in receipt.steps if step.rows_table]
    paths = [folder / _name(step, kind) for step in steps]
    there = [path for path in paths if path.exists()]
    if there:
        raise Refused(
            f"The file {there[0]} exists already, and it is left as it is.", "Name another folder."
        )
    write = _write_csv if kind == "csv" else _write_lines
    try:
        folder.mkdir(parents=True, exist_ok=True)
    except OSError as error:
        raise FileNotWritten(f"{folder} cannot be made: {error.strerror}.") from error
    written: list[tuple[Path, int]] = []
    try:
        for step, path in zip(steps, paths, strict=True):
            with new_file(path) as file:
                rows = exported_rows(receipt, step)
                written.append((path, write(AsText(file), _names(step), rows)))
    except BaseException:  # some of the rows are not an export
        for path, _ in written:
            path.unlink(missing_ok=True)
        raise
    return written


def _name(step: ReceiptStep, kind: str) -> str:
    """Return a file name that stays in the folder, whatever the table is called."""
    table = re.sub(r"[^\w-]+", "_", str(step.table))[:60]
    return f"{step.n:02}-{step.action}-{table}.{kind}"


def _names(step: ReceiptStep) -> list[str]:
    return [column.stored_as for column in step.columns]


def exported_rows(receipt: Receipt, step: ReceiptStep) -> Iterator[list[Any]]:
    """Yield the stored rows of a step; what SQLite has no type for is text."""
    for row in stored_rows(receipt.path, step):
        yield [
            value.decode("utf-8", "backslashreplace")
            if form == "text" and isinstance(value, bytes)
            else f"x'{value.hex()}'" if isinstance(value, bytes) else value
            for value, form in row
        ]  # fmt: skip


def _write_csv(file: AsText, names: list[str], rows: Iterator[list[Any]]) -> int:
    writer = csv.writer(file, lineterminator="\n")
    writer.writerow(names)
    count = 0
    for row in rows:
        writer.writerow(row)
        count += 1
    return count


def _write_lines(file: AsText, names: list[str], rows: Iterator[list[Any]]) -> int:
    count = 0
    for row in rows:
        known = {name: _in_json(value) for name, value in zip(names, row, strict=True)}
        file.write(json.dumps(known, allow_nan=False) + "\n")
        count += 1
    return count


def _in_json(value: Any) -> Any:
    """Return a value that JSON has: it knows no infinity (RFC 8259, 6)."""
    return str(value) if isinstance(value, float) and not math.isfinite(value) else value
