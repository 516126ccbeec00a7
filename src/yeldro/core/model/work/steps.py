"""Steps of a plan: one statement's worth of work each."""

from __future__ import annotations

from collections import Counter
from collections.abc import Iterable, Sequence
from dataclasses import dataclass, field
from enum import StrEnum
from typing import TYPE_CHECKING

if TYPE_CHECKING:
    from yeldro.core.model.tables.schema import TableName


MATCHED = "matched"  # the reason why rows of the named table go


class Action(StrEnum):
    """What one step does; the last two are a restore's."""

    REMOVE = "remove"
    DETACH = "detach"
    REPOINT = "repoint"
    FILL = "fill"
    ADD = "add"
    RELINK = "relink"


@dataclass(frozen=True)
class Reached:
    """A foreign key by which rows of a step depend on rows that go.

    Args:
        because: the key, with its action or the user's option.
        columns, referenced: its columns, and those of the parent in the same order.
    """

    because: str
    parent: TableName
    columns: tuple[str, ...]
    referenced: tuple[str, ...]


@dataclass(frozen=True)
class Step:
    """One statement's worth of work.

    Args:
        because: the foreign keys that are the reason, with their action or the user's option.
        path: the tables from the named table to this one.
        auxiliary: these rows are changed only so that a later step can remove them; that step
            counts and stores them.
        key: the columns that tell the rows of the table apart; empty if it has no key.
        reached: the foreign keys that lead to its rows.
    """

    n: int
    action: Action
    table: str
    rows: int
    because: str
    path: tuple[str, ...]
    auxiliary: bool = False
    key: tuple[str, ...] = field(default=(), compare=False)
    reached: tuple[Reached, ...] = field(default=(), compare=False)


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
