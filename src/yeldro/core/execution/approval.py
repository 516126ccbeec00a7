"""Approval before a run: the plans that a person has seen, or that a file holds."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass
from typing import TYPE_CHECKING, Protocol

from yeldro.core.model.errors import PlanChanged

if TYPE_CHECKING:
    from yeldro.core.database.protocol import Session
    from yeldro.core.planning.plan import Plan, Prepared


class Approval(Protocol):
    """Decides which plans may be carried out."""

    def check(self, place: int, session: Session, prepared: Prepared) -> None:
        """Refuse a plan that was not approved.

        Args:
            place: the number of the cleanup in its job, from 0.

        Raises:
            Refused: the plan differs from the approved one.
        """


@dataclass(frozen=True)
class ConfirmedPlans:
    """Plans that a person has seen; the counts must be the same again."""

    plans: Sequence[Plan]

    def check(self, place: int, session: Session, prepared: Prepared) -> None:
        """Compare the counts of every table."""
        del session
        found, agreed = prepared.plan, self.plans[place]
        if (found.matched, found.rows_by_table) == (agreed.matched, agreed.rows_by_table):
            return
        names = dict.fromkeys([*agreed.rows_by_table, *found.rows_by_table])
        counts = {
            name: [agreed.rows_by_table.get(name, 0), found.rows_by_table.get(name, 0)]
            for name in names
        }
        differing = {name: pair for name, pair in counts.items() if pair[0] != pair[1]}
        changes = ", ".join(f"{name}: {old:,} → {new:,}" for name, (old, new) in differing.items())
        raise PlanChanged(
            f"The database has changed since the plan was shown ({changes or 'other rows match'}).",
            "Look at the new plan and decide again.",
            changes=differing,
        )
