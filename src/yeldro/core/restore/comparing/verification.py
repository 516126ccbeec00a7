"""Verifying before the commit that a restore has written exactly what was stored."""

from __future__ import annotations

from collections.abc import Iterator, Mapping, Sequence
from dataclasses import dataclass
from typing import TYPE_CHECKING, Any

import sqlalchemy as sa

from yeldro.core.model.messages.errors import RowsDiffer
from yeldro.core.model.messages.names import told_rows
from yeldro.core.model.messages.options import Option
from yeldro.core.model.work.steps import Action
from yeldro.core.restore.comparing.conflicts import as_before, count_back, is_counted, sample

if TYPE_CHECKING:
    from yeldro.core.changes.change_set import Change
    from yeldro.core.restore.staged.undoing import UndoneRows


@dataclass(frozen=True)
class Difference:
    """Rows of a table that are not as before.

    Args:
        columns: those that differ; empty if no key tells which.
        such_as: a few of the rows, as text.
    """

    table: str
    rows: int
    columns: tuple[str, ...]
    such_as: str

    def __str__(self) -> str:
        rows = told_rows(self.rows, self.table, "is", "are")
        where = f" in {', '.join(self.columns)}" if self.columns else ""
        return f"{rows} not as before{where}{self.such_as}"

    def document(self) -> dict[str, Any]:
        """Return it as a JSON value."""
        return {"table": self.table, "rows": self.rows, "columns": list(self.columns)}


def changed_meanwhile(staged_steps: Sequence[UndoneRows]) -> dict[tuple[int, str], int]:
    """Return how many rows somebody changed after a trigger could have changed them, by column."""
    found: dict[tuple[int, str], int] = {}
    for each in staged_steps:
        left = dict(each.named("left"))
        for name, _ in each.named("was"):
            found[each.step.n, name] = each.other_than(name, left[name])
    return found


def settings_anew(
    staged_steps: Sequence[UndoneRows], meanwhile: Mapping[tuple[int, str], int]
) -> Iterator[Change]:
    """Yield what sets values anew that a trigger or a default has changed in restored rows.

    Args:
        meanwhile: what `changed_meanwhile` returned before the restore; these rows are left alone.
    """
    for each in staged_steps:
        if each.step.action is Action.ADD or is_counted(each):
            continue
        if count_back(each, staged_steps) < each.stored:
            pairs = [(name, own) for name, own in _settable(each)
                     if _differing(each, staged_steps, [(name, own)])]  # fmt: skip
            if pairs:
                yield each.set_anew(pairs)
        besides = [
            (name, was)
            for name, was in each.named("was")
            if not meanwhile[each.step.n, name] and each.other_than(name, was)
        ]
        if besides:
            yield each.set_anew(besides)


def differences(
    staged_steps: Sequence[UndoneRows], meanwhile: Mapping[tuple[int, str], int]
) -> list[Difference]:
    """Return what is not as before, by step.

    Args:
        meanwhile: what `changed_meanwhile` returned before the restore.
    """
    found = []
    for each in staged_steps:
        for name, was in each.named("was"):
            rows = each.other_than(name, was) - meanwhile[each.step.n, name]
            if rows > 0:
                found.append(Difference(str(each.table.name), rows, (name,), ""))
    for each in staged_steps:
        if each.step.action is Action.ADD:
            continue
        rows = each.stored - count_back(each, staged_steps)
        if not rows:
            continue
        columns = [] if is_counted(each) else [
            name for name, own in [*_settable(each), *_computed(each)]
            if _differing(each, staged_steps, [(name, own)])
        ]  # fmt: skip
        such_as = "" if is_counted(each) else sample(each, ~as_before(each, staged_steps))
        found.append(Difference(str(each.table.name), rows, tuple(columns), such_as))
    return found


def differing_besides(staged_steps: Sequence[UndoneRows]) -> Iterator[str]:
    """Yield how relinked rows differ in the columns that a trigger had changed.

    Args:
        staged_steps: all steps of a receipt.
    """
    for each in staged_steps:
        for name, was in each.named("was"):
            other = ~each.exists(*each.found_by(each.key), *each.agree([(name, was)]))
            rows = each.count(as_before(each, staged_steps), other)
            if rows:
                said = told_rows(rows, each.table.name, "holds", "hold")
                yield f"{said} another {name} than before"


def check_differences(found: Sequence[Difference], accepted: Sequence[str]) -> None:
    """Refuse rows that are not as before, unless the user accepts that for their table.

    Raises:
        RowsDiffer: there are such rows in other tables.
    """
    unnamed = [each for each in found if each.table not in accepted]
    if unnamed:
        options = " ".join(
            Option("accept_difference", name).named
            for name in dict.fromkeys(each.table for each in unnamed)
        )
        raise RowsDiffer(
            f"Rows would not come back as they were: {'; '.join(map(str, unnamed))}. A trigger, a "
            f"default, or a column that is declared otherwise now, makes the difference.",
            f"Change that, or restore with {options}.",
            differences=[each.document() for each in unnamed],
        )


def _settable(each: UndoneRows) -> list[tuple[str, str]]:
    """Return the stored columns of a step, but for those by which its rows are found."""
    known = {name for name, _ in each.key}
    return [pair for pair in each.named("value") + each.named("old") if pair[0] not in known]


def _computed(each: UndoneRows) -> list[tuple[str, str]]:
    """Return the generated columns, whose values nobody can set."""
    return [pair for pair in each.named("computed") if pair in each.compared]


def _differing(
    each: UndoneRows, staged_steps: Sequence[UndoneRows], pairs: list[tuple[str, str]]
) -> int:
    other = each.exists(*each.found_by(each.key), sa.not_(sa.and_(*each.agree(pairs))))
    return each.count(~as_before(each, staged_steps), other)
