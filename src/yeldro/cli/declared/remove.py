"""How plan, rehearse, run and check are called."""

from __future__ import annotations

from pathlib import Path
from typing import Any

import click

from yeldro.cli import options as opt

output_option = click.option(
    "-o",
    "--output",
    type=click.Path(dir_okay=False, path_type=Path),
    metavar="FILE",
    help="Save the plan for review; 'yeldro run FILE' runs exactly this plan or refuses.",
)


@click.command()
@opt.what_options
@opt.ripple_options
@opt.expect_option
@output_option
@opt.allow_more_option
@opt.database_option
@opt.json_option
def plan(**options: Any) -> None:
    """Every step of WHAT in order, with its exact count and its reason, and what blocks.

    WHAT is a table with options, a cleanup file (*.toml) or a saved plan (*.json). Leaves with 3
    when something blocks, and with 4 when a count is not as expected.
    """
    from yeldro.cli import remove

    remove.plan(**options)


@click.command()
@opt.what_options
@opt.ripple_options
@opt.expect_option
@output_option
@opt.triggers_option
@opt.allow_more_option
@opt.lock_wait_option
@opt.database_option
@opt.json_option
def rehearse(**options: Any) -> None:
    """Carry everything out in a transaction, hold tally and ledger against the plan, roll back."""
    from yeldro.cli import remove

    remove.rehearse(**options)


@click.command()
@opt.what_options
@opt.ripple_options
@opt.expect_option
@opt.triggers_option
@opt.no_way_back_option
@opt.add_constraint_option
@opt.truncate_option
@opt.batch_options
@opt.allow_more_option
@click.option("--yes", is_flag=True, help="Do not ask for the count; only with --expect.")
@opt.without_rows_option
@opt.copy_to_option
@opt.receipts_option
@opt.lock_wait_option
@opt.database_option
@opt.json_option
@opt.quiet_option
def run(**options: Any) -> None:
    """Remove the rows of WHAT, if exactly the expected number goes; otherwise change nothing.

    Shows the plan and asks you to type its total. Unattended: --yes with --expect, or with a file
    that says what is expected, or with a saved plan. Every removed or changed row is in a receipt
    on disk before the deletion is committed.
    """
    from yeldro.cli import remove

    remove.run(**options)


@click.command()
@opt.what_options
@opt.ripple_options
@opt.expect_option
@opt.database_option
@opt.json_option
@opt.quiet_option
def check(**options: Any) -> None:
    """Are the expectations of WHAT, and the checks of a cleanup file, true now?

    Only looks. Leaves with 0 when all hold, and with 4 when one does not.
    """
    from yeldro.cli import remove

    remove.check(**options)
