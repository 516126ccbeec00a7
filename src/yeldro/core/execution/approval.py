"""Approval before a run: the plans that a person has seen, or that a file holds."""

from __future__ import annotations

import json
from collections.abc import Sequence
from dataclasses import dataclass, field
from typing import TYPE_CHECKING, Protocol

from yeldro.core.execution.key_sketch import Difference, KeySketch, key_names, sketch_of
from yeldro.core.model.messages.errors import PlanChanged
from yeldro.core.model.messages.names import counted
from yeldro.core.model.work.steps import Action
from yeldro.core.planning.job import JobPlan

if TYPE_CHECKING:
    from yeldro.core.database.protocol import Session
    from yeldro.core.planning.plan import Plan, Prepared

_LOOK_AGAIN = "Look at the new plan and decide again."
_SHOWN = 3


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
class Together:
    """Several that see every plan, one after the other."""

    each: Sequence[Approval]

    def check(self, place: int, session: Session, prepared: Prepared) -> None:
        """Show a plan to all of them."""
        for one in self.each:
            one.check(place, session, prepared)


@dataclass(frozen=True)
class PlannedStep:
    """One step as it was planned, with the sketch of its keys and new values.

    Args:
        because: the foreign keys that are followed, with their actions.
    """

    action: str
    table: str
    because: str
    rows: int
    keys: KeySketch


@dataclass
class PlanRecord:
    """Notes the plans of a job while they are made."""

    plans: list[Plan] = field(default_factory=list)
    steps: list[list[PlannedStep]] = field(default_factory=list)

    def begin(self) -> None:
        """Forget what was noted of plans that are made anew."""
        self.plans, self.steps = [], []

    def check(self, place: int, session: Session, prepared: Prepared) -> None:
        """Note a plan; nothing is approved yet."""
        del place
        self.plans.append(prepared.plan)
        self.steps.append(steps_of(session, prepared))


@dataclass(frozen=True)
class NotedPlan(JobPlan):
    """The plans of a job, with what was noted of their rows."""

    record: PlanRecord = field(default_factory=PlanRecord)


@dataclass(frozen=True)
class ConfirmedPlans:
    """Plans that a person has seen, which must be the same again.

    Args:
        record: what was noted when they were made; without it, the counts are compared alone.
    """

    plans: Sequence[Plan]
    record: PlanRecord | None = None

    def check(self, place: int, session: Session, prepared: Prepared) -> None:
        """Compare the counts of every table, and then the rows of every step."""
        found, agreed = prepared.plan, self.plans[place]
        if (found.matched, found.rows_by_table) == (agreed.matched, agreed.rows_by_table):
            self._check_rows(place, session, prepared)
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
            _LOOK_AGAIN,
            changes=differing,
        )

    def _check_rows(self, place: int, session: Session, prepared: Prepared) -> None:
        if self.record is None:
            return
        said = differences(self.record.steps[place], steps_of(session, prepared), prepared)
        if said:
            raise PlanChanged(
                f"The database has changed since the plan was shown: {'; '.join(said)}.",
                _LOOK_AGAIN,
            )


def steps_of(session: Session, prepared: Prepared) -> list[PlannedStep]:
    """Return the steps of a plan with the sketches of their rows, in an open session."""
    return [
        PlannedStep(
            str(change.step.action),
            change.step.table,
            # Of filled rows the reason says how many; their values tell more.
            "" if change.step.action is Action.FILL else change.step.because,
            change.step.rows,
            sketch_of(session, change),
        )
        for change in prepared.changes
    ]


def differences(
    agreed: Sequence[PlannedStep], found: Sequence[PlannedStep], prepared: Prepared
) -> list[str]:
    """Return how a plan made now differs from the agreed one, as sentences without full stops.

    Compared are the steps and their reasons, and of each the keys of its rows, and the values that
    they are given.

    Args:
        found: the steps of `prepared`.
    """
    then, today = list(map(_doing, agreed)), list(map(_doing, found))
    if then != today:
        was, is_now = ([each for each in one if each not in other] or one
                       for one, other in ((then, today), (today, then)))  # fmt: skip
        return [f"there was {', '.join(was)}, and there is now {', '.join(is_now) or 'no step'}"]
    said = []
    for before, now, change in zip(agreed, found, prepared.changes, strict=True):
        difference = now.keys.since(before.keys)
        if difference or before.rows != now.rows:
            names = (key_names(change.rows.table), tuple(change.values))
            said.append(_told(before, now, difference, *names))
    return said


def _doing(each: PlannedStep) -> str:
    return f"{each.action} {each.table}" + (f" ({each.because})" if each.because else "")


def _told(
    before: PlannedStep,
    now: PlannedStep,
    difference: Difference,
    key: Sequence[str],
    changes: Sequence[str],
) -> str:
    """Return how the rows of one step differ, or the values that they are given, with a few.

    Args:
        key, changes: the columns of the key, and those that get new values.
    """
    width = len(key)
    agreed = {_start(each, width): each for each in difference.gone}
    other = [each for each in difference.new if changes and _start(each, width) in agreed]
    known = {_start(each, width) for each in other}
    said = []
    if other:
        such = "; ".join(
            f"{_shown(each, key)} would get {_shown(each, changes, width)}, and "
            f"{_shown(agreed[_start(each, width)], changes, width)} was agreed to"
            for each in other[:_SHOWN]
        )
        said.append(f"{counted(len(other), 'row')} would get other values ({such})")
    for what, rows in (("new", difference.new), ("gone", difference.gone)):
        listed = [each for each in rows if _start(each, width) not in known]
        if listed:
            such = ", ".join(_shown(each, key) for each in listed[:_SHOWN])
            least = "" if difference.whole else "at least "
            said.append(f"{least}{len(listed):,} {what} (such as {such})")
    if not difference.whole:
        said.append("too many rows differ to name them all")
    return (
        f"{now.action} {now.table}: {counted(before.rows, 'row')} planned, {now.rows:,} now; "
        + ", ".join(said)
    )


def _start(row: str, width: int) -> str:
    """Return the key of a row as text."""
    values = json.loads(row)
    return json.dumps(values[:width]) if len(values) > width else row


def _shown(row: str, names: Sequence[str], after: int = 0) -> str:
    """Return the values of a row from a place on, with the names of their columns."""
    values = json.loads(row)[after:]
    if len(values) < len(names):
        return f"a value with the digest {str(values[-1])[:16]}"
    return " ".join(f"{name} {value}" for name, value in zip(names[:3], values, strict=False))
