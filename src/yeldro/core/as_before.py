"""Whether what a restore has written is what was stored, looked at before the commit."""

from __future__ import annotations

from collections.abc import Mapping, Sequence
from dataclasses import dataclass

import sqlalchemy as sa

from yeldro.core.conflicts import as_before, count_back, is_counted, sample
from yeldro.core.errors import CountMismatch
from yeldro.core.laidout import LaidOut
from yeldro.core.names import told_rows
from yeldro.core.plan import Action


@dataclass(frozen=True)
class Difference:
    """Rows of a table that are not what they were.

    Args:
        columns: those that differ; empty where no key tells which.
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


def changed_meanwhile(laid_out: Sequence[LaidOut]) -> dict[tuple[int, str], int]:
    """Of rows that a trigger can have changed: how many somebody has changed since, by column."""
    found: dict[tuple[int, str], int] = {}
    for each in laid_out:
        left = dict(each.named("left"))
        for name, _ in each.named("was"):
            found[each.step.n, name] = each.other_than(name, left[name])
    return found


def mend(
    laid_out: Sequence[LaidOut], meanwhile: Mapping[tuple[int, str], int]
) -> list[tuple[LaidOut, int]]:
    """Set anew what a trigger or a default has made different of rows that were put back.

    Args:
        meanwhile: as `changed_meanwhile` told before the restore; what somebody has changed since
            is left alone.

    Returns:
        The number of rows changed, by step.
    """
    changed = []
    for each in laid_out:
        if each.step.action is Action.ADD or is_counted(each):
            continue
        if count_back(each, laid_out) < each.stored:
            pairs = [(name, own) for name, own in _settable(each, laid_out)
                     if _differing(each, laid_out, [(name, own)])]  # fmt: skip
            changed.append((each, each.set_anew(pairs) if pairs else 0))
        besides = [
            (name, was)
            for name, was in each.named("was")
            if not meanwhile[each.step.n, name] and each.other_than(name, was)
        ]
        if besides:
            changed.append((each, each.set_anew(besides)))
    return changed


def differences(
    laid_out: Sequence[LaidOut], meanwhile: Mapping[tuple[int, str], int]
) -> list[Difference]:
    """What is not as before, by step.

    Args:
        meanwhile: as `changed_meanwhile` told before the restore.
    """
    found = []
    for each in laid_out:
        for name, was in each.named("was"):
            rows = each.other_than(name, was) - meanwhile[each.step.n, name]
            if rows > 0:
                found.append(Difference(str(each.table.name), rows, (name,), ""))
    for each in laid_out:
        if each.step.action is Action.ADD:
            continue
        rows = each.stored - count_back(each, laid_out)
        if not rows:
            continue
        columns = [] if is_counted(each) else [
            name for name, own in _settable(each, laid_out)
            if _differing(each, laid_out, [(name, own)])
        ]  # fmt: skip
        such_as = "" if is_counted(each) else sample(each, ~as_before(each, laid_out))
        found.append(Difference(str(each.table.name), rows, tuple(columns), such_as))
    return found


def check_differences(found: Sequence[Difference], accepted: Sequence[str]) -> None:
    """Refuse rows that are not as before, unless that is accepted for their table.

    Raises:
        CountMismatch: some are, and their table is not named.
    """
    unnamed = [each for each in found if each.table not in accepted]
    if unnamed:
        options = " ".join(
            f"--accept-difference {name}" for name in dict.fromkeys(each.table for each in unnamed)
        )
        raise CountMismatch(
            f"Rows would not come back as they were: {'; '.join(map(str, unnamed))}. A trigger, a "
            f"default or another type of the column makes the difference.",
            f"Mend that, or restore with {options}.",
            differences=tuple(unnamed),
        )


def _settable(each: LaidOut, laid_out: Sequence[LaidOut]) -> list[tuple[str, str]]:
    """The stored columns of a step that no other step of the restore sets."""
    elsewhere = {
        name
        for other in laid_out
        if other is not each and other.table == each.table
        for name, _ in other.named("old")
    }
    known = {name for name, _ in each.key} | elsewhere
    return [pair for pair in each.named("value") + each.named("old") if pair[0] not in known]


def _differing(each: LaidOut, laid_out: Sequence[LaidOut], pairs: list[tuple[str, str]]) -> int:
    other = each.exists(*each.agree(each.key), sa.not_(sa.and_(*each.agree(pairs))))
    return each.count(~as_before(each, laid_out), other)
