"""What one command is to do: cleanups in order, checks, and what may never happen."""

from __future__ import annotations

from collections import Counter
from collections.abc import Iterator, Mapping, Sequence
from contextlib import contextmanager
from dataclasses import dataclass, field
from typing import TYPE_CHECKING

from yeldro.core.model.errors import LimitReached, UsageError, YeldroError
from yeldro.core.model.expectation import Expectations
from yeldro.core.model.names import same_name, suggestion

if TYPE_CHECKING:
    from yeldro.core.database.protocol import Catalogue
    from yeldro.core.planning.plan import Cleanup, Plan
    from yeldro.core.selection.checks import Check


@dataclass(frozen=True)
class Limits:
    """What no cleanup may do here, whoever asks for it.

    Args:
        protected: tables of which no row may be removed or changed.
        most_rows: the most rows that one run may remove or change; None for any number.
        said_in: where these are said, for people.
    """

    protected: tuple[str, ...] = ()
    most_rows: int | None = None
    said_in: str = ""

    def check_tables(self, plan: Plan) -> None:
        """Refuse a plan that touches a protected table.

        Raises:
            Refused: it does.
        """
        for name in plan.rows_by_table:
            bare = name.rpartition(".")[2]
            if same_name(name, self.protected) or same_name(bare, self.protected):
                raise LimitReached(
                    f"{name} is protected by {self.said_in}, and {plan.rows_by_table[name]:,} of "
                    f"its rows would go or change.",
                    "Narrow the cleanup, or take the table off that list.",
                    table=name,
                )

    def unknown(self, catalogue: Catalogue) -> list[str]:
        """Protected names that no table has, as warnings: a slip there would protect nothing."""
        known = [str(name) for name in catalogue.table_names()]
        known += [name.name for name in catalogue.table_names()]
        return [
            f"{self.said_in} protects {name}, and there is no such table. "
            f"{suggestion(name, dict.fromkeys(known))}"
            for name in self.protected
            if not same_name(name, dict.fromkeys(known))
        ]

    def check_rows(self, total: int) -> None:
        """Refuse more rows than one run may touch.

        Raises:
            Refused: `total` is above the limit.
        """
        if self.most_rows is not None and total > self.most_rows:
            raise LimitReached(
                f"{total:,} rows would go or change, and {self.said_in} allows "
                f"{self.most_rows:,} in one run.",
                "If all of them are to go, add --allow-more.",
                total=total,
                most_rows=self.most_rows,
            )


@dataclass(frozen=True)
class Job:
    """Cleanups that are carried out one after another, in one transaction.

    Each is planned when those before it are done, so it sees the database as they leave it.

    Args:
        title: what was asked, in one line.
        after: what must hold when all are done; else everything is rolled back.
        expectations: how many rows must go in all cleanups together.
        described: it comes from a file that may hold several cleanups.
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
        """True if for every cleanup something says how many rows must go."""
        return bool(self.expectations) or all(each.expectations for each in self.cleanups)


@dataclass(frozen=True)
class JobPlan:
    """The plans of a job's cleanups.

    Args:
        follows: for each, the tables it looks at that cleanups before it change. Where there are
            any its counts are those of the database as it is now, before anything is done.
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
        """True if no cleanup looks at what another one changes."""
        return not any(self.follows)

    @property
    def rows_by_table(self) -> Mapping[str, int]:
        """Rows removed or changed, by table."""
        return rows_by_table(self.plans)


def rows_by_table(plans: Sequence[Plan]) -> dict[str, int]:
    """Rows that several plans remove or change, by table."""
    counted: Counter[str] = Counter()
    for plan in plans:
        counted.update(plan.rows_by_table)
    return dict(counted)


def what_follows(plans: Sequence[Plan]) -> tuple[tuple[str, ...], ...]:
    """For each plan, the tables it looks at that plans before it change."""
    changed: set[str] = set()
    found = []
    for plan in plans:
        found.append(tuple(sorted(plan.reads & changed)))
        changed |= plan.rows_by_table.keys()
    return tuple(found)


def check_alone(job: Job) -> None:
    """Refuse TRUNCATE beside other cleanups: it locks its table alone, and may commit by itself.

    Raises:
        UsageError: one of several cleanups is to truncate.
    """
    if len(job.cleanups) > 1 and any(each.truncate for each in job.cleanups):
        raise UsageError(
            "TRUNCATE goes alone, and this is one of several removes.",
            "Run it on its own, or drop truncate: all rows go by DELETE then.",
        )


@contextmanager
def with_error_context(job: Job, place: int) -> Iterator[None]:
    """Say of a failure which cleanup it comes from, where there are several."""
    try:
        yield
    except YeldroError as error:
        if len(job.cleanups) > 1:
            table = job.cleanups[place].selection.table
            error.why = f"Remove {place + 1} of {len(job.cleanups)} ({table}): {error.why}"
            error.evidence["remove"] = place + 1
        raise
