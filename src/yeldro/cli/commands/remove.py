"""Commands that plan and remove: plan, rehearse, run, check."""

from __future__ import annotations

import sys
from collections.abc import Sequence
from dataclasses import replace
from datetime import UTC, datetime
from pathlib import Path
from typing import TYPE_CHECKING, Any

import click
from rich.console import Group

from yeldro.cli.commands.batching import batches_of, run_batches
from yeldro.cli.commands.following import after_plan, after_preview, telling_next
from yeldro.cli.commands.reporting import (
    check_report,
    look,
    not_written,
    page_of_plan,
    page_of_run,
    write_page,
)
from yeldro.cli.given.again import from_standard_input, typed_again
from yeldro.cli.given.what import What, what_of
from yeldro.cli.terminal.ask import agreed, agreed_number, asked
from yeldro.cli.terminal.maps import check_map, draw
from yeldro.cli.terminal.output import show, show_json, tell_next
from yeldro.cli.terminal.progress import shown_progress
from yeldro.core.execution import run as running
from yeldro.core.execution.approval import ConfirmedPlans, PlanRecord, Together
from yeldro.core.execution.expectation_results import When, check_now
from yeldro.core.execution.run import Outcome
from yeldro.core.model.messages.errors import UNCHANGED, CountMismatch, Refused, UsageError
from yeldro.core.model.messages.names import as_typed
from yeldro.core.model.messages.outcome import note_outcome, noted_outcome
from yeldro.core.planning.job import JobPlan, what_follows
from yeldro.core.planning.why import CloserLook
from yeldro.core.receipts.writer import ReceiptOptions
from yeldro.formats.plan_file import write_plan
from yeldro.report import documents, plans
from yeldro.report.closer import looked_document, looked_views

if TYPE_CHECKING:
    from yeldro.core.execution.approval import Approval
    from yeldro.core.execution.batches import Batches
    from yeldro.core.execution.run import RunResult
    from yeldro.core.model.tables.schema import TableName


def plan(
    db: str | None,
    output: Path | None,
    map_to: str | None,
    report: Path | None,
    as_json: bool,
    why: Sequence[str] = (),
    rows_of: Sequence[str] = (),
    **options: Any,
) -> None:
    """Every step of WHAT in order, with its exact count and its reason, and what blocks."""
    check_map(map_to, as_json)
    check_report(report)
    what = what_of(options, db)
    record = PlanRecord() if output else what.agreed
    closer = CloserLook(why, rows_of)
    with shown_progress():
        found = running.plan(what.database, what.job, _both(record, closer))
    if as_json:
        show_json(_with_look(documents.job_plan_document(found, what.job.after), closer))
    else:
        show(plans.job_plan_view(found))
        for view in looked_views(closer.found):
            show(Group("", view))
    if map_to:
        from yeldro.core.inspection.key_map import map_of_plan

        with what.database.reading() as session:
            draw(map_to, map_of_plan(session, found))
    looked = look(what, found) if report else None
    if report and looked and (output is None or any(each.blocked for each in found.plans)):
        write_page(report, page_of_plan(what, looked, None))
        report = None
    with telling_next(what, shown=not as_json):
        running.check_plans(found, what.job)
    if output:
        _save(output, what, record)
    if report and looked:
        write_page(report, page_of_plan(what, looked, output))
    if not as_json:
        tell_next(after_plan(what, found, output))


def _both(record: Approval | None, closer: CloserLook) -> Approval | None:
    """Return what sees the plans: what was asked to, and nothing that has nothing to do."""
    if not (closer.of_rows or closer.of_tables):
        return record
    return Together([record, closer]) if record else closer


def _with_look(document: documents.Document, closer: CloserLook) -> documents.Document:
    for remove, looked in zip(document["removes"], closer.found, strict=False):
        remove.update(looked_document(looked))
    return document


