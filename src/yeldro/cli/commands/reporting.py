"""The choice --report: a page about a plan, a run or a receipt."""

from __future__ import annotations

import hashlib
import os
from collections.abc import Iterator, Sequence
from dataclasses import dataclass, replace
from datetime import UTC, datetime
from itertools import islice
from pathlib import Path
from typing import TYPE_CHECKING, Any

import click

from yeldro import __version__
from yeldro.core.model.messages.errors import PageNotWritten, UsageError, YeldroError
from yeldro.core.model.messages.files import exists_already, new_file
from yeldro.core.model.messages.machine import user
from yeldro.core.model.messages.names import as_typed
from yeldro.core.model.messages.options import with_options
from yeldro.report.text import asked_lines, duration, short_name

if TYPE_CHECKING:
    from yeldro.cli.given.what import What
    from yeldro.core.database.protocol import Session
    from yeldro.core.execution.run import RunResult
    from yeldro.core.inspection.key_map import KeyMap
    from yeldro.core.planning.job import JobPlan
    from yeldro.core.planning.plan import Plan
    from yeldro.core.receipts.reader import Receipt
    from yeldro.report.page.contents import Listing, Page

_OLDER_SQL = "The SQL is that of a plan made just before the run."
_MOST_LISTINGS = 40  # of rows, on one page


def check_report(path: Path | None) -> None:
    """Refuse a file that no page can be written to, before anything is done.

    Raises:
        UsageError: its name does not end in .html, or a library is missing.
        Refused: a file of this name exists.
    """
    if path is None:
        return
    from yeldro.report.page.files import check_page_file

    check_page_file(path)
    if path.exists():
        raise exists_already(path)
    if not path.parent.is_dir() or not os.access(path.parent, os.W_OK):
        raise UsageError(
            f"No file can be made in the folder {path.parent}.", "Name a file in another folder."
        )


def write_page(path: Path, page: Page) -> None:
    """Write a page in a new file.

    Raises:
        Refused: a file of this name exists.
        FileNotWritten: the file cannot be written.
    """
    from yeldro.report.page.files import written

    contents = written(page)
    with new_file(path) as file:
        file.write(contents)
    click.echo(f"Page: {path}", err=True)


def not_written(path: Path, error: Exception, receipt: Path | None, data: str) -> PageNotWritten:
    """Return the error for a page that could not be written after a run.

    Args:
        data: what has happened to the data.
    """
    reason = error.why if isinstance(error, YeldroError) else str(error) or type(error).__name__
    again = "Look at the database with 'yeldro survey'."
    if receipt:
        shown = as_typed(str(receipt))
        again = f"Write it from the receipt: yeldro receipt show {shown} --report FILE.html"
    return PageNotWritten(f"Only the page {path} could not be written: {reason}", again, data=data)


@dataclass(frozen=True)
class Looked:
    """What a page shows of the database as it was before anything was done.

    Args:
        at: when that was, in UTC.
        sql_note: why there is no SQL; empty if there is.
    """

    found: JobPlan
    drawn: KeyMap
    samples: tuple[Listing, ...]
    sql: str
    sql_note: str
    at: datetime


def look(what: What, found: JobPlan) -> Looked:
    """Look at what a plan is about: the map, matched rows, the SQL."""
    from yeldro.core.inspection.key_map import map_of_plan
    from yeldro.core.inspection.preview import look_at
    from yeldro.formats import sql_out
    from yeldro.report.page.contents import MOST_ROWS, listing

    at = datetime.now(UTC)
    with what.database.reading() as session:
        drawn = map_of_plan(session, found)
    samples = []
    for each in what.job.cleanups:
        seen = look_at(what.database, each, (), MOST_ROWS)
        title = f"Matched rows of {seen.plan.table}"
        samples.append(listing(title, seen.columns, seen.rows, seen.plan.matched))
    sql = note = ""
    try:
        sql = sql_out.script(what.database, what.job, None)
        note = "The same steps as a script for this system, with the counts of this plan."
    except YeldroError as error:
        note = f"There is no script: {with_options(error.why)}"
    return Looked(found, drawn, tuple(each for each in samples if each.rows), sql, note, at)


