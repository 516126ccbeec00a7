"""The options and help of survey, preview, duplicates and orphans."""

from __future__ import annotations

from typing import Any

import click

from yeldro.cli.declared import options as opt
from yeldro.cli.declared.help import DUPLICATES, WHERE, command, option
from yeldro.cli.given import settings, values


@command(
    "survey",
    "survey reading --show id,taken_at --rows 3",
)
@click.argument("table", required=False, metavar="[TABLE]")
@option(WHERE, "--config", is_flag=True, help="Show the settings, and where they come from.")
@opt.database_option
@opt.show_option
@opt.rows_option(5)
@opt.full_option
@opt.map_option
@opt.json_option
def survey(**options: Any) -> None:
    """Tables, row counts, keys, foreign keys with referential actions, triggers, warnings.

    With TABLE: its columns and keys, what it references and what references it, sample rows.
    """
    if not options["config"]:
        settings.named(options["db"])
    from yeldro.cli.commands import inspect

    inspect.survey(**options)


@command(
    "preview buoy --where \"name = 'Eddy'\"",
    'preview reading --where "value is null" --csv',
)
@opt.what_options
@opt.ripple_options
@opt.database_option
@opt.show_option
@opt.rows_option(10)
@opt.full_option
@opt.json_option
@opt.csv_option
def preview(**options: Any) -> None:
    """The matched rows of WHAT, their number, and what depends on them.

    Tells if the filter pins a unique key, so that it can match one row at most.
    """
    values.check_usage(options)
    from yeldro.cli.commands import inspect

    inspect.preview(**options)


@command(
    "duplicates reading --by sensor_id,taken_at --keep fullest --keep lowest:id",
    "duplicates buoy --by name --review buoys.csv",
)
@click.argument("table", metavar="TABLE")
@option(
    DUPLICATES,
    "--by",
    metavar="COLS",
    help="Columns on which rows of a group are equal. Without it: search for such columns.",
)
@opt.keep_option
@opt.equality_options
@opt.database_option
@opt.show_option
@opt.rows_option(5)
@option(
    WHERE,
    "--each",
    type=click.IntRange(min=1),
    default=10,
    show_default=True,
    metavar="N",
    help="How many rows of each group to show.",
)
@option(
    WHERE,
    "--review",
    metavar="FILE",
    help="Write every group row by row, to be decided in a spreadsheet: .csv, or .xlsx with "
    "yeldro[review]. It comes back as --decisions.",
)
@option(
    WHERE,
    "--decide",
    is_flag=True,
    help="Decide at the terminal, one group after the other. Each decision is at once in the file "
    "of --review, TABLE-review.csv by default; the same command goes on with it later.",
)
@opt.full_option
@opt.json_option
def duplicates(**options: Any) -> None:
    """Groups of rows of TABLE that are equal on the columns --by, the largest first.

    Marks the row of each group that would stay and those that would go. NULL equals NULL. Without
    --by: whole rows that repeat, copies apart from generated keys and times, and sets of columns
    that are nearly unique.
    """
    settings.named(options["db"])
    from yeldro.cli.commands import inspect

    inspect.duplicates(**options)


@command(
    "orphans",
    "orphans reading --rows 20",
)
@click.argument("table", required=False, metavar="[TABLE]")
@opt.database_option
@opt.rows_option(5)
@opt.full_option
@opt.json_option
def orphans(**options: Any) -> None:
    """Rows that have a foreign key and no parent row, for each foreign key of TABLE or of all.

    To remove them: yeldro run TABLE --orphans FOREIGN_KEY.
    """
    settings.named(options["db"])
    from yeldro.cli.commands import inspect

    inspect.orphans(**options)
