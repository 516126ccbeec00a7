"""Commands about earlier runs: receipt list, show and check, and restore."""

from __future__ import annotations

import sys
from pathlib import Path

import click

from yeldro.cli import options as opt
from yeldro.cli import settings
from yeldro.cli.ask import agreed_number
from yeldro.cli.output import show as show_text
from yeldro.cli.output import show_json
from yeldro.core import restore as restoring
from yeldro.core.errors import UNCHANGED, Refused, UsageError
from yeldro.core.protocol import Database
from yeldro.core.receipts import Receipt, find_receipt, receipts_in
from yeldro.report import documents, tables
from yeldro.report.text import counted

receipt_argument = click.argument("receipt", metavar="RECEIPT", default="last")


@click.group()
def receipt() -> None:
    """Earlier runs. RECEIPT is a file, its short id, or 'last'."""


@receipt.command(name="list")
@opt.receipts_option
@opt.json_option
def list_(receipts: Path | None, as_json: bool) -> None:
    """The receipts that are kept, newest first."""
    folder = settings.receipts_folder(receipts)
    found = receipts_in(folder)
    if as_json:
        show_json([documents.receipt_document(each) for each in found])
    else:
        show_text(tables.receipts_view(found, str(folder)))


@receipt.command()
@receipt_argument
@opt.receipts_option
@opt.json_option
def show(receipt: str, receipts: Path | None, as_json: bool) -> None:
    """What was asked, planned and done."""
    found = find_receipt(settings.receipts_folder(receipts), receipt)
    if as_json:
        show_json(documents.receipt_document(found))
    else:
        show_text(tables.receipt_view(found))


@receipt.command()
@receipt_argument
@opt.receipts_option
@opt.database_option
@opt.json_option
def check(receipt: str, receipts: Path | None, db: str | None, as_json: bool) -> None:
    """Whether the rows of a receipt are still gone: all gone, partly back, all back."""
    found = find_receipt(settings.receipts_folder(receipts), receipt)
    planned = restoring.compare(_database_of(found, db), found)
    if as_json:
        show_json(documents.restore_document(planned, "compared"))
    else:
        show_text(tables.restore_view(planned, "receipt check"))


@click.command()
@receipt_argument
@click.option("--yes", is_flag=True, help="Do not ask for the count.")
@opt.triggers_option
@opt.receipts_option
@opt.lock_wait_option
@opt.database_option
@opt.json_option
@opt.quiet_option
def restore(
    receipt: str,
    yes: bool,
    allow_trigger: tuple[str, ...],
    receipts: Path | None,
    lock_wait: float | None,
    db: str | None,
    as_json: bool,
    quiet: bool,
) -> None:
    """Put the rows of RECEIPT back, parents first, and undo the links it cut.

    RECEIPT is a file, its short id, or 'last'. Refused, with the rows named, where a key is taken
    by another row or a parent is gone.
    """
    found = find_receipt(settings.receipts_folder(receipts), receipt)
    database = _database_of(found, db)
    agreed = None if yes else _agree(database, found, as_json)
    wait = settings.LOCK_WAIT if lock_wait is None else lock_wait
    planned = restoring.restore(database, found, wait, agreed, allow_trigger)
    if as_json:
        show_json(
            documents.restore_document(planned, "committed" if planned.total else "nothing_to_do")
        )
    elif not quiet:
        if yes:
            show_text(tables.restore_view(planned, "restore"))
        committed = f"Committed: {counted(planned.total, 'row')} as before."
        nothing = "Nothing to do: every row of this receipt is in place."
        click.secho(f"\n{committed if planned.total else nothing}", fg="green", bold=True)


def _agree(database: Database, found: Receipt, as_json: bool) -> int:
    if not sys.stdin.isatty():
        raise UsageError("Nobody is at a terminal to type the count.", "Add --yes.")
    planned = restoring.compare(database, found)
    show_text(tables.restore_view(planned, "restore"), beside=as_json)
    if planned.total and not planned.conflicts:
        agreed_number(planned.total, "rows to put back", UNCHANGED)
    return planned.total


def _database_of(found: Receipt, typed: str | None) -> Database:
    """The database of a receipt; another one named by --db is refused."""
    own = settings.opened(found.database)
    if not typed:
        return own
    # Maybe the same one with the password, which no receipt holds.
    named = settings.database_of(typed)
    if named.shown != own.shown:
        raise Refused(
            f"This receipt is of {own.shown}, not of {named.shown}.",
            "Drop --db (or YELDRO_DB) to use the receipt's own database.",
        )
    return named