def page_of_plan(what: What, looked: Looked, saved: Path | None) -> Page:
    """Return the page about a plan."""
    from yeldro.core.execution.expectation_results import counts_expected
    from yeldro.report.page import contents

    plans = looked.found.plans
    verdict, tone = contents.verdict_of_plan(plans)
    notes = [f"To be checked afterwards: {each.about or each.query} (expected {each.expected})"
             for each in what.job.after]  # fmt: skip
    return contents.Page(
        kind="Plan",
        title=looked.found.title,
        verdict=verdict,
        tone=tone,
        facts=[*_given(plans), *_asked(what), ("planned", _moment(looked.at)),
               *_digest(saved or _file())],
        steps=contents.steps_of(plans, None),
        shares=contents.shares_of(looked.drawn, _left(looked.drawn)),
        counted=f"Before: counted {_moment(looked.at)}. After: what would be left by the plan.",
        map=_map(looked.drawn),
        blocked=contents.blocked_of(plans),
        samples=looked.samples,
        warnings=[warning for plan in plans for warning in plan.warnings],
        expectations=list(counts_expected(what.job, looked.found)),
        sql=looked.sql,
        sql_note=looked.sql_note,
        notes=notes if looked.found.is_exact else [*notes, "Later removes read what earlier ones "
              "change: a rehearsal counts them exactly."],
    )  # fmt: skip


def page_of_run(
    what: What, looked: Looked, result: RunResult, began: datetime, *, can_undo: bool
) -> Page:
    """Return the page about a run.

    Args:
        looked: what was seen just before it.
        began: when it began, in UTC.
        can_undo: the rows are kept.
    """
    from yeldro.core.database import sql
    from yeldro.core.database.catalogue import find_table
    from yeldro.core.execution.expectation_results import counts_expected, results_of
    from yeldro.core.execution.run import Outcome
    from yeldro.core.planning.job import JobPlan
    from yeldro.report.page import contents
    from yeldro.report.plans import COUNTED_OFTEN, counts_by_step

    ended = datetime.now(UTC)
    with what.database.reading() as session:
        drawn = _drawn_of_run(session, looked, result)
        affected = [each.name for each in drawn.tables if each.is_affected]
        tables = [find_table(session.catalogue, name) for name in affected]
        after = {str(name): rows for name, rows in sql.sizes(session.connection, tables).items()}
    committed = result.outcome is Outcome.COMMITTED
    verdict, tone = contents.verdict_of_run(result)
    done = JobPlan(result.title, result.plans)
    expectations = [*counts_expected(what.job, done), *results_of(result.after)]
    facts = [
        *_given(result.plans),
        *_asked(what),
        ("began", _moment(began)),
        ("took", duration((ended - began).total_seconds())),
        *([("receipt", str(result.receipt))] if result.receipt else []),
        *_digest(_file()),
    ]
    undo = f"yeldro restore {as_typed(str(result.receipt))}" if committed and can_undo else ""
    samples, notes = _rows_of_run(looked, result)
    if counts_by_step(result.tally.steps, in_parts=len(result.plans) > 1):
        notes = [COUNTED_OFTEN, *notes]
    return contents.Page(
        kind="Run",
        title=result.title,
        verdict=verdict,
        tone=tone,
        facts=facts,
        steps=contents.steps_of(result.plans, [part.tally.affected for part in result.parts]),
        shares=contents.shares_of(drawn, after),
        counted=f"Before: counted {_moment(looked.at)}. After: counted {_moment(ended)}. Other "
        "sessions may have changed rows in between.",
        map=_map(drawn),
        samples=samples,
        warnings=[warning for plan in result.plans for warning in plan.warnings],
        expectations=expectations,
        ledger=contents.ledger_of(result),
        undo=undo,
        sql=looked.sql,
        sql_note=looked.sql_note,
        notes=[*notes, *([_OLDER_SQL] if looked.sql else [])],
    )


def _drawn_of_run(session: Session, looked: Looked, result: RunResult) -> KeyMap:
    """Return the map of what was done, with the rows that tables had before it."""
    from yeldro.core.inspection.key_map import map_of_plan
    from yeldro.core.planning.job import JobPlan

    plans = [
        replace(done, ripple=before.ripple if looked.found.is_exact else ())
        for done, before in zip(result.plans, looked.found.plans, strict=True)
    ]
    drawn = map_of_plan(session, JobPlan(result.title, tuple(plans)))
    rows = {each.name: each.rows for each in looked.drawn.tables}
    tables = (replace(each, rows=rows.get(each.name)) for each in drawn.tables)
    return replace(drawn, tables=tuple(tables), done=True)