def rehearse(
    db: str | None,
    lock_wait: float | None,
    output: Path | None,
    as_json: bool,
    quiet: bool,
    **options: Any,
) -> None:
    """Do everything in a transaction, compare tally and ledger with the plan, and roll back."""
    what = what_of(options, db)
    record = PlanRecord() if output else what.agreed
    with telling_next(what), shown_progress(quiet):
        result = running.rehearse(what.database, what.job, what.lock_wait(lock_wait), record)
    if as_json:
        show_json(documents.run_document(result))
    elif not quiet:
        show(plans.run_view(result))
    if output:
        _save(output, what, record)
    if not (as_json or quiet):
        tell_next(after_plan(what, JobPlan(result.title, tuple(result.plans)), output))


def run(
    db: str | None,
    yes: bool,
    without_rows: bool,
    copy_to: str | None,
    receipts: Path | None,
    lock_wait: float | None,
    report: Path | None,
    as_json: bool,
    quiet: bool,
    **options: Any,
) -> None:
    """Remove the rows of WHAT if exactly the expected number goes; otherwise change nothing."""
    check_report(report)
    what = what_of(options | {"yes": yes}, db)
    wait = what.lock_wait(lock_wait)
    _check_attendance(yes, what)
    copies = what.copy_to(copy_to)
    if copies and what.without_rows(without_rows):
        raise UsageError("--copy-to keeps the rows, and --without-rows does not.", "Drop one.")
    batches = batches_of(what, options | {"copy_to": copies})
    counts_only = what.without_rows(without_rows)
    receipt_options = ReceiptOptions(what.receipts(receipts), not counts_only, copies)
    with telling_next(what, shown=not yes):
        record = None if what.agreed else PlanRecord()  # a saved plan has its own
        shown = None if yes else _agree(what, wait, record, as_json)
        if shown:
            what = _agree_to_no_way_back(what, shown)
        looked = look(what, shown or running.plan(what.database, what.job)) if report else None
        began = datetime.now(UTC)
        result = _carried_out(what, shown, record, batches, wait, receipt_options, quiet)
    if result.outcome is Outcome.COMMITTED:
        note_outcome(f"Committed: the rows are gone, and the receipt is {result.receipt}.")
    problem: Exception | None = None
    if report and looked:
        try:
            write_page(report, page_of_run(what, looked, result, began, can_undo=not counts_only))
        except Exception as error:  # the rows are gone, and that is to be told first
            problem = error
    if as_json:
        show_json(documents.run_document(result))
    elif not quiet:
        show(plans.run_view(result, in_batches=batches is not None))
        if result.outcome is Outcome.COMMITTED and result.receipt:
            _tell_way_back(result.receipt, counts_only, result.copies)
        elif result.outcome is Outcome.NOTHING_TO_DO:
            tell_next(after_preview(0, result.plans[0].table))
    if report and problem:
        raise not_written(
            report, problem, result.receipt, noted_outcome() or UNCHANGED
        ) from problem


def _carried_out(
    what: What,
    agreed: JobPlan | None,
    record: PlanRecord | None,
    batches: Batches | None,
    lock_wait: float,
    receipt_options: ReceiptOptions,
    quiet: bool,
) -> RunResult:
    """Run what was agreed to, or what was asked for if nobody had to agree."""
    makes = any(each.add_constraint for each in what.job.cleanups)
    if agreed and not (agreed.total or makes or what.job.after):
        return running.nothing_to_do(agreed)
    approval = what.agreed or (ConfirmedPlans(agreed.plans, record) if agreed else None)
    if batches:
        return run_batches(what, receipt_options, lock_wait, batches, approval, quiet)
    with shown_progress(quiet):
        return running.run(what.database, what.job, receipt_options, lock_wait, approval)


def check(db: str | None, afterwards: bool, as_json: bool, quiet: bool, **options: Any) -> None:
    """Tell if the expectations of WHAT hold now, or the checks for after a run."""
    what = what_of(options, db)
    with shown_progress(quiet):
        found = check_now(
            what.database, what.job, what.lock_wait(None), When.AFTER if afterwards else None
        )
    if as_json:
        show_json(documents.check_document(what.job.title, found))
    elif not quiet:
        show(plans.check_view(what.job.title, found))
        holds = all(each.holds for each in found)
        tell_next([] if from_standard_input() else [typed_again("plan" if holds else "preview")])
    failed = [each for each in found if not each.holds]
    if failed:
        click.get_current_context().exit(4)


