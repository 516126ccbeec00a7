"""Commands that plan and remove: plan, rehearse, run."""

from __future__ import annotations

import shlex
import sys
from pathlib import Path
from typing import Any

import click

from yeldro.cli import options as opt
from yeldro.cli.ask import agreed_number
from yeldro.cli.output import show, show_json
from yeldro.core import run as running
from yeldro.core.errors import UNCHANGED, UsageError
from yeldro.core.plan import Cleanup, Plan
from yeldro.core.protocol import Database
from yeldro.core.run import Outcome, ReceiptWish
from yeldro.report import documents, tables


@click.command()
@opt.selection_options
@opt.ripple_options
@opt.expect_option
@opt.database_option
@opt.json_option
def plan(db: str | None, as_json: bool, **options: Any) -> None:
    """Every step in order, with its exact count and its reason, and what blocks.

    Leaves with 3 when something blocks, and with 4 when a count is not as expected.
    """
    cleanup = opt.cleanup_of(options)
    found = running.plan(opt.database_of(db), cleanup)
    if as_json:
        show_json(documents.plan_document(found))
    else:
        show(tables.plan_view(found))
    running.check_plan(found, cleanup)


@click.command()
@opt.selection_options
@opt.ripple_options
@opt.expect_option
@opt.triggers_option
@opt.lock_wait_option
@opt.database_option
@opt.json_option
def rehearse(db: str | None, lock_wait: float, as_json: bool, **options: Any) -> None:
    """Carry everything out in a transaction, hold tally and ledger against the plan, roll back."""
    result = running.rehearse(opt.database_of(db), opt.cleanup_of(options), lock_wait)
    if as_json:
        show_json(documents.run_document(result))
    else:
        show(tables.run_view(result))


@click.command()
@opt.selection_options
@opt.ripple_options
@opt.expect_option
@opt.triggers_option
@opt.no_way_back_option
@click.option(
    "--add-constraint",
    is_flag=True,
    help="With --duplicates-by: make the constraint that keeps them from coming back.",
)
@click.option("--yes", is_flag=True, help="Do not ask for the count; only with --expect.")
@click.option("--without-rows", is_flag=True, help="A receipt with counts and no row contents.")
@opt.receipts_option
@opt.lock_wait_option
@opt.database_option
@opt.json_option
@opt.quiet_option
def run(
    db: str | None,
    yes: bool,
    without_rows: bool,
    receipts: Path | None,
    lock_wait: float,
    as_json: bool,
    quiet: bool,
    **options: Any,
) -> None:
    """Remove the rows, if exactly the expected number goes; otherwise change nothing.

    Shows the plan and asks you to type its total. Unattended: --yes with --expect. Every removed
    or changed row is in a receipt on disk before the deletion is committed.
    """
    database, cleanup = opt.database_of(db), opt.cleanup_of(options)
    _check_attendance(yes, cleanup)
    agreed = None if yes else _agree(database, cleanup, as_json)
    if agreed is None or agreed.total or cleanup.add_constraint:
        folder = opt.receipts_folder(receipts)
        wish = ReceiptWish(folder, _title(options, cleanup), not without_rows)
        result = running.run(database, cleanup, wish, lock_wait, agreed)
    else:
        result = running.nothing_to_do(agreed)
    if as_json:
        show_json(documents.run_document(result))
    elif not quiet:
        show(tables.run_view(result))
        if result.outcome is Outcome.COMMITTED and result.receipt:
            _tell_way_back(result.receipt, without_rows)


def _check_attendance(yes: bool, cleanup: Cleanup) -> None:
    if yes and not cleanup.expectations:
        raise UsageError(
            "--yes is given without --expect, so nobody says how many rows must go.",
            "Add --expect N; 'yeldro plan' tells the number.",
        )
    if not yes and not sys.stdin.isatty():
        raise UsageError("Nobody is at a terminal to type the count.", "Add --expect N and --yes.")


def _agree(database: Database, cleanup: Cleanup, as_json: bool) -> Plan:
    """Shows the plan without holding any lock, and has a person type its total."""
    found = running.plan(database, cleanup)
    click.echo(err=True)
    show(tables.plan_view(found, "run"), beside=as_json)
    running.check_plan(found, cleanup)
    if found.total:
        agreed_number(found.total, "rows to remove or change", UNCHANGED)
        click.echo(err=True)
    return found


def _title(options: dict[str, Any], cleanup: Cleanup) -> str:
    """The selection and ripple as one line, the way it was asked."""
    words = [cleanup.selection.table]
    for name, value in options.items():
        option = f"--{name.replace('_', '-')}"
        if name in ("table", "allow_trigger", "no_way_back", "add_constraint") or value in (
            None,
            False,
            (),
        ):
            continue
        values = value if isinstance(value, tuple) else (value,)
        for each in values:
            words += [option] if each is True else [option, shlex.quote(str(each))]
    return " ".join(words)


def _tell_way_back(receipt: Path, without_rows: bool) -> None:
    click.echo(f"Receipt: {receipt}")
    if without_rows:
        click.echo("It holds counts only; these rows cannot be restored from it.")
    else:
        click.echo(f"To put everything back: yeldro restore {shlex.quote(str(receipt))}")
