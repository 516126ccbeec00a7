"""Printing: text for people, one JSON document or CSV for programs."""

from __future__ import annotations

import csv
import io
import json
import os
import sys
from collections.abc import Sequence
from typing import TYPE_CHECKING, Any

from yeldro.cli.terminal.ending import ending
from yeldro.cli.terminal.streams import ExactOutput

if TYPE_CHECKING:
    from rich.console import RenderableType
    from rich.theme import Theme

    from yeldro.core.model.messages.errors import YeldroError

_WIDTH_WITHOUT_TERMINAL = 120


def show(view: RenderableType, *, beside: bool = False, theme: Theme | None = None) -> None:
    """Print text for people on standard output.

    Args:
        beside: print on standard error, as standard output is for a document alone.
        theme: styles other than the usual ones.
    """
    from rich.console import Console

    stream = sys.stderr if beside else sys.stdout
    if stream.isatty():
        Console(file=stream, highlight=False, emoji=False, markup=False, theme=theme).print(view)
        return
    columns = os.environ.get("COLUMNS", "")
    wide = int(columns) if columns.isdecimal() and int(columns) else _WIDTH_WITHOUT_TERMINAL
    text = io.StringIO()
    Console(file=text, width=wide, highlight=False, emoji=False, markup=False).print(view)
    print("\n".join(line.rstrip() for line in text.getvalue().splitlines()), file=stream)


def say(sentences: str) -> None:
    """Print sentences on standard error; a terminal's lines end between words."""
    import click

    from yeldro.report.text import visible

    text = visible(sentences)
    if sys.stderr.isatty():
        import shutil
        import textwrap

        width = shutil.get_terminal_size().columns
        text = "\n".join(textwrap.wrap(text, width, break_long_words=False, break_on_hyphens=False))
    click.echo(text, err=True)


def tell_next(lines: Sequence[str], *, beside: bool = False) -> None:
    """Print what to type next: one command, or one of several, each on a line of its own.

    No line is broken here, so that each can be copied as a whole.

    Args:
        beside: print on standard error.
    """
    import click

    if lines and not beside:
        click.echo()
    if len(lines) == 1:
        click.echo(f"Next: {click.style(lines[0], bold=True)}", err=beside)
    elif lines:
        click.echo("Next, one of:", err=beside)
        for line in lines:
            click.echo(f"  {click.style(line, bold=True)}", err=beside)


def views() -> Any:
    """Load the views, which no document needs."""
    from yeldro.report import tables

    return tables


def show_json(document: Any) -> None:
    """Keep one JSON document, to be printed when the command has ended."""
    ending.document = document


def finish_json(error: YeldroError | None) -> None:
    """Print the document of a command that has ended, in ASCII, which cannot control a terminal.

    Args:
        error: the failure of the command, if there was one; it is added to the document.
    """
    document, ending.document = ending.document, None
    if error is not None:
        from yeldro.report.documents import error_document

        known = document if isinstance(document, dict) else {}
        document = known | {"error": error_document(error)}
    if document is not None:
        print(json.dumps(document, indent=2, ensure_ascii=True, allow_nan=False))


def show_csv(columns: Sequence[str], rows: Sequence[Sequence[Any]]) -> None:
    """Print rows as CSV (RFC 4180) with a heading; NULL is an empty field."""
    from yeldro.report.text import plain

    writer = csv.writer(ExactOutput(), lineterminator="\n")
    writer.writerow(columns)
    writer.writerows([plain(value) for value in row] for row in rows)
