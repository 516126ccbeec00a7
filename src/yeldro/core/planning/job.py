"""What one command is asked to do: cleanups in order, checks, and limits."""

from __future__ import annotations

from collections import Counter
from collections.abc import Iterator, Mapping, Sequence
from contextlib import contextmanager
from dataclasses import dataclass, field
from typing import TYPE_CHECKING

from yeldro.core.changes.limits import Limits
from yeldro.core.model.messages.errors import (
    UsageError,
    YeldroError,
)
from yeldro.core.model.work.expectation import Expectations

if TYPE_CHECKING:
    from yeldro.core.planning.cleanup import Cleanup
    from yeldro.core.planning.plan import Plan
    from yeldro.core.selection.conditions.checks import Check


@dataclass(frozen=True)
class Job:
    """Cleanups that are carried out one after another, in one transaction.

    Each is planned after those before it are done, so it sees the database as they leave it.

    Args:
        title: what was asked, in one line.
        after: checks that must hold when all are done; else everything is rolled back.
        expectations: how many rows must go in all cleanups together.
        described: it comes from a file, which may hold several cleanups.
    """

    title: str
    cleanups: tuple[Cleanup, ...]
    after: tuple[Check, ...] = ()
    expectations: Expectations = field(default_factory=Expectations)
    limits: Limits = field(default_factory=Limits)
    described: bool = False

    @classmethod
    def of(cls, cleanup: Cleanup) -> Job:
        """Return a job of one cleanup, called after its table."""
        return cls(cleanup.selection.table, (cleanup,))

    @property
    def expects(self) -> bool:
        """True if the number of rows that must go is given for every cleanup."""
        return bool(self.expectations) or all(each.expectations for each in self.cleanups)


@dataclass(frozen=True)
class JobPlan:
    """The plans of a job's cleanups.

    Args:
        follows: for each, the tables it reads that earlier cleanups change. If there are any, its
            counts are those of the database as it is now, before the earlier ones.
    """

    title: str
    plans: tuple[Plan, ...]
    follows: tuple[tuple[str, ...], ...] = ()

    @property
    def total(self) -> int:
        """Rows that all steps remove or change."""
        return sum(plan.total for plan in self.plans)

    @property
    def is_exact(self) -> bool:
        """True if no cleanup reads what an earlier one changes."""
        return not any(self.follows)

    def is_total_expected(self, job: Job) -> bool:
        """True if the number of all rows was given beforehand, as one number and not a range."""
        given = [job.expectations.total]
        if len(job.cleanups) == 1:
            expected = job.cleanups[0].expectations
            given += [expected.total, *([expected.matched] if self._only_matched else [])]
        return any(each and each.low == each.high == self.total for each in given)

    @property
    def _only_matched(self) -> bool:
        return self.total == sum(plan.matched for plan in self.plans)

    @property
    def rows_by_table(self) -> Mapping[str, int]:
        """Rows removed or changed, by table."""
        return rows_by_table(self.plans)


def rows_by_table(plans: Sequence[Plan]) -> dict[str, int]:
    """Return the rows that several plans remove or change, by table."""
    counted: Counter[str] = Counter()
    for plan in plans:
        counted.update(plan.rows_by_table)
    return dict(counted)


def what_follows(plans: Sequence[Plan]) -> tuple[tuple[str, ...], ...]:
    """Return, for each plan, the tables it reads that earlier plans change."""
    changed: set[str] = set()
    found = []
    for plan in plans:
        found.append(tuple(sorted(plan.reads & changed)))
        changed |= plan.rows_by_table.keys()
    return tuple(found)


def check_alone(job: Job) -> None:
    """Refuse to empty a table among several cleanups: it is locked, and may commit by itself.

    Raises:
        UsageError: one of several cleanups is to empty its table.
    """
    found = [each.emptying for each in job.cleanups if each.emptying]
    if found and len(job.cleanups) > 1:
        raise UsageError(
            f"‹{found[0]}› goes alone, and this is one of several removes.",
            f"Run it on its own, or drop ‹{found[0]}›: the rows go by DELETE then.",
        )


@contextmanager
def with_error_context(job: Job, place: int) -> Iterator[None]:
    """Add to a failure which of several cleanups it comes from."""
    try:
        yield
    except YeldroError as error:
        if len(job.cleanups) > 1:
            table = job.cleanups[place].selection.table
            error.why = f"Remove {place + 1} of {len(job.cleanups)} ({table}): {error.why}"
            error.evidence["remove"] = place + 1
        raise
