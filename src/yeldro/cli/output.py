"""Printing: text for people, one JSON document or CSV for programs."""

from __future__ import annotations

import csv
import io
import json
import os
import sys
from collections.abc import Sequence
from dataclasses import dataclass
from typing import TYPE_CHECKING, Any

if TYPE_CHECKING:
    from rich.console import RenderableType

    from yeldro.core.model.errors import YeldroError

_WIDTH_WITHOUT_TERMINAL = 120


@dataclass
class _Ending:
    """What is said when the command ends."""

    document: Any = None
    committed: str = ""


_ending = _Ending()


def show(view: RenderableType, *, beside: bool = False) -> None:
    """Print text for people on standard output.

    Args:
        beside: on standard error instead, where standard output is for a document alone.
    """
    from rich.console import Console

    stream = sys.stderr if beside else sys.stdout
    if stream.isatty():
        Console(file=stream, highlight=False, emoji=False, markup=False).print(view)
        return
    columns = os.environ.get("COLUMNS", "")
    wide = int(columns) if columns.isdecimal() and int(columns) else _WIDTH_WITHOUT_TERMINAL
    text = io.StringIO()
    Console(file=text, width=wide, highlight=False, emoji=False, markup=False).print(view)
    print("\n".join(line.rstrip() for line in text.getvalue().splitlines()), file=stream)


def show_json(document: Any) -> None:
    """Have one JSON document printed when the command has ended."""
    _ending.document = document


def finish_json(error: YeldroError | None) -> None:
    """Print the document of a command that has ended; no character in it can drive a terminal.

    Args:
        error: what ended it before its time; it stands in the document, or makes one.
    """
    document, _ending.document = _ending.document, None
    if error is not None:
        from yeldro.report.documents import error_document

        known = document if isinstance(document, dict) else {}
        document = known | {"error": error_document(error)}
    if document is not None:
        print(json.dumps(document, indent=2, ensure_ascii=True, allow_nan=False))


def note_commit(said: str) -> None:
    """Note that something is committed, as a sentence, for an end that comes while it is shown."""
    _ending.committed = said


def committed() -> str:
    """Return what was noted as committed, empty where nothing was."""
    return _ending.committed


def show_csv(columns: Sequence[str], rows: Sequence[Sequence[Any]]) -> None:
    """Print rows as CSV (RFC 4180) with a heading; NULL is an empty field."""
    from yeldro.report.text import plain

    writer = csv.writer(sys.stdout, lineterminator="\n")
    writer.writerow(columns)
    writer.writerows([plain(value) for value in row] for row in rows)
