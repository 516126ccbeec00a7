"""The options and help of plan, rehearse, run and check."""

from __future__ import annotations

from pathlib import Path
from typing import Any

import click

from yeldro.cli.declared import options as opt
from yeldro.cli.declared.help import HOW, HOW_MANY, WHERE, command, option
from yeldro.cli.given import values

output_option = option(
    WHERE,
    "-o",
    "--output",
    type=click.Path(dir_okay=False, path_type=Path),
    metavar="FILE",
    help="Save the plan for review; 'yeldro run FILE' runs exactly this plan or refuses.",
)


why_options = (
    option(
        WHERE,
        "--why",
        multiple=True,
        metavar="TABLE:KEY",
        help="Why this row goes, changes or stays: the rows that lead to it. Repeatable.",
    ),
    option(
        WHERE,
        "--rows",
        "rows_of",
        multiple=True,
        metavar="TABLE",
        help="Show some rows of TABLE that go. Repeatable.",
    ),
)


@command(
    'plan buoy --where "id = 6" --follow all --why visit:6,1 --rows reading',
    "plan reading --duplicates-by sensor_id,taken_at --keep lowest:id -o twice.json",
)
@opt.what_options
@opt.ripple_options
@opt.expect_option
@why_options[0]
@why_options[1]
@output_option
@opt.map_option
@opt.report_option
@opt.allow_more_option
@opt.database_option
@opt.json_option
def plan(**options: Any) -> None:
    """Every step of WHAT in order, with its exact count and its reason, and what blocks.

    WHAT is a table with options, a cleanup file (*.toml) or a saved plan (*.json). The exit code is
    3 if something blocks, and 4 if a count is not as expected.
    """
    values.check_usage(options)
    from yeldro.cli.commands import remove

    remove.plan(**options)


@command(
    "rehearse alert --where \"level = 'notice'\"",
    "rehearse twice.json",
)
@opt.what_options
@opt.ripple_options
@opt.expect_option
@output_option
@opt.triggers_option
@opt.allow_more_option
@opt.lock_wait_option
@opt.database_option
@opt.json_option
@opt.quiet_option
def rehearse(**options: Any) -> None:
    """Do everything in a transaction, compare tally and ledger with the plan, and roll back."""
    values.check_usage(options)
    from yeldro.cli.commands import remove

    remove.rehearse(**options)


@command(
    "run alert --where \"level = 'notice'\"",
    "run alert --where \"level = 'notice'\" --expect 101 --yes",
)
@opt.what_options
@opt.ripple_options
@opt.expect_option
@opt.triggers_option
@opt.no_way_back_option
@opt.add_constraint_option
@opt.emptying_options
@opt.batch_options
@opt.allow_more_option
@option(HOW, "--yes", is_flag=True, help="Do not ask for the count; only with --expect.")
@opt.without_rows_option
@opt.copy_to_option
@opt.receipts_option
@opt.lock_wait_option
@opt.report_option
@opt.database_option
@opt.json_option
@opt.quiet_option
def run(**options: Any) -> None:
    """Remove the rows of WHAT if exactly the expected number goes; otherwise change nothing.

    Shows the plan and asks you to type its total. Unattended: --yes with --expect, with a file that
    has expectations, or with a saved plan. Every removed or changed row is in a receipt
    on disk before the deletion is committed.
    """
    values.check_usage(options)
    from yeldro.cli.commands import remove

    remove.run(**options)


@command(
    "check alert --where \"level = 'notice'\" --expect 101",
    "check reading --duplicates-by sensor_id,taken_at --keep lowest:id --expect 900",
)
@opt.what_options
@opt.ripple_options
@opt.expect_option
@option(
    HOW_MANY,
    "--after",
    "afterwards",
    is_flag=True,
    help="Check what must hold after a run: the [[after]] of a cleanup file.",
)
@opt.database_option
@opt.json_option
@opt.quiet_option
def check(**options: Any) -> None:
    """Tell if WHAT would remove the expected numbers of rows now; with --after, if it has worked.

    Changes nothing. Before a run it compares the numbers of rows that must go; after it, --after
    answers the [[after]] checks of a cleanup file. The exit code is 0 if all hold, and 4 if one
    does not.
    """
    values.check_usage(options)
    from yeldro.cli.commands import remove

    remove.check(**options)
