"""Planned against affected rows, and the database's own count of both: tally and ledger."""

from __future__ import annotations

from collections.abc import Iterable, Mapping, Sequence
from dataclasses import dataclass, field

from yeldro.core.errors import CountMismatch
from yeldro.core.plan import Action, Step
from yeldro.core.protocol import ChangeCount
from yeldro.core.schema import Table


@dataclass(frozen=True)
class Changes:
    """Rows of one table removed, changed and added."""

    removed: int = 0
    changed: int = 0
    added: int = 0

    def with_more(self, more: Changes) -> Changes:
        """What was counted here and, after it, there."""
        return Changes(
            self.removed + more.removed, self.changed + more.changed, self.added + more.added
        )


@dataclass(frozen=True)
class Tally:
    """The steps with the number of rows that each really affected."""

    steps: tuple[Step, ...]
    affected: tuple[int, ...]

    @property
    def total(self) -> int:
        """Rows gone or changed; each of them once."""
        pairs = zip(self.steps, self.affected, strict=True)
        return sum(rows for step, rows in pairs if not step.in_passing)

    def by_table(self, counted_under: Mapping[str, str]) -> dict[str, Changes]:
        """Rows affected by the steps alone, by the table under which the database counts them."""
        counted: dict[str, Changes] = {}
        for step, rows in zip(self.steps, self.affected, strict=True):
            name = counted_under.get(step.table, step.table)
            so_far = counted.get(name, Changes())
            removed = rows if step.action is Action.REMOVE else 0
            added = rows if step.action is Action.ADD else 0
            changed = rows - removed - added
            counted[name] = so_far.with_more(Changes(removed, changed, added))
        return counted


@dataclass(frozen=True)
class Ledger:
    """What the database counted in this transaction.

    Args:
        tables: rows by table. Where the system counts only in all, these are the steps' own.
        unplanned: rows changed that no step accounts for, by table; `*` where the system does not
            tell which.
    """

    tables: Mapping[str, Changes]
    unplanned: Mapping[str, int] = field(default_factory=dict)

    def with_more(self, more: Ledger) -> Ledger:
        """What was counted here and, after it, there."""
        tables = dict(self.tables)
        for name, each in more.tables.items():
            tables[name] = tables.get(name, Changes()).with_more(each)
        unplanned = dict(self.unplanned)
        for name, rows in more.unplanned.items():
            unplanned[name] = unplanned.get(name, 0) + rows
        return Ledger(tables, unplanned)


def joined(tallies: Iterable[Tally]) -> Tally:
    """The steps of several tallies, one after another."""
    listed = list(tallies)
    return Tally(
        tuple(step for each in listed for step in each.steps),
        tuple(rows for each in listed for rows in each.affected),
    )


def check_step(step: Step, affected: int, table: Table) -> None:
    """Holds one statement's affected rows against its planned rows.

    Raises:
        CountMismatch: they differ.
    """
    if affected != step.rows:
        raise CountMismatch(
            f"Step {step.n} ({step.action} {step.table}) affected {affected:,} rows, and "
            f"{step.rows:,} were planned{_what_may_be(table)}.",
            f"Look at the table with 'yeldro survey {step.table}'.",
            step=step,
            affected=affected,
        )


def _what_may_be(table: Table) -> str:
    """What can have kept a statement from its rows, as far as that is known."""
    if table.notes:
        return f": {'; '.join(table.notes)}"
    if table.triggers:
        return ": a trigger stopped some, or removed them first"
    return ", and no trigger or rule of the table tells why"


def read_ledger(before: ChangeCount, after: ChangeCount, tally: Tally) -> Ledger:
    """The rows that the database counted between two readings, held against the tally."""
    planned = tally.by_table(after.counted_under)
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
    """Refuses changes that no step accounts for.

    Args:
        triggers: the triggers that the steps can fire.
        allowed: those whose changes the user accepts; all must be named.

    Raises:
        CountMismatch: the database changed other rows than the steps did.
    """
    unnamed = [name for name in triggers if name not in allowed]
    if not ledger.unplanned or (triggers and not unnamed):
        return
    where = ", ".join(
        f"{rows:+,} rows" + ("" if name == "*" else f" in {name}")
        for name, rows in ledger.unplanned.items()
    )
    cause = f" Triggers that can do this: {', '.join(unnamed)}." if unnamed else ""
    options = " ".join(f"--allow-trigger {name}" for name in unnamed)
    raise CountMismatch(
        f"The database changed rows that no step accounts for: {where}.{cause}",
        f"If that is meant, add {options}." if unnamed else "",
        unplanned=dict(ledger.unplanned),
    )


def _rows(changes: Changes) -> int:
    return changes.removed + changes.changed + changes.added
