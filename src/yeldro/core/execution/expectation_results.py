"""Expectations and checks, compared with the database as it is now."""

from __future__ import annotations

from collections.abc import Iterable, Iterator, Sequence
from dataclasses import dataclass, replace
from enum import StrEnum
from typing import TYPE_CHECKING

from yeldro.core.execution import run as running
from yeldro.core.model.messages.errors import UsageError
from yeldro.core.model.work.expectation import Expectations
from yeldro.core.planning.job import JobPlan
from yeldro.core.selection.conditions.checks import run_checks

if TYPE_CHECKING:
    from yeldro.core.database.protocol import Database
    from yeldro.core.model.work.expectation import RowRange
    from yeldro.core.planning.job import Job
    from yeldro.core.selection.conditions.checks import CheckResult


class When(StrEnum):
    """When something must hold."""

    BEFORE = "before"
    AFTER = "after"


@dataclass(frozen=True)
class ExpectationResult:
    """One expectation or check, and what was found.

    Args:
        about: what is counted or ensured.
        expected: the numbers allowed, for people.
        found: the number found, None if a query gave no number.
        when: a number of rows that go must be right before a run; a check of a cleanup file must
            hold when the run is done.
    """

    about: str
    expected: str
    found: int | float | None
    holds: bool
    when: When


def check_now(
    database: Database, job: Job, lock_wait: float, when: When | None = None
) -> tuple[ExpectationResult, ...]:
    """Return what a job's expectations or checks give on the database now; nothing is changed.

    If a cleanup reads what an earlier one changes, the numbers are those of a rehearsal.

    Args:
        lock_wait: seconds that a rehearsal waits for other sessions' locks.
        when: which of them: before a run, the numbers of rows that must go; after it, what must
            hold then. None for the numbers, or the checks if no number is expected.

    Raises:
        UsageError: nothing of that kind is expected, or the job uses an unknown name.
        Refused: a rehearsal is needed, and rows or a limit forbid it.
    """
    counts = job.expectations or any(each.expectations for each in job.cleanups)
    if when is None:
        when = When.BEFORE if counts else When.AFTER
    if when is When.AFTER and not job.after:
        raise UsageError(
            "Nothing must hold after a run, so nothing can be checked."
            if counts
            else "Nothing is expected, so nothing can be checked.",
            "Add [[after]] to the cleanup file." if counts else "Add ‹expect› N, or [[after]].",
        )
    if when is When.BEFORE:
        found = running.plan(database, job)
        if not found.is_exact:
            plans = running.rehearse(database, _without_expectations(job), lock_wait).plans
            found = JobPlan(job.title, plans)
        return tuple(counts_expected(job, found))
    with database.reading() as session:
        return tuple(results_of(run_checks(session, job.after)))


def _without_expectations(job: Job) -> Job:
    cleanups = (replace(each, expectations=Expectations()) for each in job.cleanups)
    return replace(job, cleanups=tuple(cleanups), expectations=Expectations(), after=())


def results_of(checks: Iterable[CheckResult]) -> list[ExpectationResult]:
    """Return the checks of a cleanup file as results beside those of its expectations."""
    return [
        ExpectationResult(
            each.check.about or each.check.query,
            str(each.check.expected),
            each.found,
            each.holds,
            When.AFTER,
        )
        for each in checks
    ]


def counts_expected(job: Job, found: JobPlan) -> Iterator[ExpectationResult]:
    """Yield the expectations of each cleanup, and those of all together."""
    for cleanup, plan in zip(job.cleanups, found.plans, strict=True):
        where = f"{plan.table}: " if len(job.cleanups) > 1 else ""
        expected = cleanup.expectations.against(plan.matched, plan.total, plan.rows_by_table)
        yield from _results(expected, where)
    matched = sum(plan.matched for plan in found.plans)
    where = "all removes: " if len(job.cleanups) > 1 else ""
    expected = job.expectations.against(matched, found.total, found.rows_by_table)
    yield from _results(expected, where)


def _results(
    expected: Sequence[tuple[str, RowRange, int]], where: str
) -> Iterator[ExpectationResult]:
    for about, each, rows in expected:
        yield ExpectationResult(where + about, str(each), rows, rows in each, When.BEFORE)
