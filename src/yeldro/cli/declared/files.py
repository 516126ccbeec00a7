"""The options and help of new, script, completion and help."""

from __future__ import annotations

from pathlib import Path
from typing import Any

import click

from yeldro.cli.declared import options as opt
from yeldro.cli.declared.help import WHERE, WHICH_ROWS, command, option
from yeldro.cli.given import values


@command(
    "new notices.toml alert --where \"level = 'notice'\"",
    "new last.toml --from-last",
)
@click.argument("file", metavar="FILE", type=click.Path(dir_okay=False, path_type=Path))
@opt.what_options
@opt.ripple_options
@opt.expect_option
@opt.triggers_option
@opt.no_way_back_option
@option(
    WHICH_ROWS, "--from-last", is_flag=True, help="Take the options of the last 'yeldro preview'."
)
@opt.database_option
def new(**options: Any) -> None:
    """Write a commented cleanup file from a table with options, SQL, or the last preview.

    WHAT is the table, as in 'yeldro preview'. Values given with --param become parameters of the
    file, and are asked for at each run.
    """
    from yeldro.cli.commands import files

    files.new(**options)


@command(
    "script alert --where \"level = 'notice'\"",
    "script alert --where \"level = 'notice'\" --dialect sqlserver",
)
@opt.what_options
@opt.ripple_options
@opt.expect_option
@opt.triggers_option
@opt.no_way_back_option
@option(
    WHERE,
    "--dialect",
    metavar="NAME",
    help="For a database of that system which cannot be reached from here, with the same rows: "
    "every row is named by its key. sqlite, postgresql, mariadb, mysql, sqlserver, oracle or "
    "access.",
)
@option(
    WHERE,
    "--most-rows",
    type=click.IntRange(min=1),
    metavar="N",
    help="With --dialect: how many rows may be named. Default: 100,000.",
)
@opt.database_option
def script(**options: Any) -> None:
    """Print the steps of WHAT as a SQL script that stops if a count differs.

    The counts are those of the database as it is now. The script does the same as 'yeldro
    run', but it writes no receipt.
    """
    values.check_usage(options)
    from yeldro.cli.commands import files

    files.script(**options)


@command(
    "completion bash",
    "completion fish",
)
@click.argument("shell", metavar="SHELL", type=click.Choice(["bash", "zsh", "fish"]))
def completion(shell: str) -> None:
    """Print what completes command lines while they are typed; SHELL is bash, zsh or fish.

    Its first lines say where to put it. Then the Tab key completes commands, options, and the
    names of tables, columns, foreign keys, triggers, receipts and databases. A server that does not
    answer within 0.8 seconds offers no names; $YELDRO_TAB_SECONDS sets another limit.
    """
    from yeldro.cli.commands import files

    files.completion(shell)


@command(
    "help keep-one",
    "help words",
)
@click.argument("topic", metavar="[TOPIC]", required=False)
@click.pass_context
def help(context: click.Context, topic: str | None) -> None:
    """Show a recipe for a task, with commands and outputs on the demo data.

    Without TOPIC it lists them. 'words' explains Yeldro's own words; the name of a command shows
    its options.
    """
    from yeldro.cli.commands import topics

    topics.show_topic(topic, context.find_root())
