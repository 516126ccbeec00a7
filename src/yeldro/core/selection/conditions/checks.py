"""Checks: queries that give one number, run inside the transaction or on their own."""

from __future__ import annotations

from collections.abc import Mapping, Sequence
from dataclasses import dataclass, field
from typing import TYPE_CHECKING, Any

import sqlalchemy as sa

from yeldro.core.database import sql
from yeldro.core.model.messages.errors import CheckFailed, UsageError

if TYPE_CHECKING:
    from yeldro.core.database.protocol import Session
    from yeldro.core.model.work.expectation import RowRange


@dataclass(frozen=True)
class Check:
    """A query that gives one number, and the numbers it may be.

    Args:
        about: what it ensures, as a sentence.
        parameters: values for the `:name` parameters of the query.
    """

    about: str
    query: str
    expected: RowRange
    parameters: Mapping[str, Any] = field(default_factory=dict)


@dataclass(frozen=True)
class CheckResult:
    """What a check's query gave; `found` is None where it gave no number."""

    check: Check
    found: int | float | None

    @property
    def holds(self) -> bool:
        """True if the number is one of those expected."""
        return self.found is not None and self.found in self.check.expected


def run_checks(session: Session, checks: Sequence[Check]) -> tuple[CheckResult, ...]:
    """Run the checks' queries; return what they give now.

    Raises:
        UsageError: a text is no query, would do more than read, or the database rejects it.
    """
    with session.looking():
        return tuple(CheckResult(check, _number(session, check)) for check in checks)


def require_checks(found: Sequence[CheckResult]) -> None:
    """Refuse the commit if a check fails.

    Raises:
        CountMismatch: one does.
    """
    failed = [each for each in found if not each.holds]
    if failed:
        said = "; ".join(
            f"{each.check.about or each.check.query}: expected {each.check.expected}, "
            f"found {'no number' if each.found is None else f'{each.found:,}'}"
            for each in failed
        )
        raise CheckFailed(
            f"What must hold afterwards would not: {said}.",
            "Look at these rows with ⟨preview⟩, then correct the cleanup or the check.",
            failed=[
                {
                    "about": each.check.about or each.check.query,
                    "expected": str(each.check.expected),
                    "found": each.found,
                }
                for each in failed
            ],
        )


def _number(session: Session, check: Check) -> int | float | None:
    from yeldro.core.selection.conditions.filters import parse_query

    query = parse_query(check.query, session)
    missing = sorted(query.parameters - check.parameters.keys())
    if missing:
        raise UsageError(
            f"The check {check.query!r} uses :{missing[0]}, and it has no value.",
            f"Add ‹param› {missing[0]}=VALUE.",
        )
    bound = sql.bound(query.sql, query.parameters, check.parameters, session.parameter)
    try:
        rows = session.connection.execute(bound).fetchmany(2)
    except sa.exc.DBAPIError as error:
        raise UsageError(
            f"The database does not accept the check {check.query!r}: {session.reason(error)}.",
            "Check the names and functions in it.",
        ) from error
    if len(rows) != 1 or len(rows[0]) != 1:
        raise UsageError(
            f"The check {check.query!r} gives {'several rows' if len(rows) > 1 else 'no number'}"
            f"{' or several columns' if rows and len(rows[0]) > 1 else ''}, not one number.",
            "Write a query such as: select count(*) from buoy where region_id is null",
        )
    value = rows[0][0]
    if isinstance(value, bool) or value is None:
        return None if value is None else int(value)
    try:
        number = float(value)
    except (TypeError, ValueError):
        return None
    return int(number) if number == int(number) else number
