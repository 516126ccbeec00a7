"""Commands that write text for files: new, script, completion."""

from __future__ import annotations

import sys
from dataclasses import replace
from pathlib import Path
from typing import Any

import click

from yeldro.cli.given import settings
from yeldro.cli.given.again import from_standard_input, typed_again
from yeldro.cli.given.last import DATABASE, last_preview
from yeldro.cli.given.what import What, what_of
from yeldro.cli.terminal.output import tell_next
from yeldro.cli.terminal.progress import shown_progress
from yeldro.cli.terminal.streams import ExactOutput
from yeldro.core.model.messages.errors import UsageError
from yeldro.core.model.messages.files import new_file
from yeldro.formats import sql_out
from yeldro.formats.cleanup_writer import written
from yeldro.report.text import visible


def new(file: Path, db: str | None, from_last: bool, **options: Any) -> None:
    """Write a commented cleanup file from a table with options, SQL, or the last preview."""
    if file.suffix != ".toml":
        raise UsageError(f"A cleanup file is called *.toml, and not {file}.", f"Try {file}.toml.")
    shown = db
    if from_last:
        if options["what"] is not None:
            raise UsageError(
                f"Both {options['what']} and --from-last say which rows are meant.",
                "Give one of them.",
            )
        kept = last_preview()
        shown = db or kept.pop("db", None)
        looked_at = kept.pop(DATABASE, None)
        meant = settings.database_of(shown).shown
        if looked_at != meant:
            raise UsageError(
                f"The last preview was of {looked_at or 'another database'}, and not of {meant}.",
                "Preview the rows there first, or name the table and its options.",
            )
        options |= {name: kept[name] for name in options if kept.get(name)}
    if options["what"] is None and options["sql"] is None:
        raise UsageError(
            "There is no table or SQL for the file to describe.",
            f"Write: yeldro new {file} TABLE --where …, or --from-last.",
        )
    what = what_of(options, shown)
    job = what.job
    job = replace(job, title=file.stem.replace("_", " ").replace("-", " ").capitalize())
    known = None if shown and "@" in shown else shown
    contents = written(job, known, _types_of_parameters(what)).encode()
    with new_file(file) as written_to:
        written_to.write(contents)
    click.echo(f"Written: {visible(str(file))}. Look at it, then go on.", err=True)
    tell_next([typed_again("plan", arguments=[str(file)], keeps=())], beside=True)


def _types_of_parameters(what: What) -> dict[str, str]:
    """Return types for the parameters that have no value, by the columns of the database."""
    from yeldro.core.selection.conditions.filters import parameters_in
    from yeldro.core.selection.conditions.parameters import types_of_parameters

    selections = [each.selection for each in what.job.cleanups]
    if not any(parameters_in(each.where or "") - each.parameters.keys() for each in selections):
        return {}
    types: dict[str, str] = {}
    with what.database.reading() as session:
        for each in selections:
            types |= types_of_parameters(each, session)
    return types


def script(db: str | None, dialect: str | None, most_rows: int | None, **options: Any) -> None:
    """Print the steps of WHAT as a SQL script that stops if a count differs."""
    if most_rows and not dialect:
        raise UsageError(
            "‹most_rows› limits the rows that a script names, and only one for another database "
            "names them.",
            "Leave it out, or say for which system: ‹dialect› NAME.",
        )
    what = what_of(options, db)
    with shown_progress():
        written_out = sql_out.script(
            what.database, what.job, dialect, most_rows or sql_out.MOST_ROWS
        )
    ExactOutput().write(written_out)
    if sys.stdout.isatty() and not from_standard_input():
        tell_next([f"{typed_again('script')} > cleanup.sql"], beside=True)


def completion(shell: str) -> None:
    """Print what completes command lines in a shell."""
    from importlib.resources import files

    script = files("yeldro.completion") / "shells" / f"yeldro.{shell}"
    click.echo(script.read_text(encoding="utf-8"), nl=False)
