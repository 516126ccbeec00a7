"""In which order the steps of a receipt are undone, so that no row is ever without its parent.

Rows come back before they are linked, and go after they are. Keys that had moved under rows which
reference them move back together with those rows: at once, where the system checks every statement.
"""

from __future__ import annotations

from collections.abc import Sequence
from typing import TYPE_CHECKING

from yeldro.core.model.steps import Action
from yeldro.core.restore.conflicts import references_rows
from yeldro.core.restore.key_swaps import takes_turns

if TYPE_CHECKING:
    from yeldro.core.database.protocol import Session
    from yeldro.core.restore.undoing import UndoneRows


def in_order(staged_steps: Sequence[UndoneRows]) -> list[UndoneRows]:
    """Return the steps as they are undone.

    Args:
        staged_steps: a receipt's steps, last first, so that parents go back before children.
    """
    come, change, change_unique, change_keys, go = range(5)

    def place(each: UndoneRows) -> int:
        if each.step.action in (Action.REMOVE, Action.ADD):
            return come if each.step.action is Action.REMOVE else go
        if each.changes_key:  # last, for changed rows are found by the keys they have now
            return change_keys
        unique = {name for key in each.table.candidate_keys for name in key.columns}
        return change_unique if unique & dict(each.named("old")).keys() else change

    found = sorted(staged_steps, key=place)
    if all(each.holds_whole_rows for each in found):
        return found
    bound = _bound_to_moving_keys(found)
    moment = change if any(each.step.action is Action.ADD for each in bound) else change_keys
    before = [each for each in found if each not in bound and place(each) <= moment]
    return [*before, *bound, *(each for each in found if each not in [*before, *bound])]


def _bound_to_moving_keys(staged_steps: Sequence[UndoneRows]) -> list[UndoneRows]:
    """Whole rows that reference keys which move, and steps that depend on those rows."""
    moving = [each for each in staged_steps if not each.holds_whole_rows]
    keyed = {each.table.name for each in moving if each.changes_key}
    bound: list[UndoneRows] = []
    fresh = [
        each
        for each in staged_steps
        if each.holds_whole_rows and (_depends(each, moving) or _takes_turns(each, moving))
    ]
    while fresh:
        bound += fresh
        whole = [each for each in bound if each.holds_whole_rows]
        others = [each for each in staged_steps if each not in bound]
        fresh = [
            each
            for each in others
            if (each.holds_whole_rows or each.table.name not in keyed) and _depends(each, whole)
        ]
    return [each for each in staged_steps if each in bound]


def _takes_turns(each: UndoneRows, moving: Sequence[UndoneRows]) -> bool:
    """True if a row has some unique key in turn with one that moves."""
    return any(
        each.count(takes_turns(each, other)) for other in moving if other.table == each.table
    )


def _depends(each: UndoneRows, others: Sequence[UndoneRows]) -> bool:
    """True if rows of a step reference rows of other steps that come, go or move."""
    return any(
        references_rows(each, key, other)
        for key in each.table.foreign_keys
        for other in others
        if other.table.name == key.parent and (other.holds_whole_rows or other.moves_under(key))
    )


def at_once(session: Session, missing: Sequence[UndoneRows]) -> list[list[UndoneRows]]:
    """Return the steps in order; those as one that no order undoes."""
    linked = [
        each
        for child in missing
        for key in child.table.foreign_keys
        for parent in missing
        if {*key.columns} & dict(child.named("old")).keys() and parent.moves_under(key)
        for each in (child, parent)
    ]
    if session.traits.core_checks_foreign_keys or all(each is linked[0] for each in linked):
        return [[each] for each in missing]
    last = max(place for place, each in enumerate(missing) if each in linked)
    before = [[each] for each in missing[:last] if each not in linked]
    after = [[each] for each in missing[last + 1 :]]
    return [*before, [each for each in missing if each in linked], *after]


def plan_late_links(session: Session, staged_steps: Sequence[UndoneRows]) -> None:
    """Have links to rows that come later set at the end, or to rows that go earlier cut first.

    The system checks every statement, and rows that went in a cycle reference one another. What
    can be deferred is checked at the commit.
    """
    whole = [each for each in staged_steps if each.holds_whole_rows]
    for place, each in enumerate(whole):
        going = each.step.action is Action.ADD
        others = whole[:place] if going else whole[place + 1 :]
        each.come_later({other.table.name for other in others} - {each.table.name})
    deferrable = [key for each in whole for key in each.table.foreign_keys if key.deferrable]
    if deferrable:
        session.defer_checks(deferrable)
