"""Steps of a plan: one statement's worth of work each."""

from __future__ import annotations

from collections import Counter
from collections.abc import Iterable, Sequence
from dataclasses import dataclass
from enum import StrEnum


class Action(StrEnum):
    """What one step does; the last two are a restore's."""

    REMOVE = "remove"
    DETACH = "detach"
    REPOINT = "repoint"
    FILL = "fill"
    ADD = "add"
    RELINK = "relink"


@dataclass(frozen=True)
class Step:
    """One statement's worth of work.

    Args:
        because: the foreign keys that are the reason, with their action or the user's option.
        path: the tables from the named table to this one.
        auxiliary: these rows are changed only so that a later step can remove them; that step
            counts and stores them.
    """

    n: int
    action: Action
    table: str
    rows: int
    because: str
    path: tuple[str, ...]
    auxiliary: bool = False


def rows_by_table(steps: Iterable[Step]) -> dict[str, int]:
    """Return the rows that steps remove, change or add, by table; auxiliary ones are left out."""
    counted: Counter[str] = Counter()
    for step in steps:
        if not step.auxiliary:
            counted[step.table] += step.rows
    return dict(counted)


def count_each_row_once(steps: Sequence[tuple[Action, str]], *, in_parts: bool = False) -> bool:
    """True if no row is counted in two steps.

    Args:
        steps: what is done to which table, auxiliary steps left out. Rows that one step changes
            can be rows that another changes in the same table.
        in_parts: a later batch, or a later remove, can remove rows that an earlier one changed.
    """
    changing = Counter(
        table for action, table in steps if action not in (Action.REMOVE, Action.ADD)
    )
    whole = {table for action, table in steps if action in (Action.REMOVE, Action.ADD)}
    return all(rows == 1 and not (in_parts and table in whole) for table, rows in changing.items())
