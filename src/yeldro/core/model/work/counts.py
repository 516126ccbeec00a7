"""Counts of rows: what the steps affected (tally), and what the database counted (ledger)."""

from __future__ import annotations

from collections.abc import Iterable, Mapping
from dataclasses import dataclass, field

from yeldro.core.model.work.steps import Action, Step


@dataclass(frozen=True)
class Changes:
    """Rows of one table removed, changed and added."""

    removed: int = 0
    changed: int = 0
    added: int = 0

    def with_more(self, more: Changes) -> Changes:
        """Return these counts with `more` added."""
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
        """Rows gone or changed; one that several steps change counts in each of them."""
        pairs = zip(self.steps, self.affected, strict=True)
        return sum(rows for step, rows in pairs if not step.auxiliary)

    def by_table(self, counted_under: Mapping[str, str]) -> dict[str, Changes]:
        """Return the rows the steps affected, by the table that the database counts them under."""
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
        tables: rows by table. Where the system gives only a total, these are the steps' own.
        unplanned: rows changed that no step accounts for, by table; `*` where the system does not
            name the table.
        counted: the database has counted; else only the statements' own numbers are known.
        also_locked: then the tables that no step is about and that this transaction has locked for
            writing; None if the system does not tell.
    """

    tables: Mapping[str, Changes]
    unplanned: Mapping[str, int] = field(default_factory=dict)
    counted: bool = True
    also_locked: frozenset[str] | None = None

    def with_more(self, more: Ledger) -> Ledger:
        """Return these counts with `more` added."""
        tables = dict(self.tables)
        for name, each in more.tables.items():
            tables[name] = tables.get(name, Changes()).with_more(each)
        unplanned = dict(self.unplanned)
        for name, rows in more.unplanned.items():
            unplanned[name] = unplanned.get(name, 0) + rows
        locked = None
        if self.also_locked is not None and more.also_locked is not None:
            locked = (self.also_locked | more.also_locked) - tables.keys()
        return Ledger(tables, unplanned, self.counted and more.counted, locked)


NOTHING_YET = Ledger({}, also_locked=frozenset())


def joined(tallies: Iterable[Tally]) -> Tally:
    """Return the steps of several tallies, one after another."""
    listed = list(tallies)
    return Tally(
        tuple(step for each in listed for step in each.steps),
        tuple(rows for each in listed for rows in each.affected),
    )
