"""How new and script are called."""

from __future__ import annotations

from pathlib import Path
from typing import Any

import click

from yeldro.cli import options as opt


@click.command()
@click.argument("file", metavar="FILE", type=click.Path(dir_okay=False, path_type=Path))
@opt.what_options
@opt.ripple_options
@opt.expect_option
@opt.triggers_option
@opt.no_way_back_option
@click.option("--from-last", is_flag=True, help="Take the options of the last 'yeldro preview'.")
@opt.database_option
def new(**options: Any) -> None:
    """Write a commented cleanup file from a table with options, SQL, or the last preview.

    WHAT is the table, as in 'yeldro preview'. Values given with --param become parameters of the
    file, which asks for them each time.
    """
    from yeldro.cli import files

    files.new(**options)


@click.command()
@opt.what_options_but_dialect
@opt.ripple_options
@opt.expect_option
@click.option(
    "--dialect",
    metavar="NAME",
    help="The system that is to run it: sqlite, postgresql, mariadb, mysql, sqlserver or oracle. "
    "Default: that of the database.",
)
@click.option(
    "--sql-dialect",
    metavar="NAME",
    help="The system that the statements of --sql are written for, where it is another one.",
)
@opt.database_option
def script(**options: Any) -> None:
    """Print the steps of WHAT as a SQL script that stops where a count is another one.

    The counts are those of the database as it is now. The script does what 'yeldro run' would,
    but it writes no receipt.
    """
    from yeldro.cli import files

    files.script(**options)
