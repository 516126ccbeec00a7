"""What a page says, as values; how it looks is in the template."""

from __future__ import annotations

from collections.abc import Iterable, Sequence
from dataclasses import dataclass, field
from typing import TYPE_CHECKING, Any

from yeldro.core.execution.run import Outcome
from yeldro.core.model.messages.names import counted
from yeldro.report.text import cell, plain

if TYPE_CHECKING:
    from yeldro.core.execution.expectation_results import ExpectationResult
    from yeldro.core.execution.run import RunResult
    from yeldro.core.inspection.key_map import KeyMap
    from yeldro.core.model.work.steps import Step
    from yeldro.core.planning.plan import Plan
    from yeldro.core.receipts.reader import Receipt

MOST_ROWS = 50  # of each table of sample rows


@dataclass(frozen=True)
class Cell:
    """One value: its text, the number to sort by if it is one, and if it is NULL."""

    text: str
    number: float | int | None = None
    is_null: bool = False


@dataclass(frozen=True)
class Listing:
    """Rows to look at, to sort and to filter.

    Args:
        whole: how many rows there are, of which these are the first.
    """

    title: str
    columns: tuple[str, ...]
    rows: tuple[tuple[Cell, ...], ...]
    whole: int

    @property
    def numbers(self) -> frozenset[int]:
        """The places of the columns that hold numbers alone."""
        return frozenset(
            place
            for place in range(len(self.columns))
            if self.rows and all(row[place].number is not None or row[place].is_null
                                 for row in self.rows)
        )  # fmt: skip


@dataclass(frozen=True)
class Share:
    """The rows of one table.

    Args:
        before: when they were counted; None if that is not known.
        gone, changed: those that go, and that change.
        after: counted afterwards; None if they were not.
    """

    name: str
    before: int | None
    gone: int
    changed: int
    after: int | None = None


@dataclass(frozen=True)
class Page:
    """Everything on a page.

    Args:
        kind: what it is about: `Plan`, `Run`, `Rehearsal`, `Receipt`.
        title: what was asked.
        verdict: what happened to the data, in one sentence.
        tone: `good`, `bad` or `open`.
        facts: pairs of a name and a text: who, where, when.
        steps: headings and rows.
        blocked: the foreign keys that block, each with some of its rows.
        counted: when the rows of the tables were counted.
        undo: the command that undoes it; empty if there is none.
        sql_note: what the SQL is, or why there is none.
    """

    kind: str
    title: str
    verdict: str
    tone: str
    facts: Sequence[tuple[str, str]]
    steps: Listing
    shares: Sequence[Share] = ()
    counted: str = ""
    map: str = ""
    blocked: Sequence[Listing] = ()
    samples: Sequence[Listing] = ()
    warnings: Sequence[str] = ()
    expectations: Sequence[ExpectationResult] = ()
    ledger: Listing | None = None
    undo: str = ""
    sql: str = ""
    sql_note: str = ""
    notes: Sequence[str] = field(default_factory=tuple)


def cell_of(value: Any) -> Cell:
    """Return a value as a page shows it."""
    value = plain(value)
    number = value if isinstance(value, int | float) and not isinstance(value, bool) else None
    return Cell(cell(value, 400), number, value is None)


def listing(
    title: str, columns: Iterable[str], rows: Iterable[Sequence[Any]], whole: int | None = None
) -> Listing:
    """Return rows as a page shows them."""
    cells = tuple(tuple(map(cell_of, row)) for row in rows)
    return Listing(title, tuple(columns), cells, len(cells) if whole is None else whole)


def steps_of(plans: Sequence[Plan], affected: Sequence[Sequence[int]] | None) -> Listing:
    """Return the steps of plans, with the rows that each affected once they are done."""
    several = len(plans) > 1
    rows = []
    for place, plan in enumerate(plans):
        for number, step in enumerate(plan.steps):
            name = f"{place + 1}.{step.n}" if several else step.n
            row = [name, str(step.action), step.table, step.rows]
            if affected is not None:
                row.append(affected[place][number])
            rows.append([*row, _because(step)])
    done = ["affected"] if affected is not None else []
    return listing("Steps", ["step", "what", "table", "planned", *done, "because"], rows)


def _because(step: Step) -> str:
    path = f" ({' ← '.join(step.path)})" if len(step.path) > 1 else ""
    return f"{step.because}{path}"


def shares_of(drawn: KeyMap, after: dict[str, int] | None = None) -> list[Share]:
    """Return the rows of each affected table."""
    return [
        Share(each.name, each.rows, each.gone, each.changed, (after or {}).get(each.name))
        for each in drawn.tables
        if each.is_affected
    ]


def blocked_of(plans: Sequence[Plan]) -> list[Listing]:
    """Return the foreign keys that block, each with some of its rows."""
    found = []
    for plan in plans:
        for each in plan.blocked:
            rows = counted(each.rows, "row")
            remedies = " or ".join(map(str, each.remedies)) or "no option helps here"
            title = f"{each.foreign_key}: {rows}, {each.reason} ({remedies})"
            found.append(listing(title, each.columns, each.sample, each.rows))
    return found


def verdict_of_plan(plans: Sequence[Plan]) -> tuple[str, str]:
    """Return what is to be said of plans first, and its tone."""
    total = sum(plan.total for plan in plans)
    if any(plan.blocked for plan in plans):
        return "Blocked: nothing can run. Nothing was changed.", "bad"
    if not total:
        return "No row matches; there is nothing to do. Nothing was changed.", "open"
    return f"{counted(total, 'row')} would go or change. Nothing was changed.", "open"


def verdict_of_run(result: RunResult) -> tuple[str, str]:
    """Return what is to be said of a run first, and its tone."""
    if result.outcome is Outcome.COMMITTED:
        return f"Committed: {counted(result.tally.total, 'row')} gone or changed.", "good"
    if result.outcome is Outcome.ROLLED_BACK:
        return f"Rolled back as rehearsed: {counted(result.tally.total, 'row')}.", "open"
    return "There was nothing to do, and nothing was changed.", "open"


def ledger_of(result: RunResult) -> Listing:
    """Return what the database counted, beside rows that no step accounts for."""
    rows = [
        [name, each.removed, each.changed, each.added, result.ledger.unplanned.get(name, 0)]
        for name, each in result.ledger.tables.items()
    ]
    rows += [
        ["all other changes" if name == "*" else name, 0, 0, 0, number]
        for name, number in result.ledger.unplanned.items()
        if name not in result.ledger.tables
    ]
    return listing("Ledger", ["table", "removed", "changed", "added", "unplanned"], rows)


def steps_of_receipt(receipt: Receipt) -> Listing:
    """Return the steps that a receipt holds."""
    rows = [
        [step.n, str(step.action), str(step.table), step.planned, step.affected, step.because]
        for step in receipt.steps
    ]
    return listing("Steps", ["step", "what", "table", "planned", "affected", "because"], rows)


def ledger_of_receipt(receipt: Receipt) -> Listing:
    """Return what the database counted in the run of a receipt."""
    rows = [
        ["all other changes" if name == "*" else name, each.removed, each.changed, each.added]
        for name, each in receipt.ledger.items()
    ]
    return listing("Ledger", ["table", "removed", "changed", "added"], rows)
