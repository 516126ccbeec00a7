"""Commands about earlier runs: receipt list, show and check, and restore."""

from __future__ import annotations

import os
import sys
from collections.abc import Callable, Iterator, Sequence
from datetime import datetime
from pathlib import Path
from typing import TYPE_CHECKING

import click

from yeldro.cli.commands.reporting import check_report, page_of_receipt, write_page
from yeldro.cli.given import settings
from yeldro.cli.given.again import typed_again
from yeldro.cli.terminal.ask import agreed_number
from yeldro.cli.terminal.output import show as show_text
from yeldro.cli.terminal.output import show_json, tell_next, views
from yeldro.cli.terminal.progress import shown_progress
from yeldro.core.model.messages.errors import UNCHANGED, OutOfReach, Refused, UsageError
from yeldro.core.model.messages.names import as_typed, counted, same_name
from yeldro.core.model.messages.outcome import note_outcome
from yeldro.core.model.work.steps import count_each_row_once
from yeldro.core.receipts import export as exporting
from yeldro.core.receipts.reader import Receipt, find_receipt, forget_rows, receipts_in
from yeldro.report import documents
from yeldro.report.text import besides, visible

if TYPE_CHECKING:
    from yeldro.core.database.protocol import Database
    from yeldro.core.restore.restore_plan import RestorePlan
    from yeldro.core.restore.staging import Scope


def list_(
    table: str | None,
    since: datetime | None,
    until: datetime | None,
    of: str | None,
    limit: int | None,
    full: bool,
    receipts: Path | None,
    as_json: bool,
) -> None:
    """The receipts that are kept, newest first."""
    folder = settings.receipts_folder(receipts)
    kept = found = receipts_in(folder)
    for option, keeps in _filters(table, since, until, of):
        left = [each for each in found if keeps(each)]
        if found and not left and not as_json:
            told = f"{option} leaves none of {counted(len(found), 'receipt')} in {folder}."
            click.echo(visible(told))
            return
        found = left
    found = found[:limit]
    if as_json:
        show_json([documents.receipt_document(each) for each in found])
    else:
        show_text(views().receipts_view(found, str(folder), len(kept), full=full))
        tell_next([_next("receipt show", newest.id) for newest in found[:1]])


def _filters(
    table: str | None, since: datetime | None, until: datetime | None, of: str | None
) -> Iterator[tuple[str, Callable[[Receipt], bool]]]:
    """Yield the options that narrow the list, each with whether a receipt stays."""
    if table is not None:
        yield (
            f"--table {table}",
            lambda one: any(same_name(table, [str(step.table)]) for step in one.steps),
        )
    if since is not None:
        yield f"--since {since:%Y-%m-%d}", lambda one: one.started[:10] >= f"{since:%Y-%m-%d}"
    if until is not None:
        yield f"--until {until:%Y-%m-%d}", lambda one: one.started[:10] <= f"{until:%Y-%m-%d}"
    if of is not None:
        shown = settings.database_of(of).shown
        yield f"--of {of}", lambda one: one.database == shown


def show(
    receipt: str,
    why: Sequence[str],
    full: bool,
    report: Path | None,
    receipts: Path | None,
    as_json: bool,
) -> None:
    """What was asked, planned and done."""
    from yeldro.core.receipts.why import why as why_of_receipt
    from yeldro.report.closer import why_document, why_view
    from yeldro.report.parts import spaced

    check_report(report)
    found = _found(settings.receipts_folder(receipts), receipt)
    reasons = why_of_receipt(found, why)
    if report:
        write_page(report, page_of_receipt(found))
    if as_json:
        told = {"why": [why_document(each) for each in reasons]} if why else {}
        show_json({**documents.receipt_document(found), **told})
    else:
        chains = [why_view(each, done=True) for each in reasons]
        show_text(spaced([views().receipt_view(found, full=full), *chains]))
        tell_next([_next("receipt check", found.id)])


def check(receipt: str, receipts: Path | None, db: str | None, as_json: bool) -> None:
    """Tell if the rows of a receipt are still gone: all gone, partly back, or all back."""
    from yeldro.core.restore import restore as restoring

    found = _found(settings.receipts_folder(receipts), receipt, db)
    with shown_progress():
        planned = restoring.compare(_database_of(found, db), found)
    if as_json:
        show_json(documents.restore_document(planned, "compared"))
    else:
        show_text(views().restore_view(planned, "receipt check"))
        tell_next([_next("restore" if planned.total else "receipt show", found.id)])


def forget(receipt: str, yes: bool, receipts: Path | None) -> None:
    """Erase the stored rows of a receipt for good; its counts stay."""
    found = _found(settings.receipts_folder(receipts), receipt)
    if found.holds_rows and not yes:
        if not sys.stdin.isatty():
            raise UsageError("There is no terminal to type the count at.", "Add --yes.")
        show_text(views().receipt_view(found), beside=True)
        agreed_number(found.total, "rows to forget", "Nothing was erased.")
    rows = forget_rows(found)
    click.echo(f"Erased: {counted(rows, 'stored row')} of {found.path}; its counts stay.")


def export(receipt: str, to: Path, lines: bool, receipts: Path | None) -> None:
    """Write the stored rows of a receipt as CSV or JSON Lines, a file for each step."""
    found = _found(settings.receipts_folder(receipts), receipt)
    for path, rows in exporting.export(found, to, "jsonl" if lines else "csv"):
        click.echo(f"{path}: {counted(rows, 'row')}")
    tell_next([_next("receipt show", found.id)])


