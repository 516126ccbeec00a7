"""Whether what is expected is true now; for pipelines, and for the look afterwards."""

from __future__ import annotations

from collections.abc import Iterator
from dataclasses import dataclass
from typing import TYPE_CHECKING

from yeldro.core.execution import run as running
from yeldro.core.model.errors import UsageError
from yeldro.core.model.names import same_name
from yeldro.core.selection.checks import run_checks

if TYPE_CHECKING:
    from yeldro.core.database.protocol import Database
    from yeldro.core.model.expectation import Expectations
    from yeldro.core.planning.job import Job, JobPlan


@dataclass(frozen=True)
class ExpectationResult:
    """Whether one expectation is true now.

    Args:
        about: what is counted or made sure of.
        expected: the numbers it may be, for people.
        found: the number that it is, None where there is none.
    """

    about: str
    expected: str
    found: int | float | None
    holds: bool


def check_now(database: Database, job: Job) -> tuple[ExpectationResult, ...]:
    """What a job's expectations and checks give on the database as it is now; changes nothing.

    Raises:
        UsageError: nothing is expected, or the job names what does not exist.
    """
    if not (job.after or job.expectations or any(each.expectations for each in job.cleanups)):
        raise UsageError(
            "Nothing is expected, so nothing can be checked.", "Add --expect N, or [[after]]."
        )
    found = running.plan(database, job)
    answers = list(_counts(job, found))
    with database.reading() as session:
        answers += [
            ExpectationResult(
                each.check.about or each.check.query,
                str(each.check.expected),
                each.found,
                each.holds,
            )
            for each in run_checks(session, job.after)
        ]
    return tuple(answers)


def _counts(job: Job, found: JobPlan) -> Iterator[ExpectationResult]:
    """Yield the expectations of each cleanup, and those of all together."""
    for cleanup, plan in zip(job.cleanups, found.plans, strict=True):
        where = f"{plan.table}: " if len(job.cleanups) > 1 else ""
        counted = {"matched": plan.matched, "total": plan.total}
        yield from _of(cleanup.expectations, counted, plan.rows_by_table, where)
    counted = {"matched": sum(plan.matched for plan in found.plans), "total": found.total}
    where = "all removes: " if len(job.cleanups) > 1 else ""
    yield from _of(job.expectations, counted, dict(found.rows_by_table), where)


def _of(
    expected: Expectations, counted: dict[str, int], tables: dict[str, int], where: str
) -> Iterator[ExpectationResult]:
    ranges = [
        ("matched rows", expected.matched, counted["matched"]),
        ("rows in all", expected.total, counted["total"]),
    ]
    ranges += [
        (f"rows of {name}", each, tables.get(same_name(name, tables) or "", 0))
        for name, each in expected.tables.items()
    ]
    for what, each, rows in ranges:
        if each is not None:
            yield ExpectationResult(where + what, str(each), rows, rows in each)