def _rows_of_run(looked: Looked, result: RunResult) -> tuple[Sequence[Listing], list[str]]:
    """Return some rows that went or changed, from the receipt if it has them, and where from."""
    from yeldro.core.receipts.reader import read_receipt

    if result.receipt:
        receipt = read_receipt(result.receipt)
        if sum(1 for step in receipt.steps if step.rows_table) in range(1, _MOST_LISTINGS):
            return _stored_rows(receipt), []
    if not looked.found.is_exact:
        return (), []
    return looked.samples, ["The rows are those of a plan made just before the run."]


def _given(plans: Sequence[Plan]) -> Iterator[tuple[str, str]]:
    """Yield the facts about what was asked for, in all removes."""
    yield from asked_lines(
        [replace(each, remove=place) for place, plan in enumerate(plans, 1) for each in plan.asked]
    )


def page_of_receipt(found: Receipt) -> Page:
    """Return the page about a receipt, which needs no database."""
    from yeldro.report.page import contents

    committed = found.outcome == "committed"
    verb = "put back or linked again" if found.is_of_restore else "gone or changed"
    verdict = f"{found.total:,} rows were {verb}." if committed else f"Outcome: {found.outcome}."
    facts = [
        *asked_lines(found.asked),
        ("by", found.user),
        ("database", f"{short_name(found.database)} ({found.database})"),
        ("began", f"{found.started[:19].replace('T', ' ')} UTC"),
        ("ended", f"{found.ended[:19].replace('T', ' ')} UTC" if found.ended else "not noted"),
        ("receipt", str(found.path)),
        ("written by", f"Yeldro {__version__}"),
    ]
    kept = found.holds_rows or found.copies
    return contents.Page(
        kind="Receipt",
        title=found.title,
        verdict=verdict,
        tone="good" if committed else "open",
        facts=facts,
        steps=contents.steps_of_receipt(found),
        samples=_stored_rows(found),
        ledger=contents.ledger_of_receipt(found),
        undo=f"yeldro restore {as_typed(str(found.path))}" if committed and kept else "",
        notes=["This page tells what was done then. If it still is so, "
               f"'yeldro receipt check {found.id}' tells."],
    )  # fmt: skip


def _stored_rows(found: Receipt) -> list[Listing]:
    """Return the first rows that a receipt holds of each step."""
    from yeldro.core.receipts.export import exported_rows
    from yeldro.report.page import contents

    samples = []
    for step in found.steps:
        if step.rows_table:
            rows = islice(exported_rows(found, step), contents.MOST_ROWS)
            title = f"Step {step.n}, {step.action} {step.table}: stored rows"
            names = [column.stored_as for column in step.columns]
            samples.append(contents.listing(title, names, rows, step.affected))
    return samples


def _left(drawn: KeyMap) -> dict[str, int]:
    """Return the rows that each table would have left, as far as its rows were counted."""
    return {
        each.name: each.rows - each.gone
        for each in drawn.tables
        if each.is_affected and each.rows is not None and each.rows >= each.gone
    }


def _asked(what: What) -> Iterator[tuple[str, str]]:
    shown = what.database.shown
    yield "by", user()
    yield "database", f"{short_name(shown)} ({shown})"
    yield "written by", f"Yeldro {__version__}"


def _file() -> Path | None:
    """Return the cleanup file or saved plan that was given."""
    typed: Any = click.get_current_context().params.get("what") or ""
    return Path(typed) if typed.endswith((".toml", ".json")) else None


def _digest(path: Path | None) -> Iterator[tuple[str, str]]:
    """Yield the file and its digest, by which it and the page can be matched."""
    if path is not None:
        try:
            found = hashlib.sha256(path.read_bytes()).hexdigest()
        except OSError as error:
            found = f"could not be read: {error.strerror}"
        yield "file", str(path)
        yield "SHA-256 of the file", found


def _moment(at: datetime) -> str:
    return f"{at:%Y-%m-%d %H:%M:%S} UTC"


def _map(drawn: KeyMap) -> str:
    from yeldro.report.maps.files import for_a_page

    element, width = for_a_page(drawn)
    return element.replace("<svg ", f'<svg style="--wide:{width}px;max-width:{width}px" ', 1)
