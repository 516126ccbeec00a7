"""Expectations and checks, compared with the database as it is now."""

from __future__ import annotations

from collections.abc import Iterable, Iterator, Sequence
from dataclasses import dataclass
from typing import TYPE_CHECKING

from yeldro.core.execution import run as running
from yeldro.core.model.errors import UsageError
from yeldro.core.selection.conditions.checks import run_checks

if TYPE_CHECKING:
    from yeldro.core.database.protocol import Database
    from yeldro.core.model.expectation import RowRange
    from yeldro.core.planning.job import Job, JobPlan
    from yeldro.core.selection.conditions.checks import CheckResult


@dataclass(frozen=True)
class ExpectationResult:
    """One expectation or check, and what was found.

    Args:
        about: what is counted or ensured.
        expected: the numbers allowed, for people.
        found: the number found, None if a query gave no number.
    """

    about: str
    expected: str
    found: int | float | None
    holds: bool


def check_now(database: Database, job: Job) -> tuple[ExpectationResult, ...]:
    """Return what a job's expectations and checks give on the database now; nothing is changed.

    Raises:
        UsageError: nothing is expected, or the job uses an unknown name.
    """
    if not (job.after or job.expectations or any(each.expectations for each in job.cleanups)):
        raise UsageError(
            "Nothing is expected, so nothing can be checked.", "Add ‹expect› N, or [[after]]."
        )
    found = running.plan(database, job)
    results = list(counts_expected(job, found))
    with database.reading() as session:
        results += results_of(run_checks(session, job.after))
    return tuple(results)


def results_of(checks: Iterable[CheckResult]) -> list[ExpectationResult]:
    """Return the checks of a cleanup file as results beside those of its expectations."""
    return [
        ExpectationResult(
            each.check.about or each.check.query, str(each.check.expected), each.found, each.holds
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
        yield ExpectationResult(where + about, str(each), rows, rows in each)
