"""Comparing planned with affected rows, and both with the database's own counts."""

from __future__ import annotations

from collections.abc import Sequence
from typing import TYPE_CHECKING

from yeldro.core.model.messages.errors import CountMismatch, UnplannedChange
from yeldro.core.model.messages.names import counted
from yeldro.core.model.messages.options import Option
from yeldro.core.model.work.counts import Changes, Ledger, Tally

if TYPE_CHECKING:
    from yeldro.core.database.facts import ChangeCount
    from yeldro.core.model.tables.schema import Table
    from yeldro.core.model.work.steps import Step


def check_step(step: Step, affected: int, table: Table) -> None:
    """Compare one statement's affected rows with its planned rows.

    Raises:
        CountMismatch: they differ.
    """
    if affected != step.rows:
        raise CountMismatch(
            f"Step {step.n} ({step.action} {step.table}) affected {affected:,} rows, and "
            f"{step.rows:,} were planned{_what_may_be(table)}.",
            f"Look at the table with ⟨survey {step.table}⟩.",
            step=step.n,
            action=str(step.action),
            table=step.table,
            planned=step.rows,
            affected=affected,
        )


def _what_may_be(table: Table) -> str:
    """Return the possible reasons why a statement affected other rows than planned."""
    if table.notes:
        return f": {'; '.join(table.notes)}"
    if table.triggers:
        return ": a trigger kept some of them, or removed them first"
    return ", and no trigger or rule of the table explains it"


def read_ledger(before: ChangeCount, after: ChangeCount, tally: Tally) -> Ledger:
    """Return the rows that the database counted between two readings, compared with the tally."""
    planned = tally.by_table(after.counted_under)
    if after.tables is None and after.total is None:
        locked = None if after.locked is None else after.locked - planned.keys()
        return Ledger(planned, counted=False, also_locked=locked)
    if after.tables is None:
        accounted = sum(
            rows * after.times.get(step.table, 1)
            for step, rows in zip(tally.steps, tally.affected, strict=True)
        )
        surplus = (after.total or 0) - (before.total or 0) - accounted
        return Ledger(planned, {"*": surplus} if surplus else {})
    counted: dict[str, Changes] = {}
    for name, now in after.tables.items():
        was = (before.tables or {}).get(name, (0, 0, 0))
        delta = Changes(*(new - old for new, old in zip(now, was, strict=True)))
        if delta != Changes():
            counted[name] = delta
    unplanned = {
        name: _rows(counted.get(name, Changes())) - _rows(planned.get(name, Changes()))
        for name in [*planned, *counted]
        if counted.get(name, Changes()) != planned.get(name, Changes())
    }
    return Ledger(counted, unplanned)


def check_ledger(ledger: Ledger, triggers: Sequence[str], allowed: Sequence[str]) -> None:
    """Refuse changes that no step explains.

    Args:
        triggers: the triggers that the steps can fire.
        allowed: those whose changes the user accepts.

    Raises:
        CountMismatch: the database changed other rows than the steps did.
    """
    unnamed = [name for name in triggers if name not in allowed]
    if not ledger.unplanned or (triggers and not unnamed):
        return
    where = "; ".join(_besides(name, rows) for name, rows in ledger.unplanned.items())
    cause = f" Triggers that can do this: {', '.join(unnamed)}." if unnamed else ""
    raise UnplannedChange(
        f"The database changed rows that no step accounts for: {where}.{cause}",
        f"If you want that, add {_allowing(unnamed)}." if unnamed else "",
        unplanned=dict(ledger.unplanned),
        triggers=unnamed,
    )


def check_uncounted(system: str, triggers: Sequence[str], allowed: Sequence[str]) -> None:
    """Refuse triggers where the system does not count what they change, before they are fired.

    Args:
        triggers: those that the next change can fire.
        allowed: those whose changes the user accepts.

    Raises:
        UnplannedChange: one is not allowed.
    """
    unnamed = [name for name in triggers if name not in allowed]
    if unnamed:
        raise UnplannedChange(
            f"{system} does not tell what triggers change besides: {', '.join(unnamed)}.",
            f"If you know what they do and want that, add {_allowing(unnamed)}.",
            unplanned={},
            triggers=unnamed,
        )


def _allowing(triggers: Sequence[str]) -> str:
    return " ".join(Option("allow_trigger", name).named for name in triggers)


def _besides(table: str, rows: int) -> str:
    """Return how many more rows of a table have changed than planned, or how many fewer."""
    where = "in all tables together" if table == "*" else f"in {table}"
    if not rows:
        return f"{where} as many rows, but in another way"
    more = f"{counted(abs(rows), 'row')} {'more' if rows > 0 else 'fewer'} than planned"
    return f"{where} {more} {'was' if abs(rows) == 1 else 'were'} removed, changed or added"


def _rows(changes: Changes) -> int:
    return changes.removed + changes.changed + changes.added
