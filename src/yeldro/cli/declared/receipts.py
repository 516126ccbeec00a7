"""The options and help of the receipt commands and of restore."""

from __future__ import annotations

from pathlib import Path
from typing import Any

import click

from yeldro.cli.declared import options as opt
from yeldro.cli.declared.help import HOW, WHERE, WHICH_ROWS, Group, command, option

_DAY = click.DateTime(["%Y-%m-%d"])
receipt_argument = click.argument("receipt", metavar="RECEIPT", default="last")


@click.group(cls=Group)
def receipt() -> None:
    """Earlier runs. RECEIPT is a file, its short id, or 'last'."""


@receipt.command(
    name="list",
    examples=(
        "receipt list",
        "receipt list --table alert --since 2026-01-01",
    ),
)
@option(WHICH_ROWS, "--table", metavar="TABLE", help="Only runs that touched this table.")
@option(WHICH_ROWS, "--since", type=_DAY, metavar="DATE", help="Not older (UTC).")
@option(WHICH_ROWS, "--until", type=_DAY, metavar="DATE", help="Not newer (UTC).")
@option(WHICH_ROWS, "--of", metavar="URL", help="Only of this database.")
@option(WHICH_ROWS, "--limit", type=click.IntRange(min=1), metavar="N", help="Only the newest N.")
@opt.full_option
@opt.receipts_option
@opt.json_option
def list_(**options: Any) -> None:
    """The receipts that are kept, newest first."""
    from yeldro.cli.commands import receipts

    receipts.list_(**options)


@receipt.command(
    examples=(
        "receipt show",
        "receipt show last --why alert:4",
    ),
)
@receipt_argument
@option(
    WHERE,
    "--why",
    multiple=True,
    metavar="TABLE:KEY",
    help="Why this row went or changed: the stored rows that led to it. Repeatable.",
)
@opt.full_option
@opt.report_option
@opt.receipts_option
@opt.json_option
def show(**options: Any) -> None:
    """What was asked, planned and done."""
    from yeldro.cli.commands import receipts

    receipts.show(**options)


@receipt.command(
    examples=(
        "receipt check",
        "receipt check last --json",
    ),
)
@receipt_argument
@opt.receipts_option
@opt.database_option
@opt.json_option
def check(**options: Any) -> None:
    """Tell if the rows of a receipt are still gone: all gone, partly back, or all back."""
    from yeldro.cli.commands import receipts

    receipts.check(**options)


@receipt.command(
    examples=(
        "receipt forget last",
        "receipt forget last --yes",
    ),
)
@receipt_argument
@option(HOW, "--yes", is_flag=True, help="Do not ask for the count.")
@opt.receipts_option
def forget(**options: Any) -> None:
    """Erase the stored rows of a receipt for good; its counts stay.

    For data that must be erased. Afterwards nothing can be restored from the receipt.
    """
    from yeldro.cli.commands import receipts

    receipts.forget(**options)


@receipt.command(
    examples=(
        "receipt export last --to rows",
        "receipt export last --to rows --lines",
    ),
)
@receipt_argument
@option(
    WHERE,
    "--to",
    type=click.Path(file_okay=False, path_type=Path),
    required=True,
    metavar="FOLDER",
    help="Where the files go, one for each step.",
)
@option(WHERE, "--lines", is_flag=True, help="JSON Lines instead of CSV.")
@opt.receipts_option
def export(**options: Any) -> None:
    """Write the stored rows of a receipt as CSV or JSON Lines, a file for each step."""
    from yeldro.cli.commands import receipts

    receipts.export(**options)


@command(
    "restore last",
    "restore last --only alert --yes",
)
@receipt_argument
@option(
    WHICH_ROWS,
    "--only",
    multiple=True,
    metavar="TABLE",
    help="Put back rows of this table only. Repeatable.",
)
@option(
    WHICH_ROWS,
    "--where",
    metavar="SQL",
    help="With --only: stored rows for which this condition is true.",
)
@option(
    WHICH_ROWS,
    "--skip-conflicts",
    is_flag=True,
    help="Leave out rows whose key is taken or whose parent is gone.",
)
@option(WHERE, "--into", metavar="URL", help="Put the rows into another database.")
@option(HOW, "--yes", is_flag=True, help="Do not ask for the count.")
@option(
    HOW, "--without-rows", is_flag=True, help="The restore's own receipt holds counts and no rows."
)
@option(
    HOW,
    "--accept-difference",
    multiple=True,
    metavar="TABLE",
    help="Rows of this table may come back different; the differences are reported. Repeatable.",
)
@opt.triggers_option
@opt.no_way_back_option
@opt.allow_more_option
@opt.receipts_option
@opt.lock_wait_option
@opt.database_option
@opt.json_option
@opt.quiet_option
def restore(**options: Any) -> None:
    """Put the rows of RECEIPT back, parents first, and undo the links it cut.

    RECEIPT is a file, its short id, or 'last', the newest run. Refused, with the rows named, if a
    key is taken by another row or a parent is gone. A restore leaves a receipt too: restoring that
    one takes the rows away again.
    """
    from yeldro.cli.commands import receipts

    receipts.restore(**options)