def _save(path: Path, what: What, record: Any) -> None:
    """Save a plan that can be run as it is."""
    follows = what_follows(record.plans)
    if any(follows) and click.get_current_context().command.name == "plan":
        tables_ = ", ".join(next(names for names in follows if names))
        raise Refused(
            f"No plan was saved: a later remove reads what an earlier one changes ({tables_}), "
            f"so its count is known only when that is done.",
            "Save the plan of a rehearsal: yeldro rehearse … -o FILE",
        )
    with what.database.reading() as session:
        system = session.traits.name
    write_plan(path, what.job, system, what.database.shown, record)
    click.echo(f"Saved. {path} runs exactly this plan, or refuses.", err=True)


def _check_attendance(yes: bool, what: What) -> None:
    if yes and not (what.job.expects or what.agreed):
        raise UsageError(
            "--yes is given without --expect, so the number of rows that must go is not given.",
            "Add --expect N; 'yeldro plan' shows the number."
            if not what.job.described
            else "Add expect to every [[remove]], or --expect total=N.",
        )
    if not yes and not sys.stdin.isatty():
        raise UsageError("There is no terminal to type the count at.", "Add --expect N and --yes.")


def _agree(what: What, lock_wait: float, record: PlanRecord | None, as_json: bool) -> JobPlan:
    """Show the plan without holding any lock, and ask a person to type its total.

    If a cleanup reads what an earlier one changes, the counts are those of a rehearsal.

    Args:
        record: notes the plans that are shown.
    """
    with shown_progress():
        found = running.plan(what.database, what.job, record)
        rehearsed = None
        if not found.is_exact:
            if record:
                record.begin()
            rehearsed = running.rehearse(what.database, what.job, lock_wait, record)
    if rehearsed:
        exact = [replace(p, warnings=old.warnings)
                 for p, old in zip(rehearsed.plans, found.plans, strict=True)]  # fmt: skip
        found = JobPlan(found.title, tuple(exact))
    click.echo(err=True)
    show(plans.job_plan_view(found, "run"), beside=as_json)
    running.check_plans(found, what.job)
    if found.total and found.is_total_expected(what.job):
        agreed(f"That is the number that you expect: {found.total:,}.", UNCHANGED)
    elif found.total:
        agreed_number(found.total, "rows to remove or change", UNCHANGED)
    if found.total:
        click.echo(err=True)
    return found


def _agree_to_no_way_back(what: What, found: JobPlan) -> What:
    """Ask once more if nothing can be rolled back, unless an option accepts that already."""
    (cleanup,) = what.job.cleanups if len(what.job.cleanups) == 1 else (None,)
    lasting = [plan.table for plan in found.plans if plan.commits_by_itself and plan.total]
    if cleanup is None or not lasting or lasting[0] in cleanup.no_way_back:
        return what
    (table,) = lasting

    def read(typed: str) -> None:
        if typed != table:
            raise CountMismatch(
                f"You typed {typed!r}, and the table is {table}.",
                "Without --truncate and --by-partition the rows go in a transaction.",
                data=UNCHANGED,
            )

    question = f"This cannot be rolled back. Type the table's name ({table})"
    asked(question, read, UNCHANGED, may_leave=table != "q")
    accepted = replace(cleanup, no_way_back=(*cleanup.no_way_back, table))
    return replace(what, job=replace(what.job, cleanups=(accepted,)))


def _tell_way_back(receipt: Path, without_rows: bool, copies: Sequence[TableName]) -> None:
    what = "" if copies or without_rows else " (what was asked, and every row)"
    click.echo(f"Receipt{what}: {receipt}")
    if copies:
        click.echo(f"The rows are in {', '.join(map(str, copies))}, and not in the receipt.")
    if without_rows:
        click.echo("It holds counts only; these rows cannot be restored from it.")
    else:
        click.echo(f"To put these rows back: yeldro restore {as_typed(str(receipt))}")
