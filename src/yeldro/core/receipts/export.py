"""The stored rows of a receipt as CSV or JSON files."""

from __future__ import annotations

import csv
import json
import os
import re
from collections.abc import Iterator
from pathlib import Path
from typing import Any, TextIO

from yeldro.core.model.errors import DatabaseFailure, Refused
from yeldro.core.receipts.reader import Receipt, ReceiptStep, stored_rows


def export(receipt: Receipt, folder: Path, kind: str) -> list[tuple[Path, int]]:
    """Write the rows of every step to a file of its own.

    Args:
        kind: `csv` (RFC 4180; NULL is an empty field) or `jsonl` (one JSON object per line).

    Returns:
        The files with their numbers of rows.

    Raises:
        Refused: the receipt holds no rows, or a file is there already.
        DatabaseFailure: a file cannot be written.
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
        written = []
        for step, path in zip(steps, paths, strict=True):
            handle = os.open(path, os.O_CREAT | os.O_EXCL | os.O_WRONLY, 0o600)
            with os.fdopen(handle, "w", encoding="utf-8", newline="") as file:
                written.append((path, write(file, _names(step), exported_rows(receipt, step))))
        return written
    except OSError as error:
        raise DatabaseFailure(f"{folder} cannot be written: {error.strerror}.") from error


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


def _write_csv(file: TextIO, names: list[str], rows: Iterator[list[Any]]) -> int:
    writer = csv.writer(file, lineterminator="\n")
    writer.writerow(names)
    count = 0
    for row in rows:
        writer.writerow(row)
        count += 1
    return count


def _write_lines(file: TextIO, names: list[str], rows: Iterator[list[Any]]) -> int:
    count = 0
    for row in rows:
        file.write(json.dumps(dict(zip(names, row, strict=True))) + "\n")
        count += 1
    return count