def restore(
    receipt: str,
    only: tuple[str, ...],
    where: str | None,
    skip_conflicts: bool,
    into: str | None,
    yes: bool,
    without_rows: bool,
    accept_difference: tuple[str, ...],
    allow_trigger: tuple[str, ...],
    no_way_back: tuple[str, ...],
    allow_more: bool,
    receipts: Path | None,
    lock_wait: float | None,
    db: str | None,
    as_json: bool,
    quiet: bool,
) -> None:
    """Put the rows of RECEIPT back, parents first, and undo the links it cut."""
    from yeldro.core.changes.change_set import Acceptances
    from yeldro.core.receipts.writer import ReceiptOptions
    from yeldro.core.restore import restore as restoring
    from yeldro.core.restore.staging import Scope

    folder = settings.receipts_folder(receipts)
    found = _found(folder, receipt, db, sure=yes)
    database = _other_database(into, found) if into else _database_of(found, db)
    scope = Scope(only, skip_conflicts, where)
    agreed = None if yes else _agree(database, found, as_json, scope)
    wait = settings.LOCK_WAIT if lock_wait is None else lock_wait
    receipt_options = ReceiptOptions(folder, not without_rows)
    allowed = Acceptances(allow_trigger, no_way_back, accept_difference)
    limits = settings.limits_of(database, allow_more=allow_more)
    with shown_progress(quiet):
        done = restoring.restore(
            database, found, wait, agreed, allowed, scope, receipt_options, limits
        )
    if done.total:
        note_outcome(f"Committed: the rows are back, and the restore's receipt is {done.receipt}.")
    if as_json:
        outcome = "committed" if done.total else "nothing_to_do"
        show_json(
            documents.restore_document(
                done.plan, outcome, done.receipt, done.differences, done.ledger.unplanned
            )
        )
    elif not quiet:
        if yes:
            show_text(views().restore_view(done.plan, "restore", done=bool(done.total)))
        how = "back, but" if done.differences else "as before."
        committed = f"Committed: {counted(done.total, 'row')} {how}"
        told = [(each.step.action, str(each.step.table)) for each in done.plan.steps]
        if not count_each_row_once(told, in_parts=True):
            committed += " A row counts in each step that changed it."
        ended = committed if done.total else _why_nothing(done.plan, scope)
        click.secho(f"\n{ended}", fg="green", bold=True)
        if also := besides(done.ledger):
            click.secho(f"  {also}", fg="yellow")
        for each in done.differences:
            click.secho(f"  {visible(str(each))}", fg="yellow")
        if done.receipt and not without_rows:
            click.echo(f"To undo this: yeldro restore {as_typed(str(done.receipt))}")
        if not done.total:
            tell_next([_next("receipt show", found.id)])


def _found(folder: Path, typed: str, db: str | None = None, *, sure: bool = False) -> Receipt:
    """Return the receipt that is meant: `last` is the last of the database that is named.

    Args:
        sure: nobody is asked, so without the name of a database all receipts must be of one.
    """
    name = db or os.environ.get("YELDRO_DB") or settings.project().db
    own = settings.database_of(name).shown if name and typed == "last" else None
    found = find_receipt(folder, typed, own)
    if sure and typed == "last" and own is None:
        others = {each.database for each in receipts_in(folder)} - {found.database}
        if others:
            raise UsageError(
                f"{folder} holds receipts of {len(others) + 1} databases, and the last one is of "
                f"{found.database}.",
                f"Name it: yeldro restore {found.id}; or say which database is meant: --db.",
            )
    return found


def _next(command: str, receipt: str) -> str:
    """Return the command line that goes on with a receipt, named as it was typed if by its file."""
    typed = click.get_current_context().params.get("receipt")
    name = typed if typed and Path(typed).exists() else receipt
    return typed_again(command, arguments=[name], keeps=("receipts",))


def _why_nothing(planned: RestorePlan, scope: Scope) -> str:
    if not planned.steps:
        return "Nothing to do."
    if planned.skipped:
        return "Nothing was changed: the missing rows were left out."
    if scope.only or scope.where:
        return "Nothing to do: every chosen row is in place."
    if planned.receipt.is_of_restore:
        return "Nothing to do: this restore is undone already."
    return "Nothing to do: every row of this receipt is in place."


def _agree(database: Database, found: Receipt, as_json: bool, scope: Scope) -> int:
    from yeldro.core.restore import restore as restoring

    if not sys.stdin.isatty():
        raise UsageError("There is no terminal to type the count at.", "Add --yes.")
    with shown_progress():
        planned = restoring.compare(database, found, scope)
    show_text(views().restore_view(planned, "restore"), beside=as_json)
    if planned.total and not planned.conflicts:
        what = "rows to change back" if found.is_of_restore else "rows to put back"
        agreed_number(planned.total, what, UNCHANGED)
    return planned.total


def _other_database(into: str, found: Receipt) -> Database:
    """Return the database into which the rows of a receipt are put instead of their own."""
    database = settings.database_of(into)
    try:
        with database.reading():
            return database
    except OutOfReach as error:
        tables = ", ".join(dict.fromkeys(str(step.table) for step in found.steps))
        error.next_step += f" --into takes a database that has the tables of the rows: {tables}."
        raise


def _database_of(found: Receipt, typed: str | None) -> Database:
    """Return the database of a receipt; refuse another one in --db."""
    own = settings.opened(found.database)
    if not typed:
        return own
    # --db may name the same one with its password, which no receipt holds.
    named = settings.database_of(typed)
    if named.shown != own.shown:
        raise Refused(
            f"This receipt is of {own.shown}, not of {named.shown}.",
            "Drop --db (or YELDRO_DB) to use the receipt's own database; restore --into URL puts "
            "its rows into another one.",
        )
    return named
